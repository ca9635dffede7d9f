//! Lists of files, however deep they lie.

use fondaco_core::analysis::{AgeBy, byte_years};
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::shown::Shown;

use crate::frame::message::Job;
use crate::frame::model::{FileRow, Files, Model};
use crate::station::to_entry;

/// How many files are listed; the others are counted.
pub const LISTED: usize = 1000;

/// Makes the rows of a list that are on the screen, scrolled so that the selected one is among them.
pub fn window(model: &Model, files: &mut Files, visible: usize, by: AgeBy) {
    let Some(catalog) = model.scan.read() else { return };
    files.cursor = files.cursor.min(files.list.first.len().saturating_sub(1));
    if files.cursor < files.offset {
        files.offset = files.cursor;
    } else if files.cursor >= files.offset + visible.max(1) {
        files.offset = files.cursor + 1 - visible.max(1);
    }
    let on_screen = files.list.first.iter().skip(files.offset).take(visible);
    files.rows = on_screen.map(|id| row(model, &catalog, *id, by)).collect();
}

fn row(model: &Model, catalog: &Catalog, id: EntryId, by: AgeBy) -> FileRow {
    let path = catalog.path(id);
    let below = path.strip_prefix(&model.place.path).unwrap_or(&path);
    let allocated = catalog.allocated(id);
    let planned = model.draft.covering(&path);
    FileRow {
        path: Shown(below).to_string(),
        allocated,
        time: by.of(catalog, id),
        weight: byte_years(allocated, by.age(catalog, id).unwrap_or_default()),
        planned: planned.map(|planned| crate::frame::deed_letter(&planned.deed)),
    }
}

/// Goes to the directory that the selected file lies in, with the file selected.
pub fn show_place(model: &mut Model) -> Vec<Job> {
    match model.subject() {
        Some(id) => to_entry(model, id),
        None => Vec::new(),
    }
}
