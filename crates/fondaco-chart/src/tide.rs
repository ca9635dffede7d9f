//! The level of a volume over time, with its waterline, clean-ups, and where it is going.

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet};

/// How full a volume was at a moment.
#[derive(Clone, Copy, Debug)]
pub struct TidePoint {
    /// When, in seconds since 1970.
    pub at: i64,
    /// From 0 to 1.
    pub level: f64,
    /// Inodes in use, from 0 to 1, where they are counted.
    pub inodes: Option<f64>,
}

/// Something that happened to a volume.
#[derive(Clone, Debug)]
pub struct TideMark {
    /// When, in seconds since 1970.
    pub at: i64,
    /// A run of the program, or a clean-up by somebody else.
    pub is_run: bool,
    /// What it was.
    pub words: String,
}

/// Draws the level over time. A forecast is so many days ahead, with the levels at the slow end of the range, as most likely and
/// at the fast end.
pub fn tide(
    points: &[TidePoint],
    marks: &[TideMark],
    forecast: Option<(f64, [f64; 3])>,
    waterline: f64,
    note: &str,
    context: &Context,
) -> Chart {
    let (mut sheet, area) = Sheet::new(context, "The level over time", note, None);
    let colours = sheet.colours;
    let (Some(first), Some(last)) = (points.first(), points.last()) else {
        let words = "No level was sampled yet.";
        sheet.words(area.x, area.y + 24.0, PLAIN, colours.text, area.width, words);
        return sheet.finish();
    };
    let ahead = forecast.map_or(0.0, |(days, _)| days * 86_400.0);
    let span = ((last.at - first.at) as f64 + ahead).max(1.0);
    let (left, width) = (area.x + 44.0, area.width - 56.0);
    let (top, height) = (area.y + 14.0, area.height - 68.0);
    let levels = points.iter().flat_map(|point| [Some(point.level), point.inodes]).flatten();
    let expected = forecast.into_iter().flat_map(|(_, levels)| levels);
    let low = levels.chain(expected).chain([waterline]).fold(1.0, f64::min);
    let low = ((low * 10.0).floor() / 10.0 - 0.1).max(0.0);
    let y = |level: f64| top + (1.0 - level) / (1.0 - low) * height;
    let x = |at: f64| left + (at - first.at as f64) / span * width;
    let steps = ((1.0 - low) * 10.0).round() as usize;
    for step in 0..=steps {
        let level = low + step as f64 / 10.0;
        sheet.drawing.line((left, y(level)), (left + width, y(level)), colours.rule, 0.5);
        let words = format!("{:.0} %", level * 100.0);
        sheet.words_right(left - 6.0, y(level) + 3.0, SMALL, colours.dim, &words);
    }
    for pair in points.windows(2) {
        let (from, to) = (x(pair[0].at as f64), x(pair[1].at as f64));
        // a hair wider than its time, so that no ground shows between two
        let wide = (to - from).max(0.6) + 0.4;
        let below = pair[1].level.min(waterline);
        sheet.drawing.rect(from, y(below), wide, y(low) - y(below), colours.bar);
        if pair[1].level > waterline {
            let height = y(waterline) - y(pair[1].level);
            sheet.drawing.rect(from, y(pair[1].level), wide, height, colours.trouble);
        }
        if let (Some(a), Some(b)) = (pair[0].inodes, pair[1].inodes) {
            sheet.drawing.line((from, y(a)), (to, y(b)), colours.text, 1.0);
        }
    }
    if let Some((_, levels)) = forecast {
        let from = (x(last.at as f64), y(last.level));
        let to = x(last.at as f64 + ahead);
        let [slow, likely, fast] = levels.map(y);
        for (end, thick) in [(slow, 0.8), (likely, 2.0), (fast, 0.8)] {
            sheet.drawing.line(from, (to, end), colours.mark, thick);
        }
    }
    sheet.drawing.line((left, y(waterline)), (left + width, y(waterline)), colours.text, 1.4);
    let words = format!("waterline {:.0} %", waterline * 100.0);
    sheet.words_right(left + width, y(waterline) - 4.0, SMALL, colours.text, &words);
    for mark in marks {
        let at = x(mark.at as f64);
        sheet.drawing.line((at, top), (at, top + height), colours.dim, 0.8);
        let words = if mark.is_run { "▼ run" } else { "▽ clean-up" };
        sheet.words(at + 3.0, top + 9.0, SMALL, colours.dim, 90.0, words);
    }
    let base = top + height + 16.0;
    let day = |at: i64| fondaco_core::units::Time::at(at).day();
    sheet.words(left, base, SMALL, colours.dim, 120.0, &day(first.at));
    let end = last.at + ahead as i64;
    sheet.words_right(left + width, base, SMALL, colours.dim, &day(end));
    if ahead > 0.0 {
        sheet.words(x(last.at as f64) - 20.0, base, SMALL, colours.dim, 120.0, &day(last.at));
    }
    let fields = [
        (colours.bar, "level"),
        (colours.trouble, "above the waterline"),
        (colours.mark, "where it is going: slow, likely, fast"),
    ];
    sheet.legend(left, area.y + area.height - 8.0, &fields);
    sheet.finish()
}
