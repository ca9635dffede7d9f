//! Lists of files, however deep they lie.

use fondaco_core::analysis::{AgeBy, FileOrder};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted};
use ratatui::layout::Rect;

use super::pen::{Pen, Target, cut_path};
use crate::app::looking::Files;
use crate::app::model::Model;

/// Where numbers end and the path begins.
pub(super) struct Columns {
    weight: u16,
    allocated: u16,
    age: u16,
    pub(super) path: u16,
}

impl Columns {
    pub(super) fn of(area: Rect) -> Self {
        let x = area.x;
        Self { weight: x + 14, allocated: x + 25, age: x + 33, path: x + 36 }
    }
}

pub(super) fn heading(pen: &mut Pen<'_>, _x: u16, y: u16, columns: &Columns, by: AgeBy) {
    let dim = pen.theme.dim;
    pen.text_right(columns.weight, y, "byte-years", dim);
    pen.text_right(columns.allocated, y, "allocated", dim);
    let time = by.words().trim_start_matches("last ");
    pen.text_right(columns.age, y, time, dim);
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let station = &model.looking.files;
    let whole = station.files.list.whole;
    let columns = Columns::of(area);
    heading(pen, area.x, area.y, &columns, AgeBy::Written);
    let order = match station.order {
        FileOrder::Allocated => "largest first",
        FileOrder::Age => "oldest first",
        FileOrder::ByteYears => "by byte-years",
    };
    let listed = station.files.list.first.len() as u64;
    let more = match whole.entries.saturating_sub(listed) {
        0 => String::new(),
        _ => format!(", the first {listed} listed"),
    };
    let title = format!(
        "{} below {}, {order}{more}",
        counted(whole.entries, "file"),
        shown(&model.directories.path)
    );
    let left = area.right().saturating_sub(columns.path);
    pen.text(columns.path, area.y, &title, theme.brass, left);
    if whole.entries == 0 {
        let text = match (station.waiting, model.looking.lens.text.is_empty()) {
            (true, _) => "looking …",
            (false, true) => "There is no file below this directory.",
            (false, false) => "No file passes the lens: a shows all again.",
        };
        pen.text(columns.path, area.y + 2, text, theme.dim, left);
        return;
    }
    let below = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
    rows(model, pen, below, &columns, &station.files, true);
}

/// The rows that are on the screen.
pub(super) fn rows(
    model: &Model,
    pen: &mut Pen<'_>,
    area: Rect,
    columns: &Columns,
    files: &Files,
    focused: bool,
) {
    let theme = pen.theme;
    for (i, row) in files.rows.iter().enumerate().take(usize::from(area.height)) {
        let line = Rect::new(area.x, area.y + i as u16, area.width, 1);
        let place = files.offset + i;
        let selected = focused && place == files.cursor;
        let (text, quiet) = match selected {
            true => (theme.selected, theme.selected),
            false => (theme.plain, theme.dim),
        };
        if selected {
            pen.fill(line, " ", theme.selected);
            pen.text(line.x, line.y, "▸", theme.selected, 1);
        }
        if let Some(letter) = row.planned {
            let style = theme.in_row(theme.amber, selected);
            pen.text(line.x + 1, line.y, &letter.to_string(), style, 1);
        }
        let weight = match row.time {
            Some(_) => format!("{} y", model.bytes(Bytes::new(row.weight as u64))),
            None => "not known".to_owned(),
        };
        pen.text_right(columns.weight, line.y, &weight, quiet);
        pen.text_right(columns.allocated, line.y, &model.bytes(row.allocated), text);
        let age = row.time.map_or_else(String::new, |time| time.age(model.now).to_string());
        pen.text_right(columns.age, line.y, &age, quiet);
        let left = line.right().saturating_sub(columns.path + 1);
        let path = cut_path(&row.path, usize::from(left));
        pen.text(columns.path, line.y, &path, text, left);
        pen.hit(line, Target::Row(place));
    }
}
