//! A catalog seen whole, or through a selection: the same questions, the same answers.

use std::ops::Range;

use super::batch::Sums;
use super::{AgeProfile, Catalog, Directory, EntryId, NONE};
use crate::parallel;
use crate::units::{Bytes, Time};

/// Some entries of a catalog: a bit for each.
#[derive(Debug)]
pub struct Chosen(Vec<u64>);

impl Chosen {
    fn has(&self, id: EntryId) -> bool {
        let word = self.0.get(id.0 as usize / 64).copied().unwrap_or(0);
        word >> (id.0 % 64) & 1 == 1
    }

    /// The chosen entries of which a test says so, in the order of their numbers. It is run by several threads.
    pub fn that(&self, is_wanted: impl Fn(EntryId) -> bool + Sync) -> Vec<EntryId> {
        let words = 0..self.0.len() as u32;
        let of_words = |words: Range<u32>| {
            let mut found = Vec::new();
            for word in words {
                let mut bits = self.0[word as usize];
                while bits != 0 {
                    let id = EntryId(word * 64 + bits.trailing_zeros());
                    if is_wanted(id) {
                        found.push(id);
                    }
                    bits &= bits - 1;
                }
            }
            found
        };
        parallel::each(parallel::split(words, parallel::ENTRIES / 64), of_words).concat()
    }
}

/// Some entries of a catalog, with the totals of every directory over them. An inode with several names counts
/// once in every directory that holds a chosen one of them.
#[derive(Debug)]
pub struct Selection {
    chosen: Chosen,
    /// In the order of the catalog's directories.
    totals: Vec<Sums>,
    whole: u64,
}

impl Selection {
    fn has(&self, id: EntryId) -> bool {
        self.chosen.has(id)
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
    /// As [`Catalog::choose`], with the totals of the directories.
    pub fn select<S: Default>(&self, passes: impl Fn(EntryId, &mut S) -> bool + Sync) -> Selection {
        self.total(self.choose(passes))
    }

    /// Chooses the entries that pass. The test gets something to remember from entry to entry, and is run by
    /// several threads, each on a part that follows in order.
    pub fn choose<S: Default>(&self, passes: impl Fn(EntryId, &mut S) -> bool + Sync) -> Chosen {
        let count = self.len();
        let mut chosen = vec![0u64; count.div_ceil(64)];
        let part = parallel::part_of(chosen.len(), 1024);
        // what stands above several roots is nowhere, and so never chosen
        let top = self.top.map(|top| top.0);
        let fill = |(number, bits): (usize, &mut [u64])| {
            let mut spare = S::default();
            for (word, bits) in bits.iter_mut().enumerate() {
                let from = (number * part + word) * 64;
                for bit in 0..64.min(count - from) {
                    let id = (from + bit) as u32;
                    if Some(id) != top && passes(EntryId(id), &mut spare) {
                        *bits |= 1 << bit;
                    }
                }
            }
        };
        parallel::each(chosen.chunks_mut(part).enumerate(), fill);
        Chosen(chosen)
    }

    fn total(&self, chosen: Chosen) -> Selection {
        let whole = chosen.0.iter().map(|bits| u64::from(bits.count_ones())).sum();
        let mut selection = Selection { chosen, totals: Vec::new(), whole };
        let rows = 0..self.directories.len() as u32;
        let sums = |rows: Range<u32>| {
            let directories = &self.directories[rows.start as usize..rows.end as usize];
            directories.iter().map(|row| self.own_sums(row, &selection)).collect::<Vec<_>>()
        };
        let mut totals = parallel::each(parallel::split(rows, 1024), sums).concat();
        for row in (0..totals.len()).rev() {
            let parent = self.parent[self.directories[row].entry as usize];
            if parent != NONE {
                let sums = totals[row];
                let above = self.row_number(EntryId(parent));
                totals[above].take_in(&sums);
            }
        }
        selection.totals = totals;
        self.add_linked(&mut selection);
        selection
    }

    /// What is chosen of a directory itself and of what lies directly in it, without the directories there.
    fn own_sums(&self, row: &Directory, selection: &Selection) -> Sums {
        let mut sums = Sums::default();
        let children = row.first_child..row.first_child + row.children;
        for id in std::iter::once(row.entry).chain(children).map(EntryId) {
            let is_directory = self.is_directory(id);
            if !selection.has(id) || (is_directory && id.0 != row.entry) {
                continue;
            }
            let facts = self.facts(id);
            sums.entries += 1;
            sums.newest = sums.newest.max(facts.mtime);
            if !is_directory {
                sums.largest = sums.largest.max(facts.blocks.saturating_mul(512));
            }
            // what has several names is added later
            if !self.is_multi_linked(id) {
                sums.add(&self.scale, facts.blocks, facts.size, facts.mtime, true);
            }
        }
        sums
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
    /// The catalog that is looked at, whatever the lens.
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
