//! The result of a scan: every entry once, in arrays, with totals for every directory.
//!
//! Takes batches from the walk ([`Batch`], of one directory or some), gives totals, paths and rankings.
//! Entries are numbered in the order they came; a directory's children are contiguous and come
//! after the directory itself, so that totals are made bottom up by going backwards once.
//! It knows only what the scan saw and never asks the system.
//!
//! **Links.** An inode with several names counts once in every directory that holds any of them,
//! and is *exclusive* only where all of its names lie (`totals`).

mod append;
mod batch;
mod closer;
mod columns;
mod excluded;
mod finder;
mod keys;
mod learned;
mod mend;
mod order;
mod origin;
mod ranking;
mod scanned;
mod seen;
mod shared;
mod totals;

use std::ffi::OsStr;
use std::ops::Range;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

pub use append::Full;
pub use batch::Batch;
pub use closer::Closer;
pub use columns::{Columns, FromRows, LinkedTable, Malformed, RowOrder, ScanFacts};
pub use excluded::ExcludedSums;
pub use finder::Finder;
pub(crate) use keys::{HashedKeys, Keys};
pub(crate) use learned::{InName, NO_FILE};
pub use mend::Changes;
pub use origin::{Elsewhere, ListedStore, Origin, ScannedVolume};
pub use ranking::{Order, Ranking, Tail};
pub use scanned::ScannedEntry;
pub use seen::{Chosen, Seen, Selection};
pub use shared::write_between_readers;

use excluded::Excluded;
use rustc_hash::FxHashMap;

use crate::kernel::{Kind, Op};
use crate::naming::FileKind;
use crate::units::{Age, Bytes, Time};

/// The number of an entry in its catalog.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct EntryId(pub u32);

/// No entry, no directory.
const NONE: u32 = u32::MAX;

/// Few entries lie deeper.
const USUAL_DEPTH: usize = 16;

/// How many classes an [`AgeProfile`] has.
pub const AGE_CLASSES: usize = 8;

/// The upper bounds of the classes of an [`AgeProfile`] but the last, newest first.
pub const AGE_BOUNDS: [Age; AGE_CLASSES - 1] = [
    Age::days(1),
    Age::days(7),
    Age::days(30),
    Age::days(90),
    Age::days(365),
    Age::days(2 * 365),
    Age::days(4 * 365),
];

/// Allocated bytes by age of the last writing, newest first. Single precision: it is for looking at.
pub type AgeProfile = [f32; AGE_CLASSES];

/// A place that a scan could not read, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unreadable {
    /// The path that could not be read.
    pub path: PathBuf,
    /// What was tried.
    pub op: Op,
    /// The kernel's words.
    pub error: String,
    /// Its number for it (`errno(3)`), 0 if it came from elsewhere.
    pub errno: i32,
}

/// How far one directory has been read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// Not yet, or the scan was stopped before it was.
    NotYet,
    /// The directory was read to its end.
    Done,
    /// Not, or not wholly: it is among [`Catalog::unreadable`].
    Failed,
    /// It is the root of another volume, which was not entered.
    OtherVolume,
}

/// What is summed for one directory, itself and all below it.
#[derive(Clone, Debug)]
struct Directory {
    entry: u32,
    first_child: u32,
    children: u32,
    entries: u32,
    own_blocks: u64,
    allocated: u64,
    apparent: u64,
    exclusive: u64,
    /// Bytes on disk of the largest single thing below that is no directory.
    largest: u64,
    newest: u32,
    device: u16,
    reading: Reading,
    profile: AgeProfile,
}

/// The names of one inode that has several.
#[derive(Clone, Debug)]
struct LinkedInode {
    links: u32,
    names: Vec<u32>,
}

/// One place a scan began.
#[derive(Clone, Debug)]
pub struct Root {
    /// Its path, with no link in it.
    pub path: PathBuf,
    /// The root's entry in the catalog.
    pub entry: EntryId,
}

/// How many entries of each kind there are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct KindCounts {
    /// How many regular files there are.
    pub files: u64,
    /// How many directories there are.
    pub directories: u64,
    /// How many symbolic links there are.
    pub links: u64,
    /// Sockets, FIFOs and devices.
    pub special: u64,
}

/// See the [module](self).
#[derive(Debug)]
pub struct Catalog {
    now: Time,
    scale: AgeScale,
    parent: Vec<u32>,
    name_at: Vec<u32>,
    /// Blocks of 512 bytes, or [`append::HUGE`]; of a directory, its place in `directories`.
    blocks: Vec<u32>,
    huge: FxHashMap<u32, u64>,
    size: Vec<u64>,
    inode: Vec<u64>,
    mtime: Vec<u32>,
    atime: Vec<u32>,
    ctime: Vec<u32>,
    owner: Vec<u32>,
    /// `st_mode` with its type bits (`inode(7)`).
    mode: Vec<u16>,
    names: Vec<u8>,
    directories: Vec<Directory>,
    devices: Vec<u64>,
    owners: Vec<(u32, u32)>,
    owner_numbers: FxHashMap<(u32, u32), u32>,
    recent_owner: u32,
    linked: FxHashMap<(u64, u64), LinkedInode>,
    roots: Vec<Root>,
    /// What stands above several roots: a directory that is nowhere, and holds just them.
    top: Option<EntryId>,
    unreadable: Vec<Unreadable>,
    excluded: Excluded,
    closer: Option<Closer>,
    families: OnceLock<Keys>,
    endings: OnceLock<Keys>,
    kinds: OnceLock<Box<[FileKind]>>,
    origin: Origin,
    /// Times of change and of reading are known to the day.
    times_by_day: bool,
    complete: bool,
    finished: bool,
}

impl Catalog {
    /// An empty catalog; ages are counted from `now`.
    pub fn new(now: Time) -> Self {
        Self {
            now,
            scale: AgeScale::new(now),
            parent: Vec::new(),
            name_at: Vec::new(),
            blocks: Vec::new(),
            huge: FxHashMap::default(),
            size: Vec::new(),
            inode: Vec::new(),
            mtime: Vec::new(),
            atime: Vec::new(),
            ctime: Vec::new(),
            owner: Vec::new(),
            mode: Vec::new(),
            names: Vec::new(),
            directories: Vec::new(),
            devices: Vec::new(),
            owners: Vec::new(),
            owner_numbers: FxHashMap::default(),
            recent_owner: 0,
            linked: FxHashMap::default(),
            roots: Vec::new(),
            top: None,
            unreadable: Vec::new(),
            excluded: Excluded::default(),
            closer: None,
            families: OnceLock::new(),
            endings: OnceLock::new(),
            kinds: OnceLock::new(),
            origin: Origin::default(),
            times_by_day: false,
            complete: false,
            finished: false,
        }
    }

    /// The moment that ages are counted from: when the scan began.
    pub fn now(&self) -> Time {
        self.now
    }

    /// Whether the scan went to its end; places that could not be read do not speak against that.
    pub fn is_complete(&self) -> bool {
        self.complete
    }

    /// Whether it has been finished: nothing more is added.
    pub fn is_finished(&self) -> bool {
        self.finished
    }

    /// Entries so far.
    pub fn len(&self) -> usize {
        self.parent.len()
    }

    /// Whether there is no entry.
    pub fn is_empty(&self) -> bool {
        self.parent.is_empty()
    }

    /// Where the scan began, in the order asked for.
    pub fn roots(&self) -> &[Root] {
        &self.roots
    }

    /// Where a walk through it begins: the root, or where there are several, what holds them. That has
    /// no path.
    pub fn top(&self) -> Option<EntryId> {
        self.top.or_else(|| self.roots.first().map(|root| root.entry))
    }

    /// Whether a scan began there.
    pub fn is_root(&self, id: EntryId) -> bool {
        self.root_at(id).is_some()
    }

    /// The root that an entry is, if it is one.
    fn root_at(&self, id: EntryId) -> Option<&Root> {
        self.roots.iter().find(|root| root.entry == id)
    }

    /// What could not be read.
    pub fn unreadable(&self) -> &[Unreadable] {
        &self.unreadable
    }

    /// Keeps one more place that could not be read.
    pub fn note_unreadable(&mut self, place: Unreadable) {
        self.unreadable.push(place);
    }

    /// The directory that holds the entry; none for a root, but several have one in common.
    pub fn parent(&self, id: EntryId) -> Option<EntryId> {
        let parent = self.parent[id.0 as usize];
        (parent != NONE).then_some(EntryId(parent))
    }

    /// The entry's name; a root has its whole path.
    pub fn name(&self, id: EntryId) -> &OsStr {
        match self.root_at(id) {
            Some(root) => root.path.as_os_str(),
            None => OsStr::from_bytes(self.name_bytes(id)),
        }
    }

    /// The entry's own name; of a root nothing, for that has a path.
    pub fn own_name(&self, id: EntryId) -> &[u8] {
        self.name_bytes(id)
    }

    fn name_bytes(&self, id: EntryId) -> &[u8] {
        let at = self.name_at[id.0 as usize] as usize;
        &self.names[at + 1..at + 1 + usize::from(self.names[at])]
    }

    /// The entry's whole path; nothing for what holds several roots.
    pub fn path(&self, id: EntryId) -> PathBuf {
        let mut names = Vec::with_capacity(USUAL_DEPTH);
        let mut at = Some(id);
        while let Some(id) = at {
            names.push(self.name(id));
            at = if self.is_root(id) { None } else { self.parent(id) };
        }
        let mut path = PathBuf::with_capacity(names.iter().map(|name| name.len() + 1).sum());
        path.extend(names.iter().rev());
        path
    }

    /// The entry's path as seen from its root; nothing for the root itself.
    pub fn path_below_root(&self, id: EntryId) -> PathBuf {
        let mut names = Vec::new();
        let mut at = id;
        while !self.is_root(at)
            && let Some(parent) = self.parent(at)
        {
            names.push(OsStr::from_bytes(self.name_bytes(at)));
            at = parent;
        }
        names.iter().rev().collect()
    }

    /// Whether an entry is a directory, or lies below it.
    pub fn is_below(&self, id: EntryId, directory: EntryId) -> bool {
        std::iter::successors(Some(id), |id| self.parent(*id)).any(|at| at == directory)
    }

    /// How many levels the entry lies below its root.
    pub fn depth(&self, id: EntryId) -> u32 {
        let (mut depth, mut at) = (0, id);
        while !self.is_root(at)
            && let Some(parent) = self.parent(at)
        {
            (depth, at) = (depth + 1, parent);
        }
        depth
    }

    /// Whether a directory was wholly read and has nothing in it.
    pub fn is_known_empty(&self, id: EntryId) -> bool {
        self.row(id).is_some_and(|row| row.children == 0 && row.reading == Reading::Done)
    }

    /// Every pair of owner and group that an entry has.
    pub fn owner_pairs(&self) -> &[(u32, u32)] {
        &self.owners
    }

    /// How many names the inode has, for every entry of one that has several.
    pub fn link_counts(&self) -> FxHashMap<u32, u32> {
        let counts = self
            .linked
            .values()
            .flat_map(|inode| inode.names.iter().map(|name| (*name, inode.links)));
        counts.collect()
    }

    /// The names of an entry's inode that the scan met, itself included, and how many it has in all.
    pub fn names_of_inode(&self, id: EntryId) -> Option<(Vec<EntryId>, u32)> {
        let inode =
            self.linked.get(&self.device_and_inode(id)).filter(|_| self.is_multi_linked(id))?;
        Some((inode.names.iter().map(|name| EntryId(*name)).collect(), inode.links))
    }

    /// What a closer look at every entry has shown, if there was one.
    pub fn closer(&self) -> Option<&Closer> {
        self.closer.as_ref()
    }

    /// Keeps what a closer look has shown.
    pub fn set_closer(&mut self, closer: Closer) {
        self.closer = Some(closer);
    }

    /// The entry at a path, if the scan met it.
    pub fn find(&self, path: &Path) -> Option<EntryId> {
        let root = self.root_above(path)?;
        let below = path.strip_prefix(&root.path).ok()?;
        below.iter().try_fold(root.entry, |at, name| self.find_in(at, name))
    }

    /// The root that a path lies below.
    fn root_above(&self, path: &Path) -> Option<&Root> {
        let above = self.roots.iter().filter(|root| path.starts_with(&root.path));
        above.max_by_key(|root| root.path.components().count())
    }

    /// The entry of a name in a directory.
    pub fn find_in(&self, directory: EntryId, name: &OsStr) -> Option<EntryId> {
        self.children(directory).find(|child| self.name_bytes(*child) == name.as_bytes())
    }

    /// What it is.
    pub fn kind(&self, id: EntryId) -> Kind {
        Kind::of_mode(u32::from(self.mode[id.0 as usize]))
    }

    /// Whether it is a directory.
    pub fn is_directory(&self, id: EntryId) -> bool {
        self.kind(id) == Kind::Directory
    }

    /// Whether it is a directory on another device than the one that holds it, and yet part of the
    /// same mount: the root of a subvolume (btrfs).
    pub fn is_subvolume(&self, id: EntryId) -> bool {
        let (Some(own), Some(above)) =
            (self.row(id), self.parent(id).and_then(|parent| self.row(parent)))
        else {
            return false;
        };
        own.device != above.device && own.reading != Reading::OtherVolume
    }

    /// Its inode number, as the scan saw it.
    pub fn inode(&self, id: EntryId) -> u64 {
        self.inode[id.0 as usize]
    }

    /// Number of the device that it lies on, and its inode there: what tells an inode from all others.
    pub fn device_and_inode(&self, id: EntryId) -> (u64, u64) {
        (self.device(id), self.inode(id))
    }

    /// Bytes on disk of the entry alone: of a directory, without what it holds.
    pub fn own_allocated(&self, id: EntryId) -> Bytes {
        Bytes::from_blocks(self.own_blocks(id))
    }

    /// Number of its owner and group.
    pub fn owner(&self, id: EntryId) -> (u32, u32) {
        self.owners[(self.owner[id.0 as usize] & !MULTI_LINKED) as usize]
    }

    /// Bytes on disk of the entry and all below it, every inode once.
    pub fn allocated(&self, id: EntryId) -> Bytes {
        match self.row(id) {
            Some(row) => Bytes::new(row.allocated),
            None => Bytes::from_blocks(self.own_blocks(id)),
        }
    }

    /// Length of the entry and all below it, every inode once.
    pub fn apparent(&self, id: EntryId) -> Bytes {
        Bytes::new(self.row(id).map_or(self.size[id.0 as usize], |row| row.apparent))
    }

    /// Length of the entry alone: of a directory, without what it holds.
    pub fn own_apparent(&self, id: EntryId) -> Bytes {
        Bytes::new(self.size[id.0 as usize])
    }

    /// Bytes on disk that would be freed if just this entry, with all below it, went.
    ///
    /// Known only when the scan has ended: until then what has several names is left out.
    pub fn exclusive(&self, id: EntryId) -> Bytes {
        match self.row(id) {
            Some(row) => Bytes::new(row.exclusive),
            None if self.is_multi_linked(id) => Bytes::ZERO,
            None => self.allocated(id),
        }
    }

    /// Names in the entry: itself and all below it.
    pub fn entries(&self, id: EntryId) -> u64 {
        self.row(id).map_or(1, |row| u64::from(row.entries))
    }

    /// The newest writing in the entry and all below it, to the second.
    pub fn newest(&self, id: EntryId) -> Time {
        let own = self.mtime[id.0 as usize];
        Time::at(i64::from(self.row(id).map_or(own, |row| row.newest)))
    }

    /// When the entry itself was last written, to the second, from 1970 to 2106.
    pub fn modified(&self, id: EntryId) -> Time {
        Time::at(i64::from(self.mtime[id.0 as usize]))
    }

    /// When the entry itself was last read, to the second, from 1970 to 2106.
    pub fn accessed(&self, id: EntryId) -> Time {
        Time::at(i64::from(self.atime[id.0 as usize]))
    }

    /// Whether times of change and of reading are known to the second, and not only to the day as in a saved scan.
    pub fn knows_seconds(&self) -> bool {
        !self.times_by_day
    }

    /// When the entry's inode itself was last changed, to the second, from 1970 to 2106; in a saved scan
    /// to the day.
    pub fn changed(&self, id: EntryId) -> Time {
        Time::at(i64::from(self.ctime[id.0 as usize]))
    }

    /// Its mode, with the type bits (`inode(7)`).
    pub fn mode(&self, id: EntryId) -> u32 {
        u32::from(self.mode[id.0 as usize])
    }

    /// Allocated bytes of the entry and all below it, by age.
    pub fn age_profile(&self, id: EntryId) -> AgeProfile {
        match self.row(id) {
            Some(row) => row.profile,
            None => {
                let mut profile = AgeProfile::default();
                profile[self.scale.class(self.mtime[id.0 as usize])] =
                    self.allocated(id).get() as f32;
                profile
            }
        }
    }

    /// How far a directory has been read; `None` for anything else.
    pub fn reading(&self, id: EntryId) -> Option<Reading> {
        self.row(id).map(|row| row.reading)
    }

    /// Whether it is a file with more than one name.
    pub fn is_multi_linked(&self, id: EntryId) -> bool {
        self.owner[id.0 as usize] & MULTI_LINKED != 0 && !self.is_directory(id)
    }

    /// Whether the scan met a name of this inode, of those that have several.
    pub fn has_linked(&self, dev: u64, ino: u64) -> bool {
        self.linked.contains_key(&(dev, ino))
    }

    /// What lies directly in a directory, in the order it was read; nothing for anything else.
    pub fn children(&self, id: EntryId) -> impl ExactSizeIterator<Item = EntryId> + use<> {
        self.child_numbers(id).map(EntryId)
    }

    fn child_numbers(&self, id: EntryId) -> Range<u32> {
        self.row(id).map_or(0..0, |row| row.first_child..row.first_child + row.children)
    }

    /// All entries, roots first of their trees, every directory before what it holds.
    pub fn ids(&self) -> impl ExactSizeIterator<Item = EntryId> + use<> {
        (0..self.len() as u32).map(EntryId)
    }

    /// How many entries of each kind a directory holds, itself included.
    pub fn kind_counts(&self, id: EntryId) -> KindCounts {
        let mut counts = KindCounts::default();
        if let [only] = &self.roots[..]
            && only.entry == id
        {
            // in pieces that are counted in as few bits as they have, so that many are compared at once
            let count = |kind: Kind| -> u64 {
                let is_it = |mode: &u16| u16::from(mode & Kind::BITS == kind.mode_bits());
                let of_piece = |piece: &[u16]| u64::from(piece.iter().map(is_it).sum::<u16>());
                self.mode.chunks(1 << 12).map(of_piece).sum()
            };
            let (files, links) = (count(Kind::File), count(Kind::Link));
            let directories = count(Kind::Directory);
            let special = self.len() as u64 - files - links - directories;
            return KindCounts { files, directories, links, special };
        }
        let mut open = vec![id];
        while let Some(at) = open.pop() {
            match self.kind(at) {
                Kind::File => counts.files += 1,
                Kind::Directory => counts.directories += 1,
                Kind::Link => counts.links += 1,
                Kind::Special => counts.special += 1,
            }
            open.extend(self.children(at));
        }
        counts
    }

    /// The roots of other volumes that were met and not entered.
    pub fn other_volumes(&self) -> Vec<EntryId> {
        let met = self.directories.iter().filter(|row| row.reading == Reading::OtherVolume);
        met.map(|row| EntryId(row.entry)).collect()
    }

    fn row(&self, id: EntryId) -> Option<&Directory> {
        self.is_directory(id).then(|| &self.directories[self.row_number(id)])
    }

    /// Of a directory: its place among them.
    fn row_number(&self, id: EntryId) -> usize {
        self.blocks[id.0 as usize] as usize
    }

    /// Blocks of the entry alone.
    #[inline]
    fn own_blocks(&self, id: EntryId) -> u64 {
        match self.row(id) {
            Some(row) => row.own_blocks,
            None => match self.blocks[id.0 as usize] {
                append::HUGE => self.huge.get(&id.0).copied().unwrap_or(u64::from(append::HUGE)),
                blocks => u64::from(blocks),
            },
        }
    }
}

/// Tells the class of an age profile that a time of writing falls in.
#[derive(Clone, Copy, Debug)]
struct AgeScale([u32; AGE_CLASSES]);

impl AgeScale {
    fn new(now: Time) -> Self {
        // the first second that is younger
        let after = |bound: Age| now.sec.saturating_sub(bound.secs() as i64).saturating_add(1);
        let mut scale = Self([0; AGE_CLASSES]);
        for (first, bound) in scale.0.iter_mut().zip(AGE_BOUNDS) {
            *first = after(bound).clamp(0, i64::from(u32::MAX)) as u32;
        }
        scale
    }

    /// How many of the bounds the age has reached: halved three times, since there are eight classes.
    #[inline]
    fn class(&self, mtime: u32) -> usize {
        const { assert!(AGE_CLASSES == 8) };
        let older = |at: usize| usize::from(mtime < self.0[at & 7]);
        let half = 4 * older(3);
        let quarter = half + 2 * older(half + 1);
        quarter + older(quarter)
    }
}

/// Set in an owner's number for an entry whose inode has several names.
const MULTI_LINKED: u32 = 1 << 31;
