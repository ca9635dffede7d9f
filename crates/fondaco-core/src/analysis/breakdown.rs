//! Bytes by one property at a time: kind, extension, owner, group, family, depth, length of the name,
//! attributes.
//!
//! Every inode counts once, with its first name, and a directory with its own blocks, so that slices add up to
//! the directory's total; but for attributes, of which an entry may have several.

use std::cmp::Reverse;

use ahash::RandomState;
use rustc_hash::FxHashMap;
use serde::Serialize;

use super::Cell;
use super::below::Below;
use crate::catalog::{AGE_BOUNDS, AgeProfile, Catalog, EntryId, Seen};
use crate::kernel::Kind;
use crate::lens::{Attribute, Lens, Word, kind_of};
use crate::naming::{FileKind, extension, write_family};
use crate::units::Bytes;

/// The property that entries are told apart by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)] // each is its own word
pub enum BreakdownBy {
    #[default]
    Kind,
    Extension,
    Owner,
    Group,
    Family,
    Depth,
    NameLength,
    Attribute,
}

impl BreakdownBy {
    /// All there are.
    pub const ALL: [Self; 8] = [
        Self::Kind,
        Self::Extension,
        Self::Owner,
        Self::Group,
        Self::Family,
        Self::Depth,
        Self::NameLength,
        Self::Attribute,
    ];

    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Kind => "kind",
            Self::Extension => "extension",
            Self::Owner => "owner",
            Self::Group => "group",
            Self::Family => "family",
            Self::Depth => "depth",
            Self::NameLength => "length of name",
            Self::Attribute => "attribute",
        }
    }
}

/// What the entries of one slice have in common.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum SliceKey {
    /// Their sort of contents.
    Kind(FileKind),
    /// The ending of files, in lower case; empty for none.
    Extension(Vec<u8>),
    /// They are no files, and so have no ending.
    NoFile,
    /// A user's number.
    Owner(u32),
    /// A group's number.
    Group(u32),
    /// The family, or the name itself if it is of none.
    Family(Vec<u8>),
    /// Levels below the root of the scan.
    Depth(u32),
    /// Bytes in the name, from and to.
    NameLength(u32, u32),
    /// An attribute.
    Attribute(Attribute),
    /// None of the attributes.
    NoAttribute,
}

impl SliceKey {
    /// The term of a lens that lets just these entries through.
    pub fn term(&self) -> String {
        let number = |word, number: &dyn ToString| Lens::write(word, number.to_string().as_bytes());
        match self {
            Self::Kind(kind) => Lens::write(Word::Kind, kind.word().as_bytes()),
            Self::Extension(ending) => Lens::write(Word::Ext, ending),
            Self::NoFile => "kind:directory,link,special".to_owned(),
            Self::Owner(user) => number(Word::Owner, user),
            Self::Group(group) => number(Word::Group, group),
            Self::Family(family) => Lens::write(Word::Family, family),
            Self::Depth(depth) => number(Word::Depth, depth),
            Self::NameLength(from, to) => format!("length:{from}-{to}"),
            Self::Attribute(attribute) => Lens::write(Word::Is, attribute.word().as_bytes()),
            Self::NoAttribute => {
                let words = Attribute::ALL.map(|attribute| format!("not is:{}", attribute.word()));
                words.join(" ")
            }
        }
    }
}

/// Entries that have something in common.
#[derive(Clone, Debug, PartialEq)]
pub struct Slice {
    /// What.
    pub key: SliceKey,
    /// How many, each inode once, and their bytes on disk.
    pub sum: Cell,
    /// Those bytes by age of the last writing.
    pub profile: AgeProfile,
    /// The largest of them.
    pub largest: EntryId,
}

/// See the [module](self).
#[derive(Clone, Debug, PartialEq)]
pub struct Breakdown {
    /// By what.
    pub by: BreakdownBy,
    /// Most bytes first, at most [`SLICES`].
    pub slices: Vec<Slice>,
    /// How many slices there are besides, and what they hold together.
    pub rest: (usize, Cell),
    /// All entries together.
    pub whole: Cell,
}

/// More slices are not told apart: nobody looks at them one by one.
pub const SLICES: usize = 10_000;

impl Breakdown {
    /// Whether an entry may be in several slices, so that they do not add up.
    pub fn overlaps(&self) -> bool {
        self.by == BreakdownBy::Attribute
    }
}

#[derive(Clone, Copy)]
struct Part {
    sum: Cell,
    profile: AgeProfile,
    largest: (Bytes, EntryId),
}

impl Part {
    fn new(first: EntryId) -> Self {
        let largest = (Bytes::ZERO, first);
        Self { sum: Cell::default(), profile: AgeProfile::default(), largest }
    }

    fn add(&mut self, id: EntryId, allocated: Bytes, class: usize) {
        self.sum.entries += 1;
        self.sum.allocated += allocated;
        self.profile[class] += allocated.get() as f32;
        if allocated > self.largest.0 {
            self.largest = (allocated, id);
        }
    }

    fn join(&mut self, other: Self) {
        self.sum.add(other.sum);
        self.profile.iter_mut().zip(other.profile).for_each(|(sum, more)| *sum += more);
        if other.largest.0 > self.largest.0 {
            self.largest = other.largest;
        }
    }
}

/// What is found by one thread.
#[derive(Default)]
struct Found {
    numbers: FxHashMap<u64, Part>,
    whole: Cell,
}

/// Names longer than this are told apart by classes.
const LENGTHS: [(u32, u32); 6] = [(0, 8), (9, 16), (17, 32), (33, 64), (65, 128), (129, 255)];

/// For things that are no file, among endings.
const NO_FILE: u64 = 0;
/// For things without an attribute.
const NO_ATTRIBUTE: u64 = u64::MAX;

/// Sorts what is shown of a directory, itself included, by a property.
pub fn breakdown(seen: Seen<'_>, at: EntryId, by: BreakdownBy) -> Breakdown {
    let catalog = seen.catalog();
    let below = Below::new(seen, at);
    let bounds = AGE_BOUNDS.map(|bound| catalog.now().sec.saturating_sub(bound.secs() as i64));
    let class = |id: EntryId| {
        let written = catalog.modified(id).sec;
        bounds.iter().filter(|bound| written <= **bound).count()
    };
    if matches!(by, BreakdownBy::Extension | BreakdownBy::Family) {
        return by_names(catalog, &below, by, &class);
    }
    let found = below.fold(
        Found::default,
        |found, id, allocated| {
            found.whole.add(Cell { entries: 1, allocated });
            put(found, catalog, by, id, allocated, class(id));
        },
        |found, more| {
            found.whole.add(more.whole);
            for (key, part) in more.numbers {
                let new = || Part::new(part.largest.1);
                found.numbers.entry(key).or_insert_with(new).join(part);
            }
        },
    );
    let parts = found.numbers.into_iter().map(|(key, part)| (key_of(by, key), part)).collect();
    in_order(by, parts, found.whole)
}

fn in_order(by: BreakdownBy, parts: Vec<(SliceKey, Part)>, whole: Cell) -> Breakdown {
    let slice = |(key, part): (SliceKey, Part)| Slice {
        key,
        sum: part.sum,
        profile: part.profile,
        largest: part.largest.1,
    };
    let mut slices: Vec<Slice> = parts.into_iter().map(slice).collect();
    // equal ones in an order that does not change
    slices.sort_by_key(|slice| rank(slice.sum, slice.largest));
    let mut rest = (0, Cell::default());
    for slice in slices.drain(slices.len().min(SLICES)..) {
        rest.0 += 1;
        rest.1.add(slice.sum);
    }
    Breakdown { by, slices, rest, whole }
}

fn rank(sum: Cell, largest: EntryId) -> (Reverse<Bytes>, Reverse<u64>, EntryId) {
    (Reverse(sum.allocated), Reverse(sum.entries), largest)
}

/// A name may be that of each entry alone: in a first pass only little is kept of each, told apart by a hash of
/// 64 bits with keys that nobody knows, and in a second the rest for those that are listed. That two of a million
/// names have the same hash comes about once in thirty million times.
fn by_names(
    catalog: &Catalog,
    below: &Below<'_>,
    by: BreakdownBy,
    class: &(impl Fn(EntryId) -> usize + Sync),
) -> Breakdown {
    let hasher = RandomState::new();
    let hash = |id: EntryId, spare: &mut Vec<u8>| -> u64 {
        if by == BreakdownBy::Extension && catalog.kind(id) != Kind::File {
            return NO_FILE;
        }
        write_key(by, catalog.own_name(id), spare);
        hasher.hash_one(&**spare)
    };
    type Little = FxHashMap<u64, (Cell, EntryId)>;
    let larger = |a: EntryId, b: EntryId| {
        let bytes = |id| Reverse(catalog.own_allocated(id));
        if (bytes(b), b) < (bytes(a), a) { b } else { a }
    };
    let (found, whole, _) = below.fold(
        || (Little::default(), Cell::default(), Vec::new()),
        |(found, whole, spare), id, allocated| {
            let one = Cell { entries: 1, allocated };
            whole.add(one);
            let part = found.entry(hash(id, spare)).or_insert((Cell::default(), id));
            part.0.add(one);
            part.1 = larger(part.1, id);
        },
        |(found, whole, _), (more, sum, _)| {
            whole.add(sum);
            found.reserve(more.len() / 2);
            for (key, (sum, largest)) in more {
                let part = found.entry(key).or_insert((Cell::default(), largest));
                part.0.add(sum);
                part.1 = larger(part.1, largest);
            }
        },
    );
    let mut all: Vec<(u64, Cell, EntryId)> =
        found.into_iter().map(|(key, (sum, largest))| (key, sum, largest)).collect();
    let by_rank = |(_, sum, largest): &(u64, Cell, EntryId)| rank(*sum, *largest);
    let listed = all.len().min(SLICES);
    if listed < all.len() {
        all.select_nth_unstable_by_key(listed, by_rank);
    }
    let rest = all[listed..].iter().fold(Cell::default(), |mut rest, (_, sum, _)| {
        rest.add(*sum);
        rest
    });
    let more = all.len() - listed;
    all.truncate(listed);
    all.sort_by_key(by_rank);
    let places: FxHashMap<u64, usize> =
        all.iter().enumerate().map(|(place, (key, ..))| (*key, place)).collect();
    let (profiles, _) = below.fold(
        || (vec![AgeProfile::default(); listed], Vec::new()),
        |(profiles, spare), id, allocated| {
            if let Some(place) = places.get(&hash(id, spare)) {
                profiles[*place][class(id)] += allocated.get() as f32;
            }
        },
        |(profiles, _), (more, _)| {
            for (sum, more) in profiles.iter_mut().zip(more) {
                sum.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
            }
        },
    );
    let mut spare = Vec::new();
    let slices = all.into_iter().zip(profiles).map(|((key, sum, largest), profile)| {
        write_key(by, catalog.own_name(largest), &mut spare);
        let key = match (key == NO_FILE, by) {
            (true, _) => SliceKey::NoFile,
            (false, BreakdownBy::Family) => SliceKey::Family(spare.clone()),
            (false, _) => SliceKey::Extension(spare.clone()),
        };
        Slice { key, sum, profile, largest }
    });
    Breakdown { by, slices: slices.collect(), rest: (more, rest), whole }
}

/// The ending or the family of a name.
fn write_key(by: BreakdownBy, name: &[u8], key: &mut Vec<u8>) {
    if by == BreakdownBy::Extension {
        key.clear();
        key.extend(extension(name).iter().map(u8::to_ascii_lowercase));
    } else if !write_family(name, key) {
        key.clear();
        key.extend_from_slice(name);
    }
}

fn put(
    found: &mut Found,
    catalog: &Catalog,
    by: BreakdownBy,
    id: EntryId,
    allocated: Bytes,
    class: usize,
) {
    let mut number = |key: u64| {
        found.numbers.entry(key).or_insert_with(|| Part::new(id)).add(id, allocated, class);
    };
    let name = catalog.own_name(id);
    match by {
        BreakdownBy::Kind => number(kind_of(catalog, id).number().into()),
        BreakdownBy::Owner => number(catalog.owner(id).0.into()),
        BreakdownBy::Group => number(catalog.owner(id).1.into()),
        BreakdownBy::Depth => number(catalog.depth(id).into()),
        BreakdownBy::NameLength => {
            let length = name.len() as u32;
            number(LENGTHS.iter().position(|(_, to)| length <= *to).unwrap_or(5) as u64);
        }
        BreakdownBy::Attribute => {
            let mut none = true;
            for (place, attribute) in Attribute::ALL.into_iter().enumerate() {
                if attribute.holds(catalog, id) {
                    none = false;
                    number(place as u64);
                }
            }
            if none {
                number(NO_ATTRIBUTE);
            }
        }
        // these are told apart by names
        BreakdownBy::Extension | BreakdownBy::Family => {}
    }
}

fn key_of(by: BreakdownBy, key: u64) -> SliceKey {
    match by {
        BreakdownBy::Kind => SliceKey::Kind(FileKind::of_number(key as u8)),
        BreakdownBy::Owner => SliceKey::Owner(key as u32),
        BreakdownBy::Group => SliceKey::Group(key as u32),
        BreakdownBy::Depth => SliceKey::Depth(key as u32),
        BreakdownBy::NameLength => {
            let (from, to) = LENGTHS[(key as usize).min(LENGTHS.len() - 1)];
            SliceKey::NameLength(from, to)
        }
        BreakdownBy::Attribute => match Attribute::ALL.get(key as usize) {
            Some(attribute) => SliceKey::Attribute(*attribute),
            None => SliceKey::NoAttribute,
        },
        BreakdownBy::Extension | BreakdownBy::Family => SliceKey::NoFile,
    }
}
