//! Planning leftovers: what of a group can go is looked at closely, and goes with the deed that was chosen.

use super::copies::stays_anyway;
use super::{Choice, Deed, Planned, Refusal, Reviewer};
use crate::analysis::Packages;
use crate::catalog::Catalog;
use crate::leftovers::{GroupName, Leftover};

/// What came of planning leftovers.
#[derive(Debug, Default)]
pub struct PlannedLeftovers {
    /// What can be put on a draft.
    pub planned: Vec<Planned>,
    /// Why the rest is not planned.
    pub left_out: Vec<Refusal>,
}

/// Looks closely at leftovers of one group, and plans them. What belongs together is planned together or not at all; what
/// is open, protected, owned by a package or no longer as it was scanned is left out.
pub fn plan_leftovers<'i>(
    catalog: &Catalog,
    name: GroupName,
    items: impl IntoIterator<Item = &'i Leftover>,
    deed: &Deed,
    reviewer: &Reviewer<'_>,
) -> PlannedLeftovers {
    let packages = std::cell::LazyCell::new(|| Packages::of_system(std::path::Path::new("/")));
    let reason = reason(name);
    let mut outcome = PlannedLeftovers::default();
    for item in items {
        let one = |id| {
            let entry = catalog.scanned_entry(id);
            let is_directory = catalog.is_directory(id);
            let choice = Choice::Scanned { entry, by_reading: false };
            let planned = reviewer.plan(&choice, deed, &reason)?;
            match stays_anyway(&planned, is_directory, &packages) {
                Some(refusal) => Err(refusal),
                None => Ok(planned),
            }
        };
        match item.ids().iter().copied().map(one).collect::<Result<Vec<_>, _>>() {
            Ok(planned) => outcome.planned.extend(planned),
            Err(refusal) => outcome.left_out.push(refusal),
        }
    }
    outcome
}

/// The reason that a plan gives for what is left over.
pub fn reason(name: GroupName) -> String {
    format!("left over: {}", name.group().title)
}
