//! Lists of files, however deep they lie: on Directories, and below the matrix of Ages.

use fondaco_core::analysis::{AgeBy, FileList, FileOrder, byte_years};
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::shown::Shown;

use super::{ages::LISTED, directories, lens};
use crate::app::geometry::{ages_list_rows, list_rows};
use crate::app::look_job::About;
use crate::app::looking::{FileRow, Files, Manner};
use crate::app::message::Job;
use crate::app::model::{Model, Selected};

pub(super) fn ask_files(model: &mut Model) -> Option<Job> {
    let at = directories::at(model)?;
    model.looking.files.waiting = true;
    let order = model.looking.files.order;
    lens::ask(model, About::Files(at, order, AgeBy::Written, LISTED))
}

pub(super) fn on_found(model: &mut Model, list: FileList) {
    model.looking.files.waiting = false;
    let files = &mut model.looking.files.files;
    let selected = files.list.first.get(files.cursor).copied().filter(|_| files.cursor > 0);
    let place = selected.and_then(|id| list.first.iter().position(|other| *other == id));
    files.cursor = place.unwrap_or(0);
    files.list = list;
    window_of_directories(model);
}

pub(super) fn next_order(model: &mut Model) -> Vec<Job> {
    let (next, word) = match model.looking.files.order {
        FileOrder::Allocated => (FileOrder::Age, "oldest first"),
        FileOrder::Age => (FileOrder::ByteYears, "byte-years, the heaviest first"),
        FileOrder::ByteYears => (FileOrder::Allocated, "largest first"),
    };
    model.looking.files.order = next;
    model.looking.files.files = Files::default();
    model.say(format!("Files in order: {word}"));
    ask_files(model).into_iter().collect()
}

/// Makes the rows of the list on Directories that are on the screen.
pub(super) fn window_of_directories(model: &mut Model) {
    let visible = list_rows(model).saturating_sub(1);
    let mut files = std::mem::take(&mut model.looking.files.files);
    window(model, &mut files, visible, AgeBy::Written);
    model.looking.files.files = files;
}

/// Likewise below the matrix of Ages.
pub(super) fn window_of_ages(model: &mut Model) {
    let visible = ages_list_rows(model);
    let mut files = std::mem::take(&mut model.looking.ages.files);
    window(model, &mut files, visible, model.looking.ages.by);
    model.looking.ages.files = files;
}

fn window(model: &Model, files: &mut Files, visible: usize, by: AgeBy) {
    let Some(readable) = directories::read(model) else { return };
    let catalog = readable.read_now();
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
    let below = path.strip_prefix(&model.directories.path).unwrap_or(&path);
    let allocated = catalog.allocated(id);
    let planned = model.draft.covering(&path);
    FileRow {
        path: Shown(below).to_string(),
        allocated,
        time: by.of(catalog, id),
        weight: byte_years(allocated, by.age(catalog, id).unwrap_or_default()),
        planned: planned.map(|planned| crate::app::deed_letter(&planned.deed)),
    }
}

/// Goes to the directory that a file lies in, with the file selected.
pub(super) fn show_place(model: &mut Model) -> Vec<Job> {
    let Some(id) = model.subject() else { return Vec::new() };
    let Some(readable) = directories::read(model) else { return Vec::new() };
    let Some(parent) = readable.read_now().parent(id) else { return Vec::new() };
    model.looking.manner = Manner::Cascade;
    model.directories.remembered.insert(parent, id);
    let mut jobs = super::go_to(model, crate::app::model::Station::Directories);
    jobs.extend(directories::go_into(model, parent));
    if model.directories.cursor().is_none() {
        model.directories.tail_open = true;
        (model.directories.selected, model.directories.chosen) = (Some(Selected::Entry(id)), true);
        directories::rank(model);
        jobs.extend(directories::look(model));
    }
    jobs
}

/// Switches between the cascade and another manner of showing.
pub(super) fn switch(model: &mut Model, manner: Manner) -> Vec<Job> {
    let now = model.looking.manner;
    model.looking.manner = if now == manner { Manner::Cascade } else { manner };
    model.focus = crate::app::model::Focus::Panel;
    lens::refresh(model)
}
