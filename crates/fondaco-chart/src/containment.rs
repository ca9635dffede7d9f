//! Which trees are contained in which, and what equal files take.

use fondaco_core::units::{Bytes, grouped, share_words};

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet};
use crate::text;

/// A tree, and the one that holds much of it.
#[derive(Clone, Debug)]
pub struct ContainedLine {
    /// Display form of its path.
    pub tree: String,
    /// Display form of the other's path.
    pub within: String,
    /// The share of its bytes that is there, from 0 to 1.
    pub share: f64,
    /// Bytes on disk that go if the copies in the tree go.
    pub relief: Bytes,
}

/// Draws pairs of trees, one below the other. `sets` are how many sets of equal files there are, `relief` is what goes if
/// of each set one file stays, `more` says how many pairs are not among the lines.
pub fn containment(
    lines: &[ContainedLine],
    more: usize,
    sets: u64,
    relief: Bytes,
    context: &Context,
) -> Chart {
    let line = 32.0;
    let height = lines.len().max(1) as f64 * line + 36.0;
    let note = format!(
        "{} sets of equal files; {} go if one of each set stays.",
        grouped(sets),
        relief.shown(context.units)
    );
    let title = "Which trees are contained in which";
    let (mut sheet, area) = Sheet::new(context, title, &note, Some(height));
    let colours = sheet.colours;
    let right = area.x + area.width;
    let name = area.width * 0.5;
    let (percent, begin) = (area.x + name + 62.0, area.x + name + 74.0);
    let width = right - begin - 84.0;
    if lines.is_empty() {
        let words = "No tree holds much of what is in another one.";
        sheet.words(area.x, area.y + 20.0, PLAIN, colours.text, area.width, words);
        return sheet.finish();
    }
    for (number, one) in lines.iter().enumerate() {
        let y = area.y + number as f64 * line;
        let tree = text::cut_path(&one.tree, PLAIN, name);
        sheet.words(area.x, y + 11.0, PLAIN, colours.text, name, &tree);
        let within = text::cut_path(&one.within, SMALL, name - 20.0);
        let within = format!("is in {within}");
        sheet.words(area.x + 10.0, y + 22.0, SMALL, colours.dim, name, &within);
        sheet.words_right(percent, y + 14.0, PLAIN, colours.text, &share_words(one.share));
        sheet.drawing.rect(begin, y + 3.0, width, 14.0, colours.rule);
        sheet.drawing.rect(begin, y + 3.0, width * one.share.clamp(0.0, 1.0), 14.0, colours.bar);
        let words = sheet.bytes(one.relief);
        sheet.words_right(right, y + 14.0, PLAIN, colours.text, &words);
    }
    let y = area.y + height - 8.0;
    let fields = [(colours.bar, "of its bytes there too"), (colours.rule, "only in the tree")];
    sheet.legend(area.x, y, &fields);
    let mut words = "on the right: bytes on disk that go with the copies in the tree".to_owned();
    if more > 0 {
        words = format!("{words} · {} more pairs", grouped(more as u64));
    }
    sheet.words_right(right, y, SMALL, colours.dim, &words);
    sheet.finish()
}
