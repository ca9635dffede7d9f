//! Scans that were saved, and parts of a scan that are looked at again.

use std::borrow::Borrow;
use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::{Arc, RwLock};

use fondaco_core::carry_out::EntryRecord;
use fondaco_core::catalog::Catalog;
use fondaco_core::plan::Deed;
use fondaco_core::scan::Progress;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, counted, grouped};

use super::{ask, evidence, lens, start_scan};
use crate::failure::Failure;
use crate::frame::commands::Key;
use crate::frame::message::{Job, Message};
use crate::frame::model::{
    Asking, Mending, Model, Overlay, Place, SavedRow, ScanState, Selected, read,
};
use crate::station::{ask_all, to_scan};

pub fn on_news(model: &mut Model, message: Message) -> Vec<Job> {
    match message {
        Message::ScanBegun { catalog, .. } => return on_begun(model, catalog),
        Message::ScanRefused { reason, .. } => return on_refused(model, &reason),
        Message::ScanProgress { progress, done, .. } => return on_progress(model, progress, done),
        Message::MendProgress { progress, .. } => {
            if let Some(mending) = &mut model.scan.mending {
                mending.progress = progress;
            }
        }
        Message::Mended { outcome, .. } => return on_mended(model, outcome),
        Message::ScanSaved(Err(reason)) => {
            model.say_trouble(format!("The scan could not be saved: {reason}"));
        }
        Message::SavedScans(Ok(rows)) => take_list(model, rows),
        Message::SavedScans(Err(reason)) => {
            model.overlay = None;
            model.say_trouble(format!("The saved scans cannot be listed: {reason}"));
        }
        Message::Opened { outcome: Ok(catalog), .. } => return on_opened(model, *catalog),
        Message::Opened { outcome: Err(reason), .. } => model.say_trouble(reason),
        _ => {}
    }
    Vec::new()
}

fn on_begun(model: &mut Model, catalog: Arc<RwLock<Catalog>>) -> Vec<Job> {
    model.names.set_origin(read(&catalog).origin().clone());
    model.scan.catalog = Some(catalog);
    let mut jobs = lens::refresh(model);
    let before = model.before_scan.take().and_then(|before| before.0.catalog);
    jobs.extend(before.map(|catalog| Job::DropLater(catalog)));
    jobs
}

/// A path that cannot be scanned costs nothing: the scan before is there again, as far as it was.
fn on_refused(model: &mut Model, reason: &Failure) -> Vec<Job> {
    if let Some(before) = model.before_scan.take() {
        (model.scan, model.place, model.rooms) = *before;
    }
    model.asked_evidence = None;
    model.say_trouble(format!("Cannot scan: {reason}. Type another path with p."));
    let mut jobs = lens::on_other_scan(model);
    jobs.extend(evidence::look(model));
    jobs
}

fn on_progress(model: &mut Model, progress: Progress, done: bool) -> Vec<Job> {
    model.scan.progress = progress;
    let mut jobs = Vec::new();
    if done && model.scan.running {
        model.scan.running = false;
        model.scan.ended = Some(model.now);
        model.scan.complete = model.scan.read().is_some_and(|catalog| catalog.is_complete());
        let progress = &model.scan.progress;
        let (entries, seconds) = (grouped(progress.entries), progress.elapsed.as_secs_f64());
        let unreadable = match progress.unreadable {
            0 => String::new(),
            n => format!("; {} could not be read", counted(n, "place")),
        };
        let word = if model.scan.complete { "Scanned" } else { "Stopped after" };
        // elsewhere the notice belongs to what set the scan off
        if model.station.room().shows_scan() {
            model.say(format!("{word} {entries} entries in {seconds:.1} s{unreadable}"));
        }
        model.place.wanted = None;
        jobs.extend(save(model));
        jobs.extend(ask_all(model, |room, model| room.after_scan(model)));
    }
    jobs.extend(lens::on_growth(model, done));
    jobs.extend(model.station.room().on_growth(model));
    jobs
}

/// A scan that went to its end is kept, if the settings say so.
pub fn save(model: &Model) -> Option<Job> {
    let catalog = model.scan.catalog.clone().filter(|_| model.scan.complete)?;
    let wanted = model.state.settings.scans_kept > 0;
    wanted.then(|| Job::SaveScan(catalog, model.state.clone()))
}

pub fn open_list(model: &mut Model) -> Vec<Job> {
    model.overlay = Some(Overlay::Saved { rows: None, cursor: 0, forgets: None });
    vec![Job::LoadSaved(model.state.clone())]
}

/// Asks for a path; what was scanned before is offered as soon as it is known.
pub fn ask_for_path(model: &mut Model) -> Vec<Job> {
    let sentence = "Scan this directory and all below it; several are joined by a colon, as in \
                    /srv:/home. ↑ and ↓ offer what was scanned before."
        .to_owned();
    let mut jobs = ask(model, Asking::Path, sentence, None);
    jobs.push(Job::LoadSaved(model.state.clone()));
    jobs
}

/// The paths in a typed text: a colon before a slash joins two.
pub fn paths_in(typed: &str) -> Vec<PathBuf> {
    let mut parts = typed.split(":/");
    let first = parts.next().map(PathBuf::from);
    first.into_iter().chain(parts.map(|part| PathBuf::from(format!("/{part}")))).collect()
}

fn joined(roots: &[PathBuf]) -> Option<String> {
    // what is not UTF-8 cannot be typed
    let roots: Option<Vec<&str>> = roots.iter().map(|root| root.to_str()).collect();
    Some(roots?.join(":"))
}

fn take_list(model: &mut Model, mut found: Vec<SavedRow>) {
    found.reverse();
    match &mut model.overlay {
        Some(Overlay::Saved { rows, cursor, .. }) => {
            *cursor = (*cursor).min(found.len().saturating_sub(1));
            *rows = Some(found);
        }
        Some(Overlay::Ask { asking: Asking::Path, offers, .. }) => {
            let mut known = HashSet::new();
            let roots = found.iter().filter_map(|row| joined(&row.about.as_ref().ok()?.roots));
            *offers = roots.filter(|text| known.insert(text.clone())).take(8).collect();
        }
        _ => {}
    }
}

/// Keys in the list of saved scans.
pub fn in_list(
    model: &mut Model,
    rows: Option<Vec<SavedRow>>,
    mut cursor: usize,
    forgets: Option<u64>,
    key: Key,
) -> Vec<Job> {
    let mut jobs = Vec::new();
    let mut asked = None;
    let count = rows.as_ref().map_or(0, Vec::len);
    let selected = rows.as_ref().and_then(|rows| rows.get(cursor)).cloned();
    match (key, selected) {
        (Key::Up, _) => cursor = cursor.saturating_sub(1),
        (Key::Down, _) => cursor = (cursor + 1).min(count.saturating_sub(1)),
        (Key::Home, _) => cursor = 0,
        (Key::End, _) => cursor = count.saturating_sub(1),
        (Key::Enter, Some(row)) => {
            return match row.about {
                Ok(_) => {
                    model.say(format!("Opening scan {} …", row.number));
                    let (number, state) = (model.scan.number, model.state.clone());
                    vec![Job::OpenSaved { number, which: row.number, state }]
                }
                Err(reason) => {
                    model.say_trouble(reason);
                    Vec::new()
                }
            };
        }
        // it cannot be undone: once more, and meant
        (Key::Delete, Some(row)) if forgets == Some(row.number) => {
            jobs.push(Job::Forget(row.number, model.state.clone()));
        }
        (Key::Delete, Some(row)) => asked = Some(row.number),
        _ => {}
    }
    model.overlay = Some(Overlay::Saved { rows, cursor, forgets: asked });
    jobs
}

fn on_opened(model: &mut Model, catalog: Catalog) -> Vec<Job> {
    let stopping = model.scan.is_running().then_some(Job::StopScan);
    model.before_scan = None;
    let scanned = catalog.now();
    model.names.set_origin(catalog.origin().clone());
    let bytes = catalog.top().map_or(Bytes::ZERO, |top| catalog.allocated(top));
    model.scan = ScanState {
        number: model.scan.number + 1,
        roots: catalog.roots().iter().map(|root| root.path.clone()).collect(),
        progress: Progress {
            entries: catalog.rows() as u64,
            bytes,
            unreadable: catalog.unreadable().len() as u64,
            ..Progress::default()
        },
        complete: catalog.is_complete(),
        ended: Some(scanned),
        saved: true,
        catalog: Some(Arc::new(RwLock::new(catalog))),
        ..ScanState::default()
    };
    model.place = Place::default();
    model.evidence = None;
    let age = scanned.age(model.now);
    model.say(format!("This is as it was scanned {age} ago. F5 scans it anew."));
    let mut jobs = to_scan(model);
    jobs.extend(lens::on_other_scan(model));
    jobs.extend(stopping);
    jobs
}

/// The path of the selected entry, as the scan has it.
fn selected_path(model: &Model) -> Option<PathBuf> {
    model.scan.path_of(model.subject().or(model.place.selected_entry())?)
}

/// Scans the directory at hand again; at the roots, and of a saved scan, all.
pub fn rescan(model: &mut Model) -> Vec<Job> {
    let path = model.place.path.clone();
    let is_part = path.is_absolute() && !model.scan.roots.contains(&path);
    let Some(catalog) = model.scan.catalog.clone().filter(|_| is_part && !model.scan.saved) else {
        return scan_all_again(model);
    };
    model.scan.mending = Some(Mending { path: Some(path.clone()), ..Mending::default() });
    vec![Job::Rescan { number: model.scan.number, catalog, path, now: model.now }]
}

/// Scans the same roots anew and comes back to where we are; the station stays.
pub fn scan_all_again(model: &mut Model) -> Vec<Job> {
    if model.scan.roots.is_empty() {
        return Vec::new();
    }
    let station = model.station;
    let wanted = Some((model.place.path.clone(), selected_path(model)));
    model.place.wanted = wanted.filter(|(path, _)| path.is_absolute());
    let roots = model.scan.roots.clone();
    let before = model.before.clone();
    let jobs = start_scan(model, roots);
    (model.station, model.before) = (station, before);
    jobs
}

/// Where so many places have changed, all is scanned again, which is faster than looking at each.
pub const MANY_PLACES: usize = 20_000;

/// The places that a run or its undoing has touched: targets, holding areas, archives with the index and
/// the checksum beside them.
pub fn touched(entries: impl IntoIterator<Item = impl Borrow<EntryRecord>>) -> Vec<PathBuf> {
    let mut places = HashSet::new();
    for entry in entries {
        if places.len() > MANY_PLACES {
            break;
        }
        let entry: &EntryRecord = entry.borrow();
        match &entry.action.deed {
            Deed::Save { to, .. } => places.insert(to.clone()),
            deed if deed.is_release() => false,
            _ => places.insert(entry.action.target.path.0.clone()),
        };
        places.extend(entry.area.clone());
        if let Some(archive) = &entry.archive {
            let plain = archive.with_extension("");
            places.extend([plain.with_extension("json"), plain.with_extension("sha256")]);
            places.insert(archive.clone());
        }
    }
    places.into_iter().collect()
}

/// Looks again at places that were changed. A scan that is still running may have passed them: it
/// begins anew.
pub fn look_again(model: &mut Model, touched: Vec<PathBuf>) -> Vec<Job> {
    if model.scan.running {
        return scan_all_again(model);
    }
    let Some(catalog) = model.scan.catalog.clone().filter(|_| !touched.is_empty()) else {
        return Vec::new();
    };
    model.scan.mending = Some(Mending::default());
    vec![Job::Reconcile { number: model.scan.number, catalog, touched, now: model.now }]
}

fn on_mended(model: &mut Model, outcome: Result<Box<Catalog>, Failure>) -> Vec<Job> {
    let again = model.scan.mending.take().and_then(|mending| mending.path);
    let catalog = match outcome {
        Ok(catalog) => catalog,
        Err(reason) => {
            let what = again.map_or("The scan".to_owned(), shown);
            model.say_trouble(format!("{what} stays as it was scanned before: {reason}"));
            return Vec::new();
        }
    };
    let (path, selected) = (model.place.path.clone(), selected_path(model));
    // what has gone is left for the nearest directory that is still there
    let at = path.ancestors().find_map(|path| catalog.find(path));
    let selected = selected.and_then(|path| catalog.find(&path)).map(Selected::Entry);
    model.scan.progress.entries = catalog.rows() as u64;
    model.scan.progress.unreadable = catalog.unreadable().len() as u64;
    // numbers of entries have changed: what is still said about the old ones is not believed
    model.scan.number += 1;
    if let Some(path) = again {
        let entries = at.map_or(0, |id| catalog.entries(id));
        model.say(format!("Scanned again: {}, {} entries", Shown(path), grouped(entries)));
    }
    let before = model.scan.catalog.replace(Arc::new(RwLock::new(*catalog)));
    let mut jobs = ask_all(model, |room, model| room.after_scan(model));
    jobs.extend(before.map(|before| Job::DropLater(before)));
    model.place.remembered.clear();
    model.place.at = at;
    model.place.chosen &= selected.is_some();
    model.place.selected = selected;
    (model.evidence, model.asked_evidence) = (None, None);
    jobs.extend(lens::on_other_scan(model));
    jobs
}
