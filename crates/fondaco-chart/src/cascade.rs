//! The cascade: entries in order of size, each bar beginning where the one above ended.

use fondaco_core::catalog::{EntryId, Order, Seen};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted, grouped};

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet, percent};

/// Draws what is shown of a directory, as many entries as are asked for and the rest in one.
pub fn cascade(seen: Seen<'_>, at: EntryId, entries: usize, context: &Context) -> Chart {
    let catalog = seen.catalog();
    let ranking = seen.ranking(at, Order::Allocated, entries.max(1));
    let whole = seen.allocated(at);
    let mut rows: Vec<(String, Bytes, u64)> = ranking
        .rows
        .iter()
        .map(|id| {
            let slash = if catalog.is_directory(*id) { "/" } else { "" };
            let name = format!("{}{slash}", shown(catalog.name(*id)));
            (name, seen.allocated(*id), seen.entries(*id))
        })
        .collect();
    if ranking.tail.children > 0 {
        let name = format!("{} more", grouped(ranking.tail.children));
        rows.push((name, ranking.tail.allocated, ranking.tail.entries));
    }
    let line = 19.0;
    let note = format!(
        "{} in {}. Each bar begins where the one above ended: the stairs show how soon the sum nears the whole.",
        whole.shown(context.units),
        counted(seen.entries(at), "entry")
    );
    let height = rows.len() as f64 * line + 22.0;
    let (mut sheet, area) = Sheet::new(context, "What fills this directory", &note, Some(height));
    let colours = sheet.colours;
    let name = (area.width * 0.3).min(240.0);
    let (bytes, share) = (area.x + name + 70.0, area.x + name + 122.0);
    let (begin, width) = (share + 14.0, area.x + area.width - share - 14.0);
    if rows.is_empty() {
        sheet.nothing(area);
        return sheet.finish();
    }
    sheet.scale((begin, width), (area.y + 6.0, area.y + height), 1.0);
    let mut before = Bytes::ZERO;
    for (number, (words, allocated, _)) in rows.iter().enumerate() {
        let y = area.y + 18.0 + number as f64 * line;
        let base = y + 11.0;
        sheet.words(area.x, base, PLAIN, colours.text, name, words);
        let size = sheet.bytes(*allocated);
        sheet.words_right(bytes, base, PLAIN, colours.text, &size);
        sheet.words_right(share, base, SMALL, colours.dim, &percent(*allocated, whole));
        let from = before.share_of(whole) * width;
        let long = (allocated.share_of(whole) * width).max(0.6);
        sheet.drawing.rect(begin + from, y, long, 14.0, colours.bar);
        before += *allocated;
    }
    sheet.finish()
}
