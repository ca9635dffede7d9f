//! Directories that a plan empties: planned themselves, so that what was cleared leaves no empty shells.

use std::collections::{BTreeSet, HashMap};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustc_hash::FxHashSet;

use super::{Deed, Planned, Refusal, Review, Reviewer, Survey, Target};
use crate::kernel::{self, CallError, DirReader, Kind, Op, Stat};
use crate::packed_list::PackedList;

/// Plans the directories in which, once all that is planned has gone, nothing is left: those below the scanned roots, if
/// any are given, and neither protected nor the root of a mount. They come after everything else, the deepest first, and
/// go only if they are really empty then. They are deleted if all that was in them is deleted, and else set aside, so
/// that put back finds them.
///
/// Directories that cannot be read are left out, with the reason.
pub fn plan_emptied(
    planned: &PackedList<Planned>,
    roots: &[PathBuf],
    reviewer: &Reviewer<'_>,
) -> (Vec<Planned>, Vec<Refusal>) {
    let mut gone = Gone::default();
    for one in planned {
        let goes = match one.deed {
            Deed::Delete => Some(true),
            Deed::SetAside | Deed::Archive { .. } | Deed::Move { .. } => Some(false),
            _ => None,
        };
        let is_refused = matches!(one.review, Review::Refused(_));
        if let (Some(for_good), false) = (goes, is_refused) {
            gone.add(&one.path, for_good);
        }
    }
    let mut waiting: BTreeSet<(usize, PathBuf)> = BTreeSet::new();
    let depth = |path: &Path| path.components().count();
    for parent in gone.parents.keys() {
        waiting.insert((depth(parent), parent.clone()));
    }
    let (mut found, mut left_out) = (Vec::new(), Vec::new());
    while let Some((_, directory)) = waiting.pop_last() {
        let is_below = roots.is_empty()
            || roots.iter().any(|root| directory != *root && directory.starts_with(root));
        if !is_below || gone.has(&directory) {
            continue;
        }
        match emptied(&directory, &gone) {
            Ok(Some((stat, for_good))) => {
                let deed = if for_good { Deed::Delete } else { Deed::SetAside };
                match reviewer.plan_directory(&directory, &stat, &deed) {
                    Ok(new) => found.push(new),
                    // what is protected stays, and so does what is above it
                    Err(Refusal::Protected { .. }) => continue,
                    Err(refusal) => {
                        left_out.push(refusal);
                        continue;
                    }
                }
                gone.add(&directory, for_good);
                if let Some(parent) = directory.parent() {
                    waiting.insert((depth(parent), parent.to_owned()));
                }
            }
            Ok(None) => {}
            Err(error) => left_out.push(error.into()),
        }
    }
    (found, left_out)
}

/// What goes. There may be millions of names, of which only hashes are kept: a directory that is taken for emptied by
/// mistake is not removed, since it has to be empty then.
#[derive(Default)]
struct Gone {
    /// For each directory hashes of the names that go, and whether all of them are deleted for good.
    parents: HashMap<PathBuf, (FxHashSet<u64>, bool)>,
    hasher: ahash::RandomState,
}

impl Gone {
    fn add(&mut self, path: &Path, for_good: bool) {
        let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else { return };
        let hash = self.hasher.hash_one(name);
        if !self.parents.contains_key(parent) {
            self.parents.insert(parent.to_owned(), (FxHashSet::default(), true));
        }
        if let Some((names, all_for_good)) = self.parents.get_mut(parent) {
            names.insert(hash);
            *all_for_good &= for_good;
        }
    }

    fn has(&self, path: &Path) -> bool {
        let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else { return false };
        let known = self.parents.get(parent);
        known.is_some_and(|(names, _)| names.contains(&self.hasher.hash_one(name)))
    }
}

/// The facts about a directory in which everything is to go, and whether all of that is deleted for good.
fn emptied(directory: &Path, gone: &Gone) -> Result<Option<(Stat, bool)>, CallError> {
    let open = kernel::open_root(directory).map_err(CallError::on(Op::OpenDirectory, directory))?;
    let stat = kernel::stat_descriptor(&open).map_err(CallError::on(Op::Examine, directory))?;
    if stat.mount_root {
        return Ok(None);
    }
    let Some((names, for_good)) = gone.parents.get(directory) else { return Ok(None) };
    let mut all = true;
    DirReader::default()
        .read(&open, |entry| {
            let name = OsStr::from_bytes(entry.name.to_bytes());
            all = names.contains(&gone.hasher.hash_one(name));
            all
        })
        .map_err(CallError::on(Op::ReadDirectory, directory))?;
    Ok(all.then_some((stat, *for_good)))
}

/// The record of a directory by itself, as it will be when it is empty.
pub(super) fn survey_alone(path: &Path, stat: &Stat) -> Survey {
    let target = Target { entries: 1, allocated: stat.allocated(), ..Target::of_inode(path, stat) };
    debug_assert!(target.kind == Kind::Directory);
    Survey::of_target(target, stat.ctime)
}
