//! The Journal station: runs, their actions, put back, purge, finish.

use std::collections::BTreeSet;
use std::sync::Arc;

use fondaco_core::carry_out::{EntryRecord, Journal, Returned, RunRecord, purge, put_back};
use fondaco_core::packed_list::PackedList;
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::Time;

use super::{OpenRun, chosen_to_put_back, held, not_begun, selected_run};
use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Asking, Model, RunStage, TypedAnswer};
use crate::frame::update::run::begin_run;
use crate::frame::update::{after_change, ask, scans};
use crate::station::to_run;

/// Reads all runs.
#[derive(Debug)]
struct ReadRuns(State);

impl Work for ReadRuns {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let runs = Journal::open(&self.0.journal_file()).and_then(|journal| journal.runs());
        Box::new(Runs(runs.map_err(Failure::of)))
    }
}

/// The journal has been read, or not.
#[derive(Debug)]
pub struct Runs(pub Result<Vec<RunRecord>, Failure>);

impl News for Runs {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        model.rooms.journal.loaded = true;
        let runs = match self.0 {
            Ok(runs) => runs,
            Err(reason) => {
                model.say_trouble(reason);
                return Vec::new();
            }
        };
        // the selected run stays selected when a newer one has come
        let selected = selected_run(model).map(|run| run.id);
        let state = &mut model.rooms.journal;
        state.runs = runs;
        let place = state.runs.iter().position(|run| Some(run.id) == selected);
        let keeps = state.open.is_some();
        state.cursor = if keeps { place.unwrap_or(0) } else { 0 };
        match selected_run(model).filter(|_| keeps) {
            Some(run) => vec![read_run(run.id, &model.state)],
            None => Vec::new(),
        }
    }
}

/// Reads one run's actions.
#[derive(Debug)]
struct ReadRun(i64, State);

impl Work for ReadRun {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self(run, state) = *self;
        let journal = Journal::open(&state.journal_file());
        let entries = journal.and_then(|journal| journal.entries(run)).map_err(Failure::of);
        Box::new(RunRead { run, entries })
    }
}

/// A run of the journal has been read, or not.
#[derive(Debug)]
pub struct RunRead {
    /// Number of the run.
    pub run: i64,
    /// The run's actions.
    pub entries: Result<PackedList<EntryRecord>, Failure>,
}

impl News for RunRead {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let entries = match self.entries {
            Ok(entries) => entries,
            Err(reason) => {
                model.say_trouble(reason);
                return Vec::new();
            }
        };
        if selected_run(model).is_some_and(|selected| selected.id == self.run) {
            let state = &mut model.rooms.journal;
            let cursor = state.open.as_ref().map_or(0, |open| open.cursor);
            let cursor = cursor.min(entries.len().saturating_sub(1));
            state.open = Some(OpenRun { entries, cursor, marked: BTreeSet::new() });
        }
        Vec::new()
    }
}

fn read_run(run: i64, state: &State) -> Job {
    Job::Work(Box::new(ReadRun(run, state.clone())))
}

pub(super) fn read_runs(state: &State) -> Job {
    Job::Work(Box::new(ReadRuns(state.clone())))
}

/// Puts actions of a run back; all of them without numbers.
#[derive(Debug)]
pub struct PutBack(i64, Option<Vec<u32>>, State);

impl Work for PutBack {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self(run, numbers, state) = *self;
        let outcome = put_back(run, numbers.as_deref(), &state, Time::now()).map_err(Failure::of);
        Box::new(CameBack { what: "put back", outcome })
    }
}

/// Removes for good what a run has set aside.
#[derive(Debug)]
pub struct Purge(i64, State);

impl Work for Purge {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self(run, state) = *self;
        let outcome = purge(run, None, &state, Time::now()).map_err(Failure::of);
        Box::new(CameBack { what: "purged", outcome })
    }
}

/// Something has been put back or purged, or not.
#[derive(Debug)]
pub struct CameBack {
    /// Which: "put back" or "purged".
    pub what: &'static str,
    /// What became of it.
    pub outcome: Result<Returned, Failure>,
}

impl News for CameBack {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        on_returned(model, self.what, self.outcome)
    }
}

/// A purge waits for its number.
#[derive(Debug)]
struct ConfirmPurge(i64);

impl TypedAnswer for ConfirmPurge {
    fn take(&self, model: &mut Model, _: &str) -> Result<Vec<Job>, Failure> {
        model.run.stage = RunStage::Returning("purging");
        Ok(vec![Job::Work(Box::new(Purge(self.0, model.state.clone())))])
    }
}

fn on_returned(
    model: &mut Model,
    what: &'static str,
    outcome: Result<Returned, Failure>,
) -> Vec<Job> {
    model.run.stage = RunStage::Idle;
    let touched = outcome.as_ref().map_or(Vec::new(), |returned| {
        let mut touched = scans::touched(&returned.done);
        touched.extend(scans::touched(returned.refused.iter().map(|(entry, _)| entry)));
        touched.extend(scans::touched(returned.in_part.iter().map(|(entry, _)| entry)));
        touched
    });
    match outcome {
        Ok(returned) => {
            let done = returned.done.len();
            if let Some((entry, _)) = returned.in_part.first() {
                let (part, target) = (returned.in_part.len(), Shown(entry.action.place()));
                let reason = &entry.message;
                model.say_trouble(format!("{part} put back in part only: {target}: {reason}"));
                return after_change(model, touched);
            }
            match returned.refused.first() {
                None if what == "purged" => {
                    let freed = model.bytes(returned.freed);
                    model.say(format!("{done} purged, {freed} freed"));
                }
                None if done == 1 => model.say(format!("1 {what}, as it was")),
                None => model.say(format!("{done} {what}, as they were")),
                Some((_, reason)) => {
                    let refused = returned.refused.len();
                    model.say_trouble(format!("{done} {what}, {refused} not: {reason}"));
                }
            }
        }
        Err(reason) => model.say_trouble(format!("Nothing was {what}: {reason}")),
    }
    after_change(model, touched)
}

pub(super) fn open_run(model: &mut Model) -> Vec<Job> {
    let Some(run) = selected_run(model) else { return Vec::new() };
    let run = run.id;
    let (entries, marked) = (PackedList::new(), BTreeSet::new());
    model.rooms.journal.open = Some(OpenRun { entries, cursor: 0, marked });
    vec![read_run(run, &model.state)]
}

pub(super) fn mark(model: &mut Model) -> Vec<Job> {
    if let Some(open) = &mut model.rooms.journal.open
        && let Some(entry) = open.entries.get(open.cursor)
    {
        let number = entry.action.number;
        if !open.marked.remove(&number) {
            if entry.can_be_put_back() {
                open.marked.insert(number);
            } else {
                let state = entry.state.word();
                model.say(format!("Nothing to put back: it is {state}"));
                return Vec::new();
            }
        }
        open.cursor = (open.cursor + 1).min(open.entries.len() - 1);
    }
    Vec::new()
}

pub(super) fn put_back_chosen(model: &mut Model) -> Vec<Job> {
    let chosen = chosen_to_put_back(model);
    begin_to_put_back(model, Some(chosen))
}

pub(super) fn put_all_back(model: &mut Model) -> Vec<Job> {
    begin_to_put_back(model, None)
}

fn begin_to_put_back(model: &mut Model, numbers: Option<Vec<u32>>) -> Vec<Job> {
    let Some(run) = selected_run(model) else { return Vec::new() };
    let run = run.id;
    model.run.stage = RunStage::Returning("putting back");
    vec![Job::Work(Box::new(PutBack(run, numbers, model.state.clone())))]
}

pub(super) fn finish_run(model: &mut Model) -> Vec<Job> {
    let Some(run) = selected_run(model) else { return Vec::new() };
    let (id, left) = (run.id, not_begun(run) as usize);
    let mut jobs = to_run(model);
    begin_run(model, left);
    jobs.push(Job::Finish(id, model.state.clone()));
    jobs
}

pub(super) fn ask_to_purge(model: &mut Model) -> Vec<Job> {
    let Some(run) = selected_run(model) else { return Vec::new() };
    let (id, held) = (run.id, held(run));
    let sentence = format!(
        "{held} things that run {id} has set aside are removed for good, which frees about {}. They \
         cannot be put back after that. Type their number to purge them.",
        model.bytes(run.forecast.later)
    );
    let asking = Asking::Own(Arc::new(ConfirmPurge(id)));
    ask(model, asking, sentence, Some(held.to_string()))
}
