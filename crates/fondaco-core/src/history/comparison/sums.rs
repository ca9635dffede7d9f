//! Exact sums of a comparison.

use serde::Serialize;

use super::pairing::Paired;
use super::{COUNTED_AFTER, COUNTED_BEFORE, Comparison, EntryChange, Fate, Measure, NONE, Place};
use crate::catalog::Catalog;
use crate::units::Bytes;

/// Bytes and names.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Amount {
    /// How many names.
    pub entries: u64,
    /// Bytes of them.
    pub bytes: Bytes,
}

impl Amount {
    /// The amount of a single name that has so many bytes.
    pub(super) fn one(bytes: u64) -> Self {
        Self { entries: 1, bytes: Bytes::new(bytes) }
    }

    pub(super) fn add(&mut self, more: Self) {
        self.entries += more.entries;
        self.bytes += more.bytes;
    }

    fn take_away(&mut self, less: Self) {
        self.entries = self.entries.saturating_sub(less.entries);
        self.bytes = self.bytes.less(less.bytes);
    }
}

/// What made the difference between two moments of a place. What was there before, plus what came, less what went, is what is
/// there afterwards.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Changes {
    /// What stayed and has more bytes: by so many.
    pub grown: Amount,
    /// What stayed and has fewer bytes: by so many.
    pub shrunk: Amount,
    /// What was nowhere before.
    pub new: Amount,
    /// What is nowhere any more.
    pub gone: Amount,
    /// What came from outside this place.
    pub moved_in: Amount,
    /// What went to somewhere else.
    pub moved_out: Amount,
    /// What moved from one directory below this place to another, and so makes no difference.
    pub moved_within: Amount,
}

impl Changes {
    /// Bytes that came.
    pub fn more(&self) -> Bytes {
        self.grown.bytes + self.new.bytes + self.moved_in.bytes
    }

    /// Bytes that went.
    pub fn fewer(&self) -> Bytes {
        self.shrunk.bytes + self.gone.bytes + self.moved_out.bytes
    }

    /// The difference in bytes.
    pub fn net(&self) -> i64 {
        self.more().get().wrapping_sub(self.fewer().get()) as i64
    }

    /// The difference in names.
    pub fn net_entries(&self) -> i64 {
        let came = self.new.entries + self.moved_in.entries;
        came.wrapping_sub(self.gone.entries + self.moved_out.entries) as i64
    }

    /// Whether nothing changed.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    /// The parts that there are, with their words.
    pub fn named(&self) -> impl Iterator<Item = (&'static str, Amount)> + use<> {
        let all = [
            ("new", self.new),
            ("grown", self.grown),
            ("gone", self.gone),
            ("shrunk", self.shrunk),
            ("moved in", self.moved_in),
            ("moved out", self.moved_out),
            ("moved within", self.moved_within),
        ];
        all.into_iter().filter(|(_, amount)| *amount != Amount::default())
    }

    /// Takes more into the sums.
    pub fn add(&mut self, more: &Self) {
        for (sum, more) in self.parts_mut().into_iter().zip(more.parts()) {
            sum.add(more);
        }
    }

    /// Takes what moved within it out of what came and what went: both halves are in them.
    pub(super) fn without_moves_within(mut self) -> Self {
        self.moved_in.take_away(self.moved_within);
        self.moved_out.take_away(self.moved_within);
        self
    }

    fn parts(&self) -> [Amount; 7] {
        let Self { grown, shrunk, new, gone, moved_in, moved_out, moved_within } = *self;
        [grown, shrunk, new, gone, moved_in, moved_out, moved_within]
    }

    fn parts_mut(&mut self) -> [&mut Amount; 7] {
        let Self { grown, shrunk, new, gone, moved_in, moved_out, moved_within } = self;
        [grown, shrunk, new, gone, moved_in, moved_out, moved_within]
    }

    /// Puts something that stayed, or has come, where it belongs.
    pub(super) fn put_difference(&mut self, was: u64, is: u64) {
        match is > was {
            true => self.grown.add(Amount::one(is - was)),
            false if is < was => self.shrunk.add(Amount::one(was - is)),
            false => {}
        }
    }
}

/// Bytes of an entry before; none if it was not there, or is a further name of its inode.
pub(super) fn was(entry: &EntryChange, before: &Catalog, measure: Measure) -> u64 {
    let counted = entry.before().filter(|_| entry.counted & COUNTED_BEFORE != 0);
    counted.map_or(0, |id| measure.of(before, id))
}

/// Bytes of an entry afterwards.
pub(super) fn is(entry: &EntryChange, after: &Catalog, measure: Measure) -> u64 {
    let counted = entry.after().filter(|_| entry.counted & COUNTED_AFTER != 0);
    counted.map_or(0, |id| measure.of(after, id))
}

/// The sums of one entry in its place.
pub(super) fn of_entry(
    entry: &EntryChange,
    twin: Option<&EntryChange>,
    (before, after): (&Catalog, &Catalog),
    measure: Measure,
) -> Changes {
    let was = |entry: &EntryChange| was(entry, before, measure);
    let is = is(entry, after, measure);
    let mut changes = Changes::default();
    match entry.fate() {
        Fate::Stayed => changes.put_difference(was(entry), is),
        Fate::New => changes.new = Amount::one(is),
        Fate::Gone => changes.gone = Amount::one(was(entry)),
        Fate::MovedAway => changes.moved_out = Amount::one(was(entry)),
        Fate::MovedHere => {
            let there = twin.map_or(0, was);
            changes.moved_in = Amount::one(there);
            changes.put_difference(there, is);
        }
    }
    changes
}

/// Adds everything up, and leaves out places in which nothing changed.
pub(super) fn sum(found: Paired, both: (&Catalog, &Catalog), measure: Measure) -> Comparison {
    let Paired { mut places, entries } = found;
    let mut wanted = vec![false; places.len()];
    for entry in &entries {
        let twin = (entry.twin != NONE).then(|| &entries[entry.twin as usize]);
        let changes = of_entry(entry, twin, both, measure);
        let place = &mut places[entry.place as usize];
        place.changes.add(&changes);
        if entry.before != NONE {
            place.was.add(Amount::one(was(entry, both.0, measure)));
        }
        if entry.after != NONE {
            place.is.add(Amount::one(is(entry, both.1, measure)));
        }
        wanted[entry.place as usize] = true;
        if let (Fate::MovedHere, Some(twin)) = (entry.fate(), twin) {
            let above = nearest_above_both(&places, entry.place, twin.place);
            places[above as usize].changes.moved_within.add(changes.moved_in);
        }
    }
    for number in (1..places.len()).rev() {
        let Place { parent, was, is, changes, .. } = places[number];
        let above = &mut places[parent as usize];
        above.was.add(was);
        above.is.add(is);
        above.changes.add(&changes);
        wanted[parent as usize] |= wanted[number];
    }
    for place in &mut places {
        place.changes = place.changes.without_moves_within();
    }
    narrow(places, &wanted, &entries, measure)
}

/// The deepest place that holds both.
fn nearest_above_both(places: &[Place], mut a: u32, mut b: u32) -> u32 {
    // what lies in a place has a higher number
    while a != b {
        match a > b {
            true => a = places[a as usize].parent,
            false => b = places[b as usize].parent,
        }
    }
    a
}

/// Leaves out places in which nothing changed, and puts the entries in the order of places.
fn narrow(
    places: Vec<Place>,
    wanted: &[bool],
    entries: &[EntryChange],
    measure: Measure,
) -> Comparison {
    let mut numbers = vec![NONE; places.len()];
    let mut kept: Vec<Place> = Vec::new();
    for (number, mut place) in places.into_iter().enumerate() {
        if number > 0 && !wanted[number] {
            continue;
        }
        numbers[number] = kept.len() as u32;
        (place.first_child, place.children) = (0, 0);
        if number > 0 {
            place.parent = numbers[place.parent as usize];
            let (at, above) = (kept.len() as u32, &mut kept[place.parent as usize]);
            if above.children == 0 {
                above.first_child = at;
            }
            above.children += 1;
        }
        kept.push(place);
    }
    for place in &mut kept {
        if place.twin != NONE {
            place.twin = numbers[place.twin as usize];
        }
    }
    // by counting, since there may be as many as there are entries
    let place_of = |entry: &EntryChange| numbers[entry.place as usize];
    for entry in entries {
        kept[place_of(entry) as usize].entries += 1;
    }
    let mut next = 0;
    for place in &mut kept {
        place.first_entry = next;
        next += place.entries;
    }
    let mut free: Vec<u32> = kept.iter().map(|place| place.first_entry).collect();
    let mut moved_to = vec![NONE; entries.len()];
    let nothing = EntryChange { before: NONE, after: NONE, place: NONE, twin: NONE, counted: 0 };
    let mut sorted = vec![nothing; next as usize];
    for (number, entry) in entries.iter().enumerate() {
        let slot = &mut free[place_of(entry) as usize];
        moved_to[number] = *slot;
        sorted[*slot as usize] = EntryChange { place: place_of(entry), ..*entry };
        *slot += 1;
    }
    for entry in sorted.iter_mut().filter(|entry| entry.twin != NONE) {
        entry.twin = moved_to[entry.twin as usize];
    }
    Comparison { measure, places: kept, entries: sorted }
}
