//! Draws the tide: the level over time with waterline, clean-ups, the chosen moments and where it is going.

use fondaco_core::history::{SizeThen, TideColumn};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, Time};
use ratatui::layout::Rect;

use super::{tide, tree};
use crate::frame::geometry::panel;
use crate::frame::model::Model;
use crate::frame::view::{LevelScale, Pen, SCALE, cut_path, stair};
use crate::query::MarkSort;
use crate::words::signed_bytes;

const EIGHTHS: [&str; 8] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇"];
/// Lines of the tide that its bars do not have: the sentence above, two below, what is marked.
const BESIDE: u16 = 4;

/// How many lines of the panel the tide has.
pub(super) fn height(model: &Model) -> u16 {
    let whole = panel(model).height;
    (whole * 9 / 20).clamp(9.min(whole), 22)
}

/// Whether there is not room for the tide and what changed below each other.
pub(super) fn is_low(model: &Model) -> bool {
    !model.rooms.history.now.shown && panel(model).height < 18
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let sizes = &model.rooms.history.tide.sizes;
    if tide::known(model).is_none() && !sizes.is_empty() {
        return size_bars(model, pen, area, sizes);
    }
    let Some(history) = tide::known(model) else {
        let reason = match &model.rooms.history.tide.known {
            Some(Err(reason)) => format!("The history is not known: {reason}"),
            _ if model.gauge_volume().is_none() => "No volume is at hand.".to_owned(),
            _ => "looking back …".to_owned(),
        };
        pen.wrapped(Rect { x: area.x + 1, ..area }, &reason, theme.dim);
        return;
    };
    let mut x = area.x + 1;
    if history.place != history.volume.mount_point {
        let path = cut_path(&shown(&history.place), usize::from(area.width / 4));
        x = pen.text(x, area.y, &path, theme.plain, area.width) + 2;
    }
    pen.text(x, area.y, &history.brief_verdict(), theme.plain, area.right().saturating_sub(x));
    let Some((from, to)) = tide::window(model) else {
        let text = "No level has been sampled yet: each start and each unattended run samples one.";
        pen.text(area.x + 1, area.y + 2, text, theme.dim, area.width.saturating_sub(1));
        return;
    };
    let bars = Rect {
        x: area.x + 1,
        y: area.y + 1,
        width: area.width.saturating_sub(2),
        height: area.height.saturating_sub(BESIDE),
    };
    if bars.height >= 3 && bars.width > SCALE + 20 {
        level_bars(model, pen, bars, (from, to));
    }
    marked_words(model, pen, Rect { y: area.bottom() - 1, height: 1, ..area });
}

/// Of a store: a bar for each time that it was listed, with its size beside.
fn size_bars(model: &Model, pen: &mut Pen<'_>, area: Rect, sizes: &[SizeThen]) {
    let theme = pen.theme;
    let text = "A store has no level: what it held each time that it was listed, newest first";
    pen.text(area.x + 1, area.y, text, theme.dim, area.width.saturating_sub(1));
    let most = sizes.iter().map(|size| size.allocated).max().unwrap_or_default();
    let (date, bytes, begin) = (area.x + 1, area.x + 30, area.x + 32);
    let width = area.right().saturating_sub(begin + 1);
    let room = usize::from(area.height.saturating_sub(1));
    for (line, size) in sizes.iter().rev().take(room).enumerate() {
        let y = area.y + 1 + line as u16;
        pen.text(date, y, &size.at.local(), theme.plain, 16);
        pen.text_right(bytes, y, &model.bytes(size.allocated), theme.plain);
        let (_, bar) = stair(0.0, size.allocated.share_of(most), width);
        pen.text(begin, y, &bar, theme.teal, width);
    }
}

/// How the columns are shared out: what was, and what is to be expected.
struct Shares {
    past: u16,
    ahead: u16,
    /// Days that the columns ahead stand for.
    days: f64,
}

fn shares(model: &Model, room: u16, (from, to): (Time, Time)) -> Shares {
    let none = Shares { past: room, ahead: 0, days: 0.0 };
    let Some(history) = tide::known(model) else { return none };
    let ends_now = history.tide.span().is_some_and(|(_, last)| last == to);
    if !ends_now || history.tide.forecast(1.0).is_none() {
        return none;
    }
    let ahead = room / 6;
    let past = room - ahead;
    let days = (to.sec - from.sec) as f64 / 86_400.0 / f64::from(past) * f64::from(ahead);
    Shares { past, ahead, days }
}

fn level_bars(model: &Model, pen: &mut Pen<'_>, area: Rect, (from, to): (Time, Time)) {
    let Some(history) = tide::known(model) else { return };
    let known = &history.tide;
    let room = area.width - SCALE;
    let shares = shares(model, room, (from, to));
    let columns = known.columns(from, to, usize::from(shares.past));
    let waterline = known.waterline.share();
    let expected = |column: u16| {
        known.forecast(shares.days * f64::from(column + 1) / f64::from(shares.ahead.max(1)))
    };
    let ahead: Vec<[f64; 3]> = (0..shares.ahead).filter_map(expected).collect();
    let levels: Vec<f64> = columns
        .iter()
        .flatten()
        .flat_map(|column| [column.low, column.high])
        .chain(ahead.iter().map(|levels| levels[0]))
        .chain([waterline])
        .collect();
    let scale = LevelScale::of(levels.into_iter(), true, area);
    scale.draw(pen, waterline);
    let begin = area.x + SCALE;
    for (number, column) in columns.iter().enumerate() {
        if let Some(column) = column {
            bar(pen, &scale, begin + number as u16, column, waterline);
        }
    }
    for (number, [slow, likely, fast]) in ahead.iter().enumerate() {
        let x = begin + shares.past + number as u16;
        let theme = pen.theme;
        for row in scale.row_of(*slow)..=scale.row_of(*fast) {
            pen.text(x, scale.base() - row, "░", theme.amber, 1);
        }
        pen.text(x, scale.base() - scale.row_of(*likely), "▒", theme.amber, 1);
    }
    scale.draw_waterline(pen, waterline);
    below(
        model,
        pen,
        Rect { x: begin, y: area.bottom(), width: shares.past, height: 2 },
        (from, to),
    );
    if shares.ahead > 0 {
        let end = Time::at(to.sec + (shares.days * 86_400.0) as i64).day();
        pen.text_right(area.right(), area.bottom() + 1, &end, pen.theme.dim);
    }
}

/// One column: what is below the waterline, and what is above it. What was not sampled is paler.
fn bar(pen: &mut Pen<'_>, scale: &LevelScale, x: u16, column: &TideColumn, waterline: f64) {
    let theme = pen.theme;
    let height = scale.height_of(column.high);
    let (whole, part) = (height.floor() as u16, ((height - height.floor()) * 8.0) as usize);
    let line = scale.row_of(waterline);
    for row in 0..=whole {
        let style = if row > line || (row == line && column.high > waterline) {
            theme.trouble
        } else {
            theme.teal
        };
        let sign = match (row == whole, column.is_sampled) {
            (true, true) if row > 0 => EIGHTHS[part],
            (_, true) => "█",
            (_, false) => "▒",
        };
        pen.text(x, scale.base() - row, sign, style, 1);
    }
    // inodes are a line of their own over the bars
    if let Some(inodes) = column.inodes.filter(|inodes| *inodes > 0.005) {
        let row = scale.row_of(inodes);
        if scale.height_of(inodes) > 0.0 {
            pen.text(x, scale.base() - row, "•", theme.plain, 1);
        }
    }
}

/// Below the bars: what happened, the chosen moments, the marked one; then the dates.
fn below(model: &Model, pen: &mut Pen<'_>, area: Rect, (from, to): (Time, Time)) {
    let Some(history) = tide::known(model) else { return };
    let theme = pen.theme;
    let span = (to.sec - from.sec).max(1) as f64;
    let column = |at: Time| {
        let part = (at.sec - from.sec) as f64 / span;
        let inside = (0.0..=1.0).contains(&part);
        inside.then(|| area.x + ((part * f64::from(area.width)) as u16).min(area.width - 1))
    };
    for (sign, style, wanted) in [("·", theme.dim, 0), ("▽", theme.teal, 1), ("▼", theme.teal, 2)]
    {
        for mark in &history.marks {
            let sort = match mark.what {
                MarkSort::Scan(_) => 0,
                MarkSort::CleanUp(_) => 1,
                MarkSort::Run(..) => 2,
            };
            if let Some(x) = column(mark.at).filter(|_| sort == wanted) {
                pen.text(x, area.y, sign, style, 1);
            }
        }
    }
    if let Some(both) = tree::compared(model) {
        for (sign, at) in [("<", both.earlier.1), (">", both.later_at)] {
            if let Some(x) = column(at) {
                pen.text(x, area.y, sign, theme.brass, 1);
            }
        }
    }
    let dates = area.y + 1;
    pen.text(area.x, dates, &from.day(), theme.dim, 10);
    let marked = tide::marked(model).and_then(column);
    if marked.is_none_or(|x| x + 11 < area.right()) {
        pen.text_right(area.right(), dates, &to.day(), theme.dim);
    }
    if let Some(x) = marked {
        pen.text(x, dates, "▲", theme.brass, 1);
    }
}

/// The marked moment in words.
fn marked_words(model: &Model, pen: &mut Pen<'_>, line: Rect) {
    let Some((sample, before)) = tide::sample(model) else { return };
    let theme = pen.theme;
    let mut text = format!(
        "▲ {}  level {:.1} %, {} used",
        sample.at.local(),
        sample.level() * 100.0,
        model.bytes(sample.used)
    );
    if let Some(before) = before {
        let more = sample.used.get() as i64 - before.used.get() as i64;
        text = format!("{text}, {} since the day before", signed_bytes(more, model.units));
    }
    if let Some(inodes) = sample.inode_level() {
        text = format!("{text} · inodes {:.0} %", inodes * 100.0);
    }
    for mark in tide::marks_near(model) {
        text = format!("{text} · {}", mark.words());
    }
    pen.text(line.x + 1, line.y, &text, theme.plain, line.width.saturating_sub(1));
}

/// Bytes a day.
pub(super) fn a_day(bytes: i64, days: Option<f64>, model: &Model) -> String {
    let Some(days) = days else { return "-".to_owned() };
    let rate = Bytes::new((bytes.unsigned_abs() as f64 / days) as u64);
    let sign = if bytes < 0 { "-" } else { "+" };
    format!("{sign}{}", model.bytes(rate))
}
