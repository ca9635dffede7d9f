//! How the walk hands over what it read: one directory at a time.

use std::path::PathBuf;

use super::{
    AgeProfile, Catalog, Directory, EntryId, LinkedInode, MULTI_LINKED, NONE, Reading, Root,
};
use crate::kernel::{Kind, Stat};

/// The entries of one directory, in arrays like the catalog's own. Kept and used again.
#[derive(Debug, Default)]
pub struct Batch {
    names: Vec<u8>,
    name_at: Vec<u32>,
    rows: Vec<Row>,
    links: Vec<(u32, u64, u32)>,
}

#[derive(Clone, Copy, Debug)]
struct Row {
    kind: Kind,
    blocks: u64,
    size: u64,
    inode: u64,
    mtime: u32,
    atime: u32,
    owner: (u32, u32),
    reading: Option<Reading>,
}

impl Batch {
    /// Forgets its entries and keeps its memory.
    pub fn clear(&mut self) {
        self.names.clear();
        self.name_at.clear();
        self.rows.clear();
        self.links.clear();
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
        if stat.kind != Kind::Directory && stat.links > 1 {
            self.links.push((self.rows.len() as u32, stat.dev, stat.links));
        }
        self.add(name, stat, (stat.kind == Kind::Directory).then_some(Reading::NotYet));
    }

    /// Adds the root of another volume that is not entered: its bytes belong to that volume.
    pub fn push_other_volume(&mut self, name: &[u8], stat: &Stat) {
        let mut stat = *stat;
        (stat.blocks, stat.size) = (0, 0);
        self.add(name, &stat, Some(Reading::OtherVolume));
    }

    fn add(&mut self, name: &[u8], stat: &Stat, reading: Option<Reading>) {
        let name = &name[..name.len().min(255)];
        self.name_at.push(self.names.len() as u32);
        self.names.push(name.len() as u8);
        self.names.extend_from_slice(name);
        self.rows.push(Row {
            kind: stat.kind,
            blocks: stat.blocks,
            size: stat.size,
            inode: stat.ino,
            mtime: clamped(stat.mtime.sec),
            atime: clamped(stat.atime.sec),
            owner: (stat.uid, stat.gid),
            reading,
        });
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

/// What a batch adds to its directory and to all above it.
struct Sums {
    entries: u32,
    allocated: u64,
    apparent: u64,
    exclusive: u64,
    newest: u32,
    profile: AgeProfile,
}

impl Catalog {
    /// Adds a place where a scan begins.
    pub fn add_root(&mut self, path: PathBuf, stat: &Stat) -> EntryId {
        let mut batch = Batch::default();
        batch.push(b"", stat);
        // one entry cannot overflow a catalog that holds few roots
        let entry = self.push_all(NONE, &batch).unwrap_or(EntryId(0));
        self.roots.push(Root { path, entry });
        entry
    }

    /// Takes over what was read in the directory `parent`, and adds it to all totals above.
    /// Gives the number of the first new entry; the others follow it in the batch's order.
    ///
    /// # Errors
    ///
    /// [`Full`]: nothing was taken.
    pub fn append(&mut self, parent: EntryId, batch: &Batch) -> Result<EntryId, Full> {
        let first = self.push_all(parent.0, batch)?;
        let sums = self.sums(first, batch);
        let row = self.directory[parent.0 as usize] as usize;
        self.directories[row].first_child = first.0;
        self.directories[row].children = batch.len() as u32;
        self.set_reading(parent, Reading::Done);
        let mut at = Some(parent);
        while let Some(id) = at {
            let row = &mut self.directories[self.directory[id.0 as usize] as usize];
            row.entries += sums.entries;
            row.allocated = row.allocated.saturating_add(sums.allocated);
            row.apparent = row.apparent.saturating_add(sums.apparent);
            row.exclusive = row.exclusive.saturating_add(sums.exclusive);
            row.newest = row.newest.max(sums.newest);
            row.profile.iter_mut().zip(sums.profile).for_each(|(sum, more)| *sum += more);
            at = self.parent(id);
        }
        Ok(first)
    }

    /// Says how far a directory has been read.
    pub fn set_reading(&mut self, id: EntryId, reading: Reading) {
        let row = self.directory[id.0 as usize] as usize;
        self.directories[row].reading = reading;
    }

    /// Of an inode with several names, the first that was met counts; [`Catalog::finish`] adds it
    /// where the others are.
    fn sums(&self, first: EntryId, batch: &Batch) -> Sums {
        let mut sums = Sums {
            entries: batch.len() as u32,
            allocated: 0,
            apparent: 0,
            exclusive: 0,
            newest: 0,
            profile: AgeProfile::default(),
        };
        let mut links = batch.links.iter().peekable();
        for (i, row) in batch.rows.iter().enumerate() {
            sums.newest = sums.newest.max(row.mtime);
            let link = links.next_if(|(at, ..)| *at as usize == i);
            if let Some((_, dev, _)) = link {
                let names = self.linked.get(&(*dev, row.inode)).map(|inode| &inode.names[..]);
                let counts =
                    names.and_then(<[u32]>::first).is_none_or(|id| *id == first.0 + i as u32);
                if !counts {
                    continue;
                }
            }
            let allocated = row.blocks.saturating_mul(512);
            sums.allocated = sums.allocated.saturating_add(allocated);
            sums.apparent = sums.apparent.saturating_add(row.size);
            if link.is_none() {
                sums.exclusive = sums.exclusive.saturating_add(allocated);
            }
            sums.profile[self.age_class(row.mtime)] += allocated as f32;
        }
        sums
    }

    fn push_all(&mut self, parent: u32, batch: &Batch) -> Result<EntryId, Full> {
        let (first, names) = (self.len(), self.names.len());
        if first + batch.len() >= NONE as usize || names + batch.names.len() > u32::MAX as usize {
            return Err(Full);
        }
        self.names.extend_from_slice(&batch.names);
        let mut last_owner = None;
        for (i, row) in batch.rows.iter().enumerate() {
            let id = (first + i) as u32;
            self.parent.push(parent);
            self.name_at.push(names as u32 + batch.name_at[i]);
            self.blocks.push(row.blocks);
            self.size.push(row.size);
            self.inode.push(row.inode);
            self.mtime.push(row.mtime);
            self.atime.push(row.atime);
            self.kind.push(row.kind);
            // neighbours mostly have one owner
            let owner = match last_owner {
                Some((owner, number)) if owner == row.owner => number,
                _ => self.owner_number(row.owner),
            };
            last_owner = Some((row.owner, owner));
            self.owner.push(owner);
            let directory = match row.reading {
                Some(reading) => self.new_directory(id, row, reading),
                None => NONE,
            };
            self.directory.push(directory);
        }
        for (i, dev, links) in &batch.links {
            let id = first as u32 + i;
            self.owner[id as usize] |= MULTI_LINKED;
            let key = (*dev, batch.rows[*i as usize].inode);
            let new = || LinkedInode { links: *links, names: Vec::with_capacity(2) };
            self.linked.entry(key).or_insert_with(new).names.push(id);
        }
        Ok(EntryId(first as u32))
    }

    fn new_directory(&mut self, entry: u32, row: &Row, reading: Reading) -> u32 {
        let mut new = Directory {
            entry,
            first_child: 0,
            children: 0,
            entries: 0,
            allocated: 0,
            apparent: 0,
            exclusive: 0,
            newest: 0,
            reading,
            profile: AgeProfile::default(),
        };
        new.reset(row.blocks, row.size, row.mtime, self.age_class(row.mtime));
        self.directories.push(new);
        self.directories.len() as u32 - 1
    }

    fn owner_number(&mut self, owner: (u32, u32)) -> u32 {
        let next = self.owners.len() as u32;
        *self.owner_numbers.entry(owner).or_insert_with(|| {
            self.owners.push(owner);
            next
        })
    }
}

impl Directory {
    /// Back to what the directory itself is, without what it holds.
    pub(super) fn reset(&mut self, blocks: u64, size: u64, mtime: u32, age_class: usize) {
        let own = blocks.saturating_mul(512);
        (self.entries, self.newest) = (1, mtime);
        (self.allocated, self.apparent, self.exclusive) = (own, size, own);
        self.profile = AgeProfile::default();
        self.profile[age_class] = own as f32;
    }
}
