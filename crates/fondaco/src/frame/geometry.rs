//! Where things are on a screen of a given size; shared by what draws and what scrolls.

use ratatui::layout::Rect;
use unicode_width::UnicodeWidthChar;

use super::model::Model;

/// The least that is usable.
pub const LEAST: (u16, u16) = (72, 20);

/// The parts of the frame.
#[derive(Clone, Copy, Debug)]
pub struct Frame {
    /// Name, station, path, and what is going on.
    pub header: Rect,
    /// The waterline gauge: two rows.
    pub gauge: Rect,
    /// The stations: a column on the left, or one line.
    pub route: Rect,
    /// The station's own panel.
    pub panel: Rect,
    /// What is known about the selected thing: on the right, or below.
    pub evidence: Rect,
    /// What just happened.
    pub notice: Rect,
    /// What works here.
    pub hints: Rect,
    /// Route and evidence stand beside the panel.
    pub is_wide: bool,
}

/// The frame for a terminal of that size; nothing if it is too small.
pub fn frame((columns, rows): (u16, u16)) -> Option<Frame> {
    if columns < LEAST.0 || rows < LEAST.1 {
        return None;
    }
    let line = |y, height| Rect::new(0, y, columns, height);
    let (header, gauge) = (line(0, 1), line(1, 2));
    let (notice, hints) = (line(rows - 2, 1), line(rows - 1, 1));
    // beside each other only where the panel keeps the width that its tables need
    let is_wide = columns >= 140 && rows >= 30;
    let frame = |route, panel, evidence| {
        Some(Frame { header, gauge, route, panel, evidence, notice, hints, is_wide })
    };
    if is_wide {
        // a rule above and below the panels
        let (top, height) = (4, rows - 7);
        let right = if columns >= 150 { 40 } else { 34 };
        let left = 21;
        return frame(
            Rect::new(0, top, left, height),
            Rect::new(left + 1, top, columns - left - right - 2, height),
            Rect::new(columns - right, top, right, height),
        );
    }
    let below = if rows >= 30 { 8 } else { 5 };
    let (top, height) = (5, rows - 8 - below);
    frame(line(3, 1), line(top, height), line(top + height + 1, below))
}

/// How wide the lines of a list in front of the station are, and how many there is room for.
pub fn listing_room(size: (u16, u16)) -> (usize, usize) {
    let panel = frame(size).map(|frame| frame.panel).unwrap_or_default();
    // a rule above and below, a title and a line about the keys
    let height = panel.height.min(size.1.saturating_sub(panel.y)).saturating_sub(4);
    (usize::from(size.0.min(120).saturating_sub(4)), usize::from(height))
}

/// Where such a list stands at most, so that its last line is at the end of the room.
pub fn last_offset(lines: &[String], (width, visible): (usize, usize)) -> usize {
    let mut left = visible;
    let whole = lines.iter().rev().take_while(|line| {
        let needed = folded(line, width).len();
        let fits = needed <= left;
        left = left.saturating_sub(needed);
        fits
    });
    // a line that is longer than the room is shown from its beginning
    (lines.len() - whole.count()).min(lines.len().saturating_sub(1))
}

/// A line over as many as it needs, those after the first two columns in. Nothing of it is left out.
pub fn folded(line: &str, width: usize) -> Vec<String> {
    let mut rows = vec![String::new()];
    let mut used = 0;
    for sign in line.chars() {
        let next = sign.width().unwrap_or(0);
        if used + next > width && used > 2 {
            rows.push("  ".to_owned());
            used = 2;
        }
        used += next;
        if let Some(row) = rows.last_mut() {
            row.push(sign);
        }
    }
    rows
}

/// The station's panel; nothing of it if the terminal is too small.
pub fn panel(model: &Model) -> Rect {
    frame(model.size).map(|frame| frame.panel).unwrap_or_default()
}

/// How many rows of its list the station at hand can show.
pub fn list_rows(model: &Model) -> usize {
    let taken = model.station.room().lines_beside_list(model);
    usize::from(panel(model).height.saturating_sub(taken)).max(1)
}
