//! Ages: size classes by age classes, and the files of the selected ones by byte-years.

mod evidence;
mod matrix;
#[cfg(test)]
pub mod tests;
mod view;

use std::sync::Arc;

use fondaco_core::analysis::{AgeBy, Block, Matrix};
use fondaco_core::catalog::EntryId;
use fondaco_core::rule::NewRule;
use ratatui::layout::Rect;

use super::ListedFiles;
use crate::frame::commands::{Command, Key, command, show_place};
use crate::frame::export::Exported;
use crate::frame::message::Job;
use crate::frame::model::{Files, Focus, Model};
use crate::frame::update::evidence::look;
use crate::frame::update::{export, lens};
use crate::frame::view::{Pen, Sheet, of_entry};

/// Where the cursor in the matrix stands; each may be one past the last class, on the sums.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct CellPlace {
    /// From the largest size down.
    row: usize,
    /// From the newest age on.
    column: usize,
}

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct State {
    /// Which time counts.
    by: AgeBy,
    /// The matrix, if it has been made.
    matrix: Option<Arc<Matrix>>,
    /// Where the cursor stands.
    cursor: CellPlace,
    /// Where a block begins, if one is being marked.
    anchor: Option<CellPlace>,
    /// The files of the selection, by byte-years.
    files: Files,
    /// It is being looked for.
    waiting: bool,
}

impl State {
    /// Size classes in the selection, from the largest down, and age classes from the newest on, both ends
    /// included.
    fn selection(&self) -> Option<(CellPlace, CellPlace)> {
        let matrix = self.matrix.as_ref()?;
        let (rows, columns) = (matrix.cells.len(), self.columns());
        let span = |a: usize, b: usize, sums: usize| match a == sums || b == sums {
            true => (0, sums - 1),
            false => (a.min(b), a.max(b)),
        };
        let other = self.anchor.unwrap_or(self.cursor);
        let (top, bottom) = span(self.cursor.row, other.row, rows);
        let (left, right) = span(self.cursor.column, other.column, columns);
        Some((CellPlace { row: top, column: left }, CellPlace { row: bottom, column: right }))
    }

    /// Columns of the matrix without the sums; one more if some times are not known.
    fn columns(&self) -> usize {
        self.matrix.as_ref().map_or(0, |matrix| {
            matrix.classes.ages.len() + 1 + usize::from(matrix.of_no_age().entries > 0)
        })
    }

    /// The selection as classes of the matrix.
    fn block(&self) -> Option<Block> {
        let matrix = self.matrix.as_ref()?;
        let (from, to) = self.selection()?;
        let last = matrix.cells.len() - 1;
        Some(Block {
            classes: matrix.classes.clone(),
            sizes: last - to.row..=last - from.row,
            ages: from.column..=to.column,
        })
    }
}

/// See the [module](self).
pub struct Room;

fn in_list(model: &Model) -> bool {
    model.focus == Focus::Below
}

fn has_matrix(model: &Model) -> bool {
    model.rooms.ages.matrix.is_some()
}

fn in_matrix(model: &Model) -> bool {
    has_matrix(model) && !in_list(model)
}

fn on_file(model: &Model) -> bool {
    in_list(model) && model.subject().is_some()
}

#[rustfmt::skip] // a table is read down its columns
static COMMANDS: &[Command] = &[
    command("narrow to it", &[Key::Enter], 2, in_matrix, matrix::narrow,
        "put the selected classes into the lens"),
    show_place(on_file),
    command("time", &[Key::Char('t')], 5, has_matrix, matrix::next_time,
        "count age from the last writing, reading, change, or from birth"),
    command("block", &[Key::Char('x')], 6, in_matrix, matrix::mark_block,
        "begin a block of classes here, or end it"),
    command("left", &[Key::Left], 0, in_matrix, |m| matrix::sideways(m, -1),
        "select the cell to the left"),
    command("right", &[Key::Right], 0, in_matrix, |m| matrix::sideways(m, 1),
        "select the cell to the right"),
    command("to the files", &[Key::Tab], 4, has_matrix, matrix::step,
        "go between the classes and their files"),
];

impl super::Room for Room {
    fn commands(&self) -> &'static [Command] {
        COMMANDS
    }

    fn new_rule(&self, model: &Model) -> Option<NewRule> {
        let (terms, age) = matrix::rule_terms(model)?;
        Some(super::new_rule(model, &model.lens.narrowed(&terms), age))
    }

    fn length(&self, model: &Model) -> usize {
        let state = &model.rooms.ages;
        match &state.matrix {
            _ if in_list(model) => state.files.list.first.len(),
            Some(matrix) => matrix.cells.len() + 1,
            None => 0,
        }
    }

    fn cursor(&self, model: &Model) -> usize {
        let state = &model.rooms.ages;
        if in_list(model) { state.files.cursor } else { state.cursor.row }
    }

    fn select(&self, model: &mut Model, row: usize) -> Vec<Job> {
        if in_list(model) {
            return matrix::select_file(model, row);
        }
        let column = model.rooms.ages.cursor.column;
        matrix::go_to(model, row, column)
    }

    fn arrive(&self, model: &mut Model) -> Vec<Job> {
        lens::refresh(model)
    }

    fn back(&self, model: &mut Model) -> Option<Vec<Job>> {
        if in_list(model) {
            model.focus = Focus::Panel;
            return Some(look(model));
        }
        model.rooms.ages.anchor.is_some().then(|| matrix::mark_block(model))
    }

    /// Rows are those of the files: cells are clicked on their own.
    fn before_click(&self, model: &mut Model) {
        model.focus = Focus::Below;
    }

    fn on_cell(&self, model: &mut Model, row: usize, column: usize) -> Vec<Job> {
        model.focus = Focus::Panel;
        matrix::go_to(model, row, column)
    }

    fn subject(&self, model: &Model) -> Option<EntryId> {
        in_list(model).then(|| model.rooms.ages.files.selected()).flatten()
    }

    fn shows_scan(&self) -> bool {
        true
    }

    fn awaits_scan(&self, model: &Model) -> bool {
        model.rooms.ages.waiting
    }

    fn refresh(&self, model: &mut Model) -> Vec<Job> {
        matrix::ask_matrix(model).into_iter().collect()
    }

    fn redraw(&self, model: &mut Model) {
        matrix::window(model);
    }

    fn forget_scan(&self, model: &mut Model) {
        let state = &mut model.rooms.ages;
        (state.matrix, state.anchor, state.files) = (None, None, Files::default());
    }

    fn listed_files(&self, model: &Model) -> Option<ListedFiles> {
        let state = &model.rooms.ages;
        has_matrix(model).then(|| ListedFiles {
            whole: state.files.list.whole,
            by: state.by,
            block: state.block(),
            awaited: state.waiting,
        })
    }

    fn exported(&self, model: &Model) -> Option<Exported> {
        export::of_scan(model, matrix::query(model))
    }

    fn draw(&self, model: &Model, pen: &mut Pen<'_>, area: Rect) {
        view::draw(model, pen, area);
    }

    fn evidence(&self, model: &Model, pen: &Pen<'_>) -> Sheet {
        match in_list(model) {
            true => of_entry(model, pen, None),
            false => evidence::of_classes(model, pen),
        }
    }
}
