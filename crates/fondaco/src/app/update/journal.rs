//! The Journal station: runs, their actions, put back, purge, finish.

use std::collections::BTreeSet;

use fondaco_core::shown::Shown;

use super::plan::begin_run;
use super::{after_change, ask, go_to, scans};
use crate::app::message::{Job, Message};
use crate::app::model::{Asking, Model, OpenRun, RunStage, Station};

pub(super) fn on_news(model: &mut Model, message: Message) -> Vec<Job> {
    match message {
        Message::Journal(Ok(runs)) => {
            // the selected run stays selected when a newer one has come
            let selected = model.selected_run().map(|run| run.id);
            model.journal.runs = runs;
            model.journal.loaded = true;
            let place = model.journal.runs.iter().position(|run| Some(run.id) == selected);
            let keeps = model.journal.open.is_some();
            model.journal.cursor = if keeps { place.unwrap_or(0) } else { 0 };
            if model.journal.open.is_some()
                && let Some(run) = model.selected_run()
            {
                return vec![Job::LoadRun(run.id, model.state.clone())];
            }
        }
        Message::Journal(Err(reason)) => {
            model.journal.loaded = true;
            model.say_trouble(reason);
        }
        Message::JournalRun { run, entries: Ok(entries) }
            if model.selected_run().is_some_and(|selected| selected.id == run) =>
        {
            let cursor = model.journal.open.as_ref().map_or(0, |open| open.cursor);
            let cursor = cursor.min(entries.len().saturating_sub(1));
            model.journal.open = Some(OpenRun { entries, cursor, marked: BTreeSet::new() });
        }
        Message::JournalRun { entries: Err(reason), .. } => model.say_trouble(reason),
        Message::Returned { what, outcome } => return on_returned(model, what, *outcome),
        Message::Settled(Ok(settled)) => {
            if let Some(first) = settled.first() {
                model.say_trouble(format!(
                    "Run {} had been cut off: {} finished, {} given their place back, {} not begun, \
                     {} need a look. See 9 Journal.",
                    first.run, first.finished, first.returned, first.not_begun, first.failed
                ));
            }
            return vec![Job::LoadJournal(model.state.clone())];
        }
        Message::Settled(Err(reason)) => {
            model.say_trouble(format!("A cut-off run could not be settled: {reason}"));
        }
        _ => {}
    }
    Vec::new()
}

fn on_returned(
    model: &mut Model,
    what: &'static str,
    outcome: Result<fondaco_core::carry_out::Returned, String>,
) -> Vec<Job> {
    model.run.stage = RunStage::Idle;
    let touched = outcome.as_ref().map_or(Vec::new(), |returned| {
        let refused = returned.refused.iter().map(|(entry, _)| entry);
        let in_part = returned.in_part.iter().map(|(entry, _)| entry);
        scans::touched(returned.done.iter().chain(in_part).chain(refused))
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
    let Some(run) = model.selected_run() else { return Vec::new() };
    let run = run.id;
    let (entries, marked) = (Vec::new(), BTreeSet::new());
    model.journal.open = Some(OpenRun { entries, cursor: 0, marked });
    vec![Job::LoadRun(run, model.state.clone())]
}

pub(super) fn mark(model: &mut Model) -> Vec<Job> {
    if let Some(open) = &mut model.journal.open
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
    let chosen = model.chosen_to_put_back();
    put_back(model, Some(chosen))
}

pub(super) fn put_all_back(model: &mut Model) -> Vec<Job> {
    put_back(model, None)
}

fn put_back(model: &mut Model, numbers: Option<Vec<u32>>) -> Vec<Job> {
    let Some(run) = model.selected_run() else { return Vec::new() };
    let run = run.id;
    model.run.stage = RunStage::Returning("putting back");
    vec![Job::PutBack(run, numbers, model.state.clone())]
}

pub(super) fn finish_run(model: &mut Model) -> Vec<Job> {
    let Some(run) = model.selected_run() else { return Vec::new() };
    let (id, left) = (run.id, model.not_begun(run) as usize);
    let mut jobs = go_to(model, Station::Plan);
    begin_run(model, left);
    jobs.push(Job::Finish(id, model.state.clone()));
    jobs
}

pub(super) fn ask_to_purge(model: &mut Model) -> Vec<Job> {
    let Some(run) = model.selected_run() else { return Vec::new() };
    let (id, held) = (run.id, model.held(run));
    let sentence = format!(
        "{held} things that run {id} has set aside are removed for good, which frees about {}. They \
         cannot be put back after that. Type their number to purge them.",
        model.bytes(run.forecast.later)
    );
    ask(model, Asking::Purge(id), sentence, Some(held.to_string()))
}

/// The number has been typed.
pub(super) fn purge(model: &mut Model, run: i64) -> Vec<Job> {
    model.run.stage = RunStage::Returning("purging");
    vec![Job::Purge(run, model.state.clone())]
}
