//! The route: the stations in the order of the work, with what each could relieve or its state.

use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::pen::{Pen, Target};
use crate::fit::cut;
use crate::frame::model::Model;
use crate::station::Station;

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect, column: bool) {
    if column { draw_column(model, pen, area) } else { draw_line(model, pen, area) }
}

fn draw_column(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    pen.text(area.x + 1, area.y, "ROUTE", theme.dim, area.width);
    for (i, station) in Station::ALL.iter().copied().enumerate() {
        let line = Rect::new(area.x, area.y + 2 + i as u16, area.width, 1);
        if line.y >= area.bottom() {
            break;
        }
        let here = station == model.station;
        let style = if here { theme.selected } else { theme.plain };
        if here {
            pen.fill(line, " ", theme.selected);
        }
        let mark = if here { "▸" } else { " " };
        let name = format!("{mark}{} {}", station.digit(), station.name());
        let end = pen.text(line.x, line.y, &name, style, line.width);
        let (state, strong) = station.room().beside_name(model);
        // the name stays whole
        let right = line.right().saturating_sub(1);
        let state = cut(&state, usize::from(right.saturating_sub(end + 1)));
        let quiet = if strong { theme.amber } else { theme.dim };
        pen.text_right(right, line.y, &state, if here { style } else { quiet });
        pen.hit(line, Target::Station(station));
    }
}

fn draw_line(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let (labels, gap) = labels(model, usize::from(area.width.saturating_sub(1)));
    let mut x = area.x + 1;
    for (station, text) in Station::ALL.iter().copied().zip(labels) {
        let here = station == model.station;
        let style = if here { theme.selected } else { theme.plain };
        let width = text.width() as u16;
        pen.text(x, area.y, &text, style, area.right().saturating_sub(x));
        pen.hit(Rect::new(x, area.y, width, 1), Target::Station(station));
        x += width + gap;
    }
}

/// The stations in a line, with the gap between them: as whole as there is room for. That of the station at hand is
/// never shortened.
fn labels(model: &Model, room: usize) -> (Vec<String>, u16) {
    let label = |station: Station, letters: usize, with_state: bool| {
        let (digit, name) = (station.digit(), station.name());
        let (state, _) = station.room().beside_name(model);
        match station == model.station {
            true => format!("▸{digit} {name} "),
            false if with_state && !state.is_empty() => format!("{digit} {name} {state}"),
            false => format!("{digit} {}", name.chars().take(letters).collect::<String>()),
        }
    };
    let whole = usize::MAX;
    let ways = [(whole, true, 2), (whole, false, 2), (whole, false, 1)];
    let shorter = (2..9).rev().map(|letters| (letters, false, 1));
    let mut last = (Vec::new(), 1);
    for (letters, with_state, gap) in ways.into_iter().chain(shorter) {
        let labels: Vec<String> =
            Station::ALL.iter().map(|station| label(*station, letters, with_state)).collect();
        let width: usize = labels.iter().map(|label| label.width() + gap).sum();
        last = (labels, gap as u16);
        if width <= room + gap {
            break;
        }
    }
    last
}
