//! The route: the stations in the order of the work, with what each could relieve or its state.

use fondaco_core::units::{Bytes, UnitStyle};
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::pen::{Pen, Target, cut};
use crate::app::model::{Model, RunStage, Station};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect, column: bool) {
    if column { draw_column(model, pen, area) } else { draw_line(model, pen, area) }
}

fn draw_column(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    pen.text(area.x + 1, area.y, "ROUTE", theme.dim, area.width);
    for (i, station) in Station::ALL.into_iter().enumerate() {
        let line = Rect::new(area.x, area.y + 2 + i as u16, area.width, 1);
        if line.y >= area.bottom() {
            break;
        }
        let here = station == model.station;
        let style = match (here, station.will_be()) {
            (true, _) => theme.selected,
            (false, Some(_)) => theme.dim,
            (false, None) => theme.plain,
        };
        if here {
            pen.fill(line, " ", theme.selected);
        }
        let mark = if here { "▸" } else { " " };
        let name = format!("{mark}{} {}", station.digit(), station.name());
        let end = pen.text(line.x, line.y, &name, style, line.width);
        let (state, strong) = state(model, station);
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
    let mut x = area.x + 1;
    let width = |states: bool| -> usize {
        Station::ALL.iter().map(|station| label(model, *station, states).width() + 2).sum()
    };
    let states = width(true) <= usize::from(area.width);
    for station in Station::ALL {
        let here = station == model.station;
        let ready = station.will_be().is_none();
        let text = label(model, station, states);
        let style = match (here, ready) {
            (true, _) => theme.selected,
            (false, true) => theme.plain,
            (false, false) => theme.dim,
        };
        let width = text.width() as u16;
        pen.text(x, area.y, &text, style, area.right().saturating_sub(x));
        pen.hit(Rect::new(x, area.y, width, 1), Target::Station(station));
        x += width + 2;
    }
}

/// A station in the line: its digit, its name if it can be gone to, and its state if there is room.
fn label(model: &Model, station: Station, states: bool) -> String {
    let (digit, name) = (station.digit(), station.name());
    let (state, _) = state(model, station);
    match (station == model.station, station.will_be().is_none(), state.is_empty() || !states) {
        (true, ..) => format!("▸{digit} {name} "),
        (false, true, true) => format!("{digit} {name}"),
        (false, true, false) => format!("{digit} {name} {state}"),
        (false, false, _) => digit.to_string(),
    }
}

/// What stands beside a station's name, and whether it should be seen.
fn state(model: &Model, station: Station) -> (String, bool) {
    match station {
        Station::Volumes => {
            let over = model.volumes.iter().filter(|v| v.level() > Some(v.waterline)).count();
            if over > 0 { (format!("{over} over"), true) } else { (String::new(), false) }
        }
        Station::Directories if model.scan.running => ("scanning".to_owned(), true),
        Station::Leftovers => {
            let held: Bytes = model.held.files.iter().filter_map(|file| file.allocated).sum();
            match held {
                Bytes::ZERO => (String::new(), false),
                // there is room for the letter of the unit only
                held => {
                    let style = match model.units {
                        UnitStyle::Bytes => UnitStyle::Binary,
                        style => style,
                    };
                    (held.shown(style).trim_end_matches(['B', 'i']).to_owned(), true)
                }
            }
        }
        Station::Plan => match &model.run.stage {
            RunStage::Running(figures, _) => (format!("{}/{}", figures.done, figures.total), true),
            RunStage::Rehearsing(_) => ("rehearsing".to_owned(), true),
            _ if model.draft.is_empty() => (String::new(), false),
            _ => (model.bytes(model.planned_now()), true),
        },
        Station::Journal => match model.journal.runs.len() {
            0 => (String::new(), false),
            1 => ("1 run".to_owned(), false),
            n => (format!("{n} runs"), false),
        },
        _ => (String::new(), false),
    }
}
