//! Planning many files at once: those of a list, or of a block of the matrix.

use std::collections::HashSet;
use std::path::PathBuf;

use fondaco_core::plan::{Deed, Planned, Refusal, Review, Survey};
use fondaco_core::units::{Bytes, counted};
use fondaco_core::volume::volume_root;

use super::{directories, lens, plan};
use crate::app::looking::Manner;
use crate::app::message::{Job, ManyFiles};
use crate::app::model::{Model, Overlay, Station, deeds};

/// Asks what is to be done with all files of the selection.
pub(super) fn choose(model: &mut Model) -> Vec<Job> {
    if model.run.is_active() {
        model.say_trouble("A run is going on: plan more when it has ended");
        return Vec::new();
    }
    if model.scan.running {
        model.say_trouble("The scan is still running: many are planned when it has ended");
        return Vec::new();
    }
    if is_awaited(model) {
        model.looking.plans_when_ready = true;
        model.say("What passes is still being found out: asked as soon as the list stands");
        return Vec::new();
    }
    let list = match model.station {
        Station::Ages => &model.looking.ages.files.list,
        _ => &model.looking.files.files.list,
    };
    let whole = list.whole;
    if whole.entries == 0 {
        model.say("There is no file in it");
        return Vec::new();
    }
    let deeds = deeds(&model.state.depot());
    let (count, bytes) = (whole.entries, whole.allocated);
    model.overlay = Some(Overlay::ChooseForMany { count, bytes, deeds, cursor: 0 });
    Vec::new()
}

/// Asks now what was to be asked when the list stands, if it does. Whatever the user does meanwhile calls that off.
pub(super) fn choose_when_ready(model: &mut Model) -> Vec<Job> {
    if !model.looking.plans_when_ready || is_awaited(model) || model.overlay.is_some() {
        return Vec::new();
    }
    model.looking.plans_when_ready = false;
    model.notice = None;
    choose(model)
}

/// Whether the list at hand is not yet that of the lens and the classes at hand.
fn is_awaited(model: &Model) -> bool {
    let looking = &model.looking;
    let list = match model.station {
        Station::Ages => looking.ages.waiting,
        _ => looking.files.waiting,
    };
    list || looking.lens.waiting || looking.closer.is_some()
}

/// The deed has been chosen for so many files: all of them are looked at closely.
pub(super) fn put(model: &mut Model, deed: Deed, count: u64) -> Vec<Job> {
    if is_awaited(model) {
        model.say_trouble("The list has changed meanwhile: nothing has been planned");
        return Vec::new();
    }
    let (Some(at), Some(catalog)) = (directories::at(model), model.scan.catalog.clone()) else {
        return Vec::new();
    };
    let (by, block) = match (model.station, model.looking.manner) {
        (Station::Ages, _) => (model.looking.ages.by, model.looking.ages.block()),
        (_, Manner::Files) => (Default::default(), None),
        _ => return Vec::new(),
    };
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
        lens: model.looking.lens.text.clone(),
        state: model.state.clone(),
    }))]
}

/// They have been looked at: what can be planned is.
pub(super) fn on_surveyed(
    model: &mut Model,
    deed: Deed,
    reason: String,
    surveyed: Option<Vec<(PathBuf, Result<Survey, Refusal>)>>,
) -> Vec<Job> {
    let Some(surveyed) = surveyed else {
        model.say_trouble("These are not the files that were listed: nothing has been planned");
        return Vec::new();
    };
    if model.run.is_active() {
        model.say_trouble("A run is going on: nothing has been planned");
        return Vec::new();
    }
    let (mut new, mut before, mut refused) = (Vec::new(), 0u64, Vec::new());
    let mut bytes = Bytes::ZERO;
    let mut known = HashSet::new();
    for (path, outcome) in surveyed {
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
        let depot_on_volume = plan::on_volume(model, &deed, &volume);
        bytes += survey.target.allocated;
        new.push(Planned {
            path,
            deed: deed.clone(),
            reason: reason.clone(),
            volume,
            depot_on_volume,
            estimate: survey.target.allocated,
            entries: survey.target.entries,
            review: Review::Ready(Box::new(survey)),
        });
    }
    let count = new.len() as u64;
    model.draft.put_all(new);
    model.run.rehearsal = None;
    let mut text =
        format!("Planned: {} {}, {}", deed.word(), counted(count, "file"), model.bytes(bytes));
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
