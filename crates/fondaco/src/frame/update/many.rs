//! Planning many files at once: those of a list, or of a block of the matrix.

use fondaco_core::packed_list::PackedList;
use fondaco_core::plan::Deed;
use fondaco_core::units::counted;

use super::{lens, place};
use crate::frame::message::{Job, ManyFiles};
use crate::frame::model::{Model, Overlay, deeds_for};
use crate::frame::surveyed::Surveyed;

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
    let root = model.scan.roots.first().cloned().unwrap_or_default();
    let deeds = deeds_for(&root, &model.state.depot());
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

/// Takes the result of a survey of listed files: plans what can be planned.
pub fn on_surveyed(model: &mut Model, deed: &Deed, looked: Option<Box<Surveyed>>) -> Vec<Job> {
    let Some(looked) = looked else {
        model.say_trouble("These are not the files that were listed: nothing has been planned");
        return Vec::new();
    };
    plan_looked(model, deed.word(), *looked)
}

/// Plans what can be planned of what was looked at; `word` says in the notice what is to be done with it.
pub fn plan_looked(model: &mut Model, word: &str, looked: Surveyed) -> Vec<Job> {
    if model.run.is_active() {
        model.say_trouble("A run is going on: nothing has been planned");
        return Vec::new();
    }
    let Surveyed { draft, twice: mut before, refused, first_refusal } = looked;
    let (mut count, mut bytes) = (draft.planned().len() as u64, draft.sums().bytes);
    if model.draft.is_empty() {
        // a million need not be put on it one by one
        model.draft = draft;
    } else {
        let mut new = PackedList::new();
        for planned in draft.into_planned() {
            if model.draft.covering(&planned.path).is_some() {
                before += 1;
                count -= 1;
                bytes = bytes.less(planned.estimate);
            } else {
                new.push(planned);
            }
            model.draft.trim();
        }
        model.draft.put_all(new);
    }
    model.run.rehearsal = None;
    let mut text = format!("Planned: {word} {}, {}", counted(count, "file"), model.bytes(bytes));
    if before > 0 {
        text = format!("{text}; {before} were planned before");
    }
    match first_refusal {
        Some(first) => {
            let left_out = counted(refused, "file");
            model.say_trouble(format!("{text}; {left_out} left out: {first}"));
        }
        None => model.say(text),
    }
    lens::refresh(model)
}
