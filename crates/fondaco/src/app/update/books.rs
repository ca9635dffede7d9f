//! The books of the selected volume, and what is behind their lines.

use std::path::Path;
use std::sync::Arc;

use fondaco_core::books::{Books, Item, Matter};
use fondaco_core::shown::Shown;
use fondaco_core::units::grouped;

use super::{begin_scan, directories, go_to};
use crate::app::message::Job;
use crate::app::model::{Focus, Model, Overlay, Station};

/// Draws them up with the scan at hand, or scans the volume first and shows what is known meanwhile.
pub(super) fn draw_up(model: &mut Model) -> Vec<Job> {
    let Some(volume) = model.selected_volume().cloned() else { return Vec::new() };
    let at = volume.mount_point.clone();
    let mut jobs: Vec<Job> = begin(model, &at).into_iter().collect();
    if is_scanned(model, &at) {
        return jobs;
    }
    let of_volume = model.scan.roots == [at.clone()];
    if model.scan.is_running() && !of_volume {
        let going_on = model.scan.roots.first().cloned().unwrap_or_default();
        let going_on = Shown(going_on);
        model
            .say_trouble(format!("{going_on} is being scanned: press b again when that has ended"));
        return jobs;
    }
    if !model.scan.is_running() {
        model.say(format!("Scanning {} for its books", Shown(&at)));
        jobs.extend(begin_scan(model, vec![at]));
    }
    jobs
}

/// The job that draws them up of a volume.
fn begin(model: &mut Model, at: &Path) -> Option<Job> {
    let volume = model.volumes.iter().find(|volume| volume.mount_point == at)?.clone();
    let catalog = is_scanned(model, at).then(|| model.scan.catalog.as_ref().map(Arc::clone));
    model.books.of = Some(at.to_owned());
    model.books.running = true;
    model.books.number += 1;
    let (number, state) = (model.books.number, model.state.clone());
    Some(Job::Books { number, volume: Box::new(volume), catalog: catalog.flatten(), state })
}

/// Whether the scan at hand is one of a whole volume.
fn is_scanned(model: &Model, at: &Path) -> bool {
    model.scan.complete && model.scan.roots.iter().any(|root| root == at)
}

/// A scan has ended, or was mended: if the books of its volume have been asked for, they are drawn up.
pub(super) fn after_scan(model: &mut Model) -> Vec<Job> {
    let asked = model.books.of.clone().filter(|at| is_scanned(model, at) && !model.scan.saved);
    asked.and_then(|at| begin(model, &at)).into_iter().collect()
}

/// Something was freed that no scan has seen: the books that are shown are drawn up anew.
pub(super) fn draw_up_again(model: &mut Model) -> Option<Job> {
    let at = model.books.of.clone()?;
    begin(model, &at)
}

pub(super) fn on_drawn(model: &mut Model, number: u64, outcome: Result<Books, String>) -> Vec<Job> {
    if model.books.number != number {
        return Vec::new(); // others have been asked for since
    }
    model.books.running = false;
    if let Ok(books) = &outcome {
        model.books.cursor = model.books.cursor.min(books.lines.len().saturating_sub(1));
    }
    model.books.outcome = Some(outcome);
    Vec::new()
}

/// Between the list of volumes and the lines of the books.
pub(super) fn step(model: &mut Model) -> Vec<Job> {
    model.focus = if model.focus == Focus::Books { Focus::Panel } else { Focus::Books };
    Vec::new()
}

/// Opens what is behind the selected line.
pub(super) fn open_line(model: &mut Model) -> Vec<Job> {
    let Some(books) = model.shown_books() else { return Vec::new() };
    let Some(line) = books.lines.get(model.books.cursor) else { return Vec::new() };
    match line.matter {
        Matter::Held if line.count > 0 => {
            // the largest of this volume, not of all
            let at = books.mount_point.clone();
            let on = |file| model.volume_of_held(file).is_some_and(|v| v.mount_point == at);
            model.held_cursor = model.held.files.iter().position(on).unwrap_or(0);
            return go_to(model, Station::Leftovers);
        }
        Matter::Visible if model.scan.roots.contains(&books.mount_point) => {
            let jobs = go_to(model, Station::Directories);
            directories::rank(model);
            return jobs;
        }
        _ => {}
    }
    let words = line.matter.words();
    if line.items.is_empty() {
        model.say(format!("There is nothing behind {words}"));
        return Vec::new();
    }
    let title = format!("{words}: {}", Shown(&books.mount_point));
    let lines = line.items.iter().map(behind).collect();
    model.overlay = Some(Overlay::Listing { title, lines, offset: 0 });
    Vec::new()
}

fn behind(item: &Item) -> String {
    let bytes = item.bytes.map_or_else(String::new, |bytes| {
        let sign = if bytes < 0 { "-" } else { "" };
        format!("{sign}{}", grouped(bytes.unsigned_abs()))
    });
    format!("{bytes:>18}  {}", item.what)
}
