//! Holding rules against a catalog.

use std::path::{Path, PathBuf};

use super::{Rule, RuleSet};
use crate::catalog::{Catalog, EntryId};
use crate::kernel::Kind;

/// A file that a rule takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Match {
    /// Which file.
    pub entry: EntryId,
    /// Where it is.
    pub path: PathBuf,
    /// Place of the rule in its file, from 0.
    pub rule: usize,
}

/// What a rule file would take from a catalog.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TryOut {
    /// In the order of paths.
    pub matches: Vec<Match>,
    /// For each rule: files that it matches too, but an earlier rule takes.
    pub taken_before: Vec<u64>,
    /// Files that a rule matches and a protected place keeps.
    pub protected: u64,
}

impl RuleSet {
    /// The protected places as absolute paths below a scanned root.
    pub fn protected_below(&self, root: &Path) -> Vec<PathBuf> {
        self.protect.iter().map(|path| root.join(path)).collect()
    }

    /// What the rules take below one root of a catalog. Ages count from the catalog's moment.
    pub fn matches(&self, catalog: &Catalog, root: EntryId) -> TryOut {
        let at = catalog.path(root);
        let protect = self.protected_below(&at);
        let mut found = TryOut { taken_before: vec![0; self.rules.len()], ..TryOut::default() };
        let mut open = vec![(root, at.clone())];
        while let Some((id, path)) = open.pop() {
            open.extend(catalog.children(id).map(|id| (id, path.join(catalog.name(id)))));
            if catalog.kind(id) != Kind::File {
                continue;
            }
            let below = path.strip_prefix(&at).unwrap_or(&path);
            let takes = |rule: &Rule| rule.takes(catalog, id, below, &path);
            let mut taken_by = (0..self.rules.len()).filter(|rule| takes(&self.rules[*rule]));
            let Some(rule) = taken_by.next() else { continue };
            if protect.iter().any(|place| path.starts_with(place)) {
                found.protected += 1;
                continue;
            }
            taken_by.for_each(|later| found.taken_before[later] += 1);
            found.matches.push(Match { entry: id, path, rule });
        }
        found.matches.sort_by(|a, b| a.path.cmp(&b.path));
        found
    }
}

impl Rule {
    fn takes(&self, catalog: &Catalog, id: EntryId, below: &Path, path: &Path) -> bool {
        let name = catalog.name(id);
        let under = |place: &PathBuf| {
            if place.is_absolute() { path.starts_with(place) } else { below.starts_with(place) }
        };
        self.larger.is_none_or(|limit| catalog.allocated(id) > limit)
            && self.older.is_none_or(|limit| catalog.modified(id).age(catalog.now()) > limit)
            && (self.under.is_empty() || self.under.iter().any(under))
            && (self.names.is_empty() || self.names.iter().any(|p| p.matches(name, below)))
    }
}
