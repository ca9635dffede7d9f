//! The group of deleted files that processes hold.

use fondaco_core::kernel::{DeletedFile, Hold};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted};
use ratatui::layout::Rect;

use super::rows;
use crate::frame::deed_letter;
use crate::frame::model::Model;
use crate::frame::view::{Pen, Target, cut, cut_path, wrap};

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
    let text = "Deleted, but a process has them open: the space comes back when it ends or closes \
                them. It may still need what it wrote.";
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
    let mut text = String::new();
    if model.held.hidden > 0 {
        let processes = counted(model.held.hidden as u64, "process");
        text = format!("{processes} of other users may hold more: root can tell. ");
    }
    if model.scan.roots.is_empty() {
        text.push_str(match model.selected_volume() {
            Some(_) => "Enter scans the selected volume for other leftovers; M scans this machine's own places.",
            None => "p types a path to scan for other leftovers; M scans this machine's own places.",
        });
    }
    if text.is_empty() {
        return;
    }
    let lines = wrap(&text, usize::from(area.width)).len() as u16;
    let y = area.bottom().saturating_sub(lines.min(2));
    let style = pen.theme.dim;
    pen.wrapped(Rect { y, height: area.bottom() - y, ..area }, &text, style);
}

/// Where columns begin, numbers end; how wide the path is.
struct Columns {
    held: u16,
    /// 0 where there is no room for it.
    deleted: u16,
    path: u16,
    path_width: u16,
    by: u16,
}

impl Columns {
    fn of_width(width: u16) -> Self {
        let (held, deleted) = if width >= 76 { (15, 24) } else { (13, 0) };
        let path = held.max(deleted) + 2;
        let path_width = width.saturating_sub(path + if width >= 90 { 26 } else { 19 });
        Self { held, deleted, path, path_width, by: path + path_width + 2 }
    }
}

fn list(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let y = area.y + HEAD - 1;
    let columns = Columns::of_width(area.width);
    pen.text_right(area.x + columns.held, y, "held ↓", theme.brass);
    if columns.deleted > 0 {
        pen.text_right(area.x + columns.deleted, y, "deleted", theme.dim);
    }
    pen.text(area.x + columns.path, y, "path as it was", theme.dim, columns.path_width);
    pen.text(area.x + columns.by, y, "held by", theme.dim, 24);
    let visible = usize::from(area.height.saturating_sub(HEAD + 2));
    let offset = (model.rooms.leftovers.item + 1).saturating_sub(visible);
    for (i, file) in model.held.files.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, y + 1 + (i - offset) as u16, area.width, 1);
        let is_selected = i == model.rooms.leftovers.item && rows::is_inside(model);
        row(model, pen, line, file, is_selected, &columns);
        if rows::is_inside(model) {
            pen.hit(line, Target::Row(i));
        }
    }
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    file: &DeletedFile,
    selected: bool,
    columns: &Columns,
) {
    let theme = pen.theme;
    let (style, _) = pen.begin_row(line, selected);
    if let Some(planned) = model.planned_release(file) {
        let letter = deed_letter(&planned.deed).to_string();
        pen.text(line.x + 1, line.y, &letter, theme.in_row(theme.amber, selected), 1);
    }
    let held = file.allocated.map_or_else(|| "not known".to_owned(), |bytes| model.bytes(bytes));
    pen.text_right(line.x + columns.held, line.y, &held, style);
    if file.allocated.is_some() && columns.deleted > 0 {
        let age = file.changed.age(model.now).to_string();
        pen.text_right(line.x + columns.deleted, line.y, &age, style);
    }
    let was = cut_path(&shown(&file.path), usize::from(columns.path_width));
    pen.text(line.x + columns.path, line.y, &was, style, columns.path_width);
    let x = line.x + columns.by;
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
