//! Leftovers: what was left behind. So far one group: space held by deleted files.

mod evidence;
mod view;

use fondaco_core::kernel::{DeletedFile, DeletedFiles};
use fondaco_core::units::{Bytes, UnitStyle};
use fondaco_core::volume::Volume;
use ratatui::layout::Rect;

use crate::frame::commands::{Command, Key, command};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::Model;
use crate::frame::update::held;
use crate::frame::view::{Pen, Sheet};
use crate::query::Held;

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// The selected deleted file.
    cursor: usize,
}

/// See the [module](self).
pub struct Room;

/// Selects a deleted file by its place in the list.
pub(super) fn select_held(model: &mut Model, place: usize) {
    model.rooms.leftovers.cursor = place;
}

/// The selected deleted file.
fn selected(model: &Model) -> Option<&DeletedFile> {
    model.held.files.get(model.rooms.leftovers.cursor)
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("plan it", &[Key::Char(' ')], 1, |m| selected(m).is_some(), |m| held::choose_deed(m, m.rooms.leftovers.cursor),
        "choose how the selected deleted file is let go of, or take it off the plan"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn length(&self, model: &Model) -> usize {
        model.held.files.len()
    }

    fn cursor(&self, model: &Model) -> usize {
        model.rooms.leftovers.cursor
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        model.rooms.leftovers.cursor = row;
        Vec::new()
    }

    fn lines_beside_list(&self, _: &Model) -> u16 {
        6
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        vec![Job::LoadVolumes(model.state.clone())]
    }

    fn volume<'m>(&self, model: &'m Model) -> Option<&'m Volume> {
        model.volume_of_held(selected(model)?)
    }

    /// The selected file stays selected.
    fn after_held(&self, model: &mut Model, before: &DeletedFiles) {
        let inode = |file: &DeletedFile| (file.dev, file.ino);
        let cursor = model.rooms.leftovers.cursor;
        let selected = before.files.get(cursor).map(inode);
        let place = model.held.files.iter().position(|file| Some(inode(file)) == selected);
        let last = model.held.files.len().saturating_sub(1);
        model.rooms.leftovers.cursor = place.unwrap_or(cursor).min(last);
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        let (found, state) = (model.held.clone(), model.state.clone());
        Some(Exported::Known(Box::new(Held { found, state })))
    }

    fn beside_name(&self, model: &Model) -> (String, bool) {
        let held: Bytes = model.held.files.iter().filter_map(|file| file.allocated).sum();
        if held == Bytes::ZERO {
            return (String::new(), false);
        }
        // there is room for the letter of the unit only
        let style = match model.units {
            UnitStyle::Bytes => UnitStyle::Binary,
            style => style,
        };
        (held.shown(style).trim_end_matches(['B', 'i']).to_owned(), true)
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        evidence::of_held(model, pen)
    }
}
