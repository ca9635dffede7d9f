//! Directories that a plan empties: planned themselves, so that what was cleared leaves no empty shells.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

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
    // whether what goes is deleted for good, by path
    let mut gone: BTreeMap<PathBuf, bool> = BTreeMap::new();
    for one in planned {
        let goes = match one.deed {
            Deed::Delete => Some(true),
            Deed::SetAside | Deed::Archive { .. } | Deed::Move { .. } => Some(false),
            _ => None,
        };
        let is_refused = matches!(one.review, Review::Refused(_));
        if let (Some(for_good), false) = (goes, is_refused) {
            gone.insert(one.path.clone(), for_good);
        }
    }
    let mut waiting: BTreeSet<(usize, PathBuf)> = BTreeSet::new();
    let depth = |path: &Path| path.components().count();
    for path in gone.keys() {
        if let Some(parent) = path.parent() {
            waiting.insert((depth(parent), parent.to_owned()));
        }
    }
    let (mut found, mut left_out) = (Vec::new(), Vec::new());
    while let Some((_, directory)) = waiting.pop_last() {
        let is_below = roots.is_empty()
            || roots.iter().any(|root| directory != *root && directory.starts_with(root));
        if !is_below || gone.contains_key(&directory) {
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
                gone.insert(directory.clone(), for_good);
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

/// The facts about a directory in which everything is to go, and whether all of that is deleted for good.
fn emptied(
    directory: &Path,
    gone: &BTreeMap<PathBuf, bool>,
) -> Result<Option<(Stat, bool)>, CallError> {
    let open = kernel::open_root(directory).map_err(CallError::on(Op::OpenDirectory, directory))?;
    let stat = kernel::stat_descriptor(&open).map_err(CallError::on(Op::Examine, directory))?;
    if stat.mount_root {
        return Ok(None);
    }
    let (mut all, mut for_good) = (true, true);
    DirReader::default()
        .read(&open, |entry| {
            let path = directory.join(OsStr::from_bytes(entry.name.to_bytes()));
            match gone.get(&path) {
                Some(deleted) => for_good &= deleted,
                None => all = false,
            }
            all
        })
        .map_err(CallError::on(Op::ReadDirectory, directory))?;
    Ok(all.then_some((stat, for_good)))
}

/// The record of a directory by itself, as it will be when it is empty.
pub(super) fn survey_alone(path: &Path, stat: &Stat) -> Survey {
    let target = Target { entries: 1, allocated: stat.allocated(), ..Target::of_inode(path, stat) };
    debug_assert!(target.kind == Kind::Directory);
    Survey::of_target(target, stat.ctime)
}
