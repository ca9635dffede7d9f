//! Journal: runs and their actions; put back, purge, finish.

mod evidence;
mod restoring;
mod runs;
#[cfg(test)]
pub mod tests;
mod view;

use std::collections::BTreeSet;
use std::path::PathBuf;

use fondaco_core::carry_out::{EntryRecord, EntryState, RunRecord};
use fondaco_core::packed_list::PackedList;
use ratatui::layout::Rect;

use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet};
use crate::query::{Actions, Runs};

/// A run of the journal that has been opened.
#[derive(Clone, Debug)]
struct OpenRun {
    /// The run's actions.
    entries: PackedList<EntryRecord>,
    /// The selected one.
    cursor: usize,
    /// Numbers of those that are marked.
    marked: BTreeSet<u32>,
}

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// Runs, newest first.
    runs: Vec<RunRecord>,
    /// It has been read.
    loaded: bool,
    /// The selected run.
    cursor: usize,
    /// Its actions, if it is open.
    open: Option<OpenRun>,
}

/// The selected run of the journal.
fn selected_run(model: &Model) -> Option<&RunRecord> {
    model.rooms.journal.runs.get(model.rooms.journal.cursor)
}

/// How many actions of a run can be put back.
fn can_be_put_back(run: &RunRecord) -> u64 {
    let done: u64 = EntryState::RETURNABLE.iter().map(|state| run.count(*state)).sum();
    done + run.count(EntryState::Purging)
}

/// How many actions of a run are held, those among them of which some is purged already.
fn held(run: &RunRecord) -> u64 {
    run.count(EntryState::Held) + run.count(EntryState::Purging)
}

/// How many actions of a run were not begun.
fn not_begun(run: &RunRecord) -> u64 {
    run.count(EntryState::Waiting)
}

/// Numbers of the actions that "put back" would put back: the marked ones, or the selected.
fn chosen_to_put_back(model: &Model) -> Vec<u32> {
    let Some(open) = &model.rooms.journal.open else { return Vec::new() };
    let can = |entry: &&EntryRecord| entry.can_be_put_back();
    if open.marked.is_empty() {
        let selected = open.entries.get(open.cursor).into_iter().filter(can);
        return selected.map(|entry| entry.action.number).collect();
    }
    // actions have their numbers from 1 in order
    let marked = open.marked.iter().filter_map(|number| open.entries.get(*number as usize - 1));
    marked.filter(can).map(|entry| entry.action.number).collect()
}

/// See the [module](self).
pub struct Room;

fn on_run(model: &Model) -> bool {
    selected_run(model).is_some() && !model.run.is_active()
}

fn on_action(model: &Model) -> bool {
    on_run(model) && model.rooms.journal.open.is_some()
}

/// The selected run has something that is counted so.
fn run_has(model: &Model, count: fn(&RunRecord) -> u64) -> bool {
    on_run(model) && selected_run(model).is_some_and(|run| count(run) > 0)
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("mark", &[Key::Char(' ')], 1, on_action, runs::mark,
        "mark the action, to put several back at once"),
    command("put back", &[Key::Char('r')], 2, |m| on_action(m) && !chosen_to_put_back(m).is_empty(), runs::put_back_chosen,
        "put back the marked actions, or the selected one"),
    command("restore elsewhere", &[Key::Char('W')], 3, |m| on_action(m) && !restoring::chosen(m).is_empty(), restoring::ask_where,
        "restore a copy of what was archived into another directory"),
    command("put all back", &[Key::Char('B')], 3, |m| run_has(m, can_be_put_back), runs::put_all_back,
        "put back everything that the run has set aside or archived"),
    command("finish the run", &[Key::Char('F')], 3, |m| run_has(m, not_begun), runs::finish_run,
        "carry out what the run has not begun, with all its checks"),
    command("purge", &[Key::Char('P')], 4, |m| run_has(m, held), runs::ask_to_purge,
        "remove for good what the run has set aside; this frees its space"),
    command("go in", &[Key::Enter, Key::Right], 2, |m| m.rooms.journal.open.is_none() && selected_run(m).is_some(), runs::open_run,
        "open the run"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        let state = &model.rooms.journal;
        state.open.as_ref().map_or(state.runs.len(), |open| open.entries.len())
    }

    fn cursor(&self, model: &Model) -> usize {
        let state = &model.rooms.journal;
        state.open.as_ref().map_or(state.cursor, |open| open.cursor)
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        let state = &mut model.rooms.journal;
        match &mut state.open {
            Some(open) => {
                open.entries.trim();
                open.cursor = row;
            }
            None => state.cursor = row,
        }
        Vec::new()
    }

    fn lines_beside_list(&self, _: &Model) -> u16 {
        3
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        vec![runs::read_runs(&model.state)]
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        model.rooms.journal.open.take().map(|_| Vec::new())
    }

    fn after_change(&self, model: &mut Model, _: Option<&[PathBuf]>) -> Vec<Job> {
        vec![runs::read_runs(&model.state)]
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        let state = &model.rooms.journal;
        Some(Exported::Known(match (&state.open, selected_run(model)) {
            (Some(open), Some(run)) => {
                Box::new(Actions { run: run.clone(), entries: open.entries.clone() })
            }
            _ => Box::new(Runs(state.runs.clone())),
        }))
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        let words = match model.rooms.journal.runs.len() {
            0 => String::new(),
            1 => "1 run".to_owned(),
            n => format!("{n} runs"),
        };
        (words, false)
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of_run(model, pen)
    }
}
