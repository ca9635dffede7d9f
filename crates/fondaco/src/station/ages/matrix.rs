//! The Ages station: a cell or block of the matrix, and its files by byte-years.

use std::sync::Arc;

use fondaco_core::analysis::{AgeBy, Block, Classes, FileList, FileOrder, Matrix, first_files};
use fondaco_core::catalog::{EntryId, Seen};
use fondaco_core::units::{Age, UnitError};

use super::CellPlace;
use crate::frame::geometry::panel;
use crate::frame::message::{Job, News};
use crate::frame::model::{Focus, Model};
use crate::frame::questions::Question;
use crate::frame::update::evidence::look;
use crate::frame::update::file_list::{self, LISTED};
use crate::frame::update::{lens, place};
use crate::query::Ages;

/// Sizes and ages below a directory.
#[derive(Debug)]
struct AskMatrix(EntryId, Ages);

impl Question for AskMatrix {
    fn sort(&self) -> &'static str {
        "ages"
    }

    fn answer(&self, seen: Seen<'_>) -> Box<dyn News> {
        Box::new(FoundMatrix(Arc::new(self.1.ask(seen, self.0))))
    }
}

/// The heaviest files of a block of classes.
#[derive(Debug)]
struct AskFiles(EntryId, AgeBy, Block);

impl Question for AskFiles {
    fn sort(&self) -> &'static str {
        "files of classes"
    }

    fn answer(&self, seen: Seen<'_>) -> Box<dyn News> {
        let Self(at, by, block) = self;
        let order = FileOrder::ByteYears;
        Box::new(FoundFiles(first_files(seen, *at, order, *by, Some(block), LISTED)))
    }
}

#[derive(Debug)]
struct FoundMatrix(Arc<Matrix>);

impl News for FoundMatrix {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        on_matrix(model, self.0)
    }
}

#[derive(Debug)]
struct FoundFiles(FileList);

impl News for FoundFiles {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let ages = &mut model.rooms.ages;
        ages.waiting = false;
        ages.files.list = self.0;
        window(model);
        look(model)
    }
}

fn classes(model: &Model) -> Result<Classes, UnitError> {
    let settings = &model.state.settings;
    Classes::of_texts(&settings.size_classes, &settings.age_classes)
}

/// What the matrix is asked by; classes of the settings that cannot be used leave the usual ones.
pub(super) fn query(model: &Model) -> Ages {
    Ages { by: model.rooms.ages.by, classes: classes(model).unwrap_or_default() }
}

pub(super) fn ask_matrix(model: &mut Model) -> Option<Job> {
    let at = place::at(model)?;
    if let Err(error) = classes(model) {
        model.say_trouble(format!("The classes of the settings cannot be used: {error}"));
    }
    model.rooms.ages.waiting = true;
    let question = AskMatrix(at, query(model));
    lens::ask_own(model, question)
}

fn on_matrix(model: &mut Model, matrix: Arc<Matrix>) -> Vec<Job> {
    let ages = &mut model.rooms.ages;
    let first = ages.matrix.is_none();
    let (rows, columns) = (matrix.cells.len(), matrix.classes.ages.len() + 1);
    ages.matrix = Some(matrix);
    if first {
        // all there is: on both sums
        ages.cursor = CellPlace { row: rows, column: columns };
    }
    ages.cursor.row = ages.cursor.row.min(rows);
    ages.cursor.column = ages.cursor.column.min(ages.columns());
    ask_files(model).into_iter().collect()
}

fn ask_files(model: &mut Model) -> Option<Job> {
    let at = place::at(model)?;
    let (by, block) = (model.rooms.ages.by, model.rooms.ages.block()?);
    model.rooms.ages.waiting = true;
    lens::ask_own(model, AskFiles(at, by, block))
}

/// Moves the cursor in the matrix.
pub(super) fn go_to(model: &mut Model, row: usize, column: usize) -> Vec<Job> {
    let ages = &mut model.rooms.ages;
    let Some(matrix) = &ages.matrix else { return Vec::new() };
    let to = CellPlace { row: row.min(matrix.cells.len()), column: column.min(ages.columns()) };
    if to == ages.cursor {
        return Vec::new();
    }
    ages.cursor = to;
    (ages.files.cursor, ages.files.offset) = (0, 0);
    ask_files(model).into_iter().collect()
}

pub(super) fn sideways(model: &mut Model, by: isize) -> Vec<Job> {
    let cursor = model.rooms.ages.cursor;
    go_to(model, cursor.row, cursor.column.saturating_add_signed(by))
}

/// Begins a block at the cursor, or ends it.
pub(super) fn mark_block(model: &mut Model) -> Vec<Job> {
    let ages = &mut model.rooms.ages;
    ages.anchor = match ages.anchor {
        None => Some(ages.cursor),
        Some(_) => None,
    };
    if ages.anchor.is_some() {
        model.say("A block begins here: the arrows widen it, x or Esc ends it");
    }
    ask_files(model).into_iter().collect()
}

/// The next time of the four counts as age.
pub(super) fn next_time(model: &mut Model) -> Vec<Job> {
    let next = match model.rooms.ages.by {
        AgeBy::Written => AgeBy::Read,
        AgeBy::Read => AgeBy::Changed,
        AgeBy::Changed => AgeBy::Born,
        AgeBy::Born => AgeBy::Written,
    };
    model.rooms.ages.by = next;
    model.say(format!("By when {}", next.clause()));
    let known = lens::has_closer(model);
    if next == AgeBy::Born && !known && !model.scan.running {
        if model.scan.saved {
            model.say_trouble("A saved scan does not keep when things were made: F5 scans anew");
        } else {
            return lens::look_closer(model, false).into_iter().collect();
        }
    }
    ask_matrix(model).into_iter().collect()
}

/// The classes of the selection as terms of the lens: of size, and where their ages begin and end. `None` for times that
/// are not known.
fn terms(model: &Model) -> Option<(Vec<String>, Option<String>, Option<String>)> {
    let block = model.rooms.ages.block()?;
    let seconds = |age: &Age| match age.secs() {
        secs if secs.is_multiple_of(86_400) => format!("{}d", secs / 86_400),
        secs => format!("{secs}s"),
    };
    let mut of_size = Vec::new();
    let (sizes, ages) = (&block.classes.sizes, &block.classes.ages);
    if let Some(bound) = block.sizes.start().checked_sub(1).and_then(|below| sizes.get(below)) {
        of_size.push(format!("larger:{}", bound.get()));
    }
    if let Some(bound) = sizes.get(*block.sizes.end()) {
        of_size.push(format!("smaller:{}", bound.get()));
    }
    if *block.ages.end() > ages.len() && *block.ages.start() > 0 {
        return None;
    }
    let older = block.ages.start().checked_sub(1).and_then(|below| ages.get(below));
    let newer = ages.get(*block.ages.end());
    Some((of_size, older.map(seconds), newer.map(seconds)))
}

/// Puts the classes of the selection into the lens.
pub(super) fn narrow(model: &mut Model) -> Vec<Job> {
    if model.rooms.ages.block().is_none() {
        return Vec::new();
    }
    let Some((mut terms, older, newer)) = terms(model) else {
        model.say_trouble("The lens has no word for a time that is not known: go to another cell");
        return Vec::new();
    };
    match model.rooms.ages.by {
        AgeBy::Written => {
            terms.extend(older.map(|bound| format!("older:{bound}")));
            terms.extend(newer.map(|bound| format!("newer:{bound}")));
        }
        AgeBy::Read => {
            terms.extend(older.map(|bound| format!("unread:{bound}")));
            terms.extend(newer.map(|bound| format!("not unread:{bound}")));
        }
        AgeBy::Changed | AgeBy::Born if older.is_some() || newer.is_some() => {
            model.say_trouble("The lens has words for written and read only: t switches");
            return Vec::new();
        }
        AgeBy::Changed | AgeBy::Born => {}
    }
    if terms.is_empty() {
        model.say("This is everything: go to a cell first");
        return Vec::new();
    }
    lens::narrow(model, &terms.join(" "))
}

/// A lens for the classes of the selection, and what its ages count from in a rule.
pub(super) fn rule_terms(model: &Model) -> Option<(String, Option<&'static str>)> {
    let age = match model.rooms.ages.by {
        AgeBy::Written => None,
        AgeBy::Read => Some("read"),
        AgeBy::Changed => Some("changed"),
        AgeBy::Born => return None,
    };
    let (mut terms, older, newer) = terms(model)?;
    terms.extend(older.map(|bound| format!("older:{bound}")));
    terms.extend(newer.map(|bound| format!("newer:{bound}")));
    (!terms.is_empty()).then(|| (terms.join(" "), age))
}

/// Between the matrix and its files.
pub(super) fn step(model: &mut Model) -> Vec<Job> {
    model.focus = match model.focus {
        Focus::Below => Focus::Panel,
        _ => Focus::Below,
    };
    window(model);
    look(model)
}

/// How many lines a row of the matrix has, its sums included; and how many files fit below it.
pub(super) fn rows(model: &Model) -> (u16, u16) {
    let height = panel(model).height;
    let rows = model.rooms.ages.matrix.as_ref().map_or(7, |matrix| matrix.cells.len() as u16 + 1);
    // two lines above the matrix, two between it and the files
    let lines = if height >= 2 * rows + 12 { 2 } else { 1 };
    (lines, height.saturating_sub(2 + lines * rows + 2))
}

/// Whether there is no room for the files below the matrix: then they take its place when they are gone to.
pub(super) fn list_alone(model: &Model) -> bool {
    rows(model).1 < 3
}

/// Makes the rows of the files that are on the screen.
pub(super) fn window(model: &mut Model) {
    let visible = match list_alone(model) {
        true => panel(model).height.saturating_sub(2),
        false => rows(model).1,
    };
    let mut files = std::mem::take(&mut model.rooms.ages.files);
    file_list::window(model, &mut files, usize::from(visible), model.rooms.ages.by);
    model.rooms.ages.files = files;
}

pub(super) fn select_file(model: &mut Model, row: usize) -> Vec<Job> {
    model.rooms.ages.files.cursor = row;
    window(model);
    look(model)
}
