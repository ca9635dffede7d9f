//! What a scan's filters kept out: not listed, but counted, by the directory that it lies in.

use rustc_hash::FxHashMap;
use serde::Serialize;

use super::{Batch, Catalog, EntryId, LinkedInode};
use crate::kernel::Stat;
use crate::units::Bytes;

/// What was kept out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct ExcludedSums {
    /// How many names were left out.
    pub entries: u64,
    /// Bytes on disk, every inode once, without those that a listed name has too.
    pub allocated: Bytes,
    /// Sum of the lengths of what was left out.
    pub apparent: Bytes,
}

impl ExcludedSums {
    pub(super) fn add(&mut self, entries: u64, allocated: Bytes, apparent: Bytes) {
        self.entries += entries;
        self.allocated += allocated;
        self.apparent += apparent;
    }
}

/// Sums by directory, and the inodes with several names, which are added at the end.
#[derive(Debug, Default)]
pub(super) struct Excluded {
    pub(super) by_directory: FxHashMap<u32, ExcludedSums>,
    linked: FxHashMap<(u64, u64), (u32, Bytes, Bytes)>,
}

impl Excluded {
    /// Adds each inode with several names once, unless it is listed by another of them.
    pub(super) fn finish(&mut self, listed: &FxHashMap<(u64, u64), LinkedInode>) {
        for (inode, (directory, allocated, apparent)) in self.linked.drain() {
            if !listed.contains_key(&inode) {
                self.by_directory.entry(directory).or_default().add(0, allocated, apparent);
            }
        }
    }
}

impl Catalog {
    /// Counts what was kept out of a listed directory, or below it; `own` are the facts of an
    /// excluded directory that came without them.
    pub fn note_excluded(&mut self, directory: EntryId, own: Option<&Stat>, batch: &Batch) {
        let sums = self.excluded.by_directory.entry(directory.0).or_default();
        let (entries, allocated, apparent) = batch.plain_sums();
        sums.add(entries, allocated, apparent);
        if let Some(own) = own {
            sums.add(0, own.allocated(), Bytes::new(own.size));
        }
        for (inode, allocated, apparent) in batch.linked_inodes() {
            self.excluded.linked.entry(inode).or_insert((directory.0, allocated, apparent));
        }
    }

    /// All that was kept out. Whole when the scan has ended.
    pub fn excluded(&self) -> ExcludedSums {
        let mut sum = ExcludedSums::default();
        for one in self.excluded.by_directory.values() {
            sum.add(one.entries, one.allocated, one.apparent);
        }
        sum
    }
}
