//! The level of a volume day by day, as it was and as rules would have left it.

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet};

/// A volume's level on one day.
#[derive(Clone, Debug)]
pub struct PastLevel {
    /// The day, as people write it.
    pub day: String,
    /// When, in seconds since 1970.
    pub at: i64,
    /// As it was, from 0 to 1.
    pub without: f64,
    /// As the rules would have left it, from 0 to 1.
    pub with: f64,
}

/// Draws the two levels over time, with the waterline.
pub fn past(days: &[PastLevel], waterline: f64, context: &Context) -> Chart {
    let held = days.iter().filter(|day| day.with <= waterline).count();
    let was = days.iter().filter(|day| day.without <= waterline).count();
    let note = format!(
        "Of {} days, {was} were at the waterline of {:.0} % or below it; with the rules {held} would have been.",
        days.len(),
        waterline * 100.0
    );
    let (mut sheet, area) =
        Sheet::new(context, "The level with the rules and without", &note, None);
    let colours = sheet.colours;
    let (Some(first), Some(last)) = (days.first(), days.last()) else {
        sheet.words(
            area.x,
            area.y + 24.0,
            PLAIN,
            colours.text,
            area.width,
            "No scan of this place was kept.",
        );
        return sheet.finish();
    };
    let all = || days.iter().flat_map(|day| [day.without, day.with]).chain([waterline]);
    let low = (all().fold(1.0, f64::min) * 10.0 - 0.05).floor().max(0.0) / 10.0;
    let high = (all().fold(0.0, f64::max) * 10.0 + 0.05).ceil() / 10.0;
    let (left, width) = (area.x + 44.0, area.width - 56.0);
    let (top, height) = (area.y + 12.0, area.height - 62.0);
    let y = |level: f64| top + (high - level) / (high - low) * height;
    let span = (last.at - first.at).max(1) as f64;
    let x = |day: &PastLevel| left + (day.at - first.at) as f64 / span * width;
    let steps = ((high - low) * 20.0).round() as usize;
    for step in 0..=steps {
        let level = low + step as f64 / 20.0;
        sheet.drawing.line((left, y(level)), (left + width, y(level)), colours.rule, 0.5);
        let words = format!("{:.0} %", level * 100.0);
        sheet.words_right(left - 6.0, y(level) + 3.0, SMALL, colours.dim, &words);
    }
    sheet.drawing.line((left, y(waterline)), (left + width, y(waterline)), colours.text, 1.4);
    for pair in days.windows(2) {
        let (from, to) = (&pair[0], &pair[1]);
        let without = ((x(from), y(from.without)), (x(to), y(to.without)));
        sheet.drawing.line(without.0, without.1, colours.trouble, 1.6);
        sheet.drawing.line((x(from), y(from.with)), (x(to), y(to.with)), colours.bar, 2.4);
    }
    for day in days {
        sheet.drawing.rect(x(day) - 1.5, y(day.without) - 1.5, 3.0, 3.0, colours.trouble);
        sheet.drawing.rect(x(day) - 1.5, y(day.with) - 1.5, 3.0, 3.0, colours.bar);
    }
    let base = top + height + 16.0;
    sheet.words(left, base, SMALL, colours.dim, 120.0, &first.day);
    sheet.words_right(left + width, base, SMALL, colours.dim, &last.day);
    let fields = [
        (colours.trouble, "as it was"),
        (colours.bar, "with the rules"),
        (colours.text, "waterline"),
    ];
    sheet.legend(left, area.y + area.height - 8.0, &fields);
    sheet.finish()
}
