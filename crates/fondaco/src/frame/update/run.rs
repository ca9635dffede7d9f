//! Rehearsing and carrying out.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use fondaco_core::carry_out::{EntryState, Figures, RunSummary};
use fondaco_core::shown::Shown;
use fondaco_core::units::counted;

use super::{after_change, ask, held, scans};
use crate::failure::Failure;
use crate::frame::message::{Job, Message};
use crate::frame::model::{Asking, Model, RunStage};

/// Whether all that is planned has been looked at; says so if not.
fn is_ready(model: &mut Model) -> bool {
    let count = model.pending_actions();
    if count > 0 {
        model.say_trouble(format!("{count} targets are still being looked at: a moment"));
    }
    count == 0
}

/// Runs all checks of the plan.
pub fn rehearse(model: &mut Model) -> Vec<Job> {
    if model.pending_actions() > 0 {
        model.run.rehearse_when_ready = true;
        model.say("Rehearsed as soon as all targets have been looked at");
        return Vec::new();
    }
    model.run.rehearse_when_ready = false;
    model.run.stage = RunStage::Rehearsing(Figures::default());
    (model.run.stopping, model.run.summary) = (false, None);
    vec![Job::Rehearse(model.draft.clone(), model.state.clone())]
}

/// Says what the plan will do, and asks for the number of its actions.
pub fn ask_to_carry_out(model: &mut Model) -> Vec<Job> {
    if !is_ready(model) {
        return Vec::new();
    }
    let (count, sums) = (model.draft.ready(), model.draft.sums());
    let (frees, deleted) = (sums.frees, sums.for_good);
    let volumes = sums.by_volume.iter();
    let volumes: Vec<String> = volumes
        .map(|(path, frees)| format!("{} on {}", model.bytes(frees.now), Shown(path)))
        .collect();
    let later = match frees.later.get() {
        0 => String::new(),
        _ => format!(" and {} later, when purged", model.bytes(frees.later)),
    };
    let lost = match deleted {
        0 => "All of it can be put back.".to_owned(),
        n if n == count => "None of it can be put back.".to_owned(),
        1 => "1 of them is for good and cannot be put back.".to_owned(),
        n => format!("{n} of them are for good and cannot be put back."),
    };
    let released = held::warning(&model.draft);
    let failing = failing_destination(model).map_or_else(String::new, |text| format!("{text}! "));
    let left_out = match model.draft.planned().len() - count {
        0 => String::new(),
        n => format!(" {n} that cannot be planned are left out."),
    };
    let sentence = format!(
        "{}: {} freed now{later}. {failing}{released}{lost}{left_out} Type the number of actions to carry \
         them out.",
        counted(count as u64, "action"),
        volumes.join(", ")
    );
    ask(model, Asking::CarryOut, sentence, Some(count.to_string()))
}

/// The number has been typed.
pub fn carry_out(model: &mut Model) -> Vec<Job> {
    if !is_ready(model) {
        return Vec::new();
    }
    begin_run(model, model.draft.ready());
    model.run.of_draft = true;
    vec![Job::CarryOut(model.draft.clone(), model.state.clone())]
}

/// The screen of a run that is about to begin.
pub fn begin_run(model: &mut Model, actions: usize) {
    let figures = Figures { total: actions, ..Default::default() };
    model.run.stage = RunStage::Running(figures, None);
    (model.run.stopping, model.run.of_draft) = (false, false);
    (model.run.rehearsal, model.run.summary) = (None, None);
}

/// Stops the rehearsal or run at its next safe point.
pub fn stop(model: &mut Model) -> Vec<Job> {
    model.run.stopping = true;
    model.say("Stopping as soon as what is half done has come to its end");
    vec![Job::StopRun]
}

/// How far a rehearsal or run is, or what it came to.
pub fn on_news(model: &mut Model, message: Message) -> Vec<Job> {
    match message {
        Message::RehearsalProgress(figures) => {
            if matches!(model.run.stage, RunStage::Rehearsing(_)) {
                model.run.stage = RunStage::Rehearsing(figures);
            }
        }
        Message::RunProgress(figures, measured) => {
            if matches!(model.run.stage, RunStage::Running(..)) {
                model.run.stage = RunStage::Running(figures, measured);
            }
        }
        Message::Rehearsed(outcome) => {
            model.run.stage = RunStage::Idle;
            match outcome {
                Ok(rehearsal) => {
                    let refused = rehearsal.refused();
                    let all = rehearsal.findings.len();
                    let bytes = model.bytes(rehearsal.frees.now);
                    let text = format!(
                        "Rehearsed, nothing changed: {} of {all} would be done, freeing {bytes} now",
                        all - refused
                    );
                    let warned = rehearsal.warnings.first().cloned();
                    match warned {
                        Some(warning) => model.say_trouble(format!("{text}; but {warning}")),
                        None if refused > 0 => model.say_trouble(text),
                        None => model.say(text),
                    }
                    model.run.rehearsal = Some(rehearsal);
                }
                Err(reason) => model.say_trouble(format!("Not rehearsed: {reason}")),
            }
        }
        Message::CarriedOut(outcome) => return on_carried_out(model, *outcome),
        _ => {}
    }
    Vec::new()
}

fn on_carried_out(model: &mut Model, outcome: Result<RunSummary, Failure>) -> Vec<Job> {
    model.run.stage = RunStage::Idle;
    let summary = match outcome {
        Ok(summary) => summary,
        Err(reason) => {
            model.say_trouble(format!("The run did not come to its end: {reason}"));
            // where it stopped is not known here
            let mut jobs = after_change(model, Vec::new());
            jobs.extend(scans::scan_all_again(model));
            return jobs;
        }
    };
    let done = summary.counts.iter().filter(|(state, _)| state.is_done());
    let done = done.map(|(_, count)| *count as usize).sum::<usize>();
    let not_done = summary.entries.len() - done;
    let (run, freed) = (summary.run, model.bytes(summary.freed));
    if not_done == 0 {
        let actions = counted(done as u64, "action");
        model.say(format!("Run {run}: {actions} done, none left out, {freed} freed"));
    } else {
        model.say_trouble(format!(
            "Run {run}: {done} done, {not_done} not; {freed} freed; the reasons are listed here"
        ));
    }
    if model.run.of_draft {
        model.draft.clear();
    }
    if summary.count(EntryState::Failed) > 0 {
        held::note_in_vain(model, &summary.entries);
    }
    let touched = scans::touched(&summary.entries);
    model.run.summary = Some(summary);
    after_change(model, touched)
}

/// So many actions are looked through for where they put things.
const LOOKED_THROUGH: usize = 1000;

/// What is to be said of a depot or destination on a disk that is failing.
fn failing_destination(model: &Model) -> Option<String> {
    let planned = model.draft.planned();
    let places = planned
        .iter()
        .take(LOOKED_THROUGH)
        .filter_map(|planned| Some(planned.deed.destination()?.to_owned()));
    let places: BTreeSet<PathBuf> = places.collect();
    places.iter().find_map(|place| disk_warning(model, place))
}

/// What is to be said of a place on a disk that is failing.
pub fn disk_warning(model: &Model, place: &Path) -> Option<String> {
    let volume = model.volume_of(place)?;
    model.drives.get(&volume.mount_point)?.warning(place)
}
