//! The scale beside bars that stand for levels: which level is in which row.

use ratatui::layout::Rect;

use super::pen::Pen;

/// Columns beside the bars, for the scale.
pub const SCALE: u16 = 6;

/// See the [module](self).
#[derive(Clone, Copy, Debug)]
pub struct LevelScale {
    low: f64,
    high: f64,
    area: Rect,
}

impl LevelScale {
    /// A scale that has room for levels, in whole tenths so that small differences are seen; the scale says which. With
    /// `to_full` it ends where the volume is full.
    pub fn of(levels: impl Iterator<Item = f64> + Clone, to_full: bool, area: Rect) -> Self {
        let low = (levels.clone().fold(1.0, f64::min) * 10.0 - 0.5).floor().max(0.0) / 10.0;
        let high = (levels.fold(0.0, f64::max) * 10.0).ceil() / 10.0;
        Self { low, high: if to_full { 1.0 } else { high }, area }
    }

    /// How many rows above the lowest a level stands, in parts of a row.
    pub fn height_of(&self, level: f64) -> f64 {
        let part = (level - self.low) / (self.high - self.low).max(0.01);
        part.clamp(0.0, 1.0) * f64::from(self.area.height.saturating_sub(1))
    }

    /// The row above the lowest that a level stands in.
    pub fn row_of(&self, level: f64) -> u16 {
        self.height_of(level).round() as u16
    }

    /// The lowest row.
    pub fn base(&self) -> u16 {
        self.area.bottom().saturating_sub(1)
    }

    /// Writes the levels beside the bars: every twentieth that has a row of its own, but for that of the waterline.
    pub fn draw(&self, pen: &mut Pen<'_>, waterline: f64) {
        let (dim, line) = (pen.theme.dim, self.row_of(waterline));
        let mut last = None;
        for step in 0..=20 {
            let level = f64::from(step) / 20.0;
            let row = self.row_of(level);
            let is_inside = level >= self.low - 0.001 && level <= self.high + 0.001;
            if is_inside && row != line && last != Some(row) {
                let words = format!("{:.0} %", level * 100.0);
                pen.text_right(self.area.x + SCALE - 1, self.base() - row, &words, dim);
                last = Some(row);
            }
        }
    }

    /// Draws the waterline over the bars: what is above it is what matters.
    pub fn draw_waterline(&self, pen: &mut Pen<'_>, waterline: f64) {
        let (row, style) = (self.base() - self.row_of(waterline), pen.theme.brass);
        let width = self.area.width.saturating_sub(SCALE);
        pen.fill(Rect::new(self.area.x + SCALE, row, width, 1), "─", style);
        let words = format!("{:.0} %", waterline * 100.0);
        pen.text_right(self.area.x + SCALE - 1, row, &words, style);
    }
}
