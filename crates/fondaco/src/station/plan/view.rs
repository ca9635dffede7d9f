//! Plan: everything chosen, as one reviewable list with its forecast; and the run while it goes on.

use fondaco_core::carry_out::{EntryState, Figures, RunSummary};
use fondaco_core::plan::{Planned, Review};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, Level, counted, grouped};
use ratatui::layout::Rect;

use super::cursor;
use crate::frame::deed_letter;
use crate::frame::model::{Model, RunStage};
use crate::frame::view::{Pen, Target, cut, cut_path, stair};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let inner = Rect { x: area.x + 1, width: area.width - 2, ..area };
    match (&model.run.stage, &model.run.summary) {
        (RunStage::Running(figures, measured), _) => running(model, pen, inner, figures, *measured),
        (_, Some(summary)) if model.draft.is_empty() => came_to(model, pen, inner, summary),
        _ if model.draft.is_empty() => {
            let text = "Nothing is planned. Go to 2 Directories, select what may go, and press Space: \
                        it is marked here, and nothing happens to it until you carry the plan out.";
            let style = pen.theme.dim;
            pen.wrapped(inner, text, style);
        }
        _ => draft(model, pen, area),
    }
}

fn draft(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let planned = model.draft.planned();
    let later = model.draft.sums().frees.later;
    let mut text = format!("{} {} now", frees(planned.len()), model.bytes(model.planned_now()));
    if later > Bytes::ZERO {
        text.push_str(&format!(" and {} once purged", model.bytes(later)));
    }
    if let Some(volume) = model.gauge_volume()
        && let Ok(capacity) = &volume.capacity
    {
        let relief = model.draft.relief(&volume.mount_point).now;
        let then = Level::of(capacity.used.less(relief), capacity.whole_for(volume.level_for));
        let level = capacity.level_for(volume.level_for);
        text.push_str(&format!("; level {level} → {then}"));
    }
    pen.text(area.x + 1, area.y, &text, theme.amber, area.width);
    let (words, style) = match &model.run.rehearsal {
        _ if model.pending_actions() > 0 => {
            (format!("{} are still being looked at", model.pending_actions()), theme.dim)
        }
        None => ("Not rehearsed yet: R runs all checks and changes nothing.".to_owned(), theme.dim),
        Some(rehearsal) if rehearsal.refused() > 0 => (
            format!("Rehearsed: {} would be refused, see guard.", rehearsal.refused()),
            theme.trouble,
        ),
        Some(_) => ("Rehearsed: every action would be done. C carries out.".to_owned(), theme.teal),
    };
    pen.text(area.x + 1, area.y + 1, &words, style, area.width);
    let y = area.y + 3;
    let columns = Columns::of(area);
    pen.text(area.x + 4, y, "action", theme.dim, 10);
    pen.text_right(columns.now, y, "frees now", theme.dim);
    if let Some(later) = columns.later {
        pen.text_right(later, y, "later", theme.dim);
    }
    let (x, width) = columns.target;
    pen.text(x, y, "target", theme.dim, width);
    if columns.guard_is_words {
        pen.text(columns.guard, y, "guard", theme.dim, area.right().saturating_sub(columns.guard));
    }
    let visible = usize::from(area.height.saturating_sub(4));
    let offset = (cursor(model) + 1).saturating_sub(visible);
    for (i, one) in planned.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, y + 1 + (i - offset) as u16, area.width, 1);
        action(model, pen, line, &one, i, &columns);
        pen.hit(line, Target::Row(i));
    }
}

/// Where the columns are. Targets keep their width: where there is little room, what is freed later and the guard's
/// words are left to the evidence.
struct Columns {
    now: u16,
    later: Option<u16>,
    target: (u16, u16),
    guard: u16,
    /// Else it is a sign.
    guard_is_words: bool,
}

impl Columns {
    fn of(area: Rect) -> Self {
        let guard_is_words = area.width >= 96;
        // wide enough for the longest word, where there is room
        let now = area.x + if area.width >= 96 { 31 } else { 26 };
        let later = (area.width >= 84).then_some(now + 11);
        let target = later.unwrap_or(now) + 2;
        let guard_width = match area.width {
            120.. => 26,
            96.. => 16,
            _ => 2,
        };
        let width = area.right().saturating_sub(target + guard_width + 2);
        Self { now, later, target: (target, width), guard: target + width + 2, guard_is_words }
    }
}

fn action(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    planned: &Planned,
    at: usize,
    columns: &Columns,
) {
    let theme = pen.theme;
    let selected = at == cursor(model);
    let (style, _) = pen.begin_row(line, selected);
    let frees = model.draft.frees().get(at).copied().unwrap_or_default();
    let letter = deed_letter(&planned.deed);
    let width = columns.now.saturating_sub(line.x + 13);
    let word = cut(&format!("{letter} {}", planned.deed.word()), usize::from(width));
    pen.text(line.x + 2, line.y, &word, style, width);
    pen.text_right(columns.now, line.y, &model.bytes(frees.now), style);
    if let Some(later) = columns.later {
        pen.text_right(later, line.y, &model.bytes(frees.later), style);
    }
    let (x, width) = columns.target;
    let path = cut_path(&shown(planned.place()), usize::from(width));
    pen.text(x, line.y, &path, style, width);
    let (guard, trouble) = guard(model, planned, at);
    let guard_style = match (selected, trouble) {
        (_, true) => theme.trouble,
        (true, false) => theme.selected,
        (false, false) => theme.dim,
    };
    let sign = guard.chars().next().filter(|sign| !sign.is_alphabetic());
    let guard = match (columns.guard_is_words, sign) {
        (true, _) => guard,
        (false, Some(sign)) => sign.to_string(),
        (false, None) => String::new(),
    };
    let x = columns.guard;
    pen.text(x, line.y, &guard, guard_style, line.right().saturating_sub(x));
}

/// "1 action frees", "3 actions free".
fn frees(actions: usize) -> String {
    let verb = if actions == 1 { "frees" } else { "free" };
    format!("{} {verb}", counted(actions as u64, "action"))
}

/// What stands in the way of a planned action, as far as it is known.
pub(super) fn guard(model: &Model, planned: &Planned, at: usize) -> (String, bool) {
    match &planned.review {
        Review::Pending => return ("being looked at".to_owned(), false),
        Review::Refused(reason) => return (format!("! {reason}"), true),
        Review::Ready(_) => {}
    }
    let Some(rehearsal) = &model.run.rehearsal else {
        return ("ready".to_owned(), false);
    };
    let finding = rehearsal.findings.get(model.draft.ready_before(at));
    match finding.and_then(|finding| finding.refused.as_ref()) {
        Some(reason) => (format!("! {reason}"), true),
        None => ("✓ would be done".to_owned(), false),
    }
}

fn running(model: &Model, pen: &mut Pen<'_>, area: Rect, figures: &Figures, measured: Option<i64>) {
    let theme = pen.theme;
    let share = figures.done as f64 / figures.total.max(1) as f64;
    pen.text(area.x, area.y, &format!("Carrying out: {}", figures.phase), theme.brass, area.width);
    let (_, bar) = stair(0.0, share, area.width.min(60));
    pen.text(area.x, area.y + 2, &bar, theme.teal, 60);
    let left = figures.total - figures.done.min(figures.total);
    let measured = match measured {
        Some(bytes) if bytes >= 0 => {
            format!("the volume says {}", model.bytes(Bytes::new(bytes as u64)))
        }
        Some(bytes) => {
            format!("the volume says {} more in use", model.bytes(Bytes::new(bytes.unsigned_abs())))
        }
        None => "the volume has not been asked yet".to_owned(),
    };
    let lines = [
        format!("{} done, {left} left", grouped(figures.done as u64)),
        format!("{} freed so far; {measured}", model.bytes(figures.freed)),
        shown(&figures.current),
    ];
    for (i, line) in lines.iter().enumerate() {
        pen.text(area.x, area.y + 4 + i as u16, line, theme.plain, area.width);
    }
    let stop = if model.run.stopping { "Stopping …" } else { "S stops at the next safe point." };
    pen.text(area.x, area.y + 8, stop, theme.dim, area.width);
}

/// What the last run came to: measured against the forecast, and each action.
fn came_to(model: &Model, pen: &mut Pen<'_>, area: Rect, summary: &RunSummary) {
    let theme = pen.theme;
    let heading = format!("Run {} is {}", summary.run, summary.state.word());
    pen.text(area.x, area.y, &heading, theme.brass, area.width);
    let measured = match summary.measured {
        Some(bytes) if bytes >= 0 => model.bytes(Bytes::new(bytes as u64)),
        Some(bytes) => format!("{} more in use", model.bytes(Bytes::new(bytes.unsigned_abs()))),
        None => "not known".to_owned(),
    };
    let figures = [
        ("forecast", model.bytes(summary.forecast.now)),
        ("freed", model.bytes(summary.freed)),
        ("measured on the volume", measured),
        ("later, when purged", model.bytes(summary.forecast.later)),
    ];
    let why = summary.reasons.join("; ");
    for (i, (name, value)) in figures.iter().enumerate() {
        pen.text(area.x, area.y + 2 + i as u16, name, theme.dim, 24);
        pen.text_right(area.x + 38, area.y + 2 + i as u16, value, theme.plain);
    }
    let beside =
        Rect { x: area.x + 41, y: area.y + 2, width: area.width.saturating_sub(41), height: 4 };
    pen.wrapped(beside, &why, theme.amber);
    let next = match model.gauge_volume().map(|volume| volume.to_find(Bytes::ZERO)) {
        Some(to_find) if to_find > Bytes::ZERO => {
            format!("{} still to find: go on in 2 Directories. ", model.bytes(to_find))
        }
        _ => String::new(),
    };
    let can: usize = EntryState::RETURNABLE.iter().map(|state| summary.count(*state)).sum();
    let undo = if can > 0 { format!("{can} can be put back: 9 Journal.") } else { String::new() };
    pen.text(area.x, area.y + 7, &format!("{next}{undo}"), theme.plain, area.width);
    let y = area.y + 9;
    for (i, entry) in summary.entries.iter().enumerate() {
        let y = y + i as u16;
        if y + 1 >= area.bottom() {
            let more = summary.entries.len() - i;
            pen.text(area.x, y, &format!("{more} more: see 9 Journal"), theme.dim, area.width);
            break;
        }
        let trouble = entry.state.is_trouble();
        let style = if trouble { theme.trouble } else { theme.plain };
        let mark = if trouble { "!" } else { "✓" };
        let word = format!("{mark} {}", entry.state.word());
        pen.text(area.x, y, &word, style, 14);
        let text = if entry.message.is_empty() {
            shown(entry.action.place())
        } else {
            entry.summary().to_owned()
        };
        pen.text(area.x + 15, y, &text, theme.plain, area.width.saturating_sub(15));
    }
}
