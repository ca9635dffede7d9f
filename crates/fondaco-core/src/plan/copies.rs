//! Planning the copies of equal files that need not stay.

use std::cell::LazyCell;
use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};
use std::path::Path;

use super::{Choice, Deed, Planned, Refusal, Review, Reviewer, Target, locate, survey};
use crate::analysis::{Ownership, Packages};
use crate::archive::Metadata;
use crate::catalog::{Catalog, EntryId};
use crate::duplicates::{Keep, Set};
use crate::kernel::{self, CallError, Op};
use crate::shown::Shown;

/// What of a set is planned.
#[derive(Debug, Default)]
pub struct PlannedCopies {
    /// Every scanned name of every copy that need not stay.
    pub planned: Vec<Planned>,
    /// Why some copies, or all of them, are left alone.
    pub left_out: Vec<Refusal>,
}

/// Plans one deed for all copies of a set but the one that is preferred. Each is planned beside that one: right before it
/// goes, both are compared. What is protected, in use or no longer as scanned is left out, and stays too.
pub fn plan_copies(
    catalog: &Catalog,
    set: &Set,
    keep: &Keep,
    deed: &Deed,
    reviewer: &Reviewer<'_>,
) -> PlannedCopies {
    let copies = keep.arrange(catalog, set).copies;
    let mut outcome = PlannedCopies::default();
    // if the preferred one is not there any more, the next one stays
    let stays =
        copies.iter().enumerate().find_map(|(place, copy)| match as_scanned(catalog, *copy) {
            Ok(_) => Some(place),
            Err(refusal) => {
                outcome.left_out.push(refusal);
                None
            }
        });
    let Some(place) = stays else { return outcome };
    let stays = copies[place];
    let names = copies[place + 1..].iter().flat_map(|copy| {
        catalog.names_of_inode(*copy).map_or_else(|| vec![*copy], |(names, _)| names)
    });
    let pairs: Vec<CopyPair> = names.map(|goes| CopyPair { goes, stays }).collect();
    let PlannedCopies { planned, left_out } = plan_pairs(catalog, &pairs, deed, reviewer);
    outcome.planned = planned;
    outcome.left_out.extend(left_out);
    outcome
}

/// A copy that is to go, and the one that stays.
#[derive(Clone, Copy, Debug)]
pub struct CopyPair {
    /// What is to go.
    pub goes: EntryId,
    /// The equal copy that is compared with it, and stays.
    pub stays: EntryId,
}

/// Plans one deed for copies that were chosen each with the one that stays, as those of a tree that is contained in
/// another one.
pub fn plan_pairs(
    catalog: &Catalog,
    pairs: &[CopyPair],
    deed: &Deed,
    reviewer: &Reviewer<'_>,
) -> PlannedCopies {
    let mut outcome = PlannedCopies::default();
    let mut known: HashMap<EntryId, Target> = HashMap::new();
    let mut beside = Beside::default();
    let mut shared = HashSet::new();
    let packages = LazyCell::new(|| Packages::of_system(Path::new("/")));
    for pair in pairs {
        // all names of a file share its blocks at once
        if *deed == Deed::Share && !shared.insert(first_name(catalog, pair.goes)) {
            continue;
        }
        let stays = match known.entry(pair.stays) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(place) => match as_scanned(catalog, pair.stays) {
                Ok(target) => place.insert(target),
                Err(refusal) => {
                    outcome.left_out.push(refusal);
                    continue;
                }
            },
        };
        let reason = format!("equal to {}", Shown(&stays.path.0));
        let choice = Choice::Scanned { entry: catalog.scanned_entry(pair.goes), by_reading: false };
        match reviewer.plan(&choice, deed, &reason) {
            // two names of one inode: it would only be refused when the plan is checked
            Ok(planned) if is_one_inode(catalog, *pair) => {
                outcome.left_out.push(Refusal::Hopeless {
                    path: planned.path,
                    reason: format!("{} is another name of the same file", Shown(&stays.path.0)),
                });
            }
            Ok(planned) if let Some(refusal) = stays_anyway(&planned, false, &packages) => {
                outcome.left_out.push(refusal);
            }
            Ok(planned) => match beside.differences(deed, &planned, stays) {
                Ok(differs) => {
                    let stays = Some(Box::new(stays.clone()));
                    outcome.planned.push(Planned { stays, differs, ..planned });
                }
                Err(refusal) => outcome.left_out.push(refusal),
            },
            Err(refusal) => outcome.left_out.push(refusal),
        }
    }
    outcome
}

/// Why something stays without being asked: it is open, or a package owns it or something below it.
pub(super) fn stays_anyway(
    planned: &Planned,
    is_directory: bool,
    packages: &Packages,
) -> Option<Refusal> {
    let path = planned.path.clone();
    if let Review::Ready(survey) = &planned.review
        && let Some((path, holder)) = &survey.in_use
    {
        return Some(Refusal::InUse { path: path.clone(), holder: Some(holder.clone()) });
    }
    match packages.owner(&path, is_directory) {
        Ownership::Package { name, source } => {
            let reason = format!("it belongs to the package {name} ({source})");
            Some(Refusal::Hopeless { path, reason })
        }
        Ownership::Several { names, count, source } => {
            let reason =
                format!("{count} packages have files in it, {} among them ({source})", names[0]);
            Some(Refusal::Hopeless { path, reason })
        }
        _ => None,
    }
}

/// What the copies that stay have besides their contents; most stand beside many that go.
#[derive(Default)]
struct Beside(HashMap<(u64, u64), Metadata>);

impl Beside {
    /// What a copy loses if it becomes another name of the one that stays. Refuses what cannot be linked or shared.
    fn differences(
        &mut self,
        deed: &Deed,
        planned: &Planned,
        stays: &Target,
    ) -> Result<Vec<String>, Refusal> {
        let Review::Ready(survey) = &planned.review else { return Ok(Vec::new()) };
        if !deed.needs_copy() {
            return Ok(Vec::new());
        }
        if survey.target.device != stays.device {
            let reason = format!("{} lies on another volume", Shown(&stays.path.0));
            return Err(Refusal::Hopeless { path: planned.path.clone(), reason });
        }
        if *deed == Deed::Share {
            return Ok(Vec::new());
        }
        let kept = match self.0.entry((stays.device, stays.inode)) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(place) => place.insert(metadata(&stays.path.0)?),
        };
        Ok(metadata(&planned.path)?.differences(kept))
    }
}

fn metadata(path: &Path) -> Result<Metadata, Refusal> {
    let located = locate(path)?;
    let file = kernel::open_file(&located.parent, located.name.as_os_str());
    let file = file.map_err(CallError::on(Op::Open, path))?;
    Ok(Metadata::of(&file.into(), path)?)
}

fn first_name(catalog: &Catalog, entry: EntryId) -> EntryId {
    let names = catalog.names_of_inode(entry);
    names.and_then(|(names, _)| names.iter().min().copied()).unwrap_or(entry)
}

fn is_one_inode(catalog: &Catalog, pair: CopyPair) -> bool {
    catalog.names_of_inode(pair.goes).is_some_and(|(names, _)| names.contains(&pair.stays))
}

/// The record of a copy, if it is still what was scanned.
fn as_scanned(catalog: &Catalog, copy: EntryId) -> Result<Target, Refusal> {
    let entry = catalog.scanned_entry(copy);
    let target = survey(&entry.path)?.target;
    let same = (target.inode, target.size, target.mtime.sec)
        == (catalog.inode(copy), catalog.apparent(copy).get(), catalog.modified(copy).sec);
    match same {
        true => Ok(target),
        false => {
            Err(Refusal::NotAsScanned { path: entry.path, difference: "it has changed".to_owned() })
        }
    }
}
