//! Exact totals, made once when a scan has ended.

use super::{Catalog, EntryId, NONE};

impl Catalog {
    /// Makes all totals exact and declares the catalog finished; `complete` says whether the scan
    /// went to its end.
    ///
    /// What has one name is summed bottom up. An inode with several names is added once to every
    /// directory above any of them, and to the exclusive bytes of those above all of them, if the
    /// scan met as many names as the inode has.
    pub fn finish(&mut self, complete: bool) {
        self.sum_own();
        self.sum_up();
        self.add_linked();
        self.complete = complete;
    }

    fn sum_own(&mut self) {
        for row in 0..self.directories.len() {
            let id = self.directories[row].entry as usize;
            let class = self.age_class(self.mtime[id]);
            let (blocks, size, mtime) = (self.blocks[id], self.size[id], self.mtime[id]);
            self.directories[row].reset(blocks, size, mtime, class);
        }
        for id in 0..self.len() {
            if self.directory[id] != NONE {
                continue;
            }
            let multi_linked = self.is_multi_linked(EntryId(id as u32));
            let (allocated, mtime) = (self.blocks[id].saturating_mul(512), self.mtime[id]);
            let class = self.age_class(mtime);
            let row = self.directory[self.parent[id] as usize] as usize;
            let row = &mut self.directories[row];
            row.entries += 1;
            row.newest = row.newest.max(mtime);
            if !multi_linked {
                row.allocated = row.allocated.saturating_add(allocated);
                row.apparent = row.apparent.saturating_add(self.size[id]);
                row.exclusive = row.exclusive.saturating_add(allocated);
                row.profile[class] += allocated as f32;
            }
        }
    }

    /// Directories are numbered after the one that holds them, so backwards is bottom up.
    fn sum_up(&mut self) {
        for row in (0..self.directories.len()).rev() {
            let parent = self.parent[self.directories[row].entry as usize];
            if parent == NONE {
                continue;
            }
            let up = self.directory[parent as usize] as usize;
            let (above, below) = self.directories.split_at_mut(row);
            let (up, row) = (&mut above[up], &below[0]);
            up.entries += row.entries;
            up.newest = up.newest.max(row.newest);
            up.allocated = up.allocated.saturating_add(row.allocated);
            up.apparent = up.apparent.saturating_add(row.apparent);
            up.exclusive = up.exclusive.saturating_add(row.exclusive);
            up.profile.iter_mut().zip(row.profile).for_each(|(sum, more)| *sum += more);
        }
    }

    fn add_linked(&mut self) {
        let linked = std::mem::take(&mut self.linked);
        // which inode a directory was last counted for, and how many of its names lie below
        let mut seen: Vec<(u32, u32)> = vec![(NONE, 0); self.directories.len()];
        for (number, inode) in linked.values().enumerate() {
            let Some(&first) = inode.names.first() else { continue };
            let first = first as usize;
            let (allocated, size) = (self.blocks[first].saturating_mul(512), self.size[first]);
            let class = self.age_class(self.mtime[first]);
            let all_met = inode.names.len() == inode.links as usize;
            for name in &inode.names {
                let mut at = self.parent[*name as usize];
                while at != NONE {
                    let row = self.directory[at as usize] as usize;
                    if seen[row].0 != number as u32 {
                        seen[row] = (number as u32, 0);
                        let row = &mut self.directories[row];
                        row.allocated = row.allocated.saturating_add(allocated);
                        row.apparent = row.apparent.saturating_add(size);
                        row.profile[class] += allocated as f32;
                    }
                    seen[row].1 += 1;
                    if all_met && seen[row].1 == inode.links {
                        let row = &mut self.directories[row];
                        row.exclusive = row.exclusive.saturating_add(allocated);
                    }
                    at = self.parent[at as usize];
                }
            }
        }
        self.linked = linked;
    }
}
