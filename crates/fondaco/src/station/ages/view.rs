//! Ages: size classes by age classes, and the files of the selected ones by byte-years.

use fondaco_core::analysis::{AgeBy, Cell, FileOrder, Matrix};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted};
use ratatui::layout::Rect;

use super::matrix::{list_alone, rows};
use super::{CellPlace, State};
use crate::frame::model::{Focus, Model};
use crate::frame::view::{Pen, Target, cut_path, file_list, nothing_scanned, stair};
use crate::words;

/// Columns of the names of the size classes.
const NAMES: u16 = 11;

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let ages = &model.rooms.ages;
    if nothing_scanned(model, pen, area) {
        return;
    }
    title(model, pen, area);
    let Some(matrix) = &ages.matrix else {
        pen.text(area.x + 1, area.y + 2, "looking …", theme.dim, area.width);
        return;
    };
    let (lines, _) = rows(model);
    if model.focus == Focus::Below && list_alone(model) {
        let below = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
        return list(model, pen, below);
    }
    let (columns, rows) = (ages.columns(), matrix.cells.len());
    let width = area.width.saturating_sub(NAMES + 1) / (columns as u16 + 1);
    let right = |column: usize| area.x + NAMES + width * (column as u16 + 1);
    for column in 0..=columns {
        let name = match column == columns {
            true => "all".to_owned(),
            // a column this narrow has no room for the sign before every age
            false if width < 8 => matrix.classes.age_words(column).replace("< ", "<"),
            false => matrix.classes.age_words(column),
        };
        let style = if ages.cursor.column == column { theme.brass } else { theme.dim };
        pen.text_right(right(column), area.y + 1, &name, style);
    }
    let most = matrix.cells.iter().flatten().map(|cell| cell.allocated).max().unwrap_or_default();
    for row in 0..=rows {
        let y = area.y + 2 + row as u16 * lines;
        if y >= area.bottom() {
            return;
        }
        let name = match row == rows {
            true => "all".to_owned(),
            false => matrix.classes.size_words(rows - 1 - row, model.units),
        };
        let style = if ages.cursor.row == row { theme.brass } else { theme.dim };
        pen.text_right(area.x + NAMES, y, &name, style);
        for column in 0..=columns {
            let place = Rect::new(right(column) - width, y, width, lines);
            let found = cell_at(matrix, row, column, columns);
            let sums = row == rows || column == columns;
            let bar = (!sums && lines > 1).then(|| found.allocated.share_of(most));
            cell(model, pen, place, (row, column), found, bar);
        }
    }
    let below = area.y + 2 + lines * (rows as u16 + 1);
    list(model, pen, Rect { y: below, height: area.bottom().saturating_sub(below), ..area });
}

fn title(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let by = model.rooms.ages.by;
    let place = shown(&model.place.path);
    let clause = format!("by when {}", by.clause());
    let note = note(model, by);
    let left = usize::from(area.width).saturating_sub(clause.len() + 4);
    let x = pen.text(area.x + 1, area.y, &cut_path(&place, left), theme.plain, area.width);
    let x = pen.text(x + 2, area.y, &clause, theme.dim, area.width.saturating_sub(x + 2 - area.x));
    if let Some(note) = note {
        let left = (area.right()).saturating_sub(x + 3);
        pen.text(x + 3, area.y, &note, theme.amber, left);
    }
}

/// What must be known about the time that counts.
fn note(model: &Model, by: AgeBy) -> Option<String> {
    match by {
        AgeBy::Read => {
            let volume = model.volume_of(&model.place.path)?;
            words::access_note(volume.access_times).map(str::to_owned)
        }
        AgeBy::Born if model.questions.closer.is_some() => Some("looking closer …".to_owned()),
        _ if model.rooms.ages.waiting => Some("looking …".to_owned()),
        _ => None,
    }
}

fn cell_at(matrix: &Matrix, row: usize, column: usize, columns: usize) -> Cell {
    let rows = matrix.cells.len();
    let ages = matrix.classes.ages.len() + 1;
    let size = rows.wrapping_sub(row + 1);
    match (row == rows, column == columns) {
        (true, true) => matrix.whole(),
        (true, false) if column < ages => matrix.of_age(column),
        (true, false) => matrix.of_no_age(),
        (false, true) => matrix.of_size(size),
        (false, false) if column < ages => matrix.cells[size][column],
        (false, false) => matrix.not_known[size],
    }
}

fn is_selected(ages: &State, row: usize, column: usize) -> bool {
    let rows = ages.matrix.as_ref().map_or(0, |matrix| matrix.cells.len());
    let on_sums = |place: CellPlace| place.row == row && place.column == column;
    if row == rows || column == ages.columns() {
        return on_sums(ages.cursor);
    }
    ages.selection().is_some_and(|(from, to)| {
        (from.row..=to.row).contains(&row) && (from.column..=to.column).contains(&column)
    })
}

fn cell(
    model: &Model,
    pen: &mut Pen<'_>,
    place: Rect,
    (row, column): (usize, usize),
    found: Cell,
    bar: Option<f64>,
) {
    let theme = pen.theme;
    let ages = &model.rooms.ages;
    let selected = is_selected(ages, row, column);
    let here = ages.cursor == CellPlace { row, column } && model.focus != Focus::Below;
    let whole = ages.matrix.as_ref().map_or(Bytes::ZERO, |matrix| matrix.whole().allocated);
    let heavy = found.allocated.share_of(whole) >= 0.05;
    let style = match (selected, heavy) {
        (true, _) => theme.selected,
        (false, true) => theme.plain,
        (false, false) => theme.dim,
    };
    if selected {
        pen.fill(Rect { width: place.width, ..place }, " ", theme.selected);
    }
    let text = match found.entries {
        0 => "·".to_owned(),
        _ if place.width >= 10 => model.bytes(found.allocated),
        _ => {
            let text = words::short_bytes(found.allocated, model.units);
            // a column is kept free between neighbours
            let whole = text.split_once('.').map(|(whole, rest)| (whole, rest.chars().last()));
            match whole {
                Some((whole, Some(unit))) if text.len() >= usize::from(place.width) => {
                    format!("{whole}{unit}")
                }
                _ => text,
            }
        }
    };
    pen.text_right(place.right(), place.y, &text, style);
    let width = text.chars().count() as u16 + 2;
    if here && width <= place.width {
        pen.text(place.right() - width, place.y, "▸", theme.selected, 1);
    }
    if let Some(share) = bar.filter(|share| *share > 0.0) {
        let width = place.width.saturating_sub(2);
        let (_, bar) = stair(0.0, share, width);
        let style = if selected { theme.in_row(theme.brass, true) } else { theme.teal };
        pen.text_right(place.right(), place.y + 1, &bar, style);
    }
    pen.hit(place, Target::Cell(row, column));
}

/// The files of the selected classes, the heaviest first.
fn list(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let alone = list_alone(model);
    if area.height < 2 || (alone && model.focus != Focus::Below) {
        return;
    }
    let ages = &model.rooms.ages;
    let whole = ages.files.list.whole;
    let title = match whole.entries {
        0 => "no file in it".to_owned(),
        n => {
            format!("{} in it, {}, by byte-years", counted(n, "file"), model.bytes(whole.allocated))
        }
    };
    let style = if model.focus == Focus::Below { theme.brass } else { theme.dim };
    // a line of the ground above it, but not where it stands alone
    let y = area.y + u16::from(!alone);
    let columns = file_list::Columns::of(area, FileOrder::ByteYears);
    file_list::heading(pen, y, &columns, ages.by, FileOrder::ByteYears);
    pen.text(columns.path, y, &title, style, area.right().saturating_sub(columns.path));
    let rows = Rect { y: y + 1, height: area.bottom().saturating_sub(y + 1), ..area };
    file_list::rows(model, pen, rows, &columns, &ages.files, model.focus == Focus::Below);
}
