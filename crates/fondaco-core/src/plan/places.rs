//! Where on a draft a path is planned, and what lies above or below one.

use std::collections::{BTreeSet, HashSet};
use std::ops::Bound;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use hashbrown::HashTable;

use super::Planned;
use crate::kernel::directory_and_name;
use crate::packed_list::PackedList;

/// See the [module](self). It takes nine bytes for each planned path, of which there may be millions.
#[derive(Clone, Debug, Default)]
pub(super) struct Places {
    /// A part of the hash of each path, and its place.
    table: HashTable<(u32, u32)>,
    hasher: ahash::RandomState,
    /// What may hold others: all but what is known to be no directory.
    wide: HashSet<PathBuf>,
    /// The directories in which something is planned.
    parents: BTreeSet<PathBuf>,
    /// The directory in which something was planned last: mostly that of the next too.
    last: PathBuf,
}

/// The hash by which the table finds its slots.
fn spread(part: u32) -> u64 {
    u64::from(part).wrapping_mul(0x9E37_79B9_7F4A_7C15)
}

impl Places {
    fn part(&self, path: &Path) -> u32 {
        self.hasher.hash_one(path.as_os_str().as_bytes()) as u32
    }

    /// The place at which a path is planned.
    pub(super) fn of(&self, path: &Path, planned: &PackedList<Planned>) -> Option<usize> {
        let part = self.part(path);
        let is_it = |(other, at): &(u32, u32)| {
            let is_there = |one: &Planned| one.path.as_os_str() == path;
            part == *other && planned.get(*at as usize).is_some_and(is_there)
        };
        self.table.find(spread(part), is_it).map(|(_, at)| *at as usize)
    }

    /// Notes that something is planned at a place.
    pub(super) fn add(&mut self, new: &Planned, at: usize) {
        let part = self.part(&new.path);
        self.table.insert_unique(spread(part), (part, at as u32), |(part, _)| spread(*part));
        if new.may_hold_others() {
            self.wide.insert(new.path.clone());
        }
        let split = directory_and_name(&new.path).map(|(parent, _)| parent);
        let Some(parent) = split.or_else(|| new.path.parent()) else { return };
        if self.last.as_os_str() != parent.as_os_str() {
            parent.clone_into(&mut self.last);
            if !self.parents.contains(parent) {
                self.parents.insert(parent.to_owned());
            }
        }
    }

    /// What is planned of what lies above a path, or is that path, if it takes all below it along.
    pub(super) fn wide_above<'a>(&self, path: &'a Path) -> Option<&'a Path> {
        // mostly nothing may hold others, and cutting a path takes longer than all the rest
        let mut above = (!self.wide.is_empty()).then(|| path.ancestors())?;
        above.find(|above| self.wide.contains(*above))
    }

    /// Whether something below a path is planned.
    pub(super) fn is_above_some(&self, path: &Path) -> bool {
        // paths are ordered part by part: what lies below one comes right behind it
        let from = (Bound::Included(path), Bound::Unbounded);
        let first = self.parents.range::<Path, _>(from).next();
        first.is_some_and(|parent| parent.starts_with(path))
    }
}
