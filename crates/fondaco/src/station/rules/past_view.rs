//! The panel of the past: the level on each day with the rules and without, and what they would have taken.

use fondaco_core::rule::{DayTried, PastDay, RuleState, RuleTrial};
use fondaco_core::shown::shown;
use fondaco_core::units::grouped;
use ratatui::layout::Rect;

use super::past::PastState;
use crate::frame::model::Model;
use crate::frame::view::{LevelScale, Pen, SCALE, Target};
use crate::query::Past;

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect, past: &PastState) {
    let theme = pen.theme;
    let (past, day) = match past {
        PastState::Waiting => {
            pen.text(area.x, area.y, "trying the rules on the kept scans …", theme.dim, area.width);
            return;
        }
        PastState::Known(past, day) => (past, *day),
    };
    let lines =
        pen.wrapped(Rect { height: 2.min(area.height), ..area }, &past.verdict(), theme.plain);
    let y = area.y + lines;
    let x = pen.text(area.x + SCALE, y, "▒", theme.amber, 1);
    let x = pen.text(x + 1, y, "what the rules take", theme.dim, 30);
    let x = pen.text(x + 3, y, "█", theme.teal, 1);
    let x = pen.text(x + 1, y, "what stays", theme.dim, 30);
    pen.text(x + 3, y, "← → another day", theme.dim, area.right().saturating_sub(x + 3));
    let below =
        Rect { y: area.y + lines + 1, height: area.height.saturating_sub(lines + 1), ..area };
    let rules = past.titles.len() as u16;
    // in a low panel the bars have all of it: evidence has the rest
    let details = if below.height < 14 { 0 } else { (rules + 3).min(below.height / 2) };
    let chart = Rect { height: below.height.saturating_sub(details + 1), ..below };
    bars(past, day, pen, chart);
    if details == 0 {
        return;
    }
    let y = chart.bottom() + 1;
    let rest = Rect { y, height: below.bottom().saturating_sub(y), ..below };
    if let Some(selected) = past.days.get(day) {
        details_of(model, past, selected, pen, rest);
    }
}

/// A bar for each day: what stays, above it hatched what the rules would have taken.
fn bars(past: &Past, selected: usize, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if area.height < 5 || area.width < SCALE + 10 {
        return;
    }
    let known: Vec<_> = past.levels().map(|(_, levels)| levels).collect();
    let Some(last) = known.last() else { return };
    let shares = || {
        known.iter().flat_map(|levels| {
            [levels.with.share(), levels.without.share(), levels.waterline.share()]
        })
    };
    let waterline = last.waterline.share();
    let levels: Vec<f64> = shares().collect();
    let bars = Rect { height: area.height - 1, ..area };
    let scale = LevelScale::of(levels.into_iter(), false, bars);
    let row_of = |share: f64| scale.row_of(share);
    let base = scale.base();
    scale.draw(pen, waterline);
    let room = area.width - SCALE;
    let count = past.days.len().min(usize::from(room));
    let first = past.days.len() - count;
    let place_of =
        |number: usize| area.x + SCALE + (number * usize::from(room) / count.max(1)) as u16;
    for (number, day) in past.days.iter().skip(first).enumerate() {
        let x = place_of(number);
        let wide = place_of(number + 1) - x;
        pen.hit(Rect::new(x, area.y, wide, area.height), Target::Row(first + number));
        let levels = day.outcome.as_ref().ok().and_then(|tried| tried.levels);
        match levels {
            None => {
                pen.text(x, base, "?", theme.trouble, 1);
            }
            Some(levels) => {
                let (with, without) = (row_of(levels.with.share()), row_of(levels.without.share()));
                let style = if levels.would_have_held() { theme.teal } else { theme.trouble };
                for row in 0..=without {
                    let at = Rect::new(x, base - row, wide, 1);
                    let (sign, style) =
                        if row <= with { ("█", style) } else { ("▒", theme.amber) };
                    pen.fill(at, sign, style);
                }
            }
        }
        if first + number == selected {
            pen.fill(Rect::new(x, base + 1, wide.min(1), 1), "▲", theme.brass);
        }
    }
    scale.draw_waterline(pen, waterline);
    let date = |day: Option<&PastDay>| day.map_or_else(String::new, |day| day.scanned.day());
    let marked = place_of(selected.saturating_sub(first));
    let (oldest, newest) = (date(past.days.get(first)), date(past.days.last()));
    if marked > area.x + SCALE + 12 {
        pen.text(area.x + SCALE, base + 1, &oldest, theme.dim, 10);
    }
    if marked + 12 < area.right() {
        pen.text_right(area.right(), base + 1, &newest, theme.dim);
    }
}

/// What the rules would have done on the selected day.
fn details_of(model: &Model, past: &Past, day: &PastDay, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let date = day.scanned.day();
    let tried = match &day.outcome {
        Ok(tried) => tried,
        Err(error) => {
            pen.wrapped(area, &format!("{date}: {error}"), theme.trouble);
            return;
        }
    };
    let levels = tried.levels.map_or_else(
        || "level not known".to_owned(),
        |levels| format!("level {}, with the rules {}", levels.without, levels.with),
    );
    let text = format!("{date}   scan {}   {levels}", day.scan);
    pen.text(area.x, area.y, &text, theme.plain, area.width);
    pen.text_right(area.right().saturating_sub(12), area.y + 1, "takes", theme.dim);
    pen.text_right(area.right(), area.y + 1, "relief", theme.dim);
    let room = usize::from(area.height.saturating_sub(2));
    for (place, (title, rule)) in past.titles.iter().zip(&tried.rules).enumerate().take(room) {
        rule_line(model, pen, (area, area.y + 2 + place as u16), title, rule);
    }
    total(model, pen, area, past, tried);
}

fn rule_line(
    model: &Model,
    pen: &mut Pen<'_>,
    (area, y): (Rect, u16),
    title: &str,
    rule: &RuleTrial,
) {
    let theme = pen.theme;
    let width = area.width.saturating_sub(36);
    pen.text(area.x + 2, y, &shown(title), theme.plain, width);
    let (words, style) = match &rule.state {
        RuleState::Off => ("off", theme.dim),
        RuleState::Rests(_) => ("its time had not come", theme.dim),
        RuleState::OverLimit(_) => ("! over its limit", theme.trouble),
        RuleState::Acts => {
            let x = area.right().saturating_sub(12);
            pen.text_right(x, y, &grouped(rule.takes.entries), theme.plain);
            pen.text_right(area.right(), y, &model.bytes(rule.frees), theme.plain);
            return;
        }
    };
    pen.text_right(area.right(), y, words, style);
}

fn total(model: &Model, pen: &mut Pen<'_>, area: Rect, past: &Past, tried: &DayTried) {
    let theme = pen.theme;
    let y = area.y + 2 + past.titles.len() as u16;
    if y >= area.bottom() {
        return;
    }
    pen.text(area.x + 2, y, "all of them", theme.dim, area.width);
    let x = area.right().saturating_sub(12);
    pen.text_right(x, y, &grouped(tried.takes.entries), theme.plain);
    pen.text_right(area.right(), y, &model.bytes(tried.frees), theme.plain);
}
