//! Bytes by one property at a time: kind, extension, owner, group, family, depth, length of the name,
//! attributes.
//!
//! Every inode counts once, with its first name, and a directory with its own blocks, so that slices add up to
//! the directory's total; but for attributes, of which an entry may have several.

use std::cmp::Reverse;
use std::os::unix::ffi::OsStrExt;

use rustc_hash::FxHashMap;
use serde::Serialize;

use super::Cell;
use super::below::Below;
use super::by_name;
use crate::catalog::{
    AGE_BOUNDS, AGE_CLASSES, AgeProfile, Catalog, EntryId, InName, NO_FILE, Seen,
};
use crate::lens::{Attribute, Lens, Word};
use crate::naming::{Family, FileKind};
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
    /// All there are, in the order in which they help most to find what may go.
    pub const ALL: [Self; 8] = [
        Self::Kind,
        Self::Family,
        Self::Extension,
        Self::Owner,
        Self::Group,
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
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SliceKey {
    /// Their sort of contents.
    Kind(FileKind),
    /// The ending of files, in lower case; empty for none.
    Extension(Vec<u8>),
    /// Directories, links and special files, which have no ending.
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
    /// What has an attribute, such as being sparse.
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
    /// What they have in common.
    pub key: SliceKey,
    /// How many, each inode once, and their bytes on disk.
    pub sum: Cell,
    /// Those bytes by age of the last writing.
    pub profile: AgeProfile,
    /// The largest of them.
    pub largest: EntryId,
    /// Its bytes on disk.
    pub largest_allocated: Bytes,
}

/// See the [module](self).
#[derive(Clone, Debug, PartialEq)]
pub struct Breakdown {
    /// The property that slices are told apart by.
    pub by: BreakdownBy,
    /// Most bytes first, at most as many as were asked for.
    pub slices: Vec<Slice>,
    /// How many slices there are besides, and what they hold together.
    pub rest: (usize, Cell),
    /// All entries together.
    pub whole: Cell,
    /// What a lens needs in front of a slice's own term, where names of one inode are in several slices.
    first_names: String,
}

/// How many slices are kept unless more are asked for; the rest is summed.
pub const SLICES: usize = 10_000;

impl Breakdown {
    /// What has to be added to the lens for just a slice: an inode is in the slice of its first name, and may have
    /// other names that the slice's own term would choose.
    pub fn term(&self, slice: &Slice) -> String {
        format!("{}{}", self.first_names, slice.key.term())
    }

    /// Whether an entry may be in several slices, so that they do not add up.
    pub fn overlaps(&self) -> bool {
        self.by == BreakdownBy::Attribute
    }
}

#[derive(Clone, Copy)]
pub(super) struct Part {
    pub(super) sum: Cell,
    /// Bytes by age. Whole numbers: their sum is the same in whatever order they are added.
    profile: [u64; AGE_CLASSES],
    pub(super) largest: (Bytes, EntryId),
}

impl Part {
    pub(super) fn new(first: EntryId) -> Self {
        let largest = (Bytes::ZERO, first);
        Self { sum: Cell::default(), profile: [0; AGE_CLASSES], largest }
    }

    pub(super) fn add(&mut self, catalog: &Catalog, id: EntryId, allocated: Bytes, class: usize) {
        self.sum.entries += 1;
        self.sum.allocated += allocated;
        self.profile[class] = self.profile[class].saturating_add(allocated.get());
        self.take_larger(catalog, (allocated, id));
    }

    pub(super) fn join(&mut self, catalog: &Catalog, other: Self) {
        self.sum.add(other.sum);
        for (sum, more) in self.profile.iter_mut().zip(other.profile) {
            *sum = sum.saturating_add(more);
        }
        self.take_larger(catalog, other.largest);
    }

    /// Of equal ones the first by name and then by path: numbers of entries are others in each scan.
    fn take_larger(&mut self, catalog: &Catalog, (bytes, id): (Bytes, EntryId)) {
        let (most, largest) = self.largest;
        let order = || {
            let by_name = catalog.own_name(id).cmp(catalog.own_name(largest));
            by_name.then_with(|| catalog.compare_paths(id, largest))
        };
        if bytes > most || (bytes == most && order().is_lt()) {
            self.largest = (bytes, id);
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

/// For things without an attribute.
const NO_ATTRIBUTE: u64 = u64::MAX;

/// Sorts what is shown of a directory, itself included, by a property; tells at most [`SLICES`] slices apart.
pub fn breakdown(seen: Seen<'_>, at: EntryId, by: BreakdownBy) -> Breakdown {
    breakdown_in(seen, at, by, SLICES)
}

/// As [`breakdown`], with at most so many slices.
pub fn breakdown_in(seen: Seen<'_>, at: EntryId, by: BreakdownBy, most: usize) -> Breakdown {
    let catalog = seen.catalog();
    let below = Below::new(seen, at);
    let bounds = AGE_BOUNDS.map(|bound| catalog.now().sec.saturating_sub(bound.secs() as i64));
    let class = |id: EntryId| {
        let written = catalog.modified(id).sec;
        bounds.iter().filter(|bound| written <= **bound).count()
    };
    let first_names = first_names(seen, at, by);
    if matches!(by, BreakdownBy::Extension | BreakdownBy::Family) {
        let found = by_name::breakdown(catalog, &below, (by, most), &class);
        return Breakdown { first_names, ..found };
    }
    if by == BreakdownBy::Kind && below.is_most() {
        catalog.learn_kinds();
    }
    let found = below.fold(
        Found::default,
        |found, id| {
            let allocated = catalog.own_allocated(id);
            found.whole.add(Cell { entries: 1, allocated });
            put(found, catalog, by, id, allocated, class(id));
        },
        |found, more| {
            found.whole.add(more.whole);
            for (key, part) in more.numbers {
                let new = || Part::new(part.largest.1);
                found.numbers.entry(key).or_insert_with(new).join(catalog, part);
            }
        },
    );
    let parts = found.numbers.into_iter().map(|(key, part)| (key_of(by, key), part)).collect();
    Breakdown { first_names, ..in_order((by, most), parts, found.whole) }
}

/// The term of a lens that leaves each inode its first name, if names of one inode are in several slices.
fn first_names(seen: Seen<'_>, at: EntryId, by: BreakdownBy) -> String {
    if matches!(by, BreakdownBy::Owner | BreakdownBy::Group) {
        return String::new();
    }
    let catalog = seen.catalog();
    let is_top = catalog.top() == Some(at);
    let is_split = catalog.linked_entries().any(|mut names| {
        names.retain(|name| seen.has(*name) && (is_top || catalog.is_below(*name, at)));
        names.windows(2).any(|pair| !are_in_one_slice(catalog, by, pair[0], pair[1]))
    });
    match (is_split, is_top) {
        (false, _) => String::new(),
        (true, true) => "links:first ".to_owned(),
        (true, false) => {
            let below = catalog.path(at);
            format!("{} links:first ", Lens::write(Word::Under, below.as_os_str().as_bytes()))
        }
    }
}

/// Whether two names of one inode are filed in the same slice.
fn are_in_one_slice(catalog: &Catalog, by: BreakdownBy, a: EntryId, b: EntryId) -> bool {
    let (mut one, mut other) = (Vec::new(), Vec::new());
    let mut in_name =
        |what| catalog.in_name(what, a, &mut one) == catalog.in_name(what, b, &mut other);
    let name = |id| catalog.own_name(id);
    match by {
        BreakdownBy::Kind => catalog.file_kind(a) == catalog.file_kind(b),
        BreakdownBy::Extension => in_name(InName::Ending),
        BreakdownBy::Family => in_name(InName::Family),
        BreakdownBy::Owner | BreakdownBy::Group => true,
        BreakdownBy::Depth => catalog.depth(a) == catalog.depth(b),
        BreakdownBy::NameLength => {
            let class = |id| LENGTHS.iter().position(|(_, to)| name(id).len() as u32 <= *to);
            class(a) == class(b)
        }
        BreakdownBy::Attribute => name(a).starts_with(b".") == name(b).starts_with(b"."),
    }
}

/// What was found, most bytes first, as far as it is told apart.
pub(super) fn in_order(
    (by, most): (BreakdownBy, usize),
    parts: Vec<(SliceKey, Part)>,
    whole: Cell,
) -> Breakdown {
    let slice = |(key, part): (SliceKey, Part)| Slice {
        key,
        sum: part.sum,
        profile: part.profile.map(|bytes| bytes as f32),
        largest: part.largest.1,
        largest_allocated: part.largest.0,
    };
    let mut slices: Vec<Slice> = parts.into_iter().map(slice).collect();
    // equal ones in an order that is the same for every scan of the tree
    slices.sort_by(|a, b| rank(a.sum).cmp(&rank(b.sum)).then_with(|| a.key.cmp(&b.key)));
    let mut rest = (0, Cell::default());
    for slice in slices.drain(slices.len().min(most)..) {
        rest.0 += 1;
        rest.1.add(slice.sum);
    }
    Breakdown { by, slices, rest, whole, first_names: String::new() }
}

/// Most bytes first, then most entries.
fn rank(sum: Cell) -> (Reverse<Bytes>, Reverse<u64>) {
    (Reverse(sum.allocated), Reverse(sum.entries))
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
        let part = found.numbers.entry(key).or_insert_with(|| Part::new(id));
        part.add(catalog, id, allocated, class);
    };
    let name = catalog.own_name(id);
    match by {
        BreakdownBy::Kind => number(catalog.file_kind(id).number().into()),
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

/// The slice that an entry belongs to, without its attributes, of which it may have several.
pub fn slice_of(catalog: &Catalog, by: BreakdownBy, id: EntryId) -> SliceKey {
    let mut spare = Family::new();
    match by {
        BreakdownBy::Kind => SliceKey::Kind(catalog.file_kind(id)),
        BreakdownBy::Owner => SliceKey::Owner(catalog.owner(id).0),
        BreakdownBy::Group => SliceKey::Group(catalog.owner(id).1),
        BreakdownBy::Depth => SliceKey::Depth(catalog.depth(id)),
        BreakdownBy::NameLength => {
            let length = catalog.own_name(id).len() as u32;
            let class = LENGTHS.iter().position(|(_, to)| length <= *to).unwrap_or(5);
            SliceKey::NameLength(LENGTHS[class].0, LENGTHS[class].1)
        }
        BreakdownBy::Family => {
            SliceKey::Family(catalog.in_name(InName::Family, id, &mut spare).to_vec())
        }
        BreakdownBy::Extension => match catalog.in_name(InName::Ending, id, &mut spare) {
            NO_FILE => SliceKey::NoFile,
            ending => SliceKey::Extension(ending.to_vec()),
        },
        BreakdownBy::Attribute => SliceKey::NoAttribute,
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
