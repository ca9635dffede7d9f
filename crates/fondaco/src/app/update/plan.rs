//! Planning, rehearsing, carrying out.

use std::path::Path;

use fondaco_core::plan::{Deed, Plan, Planned, Put, Refusal, Review, Survey};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::counted;
use fondaco_core::volume::volume_root;

use super::{after_change, ask, directories, files, held, now, scans};
use crate::app::looking::Manner;
use crate::app::message::{Job, Message};
use crate::app::model::{Asking, Model, Overlay, RunStage, Station, deeds, held_deeds};

/// Space on an entry: takes it off if it is planned, else asks what is to be done with it.
pub(super) fn choose_deed(model: &mut Model) -> Vec<Job> {
    let Some((path, name, bytes)) = selected(model) else { return Vec::new() };
    if model.run.is_active() {
        model.say_trouble("A run is going on: plan more when it has ended");
        return Vec::new();
    }
    if model.draft.planned().iter().any(|planned| planned.path == path) {
        model.draft.take_off(&path);
        model.run.rehearsal = None;
        model.say(format!("Taken off the plan: {name}"));
        redraw(model);
        return Vec::new();
    }
    if let Some(above) = model.draft.covering(&path) {
        let above = Shown(&above.path).to_string();
        model.say_trouble(format!("Goes already with {above}: take that off the plan first"));
        return Vec::new();
    }
    let known = model.evidence.as_ref().filter(|(_, evidence)| evidence.path == path);
    if let Some(reason) = known.and_then(|(_, evidence)| evidence.protected.clone()) {
        model.say_trouble(format!("Protected and cannot be planned: {reason}"));
        return Vec::new();
    }
    let (deeds, held) = (deeds(&model.state.depot()), None);
    model.overlay =
        Some(Overlay::ChooseDeed { path, name, deeds, held, bytes, cursor: 0, changes: false });
    Vec::new()
}

/// Path, name and bytes of the selected entry.
fn selected(model: &Model) -> Option<(std::path::PathBuf, String, fondaco_core::units::Bytes)> {
    let id = model.subject()?;
    let catalog = model.scan.catalog.as_ref()?;
    let catalog = catalog.read().unwrap_or_else(std::sync::PoisonError::into_inner);
    // while a scan runs, what belongs to it alone is not known yet
    let bytes = if model.scan.running { catalog.allocated(id) } else { catalog.exclusive(id) };
    Some((catalog.path(id), shown(catalog.name(id)), bytes))
}

pub(super) fn change_deed(model: &mut Model) -> Vec<Job> {
    let Some(planned) = model.selected_action() else { return Vec::new() };
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
        None => deeds(&model.state.depot()),
    };
    let same = |deed: &Deed| deed.word() == planned.deed.word();
    let cursor = deeds.iter().position(same).unwrap_or(0);
    model.overlay =
        Some(Overlay::ChooseDeed { path, name, deeds, held, bytes, cursor, changes: true });
    Vec::new()
}

/// The deed has been chosen.
pub(super) fn put(model: &mut Model, path: &Path, deed: Deed, changes: bool) -> Vec<Job> {
    model.run.rehearsal = None;
    model.run.summary = None;
    let word = deed.word();
    if changes {
        let volume = model.draft.planned().iter().find(|planned| planned.path == path);
        let volume = volume.map(|planned| planned.volume.clone());
        let on = volume.is_some_and(|volume| on_volume(model, &deed, &volume));
        model.draft.set_deed(path, deed, on);
        model.say(format!("Changed to {word}: {}", Shown(path)));
        return Vec::new();
    }
    let Some((_, name, bytes)) = selected(model) else { return Vec::new() };
    let entries = match model.station == Station::Directories {
        true => model.directories.selected_row().map_or(1, |row| row.entries),
        false => 1,
    };
    let volume = model.volume_of(path).map(|volume| volume.mount_point.clone());
    let volume = volume.unwrap_or_else(|| volume_root(path, &model.state, &[]));
    let depot_on_volume = on_volume(model, &deed, &volume);
    let put = model.draft.put(Planned {
        path: path.to_owned(),
        depot_on_volume,
        deed,
        reason: "by hand".to_owned(),
        volume,
        estimate: bytes,
        entries,
        review: Review::Pending,
    });
    match put {
        Put::TookIn(count) => model
            .say(format!("Planned: {word} {name}; {count} planned before below it are taken in")),
        _ => model.say(format!("Planned: {word} {name}")),
    }
    redraw(model);
    let mut jobs = vec![Job::Survey(path.to_owned(), model.state.clone())];
    jobs.extend(super::move_cursor(model, 1));
    jobs
}

/// Marks what is planned in the list at hand.
fn redraw(model: &mut Model) {
    match (model.station, model.looking.manner) {
        (Station::Ages, _) => files::window_of_ages(model),
        (_, Manner::Files) => files::window_of_directories(model),
        _ => directories::rank(model),
    }
}

/// Whether the depot of an archive lies on a volume.
pub(super) fn on_volume(model: &Model, deed: &Deed, volume: &Path) -> bool {
    let Deed::Archive { depot } = deed else { return false };
    model.volume_of(depot).is_some_and(|on| on.mount_point == volume)
}

pub(super) fn on_surveyed(
    model: &mut Model,
    path: &Path,
    outcome: Result<Survey, Refusal>,
) -> Vec<Job> {
    if let Err(refusal) = &outcome {
        model.say_trouble(format!("Cannot be planned: {refusal}"));
    }
    model.draft.reviewed(path, outcome);
    let ready = model.pending_actions() == 0 && !model.run.is_active();
    if model.run.rehearse_when_ready && ready { rehearse(model) } else { Vec::new() }
}

pub(super) fn take_off(model: &mut Model) -> Vec<Job> {
    let Some(planned) = model.selected_action() else { return Vec::new() };
    let (path, place) = (planned.path.clone(), planned.place().to_owned());
    model.draft.take_off(&path);
    model.run.rehearsal = None;
    model.plan_cursor = model.plan_cursor.min(model.draft.planned().len().saturating_sub(1));
    model.say(format!("Taken off the plan: {}", Shown(place)));
    Vec::new()
}

/// The plan as it stands; says so if it cannot be made or is not ready.
fn plan(model: &mut Model) -> Option<Plan> {
    if model.pending_actions() > 0 {
        let count = model.pending_actions();
        model.say_trouble(format!("{count} targets are still being looked at: a moment"));
        return None;
    }
    match model.draft.to_plan(Vec::new(), now(model)) {
        Ok(plan) => Some(plan),
        Err(error) => {
            model.say_trouble(error.to_string());
            None
        }
    }
}

pub(super) fn rehearse(model: &mut Model) -> Vec<Job> {
    if model.pending_actions() > 0 {
        model.run.rehearse_when_ready = true;
        model.say("Rehearsed as soon as all targets have been looked at");
        return Vec::new();
    }
    model.run.rehearse_when_ready = false;
    let Some(plan) = plan(model) else { return Vec::new() };
    model.run.stage = RunStage::Rehearsing(fondaco_core::carry_out::Figures::default());
    (model.run.stopping, model.run.summary) = (false, None);
    vec![Job::Rehearse(plan, model.state.clone())]
}

pub(super) fn ask_to_carry_out(model: &mut Model) -> Vec<Job> {
    let Some(plan) = plan(model) else { return Vec::new() };
    let count = plan.actions.len();
    let frees = plan.frees();
    let volumes: Vec<String> = plan
        .volumes()
        .iter()
        .map(|(path, bytes)| format!("{} on {}", model.bytes(*bytes), Shown(path)))
        .collect();
    let for_good = |deed: &Deed| *deed == Deed::Delete || deed.is_release();
    let deleted = plan.actions.iter().filter(|action| for_good(&action.deed)).count();
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
    let released = held::warning(&plan);
    let left_out = match model.draft.planned().len() - count {
        0 => String::new(),
        n => format!(" {n} that cannot be planned are left out."),
    };
    let sentence = format!(
        "{}: {} freed now{later}. {released}{lost}{left_out} Type the number of actions to carry \
         them out.",
        counted(count as u64, "action"),
        volumes.join(", ")
    );
    ask(model, Asking::CarryOut, sentence, Some(count.to_string()))
}

/// The number has been typed.
pub(super) fn carry_out(model: &mut Model) -> Vec<Job> {
    let Some(plan) = plan(model) else { return Vec::new() };
    begin_run(model, plan.actions.len());
    model.run.of_draft = true;
    vec![Job::CarryOut(plan, model.state.clone())]
}

/// The screen of a run that is about to begin.
pub(super) fn begin_run(model: &mut Model, actions: usize) {
    let figures = fondaco_core::carry_out::Figures { total: actions, ..Default::default() };
    model.run.stage = RunStage::Running(figures, None);
    (model.run.stopping, model.run.of_draft) = (false, false);
    (model.run.rehearsal, model.run.summary) = (None, None);
}

pub(super) fn stop(model: &mut Model) -> Vec<Job> {
    model.run.stopping = true;
    model.say("Stopping as soon as what is half done has come to its end");
    vec![Job::StopRun]
}

pub(super) fn on_run_news(model: &mut Model, message: Message) -> Vec<Job> {
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

fn on_carried_out(
    model: &mut Model,
    outcome: Result<fondaco_core::carry_out::RunSummary, String>,
) -> Vec<Job> {
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
    let done = summary.entries.iter().filter(|entry| entry.state.is_done()).count();
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
        model.plan_cursor = 0;
    }
    held::note_in_vain(model, &summary.entries);
    let touched = scans::touched(&summary.entries);
    model.run.summary = Some(summary);
    after_change(model, touched)
}
