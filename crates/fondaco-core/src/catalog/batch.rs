//! How the walk hands over what it read: one directory at a time.

use std::path::PathBuf;

use super::{
    AgeProfile, AgeScale, Catalog, Directory, EntryId, LinkedInode, MULTI_LINKED, NONE, Reading,
    Root,
};
use crate::kernel::{Kind, Stat};
use crate::units::{Bytes, Time};

/// The entries of one directory, in arrays like the catalog's own. Kept and used again.
#[derive(Debug)]
pub struct Batch {
    scale: AgeScale,
    names: Vec<u8>,
    rows: Vec<Row>,
    owners: Vec<(u32, u32)>,
    directories: Vec<NewDirectory>,
    links: Vec<Link>,
    sums: Sums,
}

#[derive(Clone, Copy, Debug)]
struct Row {
    blocks: u64,
    size: u64,
    inode: u64,
    name_at: u32,
    mtime: u32,
    atime: u32,
    ctime: u32,
    /// Place among the batch's owners.
    owner: u32,
    mode: u16,
}

#[derive(Clone, Copy, Debug)]
struct NewDirectory {
    place: u32,
    reading: Reading,
    /// Known when its facts are.
    device: Option<u64>,
}

/// An entry whose inode has several names.
#[derive(Clone, Copy, Debug)]
struct Link {
    place: u32,
    device: u64,
    links: u32,
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
            sums: Sums::default(),
        }
    }

    /// Forgets its entries and keeps its memory.
    pub fn clear(&mut self) {
        self.names.clear();
        self.rows.clear();
        self.owners.clear();
        self.directories.clear();
        self.links.clear();
        self.sums = Sums::default();
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
    #[inline]
    pub fn push(&mut self, name: &[u8], stat: &Stat) {
        let several = (stat.kind != Kind::Directory && stat.links > 1).then_some(stat.links);
        self.add(name, &stat.into(), stat.dev, several, Reading::NotYet);
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

    /// Entries, bytes on disk and length, without inodes that have several names.
    pub(super) fn plain_sums(&self) -> (u64, Bytes, Bytes) {
        let sums = &self.sums;
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
    #[inline]
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

    #[inline]
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
fn clamped(seconds: i64) -> u32 {
    seconds.clamp(0, i64::from(u32::MAX)) as u32
}

/// A catalog can number so many entries, or hold so many bytes of names, and no more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("a catalog holds at most 4 294 967 294 entries and 4 GiB of names")]
pub struct Full;

impl Catalog {
    /// Adds the places where a scan begins, before anything else. Gives their entries.
    ///
    /// # Errors
    ///
    /// [`Full`] if there are too many.
    pub fn add_roots(&mut self, roots: &[(PathBuf, Stat)]) -> Result<Vec<EntryId>, Full> {
        let mut entries = Vec::new();
        if let [(_, stat)] = roots {
            let mut batch = Batch::new(self.now);
            batch.push(b"", stat);
            entries.push(self.push_all(NONE, &batch)?);
        } else {
            let push = |batch: &mut Batch| roots.iter().for_each(|(_, stat)| batch.push(b"", stat));
            let first = self.begin_top(push)?;
            entries.extend((first.0..first.0 + roots.len() as u32).map(EntryId));
        }
        for ((path, _), entry) in roots.iter().zip(&entries) {
            self.roots.push(Root { path: path.clone(), entry: *entry });
        }
        Ok(entries)
    }

    /// Begins with a directory that is nowhere and holds the roots that `push` gives; gives the first.
    pub(super) fn begin_top(&mut self, push: impl FnOnce(&mut Batch)) -> Result<EntryId, Full> {
        let mut batch = Batch::new(self.now);
        batch.push_unread(b"");
        let top = self.push_all(NONE, &batch)?;
        self.top = Some(top);
        batch.clear();
        push(&mut batch);
        self.append(top, None, &batch)
    }

    /// Takes over what was read in the directory `parent`, and adds it to all totals above.
    /// `own` are the directory's own facts, if it was added without them. Gives the number of the
    /// first new entry; the others follow it in the batch's order.
    ///
    /// # Errors
    ///
    /// [`Full`]: nothing was taken.
    pub fn append(
        &mut self,
        parent: EntryId,
        own: Option<&Stat>,
        batch: &Batch,
    ) -> Result<EntryId, Full> {
        let first = self.push_all(parent.0, batch)?;
        let mut sums = batch.sums;
        self.add_links(first, batch, &mut sums);
        if let Some(stat) = own {
            self.set_facts(parent, &stat.into(), stat.dev, &mut sums);
        }
        let row = self.row_number(parent);
        self.directories[row].first_child = first.0;
        self.directories[row].children = batch.len() as u32;
        self.set_reading(parent, Reading::Done);
        self.add_upwards(parent, &sums);
        Ok(first)
    }

    /// Gives a directory that was added without facts its own, and adds them to all totals above:
    /// for one that could not be read.
    pub fn set_own(&mut self, id: EntryId, stat: &Stat) {
        let mut sums = Sums::default();
        self.set_facts(id, &stat.into(), stat.dev, &mut sums);
        self.add_upwards(id, &sums);
    }

    fn set_facts(&mut self, id: EntryId, facts: &Facts, device: u64, sums: &mut Sums) {
        sums.add(&self.scale, facts.blocks, facts.size, facts.mtime, true);
        let at = id.0 as usize;
        self.size[at] = facts.size;
        self.inode[at] = facts.inode;
        self.mtime[at] = facts.mtime;
        self.atime[at] = facts.atime;
        self.ctime[at] = facts.ctime;
        self.mode[at] = facts.mode;
        self.owner[at] = self.owner_number(facts.owner);
        let (row, device) = (self.row_number(id), self.device_number(device));
        self.directories[row].own_blocks = facts.blocks;
        self.directories[row].device = device;
    }

    fn add_upwards(&mut self, from: EntryId, sums: &Sums) {
        let mut at = Some(from);
        while let Some(id) = at {
            let number = self.row_number(id);
            self.directories[number].add(sums);
            at = self.parent(id);
        }
    }

    /// Says how far a directory has been read.
    pub fn set_reading(&mut self, id: EntryId, reading: Reading) {
        let row = self.row_number(id);
        self.directories[row].reading = reading;
    }

    /// Of an inode with several names, the first that was met counts; [`Catalog::finish`] adds it
    /// where the others are.
    pub(super) fn add_links(&mut self, first: EntryId, batch: &Batch, sums: &mut Sums) {
        for link in &batch.links {
            let (row, id) = (&batch.rows[link.place as usize], first.0 + link.place);
            self.owner[id as usize] |= MULTI_LINKED;
            let key = (link.device, row.inode);
            let new = || LinkedInode { links: link.links, names: Vec::with_capacity(2) };
            let inode = self.linked.entry(key).or_insert_with(new);
            inode.names.push(id);
            if inode.names.len() == 1 {
                sums.add(&self.scale, row.blocks, row.size, row.mtime, false);
            }
            sums.newest = sums.newest.max(row.mtime);
        }
    }

    pub(super) fn push_all(&mut self, parent: u32, batch: &Batch) -> Result<EntryId, Full> {
        let (first, names, count) = (self.len(), self.names.len(), batch.len());
        if first + count >= NONE as usize || names + batch.names.len() > u32::MAX as usize {
            return Err(Full);
        }
        self.names.extend_from_slice(&batch.names);
        self.parent.resize(first + count, parent);
        let rows = &batch.rows[..];
        self.name_at.extend(rows.iter().map(|row| names as u32 + row.name_at));
        self.blocks.extend(rows.iter().map(|row| narrow(row.blocks)));
        self.size.extend(rows.iter().map(|row| row.size));
        self.inode.extend(rows.iter().map(|row| row.inode));
        self.mtime.extend(rows.iter().map(|row| row.mtime));
        self.atime.extend(rows.iter().map(|row| row.atime));
        self.ctime.extend(rows.iter().map(|row| row.ctime));
        self.mode.extend(rows.iter().map(|row| row.mode));
        match batch.owners[..] {
            [one] => {
                let number = self.owner_number(one);
                self.owner.resize(first + count, number);
            }
            _ => {
                let numbers: Vec<u32> =
                    batch.owners.iter().map(|owner| self.owner_number(*owner)).collect();
                self.owner.extend(rows.iter().map(|row| numbers[row.owner as usize]));
            }
        }
        for (place, row) in rows.iter().enumerate().filter(|(_, row)| narrow(row.blocks) == HUGE) {
            self.huge.insert((first + place) as u32, row.blocks);
        }
        let above = match parent {
            NONE => 0,
            parent => self.directories[self.row_number(EntryId(parent))].device,
        };
        for new in &batch.directories {
            let place = new.place as usize;
            let row = &rows[place];
            let device = new.device.map_or(above, |device| self.device_number(device));
            self.blocks[first + place] = self.directories.len() as u32;
            self.directories.push(Directory {
                entry: (first + place) as u32,
                first_child: 0,
                children: 0,
                entries: 1,
                own_blocks: row.blocks,
                allocated: row.blocks.saturating_mul(512),
                apparent: row.size,
                exclusive: row.blocks.saturating_mul(512),
                largest: 0,
                newest: row.mtime,
                device,
                reading: new.reading,
                profile: {
                    let mut own = Sums::default();
                    own.add(&self.scale, row.blocks, 0, row.mtime, true);
                    own.profile
                },
            });
        }
        Ok(EntryId(first as u32))
    }

    pub(super) fn put_blocks(&mut self, id: u32, blocks: u64) {
        self.blocks.push(narrow(blocks));
        if narrow(blocks) == HUGE {
            self.huge.insert(id, blocks);
        }
    }

    pub(super) fn device_number(&mut self, device: u64) -> u16 {
        let known = self.devices.iter().position(|known| *known == device);
        let number = known.unwrap_or_else(|| {
            self.devices.push(device);
            self.devices.len() - 1
        });
        // more volumes in one scan than this cannot be mounted
        u16::try_from(number).unwrap_or(u16::MAX)
    }

    pub(super) fn owner_number(&mut self, owner: (u32, u32)) -> u32 {
        let next = self.owners.len() as u32;
        *self.owner_numbers.entry(owner).or_insert_with(|| {
            self.owners.push(owner);
            next
        })
    }
}

impl Directory {
    pub(super) fn add(&mut self, sums: &Sums) {
        self.entries += sums.entries;
        self.allocated = self.allocated.saturating_add(sums.allocated);
        self.apparent = self.apparent.saturating_add(sums.apparent);
        self.exclusive = self.exclusive.saturating_add(sums.exclusive);
        self.largest = self.largest.max(sums.largest);
        self.newest = self.newest.max(sums.newest);
        self.profile.iter_mut().zip(sums.profile).for_each(|(sum, more)| *sum += more);
    }

    pub(super) fn sums(&self) -> Sums {
        Sums {
            entries: self.entries,
            allocated: self.allocated,
            apparent: self.apparent,
            exclusive: self.exclusive,
            largest: self.largest,
            newest: self.newest,
            profile: self.profile,
        }
    }
}

/// Stands for a number of blocks that does not fit in 32 bits: 2 TiB and more in one file.
pub(super) const HUGE: u32 = u32::MAX;

fn narrow(blocks: u64) -> u32 {
    u32::try_from(blocks).unwrap_or(HUGE)
}
