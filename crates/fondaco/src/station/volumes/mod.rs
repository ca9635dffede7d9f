//! Volumes: which file system is in trouble, how soon it is full; and the books of the selected one.

mod books;
mod books_view;
mod disks;
mod evidence;
#[cfg(test)]
pub mod tests;
mod view;

use std::path::{Path, PathBuf};

use fondaco_core::books::Books;
use fondaco_core::volume::Volume;
use ratatui::layout::Rect;

use crate::failure::Failure;
use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::{Focus, Model};
use crate::frame::update::start_scan;
use crate::frame::view::{Pen, Sheet};
use crate::query::Volumes;
use crate::station::to_scan;

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    books: BooksState,
}

/// The books of a volume, below the list of volumes.
#[derive(Clone, Debug, Default)]
struct BooksState {
    /// Which volume they are of, or are being drawn up of.
    of: Option<PathBuf>,
    /// Counts requests: of two that overlap, the later one is believed, whichever ends first.
    number: u64,
    /// They are being drawn up.
    running: bool,
    /// What came of it.
    outcome: Option<Result<Books, Failure>>,
    /// The selected line.
    cursor: usize,
}

impl BooksState {
    /// The books of a volume, if they have been drawn up.
    fn of_volume(&self, mount_point: &Path) -> Option<&Books> {
        let books = self.outcome.as_ref()?.as_ref().ok()?;
        (books.mount_point == mount_point).then_some(books)
    }
}

/// The books of the selected volume, if they have been drawn up.
fn shown_books(model: &Model) -> Option<&Books> {
    model.rooms.volumes.books.of_volume(&model.selected_volume()?.mount_point)
}

/// See the [module](self).
pub struct Room;

fn on_volume(model: &Model) -> bool {
    model.selected_volume().is_some()
}

fn in_books(model: &Model) -> bool {
    model.focus == Focus::Below
}

/// Scans the selected volume and shows it; or what is behind the selected line of its books.
fn enter(model: &mut Model) -> Vec<Job> {
    if in_books(model) {
        return books::open_line(model);
    }
    let Some(volume) = model.selected_volume() else { return Vec::new() };
    let root = volume.mount_point.clone();
    if model.scan.roots == [root.clone()] && (model.scan.running || model.scan.complete) {
        return to_scan(model);
    }
    start_scan(model, vec![root])
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("go in", &[Key::Enter, Key::Right], 2, on_volume, enter,
        "scan the volume, or open what is behind the line of its books"),
    command("books", &[Key::Char('b')], 3, on_volume, books::draw_up,
        "explain what the volume says is in use, line by line; scans it if that has not been done"),
    command("to the books", &[Key::Tab], 4, |m| on_volume(m) && shown_books(m).is_some(), books::step,
        "go between the volumes and the lines of the books"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        match (in_books(model), shown_books(model)) {
            (true, Some(books)) => books.lines.len(),
            _ => model.volumes.len(),
        }
    }

    fn cursor(&self, model: &Model) -> usize {
        if in_books(model) { model.rooms.volumes.books.cursor } else { model.volume_cursor }
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        match in_books(model) {
            true => model.rooms.volumes.books.cursor = row,
            false => model.volume_cursor = row,
        }
        Vec::new()
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        vec![Job::LoadVolumes(model.state.clone())]
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        in_books(model).then(|| books::step(model))
    }

    fn volume<'m>(&self, model: &'m Model) -> Option<&'m Volume> {
        model.selected_volume()
    }

    fn offers_scans(&self) -> bool {
        true
    }

    fn after_volumes(&self, model: &mut Model) -> Vec<Job> {
        disks::ask(model).into_iter().collect()
    }

    fn after_scan(&self, model: &mut Model) -> Vec<Job> {
        books::after_scan(model)
    }

    fn after_change(&self, model: &mut Model, touched: Option<&[PathBuf]>) -> Vec<Job> {
        let unseen = touched.is_some_and(<[PathBuf]>::is_empty);
        unseen.then(|| books::draw_up_again(model)).flatten().into_iter().collect()
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        let known = |volume: &Volume| (volume.clone(), model.outlook(volume));
        let known = model.volumes.iter().map(known).collect();
        let (asked, state) = (model.volumes_asked, model.state.clone());
        let of = |volume: &Volume| model.drives.get(&volume.mount_point).cloned();
        let drives = model.volumes.iter().map(of).collect::<Option<Vec<_>>>().unwrap_or_default();
        Some(Exported::Known(Box::new(Volumes { known, drives, asked, state })))
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        let over = model.volumes.iter().filter(|v| v.level() > Some(v.waterline)).count();
        if over > 0 { (format!("{over} over"), true) } else { (String::new(), false) }
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        match in_books(model) {
            true => evidence::of_line(model, pen),
            false => evidence::of_volume(model, pen),
        }
    }
}
