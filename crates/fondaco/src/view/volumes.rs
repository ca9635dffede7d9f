//! Volumes: which file system is in trouble, and how far above its waterline.

use fondaco_core::shown::shown;
use fondaco_core::units::Bytes;
use fondaco_core::volume::{Class, Volume};
use ratatui::layout::Rect;

use super::gauge::bar;
use super::pen::{Pen, Target, cut_path};
use crate::app::model::Model;

/// Widths of the columns behind the mount point, which gets the rest.
struct Columns {
    bar: u16,
    users: bool,
    inodes: bool,
}

const NUMBER: u16 = 11;

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if model.volumes.is_empty() {
        let text = if model.volumes_loaded {
            "No volume is mounted that holds data. Type a path with p to scan a directory."
        } else {
            "Asking the volumes …"
        };
        pen.wrapped(Rect { x: area.x + 1, ..area }, text, theme.dim);
        return;
    }
    let columns = Columns {
        bar: if area.width >= 90 { 16 } else { 10 },
        users: area.width >= 84,
        inodes: area.width >= 76,
    };
    let fixed = columns.bar
        + 9
        + NUMBER * (2 + u16::from(columns.users))
        + 8 * u16::from(columns.inodes)
        + 12;
    let name = area.width.saturating_sub(fixed + 2);
    heading(pen, area, &columns, name);
    let visible = usize::from(area.height - 1);
    let offset = (model.volume_cursor + 1).saturating_sub(visible);
    for (i, volume) in model.volumes.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, area.y + 1 + (i - offset) as u16, area.width, 1);
        row(model, pen, line, volume, &columns, name, i == model.volume_cursor);
        pen.hit(line, Target::Row(i));
    }
}

fn heading(pen: &mut Pen<'_>, area: Rect, columns: &Columns, name: u16) {
    let style = pen.theme.dim;
    pen.text(area.x + 2, area.y, "mounted at", style, name);
    let mut x = area.x + 2 + name + 1;
    pen.text(x, area.y, "level", style, columns.bar);
    x += columns.bar + 9;
    let mut headings = vec![("used", NUMBER), ("free root", NUMBER)];
    if columns.users {
        headings.push(("users", NUMBER));
    }
    if columns.inodes {
        headings.push(("inodes", 8));
    }
    for (text, width) in headings {
        x += width;
        pen.text_right(x, area.y, text, style);
    }
    pen.text(x + 2, area.y, "type", style, 9);
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    volume: &Volume,
    columns: &Columns,
    name: u16,
    selected: bool,
) {
    let theme = pen.theme;
    let style = match (selected, volume.class) {
        (true, _) => theme.selected,
        (false, Class::Memory | Class::Overlay) => theme.dim,
        _ => theme.plain,
    };
    if selected {
        pen.fill(line, " ", theme.selected);
        pen.text(line.x, line.y, "▸", theme.selected, 1);
    }
    let path = cut_path(&shown(&volume.mount_point), usize::from(name));
    pen.text(line.x + 2, line.y, &path, style, name);
    let mut x = line.x + 2 + name + 1;
    let capacity = match &volume.capacity {
        Ok(capacity) => capacity,
        Err(reason) => {
            pen.text(x, line.y, reason, theme.trouble, line.right() - x);
            return;
        }
    };
    let relief = model.draft.relief(&volume.mount_point).now;
    bar(pen, Rect::new(x, line.y, columns.bar, 1), volume, capacity, relief);
    x += columns.bar + 8;
    let level = capacity.level();
    let over = level > volume.waterline;
    let level = if over { format!("! {level}") } else { level.to_string() };
    pen.text_right(
        x,
        line.y,
        &level,
        theme.in_row(if over { theme.trouble } else { style }, selected),
    );
    x += 1;
    let mut number = |bytes: Bytes| {
        x += NUMBER;
        pen.text_right(x, line.y, &model.bytes(bytes), style);
    };
    number(capacity.used);
    number(capacity.free_root);
    if columns.users {
        number(capacity.free_users);
    }
    if columns.inodes {
        x += 8;
        let inodes = capacity.inode_level().map_or("—".to_owned(), |level| level.to_string());
        pen.text_right(x, line.y, &inodes, style);
    }
    let kind =
        if volume.read_only { format!("{} ro", volume.fs_type) } else { volume.fs_type.clone() };
    pen.text(x + 2, line.y, &kind, style, line.right().saturating_sub(x + 2));
}
