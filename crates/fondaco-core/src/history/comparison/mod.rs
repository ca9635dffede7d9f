//! Two moments of a place compared: what grew, shrank, came, went and moved.
//!
//! Takes a directory of each of two catalogs and gives a tree of the places in which something changed, each with exact
//! sums: the changes of what lies directly in a directory add up to the directory's own. For that an inode with several names
//! counts once, with the first of its names by path, so a directory may have less here than on 2 Directories. Entries are
//! paired by their names ([`pairing`]); what is missing in one place and new in another is then recognised by its inode or
//! by its length, time and name ([`moves`]).
//!
//! A lens chooses by what an entry is afterwards; what is gone, by what it was.

mod moves;
mod pairing;
mod slices;
mod sums;

use crate::catalog::{Catalog, EntryId, Seen};
use crate::lens::{Accounts, Lens};
use crate::units::Bytes;

pub use slices::{SliceChange, SliceChanges};
pub use sums::{Amount, Changes};

/// No entry, no place.
const NONE: u32 = u32::MAX;

/// Which bytes are compared.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Measure {
    /// The space that it takes on disk.
    #[default]
    Allocated,
    /// The length: the one to take where the two sides lie on file systems that store the same file in different ways.
    Apparent,
}

impl Measure {
    /// Bytes of an entry alone.
    fn of(self, catalog: &Catalog, id: EntryId) -> u64 {
        match self {
            Self::Allocated => catalog.own_allocated(id).get(),
            Self::Apparent => catalog.own_apparent(id).get(),
        }
    }
}

/// One side of a comparison: a directory of a scan, as far as a lens shows it.
#[derive(Clone, Copy, Debug)]
pub struct Side<'a> {
    /// The scan, as far as the lens shows it.
    pub seen: Seen<'a>,
    /// The directory of the scan that is compared with that of the other side.
    pub at: EntryId,
}

/// Number of a place in a [`Comparison`]; the compared directories themselves are number 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PlaceId(pub u32);

/// A directory in which something changed, on one side or on both.
#[derive(Clone, Copy, Debug)]
pub struct Place {
    parent: u32,
    before: u32,
    after: u32,
    /// The places directly in it follow each other.
    first_child: u32,
    children: u32,
    /// Its own entries among [`Comparison::entries`].
    first_entry: u32,
    entries: u32,
    /// Of a directory that moved: the place that it came from or went to.
    twin: u32,
    /// Bytes and names before, itself and all below it.
    pub was: Amount,
    /// Bytes and names afterwards.
    pub is: Amount,
    /// What made the difference.
    pub changes: Changes,
}

impl Place {
    /// The directory before, if it was there.
    pub fn before(&self) -> Option<EntryId> {
        entry(self.before)
    }

    /// The directory afterwards, if it is still there.
    pub fn after(&self) -> Option<EntryId> {
        entry(self.after)
    }

    /// The place that this directory moved from or to.
    pub fn twin(&self) -> Option<PlaceId> {
        (self.twin != NONE).then_some(PlaceId(self.twin))
    }

    /// What became of the directory itself.
    pub fn fate(&self) -> Fate {
        fate(self.before, self.after, self.twin)
    }
}

/// An entry that changed, came or went. One that moved is there twice: where it was, and where it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EntryChange {
    before: u32,
    after: u32,
    place: u32,
    /// The other half of one that moved.
    twin: u32,
    /// On which sides it counts for the bytes of its inode.
    counted: u8,
}

/// It is the name that counts for its inode before.
const COUNTED_BEFORE: u8 = 1;
/// It is the name that counts for its inode afterwards.
const COUNTED_AFTER: u8 = 2;
/// Its name belongs to another inode on the other side: the half before comes first, the half afterwards follows it.
const REPLACED: u8 = 4;

impl EntryChange {
    /// The entry before, if it was in this place.
    pub fn before(&self) -> Option<EntryId> {
        entry(self.before)
    }

    /// The entry afterwards, if it is in this place.
    pub fn after(&self) -> Option<EntryId> {
        entry(self.after)
    }

    /// What became of it in this place.
    pub fn fate(&self) -> Fate {
        fate(self.before, self.after, self.twin)
    }
}

/// What became of an entry in a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Fate {
    /// It was there and is there.
    Stayed,
    /// It was not there before, nor anywhere else.
    New,
    /// It is not there any more, nor anywhere else.
    Gone,
    /// It lay somewhere else before.
    MovedHere,
    /// It lies somewhere else now.
    MovedAway,
}

fn entry(number: u32) -> Option<EntryId> {
    (number != NONE).then_some(EntryId(number))
}

fn fate(before: u32, after: u32, twin: u32) -> Fate {
    match (before != NONE, after != NONE, twin != NONE) {
        (true, true, _) => Fate::Stayed,
        (false, _, false) => Fate::New,
        (true, false, false) => Fate::Gone,
        (false, _, true) => Fate::MovedHere,
        (true, false, true) => Fate::MovedAway,
    }
}

/// See the [module](self). It holds numbers of entries of both catalogs, which have to be given again where names are asked for.
#[derive(Clone, Debug)]
pub struct Comparison {
    measure: Measure,
    places: Vec<Place>,
    entries: Vec<EntryChange>,
}

/// Something in a place that changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChangedRow {
    /// A directory, with all that changed below it.
    Place(PlaceId),
    /// Anything else, or the directory's own blocks: its number among the entries of the comparison.
    Entry(u32),
}

/// Compares two directories.
pub fn compare(before: Side<'_>, after: Side<'_>, measure: Measure) -> Comparison {
    let mut found = pairing::pair(before, after, measure);
    moves::find(&mut found, before.seen.catalog(), after.seen.catalog());
    found.leave_out_what_a_lens_hides(before.seen, after.seen);
    sums::sum(found, (before.seen.catalog(), after.seen.catalog()), measure)
}

/// Compares a directory of a scan with one that is seen through a lens, if there is any: what is gone has to pass it too.
/// `accounts` are those by which the lens was read.
pub fn compare_through(
    lens: Option<&Lens>,
    accounts: &dyn Accounts,
    (catalog, at): (&Catalog, EntryId),
    after: Side<'_>,
    measure: Measure,
) -> Comparison {
    let chosen = lens.map(|lens| lens.select(catalog, accounts));
    compare(Side { seen: catalog.seen(chosen.as_ref()), at }, after, measure)
}

/// The directories of two scans that are one place: all that was scanned if that is the same, else what the one has of the other;
/// two places that have nothing to do with each other are compared as they are. Nothing if one of them is empty.
pub fn same_place(before: &Catalog, after: &Catalog) -> Option<(EntryId, EntryId)> {
    let tops = (before.top()?, after.top()?);
    let ([was], [is]) = (before.roots(), after.roots()) else { return Some(tops) };
    if was.path == is.path {
        return Some(tops);
    }
    let inside_after = after.find(&was.path).filter(|id| after.is_directory(*id));
    let inside_before = || before.find(&is.path).filter(|id| before.is_directory(*id));
    Some(match inside_after {
        Some(id) => (tops.0, id),
        None => inside_before().map_or(tops, |id| (id, tops.1)),
    })
}

/// All of two trees, wherever they lie: a snapshot or a copy may lie inside the tree that it is one of. Nothing if one of them
/// is empty.
pub fn as_they_are(before: &Catalog, after: &Catalog) -> Option<(EntryId, EntryId)> {
    Some((before.top()?, after.top()?))
}

impl Comparison {
    /// The rows that tell most of what happened, the largest first: instead of a directory in which nearly all is the change
    /// of one thing in it, that thing.
    pub fn telling(&self, count: usize, before: &Catalog, after: &Catalog) -> Vec<ChangedRow> {
        let size = |row: ChangedRow| {
            let changes = self.changes_of(row, before, after);
            (changes.more() + changes.fewer() + changes.moved_within.bytes).get()
        };
        let mut told: Vec<(u64, ChangedRow)> = Vec::new();
        let mut open: std::collections::BinaryHeap<(u64, PlaceId)> =
            std::collections::BinaryHeap::from([(u64::MAX, self.root())]);
        while let Some((whole, id)) = open.pop() {
            // nothing that is left can be among the first
            if told.len() >= count && told[count - 1].0 >= whole {
                break;
            }
            let rows: Vec<(u64, ChangedRow)> = self.rows(id).map(|row| (size(row), row)).collect();
            let largest = rows.iter().map(|(size, _)| *size).max().unwrap_or(0);
            let is_one = self.place(id).fate() == Fate::Stayed && largest >= whole / 5 * 4;
            if id != self.root() && !is_one {
                told.push((whole, ChangedRow::Place(id)));
                told.sort_by_key(|(size, _)| std::cmp::Reverse(*size));
                told.truncate(count);
                continue;
            }
            for (size, row) in rows.into_iter().filter(|(size, _)| *size > 0) {
                match row {
                    row if self.is_told_elsewhere(row) => {}
                    ChangedRow::Place(inside) => open.push((size, inside)),
                    ChangedRow::Entry(_) => told.push((size, row)),
                }
            }
            told.sort_by_key(|(size, _)| std::cmp::Reverse(*size));
            told.truncate(count);
        }
        told.into_iter().map(|(_, row)| row).collect()
    }

    /// Whether a row is the half of something that moved of which the other half is told: where it is now.
    fn is_told_elsewhere(&self, row: ChangedRow) -> bool {
        Fate::MovedAway
            == match row {
                ChangedRow::Place(id) => self.place(id).fate(),
                ChangedRow::Entry(number) => self.entry(number).fate(),
            }
    }

    /// Which bytes were compared.
    pub fn measure(&self) -> Measure {
        self.measure
    }

    /// The compared directories themselves.
    pub fn root(&self) -> PlaceId {
        PlaceId(0)
    }

    /// The place that has this number.
    pub fn place(&self, id: PlaceId) -> &Place {
        &self.places[id.0 as usize]
    }

    /// How many places something changed in.
    pub fn places(&self) -> usize {
        self.places.len()
    }

    /// An entry that changed, by its number.
    pub fn entry(&self, number: u32) -> &EntryChange {
        &self.entries[number as usize]
    }

    /// The place that holds another; nothing for the root.
    pub fn parent(&self, id: PlaceId) -> Option<PlaceId> {
        let parent = self.place(id).parent;
        (parent != NONE).then_some(PlaceId(parent))
    }

    /// What changed directly in a place: its directories, its other entries, and its own blocks if they did.
    pub fn rows(&self, id: PlaceId) -> impl Iterator<Item = ChangedRow> + use<> {
        let place = self.place(id);
        let places = place.first_child..place.first_child + place.children;
        let entries = place.first_entry..place.first_entry + place.entries;
        places.map(|n| ChangedRow::Place(PlaceId(n))).chain(entries.map(ChangedRow::Entry))
    }

    /// The sums of a row.
    pub fn changes_of(&self, row: ChangedRow, before: &Catalog, after: &Catalog) -> Changes {
        match row {
            ChangedRow::Place(id) => self.place(id).changes,
            ChangedRow::Entry(number) => {
                let (entry, twin) = (self.entry(number), self.twin_of(number));
                sums::of_entry(entry, twin, (before, after), self.measure)
            }
        }
    }

    /// Bytes before and afterwards of a row.
    pub fn amounts_of(&self, row: ChangedRow, before: &Catalog, after: &Catalog) -> [Bytes; 2] {
        match row {
            ChangedRow::Place(id) => [self.place(id).was.bytes, self.place(id).is.bytes],
            ChangedRow::Entry(number) => {
                let entry = self.entry(number);
                let was = sums::was(entry, before, self.measure);
                [was, sums::is(entry, after, self.measure)].map(Bytes::new)
            }
        }
    }

    /// The place that an entry is in.
    pub fn place_of(&self, number: u32) -> PlaceId {
        PlaceId(self.entry(number).place)
    }

    /// The other half of an entry that moved.
    pub fn twin_of(&self, number: u32) -> Option<&EntryChange> {
        let twin = self.entry(number).twin;
        (twin != NONE).then(|| self.entry(twin))
    }

    /// The place of a directory that is there afterwards; nothing if nothing changed in it.
    pub fn place_after(&self, id: EntryId, after: &Catalog) -> Option<PlaceId> {
        self.place_of_entry(id, after, Place::after)
    }

    /// The place of a directory that was there before; nothing if nothing changed in it.
    pub fn place_before(&self, id: EntryId, before: &Catalog) -> Option<PlaceId> {
        self.place_of_entry(id, before, Place::before)
    }

    fn place_of_entry(
        &self,
        id: EntryId,
        catalog: &Catalog,
        side: impl Fn(&Place) -> Option<EntryId>,
    ) -> Option<PlaceId> {
        // down from the root by the way that leads to it
        let root = side(self.place(self.root()))?;
        let mut way = Vec::new();
        let mut at = id;
        while at != root {
            way.push(at);
            at = catalog.parent(at)?;
        }
        way.iter().rev().try_fold(self.root(), |place, step| {
            let place = self.place(place);
            let mut inside = place.first_child..place.first_child + place.children;
            inside.find(|n| side(&self.places[*n as usize]) == Some(*step)).map(PlaceId)
        })
    }

    /// Bytes that a directory, or what lies directly in a place, has more or less than before, for entries that are there
    /// afterwards; nothing changed for all others.
    pub fn growth_in(
        &self,
        place: PlaceId,
        before: &Catalog,
        after: &Catalog,
    ) -> Vec<(EntryId, i64)> {
        let grown = |row| {
            let id = match row {
                ChangedRow::Place(id) => self.place(id).after()?,
                ChangedRow::Entry(number) => self.entry(number).after()?,
            };
            Some((id, self.changes_of(row, before, after).net()))
        };
        let own = self.place(place).after();
        self.rows(place).filter_map(grown).filter(|(id, _)| Some(*id) != own).collect()
    }
}
