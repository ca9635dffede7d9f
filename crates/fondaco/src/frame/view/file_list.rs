//! Lists of files, however deep they lie.

use fondaco_core::analysis::{AgeBy, FileOrder};
use fondaco_core::units::Bytes;
use ratatui::layout::Rect;

use super::pen::{Pen, Target};
use crate::fit::cut_path;
use crate::frame::model::{Files, Model};

/// Where numbers end and the path begins.
pub struct Columns {
    /// Byte-years are left out where there is little room and they are not what the list is ordered by.
    weight: Option<u16>,
    allocated: u16,
    age: u16,
    /// Where paths begin.
    pub path: u16,
}

impl Columns {
    /// The settings for an area, for a list in an order.
    pub fn of(area: Rect, order: FileOrder) -> Self {
        let has_weight = area.width >= 90 || order == FileOrder::ByteYears;
        let x = area.x + if has_weight { 14 } else { 2 };
        let weight = has_weight.then_some(x);
        Self { weight, allocated: x + 12, age: x + 22, path: x + 25 }
    }
}

/// The names of the numbers; the one that the list is ordered by is marked.
pub fn heading(pen: &mut Pen<'_>, y: u16, columns: &Columns, by: AgeBy, order: FileOrder) {
    let (dim, chosen) = (pen.theme.dim, pen.theme.brass);
    let time = by.words().trim_start_matches("last ");
    let names = [
        (columns.weight, "byte-years", FileOrder::ByteYears),
        (Some(columns.allocated), "allocated", FileOrder::Allocated),
        (Some(columns.age), time, FileOrder::Age),
    ];
    for (end, name, means) in names {
        let Some(end) = end else { continue };
        match means == order {
            true => pen.text_right(end, y, &format!("{name} ↓"), chosen),
            false => pen.text_right(end, y, name, dim),
        }
    }
}

/// The rows that are on the screen.
pub fn rows(
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
        let (text, quiet) = pen.begin_row(line, selected);
        if let Some(letter) = row.planned {
            let style = theme.in_row(theme.amber, selected);
            pen.text(line.x + 1, line.y, &letter.to_string(), style, 1);
        }
        let weight = match row.time {
            Some(_) => format!("{} y", model.bytes(Bytes::new(row.weight as u64))),
            None => "not known".to_owned(),
        };
        if let Some(end) = columns.weight {
            pen.text_right(end, line.y, &weight, quiet);
        }
        pen.text_right(columns.allocated, line.y, &model.bytes(row.allocated), text);
        let age = row.time.map_or_else(String::new, |time| time.age(model.now).to_string());
        pen.text_right(columns.age, line.y, &age, quiet);
        let left = line.right().saturating_sub(columns.path + 1);
        let path = cut_path(&row.path, usize::from(left));
        pen.text(columns.path, line.y, &path, text, left);
        pen.hit(line, Target::Row(place));
    }
}
