//! The Breakdown station: one property at a time, whose slices go into the lens.

use std::sync::Arc;

use fondaco_core::analysis::{Breakdown, BreakdownBy, SliceKey};
use fondaco_core::catalog::{EntryId, Seen};

use super::selected;
use crate::frame::message::{Job, News};
use crate::frame::model::Model;
use crate::frame::questions::Question;
use crate::frame::update::{growth, lens, many, place};
use crate::query;
use crate::station::to_files;

/// Slices of a directory.
#[derive(Debug)]
struct AskSlices(EntryId, query::Breakdown);

impl Question for AskSlices {
    fn sort(&self) -> &'static str {
        "breakdown"
    }

    fn answer(&self, seen: Seen<'_>) -> Box<dyn News> {
        Box::new(FoundSlices(Arc::new(self.1.ask(seen, self.0))))
    }
}

/// The slices that were asked for.
#[derive(Debug)]
pub(super) struct FoundSlices(pub(super) Arc<Breakdown>);

impl News for FoundSlices {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        on_found(model, self.0);
        let mut jobs = growth::slices(model, model.rooms.breakdown.by);
        jobs.extend(learn(model));
        jobs
    }
}

/// What the slices are asked by.
pub(super) fn query(model: &Model) -> query::Breakdown {
    query::Breakdown { by: model.rooms.breakdown.by, top: None }
}

pub(super) fn ask_slices(model: &mut Model) -> Option<Job> {
    let at = place::at(model)?;
    model.rooms.breakdown.waiting = true;
    let question = AskSlices(at, query(model));
    lens::ask_own(model, question)
}

/// The selected slice stays selected where it now stands.
fn on_found(model: &mut Model, found: Arc<Breakdown>) {
    let station = &mut model.rooms.breakdown;
    let before = station.found.as_ref().filter(|before| before.by == found.by);
    let key = before.and_then(|before| before.slices.get(station.cursor)).map(|s| s.key.clone());
    let place = key.and_then(|key| found.slices.iter().position(|slice| slice.key == key));
    station.cursor = match place {
        // the first stays the first while a scan goes on
        Some(place) if station.cursor > 0 => place,
        _ => station.cursor.min(found.slices.len().saturating_sub(1)),
    };
    if before.is_none() {
        station.cursor = 0;
    }
    station.found = Some(found);
    station.waiting = false;
    find_largest(model);
}

/// Where the largest entry of the selected slice lies.
pub(super) fn find_largest(model: &mut Model) {
    let largest = selected(model).map(|slice| slice.largest);
    // the scan may be another one by now, which has no such entry
    model.rooms.breakdown.largest = largest.and_then(|id| model.scan.path_of(id));
}

/// Works out in the background what other properties take longest for: after one, others are likely to be looked at.
fn learn(model: &mut Model) -> Option<Job> {
    let station = &mut model.rooms.breakdown;
    if model.scan.running || station.learned {
        return None;
    }
    station.learned = true;
    model.scan.catalog.clone().map(Job::Learn)
}

/// The property before or after the one at hand.
pub(super) fn turn(model: &mut Model, by: isize) -> Vec<Job> {
    let all = BreakdownBy::ALL;
    let place = all.iter().position(|other| *other == model.rooms.breakdown.by).unwrap_or(0);
    let next = (place as isize + by).rem_euclid(all.len() as isize) as usize;
    model.rooms.breakdown.by = all[next];
    model.rooms.breakdown.found = None;
    model.rooms.breakdown.cursor = 0;
    let mut jobs: Vec<Job> = ask_slices(model).into_iter().collect();
    let known = lens::has_closer(model);
    let wants = all[next] == BreakdownBy::Attribute && !known;
    if wants && !model.scan.saved && !model.scan.running {
        jobs.extend(lens::look_closer(model, false));
    }
    jobs
}

/// Puts the selected slice into the lens.
pub(super) fn narrow(model: &mut Model) -> Vec<Job> {
    match term(model) {
        Some(term) => lens::narrow(model, &term),
        None => {
            model.say("A root of the scan is no family");
            Vec::new()
        }
    }
}

/// The term of the lens that chooses the selected slice.
pub(super) fn term(model: &Model) -> Option<String> {
    let slice = selected(model)?;
    let is_root = matches!(&slice.key, SliceKey::Family(family) if family.is_empty());
    let found = model.rooms.breakdown.found.as_ref().filter(|_| !is_root)?;
    Some(found.term(slice))
}

/// Looks into files whose names tell nothing.
pub(super) fn by_content(model: &mut Model) -> Vec<Job> {
    if model.scan.saved || model.scan.running {
        model.say_trouble("Files can be looked into when a scan has ended, and not in a saved one");
        return Vec::new();
    }
    model.say("Reading the beginning of files whose ending tells nothing …");
    lens::look_closer(model, true).into_iter().collect()
}

/// Narrows the lens to the selected slice and goes to the list of its files, so that what is about to be planned is
/// seen; asks there what is to be done with all of them.
pub(super) fn plan_all(model: &mut Model) -> Vec<Job> {
    if model.run.is_active() || model.scan.running {
        return many::choose(model);
    }
    let mut jobs = narrow(model);
    jobs.extend(to_files(model));
    let said = "Listing the files of the slice: asked as soon as the list stands";
    jobs.extend(many::choose_later(model, said));
    jobs
}
