//! A catalog seen whole, or through a selection: the same questions, the same answers.

use super::batch::Sums;
use super::{AgeProfile, Catalog, EntryId, NONE};
use crate::units::{Bytes, Time};

/// Some entries of a catalog, with the totals of every directory over them. An inode with several names counts
/// once in every directory that holds a chosen one of them.
#[derive(Debug)]
pub struct Selection {
    /// A bit for each entry.
    chosen: Vec<u64>,
    /// In the order of the catalog's directories.
    totals: Vec<Sums>,
    whole: u64,
}

impl Selection {
    fn has(&self, id: EntryId) -> bool {
        let word = self.chosen.get(id.0 as usize / 64).copied().unwrap_or(0);
        word >> (id.0 % 64) & 1 == 1
    }

    /// How many entries are chosen.
    pub fn len(&self) -> u64 {
        self.whole
    }

    /// Whether none is.
    pub fn is_empty(&self) -> bool {
        self.whole == 0
    }
}

/// See the [module](self).
#[derive(Clone, Copy, Debug)]
pub struct Seen<'a> {
    catalog: &'a Catalog,
    selection: Option<&'a Selection>,
}

impl Catalog {
    /// Chooses the entries that pass. The test gets something to remember from entry to entry, and is run by
    /// several threads, each on a part that follows in order.
    pub fn select<S: Default>(&self, passes: impl Fn(EntryId, &mut S) -> bool + Sync) -> Selection {
        let count = self.len();
        let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
        let words = count.div_ceil(64);
        let mut chosen = vec![0u64; words];
        let part = words.div_ceil(threads).max(1024);
        // what stands above several roots is nowhere, and so never chosen
        let top = self.top.map(|top| top.0);
        let fill = |first: usize, part: &mut [u64]| {
            let mut spare = S::default();
            for (word, bits) in part.iter_mut().enumerate() {
                let from = (first + word) * 64;
                for bit in 0..64.min(count - from) {
                    let id = (from + bit) as u32;
                    if Some(id) != top && passes(EntryId(id), &mut spare) {
                        *bits |= 1 << bit;
                    }
                }
            }
        };
        std::thread::scope(|scope| {
            for (number, part_of) in chosen.chunks_mut(part).enumerate() {
                let fill = &fill;
                if count > 10_000 {
                    scope.spawn(move || fill(number * part, part_of));
                } else {
                    fill(number * part, part_of);
                }
            }
        });
        self.total(chosen)
    }

    fn total(&self, chosen: Vec<u64>) -> Selection {
        let mut totals = vec![Sums::default(); self.directories.len()];
        let mut whole = 0u64;
        for (word, bits) in chosen.iter().enumerate() {
            let mut bits = *bits;
            while bits != 0 {
                let id = EntryId((word * 64) as u32 + bits.trailing_zeros());
                bits &= bits - 1;
                whole += 1;
                let (facts, several) = (self.facts(id), self.is_multi_linked(id));
                let Some(into) = self.row_for(id) else { continue };
                let into = &mut totals[into];
                into.entries += 1;
                into.newest = into.newest.max(facts.mtime);
                if !self.is_directory(id) {
                    into.largest = into.largest.max(facts.blocks.saturating_mul(512));
                }
                // what has several names is added below
                if !several {
                    into.add(&self.scale, facts.blocks, facts.size, facts.mtime, true);
                }
            }
        }
        for row in (0..totals.len()).rev() {
            let parent = self.parent[self.directories[row].entry as usize];
            if parent != NONE {
                let sums = totals[row];
                let above = self.row_number(EntryId(parent));
                totals[above].take_in(&sums);
            }
        }
        let mut selection = Selection { chosen, totals, whole };
        self.add_linked(&mut selection);
        selection
    }

    /// The directory that an entry's own bytes are added to first: itself, or what holds it.
    fn row_for(&self, id: EntryId) -> Option<usize> {
        if self.is_directory(id) {
            return Some(self.row_number(id));
        }
        self.parent(id).map(|parent| self.row_number(parent))
    }

    /// Adds inodes with several names to every directory above a chosen one, once, and to what is exclusive
    /// where all of them are chosen and lie below it.
    fn add_linked(&self, selection: &mut Selection) {
        let mut seen: Vec<(u32, u32)> = vec![(NONE, 0); self.directories.len()];
        for (number, inode) in self.linked.values().enumerate() {
            let is_chosen = |name: &&u32| selection.has(EntryId(**name));
            let names: Vec<u32> = inode.names.iter().filter(is_chosen).copied().collect();
            let Some(first) = names.first() else { continue };
            let facts = self.facts(EntryId(*first));
            let mut sums = Sums::default();
            sums.add(&self.scale, facts.blocks, facts.size, facts.mtime, false);
            for name in &names {
                let mut at = self.parent[*name as usize];
                while at != NONE {
                    let row = self.row_number(EntryId(at));
                    let visits = &mut seen[row];
                    if visits.0 != number as u32 {
                        *visits = (number as u32, 0);
                        selection.totals[row].take_in(&sums);
                    }
                    visits.1 += 1;
                    if visits.1 == inode.links {
                        selection.totals[row].exclusive += sums.allocated;
                    }
                    at = self.parent[at as usize];
                }
            }
        }
    }

    /// All of it.
    pub fn whole(&self) -> Seen<'_> {
        Seen { catalog: self, selection: None }
    }

    /// What is chosen of it; all if nothing is said.
    pub fn seen<'a>(&'a self, selection: Option<&'a Selection>) -> Seen<'a> {
        Seen { catalog: self, selection }
    }
}

impl<'a> Seen<'a> {
    /// The catalog.
    pub fn catalog(self) -> &'a Catalog {
        self.catalog
    }

    /// Whether it is narrowed.
    pub fn is_narrowed(self) -> bool {
        self.selection.is_some()
    }

    /// Whether an entry itself is chosen.
    pub fn has(self, id: EntryId) -> bool {
        self.selection.is_none_or(|selection| selection.has(id))
    }

    /// Whether an entry is chosen, or something below it.
    pub fn shows(self, id: EntryId) -> bool {
        self.selection.is_none_or(|_| self.entries(id) > 0)
    }

    /// What is shown of what lies directly in a directory.
    pub fn children(self, id: EntryId) -> impl Iterator<Item = EntryId> + use<'a> {
        self.catalog.children(id).filter(move |child| self.shows(*child))
    }

    /// The totals of a directory; nothing for anything else, or if the catalog is seen whole.
    fn totals(self, id: EntryId) -> Option<&'a Sums> {
        let selection = self.selection?;
        // a directory that came after the choice was made has none
        static NOTHING: Sums = Sums::NOTHING;
        self.catalog
            .is_directory(id)
            .then(|| selection.totals.get(self.catalog.row_number(id)).unwrap_or(&NOTHING))
    }

    fn of<T: Default>(
        self,
        id: EntryId,
        whole: impl Fn(&Catalog) -> T,
        totals: impl Fn(&Sums) -> T,
    ) -> T {
        match self.totals(id) {
            Some(sums) => totals(sums),
            None if self.has(id) => whole(self.catalog),
            None => T::default(),
        }
    }

    /// Bytes on disk of what is chosen in the entry, every inode once.
    pub fn allocated(self, id: EntryId) -> Bytes {
        self.of(id, |catalog| catalog.allocated(id), |sums| Bytes::new(sums.allocated))
    }

    /// Length of it, every inode once.
    pub fn apparent(self, id: EntryId) -> Bytes {
        self.of(id, |catalog| catalog.apparent(id), |sums| Bytes::new(sums.apparent))
    }

    /// Bytes on disk that would be freed if all that is chosen in it went.
    pub fn exclusive(self, id: EntryId) -> Bytes {
        self.of(id, |catalog| catalog.exclusive(id), |sums| Bytes::new(sums.exclusive))
    }

    /// Names chosen in it.
    pub fn entries(self, id: EntryId) -> u64 {
        self.of(id, |catalog| catalog.entries(id), |sums| u64::from(sums.entries))
    }

    /// The newest writing of what is chosen in it.
    pub fn newest(self, id: EntryId) -> Time {
        self.of(id, |catalog| catalog.newest(id), |sums| Time::at(i64::from(sums.newest)))
    }

    /// Allocated bytes of what is chosen in it, by age.
    pub fn age_profile(self, id: EntryId) -> AgeProfile {
        self.of(id, |catalog| catalog.age_profile(id), |sums| sums.profile)
    }

    /// Bytes on disk of the largest single thing chosen below a directory that is no directory; of anything
    /// else its own.
    pub(super) fn largest(self, id: EntryId) -> Bytes {
        let whole = |catalog: &Catalog| match catalog.row(id) {
            Some(row) => Bytes::new(row.largest),
            None => catalog.allocated(id),
        };
        self.of(id, whole, |sums| Bytes::new(sums.largest))
    }
}
