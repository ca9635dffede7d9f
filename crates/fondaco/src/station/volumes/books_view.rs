//! The books of the selected volume: what is in use, explained line by line.

use fondaco_core::books::{Books, Figure, Line, LineKind, Sure};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, grouped};
use fondaco_core::volume::Volume;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::shown_books;
use crate::frame::commands::named;
use crate::frame::model::{Focus, Model};
use crate::frame::view::{Pen, Target, cut_path};

/// Lines that the books need at most, their heading and sum included.
pub(super) const HEIGHT: u16 = 14;

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let Some(volume) = model.selected_volume() else { return };
    let theme = pen.theme;
    let inner = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    let name = cut_path(&shown(&volume.mount_point), usize::from(inner.width / 2));
    pen.text(inner.x, inner.y, &format!("books of {name}"), theme.brass, inner.width);
    let below = Rect { y: inner.y + 1, height: inner.height.saturating_sub(1), ..inner };
    if let Some(books) = shown_books(model) {
        let stand = match (model.rooms.volumes.books.running, books.scanned) {
            (true, _) => "being drawn up again …".to_owned(),
            (false, Some(scanned)) => format!("scanned {} ago", scanned.age(model.now)),
            (false, None) => "not scanned".to_owned(),
        };
        pen.text_right(inner.right(), inner.y, &stand, theme.dim);
        let end = numbers(inner);
        if usize::from(inner.right().saturating_sub(end)) > stand.len() + 1 {
            pen.text_right(end, inner.y, "bytes", theme.dim);
        }
        return table(model, pen, below, books);
    }
    if model.rooms.volumes.books.running
        && model.rooms.volumes.books.of.as_deref() == Some(&volume.mount_point)
    {
        pen.text_right(inner.right(), inner.y, "being drawn up …", theme.brass);
    }
    let is_ours = model.rooms.volumes.books.of.as_deref() == Some(&volume.mount_point);
    match &model.rooms.volumes.books.outcome {
        Some(Err(reason)) if is_ours => {
            pen.wrapped(below, &format!("cannot be drawn up: {reason}"), theme.trouble);
        }
        _ => invitation(model, pen, below, volume),
    }
}

/// What is known without any work, and how to get the rest.
fn invitation(model: &Model, pen: &mut Pen<'_>, area: Rect, volume: &Volume) {
    let theme = pen.theme;
    let on_volume = |file: &&fondaco_core::kernel::DeletedFile| {
        model.volume_of_held(file).is_some_and(|v| v.mount_point == volume.mount_point)
    };
    let held: Vec<_> = model.held.files.iter().filter(on_volume).collect();
    let bytes: Bytes = held.iter().filter_map(|file| file.allocated).sum();
    let mut y = area.y;
    if bytes > Bytes::ZERO {
        let text = format!(
            "{} are held by deleted files: no scan will find them, 6 Leftovers lists them.",
            model.bytes(bytes)
        );
        y += pen.wrapped(Rect { y, ..area }, &text, theme.trouble);
    }
    let text = "b explains line by line what this volume says is in use; it is scanned for that.";
    let left = Rect { y, height: area.bottom().saturating_sub(y), ..area };
    pen.wrapped(left, text, theme.dim);
    if let Some(command) = named(model, "books") {
        pen.hit(left, Target::Command(command));
    }
}

/// Where numbers end.
fn numbers(area: Rect) -> u16 {
    area.x + area.width.saturating_sub(13).min(62)
}

fn table(model: &Model, pen: &mut Pen<'_>, area: Rect, books: &Books) {
    let theme = pen.theme;
    let focused = model.focus == Focus::Below;
    let numbers = numbers(area);
    let room = area.height.saturating_sub(2);
    let offset = if focused {
        (model.rooms.volumes.books.cursor as u16 + 1).saturating_sub(room)
    } else {
        0
    };
    let mut y = area.y;
    for (i, line) in books.lines.iter().enumerate().skip(usize::from(offset)) {
        if y - area.y >= room {
            break;
        }
        let selected = focused && i == model.rooms.volumes.books.cursor;
        let whole = Rect::new(area.x - 1, y, area.width + 2, 1);
        if selected {
            pen.fill(whole, " ", theme.selected);
            pen.text(whole.x, y, "▸", theme.selected, 1);
        }
        one(pen, Rect { y, height: 1, ..area }, line, numbers, selected);
        if focused {
            pen.hit(whole, Target::Row(i));
        } else if let Some(command) = named(model, "to the books") {
            pen.hit(whole, Target::Command(command));
        }
        y += 1;
    }
    pen.text(area.x + 2, y, &"─".repeat(usize::from(numbers - area.x - 2)), theme.rule, area.width);
    pen.text(area.x + 2, y + 1, "used, as the volume says", theme.plain, area.width);
    pen.text_right(numbers, y + 1, &grouped(books.used.get()), theme.plain);
    y += 2;
    for note in &books.notes {
        if y < area.bottom() {
            let left = Rect::new(area.x + 2, y, area.width - 2, area.bottom() - y);
            y += pen.wrapped(left, note, theme.dim);
        }
    }
}

fn one(pen: &mut Pen<'_>, area: Rect, line: &Line, numbers: u16, selected: bool) {
    let theme = pen.theme;
    let pick = |style: Style| if selected { theme.selected } else { style };
    let gap = line.kind == LineKind::Unexplained && line.figure.bytes != 0;
    let style = match (line.kind, gap) {
        (LineKind::Held, _) if line.figure.bytes > 0 => theme.trouble,
        (LineKind::Unexplained, true) => theme.trouble,
        _ => theme.plain,
    };
    pen.text(area.x + 2, area.y, line.kind.words(), pick(style), 22);
    let count = line.counted();
    let room = numbers.saturating_sub(area.x + 24 + 18);
    pen.text(area.x + 24, area.y, &count, pick(theme.dim), room.max(10));
    let (number, worth) = figure(line.figure);
    pen.text_right(numbers, area.y, &number, pick(style));
    let mut x = numbers + 2;
    let left = |x: u16| area.right().saturating_sub(x);
    x = pen.text(x, area.y, worth, pick(theme.dim), left(x));
    if !line.items.is_empty() || line.kind == LineKind::Visible {
        pen.text(x.max(numbers + 2), area.y, " ▸", pick(theme.brass), left(x));
    }
}

/// The number, to the byte, and what it is worth.
fn figure(figure: Figure) -> (String, &'static str) {
    let sign = if figure.bytes < 0 { "-" } else { "" };
    let number = format!("{sign}{}", grouped(figure.bytes.unsigned_abs()));
    match figure.sure {
        Sure::Exact => (number, ""),
        Sure::AtMost => (number, "at most"),
        Sure::AtLeast => (number, "at least"),
        Sure::Unknown => ("not known".to_owned(), ""),
    }
}
