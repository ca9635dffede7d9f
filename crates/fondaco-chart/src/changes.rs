//! What changed between two moments: what has less to the left, what has more to the right.

use fondaco_core::units::{Bytes, grouped};

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet};
use crate::text;

/// Something that changed.
#[derive(Clone, Debug)]
pub struct ChangeLine {
    /// Its name or path, in its display form.
    pub name: String,
    /// What became of it, in a word or two.
    pub what: String,
    /// Bytes that it has more or less.
    pub net: i64,
}

/// Draws changes, one below the other. `note` says between which moments and what it all came to, `more` how many changes are
/// not among the lines.
pub fn changes(lines: &[ChangeLine], more: usize, note: &str, context: &Context) -> Chart {
    let line = 22.0;
    let height = lines.len().max(1) as f64 * line + 36.0;
    let (mut sheet, area) = Sheet::new(context, "What changed", note, Some(height));
    let colours = sheet.colours;
    if lines.is_empty() {
        let words = "Nothing has changed.";
        sheet.words(area.x, area.y + 20.0, PLAIN, colours.text, area.width, words);
        return sheet.finish();
    }
    let right = area.x + area.width;
    let name = area.width * 0.42;
    let (what, begin) = (area.x + name + 12.0, area.x + name + 92.0);
    let width = right - begin - 84.0;
    let middle = begin + width / 2.0;
    let largest = lines.iter().map(|line| line.net.unsigned_abs()).max().unwrap_or(0).max(1);
    for (number, one) in lines.iter().enumerate() {
        let y = area.y + number as f64 * line;
        let words = text::cut_path(&one.name, PLAIN, name);
        sheet.words(area.x, y + 13.0, PLAIN, colours.text, name, &words);
        sheet.words(what, y + 13.0, SMALL, colours.dim, 76.0, &one.what);
        let part = one.net.unsigned_abs() as f64 / largest as f64 * width / 2.0;
        match one.net < 0 {
            true => sheet.drawing.rect(middle - part, y + 3.0, part, 13.0, colours.bar),
            false => sheet.drawing.rect(middle, y + 3.0, part, 13.0, colours.mark),
        }
        let sign = if one.net < 0 { "-" } else { "+" };
        let words = format!("{sign}{}", sheet.bytes(Bytes::new(one.net.unsigned_abs())));
        sheet.words_right(right, y + 13.0, PLAIN, colours.text, &words);
    }
    let bottom = area.y + lines.len() as f64 * line;
    sheet.drawing.line((middle, area.y), (middle, bottom), colours.dim, 0.8);
    let y = area.y + height - 8.0;
    sheet.legend(area.x, y, &[(colours.bar, "less than before"), (colours.mark, "more")]);
    if more > 0 {
        let words = format!("{} more changes", grouped(more as u64));
        sheet.words_right(right, y, SMALL, colours.dim, &words);
    }
    sheet.finish()
}
