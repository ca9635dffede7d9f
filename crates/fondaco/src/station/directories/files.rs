//! The list of files of the directory at hand, however deep they lie.

use fondaco_core::analysis::{AgeBy, FileList, FileOrder};
use fondaco_core::catalog::{EntryId, Seen};

use super::{Shows, in_files};
use crate::frame::geometry::list_rows;
use crate::frame::message::{Job, News};
use crate::frame::model::{Files, Model};
use crate::frame::questions::Question;
use crate::frame::update::evidence::look;
use crate::frame::update::file_list::{self, LISTED};
use crate::frame::update::{lens, place};
use crate::query;

/// The first files of a directory.
#[derive(Debug)]
struct FirstFiles(EntryId, query::Files);

impl Question for FirstFiles {
    fn sort(&self) -> &'static str {
        "files"
    }

    fn answer(&self, seen: Seen<'_>) -> Box<dyn News> {
        Box::new(Found(self.1.ask(seen, self.0)))
    }
}

/// The files that were asked for.
#[derive(Debug)]
struct Found(FileList);

impl News for Found {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let list = self.0;
        let state = &mut model.rooms.directories;
        state.files_awaited = false;
        let files = &mut state.files;
        let selected = files.list.first.get(files.cursor).copied().filter(|_| files.cursor > 0);
        let place = selected.and_then(|id| list.first.iter().position(|other| *other == id));
        files.cursor = place.unwrap_or(0);
        files.list = list;
        window(model);
        look(model)
    }
}

/// What the files are asked by.
pub(super) fn query(model: &Model, top: usize) -> query::Files {
    query::Files { order: model.rooms.directories.files_order, by: AgeBy::Written, top }
}

pub(super) fn ask(model: &mut Model) -> Option<Job> {
    let at = place::at(model)?;
    model.rooms.directories.files_awaited = true;
    let question = FirstFiles(at, query(model, LISTED));
    lens::ask_own(model, question)
}

/// Shows the directory at hand as a list of files.
pub fn list(model: &mut Model) -> Vec<Job> {
    if in_files(model) { Vec::new() } else { super::switch(model, Shows::Files) }
}

pub(super) fn next_order(model: &mut Model) -> Vec<Job> {
    let state = &mut model.rooms.directories;
    let (next, word) = match state.files_order {
        FileOrder::Allocated => (FileOrder::Age, "oldest first"),
        FileOrder::Age => (FileOrder::ByteYears, "byte-years, the heaviest first"),
        FileOrder::ByteYears => (FileOrder::Allocated, "largest first"),
    };
    state.files_order = next;
    state.files = Files::default();
    model.say(format!("Files in order: {word}"));
    ask(model).into_iter().collect()
}

pub(super) fn select(model: &mut Model, row: usize) -> Vec<Job> {
    model.rooms.directories.files.cursor = row;
    window(model);
    look(model)
}

/// Makes the rows that are on the screen.
pub(super) fn window(model: &mut Model) {
    let visible = list_rows(model).saturating_sub(1);
    let mut files = std::mem::take(&mut model.rooms.directories.files);
    file_list::window(model, &mut files, visible, AgeBy::Written);
    model.rooms.directories.files = files;
}
