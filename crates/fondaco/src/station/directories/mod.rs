//! Directories: what the directory at hand holds, as stairs, as areas within areas, or as a list of files.

mod cascade;
mod cascade_view;
mod files;
mod files_view;
mod map;
mod map_view;
#[cfg(test)]
pub mod tests;

use fondaco_core::analysis::{AgeBy, Area, FileOrder};
use fondaco_core::catalog::{AgeProfile, EntryId, Order, Tail};
use fondaco_core::kernel::Kind;
use fondaco_core::units::{Bytes, Time};
use ratatui::layout::Rect;

use super::ListedFiles;
use crate::frame::commands::{Command, Key, command, show_place};
use crate::frame::export::Exported;
use crate::frame::geometry::panel;
use crate::frame::message::Job;
use crate::frame::model::{Files, Model, Selected};
use crate::frame::update::evidence::look;
use crate::frame::update::{export, lens, place, scans};
use crate::frame::view::{EntryFacts, Pen, Sheet, nothing_scanned, of_entry};
use crate::query::{Directories, Map};

pub use cascade::show_entry;
pub use files::list as list_files;

/// One row of the cascade, ready to be drawn.
#[derive(Clone, Debug)]
pub struct EntryRow {
    /// Its entry in the catalog.
    pub id: EntryId,
    /// Display form of its name, with a slash if it is a directory.
    pub name: String,
    /// Bytes on disk.
    pub allocated: Bytes,
    /// Sum of the lengths.
    pub apparent: Bytes,
    /// Names in it.
    pub entries: u64,
    /// Newest writing in it.
    pub newest: Time,
    /// Bytes on disk by age of the last writing.
    pub profile: AgeProfile,
    /// What it is.
    pub kind: Kind,
    /// Not wholly read, or another volume: the size is not all.
    pub incomplete: bool,
    /// The deed planned for it, or for what holds it.
    pub planned: Option<char>,
    /// Bytes that it has more or less than at an earlier scan, if that is shown.
    pub growth: Option<i64>,
}

/// How a directory is shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Shows {
    /// As stairs: each bar begins where the one above it ends.
    #[default]
    Cascade,
    /// As stairs, with the map below them.
    Together,
    /// As areas within areas.
    Map,
    /// As a list of files, however deep they lie.
    Files,
}

impl Shows {
    fn has_map(self) -> bool {
        matches!(self, Self::Together | Self::Map)
    }
}

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    shows: Shows,
    /// Entries of the directory in order, as many as are listed one by one.
    ids: Vec<EntryId>,
    /// Those of them that are on the screen, from `offset` on.
    rows: Vec<EntryRow>,
    /// Bytes on disk of those above the screen: where its first stair begins.
    above: Bytes,
    /// What is not listed one by one.
    tail: Tail,
    /// What the rows are ordered by.
    order: Order,
    /// They are ordered by what they grew instead.
    by_growth: bool,
    /// The first row that is drawn.
    offset: usize,
    /// What has been typed to find a name.
    typed: Option<String>,
    files: Files,
    files_order: FileOrder,
    /// The list of files is being looked for.
    files_awaited: bool,
    map: DrawnMap,
}

/// Areas of the map.
#[derive(Clone, Debug, Default)]
struct DrawnMap {
    /// Each after the one it lies in.
    areas: Vec<Area>,
    /// Names of those that have room for one, in the same order; empty ones have none.
    names: Vec<String>,
}

/// So many files are exported.
const EXPORTED: usize = 10_000;

/// See the [module](self).
pub struct Room;

fn is_scanned(model: &Model) -> bool {
    !model.scan.roots.is_empty()
}

fn has_scan(model: &Model) -> bool {
    model.scan.catalog.is_some()
}

fn in_files(model: &Model) -> bool {
    model.rooms.directories.shows == Shows::Files
}

fn in_cascade(model: &Model) -> bool {
    is_scanned(model) && !in_files(model)
}

fn in_trail(model: &Model) -> bool {
    model.place.trail.is_some()
}

fn can_enter(model: &Model) -> bool {
    in_trail(model) || (in_cascade(model) && cascade::can_enter(model))
}

fn can_go_out(model: &Model) -> bool {
    model.place.parent.is_some()
}

fn can_rescan(model: &Model) -> bool {
    is_scanned(model) && !model.scan.is_running() && model.scan.mending.is_none()
}

fn on_file(model: &Model) -> bool {
    in_files(model) && model.subject().is_some()
}

fn next_order(model: &mut Model) -> Vec<Job> {
    if in_files(model) { files::next_order(model) } else { cascade::next_order(model) }
}

fn find_name(model: &mut Model) -> Vec<Job> {
    model.rooms.directories.typed = Some(String::new());
    Vec::new()
}

/// From the stairs to stairs and map together, to the map alone, and back.
fn turn_map(model: &mut Model) -> Vec<Job> {
    let next = match model.rooms.directories.shows {
        Shows::Cascade | Shows::Files if map::has_room_below(model) => Shows::Together,
        Shows::Cascade | Shows::Files | Shows::Together => Shows::Map,
        // a second switch to the same leads back to the stairs
        Shows::Map => Shows::Map,
    };
    switch(model, next)
}

/// Switches between the stairs and another way to show the directory.
fn switch(model: &mut Model, shows: Shows) -> Vec<Job> {
    let state = &mut model.rooms.directories;
    state.shows = if state.shows == shows { Shows::Cascade } else { shows };
    model.place.trail = None;
    lens::refresh(model)
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    show_place(on_file),
    command("map", &[Key::Char('m')], 5, has_scan, turn_map,
        "areas within areas, shaded by age: below the stairs, then alone, then no more"),
    command("files", &[Key::Char('l')], 5, has_scan, |m| switch(m, Shows::Files),
        "the largest or stalest, however deep; once more: as stairs"),
    command("go in", &[Key::Enter, Key::Right], 2, can_enter, cascade::enter,
        "go into the directory, open the tail, or go to the ancestor"),
    command("go out", &[Key::Left, Key::Backspace], 3, |m| can_go_out(m) && !in_trail(m), cascade::go_out,
        "go to the directory above"),
    command("ancestors", &[Key::Tab], 6, can_go_out, cascade::open_trail,
        "choose a directory above with ← and →, and go there with Enter"),
    command("order", &[Key::Char('o')], 5, is_scanned, next_order,
        "order by another column; files by size, age or byte-years"),
    command("find a name", &[Key::Char('f')], 7, in_cascade, find_name,
        "jump to the first name that begins with what is typed"),
    command("scan again", &[Key::Function(5)], 8, can_rescan, scans::rescan,
        "scan this directory anew and mend all totals above it"),
    command("unreadable", &[Key::Char('!')], 3, |m| is_scanned(m) && m.scan.progress.unreadable > 0, place::list_unreadable,
        "list the places that the scan could not read, and why"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        match in_files(model) {
            true => model.rooms.directories.files.list.first.len(),
            false => cascade::length(model),
        }
    }

    fn cursor(&self, model: &Model) -> usize {
        match in_files(model) {
            true => model.rooms.directories.files.cursor,
            false => cascade::cursor(model).unwrap_or(0),
        }
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        if in_files(model) { files::select(model, row) } else { cascade::select(model, row) }
    }

    fn lines_beside_list(&self, model: &Model) -> u16 {
        match model.rooms.directories.shows {
            Shows::Together => 1 + panel(model).height.div_ceil(2),
            _ => 1,
        }
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        lens::refresh(model)
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        if model.place.trail.take().is_some() {
            return Some(look(model));
        }
        let shows = model.rooms.directories.shows;
        if shows != Shows::Cascade {
            return Some(switch(model, shows));
        }
        if model.place.tail_open {
            model.place.tail_open = false;
            cascade::rank(model);
            return Some(look(model));
        }
        model.place.parent.is_some().then(|| cascade::go_out(model))
    }

    fn take_key(&self, model: &mut Model, key: Key) -> Option<Vec<Job>> {
        if model.rooms.directories.typed.is_some() {
            return Some(cascade::on_typed(model, key));
        }
        cascade::on_trail(model, key).then(Vec::new)
    }

    fn typing(&self, model: &Model) -> Option<String> {
        let typed = model.rooms.directories.typed.as_ref()?;
        let typed = fondaco_core::shown::shown(typed);
        Some(format!("find a name: {typed}▏   Enter or Esc ends"))
    }

    fn on_entry(&self, model: &mut Model, id: EntryId, double: bool) -> Vec<Job> {
        cascade::on_map_click(model, id, double)
    }

    fn subject(&self, model: &Model) -> Option<EntryId> {
        match in_files(model) {
            true => model.rooms.directories.files.selected(),
            false => model.place.selected_entry(),
        }
    }

    fn shows_scan(&self) -> bool {
        true
    }

    fn awaits_scan(&self, model: &Model) -> bool {
        model.rooms.directories.files_awaited
    }

    fn refresh(&self, model: &mut Model) -> Vec<Job> {
        cascade::rank(model);
        let mut jobs = look(model);
        if in_files(model) {
            jobs.extend(files::ask(model));
        }
        jobs
    }

    fn redraw(&self, model: &mut Model) {
        cascade::rank(model);
        if in_files(model) {
            files::window(model);
        }
    }

    fn forget_scan(&self, model: &mut Model) {
        let state = &mut model.rooms.directories;
        let State { shows, order, by_growth, files_order, .. } = *state;
        *state = State { shows, order, by_growth, files_order, ..State::default() };
    }

    fn on_growth(&self, model: &mut Model) -> Vec<Job> {
        cascade::rank(model);
        look(model)
    }

    fn listed_files(&self, model: &Model) -> Option<ListedFiles> {
        let state = &model.rooms.directories;
        in_files(model).then(|| ListedFiles {
            whole: state.files.list.whole,
            by: AgeBy::default(),
            block: None,
            awaited: state.files_awaited,
        })
    }

    fn has_growth(&self) -> bool {
        true
    }

    fn on_changes(&self, model: &mut Model) -> Vec<Job> {
        cascade::rank(model);
        Vec::new()
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        let state = &model.rooms.directories;
        let directories = Directories { order: state.order, top: usize::MAX };
        match state.shows {
            Shows::Cascade | Shows::Together => export::of_scan(model, directories),
            Shows::Map => export::of_scan(model, Map(directories)),
            Shows::Files => export::of_scan(model, files::query(model, EXPORTED)),
        }
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        match model.scan.running {
            true => ("scanning".to_owned(), true),
            false => (String::new(), false),
        }
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        if nothing_scanned(model, pen, area) {
            return;
        }
        match model.rooms.directories.shows {
            Shows::Cascade => cascade_view::draw(model, pen, area),
            Shows::Together => {
                let below = map::area(model);
                let stairs = Rect { height: below.y.saturating_sub(area.y), ..area };
                cascade_view::draw(model, pen, stairs);
                map_view::draw(model, pen, below);
            }
            Shows::Map => map_view::draw(model, pen, area),
            Shows::Files => files_view::draw(model, pen, area),
        }
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        if !in_files(model) && model.place.selected == Some(Selected::Tail) {
            let text = "What does not fit the screen, added up. Enter opens it.".to_owned();
            return Sheet::of_verdict(text, pen.theme.plain);
        }
        let row = cascade::selected_row(model).filter(|row| Some(row.id) == model.subject());
        let facts = row.map(|row| EntryFacts {
            allocated: row.allocated,
            apparent: row.apparent,
            entries: row.entries,
            newest: row.newest,
        });
        of_entry(model, pen, facts)
    }
}
