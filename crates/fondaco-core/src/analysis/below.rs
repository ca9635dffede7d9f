//! Every inode below a directory once, on several threads.

use std::ops::Range;

use rustc_hash::FxHashSet;

use crate::catalog::{EntryId, Seen};
use crate::parallel;

/// What is shown below a directory, itself included.
pub(super) struct Below<'a> {
    seen: Seen<'a>,
    /// Numbers of entries that follow each other.
    runs: Vec<Range<u32>>,
    /// Further names of inodes of which one has been counted.
    again: FxHashSet<u32>,
    /// How many entries are shown.
    shown: u64,
}

impl<'a> Below<'a> {
    pub(super) fn new(seen: Seen<'a>, at: EntryId) -> Self {
        let catalog = seen.catalog();
        let mut runs = Vec::new();
        let all = catalog.top() == Some(at);
        if all {
            // what stands above several roots is nowhere: it is no entry
            let several = u32::from(catalog.roots().len() > 1);
            runs.push(several..catalog.ids().len() as u32);
        } else {
            runs.push(at.0..at.0 + 1);
            let mut open = vec![at];
            while let Some(id) = open.pop() {
                let children = catalog.children(id);
                if let Some(first) = catalog.children(id).next() {
                    runs.push(first.0..first.0 + children.len() as u32);
                }
                let inside = |id: &EntryId| catalog.is_directory(*id) && seen.shows(*id);
                open.extend(children.filter(inside));
            }
        }
        let mut again = FxHashSet::default();
        for names in catalog.linked_entries() {
            let is_here = |id: &&EntryId| seen.has(**id) && (all || catalog.is_below(**id, at));
            again.extend(names.iter().filter(is_here).skip(1).map(|id| id.0));
        }
        Self { seen, runs, again, shown: seen.entries(at) }
    }

    /// How many entries lie there, shown or not.
    fn len(&self) -> usize {
        self.runs.iter().map(std::iter::ExactSizeIterator::len).sum()
    }

    /// Whether so much is shown that what can be worked out once for the whole scan is worth it.
    pub(super) fn is_most(&self) -> bool {
        self.shown * 8 >= self.seen.catalog().len() as u64
    }

    /// Goes through them on several threads; `each` is told an entry, and what the threads found is joined in
    /// the order of entries.
    pub(super) fn fold<T: Send>(
        &self,
        new: impl Fn() -> T + Sync,
        each: impl Fn(&mut T, EntryId) + Sync,
        join: impl Fn(&mut T, T),
    ) -> T {
        let part = parallel::part_of(self.len(), parallel::ENTRIES as usize) as u32;
        let catalog = self.seen.catalog();
        let work = |runs: Vec<Range<u32>>| {
            let mut found = new();
            for id in runs.into_iter().flatten().map(EntryId) {
                let again = || catalog.is_multi_linked(id) && self.again.contains(&id.0);
                if self.seen.has(id) && !again() {
                    each(&mut found, id);
                }
            }
            found
        };
        let mut parts = parallel::each(split(&self.runs, part), work).into_iter();
        let mut found = parts.next().unwrap_or_else(new);
        parts.for_each(|more| join(&mut found, more));
        found
    }
}

/// The same numbers in the same order, in parts of so many.
fn split(runs: &[Range<u32>], part: u32) -> Vec<Vec<Range<u32>>> {
    let mut parts = Vec::new();
    let (mut now, mut left) = (Vec::new(), part);
    for run in runs {
        let mut from = run.start;
        while from < run.end {
            let to = run.end.min(from.saturating_add(left));
            now.push(from..to);
            left -= to - from;
            from = to;
            if left == 0 {
                parts.push(std::mem::take(&mut now));
                left = part;
            }
        }
    }
    if !now.is_empty() {
        parts.push(now);
    }
    parts
}
