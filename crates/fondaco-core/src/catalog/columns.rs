//! A catalog as plain columns, one row an entry, to be kept elsewhere and taken back.

use std::ops::Range;
use std::path::PathBuf;

use rustc_hash::FxHashMap;

use super::batch::{Batch, Facts};
use super::{
    Catalog, Directory, EntryId, ExcludedSums, LinkedInode, MULTI_LINKED, NONE, Origin, Reading,
    Root, Unreadable,
};
use crate::kernel::Kind;
use crate::units::Time;

/// Rows of a catalog: a directory's entries stand together, and after the directory.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Columns {
    /// Row of the directory that holds it; none for a root. Roots come first.
    pub parent: Vec<Option<u32>>,
    /// Names, one after the other; those of roots are empty.
    pub names: Vec<u8>,
    /// How long each is, at most 255.
    pub name_length: Vec<u8>,
    /// What it is.
    pub kind: Vec<Kind>,
    /// Bytes on disk of the entry alone.
    pub allocated: Vec<u64>,
    /// Length in bytes.
    pub apparent: Vec<u64>,
    /// Inode number; of what has one name only it was not kept before version 4 of saved scans.
    pub inode: Vec<Option<u64>>,
    /// Number of its device.
    pub device: Vec<u64>,
    /// How many names its inode has.
    pub links: Vec<u32>,
    /// When it was last written, in seconds since 1970.
    pub modified: Vec<u32>,
    /// The day on which it was last read, counted from 1970, in UTC: most volumes keep that time no
    /// more exactly than to a day. Of directories it is kept from version 4 of saved scans on.
    pub accessed: Vec<Option<u32>>,
    /// Number of its owner.
    pub owner: Vec<u32>,
    /// Number of its group.
    pub group: Vec<u32>,
    /// How far a directory was read, if not wholly.
    pub reading: Vec<Option<Reading>>,
    /// Its mode with the type bits (`inode(7)`), if that was kept.
    pub mode: Vec<Option<u32>>,
    /// The day on which its inode was last changed, as `accessed`, if that was kept.
    pub changed: Vec<Option<u32>>,
}

/// What a catalog is but its rows.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ScanFacts {
    /// The moment that ages are counted from.
    pub now: Time,
    /// Paths of the roots, in the order of their rows.
    pub roots: Vec<PathBuf>,
    /// What could not be read.
    pub unreadable: Vec<Unreadable>,
    /// What filters kept out.
    pub excluded: ExcludedSums,
    /// The scan went to its end.
    pub complete: bool,
    /// Of which machine and file systems it tells.
    pub origin: Origin,
}

/// What is wrong with columns that are no catalog.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("row {row}: {wrong}")]
pub struct Malformed {
    /// Where, from 0.
    pub row: usize,
    /// What is wrong with the row.
    pub wrong: &'static str,
}

impl Columns {
    fn reserve(&mut self, rows: usize) {
        self.parent.reserve(rows);
        self.names.reserve(rows * 16);
        self.name_length.reserve(rows);
        self.kind.reserve(rows);
        self.allocated.reserve(rows);
        self.apparent.reserve(rows);
        self.inode.reserve(rows);
        self.device.reserve(rows);
        self.links.reserve(rows);
        self.modified.reserve(rows);
        self.accessed.reserve(rows);
        self.owner.reserve(rows);
        self.group.reserve(rows);
        self.reading.reserve(rows);
        self.mode.reserve(rows);
        self.changed.reserve(rows);
    }
}

impl Catalog {
    /// How many rows its columns have.
    pub fn rows(&self) -> usize {
        self.len() - self.above_rows()
    }

    /// What stands above several roots has no row.
    fn above_rows(&self) -> usize {
        usize::from(self.top.is_some())
    }

    /// What it is but its rows.
    pub fn scan_facts(&self) -> ScanFacts {
        ScanFacts {
            now: self.now,
            roots: self.roots.iter().map(|root| root.path.clone()).collect(),
            unreadable: self.unreadable.clone(),
            excluded: self.excluded(),
            complete: self.complete,
            origin: self.origin.clone(),
        }
    }

    /// The order that its rows are kept in: of each directory first the files and then the directories,
    /// short names first. So what is alike stands together, and takes little room.
    pub fn row_order(&self) -> RowOrder {
        let mut order: Vec<u32> = Vec::with_capacity(self.rows());
        let mut row_of = vec![NONE; self.directories.len()];
        order.extend(self.roots.iter().map(|root| root.entry.0));
        let mut open: Vec<u32> = order.iter().rev().copied().collect();
        for (row, id) in order.iter().enumerate() {
            row_of[self.row_number(EntryId(*id))] = row as u32;
        }
        let mut children: Vec<(bool, &[u8], u32)> = Vec::new();
        while let Some(directory) = open.pop() {
            children.clear();
            children.extend(
                self.children(EntryId(directory))
                    .map(|id| (self.is_directory(id), self.name_bytes(id), id.0)),
            );
            children
                .sort_unstable_by_key(|(is_directory, name, _)| (*is_directory, name.len(), *name));
            for (is_directory, _, id) in &children {
                if *is_directory {
                    row_of[self.row_number(EntryId(*id))] = order.len() as u32;
                }
                order.push(*id);
            }
            let directories = children.iter().rev().take_while(|(is_directory, ..)| *is_directory);
            open.extend(directories.map(|(_, _, id)| *id));
        }
        RowOrder { order, row_of }
    }

    /// Some of its rows. `linked` is [`Catalog::linked_table`].
    pub fn columns(&self, rows: Range<usize>, order: &RowOrder, linked: &LinkedTable) -> Columns {
        let mut columns = Columns::default();
        columns.reserve(rows.len());
        // most entries stand beside others of their directory: its number, row and device
        let mut above = (NONE, None, 0);
        for id in order.order[rows].iter().map(|id| EntryId(*id)) {
            let parent = self.parent[id.0 as usize];
            if above.0 != parent {
                let row =
                    (!self.is_root(id)).then(|| order.row_of[self.row_number(EntryId(parent))]);
                above = (parent, row, self.device(EntryId(parent)));
            }
            columns.parent.push(above.1);
            let name = self.name_bytes(id);
            columns.names.extend_from_slice(name);
            columns.name_length.push(name.len() as u8);
            let facts = self.facts(id);
            let file = facts.kind != Kind::Directory;
            columns.kind.push(facts.kind);
            columns.allocated.push(facts.blocks.saturating_mul(512));
            columns.apparent.push(facts.size);
            let several = if self.is_multi_linked(id) { linked.0.get(&id.0) } else { None };
            let own_device = || if file { above.2 } else { self.device(id) };
            let (device, links) = several.copied().unwrap_or_else(|| (own_device(), 1));
            columns.inode.push((facts.inode != 0).then_some(facts.inode));
            columns.device.push(device);
            columns.links.push(links);
            columns.modified.push(facts.mtime);
            columns.accessed.push(Some(facts.atime / DAY));
            columns.owner.push(facts.owner.0);
            columns.group.push(facts.owner.1);
            columns.reading.push(self.reading(id).filter(|reading| *reading != Reading::Done));
            columns.mode.push(Some(u32::from(facts.mode)));
            columns.changed.push(Some(facts.ctime / DAY));
        }
        columns
    }

    /// Device and number of names of every entry whose inode has several.
    pub fn linked_table(&self) -> LinkedTable {
        let mut table = FxHashMap::default();
        for ((device, _), inode) in &self.linked {
            for name in &inode.names {
                table.insert(*name, (*device, inode.links));
            }
        }
        LinkedTable(table)
    }

    /// The catalog that has these rows, with all its totals.
    ///
    /// # Errors
    ///
    /// [`Malformed`] if they do not make one tree below each root.
    pub fn from_columns(columns: &Columns, about: ScanFacts) -> Result<Self, Malformed> {
        let mut rows = FromRows::new(about, columns.parent.len(), columns.names.len())?;
        rows.take(columns)?;
        rows.finish()
    }

    fn put_top(&mut self) {
        let mut batch = Batch::new(self.now);
        batch.push_unread(b"");
        self.top = self.push_top(&batch).ok();
        if let Some(top) = self.top {
            self.set_reading(top, Reading::Done);
            let number = self.row_number(top);
            // it is counted with all the others
            self.directories[number].entries = 0;
        }
    }

    /// Counts a row among the entries of its directory, which must follow each other.
    fn put_below(&mut self, parent: u32, id: u32) -> Result<(), &'static str> {
        if !self.is_directory(EntryId(parent)) {
            return Err("it lies below something that is no directory");
        }
        let number = self.row_number(EntryId(parent));
        let above = &mut self.directories[number];
        if above.children == 0 {
            above.first_child = id;
        } else if above.first_child + above.children != id {
            return Err("the entries of its directory do not stand together");
        }
        above.children += 1;
        Ok(())
    }

    fn put_row(&mut self, columns: &Columns, row: usize, name: &[u8], parent: u32) {
        let (kind, blocks) = (columns.kind[row], columns.allocated[row] / 512);
        let id = self.len() as u32;
        self.parent.push(parent);
        self.name_at.push(self.names.len() as u32);
        self.names.push(name.len() as u8);
        self.names.extend_from_slice(name);
        let mode = columns.mode[row].filter(|mode| Kind::of_mode(*mode) == kind);
        self.mode.push(mode.map_or_else(|| kind.mode_bits(), |mode| mode as u16));
        self.size.push(columns.apparent[row]);
        self.inode.push(columns.inode[row].unwrap_or(0));
        self.mtime.push(columns.modified[row]);
        let accessed = columns.accessed[row].map(|day| day.saturating_mul(DAY));
        self.atime.push(accessed.unwrap_or(columns.modified[row]));
        let changed = columns.changed[row].map(|day| day.saturating_mul(DAY));
        self.ctime.push(changed.unwrap_or(columns.modified[row]));
        let owner = (columns.owner[row], columns.group[row]);
        // neighbours mostly have one owner
        let last = self.owner.last().map(|number| number & !MULTI_LINKED);
        let number = match last.filter(|number| self.owners[*number as usize] == owner) {
            Some(number) => number,
            None => self.owner_number(owner),
        };
        let several =
            kind != Kind::Directory && columns.links[row] > 1 && columns.inode[row].is_some();
        self.owner.push(if several { number | MULTI_LINKED } else { number });
        if kind == Kind::Directory {
            let device = self.device_number(columns.device[row]);
            self.blocks.push(self.directories.len() as u32);
            self.directories.push(Directory {
                entry: id,
                first_child: 0,
                children: 0,
                entries: 0,
                own_blocks: blocks,
                allocated: 0,
                apparent: 0,
                exclusive: 0,
                largest: 0,
                newest: 0,
                device,
                reading: columns.reading[row].unwrap_or(Reading::Done),
                profile: Default::default(),
            });
        } else {
            self.put_blocks(id, blocks);
        }
    }

    /// Notes a row whose inode has several names.
    fn link_row(&mut self, columns: &Columns, row: usize, id: u32) {
        let links = columns.links[row];
        if links > 1
            && columns.kind[row] != Kind::Directory
            && let Some(inode) = columns.inode[row]
        {
            let key = (columns.device[row], inode);
            let new = || LinkedInode { links, names: Vec::with_capacity(2) };
            self.linked.entry(key).or_insert_with(new).names.push(id);
        }
    }

    /// All totals, from the last entry to the first: what a directory holds comes after it.
    fn add_up(&mut self) {
        let counted: rustc_hash::FxHashSet<u32> =
            self.linked.values().filter_map(|inode| inode.names.first().copied()).collect();
        for id in (0..self.len() as u32).rev() {
            let facts: Facts = self.facts(EntryId(id));
            let several = self.is_multi_linked(EntryId(id));
            let mut sums = super::batch::Sums { newest: facts.mtime, ..Default::default() };
            if !several || counted.contains(&id) {
                sums.add(&self.scale, facts.blocks, facts.size, facts.mtime, !several);
            }
            sums.entries = 1;
            if facts.kind != Kind::Directory {
                sums.largest = facts.blocks.saturating_mul(512);
            }
            let mut into = self.parent[id as usize];
            if let Some(number) = self.row(EntryId(id)).map(|_| self.row_number(EntryId(id))) {
                self.directories[number].add(&sums);
                sums = self.directories[number].sums();
            }
            if into != NONE {
                into = self.row_number(EntryId(into)) as u32;
                self.directories[into as usize].add(&sums);
            }
        }
    }
}

/// Makes a catalog of rows that are given some at a time, so that they need not all be held beside it.
#[derive(Debug)]
pub struct FromRows {
    new: Catalog,
    about: ScanFacts,
    /// The entry of the first row.
    shift: u32,
    /// How many rows have been taken.
    rows: usize,
}

impl FromRows {
    /// Before the first row; about so many will come, with so many bytes of names.
    ///
    /// # Errors
    ///
    /// [`Malformed`] if there is no root.
    pub fn new(about: ScanFacts, rows: usize, names: usize) -> Result<Self, Malformed> {
        if about.roots.is_empty() {
            return Err(Malformed { row: 0, wrong: "there is no root" });
        }
        let mut new = Catalog::new(about.now);
        if about.roots.len() > 1 {
            new.put_top();
        }
        let shift = new.len() as u32;
        new.make_room(rows, 0, names);
        Ok(Self { new, about, shift, rows: 0 })
    }

    /// How many rows have been taken.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Takes the next rows.
    ///
    /// # Errors
    ///
    /// [`Malformed`] if they make no tree with those before.
    pub fn take(&mut self, columns: &Columns) -> Result<(), Malformed> {
        let roots = self.about.roots.len();
        let rows = self.rows.saturating_add(columns.parent.len());
        let names = self.new.names.len() + columns.names.len();
        if rows >= NONE as usize - 1 || names + rows >= u32::MAX as usize {
            return Err(Malformed { row: rows, wrong: "there are too many" });
        }
        let mut name_from = 0;
        for here in 0..columns.parent.len() {
            let row = self.rows;
            let length = usize::from(columns.name_length[here]);
            let name = &columns.names[name_from..name_from + length];
            name_from += length;
            let wrong = |wrong| Malformed { row, wrong };
            let id = row as u32 + self.shift;
            let parent = match columns.parent[here] {
                None if row < roots => self.new.top.map_or(NONE, |top| top.0),
                None => return Err(wrong("only roots have no directory above them")),
                Some(_) if row < roots => return Err(wrong("a root lies below something")),
                Some(parent) if parent as usize >= row => {
                    return Err(wrong("it comes before the directory that holds it"));
                }
                Some(parent) => parent + self.shift,
            };
            if parent != NONE {
                self.new.put_below(parent, id).map_err(wrong)?;
            }
            self.new.put_row(columns, here, name, parent);
            self.new.link_row(columns, here, id);
            self.rows += 1;
        }
        Ok(())
    }

    /// The catalog that has these rows, with all its totals.
    ///
    /// # Errors
    ///
    /// [`Malformed`] if they do not make one tree below each root.
    pub fn finish(self) -> Result<Catalog, Malformed> {
        let Self { mut new, about, shift, rows } = self;
        if rows < about.roots.len() {
            return Err(Malformed { row: rows, wrong: "there are fewer rows than roots" });
        }
        for (path, id) in about.roots.into_iter().zip(shift..) {
            new.roots.push(Root { path, entry: EntryId(id) });
        }
        if new.roots.iter().any(|root| !new.is_directory(root.entry)) {
            return Err(Malformed { row: 0, wrong: "a root is no directory" });
        }
        new.unreadable = about.unreadable;
        new.origin = about.origin;
        new.times_by_day = true;
        if about.excluded != ExcludedSums::default() {
            let top = new.top().map_or(0, |top| top.0);
            new.excluded.by_directory.insert(top, about.excluded);
        }
        new.names.shrink_to_fit();
        new.add_up();
        new.finish(about.complete);
        Ok(new)
    }
}

/// Seconds of a day.
pub(super) const DAY: u32 = 86_400;

/// The order in which rows are kept: see [`Catalog::row_order`].
#[derive(Debug)]
pub struct RowOrder {
    /// Entries by row.
    order: Vec<u32>,
    /// Rows of directories, by their number among these.
    row_of: Vec<u32>,
}

/// Inodes with several names, as they are kept: see [`Catalog::linked_table`].
#[derive(Debug)]
pub struct LinkedTable(pub(super) FxHashMap<u32, (u64, u32)>);
