//! Making the totals exact when a scan has ended.

use super::{Catalog, EntryId, NONE};

impl Catalog {
    /// Makes all totals exact and declares the catalog finished; `complete` says whether the scan
    /// went to its end.
    ///
    /// What has one name was summed as it came, and an inode with several names with the first of
    /// them. Here it is added once to every other directory above any of its names, and to the
    /// exclusive bytes of those above all of them, if the scan met as many names as it has.
    pub fn finish(&mut self, complete: bool) {
        let linked = std::mem::take(&mut self.linked);
        // for which inode a directory was last visited, and how many of its names lie below it
        let mut seen: Vec<(u32, u32)> = vec![(NONE, 0); self.directories.len()];
        // neighbours one after the other: they have the same directories above them
        let mut in_order: Vec<_> =
            linked.values().filter_map(|inode| Some((*inode.names.first()?, inode))).collect();
        in_order.sort_unstable_by_key(|(first, _)| *first);
        // exclusive bytes still to be added to a directory and all above it
        let mut within = (NONE, 0u64);
        for (number, (first, inode)) in in_order.into_iter().enumerate() {
            let id = first as usize;
            let blocks = self.own_blocks(EntryId(first));
            let (allocated, size) = (blocks.saturating_mul(512), self.size[id]);
            let class = self.scale.class(self.mtime[id]);
            let all_met = inode.names.len() == inode.links as usize;
            let directory = self.parent[id];
            if inode.names.iter().all(|name| self.parent[*name as usize] == directory) {
                // it was summed with its first name wherever the others are
                if all_met && within.0 != directory {
                    self.add_exclusive(std::mem::replace(&mut within, (directory, 0)));
                }
                within.1 = within.1.saturating_add(if all_met { allocated } else { 0 });
                continue;
            }
            for name in &inode.names {
                let mut at = self.parent[*name as usize];
                while at != NONE {
                    let row = self.row_number(EntryId(at));
                    let (entry, visits) = (&mut self.directories[row], &mut seen[row]);
                    if visits.0 != number as u32 {
                        *visits = (number as u32, 0);
                        if *name != first {
                            entry.allocated = entry.allocated.saturating_add(allocated);
                            entry.apparent = entry.apparent.saturating_add(size);
                            entry.profile[class] += allocated as f32;
                        }
                    }
                    visits.1 += 1;
                    if all_met && visits.1 == inode.links {
                        entry.exclusive = entry.exclusive.saturating_add(allocated);
                    }
                    at = self.parent[at as usize];
                }
            }
        }
        self.add_exclusive(within);
        self.linked = linked;
        self.order_names();
        self.excluded.finish(&self.linked);
        self.complete = complete;
        self.finished = true;
    }

    /// Brings the names of every inode into the order of their paths' bytes: whoever counts an inode once counts it
    /// with the first of them, in whatever order the scan met them.
    fn order_names(&mut self) {
        let mut linked = std::mem::take(&mut self.linked);
        for inode in linked.values_mut() {
            inode.names.sort_unstable_by(|a, b| self.compare_paths(EntryId(*a), EntryId(*b)));
        }
        self.linked = linked;
    }

    fn add_exclusive(&mut self, (mut at, bytes): (u32, u64)) {
        while at != NONE {
            let row = self.row_number(EntryId(at));
            let exclusive = &mut self.directories[row].exclusive;
            *exclusive = exclusive.saturating_add(bytes);
            at = self.parent[at as usize];
        }
    }
}
