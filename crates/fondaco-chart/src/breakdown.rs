//! Slices by a property: bars, each divided by age.

use fondaco_core::analysis::{Breakdown, Classes};
use fondaco_core::catalog::AGE_CLASSES;
use fondaco_core::units::{Bytes, grouped};

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet, percent, scale_end};
use crate::report::SliceLine;

/// Draws slices, which come with their names, as many as there are; `rest` are those that are left out.
pub fn breakdown(
    found: &Breakdown,
    slices: &[SliceLine],
    rest: Option<(usize, Bytes)>,
    context: &Context,
) -> Chart {
    let line = 21.0;
    let rows = (slices.len() + usize::from(rest.is_some())).max(1);
    let height = rows as f64 * line + 60.0;
    let mut note = format!(
        "{} in {} entries by {}. Each bar is divided by the age of the last writing.",
        found.whole.allocated.shown(context.units),
        grouped(found.whole.entries),
        found.by.words()
    );
    if found.overlaps() {
        note.push_str(" An entry may have several: they do not add up.");
    }
    let title = format!("What it is, by {}", found.by.words());
    let (mut sheet, area) = Sheet::new(context, &title, &note, Some(height));
    let colours = sheet.colours;
    let whole = found.whole.allocated;
    let name = (area.width * 0.28).min(220.0);
    let (bytes, share) = (area.x + name + 70.0, area.x + name + 122.0);
    let (begin, width) = (share + 14.0, area.x + area.width - share - 14.0);
    if slices.is_empty() {
        sheet.nothing(area);
        return sheet.finish();
    }
    // one scale for all, the rest too
    let bars = slices.iter().map(|slice| slice.allocated).chain(rest.map(|(_, bytes)| bytes));
    let end = scale_end(bars.max().unwrap_or_default().share_of(whole));
    let length = |bytes: Bytes| bytes.share_of(whole) / end * width;
    let top = area.y + 18.0;
    sheet.scale((begin, width), (area.y + 6.0, top + rows as f64 * line), end);
    for (number, slice) in slices.iter().enumerate() {
        let y = top + number as f64 * line;
        let base = y + 12.0;
        sheet.words(area.x, base, PLAIN, colours.text, name, &slice.name);
        let size = sheet.bytes(slice.allocated);
        sheet.words_right(bytes, base, PLAIN, colours.text, &size);
        sheet.words_right(share, base, SMALL, colours.dim, &percent(slice.allocated, whole));
        let long = length(slice.allocated);
        let sum: f32 = slice.profile.iter().sum();
        let mut x = begin;
        for (bytes, colour) in slice.profile.iter().zip(colours.ages) {
            let part = if sum > 0.0 { f64::from(bytes / sum) * long } else { 0.0 };
            if part > 0.0 {
                sheet.drawing.rect(x, y + 1.0, part.max(0.4), 15.0, colour);
            }
            x += part;
        }
    }
    if let Some((count, bytes_left)) = rest {
        let y = top + slices.len() as f64 * line;
        let base = y + 12.0;
        let words = format!("{} more", grouped(count as u64));
        sheet.words(area.x, base, PLAIN, colours.dim, name, &words);
        let size = sheet.bytes(bytes_left);
        sheet.words_right(bytes, base, PLAIN, colours.dim, &size);
        sheet.words_right(share, base, SMALL, colours.dim, &percent(bytes_left, whole));
        sheet.drawing.rect(begin, y + 1.0, length(bytes_left).max(0.4), 15.0, colours.rule);
    }
    ages_legend(&mut sheet, area.x, area.y + height - 8.0);
    sheet.finish()
}

/// What the shades of age mean.
pub(crate) fn ages_legend(sheet: &mut Sheet<'_>, x: f64, y: f64) -> f64 {
    let classes = Classes::default();
    let words: Vec<String> = (0..AGE_CLASSES).map(|class| classes.age_words(class)).collect();
    let ages = sheet.colours.ages;
    let fields: Vec<(&str, &str)> =
        ages.iter().copied().zip(words.iter().map(String::as_str)).collect();
    sheet.legend(x, y, &fields)
}
