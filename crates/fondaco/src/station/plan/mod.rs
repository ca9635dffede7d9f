//! Plan: everything chosen, as one reviewable list with its forecast; and the run while it goes on.

mod emptied;
mod evidence;
mod view;

use fondaco_core::plan::{Deed, Planned, Review};
use fondaco_core::shown::{Shown, shown};
use ratatui::layout::Rect;

use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::{Model, Overlay, RunStage, deeds_for, held_deeds};
use crate::frame::update::run;
use crate::frame::view::{Pen, Sheet};
use crate::query::Drafted;

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// The row that was selected last; the plan may have become shorter since.
    cursor: usize,
}

/// See the [module](self).
pub struct Room;

/// The selected row.
fn cursor(model: &Model) -> usize {
    model.rooms.plan.cursor.min(model.draft.planned().len().saturating_sub(1))
}

/// The selected action.
fn selected(model: &Model) -> Option<&Planned> {
    model.draft.planned().get(cursor(model))
}

fn on_action(model: &Model) -> bool {
    selected(model).is_some() && !model.run.is_active()
}

fn can_rehearse(model: &Model) -> bool {
    (model.ready_actions() > 0 || model.pending_actions() > 0) && !model.run.is_active()
}

fn can_carry_out(model: &Model) -> bool {
    model.ready_actions() > 0 && !model.run.is_active()
}

fn change_deed(model: &mut Model) -> Vec<Job> {
    let Some(planned) = selected(model) else { return Vec::new() };
    let name = shown(planned.place().file_name().unwrap_or_default());
    let path = planned.path.clone();
    let held = match &planned.review {
        Review::Ready(survey) if survey.held.is_some() => {
            Some((survey.target.device, survey.target.inode))
        }
        _ => None,
    };
    let bytes = match &planned.review {
        Review::Ready(survey) => survey.target.allocated,
        _ => planned.estimate,
    };
    let deeds = match held {
        Some(inode) => held_deeds(model.asked_in_vain.contains(&inode)),
        None if planned.emptied => vec![Deed::SetAside, Deed::Delete],
        None => deeds_for(&planned.path, &model.state.depot()),
    };
    let same = |deed: &Deed| deed.word() == planned.deed.word();
    let cursor = deeds.iter().position(same).unwrap_or(0);
    model.overlay =
        Some(Overlay::ChooseDeed { path, name, deeds, held, bytes, cursor, changes: true });
    Vec::new()
}

fn take_off(model: &mut Model) -> Vec<Job> {
    let Some(planned) = selected(model) else { return Vec::new() };
    let (path, place) = (planned.path.clone(), planned.place().to_owned());
    model.draft.take_off(&path);
    model.run.rehearsal = None;
    model.say(format!("Taken off the plan: {}", Shown(place)));
    Vec::new()
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("rehearse", &[Key::Char('R')], 1, can_rehearse, run::rehearse,
        "run all checks of the plan and change nothing"),
    command("carry out", &[Key::Char('C')], 2, can_carry_out, run::ask_to_carry_out,
        "do what is planned, after the number of actions has been typed"),
    command("change", &[Key::Char('c')], 3, on_action, change_deed,
        "choose something else to be done with the target"),
    command("emptied too", &[Key::Char('E')], 5, can_rehearse, emptied::plan,
        "plan the directories too that the plan empties"),
    command("take off", &[Key::Char(' '), Key::Delete], 4, on_action, take_off,
        "take the action off the plan"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        model.draft.planned().len()
    }

    fn cursor(&self, model: &Model) -> usize {
        cursor(model)
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        model.rooms.plan.cursor = row;
        Vec::new()
    }

    fn lines_beside_list(&self, _: &Model) -> u16 {
        5
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        Some(Exported::Known(Box::new(Drafted(model.draft.clone(), model.now))))
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        match &model.run.stage {
            RunStage::Running(figures, _) => (format!("{}/{}", figures.done, figures.total), true),
            RunStage::Rehearsing(_) => ("rehearsing".to_owned(), true),
            _ if model.draft.is_empty() => (String::new(), false),
            _ => (model.bytes(model.planned_now()), true),
        }
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of_action(model, pen)
    }
}
