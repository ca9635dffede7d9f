//! Journal: runs and their actions; what can be put back.

use fondaco_core::carry_out::{EntryRecord, EntryState, RunRecord};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, Time};
use ratatui::layout::Rect;

use super::{OpenRun, selected_run};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Target, cut_path};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let style = pen.theme.dim;
    if model.rooms.journal.runs.is_empty() {
        let text = if model.rooms.journal.loaded {
            "No run yet. What is carried out under 8 Plan is written here, action by action, before \
             and after it is done."
        } else {
            "Reading the journal …"
        };
        pen.wrapped(Rect { x: area.x + 1, width: area.width - 2, ..area }, text, style);
        return;
    }
    match (&model.rooms.journal.open, selected_run(model)) {
        (Some(open), Some(run)) => entries(model, pen, area, run, open),
        _ => runs(model, pen, area),
    }
}

fn runs(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let y = area.y + 1;
    pen.text(area.x + 1, area.y, "Runs, newest first; Enter opens one", theme.dim, area.width);
    pen.text_right(area.x + 6, y, "run ↓", theme.brass);
    pen.text(area.x + 8, y, "when", theme.dim, 10);
    pen.text(area.x + 18, y, "state", theme.dim, 9);
    pen.text_right(area.x + 39, y, "forecast", theme.dim);
    pen.text_right(area.x + 51, y, "measured", theme.dim);
    pen.text(area.x + 53, y, "actions", theme.dim, 20);
    let visible = usize::from(area.height.saturating_sub(2));
    let offset = (model.rooms.journal.cursor + 1).saturating_sub(visible);
    for (i, run) in model.rooms.journal.runs.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, y + 1 + (i - offset) as u16, area.width, 1);
        let selected = i == model.rooms.journal.cursor;
        let (style, _) = pen.begin_row(line, selected);
        pen.text_right(line.x + 6, line.y, &run.id.to_string(), style);
        pen.text(line.x + 8, line.y, &age(model, &run.begun), style, 10);
        pen.text(line.x + 18, line.y, run.state.word(), style, 9);
        pen.text_right(line.x + 39, line.y, &model.bytes(run.forecast.now), style);
        pen.text_right(line.x + 51, line.y, &measured(model, run), style);
        let counts = counts(run);
        pen.text(line.x + 53, line.y, &counts, style, line.right().saturating_sub(line.x + 53));
        pen.hit(line, Target::Row(i));
    }
}

fn entries(model: &Model, pen: &mut Pen<'_>, area: Rect, run: &RunRecord, open: &OpenRun) {
    let theme = pen.theme;
    let text = format!(
        "Run {}: forecast {}, measured {}; Esc goes back to all runs",
        run.id,
        model.bytes(run.forecast.now),
        measured(model, run)
    );
    pen.text(area.x + 1, area.y, &text, theme.dim, area.width);
    let y = area.y + 1;
    pen.text_right(area.x + 6, y, "no", theme.dim);
    pen.text(area.x + 8, y, "state", theme.dim, 10);
    pen.text_right(area.x + 29, y, "freed", theme.dim);
    pen.text(area.x + 31, y, "target", theme.dim, 20);
    let visible = usize::from(area.height.saturating_sub(2));
    let offset = (open.cursor + 1).saturating_sub(visible);
    for (i, entry) in open.entries.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, y + 1 + (i - offset) as u16, area.width, 1);
        one_entry(model, pen, line, &entry, open, i == open.cursor);
        pen.hit(line, Target::Row(i));
    }
}

fn one_entry(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    entry: &EntryRecord,
    open: &OpenRun,
    selected: bool,
) {
    let theme = pen.theme;
    let trouble = entry.state.is_trouble();
    let (usual, _) = pen.begin_row(line, selected);
    let style = if trouble && !selected { theme.trouble } else { usual };
    if open.marked.contains(&entry.action.number) {
        pen.text(line.x + 1, line.y, "•", if selected { style } else { theme.brass }, 1);
    }
    pen.text_right(line.x + 6, line.y, &entry.action.number.to_string(), style);
    let mark = if trouble { "! " } else { "" };
    pen.text(line.x + 8, line.y, &format!("{mark}{}", entry.state.word()), style, 15);
    let freed = match entry.state {
        EntryState::Held => "held".to_owned(),
        _ => model.bytes(entry.freed),
    };
    pen.text_right(line.x + 29, line.y, &freed, style);
    let width = line.right().saturating_sub(line.x + 31);
    let path = cut_path(&shown(entry.action.place()), usize::from(width));
    pen.text(line.x + 31, line.y, &path, style, width);
}

/// How long ago a moment of the journal was.
pub(super) fn age(model: &Model, moment: &str) -> String {
    let ago = |time: Time| format!("{} ago", time.age(model.now));
    Time::of_rfc3339(moment).map_or_else(|| moment.to_owned(), ago)
}

/// What the volumes said that a run freed.
pub(super) fn measured(model: &Model, run: &RunRecord) -> String {
    match run.measured {
        Some(bytes) if bytes >= 0 => model.bytes(Bytes::new(bytes as u64)),
        Some(bytes) => format!("+{}", model.bytes(Bytes::new(bytes.unsigned_abs()))),
        None => "—".to_owned(),
    }
}

/// How many actions stand how, in words.
pub(super) fn counts(run: &RunRecord) -> String {
    let words: Vec<String> =
        run.counts.iter().map(|(state, n)| format!("{n} {}", state.word())).collect();
    words.join(", ")
}
