//! Finding many paths in one catalog.

use std::cell::RefCell;
use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use rustc_hash::FxHashMap;

use super::{Catalog, EntryId, Root};

/// From how many children on a directory's names are put in a table.
const MANY: usize = 32;

/// Finds entries by path like [`Catalog::find`], but reads the names of a large directory only once.
#[derive(Debug)]
pub struct Finder<'a> {
    catalog: &'a Catalog,
    tables: RefCell<HashMap<EntryId, FxHashMap<&'a [u8], EntryId>>>,
}

impl<'a> Finder<'a> {
    /// For one catalog.
    pub fn new(catalog: &'a Catalog) -> Self {
        Self { catalog, tables: RefCell::default() }
    }

    /// The root that a path lies below.
    pub fn root_of(&self, path: &Path) -> Option<&'a Root> {
        self.catalog.root_above(path)
    }

    /// The entry at a path, if the scan met it.
    pub fn find(&self, path: &Path) -> Option<EntryId> {
        let root = self.root_of(path)?;
        let below = path.strip_prefix(&root.path).ok()?;
        below.iter().try_fold(root.entry, |at, name| self.find_in(at, name))
    }

    /// The entry of a name in a directory.
    pub fn find_in(&self, directory: EntryId, name: &OsStr) -> Option<EntryId> {
        let catalog = self.catalog;
        let children = catalog.children(directory);
        if children.len() < MANY {
            return catalog.find_in(directory, name);
        }
        let mut tables = self.tables.borrow_mut();
        let table = tables
            .entry(directory)
            .or_insert_with(|| children.map(|id| (catalog.name_bytes(id), id)).collect());
        table.get(name.as_bytes()).copied()
    }
}
