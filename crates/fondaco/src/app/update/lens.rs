//! The lens: typed, completed, applied; and questions to the scan that depend on it.

use std::sync::Arc;
use std::time::Duration;

use fondaco_core::catalog::Selection;
use fondaco_core::lens::{Lens, complete};

use super::{ages, breakdown, directories, files};
use crate::app::Field;
use crate::app::command_table::Key;
use crate::app::look_job::{About, Answer, Question};
use crate::app::looking::{Manner, Typing};
use crate::app::message::Job;
use crate::app::model::{Model, Station};

/// While a question is answered a scan stands still. It goes on so many times as long before the next is asked,
/// which costs it a sixtieth of its time; progress and frames cost another.
const REST: u32 = 60;

/// A question to the scan at hand, if there is one.
pub(super) fn ask(model: &mut Model, about: About) -> Option<Job> {
    let catalog = model.scan.catalog.clone()?;
    let number = &mut model.looking.asked[about.sort()];
    *number += 1;
    Some(Job::Ask(Box::new(Question {
        scan: model.scan.number,
        number: *number,
        catalog,
        selection: model.looking.lens.selection.clone(),
        state: model.state.clone(),
        about,
    })))
}

pub(super) fn on_answer(
    model: &mut Model,
    number: u64,
    answer: Answer,
    took: Duration,
) -> Vec<Job> {
    let begun = model.looking.rest_until.max(model.scan.progress.elapsed);
    model.looking.rest_until = begun + took * REST;
    if model.looking.asked[answer.sort()] != number {
        return Vec::new(); // it has been asked anew since
    }
    match answer {
        Answer::Lens(selection) => {
            let before = model.looking.lens.selection.replace(selection);
            model.looking.lens.waiting = false;
            let mut jobs = refresh(model);
            jobs.extend(let_go(before));
            jobs
        }
        Answer::Ages(matrix) => ages::on_matrix(model, matrix),
        Answer::Block(list) => {
            ages::on_files(model, list);
            directories::look(model)
        }
        Answer::Breakdown(found) => {
            breakdown::on_found(model, found);
            breakdown::learn(model).into_iter().collect()
        }
        Answer::Files(list) => {
            files::on_found(model, list);
            directories::look(model)
        }
        Answer::Closer(looked, false) => {
            model.looking.closer = Some(looked);
            Vec::new()
        }
        Answer::Closer(_, true) => {
            model.looking.closer = None;
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
pub(super) fn refresh(model: &mut Model) -> Vec<Job> {
    // the part and the whole are said on every station
    directories::rank(model);
    match (model.station, model.looking.manner) {
        (Station::Ages, _) => ages::ask_matrix(model).into_iter().collect(),
        (Station::Breakdown, _) => breakdown::ask_slices(model).into_iter().collect(),
        (Station::Directories, manner) => {
            let mut jobs = directories::look(model);
            jobs.extend((manner == Manner::Files).then(|| files::ask_files(model)).flatten());
            jobs
        }
        _ => Vec::new(),
    }
}

/// The scan has grown: what depends on it is asked anew, unless the last answer is still awaited.
pub(super) fn on_growth(model: &mut Model, done: bool) -> Vec<Job> {
    let looking = &model.looking;
    let rests = looking.rest_until > model.scan.progress.elapsed;
    if (looking.lens.waiting || rests) && !done {
        return Vec::new();
    }
    if !looking.lens.lens.is_open() {
        return choose_again(model);
    }
    let waiting = match model.station {
        Station::Ages => looking.ages.waiting,
        Station::Breakdown => looking.breakdown.waiting,
        Station::Directories => looking.files.waiting,
        _ => true,
    };
    if waiting && !done { Vec::new() } else { refresh(model) }
}

/// The scan is another one: what was chosen of the last means nothing in it.
pub(super) fn on_other_scan(model: &mut Model) -> Vec<Job> {
    let looking = &mut model.looking;
    let before = looking.lens.selection.take();
    looking.closer = None;
    looking.rest_until = Duration::ZERO;
    looking.breakdown.learned = false;
    looking.ages.matrix = None;
    looking.ages.anchor = None;
    looking.ages.files = Default::default();
    looking.breakdown.found = None;
    looking.files.files = Default::default();
    looking.map = Default::default();
    let mut jobs = choose_again(model);
    jobs.extend(refresh(model));
    jobs.extend(let_go(before));
    jobs
}

/// Of millions of entries it takes longer than a frame to give back what was chosen.
fn let_go(selection: Option<Arc<Selection>>) -> Option<Job> {
    selection.map(|selection| Job::LetGo(selection))
}

/// Asks again what the lens chooses.
pub(super) fn choose_again(model: &mut Model) -> Vec<Job> {
    let lens = &model.looking.lens;
    if lens.lens.is_open() || model.scan.catalog.is_none() {
        return Vec::new();
    }
    let mut jobs = Vec::new();
    if lens.lens.wants_closer_look() && !has_closer(model) {
        if model.scan.saved {
            say_what_is_not_kept(model);
        } else if !model.scan.running && model.looking.closer.is_none() {
            jobs.extend(look_closer(model, false));
        }
    }
    let lens = Box::new(model.looking.lens.lens.clone());
    model.looking.lens.waiting = true;
    jobs.extend(ask(model, About::Lens(lens)));
    jobs
}

/// Nothing is said while a lens is typed: its line is in the place of notices.
fn say_what_is_not_kept(model: &mut Model) {
    let wanted = model.looking.lens.lens.wants_closer_look();
    if wanted && model.scan.saved && model.looking.lens.typing.is_none() {
        model.say_trouble(
            "A saved scan does not keep what is immutable or append-only: F5 scans it anew",
        );
    }
}

fn has_closer(model: &Model) -> bool {
    directories::read(model).is_some_and(|catalog| catalog.read_now().closer().is_some())
}

/// A second look at every entry, for what a scan leaves out.
pub(super) fn look_closer(model: &mut Model, into: bool) -> Option<Job> {
    model.looking.closer = Some(0);
    ask(model, About::Closer(into))
}

pub(super) fn open(model: &mut Model) -> Vec<Job> {
    let before = model.looking.lens.text.clone();
    // what follows is a new term
    let text = if before.is_empty() { String::new() } else { format!("{before} ") };
    let offers = complete(&text, &model.state);
    let text = Field::of(text);
    model.looking.lens.typing = Some(Typing { text, before, offers, ..Typing::default() });
    Vec::new()
}

/// Takes the lens off.
pub(super) fn clear(model: &mut Model) -> Vec<Job> {
    model.say("Everything is shown again");
    apply(model, "")
}

/// Adds a term to the lens.
pub(super) fn narrow(model: &mut Model, term: &str) -> Vec<Job> {
    let text = format!("{} {term}", model.looking.lens.text);
    apply(model, text.trim())
}

/// Makes a text the lens, if it is one; else the last one stays. Gives what is to be done.
pub(super) fn apply(model: &mut Model, text: &str) -> Vec<Job> {
    let parsed = Lens::parse(text, &model.state);
    let state = &mut model.looking.lens;
    let lens = match parsed {
        Ok(lens) => lens,
        Err(error) => {
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
    model.looking.ages.anchor = None;
    if open {
        let state = &mut model.looking.lens;
        let before = state.selection.take();
        state.waiting = false;
        // an answer that is still on its way is one to an old question
        model.looking.asked[About::LENS] += 1;
        let mut jobs = refresh(model);
        jobs.extend(let_go(before));
        return jobs;
    }
    choose_again(model)
}

/// Keys while a lens is typed.
pub(super) fn on_typed(model: &mut Model, key: Key) -> Vec<Job> {
    let Some(typing) = &mut model.looking.lens.typing else { return Vec::new() };
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
                model.looking.lens.typing = None;
                say_what_is_not_kept(model);
            }
            return Vec::new();
        }
        Key::Escape => {
            let before = typing.before.clone();
            model.looking.lens.typing = None;
            return apply(model, &before);
        }
        key if typing.text.on_key(key) => {}
        _ => return Vec::new(),
    }
    typing.cursor = None;
    let text = typing.text.text().to_owned();
    typing.offers = complete(typing.text.parts().0, &model.state);
    apply(model, &text)
}

/// What a lens chooses, to be handed on.
pub(super) fn selection(model: &Model) -> Option<Arc<Selection>> {
    model.looking.lens.selection.clone()
}
