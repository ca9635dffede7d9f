//! Pairs the entries of two trees by their names, directory by directory.

use std::ops::Range;

use rustc_hash::{FxHashMap, FxHashSet};

use super::sums::Amount;
use super::{
    COUNTED_AFTER, COUNTED_BEFORE, Changes, EntryChange, Measure, NONE, Place, REPLACED, Side,
};
use crate::catalog::{Catalog, EntryId, Seen};
use crate::kernel::Kind;

/// So many names may belong to another inode before it is asked whether most do.
const SOME: u64 = 64;

/// All directories of both sides, and every entry that is not just as it was.
pub(super) struct Paired {
    /// Each after the one that holds it.
    pub(super) places: Vec<Place>,
    pub(super) entries: Vec<EntryChange>,
}

impl Paired {
    /// Leaves out entries that a lens hides. That can be said only once it is known what has moved.
    pub(super) fn leave_out_what_a_lens_hides(&mut self, before: Seen<'_>, after: Seen<'_>) {
        if !before.is_narrowed() && !after.is_narrowed() {
            return;
        }
        let shown = |entry: &EntryChange| {
            // of one that moved the half that is there now decides
            let there = match entry.twin {
                NONE => entry,
                twin if entry.after == NONE => &self.entries[twin as usize],
                _ => entry,
            };
            match (there.after(), there.before()) {
                (Some(id), _) => after.has(id),
                (None, id) => id.is_some_and(|id| before.has(id)),
            }
        };
        let kept: Vec<bool> = self.entries.iter().map(shown).collect();
        let mut at = kept.iter();
        keep(&mut self.entries, |_| at.next().copied().unwrap_or(false));
    }
}

/// Leaves out entries; of two twins both go or none.
pub(super) fn keep(entries: &mut Vec<EntryChange>, mut wanted: impl FnMut(&EntryChange) -> bool) {
    let mut numbers = Vec::with_capacity(entries.len());
    let mut next = 0;
    entries.retain(|entry| {
        let wanted = wanted(entry);
        numbers.push(if wanted { next } else { NONE });
        next += u32::from(wanted);
        wanted
    });
    for entry in entries.iter_mut().filter(|entry| entry.twin != NONE) {
        entry.twin = numbers[entry.twin as usize];
    }
}

/// The names of one side that do not count, since another name of their inode does: the first by path.
fn further_names(side: Side<'_>) -> FxHashSet<u32> {
    let catalog = side.seen.catalog();
    let is_all = catalog.top() == Some(side.at);
    let mut further = FxHashSet::default();
    for mut names in catalog.linked_entries() {
        names.retain(|id| side.seen.has(*id) && (is_all || catalog.is_below(*id, side.at)));
        if names.len() > 1 {
            names.sort_by(|a, b| catalog.compare_paths(*a, *b));
            further.extend(names[1..].iter().map(|id| id.0));
        }
    }
    further
}

struct Pairing<'a> {
    before: Side<'a>,
    after: Side<'a>,
    measure: Measure,
    /// Further names of inodes, on each side.
    further: [FxHashSet<u32>; 2],
    found: Paired,
    /// Used again for every directory.
    by_name: FxHashMap<&'a [u8], u32>,
    /// Pairs of the same name that are one inode, and that are not.
    same_inodes: [u64; 2],
}

/// Pairs everything below two directories.
pub(super) fn pair(before: Side<'_>, after: Side<'_>, measure: Measure) -> Paired {
    let mut pairing = Pairing {
        before,
        after,
        measure,
        further: [further_names(before), further_names(after)],
        found: Paired { places: Vec::new(), entries: Vec::new() },
        by_name: FxHashMap::default(),
        same_inodes: [0; 2],
    };
    pairing.add_place(NONE, before.at.0, after.at.0);
    let mut next = 0;
    // breadth first, so that the places in one place follow each other
    while next < pairing.found.places.len() {
        pairing.look_into(next as u32);
        next += 1;
    }
    pairing.found
}

impl Pairing<'_> {
    fn add_place(&mut self, parent: u32, before: u32, after: u32) {
        let number = self.found.places.len() as u32;
        if let Some(above) = self.found.places.get_mut(parent as usize) {
            if above.children == 0 {
                above.first_child = number;
            }
            above.children += 1;
        }
        self.found.places.push(Place {
            parent,
            before,
            after,
            first_child: 0,
            children: 0,
            first_entry: 0,
            entries: 0,
            twin: NONE,
            was: Amount::default(),
            is: Amount::default(),
            changes: Changes::default(),
        });
    }

    fn look_into(&mut self, number: u32) {
        let Place { before, after, .. } = self.found.places[number as usize];
        self.take(number, before, after);
        let children = |catalog: &Catalog, id: u32| -> Range<u32> {
            let mut ids = catalog.children(EntryId(id));
            let length = ids.len() as u32;
            ids.next().map_or(0..0, |first| first.0..first.0 + length)
        };
        let (old, new) = (self.before.seen.catalog(), self.after.seen.catalog());
        let was = if before == NONE { 0..0 } else { children(old, before) };
        let is = if after == NONE { 0..0 } else { children(new, after) };
        self.pair_children(number, was, is);
    }

    /// Pairs the children of one directory. Two scans mostly list it in one order; what is not found a step ahead is found by
    /// its name in the end.
    fn pair_children(&mut self, place: u32, mut was: Range<u32>, mut is: Range<u32>) {
        let (old, new) = (self.before.seen.catalog(), self.after.seen.catalog());
        let same = |a: u32, b: u32| name(old, a) == name(new, b);
        let (mut left_before, mut left_after) = (Vec::new(), Vec::new());
        while let (Some(a), Some(b)) = (was.clone().next(), is.clone().next()) {
            if same(a, b) {
                (was.start, is.start) = (a + 1, b + 1);
                self.take_pair(place, a, b);
            } else if b + 1 < is.end && same(a, b + 1) {
                is.start = b + 1;
                left_after.push(b);
            } else if a + 1 < was.end && same(a + 1, b) {
                was.start = a + 1;
                left_before.push(a);
            } else {
                (was.start, is.start) = (a + 1, b + 1);
                left_before.push(a);
                left_after.push(b);
            }
        }
        left_before.extend(was);
        left_after.extend(is);
        if left_before.is_empty() || left_after.is_empty() {
            left_before.into_iter().for_each(|a| self.take_pair(place, a, NONE));
            left_after.into_iter().for_each(|b| self.take_pair(place, NONE, b));
            return;
        }
        self.by_name.clear();
        self.by_name.extend((0..).zip(&left_before).map(|(number, a)| (name(old, *a), number)));
        for b in left_after {
            // what has been found is not found again: a listing of a store may have one name twice
            let found = self.by_name.remove(name(new, b)).map(|number: u32| number as usize);
            let before =
                found.map_or(NONE, |number| std::mem::replace(&mut left_before[number], NONE));
            self.take_pair(place, before, b);
        }
        for a in left_before.into_iter().filter(|a| *a != NONE) {
            self.take_pair(place, a, NONE);
        }
    }

    fn take_pair(&mut self, place: u32, before: u32, after: u32) {
        let (old, new) = (self.before.seen.catalog(), self.after.seen.catalog());
        let kinds = (
            (before != NONE).then(|| old.kind(EntryId(before))),
            (after != NONE).then(|| new.kind(EntryId(after))),
        );
        if let (Some(was), Some(is)) = kinds
            && was != is
        {
            // another thing of the same name
            self.take_pair(place, before, NONE);
            self.take_pair(place, NONE, after);
            return;
        }
        if kinds.0.or(kinds.1) == Some(Kind::Directory) {
            self.add_place(place, before, after);
        } else if kinds.0.is_some() && kinds.1.is_some() && self.is_replaced(before, after) {
            let from = self.found.entries.len();
            self.take(place, before, NONE);
            self.take(place, NONE, after);
            self.found.entries[from..].iter_mut().for_each(|half| half.counted |= REPLACED);
        } else {
            self.take(place, before, after);
        }
    }

    /// Whether a name belongs to another inode now, which is of interest only where most names kept theirs: on another file
    /// system all have others.
    fn is_replaced(&mut self, before: u32, after: u32) -> bool {
        let (old, new) = (self.before.seen.catalog(), self.after.seen.catalog());
        let is_same = old.inode(EntryId(before)) == new.inode(EntryId(after));
        self.same_inodes[usize::from(!is_same)] += 1;
        let [same, others] = self.same_inodes;
        !is_same && others <= same + SOME
    }

    /// Counts one entry, and keeps it if it is not as it was.
    fn take(&mut self, place: u32, before: u32, after: u32) {
        let (old, new) = (self.before.seen.catalog(), self.after.seen.catalog());
        let mut counted = 0;
        let (mut was, mut is) = (Amount::default(), Amount::default());
        // what stands above several roots is nowhere
        let is_real = |catalog: &Catalog, id: u32| id != NONE && !is_above_roots(catalog, id);
        if is_real(old, before) {
            let counts = !self.further[0].contains(&before);
            counted |= if counts { COUNTED_BEFORE } else { 0 };
            was = Amount::one(if counts { self.measure.of(old, EntryId(before)) } else { 0 });
        }
        if is_real(new, after) {
            let counts = !self.further[1].contains(&after);
            counted |= if counts { COUNTED_AFTER } else { 0 };
            is = Amount::one(if counts { self.measure.of(new, EntryId(after)) } else { 0 });
        }
        let is_as_it_was =
            was == is && is.entries == 1 && old.owner(EntryId(before)) == new.owner(EntryId(after));
        if is_as_it_was {
            let shown = self.after.seen.has(EntryId(after));
            let place = &mut self.found.places[place as usize];
            if shown {
                place.was.add(was);
                place.is.add(is);
            }
        } else if was.entries > 0 || is.entries > 0 {
            // what it comes to is added once it is known whether it moved
            self.found.entries.push(EntryChange { before, after, place, twin: NONE, counted });
        }
    }
}

/// Whether an entry is what holds several roots.
fn is_above_roots(catalog: &Catalog, id: u32) -> bool {
    catalog.roots().len() > 1 && catalog.top() == Some(EntryId(id))
}

/// The name of an entry in its directory; of one of several roots its path.
fn name(catalog: &Catalog, id: u32) -> &[u8] {
    match catalog.own_name(EntryId(id)) {
        b"" => catalog.name(EntryId(id)).as_encoded_bytes(),
        name => name,
    }
}
