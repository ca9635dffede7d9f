//! Planning leftovers: what of a group can go is looked at closely, and goes with the deed that was chosen.

use std::path::{Path, PathBuf};

use super::copies::stays_anyway;
use super::{Choice, Deed, Planned, Proposal, Refusal, Reviewer, plan_journal, plan_packages};
use crate::analysis::Packages;
use crate::catalog::Catalog;
use crate::kernel::Kind;
use crate::leftovers::{GroupName, Leftover, PackageRemoval, What, as_one, original_place};
use crate::rule::{ProgramMatch, RuleSet};

/// What came of planning leftovers.
#[derive(Debug, Default)]
pub struct PlannedLeftovers {
    /// What can be put on a draft.
    pub planned: Vec<Planned>,
    /// Why the rest is not planned.
    pub left_out: Vec<Refusal>,
}

/// Looks closely at leftovers of one group, and plans them. What belongs together is planned together or not at all; what
/// is open, protected, owned by a package or no longer as it was scanned is left out. Packages go through their manager,
/// all that are given in one action.
pub fn plan_leftovers<'i>(
    catalog: &Catalog,
    name: GroupName,
    items: impl IntoIterator<Item = &'i Leftover>,
    deed: &Deed,
    reviewer: &mut Reviewer<'_>,
) -> PlannedLeftovers {
    let packages = std::cell::LazyCell::new(|| Packages::of_system(Path::new("/")));
    let reason = reason(name);
    let mut outcome = PlannedLeftovers::default();
    let mut removals: Vec<&PackageRemoval> = Vec::new();
    for item in items {
        if let What::Package(removal) = &item.what {
            removals.push(removal);
            continue;
        }
        if *deed == Deed::VacuumJournal {
            let files: Vec<PathBuf> = item.ids().iter().map(|id| catalog.path(*id)).collect();
            let volume = files.first().map(|file| reviewer.volume_of(file, Kind::File));
            let planned = plan_journal(&files, reason.clone(), volume.unwrap_or_default());
            match planned {
                Ok(planned) => outcome.planned.push(planned),
                Err(refusal) => outcome.left_out.push(refusal),
            }
            continue;
        }
        let one = |id| {
            let entry = catalog.scanned_entry(id);
            let is_directory = catalog.is_directory(id);
            let choice = Choice::Scanned { entry, by_reading: false };
            if name == GroupName::Kernels {
                return reviewer.plan_kernel_part(&choice, deed, &reason);
            }
            let planned = reviewer.plan(&choice, deed, &reason)?;
            match stays_anyway(&planned, is_directory, &packages) {
                Some(refusal) => Err(refusal),
                None => Ok(planned),
            }
        };
        if let Deed::Restore { .. } = deed {
            match restore_of(catalog, item, &reason, reviewer) {
                Ok(planned) => outcome.planned.push(planned),
                Err(refusal) => outcome.left_out.push(refusal),
            }
            continue;
        }
        match item.ids().iter().copied().map(one).collect::<Result<Vec<_>, _>>() {
            Ok(mut planned) => {
                let first = planned.first().filter(|_| planned.len() > 1);
                let together = first.map(|first| first.path.clone());
                planned.iter_mut().for_each(|one| one.together.clone_from(&together));
                outcome.planned.extend(planned);
            }
            Err(refusal) => outcome.left_out.push(refusal),
        }
    }
    if let Some(removal) = as_one(&removals) {
        let planned = match deed {
            Deed::RemovePackages => {
                plan_packages(&removal, reason, &|path, kind| reviewer.volume_of(path, kind))
            }
            _ => Err(Refusal::Hopeless {
                path: removal.list,
                reason: "packages go through the package manager only".to_owned(),
            }),
        };
        match planned {
            Ok(planned) => outcome.planned.push(planned),
            Err(refusal) => outcome.left_out.push(refusal),
        }
    }
    outcome
}

/// Plans what rules have taken that programs of their own remove; of each rule and group its packages in one action, since
/// one may need another. Gives for each rule and group what came of it.
pub fn plan_by_program(
    catalog: &Catalog,
    rules: &RuleSet,
    matches: &[&ProgramMatch],
    reviewer: &mut Reviewer<'_>,
) -> Vec<(GroupName, PlannedLeftovers)> {
    let mut all = Vec::new();
    let sort = |found: &ProgramMatch| (found.rule, found.group, found.is_held());
    for together in matches.chunk_by(|a, b| sort(a) == sort(b)) {
        let first = together[0];
        let Some(deed) = usual_deed(first.group, &first.item) else { continue };
        let items = together.iter().map(|found| &found.item);
        let mut outcome = plan_leftovers(catalog, first.group, items, &deed, reviewer);
        for planned in &mut outcome.planned {
            planned.reason = Proposal::reason(&rules.rules[usize::from(first.rule)]);
        }
        all.push((first.group, outcome));
    }
    all
}

/// Plans that something in a bin goes back to where it was.
fn restore_of(
    catalog: &Catalog,
    item: &Leftover,
    reason: &str,
    reviewer: &Reviewer<'_>,
) -> Result<Planned, Refusal> {
    let path = item.id().map(|id| catalog.path(id)).unwrap_or_default();
    let not_said = || Refusal::Hopeless {
        path: path.clone(),
        reason: "its bin does not say where it was, or says a place that is not its owner's"
            .to_owned(),
    };
    let place = original_place(catalog, item).ok_or_else(not_said)?;
    let [id, info] = item.ids() else { return Err(not_said()) };
    let scanned = |id| Choice::Scanned { entry: catalog.scanned_entry(id), by_reading: false };
    let info = reviewer.review(&scanned(*info))?.target;
    let deed = Deed::Restore { place, info: Some(Box::new(info)) };
    reviewer.plan(&scanned(*id), &deed, reason)
}

/// The reason that a plan gives for what is left over.
pub fn reason(name: GroupName) -> String {
    format!("left over: {}", name.group().title)
}

/// What is usual for a leftover, if something is: packages go through their manager, what makes itself again is deleted,
/// the rest is set aside.
pub fn usual_deed(name: GroupName, item: &Leftover) -> Option<Deed> {
    use crate::leftovers::Usual;
    match (&item.what, name.group().usual) {
        (What::Held(_), _) | (_, Usual::Release | Usual::Tell) => None,
        (What::Package(_), _) => Some(Deed::RemovePackages),
        (_, Usual::Vacuum) => Some(Deed::VacuumJournal),
        (_, Usual::Delete) => Some(Deed::Delete),
        // a kernel that was installed by hand
        (_, Usual::SetAside | Usual::Packages) => Some(Deed::SetAside),
    }
}
