//! What is to be planned: something that was chosen, by a rule or otherwise, and what is to be done with it.

use std::path::Path;

use super::{Choice, Deed};
use crate::archive::is_store;
use crate::catalog::{Catalog, Finder};
use crate::lens::AgeSource;
use crate::rule::{DeedWord, Match, Rule};
use crate::units::Age;

/// Something that was chosen, with what is to be done with it and why.
#[derive(Clone, Debug)]
pub struct Proposal {
    /// What was chosen.
    pub choice: Choice,
    /// What is to be done.
    pub deed: Deed,
    /// By hand, or which rule, in words.
    pub reason: String,
    /// For how many seconds what is set aside is held.
    pub purge_after: Option<u64>,
}

impl Proposal {
    /// What a rule has taken from a catalog. Archives go to the rule's own depot, which begins at the root of the scan if
    /// it is relative, or else to `depot`.
    pub fn of_rule(catalog: &Catalog, rule: &Rule, found: &Match, depot: &Path) -> Self {
        let entry = catalog.scanned_entry(found.entry);
        let deed = match rule.action {
            DeedWord::Delete => Deed::Delete,
            DeedWord::SetAside => Deed::SetAside,
            DeedWord::Archive => {
                let depot = rule.depot.as_deref().unwrap_or(depot);
                let root = Finder::new(catalog).root_of(&entry.path).filter(|_| !is_store(depot));
                Deed::Archive { depot: root.map_or(depot.to_owned(), |root| root.path.join(depot)) }
            }
            DeedWord::Move => {
                let to = rule.to.as_deref().unwrap_or(Path::new(""));
                let root = Finder::new(catalog).root_of(&entry.path);
                let to = root.map_or(to.to_owned(), |root| root.path.join(to));
                Deed::Move { to, same_volume: false }
            }
        };
        let by_reading = rule.lens.asks_for_reading() || rule.ages == AgeSource::Read;
        let choice = Choice::Scanned { entry, by_reading };
        let purge_after = rule.purge_after.map(Age::secs);
        Self { choice, deed, reason: Self::reason(rule), purge_after }
    }

    /// The reason that the actions of a rule carry.
    pub fn reason(rule: &Rule) -> String {
        format!("rule: {}", rule.title)
    }
}
