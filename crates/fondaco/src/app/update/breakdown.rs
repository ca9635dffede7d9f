//! The Breakdown station: one property at a time, whose slices go into the lens.

use std::sync::Arc;

use fondaco_core::analysis::{Breakdown, BreakdownBy, SliceKey};

use super::{directories, lens};
use crate::app::look_job::About;
use crate::app::message::Job;
use crate::app::model::Model;

pub(super) fn ask_slices(model: &mut Model) -> Option<Job> {
    let at = directories::at(model)?;
    model.looking.breakdown.waiting = true;
    let by = model.looking.breakdown.by;
    lens::ask(model, About::Breakdown(at, by))
}

/// The selected slice stays selected where it now stands.
pub(super) fn on_found(model: &mut Model, found: Arc<Breakdown>) {
    let station = &mut model.looking.breakdown;
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
    let largest = model.selected_slice().map(|slice| slice.largest);
    let path = directories::read(model).zip(largest).and_then(|(catalog, id)| {
        let catalog = catalog.read_now();
        // the scan may be another one by now
        ((id.0 as usize) < catalog.len()).then(|| catalog.path(id))
    });
    model.looking.breakdown.largest = path;
}

/// Whoever looks at one property will look at others: what takes longest for them is worked out meanwhile.
pub(super) fn learn(model: &mut Model) -> Option<Job> {
    let station = &mut model.looking.breakdown;
    if model.scan.running || station.learned {
        return None;
    }
    station.learned = true;
    model.scan.catalog.clone().map(Job::Learn)
}

/// The property before or after the one at hand.
pub(super) fn turn(model: &mut Model, by: isize) -> Vec<Job> {
    let all = BreakdownBy::ALL;
    let place = all.iter().position(|other| *other == model.looking.breakdown.by).unwrap_or(0);
    let next = (place as isize + by).rem_euclid(all.len() as isize) as usize;
    model.looking.breakdown.by = all[next];
    model.looking.breakdown.found = None;
    model.looking.breakdown.cursor = 0;
    let mut jobs: Vec<Job> = ask_slices(model).into_iter().collect();
    let known = directories::read(model).is_some_and(|c| c.read_now().closer().is_some());
    let wants = all[next] == BreakdownBy::Attribute && !known;
    if wants && !model.scan.saved && !model.scan.running {
        jobs.extend(lens::look_closer(model, false));
    }
    jobs
}

/// Puts the selected slice into the lens.
pub(super) fn narrow(model: &mut Model) -> Vec<Job> {
    let Some(slice) = model.selected_slice() else { return Vec::new() };
    if matches!(&slice.key, SliceKey::Family(family) if family.is_empty()) {
        model.say("A root of the scan is no family");
        return Vec::new();
    }
    let term = slice.key.term();
    lens::narrow(model, &term)
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
