//! A catalog made anew from an old one and what has changed since: totals, links and all.
//!
//! Numbers of entries change; paths stay. The old catalog is untouched, so readers of it can go on.

use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;

use rustc_hash::FxHashMap;

use super::batch::Facts;
use super::{Batch, Catalog, EntryId, Full, LinkedTable, Origin, Reading};
use crate::kernel::{Kind, Stat};

/// What has changed.
#[derive(Debug, Default)]
pub struct Changes<'a> {
    /// Entries that are no longer there, with all below them.
    pub gone: HashSet<EntryId>,
    /// Entries that were scanned again, each with a scan that has it as its only root.
    pub replaced: HashMap<EntryId, &'a Catalog>,
    /// What has come into a directory: its name, and a scan that has it as its only root.
    pub added: HashMap<EntryId, Vec<(&'a OsStr, &'a Catalog)>>,
    /// Directories whose own facts are others now.
    pub own: HashMap<EntryId, Stat>,
    /// How many names an inode has now, by any of its entries.
    pub links: HashMap<EntryId, u32>,
}

/// Where entries with several names have their device and number of names from.
struct Source<'a> {
    catalog: &'a Catalog,
    links: FxHashMap<u32, (u64, u32)>,
}

impl<'a> Source<'a> {
    fn new(catalog: &'a Catalog, now: &HashMap<EntryId, u32>) -> Self {
        let LinkedTable(mut links) = catalog.linked_table();
        for names in catalog.linked_entries() {
            if let Some(count) = names.iter().find_map(|name| now.get(name)) {
                for name in names {
                    links.entry(name.0).and_modify(|(_, links)| *links = *count);
                }
            }
        }
        Self { catalog, links }
    }

    fn add_to(&self, batch: &mut Batch, name: &[u8], id: EntryId, own: Option<&Stat>) {
        let catalog = self.catalog;
        let (facts, device) = match own {
            Some(stat) => (stat.into(), stat.dev),
            None => (catalog.facts(id), catalog.device(id)),
        };
        let (device, links) = match self.links.get(&id.0) {
            Some((device, links)) => (*device, Some(*links).filter(|links| *links > 1)),
            None => (device, None),
        };
        batch.add(name, &facts, device, links, catalog.reading(id).unwrap_or(Reading::NotYet));
    }
}

impl Catalog {
    /// The catalog as it is after the changes.
    ///
    /// # Errors
    ///
    /// [`Full`] if what was added does not fit.
    pub fn mended(&self, changes: &Changes<'_>) -> Result<Self, Full> {
        let mut new = Self::new(self.now);
        let others = changes.replaced.values().copied();
        let others = others.chain(changes.added.values().flatten().map(|(_, catalog)| *catalog));
        let mut sources = vec![Source::new(self, &changes.links)];
        let none = HashMap::new();
        let mut complete = self.complete;
        let mut number_of = FxHashMap::default();
        for other in others {
            number_of.insert(std::ptr::from_ref(other), sources.len());
            sources.push(Source::new(other, &none));
            complete &= other.complete;
        }
        let source_of = |catalog: &Catalog| number_of.get(&std::ptr::from_ref(catalog)).copied();
        let mut batch = Batch::new(self.now);
        // a directory of a source, and what it is in the new catalog
        let mut open: Vec<(usize, EntryId, EntryId)> = Vec::new();
        for root in &self.roots {
            batch.clear();
            let replaced = changes
                .replaced
                .get(&root.entry)
                .and_then(|other| Some((source_of(other)?, other.roots.first()?.entry)));
            let (source, id) = replaced.unwrap_or((0, root.entry));
            sources[source].add_to(&mut batch, b"", id, changes.own.get(&root.entry));
            open.push((source, id, EntryId(0)));
            new.roots.push(super::Root { path: root.path.clone(), entry: EntryId(0) });
            if self.top.is_none() {
                let entry = new.push_top(&batch)?;
                (new.roots[0].entry, open[0].2) = (entry, entry);
            }
        }
        if self.top.is_some() {
            let first = new.begin_top(|batch| {
                for (place, (source, id, _)) in open.iter().enumerate() {
                    let own = changes.own.get(&self.roots[place].entry);
                    sources[*source].add_to(batch, b"", *id, own);
                }
            })?;
            for (place, (_, _, id)) in open.iter_mut().enumerate() {
                *id = EntryId(first.0 + place as u32);
                new.roots[place].entry = *id;
            }
        }
        while let Some((source, old, directory)) = open.pop() {
            batch.clear();
            let first = open.len();
            let from = &sources[source];
            for child in from.catalog.children(old) {
                let own_tree = source == 0;
                if own_tree && changes.gone.contains(&child) {
                    continue;
                }
                let other = own_tree.then(|| changes.replaced.get(&child)).flatten();
                let other = other.and_then(|o| Some((source_of(o)?, o.roots.first()?.entry)));
                let (child_source, id) = other.unwrap_or((source, child));
                let own = own_tree.then(|| changes.own.get(&child)).flatten();
                let place = EntryId(batch.len() as u32);
                sources[child_source].add_to(&mut batch, from.catalog.name_bytes(child), id, own);
                if sources[child_source].catalog.is_directory(id) {
                    open.push((child_source, id, place));
                }
            }
            let added = (source == 0).then(|| changes.added.get(&old)).flatten();
            for (name, catalog) in added.into_iter().flatten() {
                let (Some(from), Some(root)) = (source_of(catalog), catalog.roots.first()) else {
                    continue;
                };
                let place = EntryId(batch.len() as u32);
                sources[from].add_to(&mut batch, name.as_bytes(), root.entry, None);
                if catalog.is_directory(root.entry) {
                    open.push((from, root.entry, place));
                }
            }
            let reading = sources[source].catalog.reading(old);
            let start = new.append(directory, None, &batch)?;
            new.set_reading(directory, reading.unwrap_or(Reading::Done));
            open[first..].iter_mut().for_each(|(.., id)| id.0 += start.0);
            let excluded = &sources[source].catalog.excluded.by_directory;
            if let Some(sums) = excluded.get(&old.0) {
                new.excluded.by_directory.insert(directory.0, *sums);
            }
        }
        self.keep_unreadable(changes, &sources, &mut new);
        new.times_by_day = self.times_by_day;
        new.origin = self.origin_with(&sources[1..]);
        new.finish(complete);
        Ok(new)
    }

    /// Where the catalog comes from, with the file systems that others tell of besides.
    fn origin_with(&self, others: &[Source<'_>]) -> Origin {
        let mut origin = self.origin.clone();
        for volume in others.iter().flat_map(|other| &other.catalog.origin.volumes) {
            if !origin.volumes.iter().any(|known| known.device == volume.device) {
                origin.volumes.push(volume.clone());
            }
        }
        origin
    }

    fn keep_unreadable(&self, changes: &Changes<'_>, sources: &[Source<'_>], new: &mut Self) {
        let moved = changes.gone.iter().chain(changes.replaced.keys());
        let moved: Vec<_> = moved.map(|id| self.path(*id)).collect();
        let stays = self.unreadable.iter();
        let stays = stays.filter(|p| !moved.iter().any(|path| p.path.starts_with(path)));
        let found = sources[1..].iter().flat_map(|source| &source.catalog.unreadable);
        new.unreadable = stays.chain(found).cloned().collect();
    }

    /// An entry's own facts, without what lies below it.
    pub(super) fn facts(&self, id: EntryId) -> Facts {
        let at = id.0 as usize;
        Facts {
            kind: self.kind(id),
            blocks: self.own_blocks(id),
            size: self.size[at],
            inode: self.inode[at],
            mtime: self.mtime[at],
            atime: self.atime[at],
            ctime: self.ctime[at],
            mode: self.mode[at],
            owner: self.owner(id),
        }
    }

    /// Number of the device that a directory, or the directory that holds an entry, lies on.
    pub(super) fn device(&self, id: EntryId) -> u64 {
        let row = self.row(id).or_else(|| self.parent(id).and_then(|parent| self.row(parent)));
        row.and_then(|row| self.devices.get(usize::from(row.device))).copied().unwrap_or(0)
    }

    /// Every inode with several names of which the scan met some: its entries.
    pub fn linked_entries(&self) -> impl Iterator<Item = Vec<EntryId>> + '_ {
        self.linked.values().map(|inode| inode.names.iter().map(|id| EntryId(*id)).collect())
    }

    /// A catalog of one thing that is no directory, to be added to another.
    pub fn of_one(path: std::path::PathBuf, stat: &Stat, now: crate::units::Time) -> Self {
        let mut new = Self::new(now);
        let several = (stat.kind != Kind::Directory && stat.links > 1).then_some(stat.links);
        let mut batch = Batch::new(now);
        batch.add(b"", &stat.into(), stat.dev, several, Reading::NotYet);
        let entry = new.push_top(&batch).unwrap_or(EntryId(0));
        new.add_links(
            entry,
            &batch,
            0..batch.links.len() as u32,
            &mut super::batch::Sums::default(),
        );
        new.roots.push(super::Root { path, entry });
        new.finish(true);
        new
    }
}
