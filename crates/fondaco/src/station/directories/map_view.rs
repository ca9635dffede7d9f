//! The map: areas within areas. An opened directory keeps a line for its name and a rule at its left; what lies
//! in it is set off by gaps of the ground, and filled the denser the older it is.

use fondaco_core::analysis::{Area, AreaOf};
use fondaco_core::shown::shown;
use ratatui::layout::Rect;
use ratatui::style::Style;
use unicode_width::UnicodeWidthStr;

use super::Shows;
use crate::frame::model::{Model, Selected};
use crate::frame::view::{Pen, Target, cut, cut_path};

/// Fillings by age: how many classes of the age profile each stands for, its sign and its words.
const FILLINGS: [(usize, &str, &str); 4] = [
    (3, "·", "under 30 d"),
    (5, "░", "under 1 y"),
    (7, "▓", "under 4 y"),
    (usize::MAX, "█", "older"),
];

fn filling(age: usize) -> &'static str {
    FILLINGS.iter().find(|(below, ..)| age < *below).map_or("█", |(_, sign, _)| sign)
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let map = &model.rooms.directories.map;
    if model.rooms.directories.shows == Shows::Together {
        pen.fill(Rect { height: 1, ..area }, "─", theme.rule);
    } else {
        let place = cut_path(&shown(&model.place.path), usize::from(area.width / 2));
        let x = pen.text(area.x + 1, area.y, &place, theme.plain, area.width);
        let whole = model.bytes(model.place.whole);
        pen.text(x + 2, area.y, &whole, theme.dim, area.width);
    }
    legend(pen, Rect { y: area.bottom() - 1, height: 1, ..area });
    if map.areas.is_empty() {
        let text = match (model.scan.running, model.lens.text.is_empty()) {
            (true, _) => "reading …",
            (false, true) => "Nothing in this directory takes any bytes.",
            (false, false) => "Nothing in this directory passes the lens: a shows all again.",
        };
        pen.text(area.x + 2, area.y + 2, text, theme.dim, area.width);
        return;
    }
    let selected = match model.place.selected {
        Some(Selected::Entry(id)) => Some(id),
        _ => None,
    };
    for (area, name) in map.areas.iter().zip(&map.names) {
        let here = match (model.place.selected, area.child) {
            (Some(Selected::Tail), None) => true,
            (_, child) => child.is_some() && child == selected,
        };
        draw_area(model, pen, area, name, here);
    }
}

/// The cells that a place covers: edges are rounded, so that neighbours never overlap.
fn cells(area: &Area) -> Rect {
    let place = area.place;
    let (x0, x1) = (place.x.round() as u16, (place.x + place.width).round() as u16);
    let (y0, y1) = (place.y.round() as u16, (place.y + place.height).round() as u16);
    Rect::new(x0, y0, x1.saturating_sub(x0), y1.saturating_sub(y0))
}

fn draw_area(model: &Model, pen: &mut Pen<'_>, area: &Area, name: &str, here: bool) {
    let theme = pen.theme;
    let cells = cells(area);
    if cells.width == 0 || cells.height == 0 {
        return;
    }
    let opened = matches!(area.of, AreaOf::Entry { opened: true, .. });
    // a gap at the right, where there is room for one
    let width = if cells.width > 2 { cells.width - 1 } else { cells.width };
    let inner = Rect { width, ..cells };
    if let Some(child) = area.child {
        pen.hit(cells, Target::Entry(child));
    }
    let name_style = match (here, area.level) {
        (true, 0) => theme.selected,
        (true, _) => theme.brass,
        (false, 0) => theme.plain,
        (false, _) => theme.dim,
    };
    if opened {
        let rule = if here { theme.brass } else { theme.rule };
        pen.fill(Rect { y: cells.y + 1, width: 1, height: cells.height - 1, ..cells }, "│", rule);
        if here && area.level == 0 {
            pen.fill(Rect { height: 1, ..inner }, " ", theme.selected);
        }
        label(model, pen, Rect { height: 1, ..inner }, area, name, name_style);
        return;
    }
    let style = shade(pen, area, here);
    let sign = if matches!(area.of, AreaOf::Rest { .. }) { "╌" } else { filling(area.age) };
    // a row of the ground between neighbours, where there is room
    let height = if cells.height > 2 { cells.height - 1 } else { cells.height };
    pen.fill(Rect { height, ..inner }, sign, style);
    // a few letters of a name tell nothing
    let tells = usize::from(inner.width) >= name.width().min(11);
    if tells && inner.width >= 4 && height >= 2 {
        pen.fill(Rect { height: 1, ..inner }, " ", theme.plain);
        if here && area.level == 0 {
            pen.fill(Rect { height: 1, ..inner }, " ", theme.selected);
        }
        label(model, pen, Rect { height: 1, ..inner }, area, name, name_style);
    } else if tells && inner.width >= 12 {
        // one line: the name, then the filling
        let text = cut(name, usize::from(inner.width - 4));
        let end = pen.text(inner.x, inner.y, &text, name_style, inner.width - 4);
        pen.text(end, inner.y, " ", theme.plain, 1);
    }
}

fn shade(pen: &Pen<'_>, area: &Area, here: bool) -> Style {
    let theme = pen.theme;
    match (here, &area.of) {
        (true, _) => theme.brass,
        (false, AreaOf::Rest { .. }) => theme.rule,
        (false, _) => theme.teal,
    }
}

/// The name, and if there is room the bytes.
fn label(model: &Model, pen: &mut Pen<'_>, line: Rect, area: &Area, name: &str, style: Style) {
    let bytes = model.bytes(area.bytes);
    let both = name.width() + 2 + bytes.width() <= usize::from(line.width);
    let end = pen.text(line.x, line.y, name, style, line.width);
    if both {
        let quiet = if style == pen.theme.selected { style } else { pen.theme.dim };
        pen.text(end + 2, line.y, &bytes, quiet, line.width);
    }
}

fn legend(pen: &mut Pen<'_>, line: Rect) {
    let theme = pen.theme;
    let mut x = pen.text(line.x + 1, line.y, "half of it written ", theme.dim, line.width);
    for (_, sign, words) in FILLINGS {
        x = pen.text(x + 1, line.y, &sign.repeat(3), theme.teal, 3);
        x = pen.text(x + 1, line.y, words, theme.dim, line.right().saturating_sub(x)) + 1;
    }
    pen.text(x + 1, line.y, "╌╌╌", theme.rule, 3);
    pen.text(x + 5, line.y, "small ones", theme.dim, line.right().saturating_sub(x + 5));
}
