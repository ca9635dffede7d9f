//! The books of the selected volume, and what is behind their lines.

use std::path::Path;
use std::sync::{Arc, RwLock};

use fondaco_core::books::{Books, Item, LineKind, books, settle_writes};
use fondaco_core::catalog::Catalog;
use fondaco_core::kernel::{CallError, DeletedFiles};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Time, grouped};
use fondaco_core::volume::{Volume, volume_of};

use super::shown_books;
use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Focus, Model, Overlay, read};
use crate::frame::update::begin_scan;
use crate::station::{to_held, to_scan};

/// Draws up the books of a volume, with the scan of it if there is one.
#[derive(Debug)]
struct DrawUp {
    /// Tells this request from earlier ones.
    number: u64,
    volume: Volume,
    catalog: Option<Arc<RwLock<Catalog>>>,
    /// Settings with the simulated volumes.
    state: State,
}

impl Work for DrawUp {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let outcome =
            drawn_up(&self.volume, self.catalog.as_deref(), &self.state).map_err(Failure::of);
        Box::new(DrawnUp { number: self.number, outcome })
    }
}

/// The books of a volume have been drawn up, or not.
#[derive(Debug)]
pub struct DrawnUp {
    /// Which request this answers.
    pub number: u64,
    /// What they say.
    pub outcome: Result<Books, Failure>,
}

impl News for DrawnUp {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let state = &mut model.rooms.volumes.books;
        if state.number != self.number {
            return Vec::new(); // others have been asked for since
        }
        state.running = false;
        if let Ok(books) = &self.outcome {
            state.cursor = state.cursor.min(books.lines.len().saturating_sub(1));
        }
        state.outcome = Some(self.outcome);
        Vec::new()
    }
}

fn drawn_up(
    volume: &Volume,
    catalog: Option<&RwLock<Catalog>>,
    state: &State,
) -> Result<Books, CallError> {
    settle_writes(volume)?;
    let catalog = catalog.map(read);
    // asked anew: what it said is some seconds old
    let fresh = volume_of(&volume.mount_point, state).unwrap_or_else(|| volume.clone());
    let now = Time::now();
    books(&fresh, catalog.as_deref(), &DeletedFiles::collect(now), now)
}

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
    model.rooms.volumes.books.of = Some(at.to_owned());
    model.rooms.volumes.books.running = true;
    model.rooms.volumes.books.number += 1;
    let (number, state) = (model.rooms.volumes.books.number, model.state.clone());
    Some(Job::Work(Box::new(DrawUp { number, volume, catalog: catalog.flatten(), state })))
}

/// Whether the scan at hand is one of a whole volume.
fn is_scanned(model: &Model, at: &Path) -> bool {
    model.scan.complete && model.scan.roots.iter().any(|root| root == at)
}

/// A scan has ended, or was mended: if the books of its volume have been asked for, they are drawn up.
pub(super) fn after_scan(model: &mut Model) -> Vec<Job> {
    let asked = model
        .rooms
        .volumes
        .books
        .of
        .clone()
        .filter(|at| is_scanned(model, at) && !model.scan.saved);
    asked.and_then(|at| begin(model, &at)).into_iter().collect()
}

/// Something was freed that no scan has seen: the books that are shown are drawn up anew.
pub(super) fn draw_up_again(model: &mut Model) -> Option<Job> {
    let at = model.rooms.volumes.books.of.clone()?;
    begin(model, &at)
}

/// Between the list of volumes and the lines of the books.
pub(super) fn step(model: &mut Model) -> Vec<Job> {
    model.focus = if model.focus == Focus::Below { Focus::Panel } else { Focus::Below };
    Vec::new()
}

/// Opens what is behind the selected line.
pub(super) fn open_line(model: &mut Model) -> Vec<Job> {
    let Some(books) = shown_books(model) else { return Vec::new() };
    let Some(line) = books.lines.get(model.rooms.volumes.books.cursor) else { return Vec::new() };
    match line.kind {
        LineKind::Held if line.count > 0 => {
            // the largest of this volume, not of all
            let at = books.mount_point.clone();
            let on = |file| model.volume_of_held(file).is_some_and(|v| v.mount_point == at);
            let place = model.held.files.iter().position(on).unwrap_or(0);
            return to_held(model, place);
        }
        LineKind::Visible if model.scan.roots.contains(&books.mount_point) => {
            return to_scan(model);
        }
        _ => {}
    }
    let words = line.kind.words();
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
