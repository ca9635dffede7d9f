//! Taking over what the walk read.

use std::ops::Range;
use std::path::PathBuf;

use super::batch::{Batch, Facts, Segment, Sums};
use super::{Catalog, Directory, EntryId, LinkedInode, MULTI_LINKED, NONE, Reading, Root};
use crate::kernel::Stat;

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
            entries.push(self.push_top(&batch)?);
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

    /// Asks for addresses for so many entries, how many of them are directories, and bytes of names, so that what is
    /// known need not be moved while more comes; memory is only taken up as they come. Refused, it does without.
    pub fn make_room(&mut self, entries: usize, directories: usize, names: usize) {
        let refused = [
            self.parent.try_reserve_exact(entries),
            self.name_at.try_reserve_exact(entries),
            self.blocks.try_reserve_exact(entries),
            self.size.try_reserve_exact(entries),
            self.inode.try_reserve_exact(entries),
            self.mtime.try_reserve_exact(entries),
            self.atime.try_reserve_exact(entries),
            self.ctime.try_reserve_exact(entries),
            self.owner.try_reserve_exact(entries),
            self.mode.try_reserve_exact(entries),
            self.directories.try_reserve_exact(directories),
            // each with its length
            self.names.try_reserve_exact(names.saturating_add(entries)),
        ];
        // they grow as they must, then
        let _ = refused;
    }

    /// Begins with a directory that is nowhere and holds the roots that `push` gives; gives the first.
    pub(super) fn begin_top(&mut self, push: impl FnOnce(&mut Batch)) -> Result<EntryId, Full> {
        let mut batch = Batch::new(self.now);
        batch.push_unread(b"");
        let top = self.push_top(&batch)?;
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
        debug_assert!(batch.whole.is_empty(), "then it is of several directories");
        self.take(batch, &[batch.last_segment(parent, own)])
    }

    /// As [`Catalog::append`], all directories of a batch that are whole. Gives the number of the first new entry
    /// of the first of them.
    ///
    /// # Errors
    ///
    /// [`Full`]: nothing was taken.
    pub fn append_whole(&mut self, batch: &Batch) -> Result<EntryId, Full> {
        self.take(batch, &batch.whole)
    }

    fn take(&mut self, batch: &Batch, segments: &[Segment]) -> Result<EntryId, Full> {
        let first = self.push_all(segments.iter().map(|s| (s.directory.0, s.rows.len())), batch)?;
        // neighbours mostly have one directory above them: it is gone up from only once for them
        let mut above: Option<(EntryId, Sums)> = None;
        for segment in segments {
            let mut sums = segment.sums;
            self.add_links(first, batch, segment.links.clone(), &mut sums);
            if let Some((own, device)) = &segment.own {
                self.set_facts(segment.directory, own, *device, &mut sums);
            }
            let number = self.row_number(segment.directory);
            let row = &mut self.directories[number];
            row.first_child = first.0 + segment.rows.start;
            row.children = segment.rows.len() as u32;
            row.reading = Reading::Done;
            row.add(&sums);
            match (&mut above, self.parent(segment.directory)) {
                (Some((same, more)), Some(up)) if *same == up => more.take_in(&sums),
                (_, up) => {
                    let other = std::mem::replace(&mut above, up.map(|up| (up, sums)));
                    other.iter().for_each(|(up, sums)| self.add_upwards(*up, sums));
                }
            }
        }
        above.iter().for_each(|(up, sums)| self.add_upwards(*up, sums));
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
    pub(super) fn add_links(
        &mut self,
        first: EntryId,
        batch: &Batch,
        links: Range<u32>,
        sums: &mut Sums,
    ) {
        for link in &batch.links[links.start as usize..links.end as usize] {
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

    /// Adds entries that have nothing above them.
    pub(super) fn push_top(&mut self, batch: &Batch) -> Result<EntryId, Full> {
        self.push_all(std::iter::once((NONE, batch.len())), batch)
    }

    /// Adds all rows; `parents` says of how many in a row each is the directory.
    pub(super) fn push_all(
        &mut self,
        parents: impl Iterator<Item = (u32, usize)>,
        batch: &Batch,
    ) -> Result<EntryId, Full> {
        let (first, names, count) = (self.len(), self.names.len(), batch.len());
        if first + count >= NONE as usize || names + batch.names.len() > u32::MAX as usize {
            return Err(Full);
        }
        self.names.extend_from_slice(&batch.names);
        for (parent, rows) in parents {
            self.parent.resize(self.parent.len() + rows, parent);
        }
        debug_assert_eq!(self.parent.len(), first + count);
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
        for new in &batch.directories {
            let place = new.place as usize;
            let row = &rows[place];
            let device = match (new.device, self.parent[first + place]) {
                (Some(device), _) => self.device_number(device),
                (None, NONE) => 0,
                (None, above) => self.directories[self.row_number(EntryId(above))].device,
            };
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
        // mostly the one that came last
        if self.owners.get(self.recent_owner as usize) == Some(&owner) {
            return self.recent_owner;
        }
        let next = self.owners.len() as u32;
        self.recent_owner = *self.owner_numbers.entry(owner).or_insert_with(|| {
            self.owners.push(owner);
            next
        });
        self.recent_owner
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

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::catalog::{AGE_BOUNDS, AgeScale};
    use crate::kernel::{self, Kind};
    use crate::units::Time;

    const NOW: Time = Time::at(2_000_000_000);

    /// A file of so many blocks, written at some time, that has one of few inodes if it has several names.
    fn file((blocks, mtime, owner, inode): (u64, u32, u32, Option<u64>), any: &Stat) -> Stat {
        Stat {
            kind: Kind::File,
            mode: u32::from(Kind::File.mode_bits()),
            ino: inode.unwrap_or(1_000_000 + blocks),
            links: if inode.is_some() { 3 } else { 1 },
            uid: owner,
            size: blocks * 500,
            blocks,
            mtime: Time::at(i64::from(mtime)),
            ..*any
        }
    }

    fn of_one_root(any: &Stat) -> (Catalog, EntryId) {
        let mut catalog = Catalog::new(NOW);
        let roots = catalog.add_roots(&[("/seamark".into(), *any)]).unwrap();
        (catalog, roots[0])
    }

    proptest! {
        #[test]
        fn the_class_of_an_age_is_how_many_bounds_it_has_reached(
            now in -3_000_000_000i64..6_000_000_000,
            mtime in 0u32..=u32::MAX,
            near in proptest::option::of((0usize..AGE_BOUNDS.len(), -1i64..=1)),
        ) {
            let bound = |at: usize| AGE_BOUNDS[at].secs() as i64;
            let written = match near {
                Some((at, beside)) => u32::try_from(now - bound(at) + beside).unwrap_or(mtime),
                None => mtime,
            };
            let age = now - i64::from(written);
            let reached = (0..AGE_BOUNDS.len()).filter(|at| age >= bound(*at)).count();
            // a clock that stands before 1970 or after 2106 is not told from those ends
            prop_assume!((0..=i64::from(u32::MAX)).contains(&(now - bound(AGE_BOUNDS.len() - 1))));
            prop_assert_eq!(AgeScale::new(Time::at(now)).class(written), reached);
        }

        /// In pieces of some directories or one after the other: the catalogs are the same.
        #[test]
        fn directories_taken_together_are_what_they_are_one_by_one(
            directories in proptest::collection::vec(
                proptest::collection::vec(
                    (0u64..5_000_000_000, 0u32..2_000_000_000, 0u32..3, proptest::option::of(0u64..4)),
                    0..6,
                ),
                1..12,
            ),
            pieces in proptest::collection::vec(1usize..5, 12),
        ) {
            let any = kernel::stat_path(std::path::Path::new("/")).unwrap();
            let (mut single, root) = of_one_root(&any);
            let (mut together, _) = of_one_root(&any);
            let mut batch = Batch::new(NOW);
            // every second directory lies in a directory of its own
            for number in 0..directories.len() {
                batch.push_unread(format!("buoy-{number}").as_bytes());
            }
            let first = single.append(root, None, &batch).unwrap();
            together.append(root, None, &batch).unwrap();
            let mut homes = Vec::new();
            for number in 0..directories.len() as u32 {
                let mut home = EntryId(first.0 + number);
                if number % 2 == 1 {
                    batch.clear();
                    batch.push_unread(b"tides");
                    let inner = single.append(home, Some(&any), &batch).unwrap();
                    prop_assert_eq!(together.append(home, Some(&any), &batch).unwrap(), inner);
                    home = inner;
                }
                homes.push(home);
            }
            let mut pieces = pieces.into_iter();
            let (mut several, mut left) = (Batch::new(NOW), pieces.next().unwrap_or(1));
            for (home, files) in homes.iter().zip(&directories) {
                batch.clear();
                for (place, facts) in files.iter().enumerate() {
                    let (name, stat) = (format!("log-{place}.csv"), file(*facts, &any));
                    batch.push(name.as_bytes(), &stat);
                    several.push(name.as_bytes(), &stat);
                }
                single.append(*home, Some(&any), &batch).unwrap();
                several.end_directory(*home, Some(&any));
                left -= 1;
                if left == 0 {
                    together.append_whole(&several).unwrap();
                    several.clear();
                    left = pieces.next().unwrap_or(1);
                }
            }
            together.append_whole(&several).unwrap();
            single.finish(true);
            together.finish(true);
            prop_assert_eq!(&single.parent, &together.parent);
            prop_assert_eq!(&single.names, &together.names);
            prop_assert_eq!(&single.owner, &together.owner);
            prop_assert_eq!(&single.owners, &together.owners);
            prop_assert_eq!(&single.blocks, &together.blocks);
            prop_assert_eq!(single.allocated(root), together.allocated(root));
            for (one, other) in single.directories.iter().zip(&together.directories) {
                // of single precision: the order in which it is summed counts
                let near = |(a, b): (&f32, &f32)| (a - b).abs() <= a.abs() * 1e-5;
                prop_assert!(one.profile.iter().zip(&other.profile).all(near), "{one:?} {other:?}");
                let exact = |row: &Directory| format!("{:?}", Directory { profile: [0.0; 8], ..row.clone() });
                prop_assert_eq!(exact(one), exact(other));
            }
            prop_assert_eq!(single.directories.len(), together.directories.len());
        }
    }
}
