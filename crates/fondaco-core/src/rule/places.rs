//! The places that rules name: where they are, and which of them are not there.

use std::io;
use std::path::{Path, PathBuf};

use super::RuleSet;
use crate::archive::{is_store, managed_name};
use crate::catalog::{Catalog, EntryId, Finder};
use crate::kernel;
use crate::shown::{Shown, shown};

impl RuleSet {
    /// The protected places as absolute paths below a scanned root. Those in a managed store are named by its address.
    pub fn protected_below(&self, root: &Path) -> Vec<PathBuf> {
        let is_of_files = managed_name(root).is_none();
        let places = self.protect.iter().filter(|place| is_of_files || is_store(place));
        places.map(|place| if is_store(place) { place.clone() } else { root.join(place) }).collect()
    }

    /// What the rules say of places that the scan of a root did not meet, one sentence each: whoever misspelt what is
    /// to be protected would not notice otherwise.
    pub fn names_nothing(&self, catalog: &Catalog, root: EntryId) -> Vec<String> {
        let finder = Finder::new(catalog);
        let at = catalog.path(root);
        let mut said = Vec::new();
        for place in self.protected_below(&at) {
            // what lies beside the root may be there and was not scanned
            if place.starts_with(&at) && finder.find(&place).is_none() {
                said.push(format!("there is no {} to protect", Shown(&place)));
            }
        }
        for rule in &self.rules {
            if rule.is_elsewhere(catalog.origin()).is_some() {
                continue;
            }
            let title = shown(&rule.title);
            for place in rule.lens.places_not_met(catalog) {
                said.push(format!("rule {title}: there is no {} below the root", Shown(&place)));
            }
            let places = [("depot", &rule.depot), ("destination", &rule.to)];
            for (what, place) in
                places.into_iter().filter_map(|(what, p)| Some((what, p.as_ref()?)))
            {
                // whether a store is there is asked when the rule is tried in earnest, and not for every look
                if is_store(place) {
                    continue;
                }
                let place = at.join(place);
                match kernel::stat_path(&place) {
                    Ok(_) => {}
                    Err(error) if error.kind() == io::ErrorKind::NotFound => {
                        let place = Shown(&place);
                        said.push(format!("rule {title}: the {what} {place} is not there yet"));
                    }
                    Err(error) => {
                        let place = Shown(&place);
                        said.push(format!("rule {title}: the {what} {place}: {error}"));
                    }
                }
            }
        }
        said
    }
}
