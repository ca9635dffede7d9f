//! What is missing in one place and new in another, and yet the same.
//!
//! Three signs are taken, the surest first, and each entry once: the same inode with the same length and time of writing, or a
//! log that was rotated within its directory; the same name, length and time, as a move to another
//! file system leaves it; and the same length and time where just one entry is missing and just one is new that have them. A
//! directory has moved if most of what lay directly in it now lies directly in one that is new. An inode alone is no sign: its
//! number is given away again.

use std::hash::{Hash, Hasher};

use rustc_hash::FxHasher;

use super::pairing::Paired;
use super::{EntryChange, Fate, NONE, Place, REPLACED};
use crate::catalog::{Catalog, EntryId};
use crate::kernel::Kind;

/// Files shorter than this are too alike for their length and time alone to tell them.
const TELLING: u64 = 4096;
/// Entries of one inode number that are held against each other at most: some file systems number nothing.
const OF_ONE_INODE: usize = 64;

/// A key by which entries are brought together, and the number of the entry.
type Keyed = (u64, u32);

struct Moves<'a> {
    before: &'a Catalog,
    after: &'a Catalog,
    places: &'a mut Vec<Place>,
    entries: &'a mut Vec<EntryChange>,
}

/// Finds what moved, and makes twins of the two halves.
pub(super) fn find(found: &mut Paired, before: &Catalog, after: &Catalog) {
    let Paired { places, entries } = found;
    let mut moves = Moves { before, after, places, entries };
    let is_missing = |entry: &EntryChange| entry.fate() == Fate::Gone;
    let is_new = |entry: &EntryChange| entry.fate() == Fate::New;
    if !moves.entries.iter().any(is_missing) || !moves.entries.iter().any(is_new) {
        return;
    }
    moves.by_inode();
    moves.put_replaced_together();
    moves.by_name_length_and_time();
    moves.by_length_and_time();
    moves.empty_directories();
    moves.directories();
    moves.within_moved_directories();
}

impl Moves<'_> {
    /// Keys of entries that have such a fate and a key, in order.
    fn keyed(&self, fate: Fate, key: impl Fn(&Catalog, EntryId) -> Option<u64>) -> Vec<Keyed> {
        let one = |(number, entry): (usize, &EntryChange)| {
            let key = match fate {
                Fate::Gone => key(self.before, entry.before()?),
                _ => key(self.after, entry.after()?),
            };
            Some((key?, number as u32))
        };
        let all = self.entries.iter().enumerate().filter(|(_, entry)| entry.fate() == fate);
        let mut keyed: Vec<Keyed> = all.filter_map(one).collect();
        keyed.sort_unstable();
        keyed
    }

    /// Calls `each` with the missing and the new entries of every key that both have.
    fn meet(
        &mut self,
        key: impl Fn(&Catalog, EntryId) -> Option<u64>,
        mut each: impl FnMut(&mut Self, &[Keyed], &[Keyed]),
    ) {
        let missing = self.keyed(Fate::Gone, &key);
        let new = self.keyed(Fate::New, &key);
        let (mut of_missing, mut of_new) =
            (missing.chunk_by(|a, b| a.0 == b.0), new.chunk_by(|a, b| a.0 == b.0));
        let (mut a, mut b) = (of_missing.next(), of_new.next());
        while let (Some(one), Some(other)) = (a, b) {
            match one[0].0.cmp(&other[0].0) {
                std::cmp::Ordering::Less => a = of_missing.next(),
                std::cmp::Ordering::Greater => b = of_new.next(),
                std::cmp::Ordering::Equal => {
                    each(self, one, other);
                    (a, b) = (of_missing.next(), of_new.next());
                }
            }
        }
    }

    fn make_twins(&mut self, missing: u32, new: u32) {
        self.entries[missing as usize].twin = new;
        self.entries[new as usize].twin = missing;
    }

    fn ids(&self, missing: u32, new: u32) -> (EntryId, EntryId) {
        let (missing, new) = (&self.entries[missing as usize], &self.entries[new as usize]);
        (EntryId(missing.before), EntryId(new.after))
    }

    fn by_inode(&mut self) {
        let key = |catalog: &Catalog, id| {
            let inode = catalog.inode(id);
            (inode != 0 && !catalog.is_directory(id)).then_some(inode)
        };
        self.meet(key, |moves, missing, new| {
            for (_, missing) in missing.iter().take(OF_ONE_INODE) {
                let is_same = |(_, new): &&Keyed| {
                    moves.entries[*new as usize].twin == NONE && moves.is_same_inode(*missing, *new)
                };
                if let Some((_, new)) = new.iter().take(OF_ONE_INODE).find(is_same) {
                    moves.make_twins(*missing, *new);
                }
            }
        });
    }

    /// Whether two entries of one inode number are one thing.
    fn is_same_inode(&self, missing: u32, new: u32) -> bool {
        let (was, is) = self.ids(missing, new);
        if self.before.kind(was) != self.after.kind(is) {
            return false;
        }
        let (before, after) = (self.before.own_apparent(was), self.after.own_apparent(is));
        let written = (self.before.modified(was), self.after.modified(is));
        if before == after && written.0 == written.1 {
            return true;
        }
        let in_one_place = self.entries[missing as usize].place == self.entries[new as usize].place;
        let is_later = after >= before && written.1 >= written.0;
        in_one_place
            && is_later
            && self.before.kind(was) == Kind::File
            && is_rotation(self.before.own_name(was), self.after.own_name(is))
    }

    /// Of a name that belongs to another inode now, both halves are one entry if neither of them has moved.
    fn put_replaced_together(&mut self) {
        let mut dead = false;
        for number in 0..self.entries.len().saturating_sub(1) {
            let (gone, new) = (self.entries[number], self.entries[number + 1]);
            let halves = gone.counted & new.counted & REPLACED != 0 && gone.after == NONE;
            if halves && new.before == NONE && (gone.twin, new.twin) == (NONE, NONE) {
                let counted = gone.counted | new.counted;
                self.entries[number] = EntryChange { after: new.after, counted, ..gone };
                self.entries[number + 1] =
                    EntryChange { before: NONE, after: NONE, counted: 0, ..new };
                dead = true;
            }
        }
        if dead {
            super::pairing::keep(self.entries, |entry| (entry.before, entry.after) != (NONE, NONE));
        }
    }

    fn by_name_length_and_time(&mut self) {
        let key = |catalog: &Catalog, id| {
            let length = catalog.own_apparent(id).get();
            let told = length > 0 && catalog.kind(id) == Kind::File;
            told.then(|| {
                let mut hasher = FxHasher::default();
                (length, catalog.modified(id).sec, catalog.own_name(id)).hash(&mut hasher);
                hasher.finish()
            })
        };
        self.meet(key, |moves, missing, new| {
            for ((_, missing), (_, new)) in missing.iter().zip(new) {
                let (was, is) = moves.ids(*missing, *new);
                let names = moves.before.own_name(was) == moves.after.own_name(is);
                if names && moves.has_same_length_and_time(was, is) {
                    moves.make_twins(*missing, *new);
                }
            }
        });
    }

    fn by_length_and_time(&mut self) {
        let key = |catalog: &Catalog, id| {
            let length = catalog.own_apparent(id).get();
            let told = length >= TELLING && catalog.kind(id) == Kind::File;
            told.then(|| {
                let mut hasher = FxHasher::default();
                (length, catalog.modified(id).sec).hash(&mut hasher);
                hasher.finish()
            })
        };
        self.meet(key, |moves, missing, new| {
            if let ([(_, missing)], [(_, new)]) = (missing, new) {
                let (was, is) = moves.ids(*missing, *new);
                if moves.has_same_length_and_time(was, is) {
                    moves.make_twins(*missing, *new);
                }
            }
        });
    }

    fn has_same_length_and_time(&self, was: EntryId, is: EntryId) -> bool {
        self.before.own_apparent(was) == self.after.own_apparent(is)
            && self.before.modified(was) == self.after.modified(is)
    }

    /// Whether an entry is the directory of its place itself.
    fn is_own(&self, entry: &EntryChange) -> bool {
        let place = &self.places[entry.place as usize];
        (entry.before, entry.after) == (place.before, place.after)
    }

    /// Where each directory that is missing has gone to, the deepest first: each entry in it that moved is a vote for the
    /// directory that it lies in now.
    fn directories(&mut self) {
        for number in (1..self.places.len() as u32).rev() {
            let Place { before, after, twin, .. } = self.places[number as usize];
            if before == NONE || after != NONE || twin != NONE {
                continue;
            }
            let mut lead = Lead::default();
            self.votes(number).for_each(|to| lead.count(to));
            let all = self.votes(number).count();
            let won = self.votes(number).filter(|to| *to == lead.to).count();
            let is_new = |place: &Place| place.before == NONE && place.twin == NONE;
            if lead.to != NONE && won * 2 > all && is_new(&self.places[lead.to as usize]) {
                self.make_twin_places(number, lead.to);
            }
        }
    }

    /// For everything that lay directly in a directory, the place that it lies in now.
    fn votes(&self, place: u32) -> impl Iterator<Item = u32> {
        let of_entries = self.entries_in(place).filter_map(move |number| {
            let entry = &self.entries[number];
            let counts = entry.before != NONE && !self.is_own(entry);
            counts.then(|| self.entries.get(entry.twin as usize).map_or(NONE, |twin| twin.place))
        });
        let Place { first_child, children, .. } = self.places[place as usize];
        let of_places = (first_child..first_child + children).filter_map(|number| {
            let place = &self.places[number as usize];
            let there = self.places.get(place.twin as usize);
            (place.before != NONE).then(|| there.map_or(NONE, |twin| twin.parent))
        });
        of_entries.chain(of_places)
    }

    fn make_twin_places(&mut self, missing: u32, new: u32) {
        self.places[missing as usize].twin = new;
        self.places[new as usize].twin = missing;
        if let (Some(missing), Some(new)) = (self.own_entry(missing), self.own_entry(new)) {
            self.make_twins(missing, new);
        }
    }

    /// The entries of a place: they were added place by place.
    fn entries_in(&self, place: u32) -> std::ops::Range<usize> {
        let first = self.entries.partition_point(|entry| entry.place < place);
        let length = self.entries[first..].partition_point(|entry| entry.place == place);
        first..first + length
    }

    /// The entry that a place's directory is itself, if it is missing or new.
    fn own_entry(&self, place: u32) -> Option<u32> {
        let mut entries = self.entries_in(place);
        entries.find(|number| self.is_own(&self.entries[*number])).map(|number| number as u32)
    }

    /// Directories with nothing in them are known by their inode and the time of their last change.
    fn empty_directories(&mut self) {
        let empty = |catalog: &Catalog, id: EntryId| {
            let is_empty = catalog.is_directory(id) && catalog.children(id).len() == 0;
            is_empty.then(|| catalog.inode(id)).filter(|inode| *inode != 0)
        };
        self.meet(empty, |moves, missing, new| {
            if let ([(_, missing)], [(_, new)]) = (missing, new) {
                let (was, is) = moves.ids(*missing, *new);
                if moves.before.modified(was) == moves.after.modified(is) {
                    let place = |entry: u32| moves.entries[entry as usize].place;
                    let (from, to) = (place(*missing), place(*new));
                    moves.make_twin_places(from, to);
                }
            }
        });
    }

    /// In a directory that moved, what has the name that it had is the same, however it has changed.
    fn within_moved_directories(&mut self) {
        let mut names = rustc_hash::FxHashMap::default();
        for number in 1..self.places.len() as u32 {
            let Place { twin, after, .. } = self.places[number as usize];
            if twin == NONE || after != NONE {
                continue;
            }
            names.clear();
            let is_left = |moves: &Self, number: &usize, fate| {
                let entry = &moves.entries[*number];
                entry.fate() == fate && !moves.is_own(entry)
            };
            for entry in self.entries_in(number).filter(|n| is_left(self, n, Fate::Gone)) {
                let id = EntryId(self.entries[entry].before);
                names.insert(self.before.own_name(id), entry as u32);
            }
            if names.is_empty() {
                continue;
            }
            let there = self.entries_in(twin).filter(|n| is_left(self, n, Fate::New));
            let pairs: Vec<(u32, u32)> = there
                .filter_map(|entry| {
                    let id = EntryId(self.entries[entry].after);
                    let missing = names.remove(self.after.own_name(id))?;
                    let (was, is) = self.ids(missing, entry as u32);
                    (self.before.kind(was) == self.after.kind(is))
                        .then_some((missing, entry as u32))
                })
                .collect();
            pairs.into_iter().for_each(|(missing, new)| self.make_twins(missing, new));
        }
    }
}

/// Who leads a vote so far. What has more than half of all votes leads in the end, whatever their order; what leads may have
/// fewer (Boyer and Moore, MJRTY, 1981).
#[derive(Clone, Copy, Debug)]
struct Lead {
    to: u32,
    by: usize,
}

impl Default for Lead {
    fn default() -> Self {
        Self { to: NONE, by: 0 }
    }
}

impl Lead {
    fn count(&mut self, to: u32) {
        match (to == self.to, self.by) {
            (true, _) => self.by += 1,
            (false, 0) => (self.to, self.by) = (to, 1),
            (false, _) => self.by -= 1,
        }
    }
}

/// Whether the second name is what a rotation makes of the first: the same with a number or a date behind it.
fn is_rotation(was: &[u8], is: &[u8]) -> bool {
    let behind = is.strip_prefix(was).unwrap_or_default();
    matches!(behind, [b'.' | b'-' | b'_', next, ..] if next.is_ascii_digit())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn most_votes_lead_whatever_their_order() {
        for order in [[7, 7, 7, 9, NONE], [9, 7, NONE, 7, 7], [7, 9, 7, NONE, 7]] {
            let mut lead = Lead::default();
            order.iter().for_each(|to| lead.count(*to));
            assert_eq!(lead.to, 7);
        }
        assert!(
            is_rotation(b"buoy.log", b"buoy.log.1") && is_rotation(b"buoy.log", b"buoy.log-2041")
        );
        for other in [&b"buoy.log"[..], b"buoy.logs", b"buoy.log.old", b"tide.log.1", b"buoy-2.log"]
        {
            assert!(!is_rotation(b"buoy.log", other));
        }
    }
}
