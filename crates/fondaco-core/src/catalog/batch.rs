//! How the walk hands over what it read: one directory, or some of which nothing goes on.

use std::ops::Range;

use super::{AgeProfile, AgeScale, EntryId, Reading};
use crate::kernel::{Kind, PlainStat, Stat};
use crate::units::{Bytes, Time};

/// The entries of one directory, or of several after each other. Kept and used again.
#[derive(Debug)]
pub struct Batch {
    scale: AgeScale,
    pub(super) names: Vec<u8>,
    pub(super) rows: Vec<Row>,
    pub(super) owners: Vec<(u32, u32)>,
    pub(super) directories: Vec<NewDirectory>,
    pub(super) links: Vec<Link>,
    /// Directories that are whole; what stands behind them belongs to one more.
    pub(super) whole: Vec<Segment>,
    /// Of that one; and of its entries that have one name and are no directories.
    sums: Sums,
    tally: PlainSums,
}

/// One directory's part of a batch.
#[derive(Clone, Debug)]
pub(super) struct Segment {
    pub(super) directory: EntryId,
    /// Its own facts and device, if it was added without them.
    pub(super) own: Option<(Facts, u64)>,
    pub(super) rows: Range<u32>,
    pub(super) links: Range<u32>,
    pub(super) sums: Sums,
}

#[derive(Clone, Copy, Debug)]
pub(super) struct Row {
    pub(super) blocks: u64,
    pub(super) size: u64,
    pub(super) inode: u64,
    pub(super) name_at: u32,
    pub(super) mtime: u32,
    pub(super) atime: u32,
    pub(super) ctime: u32,
    /// Place among the batch's owners.
    pub(super) owner: u32,
    pub(super) mode: u16,
}

#[derive(Clone, Copy, Debug)]
pub(super) struct NewDirectory {
    pub(super) place: u32,
    pub(super) reading: Reading,
    /// Known when its facts are.
    pub(super) device: Option<u64>,
}

/// An entry whose inode has several names.
#[derive(Clone, Copy, Debug)]
pub(super) struct Link {
    pub(super) place: u32,
    pub(super) device: u64,
    pub(super) links: u32,
}

/// What some entries add to their directory and to all above it.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Sums {
    pub(super) entries: u32,
    pub(super) allocated: u64,
    pub(super) apparent: u64,
    pub(super) exclusive: u64,
    pub(super) largest: u64,
    pub(super) newest: u32,
    pub(super) profile: AgeProfile,
}

impl Sums {
    pub(super) const NOTHING: Self = Self {
        entries: 0,
        allocated: 0,
        apparent: 0,
        exclusive: 0,
        largest: 0,
        newest: 0,
        profile: [0.0; super::AGE_CLASSES],
    };

    /// Adds other sums.
    pub(super) fn take_in(&mut self, more: &Self) {
        self.entries += more.entries;
        self.allocated = self.allocated.saturating_add(more.allocated);
        self.apparent = self.apparent.saturating_add(more.apparent);
        self.exclusive = self.exclusive.saturating_add(more.exclusive);
        self.largest = self.largest.max(more.largest);
        self.newest = self.newest.max(more.newest);
        self.profile.iter_mut().zip(more.profile).for_each(|(sum, more)| *sum += more);
    }

    pub(super) fn add(
        &mut self,
        scale: &AgeScale,
        blocks: u64,
        size: u64,
        mtime: u32,
        exclusive: bool,
    ) {
        let allocated = blocks.saturating_mul(512);
        self.allocated = self.allocated.saturating_add(allocated);
        self.apparent = self.apparent.saturating_add(size);
        if exclusive {
            self.exclusive = self.exclusive.saturating_add(allocated);
        }
        self.newest = self.newest.max(mtime);
        self.profile[scale.class(mtime)] += allocated as f32;
    }
}

/// Sums over entries that have one name and are no directories, which is what nearly all are: no more is done for
/// each than must be.
#[derive(Clone, Copy, Debug, Default)]
struct PlainSums {
    blocks: u64,
    size: u64,
    most_blocks: u64,
    newest: u32,
    blocks_by_age: AgeProfile,
}

impl PlainSums {
    #[inline(always)]
    fn count(&mut self, scale: &AgeScale, facts: &Facts) {
        self.blocks = self.blocks.saturating_add(facts.blocks);
        self.size = self.size.saturating_add(facts.size);
        self.most_blocks = self.most_blocks.max(facts.blocks);
        self.newest = self.newest.max(facts.mtime);
        self.blocks_by_age[scale.class(facts.mtime)] += facts.blocks as f32;
    }

    fn sums(&self) -> Sums {
        let bytes = |blocks: u64| blocks.saturating_mul(512);
        Sums {
            entries: 0,
            allocated: bytes(self.blocks),
            apparent: self.size,
            exclusive: bytes(self.blocks),
            largest: bytes(self.most_blocks),
            newest: self.newest,
            profile: self.blocks_by_age.map(|blocks| blocks * 512.0),
        }
    }
}

/// One entry as a catalog keeps it.
#[derive(Clone, Copy, Debug)]
pub(super) struct Facts {
    pub(super) kind: Kind,
    pub(super) blocks: u64,
    pub(super) size: u64,
    pub(super) inode: u64,
    pub(super) mtime: u32,
    pub(super) atime: u32,
    pub(super) ctime: u32,
    pub(super) mode: u16,
    pub(super) owner: (u32, u32),
}

impl From<&Stat> for Facts {
    fn from(stat: &Stat) -> Self {
        Self {
            kind: stat.kind,
            blocks: stat.blocks,
            size: stat.size,
            inode: stat.ino,
            mtime: clamped(stat.mtime.sec),
            atime: clamped(stat.atime.sec),
            ctime: clamped(stat.ctime.sec),
            mode: stat.mode as u16,
            owner: (stat.uid, stat.gid),
        }
    }
}

impl From<&PlainStat> for Facts {
    #[inline]
    fn from(stat: &PlainStat) -> Self {
        let [atime, mtime, ctime] = stat.seconds().map(clamped);
        Self {
            kind: stat.kind(),
            blocks: stat.blocks(),
            size: stat.size(),
            inode: stat.ino(),
            mtime,
            atime,
            ctime,
            mode: stat.mode() as u16,
            owner: stat.owner(),
        }
    }
}

impl Batch {
    /// An empty batch for a catalog whose ages are counted from `now`.
    pub fn new(now: Time) -> Self {
        Self {
            scale: AgeScale::new(now),
            names: Vec::new(),
            rows: Vec::new(),
            owners: Vec::new(),
            directories: Vec::new(),
            links: Vec::new(),
            whole: Vec::new(),
            sums: Sums::default(),
            tally: PlainSums::default(),
        }
    }

    /// Forgets its entries and keeps its memory.
    pub fn clear(&mut self) {
        self.names.clear();
        self.rows.clear();
        self.owners.clear();
        self.directories.clear();
        self.links.clear();
        self.whole.clear();
        self.forget_sums();
    }

    /// Entries in it.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Adds one entry. A name has at most 255 bytes on Linux (`NAME_MAX`).
    pub fn push(&mut self, name: &[u8], stat: &Stat) {
        let several = (stat.kind != Kind::Directory && stat.links > 1).then_some(stat.links);
        self.add(name, &stat.into(), stat.dev, several, Reading::NotYet);
    }

    /// As [`Batch::push`], of one that is no directory: what a scan mostly meets.
    #[inline]
    pub fn push_plain(&mut self, name: &[u8], stat: &PlainStat) {
        debug_assert_ne!(stat.kind(), Kind::Directory);
        if stat.links() > 1 {
            return self.add(name, &stat.into(), stat.dev(), Some(stat.links()), Reading::NotYet);
        }
        let facts = stat.into();
        self.sums.entries += 1;
        self.tally.count(&self.scale, &facts);
        self.push_row(name, &facts);
    }

    /// Adds a directory of which nothing but the name is known: its facts come when it is read.
    pub fn push_unread(&mut self, name: &[u8]) {
        let place = self.len() as u32;
        self.directories.push(NewDirectory { place, reading: Reading::NotYet, device: None });
        let owner = self.owners.last().copied().unwrap_or((0, 0));
        let kind = Kind::Directory;
        let mode = kind.mode_bits();
        let facts =
            Facts { kind, blocks: 0, size: 0, inode: 0, mtime: 0, atime: 0, ctime: 0, mode, owner };
        self.sums.entries += 1;
        self.push_row(name, &facts);
    }

    /// Adds the root of another volume that is not entered: its bytes belong to that volume.
    pub fn push_other_volume(&mut self, name: &[u8], stat: &Stat) {
        let facts = Facts { blocks: 0, size: 0, ..stat.into() };
        self.add(name, &facts, stat.dev, None, Reading::OtherVolume);
    }

    /// Whether some directory in it is whole.
    pub fn is_whole(&self) -> bool {
        !self.whole.is_empty()
    }

    fn rows_done(&self) -> u32 {
        self.whole.last().map_or(0, |last| last.rows.end)
    }

    /// What came since the last call is all that is in `directory`. `own` are the directory's own facts, if it
    /// was added without them.
    pub fn end_directory(&mut self, directory: EntryId, own: Option<&Stat>) {
        let segment = self.last_segment(directory, own);
        self.forget_sums();
        self.whole.push(segment);
    }

    fn forget_sums(&mut self) {
        self.sums = Sums::default();
        self.tally = PlainSums::default();
    }

    fn all_sums(&self) -> Sums {
        let mut sums = self.sums;
        sums.take_in(&self.tally.sums());
        sums
    }

    pub(super) fn last_segment(&self, directory: EntryId, own: Option<&Stat>) -> Segment {
        let links_done = self.whole.last().map_or(0, |last| last.links.end);
        Segment {
            directory,
            own: own.map(|stat| (stat.into(), stat.dev)),
            rows: self.rows_done()..self.len() as u32,
            links: links_done..self.links.len() as u32,
            sums: self.all_sums(),
        }
    }

    /// The directories that are whole.
    pub fn directories(&self) -> impl Iterator<Item = EntryId> + '_ {
        self.whole.iter().map(|segment| segment.directory)
    }

    /// Entries, bytes on disk and length, without inodes that have several names.
    pub(super) fn plain_sums(&self) -> (u64, Bytes, Bytes) {
        let sums = self.all_sums();
        (u64::from(sums.entries), Bytes::new(sums.allocated), Bytes::new(sums.apparent))
    }

    /// Inodes with several names: device and number, bytes on disk, length.
    pub(super) fn linked_inodes(&self) -> impl Iterator<Item = ((u64, u64), Bytes, Bytes)> + '_ {
        self.links.iter().map(|link| {
            let row = &self.rows[link.place as usize];
            let key = (link.device, row.inode);
            (key, Bytes::from_blocks(row.blocks), Bytes::new(row.size))
        })
    }

    /// Adds an entry with its facts; `links` if its inode has several names.
    pub(super) fn add(
        &mut self,
        name: &[u8],
        facts: &Facts,
        device: u64,
        links: Option<u32>,
        reading: Reading,
    ) {
        let place = self.len() as u32;
        self.sums.entries += 1;
        if facts.kind == Kind::Directory {
            self.directories.push(NewDirectory { place, reading, device: Some(device) });
        }
        match links {
            // what it adds depends on its other names
            Some(links) => self.links.push(Link { place, device, links }),
            None => self.sums.add(&self.scale, facts.blocks, facts.size, facts.mtime, true),
        }
        if facts.kind != Kind::Directory {
            self.sums.largest = self.sums.largest.max(facts.blocks.saturating_mul(512));
        }
        self.push_row(name, facts);
    }

    #[inline(always)]
    fn push_row(&mut self, name: &[u8], facts: &Facts) {
        let name = &name[..name.len().min(255)];
        // neighbours mostly have one owner
        if self.owners.last() != Some(&facts.owner) {
            self.owners.push(facts.owner);
        }
        self.rows.push(Row {
            blocks: facts.blocks,
            size: facts.size,
            inode: facts.inode,
            name_at: self.names.len() as u32,
            mtime: facts.mtime,
            atime: facts.atime,
            ctime: facts.ctime,
            owner: self.owners.len() as u32 - 1,
            mode: facts.mode,
        });
        self.names.push(name.len() as u8);
        self.names.extend_from_slice(name);
    }
}

/// Seconds since 1970 in 32 bits: 1970 to 2106. Exact times are asked afresh where they matter.
pub(super) fn clamped(seconds: i64) -> u32 {
    seconds.clamp(0, i64::from(u32::MAX)) as u32
}
