//! Orders of entries by their places.

use std::cmp::Ordering;
use std::os::unix::ffi::OsStrExt;

use rustc_hash::FxHashMap;

use super::{Catalog, EntryId};
use crate::parallel;

/// For things of fewer directories than this no thread is begun.
const LEAST_RUNS: usize = 256;

impl Catalog {
    /// The order of two entries by the bytes of their whole paths, which are not made for that.
    pub fn compare_paths(&self, one: EntryId, other: EntryId) -> Ordering {
        let depth = |id| std::iter::successors(Some(id), |id| self.parent(*id)).count();
        let (mut a, mut b) = (one, other);
        let (mut depth_a, mut depth_b) = (depth(a), depth(b));
        // the last entries on the way up that are not yet the same
        let (mut below_a, mut below_b) = (None, None);
        while a != b {
            let (up_a, up_b) = (depth_a >= depth_b, depth_b >= depth_a);
            if up_a {
                below_a = Some(a);
                let Some(above) = self.parent(a) else { break };
                (a, depth_a) = (above, depth_a - 1);
            }
            if up_b {
                below_b = Some(b);
                let Some(above) = self.parent(b) else { break };
                (b, depth_b) = (above, depth_b - 1);
            }
        }
        // of two of which one lies in the other, the outer one has the shorter path
        let (Some(a), Some(b)) = (below_a, below_b) else {
            return below_a.is_some().cmp(&below_b.is_some());
        };
        let part = |id: EntryId, end: EntryId| {
            let name = self.name(id).as_bytes().iter();
            name.chain((id != end).then_some(&b'/'))
        };
        part(a, one).cmp(part(b, other))
    }

    /// The order of the directories that entries lie in, by the bytes of their paths: so that many entries can be put in the
    /// order of their places with whole paths compared only of directories, of which there are few.
    pub(crate) fn directory_ranks(
        &self,
        entries: impl Iterator<Item = EntryId>,
    ) -> FxHashMap<u32, u32> {
        let mut above: Vec<u32> = entries.map(|id| self.directory_of(id)).collect();
        above.sort_unstable();
        above.dedup();
        above.sort_by(|a, b| self.compare_paths(EntryId(*a), EntryId(*b)));
        (0..).zip(above).map(|(rank, id)| (id, rank)).collect()
    }

    /// Puts things that have an entry in the order of the directories of their entries, and those of one directory in the
    /// order of their names. Things of one entry keep their order.
    pub(crate) fn sort_by_place<T: Clone + Send + Sync>(
        &self,
        things: &mut Vec<T>,
        entry: impl Fn(&T) -> EntryId + Sync,
    ) {
        // the children of a directory have numbers that follow each other
        things.sort_by_key(|one| entry(one).0);
        let directory = |one: &T| self.directory_of(entry(one));
        let mut runs: Vec<&[T]> = things.chunk_by(|a, b| directory(a) == directory(b)).collect();
        let place = |run: &[T]| EntryId(directory(&run[0]));
        runs.sort_by(|a, b| self.compare_paths(place(a), place(b)));
        let mut sorted: Vec<T> = Vec::with_capacity(things.len());
        runs.iter().for_each(|run| sorted.extend_from_slice(run));
        let lengths: Vec<usize> = runs.iter().map(|run| run.len()).collect();
        let mut rest = sorted.as_mut_slice();
        let mut runs: Vec<&mut [T]> = Vec::with_capacity(lengths.len());
        for length in lengths {
            let (run, behind) = std::mem::take(&mut rest).split_at_mut(length);
            runs.push(run);
            rest = behind;
        }
        let part = parallel::part_of(runs.len(), LEAST_RUNS);
        parallel::each(runs.chunks_mut(part), |runs| {
            for run in runs {
                run.sort_by(|a, b| self.own_name(entry(a)).cmp(self.own_name(entry(b))));
            }
        });
        *things = sorted;
    }

    /// The number of the directory that an entry lies in; of a root its own.
    fn directory_of(&self, id: EntryId) -> u32 {
        self.parent(id).unwrap_or(id).0
    }
}
