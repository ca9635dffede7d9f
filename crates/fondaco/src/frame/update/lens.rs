//! The lens: typed, completed, applied; and questions to the scan that depend on it.

use std::sync::Arc;
use std::time::Duration;

use fondaco_core::catalog::Selection;
use fondaco_core::lens::{Lens, complete};

use super::{growth, place};
use crate::frame::Field;
use crate::frame::commands::Key;
use crate::frame::message::Job;
use crate::frame::model::{Model, Typing};
use crate::frame::questions::{About, Answer, Asked, Question};
use crate::station::ask_all;

/// While a question is answered a scan stands still. It goes on so many times as long before the next is asked,
/// which costs it a sixtieth of its time; progress and frames cost another.
const REST: u32 = 60;

/// A question to the scan at hand, if there is one.
pub fn ask(model: &mut Model, about: About) -> Option<Job> {
    let catalog = model.scan.catalog.clone()?;
    let number = model.questions.asked.entry(about.sort()).or_default();
    *number += 1;
    Some(Job::Ask(Box::new(Asked {
        scan: model.scan.number,
        number: *number,
        catalog,
        selection: model.lens.selection.clone(),
        state: model.state.clone(),
        about,
    })))
}

/// The scan has answered.
pub fn on_answer(
    model: &mut Model,
    (sort, number): (&'static str, u64),
    answer: Answer,
    took: Duration,
) -> Vec<Job> {
    let begun = model.questions.rest_until.max(model.scan.progress.elapsed);
    model.questions.rest_until = begun + took * REST;
    if model.questions.asked.get(sort) != Some(&number) {
        return Vec::new(); // it has been asked anew since
    }
    match answer {
        Answer::Lens(selection) => {
            let before = model.lens.selection.replace(selection);
            model.lens.waiting = false;
            let mut jobs = refresh(model);
            jobs.extend(drop_later(before));
            jobs
        }
        Answer::Own(news) => news.take(model),
        Answer::Closer(looked, false) => {
            model.questions.closer = Some(looked);
            Vec::new()
        }
        Answer::Closer(_, true) => {
            model.questions.closer = None;
            if !has_closer(model) {
                // asked for again, it would never stop
                model.say("Stopped: what a closer look would have told is not known");
                return refresh(model);
            }
            let mut jobs = choose_again(model);
            jobs.extend(refresh(model));
            jobs
        }
    }
}

/// Looks once more at what the station at hand shows: the lens, the directory or the scan is another.
pub fn refresh(model: &mut Model) -> Vec<Job> {
    // the part and the whole are said on every station
    place::measure(model);
    let mut jobs = growth::refresh(model);
    jobs.extend(model.station.room().refresh(model));
    jobs
}

/// The scan has grown: what depends on it is asked anew, unless the last answer is still awaited.
pub fn on_growth(model: &mut Model, done: bool) -> Vec<Job> {
    let rests = model.questions.rest_until > model.scan.progress.elapsed;
    if (model.lens.waiting || rests) && !done {
        return Vec::new();
    }
    if !model.lens.lens.is_open() {
        return choose_again(model);
    }
    let waiting = model.station.room().awaits_scan(model);
    if waiting && !done { Vec::new() } else { refresh(model) }
}

/// The scan is another one: what was chosen of the last means nothing in it.
pub fn on_other_scan(model: &mut Model) -> Vec<Job> {
    let before = model.lens.selection.take();
    let compared = growth::forget(model);
    model.questions.closer = None;
    model.questions.rest_until = Duration::ZERO;
    let mut jobs = ask_all(model, |room, model| {
        room.forget_scan(model);
        Vec::new()
    });
    jobs.extend(choose_again(model));
    jobs.extend(refresh(model));
    jobs.extend(drop_later(before));
    jobs.extend(compared);
    jobs
}

/// A question of a station's own.
pub fn ask_own(model: &mut Model, question: impl Question + 'static) -> Option<Job> {
    ask(model, About::Own(Box::new(question)))
}

/// Of millions of entries it takes longer than a frame to give back what was chosen.
fn drop_later(selection: Option<Arc<Selection>>) -> Option<Job> {
    selection.map(|selection| Job::DropLater(selection))
}

/// Asks again what the lens chooses.
pub fn choose_again(model: &mut Model) -> Vec<Job> {
    let lens = &model.lens;
    if lens.lens.is_open() || model.scan.catalog.is_none() {
        return Vec::new();
    }
    let mut jobs = Vec::new();
    if lens.lens.wants_closer_look() && !has_closer(model) {
        if model.scan.saved {
            say_what_is_not_kept(model);
        } else if !model.scan.running && model.questions.closer.is_none() {
            jobs.extend(look_closer(model, false));
        }
    }
    let lens = Box::new(model.lens.lens.clone());
    model.lens.waiting = true;
    jobs.extend(ask(model, About::Lens(lens)));
    jobs
}

/// Nothing is said while a lens is typed: its line is in the place of notices.
fn say_what_is_not_kept(model: &mut Model) {
    let wanted = model.lens.lens.wants_closer_look();
    if wanted && model.scan.saved && model.lens.typing.is_none() {
        model.say_trouble(
            "A saved scan does not keep what is immutable or append-only: F5 scans it anew",
        );
    }
}

/// Whether a closer look has been taken.
pub fn has_closer(model: &Model) -> bool {
    model.scan.read().is_some_and(|catalog| catalog.closer().is_some())
}

/// A second look at every entry, for what a scan leaves out.
pub fn look_closer(model: &mut Model, into: bool) -> Option<Job> {
    model.questions.closer = Some(0);
    ask(model, About::Closer(into))
}

/// Begins to type the lens.
pub fn open(model: &mut Model) -> Vec<Job> {
    let before = model.lens.text.clone();
    // what follows is a new term
    let text = if before.is_empty() { String::new() } else { format!("{before} ") };
    let offers = complete(&text, &model.names.of_scan());
    let text = Field::of(text);
    model.lens.typing = Some(Typing { text, before, offers, ..Typing::default() });
    Vec::new()
}

/// Takes the lens off.
pub fn clear(model: &mut Model) -> Vec<Job> {
    model.say("Everything is shown again");
    apply(model, "")
}

/// Adds a term to the lens.
pub fn narrow(model: &mut Model, term: &str) -> Vec<Job> {
    let text = model.lens.narrowed(term);
    apply(model, &text)
}

/// Makes a text the lens, if it is one; else the last one stays. Gives what is to be done.
pub fn apply(model: &mut Model, text: &str) -> Vec<Job> {
    let parsed = Lens::parse(text, &model.names.of_scan());
    let is_asking = model.names.awaits_number();
    let state = &mut model.lens;
    let lens = match parsed {
        Ok(lens) => lens,
        Err(mut error) => {
            if is_asking {
                error.message = "who has this name is being asked …".to_owned();
            }
            match &mut state.typing {
                Some(typing) => typing.error = Some(error),
                None => model.say_trouble(error.to_string()),
            }
            return Vec::new();
        }
    };
    let same = state.text == text.trim();
    state.typing.iter_mut().for_each(|typing| typing.error = None);
    if same {
        return Vec::new();
    }
    state.text = text.trim().to_owned();
    let open = lens.is_open();
    state.lens = lens;
    if open {
        let state = &mut model.lens;
        let before = state.selection.take();
        state.waiting = false;
        // an answer that is still on its way is one to an old question
        *model.questions.asked.entry(About::LENS).or_default() += 1;
        let mut jobs = refresh(model);
        jobs.extend(drop_later(before));
        return jobs;
    }
    choose_again(model)
}

/// Keys while a lens is typed.
pub fn on_typed(model: &mut Model, key: Key) -> Vec<Job> {
    let Some(typing) = &mut model.lens.typing else { return Vec::new() };
    match key {
        Key::Down => {
            let next = typing.cursor.map_or(0, |cursor| cursor + 1);
            typing.cursor = (!typing.offers.is_empty()).then(|| next.min(typing.offers.len() - 1));
            return Vec::new();
        }
        Key::Up => {
            typing.cursor = typing.cursor.and_then(|cursor| cursor.checked_sub(1));
            return Vec::new();
        }
        Key::Tab | Key::Enter if key == Key::Tab || typing.cursor.is_some() => {
            let offer = typing.offers.get(typing.cursor.unwrap_or(0));
            let Some(offer) = offer else { return Vec::new() };
            typing.text.replace_before(&offer.text);
        }
        Key::Enter => {
            if typing.error.is_none() {
                model.lens.typing = None;
                say_what_is_not_kept(model);
            }
            return Vec::new();
        }
        Key::Escape => {
            let before = typing.before.clone();
            model.lens.typing = None;
            return apply(model, &before);
        }
        key if typing.text.on_key(key) => {}
        _ => return Vec::new(),
    }
    typing.cursor = None;
    let text = typing.text.text().to_owned();
    typing.offers = complete(typing.text.parts().0, &model.names.of_scan());
    apply(model, &text)
}

/// More names of accounts are known: a lens that is being typed may be one now.
pub fn on_names(model: &mut Model) -> Vec<Job> {
    let Some(typing) = &mut model.lens.typing else { return Vec::new() };
    let text = typing.text.text().to_owned();
    typing.offers = complete(typing.text.parts().0, &model.names.of_scan());
    let was_wrong = typing.error.is_some();
    if was_wrong { apply(model, &text) } else { Vec::new() }
}

/// What a lens chooses, to be handed on.
pub fn selection(model: &Model) -> Option<Arc<Selection>> {
    model.lens.selection.clone()
}
