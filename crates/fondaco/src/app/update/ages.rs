//! The Ages station: a cell or block of the matrix, and its files by byte-years.

use std::sync::Arc;

use fondaco_core::analysis::{AgeBy, Classes, FileList, Matrix};
use fondaco_core::units::{Age, Bytes};

use super::{directories, files, lens};
use crate::app::look_job::About;
use crate::app::looking::CellPlace;
use crate::app::message::Job;
use crate::app::model::{Focus, Model};

/// So many files are listed; the others are counted.
pub(super) const LISTED: usize = 1000;

pub(super) fn ask_matrix(model: &mut Model) -> Option<Job> {
    let at = directories::at(model)?;
    let settings = &model.state.settings;
    let classes = match Classes::of_texts(&settings.size_classes, &settings.age_classes) {
        Ok(classes) => classes,
        Err(error) => {
            model.say_trouble(format!("The classes of the settings cannot be used: {error}"));
            Classes::default()
        }
    };
    model.looking.ages.waiting = true;
    let by = model.looking.ages.by;
    lens::ask(model, About::Ages(at, by, Box::new(classes)))
}

pub(super) fn on_matrix(model: &mut Model, matrix: Arc<Matrix>) -> Vec<Job> {
    let ages = &mut model.looking.ages;
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
    let at = directories::at(model)?;
    let (by, block) = (model.looking.ages.by, model.looking.ages.block()?);
    model.looking.ages.waiting = true;
    lens::ask(model, About::Block(at, by, Box::new(block), LISTED))
}

pub(super) fn on_files(model: &mut Model, list: FileList) {
    model.looking.ages.waiting = false;
    model.looking.ages.files.list = list;
    files::window_of_ages(model);
}

/// Moves the cursor in the matrix.
pub(super) fn go_to(model: &mut Model, row: usize, column: usize) -> Vec<Job> {
    let ages = &mut model.looking.ages;
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
    let cursor = model.looking.ages.cursor;
    go_to(model, cursor.row, cursor.column.saturating_add_signed(by))
}

/// Begins a block at the cursor, or ends it.
pub(super) fn mark_block(model: &mut Model) -> Vec<Job> {
    let ages = &mut model.looking.ages;
    ages.anchor = match ages.anchor {
        None => Some(ages.cursor),
        Some(_) => None,
    };
    if ages.anchor.is_some() {
        model.say("A block begins here: the arrows widen it, b or Esc ends it");
    }
    ask_files(model).into_iter().collect()
}

/// The next time of the four counts as age.
pub(super) fn next_time(model: &mut Model) -> Vec<Job> {
    let next = match model.looking.ages.by {
        AgeBy::Written => AgeBy::Read,
        AgeBy::Read => AgeBy::Changed,
        AgeBy::Changed => AgeBy::Born,
        AgeBy::Born => AgeBy::Written,
    };
    model.looking.ages.by = next;
    model.say(format!("By when {}", next.clause()));
    let known = directories::read(model).is_some_and(|c| c.read_now().closer().is_some());
    if next == AgeBy::Born && !known && !model.scan.running {
        if model.scan.saved {
            model.say_trouble("A saved scan does not keep when things were made: F5 scans anew");
        } else {
            return lens::look_closer(model, false).into_iter().collect();
        }
    }
    ask_matrix(model).into_iter().collect()
}

/// Puts the classes of the selection into the lens.
pub(super) fn narrow(model: &mut Model) -> Vec<Job> {
    let Some(block) = model.looking.ages.block() else { return Vec::new() };
    let exact = |bytes: &Bytes| format!("{}", bytes.get());
    let seconds = |age: &Age| match age.secs() {
        secs if secs.is_multiple_of(86_400) => format!("{}d", secs / 86_400),
        secs => format!("{secs}s"),
    };
    let mut terms = Vec::new();
    let (sizes, ages) = (&block.classes.sizes, &block.classes.ages);
    if let Some(bound) = block.sizes.start().checked_sub(1).and_then(|below| sizes.get(below)) {
        terms.push(format!("larger:{}", exact(bound)));
    }
    if let Some(bound) = sizes.get(*block.sizes.end()) {
        terms.push(format!("smaller:{}", exact(bound)));
    }
    if *block.ages.end() > ages.len() && *block.ages.start() > 0 {
        model.say_trouble("The lens has no word for a time that is not known: go to another cell");
        return Vec::new();
    }
    let older = block.ages.start().checked_sub(1).and_then(|below| ages.get(below));
    let newer = ages.get(*block.ages.end());
    match model.looking.ages.by {
        AgeBy::Written => {
            terms.extend(older.map(|bound| format!("older:{}", seconds(bound))));
            terms.extend(newer.map(|bound| format!("newer:{}", seconds(bound))));
        }
        AgeBy::Read => {
            terms.extend(older.map(|bound| format!("unread:{}", seconds(bound))));
            terms.extend(newer.map(|bound| format!("not unread:{}", seconds(bound))));
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

/// Between the matrix and its files.
pub(super) fn step(model: &mut Model) -> Vec<Job> {
    model.focus = match model.focus {
        Focus::List => Focus::Panel,
        _ => Focus::List,
    };
    files::window_of_ages(model);
    directories::look(model)
}
