//! Leftovers: what was left behind. So far one group: space held by deleted files.

use fondaco_core::kernel::{DeletedFile, Hold};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted};
use ratatui::layout::Rect;

use super::pen::{Pen, Target, cut, cut_path};
use crate::app::deed_letter;
use crate::app::model::Model;

/// Lines above the list.
const HEAD: u16 = 5;

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let inner = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    let files = &model.held.files;
    let bytes: Bytes = files.iter().filter_map(|file| file.allocated).sum();
    let title = format!(
        "space held by deleted files: {} in {}",
        model.bytes(bytes),
        counted(files.len() as u64, "file")
    );
    pen.text(inner.x, inner.y, &title, theme.amber, inner.width);
    let text = "Their names are gone, and a process still has them open: the space comes back when it \
                ends or closes them. Against it: the process may need what it wrote.";
    pen.wrapped(Rect { y: inner.y + 1, height: 2, ..inner }, text, theme.dim);
    if files.is_empty() {
        let nothing = if model.held.hidden > 0 { "None that this user may see." } else { "None." };
        pen.text(inner.x, inner.y + 4, nothing, theme.plain, inner.width);
    } else {
        list(model, pen, area);
    }
    footnote(model, pen, inner);
}

fn footnote(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let mut text =
        "Empty, broken, temporary and regenerable things are not in this version yet.".to_owned();
    if model.held.hidden > 0 {
        let processes = counted(model.held.hidden as u64, "process");
        text = format!("{processes} of other users may hold more: root can tell. {text}");
    }
    let y = area.bottom().saturating_sub(1);
    pen.text(area.x, y, &text, pen.theme.dim, area.width);
}

fn list(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let y = area.y + HEAD - 1;
    let path = area.width.saturating_sub(4 + 12 + 10 + 26);
    pen.text_right(area.x + 15, y, "held", theme.dim);
    pen.text_right(area.x + 24, y, "deleted", theme.dim);
    pen.text(area.x + 26, y, "path as it was", theme.dim, path);
    pen.text(area.x + 28 + path, y, "held by", theme.dim, 24);
    let visible = usize::from(area.height.saturating_sub(HEAD + 1));
    let offset = (model.held_cursor + 1).saturating_sub(visible);
    for (i, file) in model.held.files.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, y + 1 + (i - offset) as u16, area.width, 1);
        row(model, pen, line, file, i == model.held_cursor, path);
        pen.hit(line, Target::Row(i));
    }
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    file: &DeletedFile,
    selected: bool,
    path: u16,
) {
    let theme = pen.theme;
    let style = if selected { theme.selected } else { theme.plain };
    if selected {
        pen.fill(line, " ", theme.selected);
        pen.text(line.x, line.y, "▸", style, 1);
    }
    if let Some(planned) = model.planned_release(file) {
        let letter = deed_letter(&planned.deed).to_string();
        pen.text(line.x + 1, line.y, &letter, theme.in_row(theme.amber, selected), 1);
    }
    let held = file.allocated.map_or_else(|| "not known".to_owned(), |bytes| model.bytes(bytes));
    pen.text_right(line.x + 15, line.y, &held, style);
    if file.allocated.is_some() {
        pen.text_right(line.x + 24, line.y, &file.changed.age(model.now).to_string(), style);
    }
    let was = cut_path(&shown(&file.path), usize::from(path));
    pen.text(line.x + 26, line.y, &was, style, path);
    let x = line.x + 28 + path;
    let left = line.right().saturating_sub(x);
    pen.text(x, line.y, &cut(&holders(&file.holds), usize::from(left)), style, left);
}

/// Who holds a file, the first by name.
pub(super) fn holders(holds: &[Hold]) -> String {
    let Some(first) = holds.first() else { return String::new() };
    let more = match holds.len() {
        1 => String::new(),
        n => format!(" and {} more", n - 1),
    };
    format!("{} (pid {}){more}", first.process.command, first.process.pid)
}
