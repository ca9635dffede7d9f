//! Duplicates: which files hold the same bytes, and which tree is contained in which.
//!
//! Nothing is read before it is asked for. `searching` counts what could be equal, searches, and puts what was found
//! into rows; `planning` plans what a row or set says; `keep` edits the order of preference.

mod evidence;
mod keep;
mod planning;
mod searching;
#[cfg(test)]
mod tests;
mod view;

use std::collections::HashSet;
use std::sync::Arc;

use fondaco_core::catalog::EntryId;
use fondaco_core::plan::Deed;
use fondaco_core::units::{Bytes, counted};
use ratatui::layout::Rect;

use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::{Model, Searched};
use crate::frame::update::export;
use crate::frame::view::{Pen, Sheet};
use crate::query::FoundCopies;
use crate::words::short_bytes;
use searching::{Again, Could, NotThere, PairRow, Results, Search, SetRow};

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// Counts what is asked for: what an earlier question still says is not believed.
    number: u64,
    /// The scan and the selection that all this is about.
    about: Searched,
    /// What of the scan at hand could be equal.
    could: Option<Could>,
    search: Search,
    /// Sets of equal files are shown, and not the trees.
    shows_sets: bool,
    /// There were results before the scan changed.
    again: Option<Again>,
    /// What the last run did to copies, as it is told behind the results; empty if there was none.
    last_run: String,
    /// Sets were shown before the search that goes on.
    showed_sets: bool,
    /// Copies that stay because they were chosen by hand.
    chosen: HashSet<EntryId>,
    /// What is asked is about all sets, and not about the selected one.
    plans_all: bool,
    /// The selected pair of trees.
    pair: usize,
    /// The selected set.
    set: usize,
    /// What of a tree is not in the other, with the selected file.
    open: Option<(Arc<NotThere>, usize)>,
}

impl State {
    fn results(&self) -> Option<&Arc<Results>> {
        match &self.search {
            Search::Done(results) => Some(results),
            _ => None,
        }
    }
}

/// How many equal copies an entry has elsewhere, if a search of the scan at hand knows.
fn equal_copies(model: &Model, entry: EntryId) -> Option<u64> {
    let state = &model.rooms.duplicates;
    let results = state.results().filter(|_| state.about.scan == model.scan.number)?;
    let number = *results.set_of.get(&entry)?;
    Some(results.found.sets[number as usize].copies.len() as u64 - 1)
}

/// See the [module](self).
pub struct Room;

/// The selected pair of trees, if pairs are shown.
fn selected_pair(model: &Model) -> Option<&PairRow> {
    let state = &model.rooms.duplicates;
    let shown = !state.shows_sets && state.open.is_none();
    state.results().filter(|_| shown)?.pairs.get(state.pair)
}

/// The selected set, if sets are shown.
fn selected_set(model: &Model) -> Option<&SetRow> {
    let state = &model.rooms.duplicates;
    state.results().filter(|_| state.shows_sets)?.sets.get(state.set)
}

fn can_begin(model: &Model) -> bool {
    let state = &model.rooms.duplicates;
    let could = state.could.as_ref().is_some_and(|could| could.files > 0);
    could && matches!(state.search, Search::None) && !model.scan.running
}

fn is_searching(model: &Model) -> bool {
    matches!(model.rooms.duplicates.search, Search::Going { .. })
}

fn has_results(model: &Model) -> bool {
    model.rooms.duplicates.results().is_some()
}

fn shows_sets(model: &Model) -> bool {
    let state = &model.rooms.duplicates;
    state.results().is_some_and(|results| state.shows_sets && !results.sets.is_empty())
}

fn can_plan(model: &Model) -> bool {
    selected_pair(model).is_some() || selected_set(model).is_some()
}

fn turn(model: &mut Model) -> Vec<Job> {
    let state = &mut model.rooms.duplicates;
    (state.shows_sets, state.open) = (!state.shows_sets, None);
    Vec::new()
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("search", &[Key::Enter], 1, can_begin, searching::begin,
        "read what could be equal, as far as it is alike; nothing is changed"),
    command("stop searching", &[Key::Char('S')], 1, |m| is_searching(m) && !m.run.can_stop(), searching::stop,
        "end the search; what has been found by then is shown"),
    command("plan it", &[Key::Char(' ')], 1, can_plan, planning::choose,
        "plan the copies in the selected tree, or those of the set that need not stay"),
    command("what is not there", &[Key::Enter], 2, |m| selected_pair(m).is_some(), searching::open,
        "list what of the selected tree is not in the other one"),
    command("sets or trees", &[Key::Char('=')], 3, has_results, turn,
        "turn from the trees to the sets of equal files, and back"),
    command("plan all", &[Key::Char('A')], 2, shows_sets, planning::choose_all,
        "plan the copies of all sets that need not stay"),
    command("other stays", &[Key::Char('K')], 3, |m| selected_set(m).is_some(), searching::keep_another,
        "let the next copy of the selected set stay, whatever the order of preference says"),
    command("keep", &[Key::Char('k')], 4, has_results, keep::ask_for,
        "say which copies stay: patterns and words, the first that tells copies apart decides"),
    command("search again", &[Key::Function(5)], 8, has_results, searching::begin,
        "search once more: what has not changed is not read again"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        let state = &model.rooms.duplicates;
        match (&state.open, state.results()) {
            (Some((open, _)), _) => open.files.len(),
            (None, Some(results)) if state.shows_sets => results.sets.len(),
            (None, Some(results)) => results.pairs.len(),
            (None, None) => 0,
        }
    }

    fn cursor(&self, model: &Model) -> usize {
        let state = &model.rooms.duplicates;
        match &state.open {
            Some((_, cursor)) => *cursor,
            None if state.shows_sets => state.set,
            None => state.pair,
        }
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        let state = &mut model.rooms.duplicates;
        match &mut state.open {
            Some((_, cursor)) => *cursor = row,
            None if state.shows_sets => state.set = row,
            None => state.pair = row,
        }
        Vec::new()
    }

    fn lines_beside_list(&self, _: &Model) -> u16 {
        3
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        searching::count(model)
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        let state = &mut model.rooms.duplicates;
        if state.open.take().is_some() {
            return Some(Vec::new());
        }
        std::mem::take(&mut state.shows_sets).then(Vec::new)
    }

    fn plan_many(&self, model: &mut Model, deed: &Deed) -> Option<Vec<Job>> {
        Some(planning::put(model, deed))
    }

    fn shows_scan(&self) -> bool {
        true
    }

    fn awaits_scan(&self, model: &Model) -> bool {
        model.rooms.duplicates.could.is_none()
    }

    fn refresh(&self, model: &mut Model) -> Vec<Job> {
        // something may have been planned, and the lens be the same
        if model.rooms.duplicates.about != model.searched() {
            searching::forget(model);
        }
        searching::count(model)
    }

    fn forget_scan(&self, model: &mut Model) {
        searching::forget(model);
    }

    fn after_scan(&self, model: &mut Model) -> Vec<Job> {
        searching::forget_until_wanted(model);
        match model.rooms.duplicates.again {
            // begun when the station is seen: what comes with the change forgets all once more
            Some(_) => Vec::new(),
            None => searching::count(model),
        }
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        let state = &model.rooms.duplicates;
        match &state.search {
            Search::None => (String::new(), false),
            Search::Going { figures, .. } => (format!("{:.0} %", figures.share() * 100.0), true),
            Search::Done(results) if results.relief == Bytes::ZERO => (String::new(), false),
            Search::Done(results) => (short_bytes(results.relief, model.units), true),
        }
    }

    fn add_to_evidence(&self, model: &Model, entry: EntryId, sheet: &mut Sheet) {
        if let Some(copies) = equal_copies(model, entry) {
            let copies = counted(copies, "equal copy");
            sheet.fact("elsewhere", copies);
        }
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        let state = &model.rooms.duplicates;
        let results = state.results()?;
        let query = FoundCopies {
            found: Arc::clone(&results.found),
            pairs: results.pairs.iter().map(|row| row.contained.clone()).collect(),
            relief: results.relief,
            keep: searching::keep(&model.state, state.chosen.clone()).ok()?,
            sets: state.shows_sets,
        };
        export::of_whole_scan(model, query)
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of_selected(model, pen)
    }
}
