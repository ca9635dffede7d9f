//! The places that the rule file of the state directory protects, from whatever way something is planned.

use std::path::{Path, PathBuf};

use crate::analysis::Protection;
use crate::archive::is_store;
use crate::kernel;
use crate::rule::{RuleFileError, RuleSet};
use crate::shown::Shown;
use crate::state::State;

/// See the [module](self).
#[derive(Debug, Default)]
pub struct RuleProtection {
    places: Vec<PathBuf>,
    /// Why it is not known what is protected: then everything is.
    unknown: Option<RuleFileError>,
}

impl RuleProtection {
    /// What the rule file protects. With a mistake in the file everything is protected.
    pub fn of_state(state: &State) -> Self {
        match RuleSet::read(&state.rules_file(), state) {
            Ok(rules) => {
                let places = rules.map_or_else(Vec::new, |rules| rules.protect);
                Self { places, unknown: None }
            }
            Err(error) => Self { places: Vec::new(), unknown: Some(error) },
        }
    }

    /// The places below the roots of a scan, where relative ones begin.
    pub fn below<'a>(&self, roots: impl Iterator<Item = &'a Path>) -> Vec<PathBuf> {
        let below = |root: &Path, place: &PathBuf| match is_store(place) {
            true => place.clone(),
            false => root.join(place),
        };
        roots.flat_map(|root| self.places.iter().map(move |place| below(root, place))).collect()
    }

    /// Whether nothing about a directory and below it is protected. For entries of it that are no directories
    /// [`RuleProtection::reason`] then says nothing either.
    pub fn leaves_alone(&self, directory: &Path) -> bool {
        let concerns = |place: &Path| place.starts_with(directory) || directory.starts_with(place);
        self.unknown.is_none()
            && !self.places.iter().any(|place| match place.is_absolute() || is_store(place) {
                true => concerns(place),
                false => directory.ancestors().any(|above| concerns(&above.join(place))),
            })
    }

    /// Why an entry must not go, if it must not. A relative place is protected wherever it begins: below every
    /// directory above the entry, since neither a path nor a plan says which of them is meant.
    pub fn reason(&self, path: &Path) -> Option<String> {
        if let Some(unknown) = &self.unknown {
            return Some(format!("what the rules protect is not known: {unknown}"));
        }
        self.places.iter().find_map(|place| {
            if place.is_absolute() || is_store(place) {
                return reason_of(path, place);
            }
            path.ancestors().find_map(|above| reason_of(path, &above.join(place)))
        })
    }
}

/// What is protected on this machine, and below these roots by the rule file of the state directory.
pub fn protection_now<'a>(state: &State, roots: impl Iterator<Item = &'a Path>) -> Protection {
    let mut protection = Protection::of_system(state);
    for place in RuleProtection::of_state(state).below(roots) {
        protection.add(place, "protected by the rules");
    }
    protection
}

fn reason_of(path: &Path, place: &Path) -> Option<String> {
    if path.starts_with(place) {
        return Some(format!("the rules protect {}", Shown(place)));
    }
    let contains = place.starts_with(path) && may_be_there(place);
    contains.then(|| format!("it contains {}, which the rules protect", Shown(place)))
}

/// Whether something has this path; what cannot be examined may have it.
fn may_be_there(path: &Path) -> bool {
    match kernel::stat_path(path) {
        Err(error) => !matches!(error.raw_os_error(), Some(libc::ENOENT | libc::ENOTDIR)),
        Ok(_) => true,
    }
}
