//! Leftovers: what nobody may need, in groups; each with what speaks for and against it.
//!
//! `looking` has them found, first by the scan alone and then by a closer look; `rows` says what is listed; `planning` plans
//! one of them or a whole group. Deleted files that processes hold are a group of their own, which needs no scan.

mod evidence;
mod held_view;
mod looking;
mod planning;
mod rows;
#[cfg(test)]
mod tests;
mod view;

use std::sync::Arc;

use fondaco_core::catalog::EntryId;
use fondaco_core::kernel::{DeletedFile, DeletedFiles};
use fondaco_core::leftovers::GroupName;
use fondaco_core::plan::Deed;
use fondaco_core::units::Bytes;
use fondaco_core::volume::Volume;
use ratatui::layout::Rect;

use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::{Model, Searched};
use crate::frame::update::evidence::look;
use crate::frame::update::{export, held};
use crate::frame::view::{Pen, Sheet};
use crate::query::{FoundLeftovers, Held};
use crate::words::short_bytes;
use looking::Look;

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// Counts what is asked for: what an earlier look still says is not believed.
    number: u64,
    /// The scan and the selection that all this is about.
    about: Searched,
    look: Look,
    /// The selected group; the first one if that is not there.
    group: Option<GroupName>,
    /// The leftovers of the selected group have the keys.
    inside: bool,
    /// The selected leftover of the group.
    item: usize,
    /// What a choice of a deed is about.
    chosen: planning::Chosen,
}

/// See the [module](self).
pub struct Room;

/// Selects a deleted file by its place in the list.
pub(super) fn select_held(model: &mut Model, place: usize) {
    let state = &mut model.rooms.leftovers;
    (state.group, state.inside, state.item) = (Some(GroupName::Held), true, place);
}

/// The selected deleted file, if their group is open.
fn selected_held(model: &Model) -> Option<&DeletedFile> {
    let state = &model.rooms.leftovers;
    let is_open = rows::is_inside(model) && rows::selected_group(model) == Some(GroupName::Held);
    model.held.files.get(state.item).filter(|_| is_open)
}

fn in_groups(model: &Model) -> bool {
    !rows::is_inside(model) && !rows::groups(model).is_empty()
}

fn open_group(model: &mut Model) -> Vec<Job> {
    let state = &mut model.rooms.leftovers;
    (state.inside, state.item) = (true, 0);
    look(model)
}

fn close_group(model: &mut Model) -> Vec<Job> {
    model.rooms.leftovers.inside = false;
    look(model)
}

fn plan_selected(model: &mut Model) -> Vec<Job> {
    match selected_held(model) {
        Some(_) => held::choose_deed(model, model.rooms.leftovers.item),
        None => planning::choose(model),
    }
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("open the group", &[Key::Enter, Key::Right], 1, in_groups, open_group,
        "go to the leftovers of the selected group"),
    command("plan it", &[Key::Char(' ')], 1, rows::is_on_item, plan_selected,
        "choose what is done with the selected leftover, or take it off the plan"),
    command("plan all", &[Key::Char('A')], 2, planning::can_plan_group, planning::choose_group,
        "plan all of the selected group that can go; its number has to be typed"),
    command("one by one", &[Key::Char('O')], 3, planning::can_plan_group, planning::ask_one_by_one,
        "ask about each leftover of the group: it stays unless you say otherwise"),
    command("where it lies", &[Key::Enter], 3, rows::is_on_entry, rows::show_place,
        "go to the directory that holds the selected leftover"),
    command("groups", &[Key::Left], 4, |m| m.rooms.leftovers.inside && !m.scan.roots.is_empty(), close_group,
        "back to the groups"),
    command("stop looking", &[Key::Char('S')], 5, looking::can_stop, looking::stop,
        "end the closer look; what has been found by then is shown"),
    command("this machine", &[Key::Char('M')], 5, looking::can_scan_machine, looking::scan_machine,
        "scan the places where the system's own leftovers lie: caches, packages, kernels, logs"),
    command("look again", &[Key::Function(5)], 8, looking::has_looked, looking::again,
        "look for leftovers once more"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        match rows::is_inside(model) {
            true => rows::items(model),
            false => rows::groups(model).len(),
        }
    }

    fn cursor(&self, model: &Model) -> usize {
        match rows::is_inside(model) {
            true => model.rooms.leftovers.item,
            false => rows::group_cursor(model),
        }
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        if rows::is_inside(model) {
            model.rooms.leftovers.item = row;
        } else {
            let name = rows::groups(model).get(row).copied();
            let state = &mut model.rooms.leftovers;
            (state.group, state.item) = (name, 0);
        }
        look(model)
    }

    fn lines_beside_list(&self, _: &Model) -> u16 {
        8
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        let mut jobs = vec![Job::LoadVolumes(model.state.clone())];
        jobs.extend(looking::begin(model));
        jobs.extend(look(model));
        jobs
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        std::mem::take(&mut model.rooms.leftovers.inside).then(Vec::new)
    }

    fn subject(&self, model: &Model) -> Option<EntryId> {
        rows::entry(model)
    }

    fn volume<'m>(&self, model: &'m Model) -> Option<&'m Volume> {
        model.volume_of_held(selected_held(model)?)
    }

    fn shows_scan(&self) -> bool {
        true
    }

    fn awaits_scan(&self, model: &Model) -> bool {
        !looking::has_looked(model)
    }

    fn refresh(&self, model: &mut Model) -> Vec<Job> {
        if model.rooms.leftovers.about != model.searched() {
            looking::forget(model);
        }
        looking::begin(model)
    }

    fn forget_scan(&self, model: &mut Model) {
        looking::forget(model);
    }

    fn after_scan(&self, model: &mut Model) -> Vec<Job> {
        looking::forget(model);
        looking::begin_if_seen(model)
    }

    /// The selected file stays selected.
    fn after_held(&self, model: &mut Model, before: &DeletedFiles) {
        if rows::selected_group(model) != Some(GroupName::Held) {
            return;
        }
        let inode = |file: &DeletedFile| (file.dev, file.ino);
        let cursor = model.rooms.leftovers.item;
        let selected = before.files.get(cursor).map(inode);
        let place = model.held.files.iter().position(|file| Some(inode(file)) == selected);
        let last = model.held.files.len().saturating_sub(1);
        model.rooms.leftovers.item = place.unwrap_or(cursor).min(last);
    }

    fn plans_itself(&self) -> bool {
        true
    }

    fn plan_many(&self, model: &mut Model, deed: &Deed) -> Option<Vec<Job>> {
        Some(planning::put(model, deed))
    }

    fn new_rule(&self, model: &Model) -> Option<fondaco_core::rule::NewRule> {
        rows::new_rule(model)
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        let held = model.held.clone();
        match looking::results(model) {
            Some(found) => {
                export::of_whole_scan(model, FoundLeftovers { found: Arc::clone(found), held })
            }
            None => {
                Some(Exported::Known(Box::new(Held { found: held, state: model.state.clone() })))
            }
        }
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        let held: Bytes = model.held.files.iter().filter_map(|file| file.allocated).sum();
        let found = looking::results(model).map_or(Bytes::ZERO, |found| found.total.allocated);
        if held + found == Bytes::ZERO {
            return (String::new(), false);
        }
        (short_bytes(held + found, model.units), true)
    }

    fn add_to_evidence(&self, model: &Model, entry: EntryId, sheet: &mut Sheet) {
        evidence::add(model, entry, sheet);
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of_selected(model, pen)
    }
}
