//! Planning what is to be done with the selected entry.

use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use fondaco_core::archive::is_store;
use fondaco_core::catalog::Catalog;
use fondaco_core::plan::{Choice, Deed, Planned, Put, Refusal, Review, Survey};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::Bytes;
use fondaco_core::volume::volume_root;

use super::{run, step};
use crate::frame::message::Job;
use crate::frame::model::{Model, Overlay, deeds_for, read};

/// Space on an entry: takes it off if it is planned, else asks what is to be done with it.
pub fn choose_deed(model: &mut Model) -> Vec<Job> {
    let Some((path, name, bytes)) = selected(model) else { return Vec::new() };
    if model.run.is_active() {
        model.say_trouble("A run is going on: plan more when it has ended");
        return Vec::new();
    }
    if model.draft.is_planned(&path) {
        model.draft.take_off(&path);
        model.run.rehearsal = None;
        model.say(format!("Taken off the plan: {name}"));
        model.station.room().redraw(model);
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
    let (deeds, held) = (deeds_for(&path, &model.state.depot()), None);
    model.overlay =
        Some(Overlay::ChooseDeed { path, name, deeds, held, bytes, cursor: 0, changes: false });
    Vec::new()
}

/// Path, name and bytes of the selected entry.
fn selected(model: &Model) -> Option<(PathBuf, String, Bytes)> {
    let id = model.subject()?;
    let catalog = model.scan.read()?;
    // while a scan runs, what belongs to it alone is not known yet
    let bytes = if model.scan.running { catalog.allocated(id) } else { catalog.exclusive(id) };
    Some((catalog.path(id), shown(catalog.name(id)), bytes))
}

/// The selected entry as the scan found it.
fn choice(model: &Model) -> Option<(Choice, Arc<RwLock<Catalog>>)> {
    let id = model.subject()?;
    let shared = model.scan.catalog.as_ref()?;
    let catalog = read(shared);
    let by_reading = model.lens.lens.asks_for_reading();
    let entry = catalog.scanned_entry(id);
    Some((Choice::Scanned { entry, by_reading }, Arc::clone(shared)))
}

/// The deed has been chosen.
pub fn put(model: &mut Model, path: &Path, deed: Deed, changes: bool) -> Vec<Job> {
    model.run.rehearsal = None;
    model.run.summary = None;
    let word = deed.word();
    if changes {
        let planned = model.draft.covering(path).filter(|planned| planned.path == path);
        let volume = planned.map(|planned| planned.volume.clone());
        let on = volume.is_some_and(|volume| on_volume(model, &deed, &volume));
        model.draft.set_deed(path, deed.with_destination_on_volume(on), on);
        model.say(format!("Changed to {word}: {}", Shown(path)));
        return Vec::new();
    }
    let Some((_, name, bytes)) = selected(model) else { return Vec::new() };
    let entries =
        model.subject().zip(model.scan.read()).map_or(1, |(id, catalog)| catalog.entries(id));
    let volume = model.volume_of(path).map(|volume| volume.mount_point.clone());
    let volume = volume.unwrap_or_else(|| volume_root(path, &model.state, &[]));
    let depot_on_volume = on_volume(model, &deed, &volume);
    let Some((choice, catalog)) = choice(model) else { return Vec::new() };
    let put = model.draft.put(Planned {
        path: path.to_owned(),
        depot_on_volume,
        deed: deed.clone().with_destination_on_volume(depot_on_volume),
        reason: "by hand".to_owned(),
        volume,
        estimate: bytes,
        entries,
        review: Review::Pending,
        purge_after: None,
        stays: None,
        together: None,
        differs: Vec::new(),
        emptied: false,
    });
    match put {
        Put::TookIn(count) => model
            .say(format!("Planned: {word} {name}; {count} planned before below it are taken in")),
        _ => model.say(format!("Planned: {word} {name}")),
    }
    let destination = deed.destination().and_then(|place| run::disk_warning(model, place));
    if let Some(warning) = destination {
        model.say_trouble(format!("Planned, but {warning}"));
    }
    model.station.room().redraw(model);
    let mut jobs = vec![Job::Survey(Box::new(choice), catalog, model.state.clone())];
    jobs.extend(step(model, 1));
    jobs
}

/// Whether what an archive or a move goes to lies on a volume.
pub fn on_volume(model: &Model, deed: &Deed, volume: &Path) -> bool {
    let on = deed.destination().filter(|to| !is_store(to)).and_then(|to| model.volume_of(to));
    on.is_some_and(|on| on.mount_point == volume)
}

/// A planned thing has been looked at closely.
pub fn on_surveyed(model: &mut Model, path: &Path, outcome: Result<Survey, Refusal>) -> Vec<Job> {
    if let Err(refusal) = &outcome {
        model.say_trouble(format!("Cannot be planned: {refusal}"));
    }
    model.draft.reviewed(path, outcome);
    let ready = model.pending_actions() == 0 && !model.run.is_active();
    if model.run.rehearse_when_ready && ready { run::rehearse(model) } else { Vec::new() }
}
