//! The same path in two trees.

use rustc_hash::FxHashMap;

use crate::catalog::{Catalog, EntryId, Finder};

/// Finds what has the path in one tree that an entry has in another one.
pub(super) struct Counterparts<'a> {
    finder: Finder<'a>,
    /// The directory of the last entry, and what has its path.
    last: (EntryId, Option<EntryId>),
    known: FxHashMap<EntryId, Option<EntryId>>,
}

impl<'a> Counterparts<'a> {
    /// For entries below `tree`.
    pub(super) fn new(catalog: &'a Catalog, tree: EntryId, within: EntryId) -> Self {
        let known = std::iter::once((tree, Some(within))).collect();
        Self { finder: Finder::new(catalog), last: (tree, Some(within)), known }
    }

    /// What has the path in the other tree that an entry below the tree has in that.
    pub(super) fn of(&mut self, entry: EntryId) -> Option<EntryId> {
        let catalog = self.finder.catalog();
        let parent = catalog.parent(entry)?;
        if self.last.0 != parent {
            self.last = (parent, self.directory(parent));
        }
        self.finder.find_in(self.last.1?, catalog.name(entry))
    }

    fn directory(&mut self, directory: EntryId) -> Option<EntryId> {
        let catalog = self.finder.catalog();
        let mut unknown = Vec::new();
        let mut at = directory;
        let mut there = loop {
            if let Some(known) = self.known.get(&at) {
                break *known;
            }
            unknown.push(at);
            at = catalog.parent(at)?;
        };
        for directory in unknown.into_iter().rev() {
            there = there.and_then(|there| self.finder.find_in(there, catalog.name(directory)));
            self.known.insert(directory, there);
        }
        there
    }
}
