//! How full volumes are, and how full they should be.

use fondaco_core::units::Bytes;

use crate::chart::{Chart, Context, PLAIN, SMALL, Sheet};

/// How full one volume is, and where its waterline lies.
#[derive(Clone, Debug)]
pub struct Level {
    /// Where it is mounted, in its display form.
    pub name: String,
    /// Bytes in use.
    pub used: Bytes,
    /// Bytes that can be used in all.
    pub capacity: Bytes,
    /// In use of what can be, from 0 to 1.
    pub level: f64,
    /// The level that it should be below, from 0 to 1.
    pub waterline: f64,
}

/// Draws volumes, one below the other.
pub fn levels(volumes: &[Level], context: &Context) -> Chart {
    let line = 27.0;
    let height = volumes.len() as f64 * line + 36.0;
    let above = volumes.iter().filter(|volume| volume.level > volume.waterline).count();
    let note = match above {
        0 => "All are below their waterlines.".to_owned(),
        n => format!("{n} of {} above the waterline.", volumes.len()),
    };
    let (mut sheet, area) = Sheet::new(context, "How full the volumes are", &note, Some(height));
    let colours = sheet.colours;
    let name = (area.width * 0.3).min(230.0);
    let level = area.x + name + 56.0;
    let (begin, width) = (level + 14.0, area.x + area.width - level - 14.0 - 150.0);
    if volumes.is_empty() {
        sheet.words(area.x, area.y + 24.0, PLAIN, colours.text, area.width, "No volume answers.");
        return sheet.finish();
    }
    for (number, volume) in volumes.iter().enumerate() {
        let y = area.y + number as f64 * line;
        let base = y + 13.0;
        let over = volume.level > volume.waterline;
        let words = crate::text::cut_path(&volume.name, PLAIN, name);
        sheet.words(area.x, base, PLAIN, colours.text, name, &words);
        let ink = if over { colours.trouble } else { colours.text };
        let percent = format!("{}{:.1} %", if over { "! " } else { "" }, volume.level * 100.0);
        sheet.words_right(level, base, PLAIN, ink, &percent);
        sheet.drawing.rect(begin, y + 1.0, width, 16.0, colours.rule);
        let below = volume.level.min(volume.waterline).clamp(0.0, 1.0) * width;
        sheet.drawing.rect(begin, y + 1.0, below, 16.0, colours.bar);
        if over {
            let more = (volume.level.min(1.0) - volume.waterline) * width;
            sheet.drawing.rect(begin + below, y + 1.0, more, 16.0, colours.trouble);
        }
        let x = begin + volume.waterline * width;
        sheet.drawing.line((x, y - 2.0), (x, y + 20.0), colours.text, 1.4);
        let words = format!("{} of {}", sheet.bytes(volume.used), sheet.bytes(volume.capacity));
        sheet.words_right(area.x + area.width, base, SMALL, colours.dim, &words);
    }
    let y = area.y + height - 8.0;
    let trouble = colours.trouble;
    let fields =
        [(colours.bar, "in use"), (trouble, "above the waterline"), (colours.text, "waterline")];
    sheet.legend(area.x, y, &fields);
    sheet.finish()
}
