//! Planning many files at once: those of a list, or of a block of the matrix.

use std::collections::HashSet;
use std::path::PathBuf;

use fondaco_core::plan::{Deed, Planned, Refusal, Survey};
use fondaco_core::units::{Bytes, counted};
use fondaco_core::volume::volume_root;

use super::{lens, place, planning};
use crate::frame::message::{Job, ManyFiles};
use crate::frame::model::{Model, Overlay, deeds};

/// Asks what is to be done with all files of the selection.
pub fn choose(model: &mut Model) -> Vec<Job> {
    if model.run.is_active() {
        model.say_trouble("A run is going on: plan more when it has ended");
        return Vec::new();
    }
    if model.scan.running {
        model.say_trouble("The scan is still running: many are planned when it has ended");
        return Vec::new();
    }
    let Some(listed) = model.station.room().listed_files(model) else { return Vec::new() };
    if is_awaited(model) {
        model.questions.plans_when_ready = true;
        model.say("What passes is still being found out: asked as soon as the list stands");
        return Vec::new();
    }
    let whole = listed.whole;
    if whole.entries == 0 {
        model.say("There is no file in it");
        return Vec::new();
    }
    let deeds = deeds(&model.state.depot());
    let (count, bytes) = (whole.entries, whole.allocated);
    let named = format!("all {} of them", counted(count, "file"));
    model.overlay = Some(Overlay::ChooseForMany { count, named, bytes, deeds, cursor: 0 });
    Vec::new()
}

/// Asks as soon as the list of files stands; `said` is told meanwhile.
pub fn choose_later(model: &mut Model, said: &str) -> Vec<Job> {
    if !is_awaited(model) {
        return choose(model);
    }
    model.questions.plans_when_ready = true;
    model.say(said);
    Vec::new()
}

/// Asks now what was to be asked when the list stands, if it does. Whatever the user does meanwhile calls that off.
pub fn choose_when_ready(model: &mut Model) -> Vec<Job> {
    if !model.questions.plans_when_ready || is_awaited(model) || model.overlay.is_some() {
        return Vec::new();
    }
    model.questions.plans_when_ready = false;
    model.notice = None;
    choose(model)
}

/// Whether the list at hand is not yet that of the lens and the classes at hand.
fn is_awaited(model: &Model) -> bool {
    let list = model.station.room().listed_files(model).is_some_and(|listed| listed.awaited);
    list || model.lens.waiting || model.questions.closer.is_some()
}

/// The deed has been chosen for so many files: all of them are looked at closely.
pub fn put(model: &mut Model, deed: Deed, count: u64) -> Vec<Job> {
    if let Some(jobs) = model.station.room().plan_many(model, &deed) {
        return jobs;
    }
    if is_awaited(model) {
        model.say_trouble("The list has changed meanwhile: nothing has been planned");
        return Vec::new();
    }
    let (Some(at), Some(catalog)) = (place::at(model), model.scan.catalog.clone()) else {
        return Vec::new();
    };
    let Some(listed) = model.station.room().listed_files(model) else { return Vec::new() };
    let (by, block) = (listed.by, listed.block);
    model.say("Looking closely at every one of them …");
    vec![Job::SurveyMany(Box::new(ManyFiles {
        scan: model.scan.number,
        catalog,
        selection: lens::selection(model),
        at,
        by,
        block,
        count,
        deed,
        lens: model.lens.text.clone(),
        lens_asks_for_reading: model.lens.lens.asks_for_reading(),
        state: model.state.clone(),
    }))]
}

/// Something that was looked at closely so that it can be planned.
#[derive(Debug)]
pub struct Surveyed {
    /// Where it is.
    pub path: PathBuf,
    /// What is to be done with it.
    pub deed: Deed,
    /// Why: by hand, or which rule.
    pub reason: String,
    /// The close look, or why it is not planned.
    pub outcome: Result<Survey, Refusal>,
    /// For how many seconds it is held, if it is set aside and is to be purged after that.
    pub purge_after: Option<u64>,
}

/// Takes the result of a survey of listed files: plans what can be planned.
pub fn on_surveyed(
    model: &mut Model,
    deed: &Deed,
    reason: &str,
    surveyed: Option<Vec<(PathBuf, Result<Survey, Refusal>)>>,
) -> Vec<Job> {
    let Some(surveyed) = surveyed else {
        model.say_trouble("These are not the files that were listed: nothing has been planned");
        return Vec::new();
    };
    let with_deed = |(path, outcome)| Surveyed {
        path,
        deed: deed.clone(),
        reason: reason.to_owned(),
        outcome,
        purge_after: None,
    };
    plan_surveyed(model, deed.word(), surveyed.into_iter().map(with_deed).collect())
}

/// Plans what can be planned of what was surveyed; `word` says in the notice what is to be done with it.
pub fn plan_surveyed(model: &mut Model, word: &str, surveyed: Vec<Surveyed>) -> Vec<Job> {
    if model.run.is_active() {
        model.say_trouble("A run is going on: nothing has been planned");
        return Vec::new();
    }
    let (mut new, mut before, mut refused) = (Vec::new(), 0u64, Vec::new());
    let mut bytes = Bytes::ZERO;
    let mut known = HashSet::new();
    for Surveyed { path, deed, reason, outcome, purge_after } in surveyed {
        if model.draft.covering(&path).is_some() || !known.insert(path.clone()) {
            before += 1;
            continue;
        }
        let survey = match outcome {
            Ok(survey) => survey,
            Err(refusal) => {
                refused.push(refusal.to_string());
                continue;
            }
        };
        let volume = model.volume_of(&path).map(|volume| volume.mount_point.clone());
        let volume = volume.unwrap_or_else(|| volume_root(&path, &model.state, &[]));
        let depot_on_volume = planning::on_volume(model, &deed, &volume);
        bytes += survey.target.allocated;
        let deed = deed.with_destination_on_volume(depot_on_volume);
        let planned = Planned::of_survey(path, deed, reason, volume, survey);
        new.push(Planned { depot_on_volume, purge_after, ..planned });
    }
    let count = new.len() as u64;
    model.draft.put_all(new);
    model.run.rehearsal = None;
    let mut text = format!("Planned: {word} {}, {}", counted(count, "file"), model.bytes(bytes));
    if before > 0 {
        text = format!("{text}; {before} were planned before");
    }
    match refused.first() {
        Some(first) => {
            let left_out = counted(refused.len() as u64, "file");
            model.say_trouble(format!("{text}; {left_out} left out: {first}"));
        }
        None => model.say(text),
    }
    lens::refresh(model)
}
