//! Putting text into cells: cut to width, wrapped, leaning left or right; and what a click there means.

use fondaco_core::catalog::EntryId;
use fondaco_core::shown::{drives_a_terminal, safe_text, shown};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use unicode_width::UnicodeWidthStr;

use super::theme::Theme;
use crate::fit::{cut, end_of, wrap};
use crate::frame::Field;
use crate::frame::commands::Command;
use crate::station::Station;

/// What a click means.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Target {
    /// A row of the list at hand.
    Row(usize),
    /// A cell of the matrix: row and column.
    Cell(usize, usize),
    /// An entry on the map.
    Entry(EntryId),
    /// A command that the click runs.
    Command(&'static Command),
    /// A station of the route.
    Station(Station),
}

/// What clicks mean where, as it was drawn.
#[derive(Debug, Default)]
pub struct Hits {
    places: Vec<(Rect, Target)>,
}

impl Hits {
    /// What a click on a cell means; what was drawn last lies on top.
    pub fn at(&self, column: u16, row: u16) -> Option<Target> {
        let here = |(area, _): &&(Rect, Target)| area.contains((column, row).into());
        self.places.iter().rev().find(here).map(|(_, target)| *target)
    }
}

/// What views draw with.
pub struct Pen<'a> {
    buffer: &'a mut Buffer,
    /// The colours to draw with.
    pub theme: &'a Theme,
    hits: &'a mut Hits,
}

impl<'a> Pen<'a> {
    pub(super) fn new(buffer: &'a mut Buffer, theme: &'a Theme, hits: &'a mut Hits) -> Self {
        Self { buffer, theme, hits }
    }

    /// Makes an area plain ground; clicks on it mean nothing more.
    pub fn clear(&mut self, area: Rect) {
        self.hits.places.retain(|(place, _)| !area.contains(place.as_position()));
        self.fill(area, " ", self.theme.plain);
    }

    /// Fills an area with one sign.
    pub fn fill(&mut self, area: Rect, sign: &str, style: Style) {
        let area = area.intersection(self.buffer.area);
        for y in area.top()..area.bottom() {
            for x in area.left()..area.right() {
                self.buffer[(x, y)].reset();
                self.buffer[(x, y)].set_symbol(sign).set_style(style);
            }
        }
    }

    /// Begins a row of a list, marked if it is the selected one. Gives the style of its text, and that of lesser things in it.
    pub fn begin_row(&mut self, line: Rect, selected: bool) -> (Style, Style) {
        let theme = self.theme;
        if !selected {
            return (theme.plain, theme.dim);
        }
        self.fill(line, " ", theme.selected);
        self.text(line.x, line.y, "▸", theme.selected, 1);
        (theme.selected, theme.selected)
    }

    /// Writes text, cut with an ellipsis to at most `width` columns. Gives the column behind it.
    pub fn text(&mut self, x: u16, y: u16, text: &str, style: Style, width: u16) -> u16 {
        let inside = self.buffer.area;
        if y >= inside.bottom() || x >= inside.right() || width == 0 {
            return x;
        }
        let room = usize::from(width.min(inside.right() - x));
        // names are escaped where they are shown; this is for what others have written into messages
        let cut = match text.contains(|c: char| c.is_control() || drives_a_terminal(c)) {
            true => cut(&safe_text(text).replace('\n', " "), room),
            false => cut(text, room),
        };
        self.buffer.set_string(x, y, &cut, style);
        x + cut.width() as u16
    }

    /// Writes text that ends just before column `right`.
    pub fn text_right(&mut self, right: u16, y: u16, text: &str, style: Style) {
        let width = text.width() as u16;
        self.text(right.saturating_sub(width), y, text, style, width);
    }

    /// Writes text over as many lines as it needs, at most to the end of the area. Gives the lines.
    pub fn wrapped(&mut self, area: Rect, text: &str, style: Style) -> u16 {
        let lines = wrap(text, usize::from(area.width));
        let mut used = 0;
        for line in lines.iter().take(usize::from(area.height)) {
            used += 1;
            let is_cut = used == area.height && lines.len() > usize::from(area.height);
            let line =
                if is_cut { &cut(&format!("{line}…"), usize::from(area.width)) } else { line };
            self.text(area.x, area.y + used - 1, line, style, area.width);
        }
        used
    }

    /// Says what a click on an area means.
    pub fn hit(&mut self, area: Rect, target: Target) {
        self.hits.places.push((area, target));
    }

    /// The sign in a cell; for tests and overlays.
    pub fn area(&self) -> Rect {
        self.buffer.area
    }
}

/// Text of at most `width` columns that ends where `text` ends; an ellipsis says that it was cut.
fn cut_left(text: &str, width: usize) -> String {
    match text.width() <= width {
        true => text.to_owned(),
        false if width == 0 => String::new(),
        false => format!("…{}", end_of(text, width - 1)),
    }
}

/// What is being typed with the cursor in it, in at most `width` columns of which it is always one.
pub fn typed(field: &Field, width: usize) -> String {
    let (before, after) = field.parts();
    let after = shown(after);
    // some of what follows is seen too
    let kept = after.width().min(width / 4);
    let before = cut_left(&shown(before), width.saturating_sub(kept + 1));
    let left = width.saturating_sub(before.width() + 1);
    format!("{before}▏{}", cut(&after, left))
}

/// A bar from one share of `width` to another, to an eighth of a column at its end: where it begins,
/// and its signs. A bar of anything at all shows at least a sliver.
pub fn stair(from: f64, to: f64, width: u16) -> (u16, String) {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let eighths = |share: f64| (share.clamp(0.0, 1.0) * f64::from(width) * 8.0).round() as u32;
    let start = (eighths(from) / 8).min(u32::from(width.saturating_sub(1)));
    let length = eighths(to).saturating_sub(start * 8);
    let length = if to > from { length.max(1) } else { length };
    let mut bar = "█".repeat((length / 8) as usize);
    bar.push_str(EIGHTHS[(length % 8) as usize]);
    (start as u16, bar)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stairs_begin_where_the_last_ended_and_anything_shows() {
        assert_eq!(stair(0.0, 0.5, 10), (0, "█████".into()));
        assert_eq!(stair(0.5, 0.75, 10), (5, "██▌".into()));
        assert_eq!(stair(0.99999, 1.0, 10), (9, "█".into()));
        assert_eq!(stair(0.3, 0.30001, 10).1.chars().count(), 1);
        assert_eq!(stair(0.3, 0.3, 10), (3, String::new()));
    }
}
