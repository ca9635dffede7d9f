//! What the station lists: groups, and the leftovers of one.

use std::path::PathBuf;

use fondaco_core::catalog::EntryId;
use fondaco_core::leftovers::{FoundGroup, GroupName, Leftover, PackageRemoval, What};
use fondaco_core::packed_list::Record;
use fondaco_core::plan::{Deed, Planned, Review, ToolTarget};
use fondaco_core::rule::NewRule;
use fondaco_core::shown::Shown;

use super::looking;
use crate::frame::message::Job;
use crate::frame::model::Model;

/// The groups in which there is something, in their order.
pub(super) fn groups(model: &Model) -> Vec<GroupName> {
    let held = (!model.held.files.is_empty()).then_some(GroupName::Held);
    let found = looking::results(model).into_iter().flat_map(|found| &found.groups);
    held.into_iter().chain(found.map(|group| group.name)).collect()
}

/// Whether the leftovers of a group have the keys: without a scan there is only the group of deleted files.
pub(super) fn is_inside(model: &Model) -> bool {
    model.rooms.leftovers.inside || model.scan.roots.is_empty()
}

/// The selected group: the first one if none was chosen.
pub(super) fn selected_group(model: &Model) -> Option<GroupName> {
    let groups = groups(model);
    let chosen = model.rooms.leftovers.group.filter(|name| groups.contains(name));
    // a group whose files are gone stays open
    let held = model.rooms.leftovers.group.filter(|name| *name == GroupName::Held);
    chosen.or(held.filter(|_| is_inside(model))).or(groups.first().copied())
}

pub(super) fn group_cursor(model: &Model) -> usize {
    let selected = selected_group(model);
    groups(model).iter().position(|name| Some(*name) == selected).unwrap_or(0)
}

/// What was found of the selected group; nothing of deleted files, which are no part of a scan.
pub(super) fn found_group(model: &Model) -> Option<&FoundGroup> {
    looking::results(model)?.group(selected_group(model)?)
}

/// How many leftovers the selected group lists.
pub(super) fn items(model: &Model) -> usize {
    match selected_group(model) {
        Some(GroupName::Held) => model.held.files.len(),
        _ => found_group(model).map_or(0, |group| group.items.len()),
    }
}

/// The selected leftover, if the leftovers of a group have the keys.
pub(super) fn item(model: &Model) -> Option<(GroupName, &Leftover)> {
    let group = found_group(model).filter(|_| is_inside(model))?;
    Some((group.name, group.items.get(model.rooms.leftovers.item)?))
}

pub(super) fn is_on_item(model: &Model) -> bool {
    item(model).is_some() || super::selected_held(model).is_some()
}

/// The entry of the scan that the selected leftover is.
pub(super) fn entry(model: &Model) -> Option<EntryId> {
    item(model)?.1.id()
}

pub(super) fn is_on_entry(model: &Model) -> bool {
    entry(model).is_some()
}

pub(super) fn show_place(model: &mut Model) -> Vec<Job> {
    match entry(model) {
        Some(id) => crate::station::to_entry(model, id),
        None => Vec::new(),
    }
}

/// The name that a leftover goes by, below its scanned root where it is an entry.
pub(super) fn name(model: &Model, item: &Leftover) -> String {
    match &item.what {
        What::Package(removal) => removal.packages.join(", "),
        What::Held(_) => String::new(),
        What::Entry(_) | What::Entries(_) => {
            let Some((id, catalog)) = item.id().zip(model.scan.read()) else {
                return String::new();
            };
            let below = match catalog.roots().len() {
                1 => catalog.path_below_root(id),
                _ => catalog.path(id),
            };
            let mark = if catalog.is_directory(id) { "/" } else { "" };
            format!("{}{mark}", Shown(&below))
        }
    }
}

/// The planned thing that removes a package, by its path: several packages may go in one action.
pub(super) fn planned_removal(model: &Model, removal: &PackageRemoval) -> Option<PathBuf> {
    let name = removal.packages.first()?;
    if !model.draft.sums().has_tools {
        return None;
    }
    let removes_it = |planned: &Record<Planned>| match &planned.review {
        Review::Ready(survey) if planned.deed == Deed::RemovePackages => {
            match survey.tool.as_deref() {
                Some(ToolTarget::Packages(tool)) => tool.packages.contains(name),
                _ => false,
            }
        }
        _ => false,
    };
    model.draft.planned().iter().find(removes_it).map(|planned| planned.path.clone())
}

/// Whether a leftover is on the plan.
pub(super) fn is_planned(model: &Model, item: &Leftover) -> bool {
    match &item.what {
        What::Package(removal) => planned_removal(model, removal).is_some(),
        What::Held(_) => false,
        What::Entry(_) | What::Entries(_) => item
            .id()
            .and_then(|id| model.scan.path_of(id))
            .is_some_and(|path| model.draft.is_planned(&path)),
    }
}

/// Keeps the selected rows within their lists.
pub(super) fn hold(model: &mut Model) {
    let last = items(model).saturating_sub(1);
    let state = &mut model.rooms.leftovers;
    state.item = state.item.min(last);
}

/// A rule for the selected group, if rules can be made of it.
pub(super) fn new_rule(model: &Model) -> Option<NewRule> {
    let name = selected_group(model).filter(|name| name.group().can_be_rule())?;
    Some(crate::station::new_rule_of_group(model, name))
}
