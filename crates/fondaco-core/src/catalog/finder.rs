//! Finding many paths in one catalog.

use std::cell::RefCell;
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
    tables: RefCell<FxHashMap<EntryId, FxHashMap<&'a [u8], EntryId>>>,
}

impl<'a> Finder<'a> {
    /// For one catalog.
    pub fn new(catalog: &'a Catalog) -> Self {
        Self { catalog, tables: RefCell::default() }
    }

    /// The catalog in which it finds them.
    pub fn catalog(&self) -> &'a Catalog {
        self.catalog
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::{Options, Scan};
    use crate::units::Time;

    #[test]
    fn what_is_found_is_what_the_catalog_finds_however_many_names_there_are() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        for (place, count) in [("narrow", MANY - 1), ("wide", MANY), ("wide/wider", 3 * MANY)] {
            let place = root.join(place);
            std::fs::create_dir(&place).unwrap();
            (0..count).for_each(|n| std::fs::write(place.join(format!("gauge-{n}")), "").unwrap());
        }
        let mut scan =
            Scan::start(std::slice::from_ref(&root), &Options::new(Time::now())).unwrap();
        scan.wait();
        let catalog = scan.into_catalog();
        let finder = Finder::new(&catalog);
        let mut found = 0;
        // asked twice: names are put in a table the first time
        for _ in 0..2 {
            let mut left: Vec<EntryId> = catalog.children(catalog.top().unwrap()).collect();
            while let Some(id) = left.pop() {
                left.extend(catalog.children(id));
                let path = catalog.path(id);
                assert_eq!(finder.find(&path), Some(id), "{path:?}");
                assert_eq!(finder.find(&path.join("nobody")), None);
                found += 1;
            }
        }
        assert_eq!(found, 2 * (3 + 5 * MANY - 1), "all of them");
        for missing in ["wide/gauge-", "wide/gauge-00", "narrow/gauge-x", "wide/wider/gauge-96"] {
            assert_eq!(finder.find(&root.join(missing)), None, "{missing}");
        }
        assert_eq!(finder.find(&root), catalog.top());
        assert_eq!(finder.find("/nonexistent".as_ref()), None, "outside the scan");
    }
}
