//! The map: areas within areas, shaded by age.

use fondaco_core::analysis::{self, AreaOf, MapShape, Place};
use fondaco_core::catalog::{EntryId, Seen};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, grouped};

use crate::breakdown::ages_legend;
use crate::chart::{Chart, Context, SMALL, Sheet};
use crate::colours::is_dark;
use crate::text;

/// Draws what is shown of a directory to its full depth.
pub fn map(seen: Seen<'_>, at: EntryId, context: &Context) -> Chart {
    let catalog = seen.catalog();
    let note = format!(
        "{} in {} entries. Areas are as large as the bytes on disk, and the {}er the older half of them is.",
        seen.allocated(at).shown(context.units),
        grouped(seen.entries(at)),
        context.look.strongest()
    );
    let (mut sheet, area) = Sheet::new(context, "Where it lies", &note, None);
    // where the legend does not fit a line, its second part stands above the first
    let narrow = area.width < 700.0;
    let height = area.height - if narrow { 36.0 } else { 22.0 };
    let whole = Place { x: area.x, y: area.y, width: area.width, height };
    let shape = MapShape {
        whole,
        tallness: 1.0,
        margin: (5.0, 13.0, 1.5, 1.5),
        least: (4.0, 4.0),
        least_open: (36.0, 30.0),
    };
    let colours = sheet.colours;
    if seen.allocated(at) == Bytes::ZERO {
        sheet.nothing(area);
        return sheet.finish();
    }
    for found in analysis::map(seen, at, &shape) {
        let Place { x, y, width, height } = found.place;
        let (width, height) = (width - 1.2, height - 1.2);
        let (name, opened) = match found.of {
            AreaOf::Entry { id, opened } => {
                let slash = if catalog.is_directory(id) { "/" } else { "" };
                (format!("{}{slash}", shown(catalog.name(id))), opened)
            }
            AreaOf::Rest { count, .. } => (format!("{} small ones", grouped(count)), false),
        };
        let size = if found.level == 0 { 10.0 } else { 8.0 };
        if opened {
            // no frame: a rule at the left, and a line for the name
            sheet.drawing.rect(x, y + 11.0, 1.2, height - 11.0, colours.mark);
            let bytes = sheet.bytes(found.bytes);
            sheet.words(x, y + 9.0, size, colours.text, width - 2.0, &format!("{name}  {bytes}"));
            continue;
        }
        let rest = matches!(found.of, AreaOf::Rest { .. });
        let shade = if rest { colours.rule } else { colours.ages[found.age.min(7)] };
        sheet.drawing.rect(x, y, width, height, shade);
        let words = text::cut(&name, size, width - 4.0);
        // a few letters of a name tell nothing
        if height >= size + 3.0 && words.chars().count() >= name.chars().count().min(6) {
            let ink = if is_dark(shade) { "#ffffff" } else { "#101820" };
            sheet.words(x + 2.0, y + size, size, ink, width - 3.0, &words);
            if height >= 2.0 * size + 6.0 {
                let bytes = text::cut(&sheet.bytes(found.bytes), size, width - 4.0);
                sheet.words(x + 2.0, y + 2.0 * size + 2.0, size, ink, width - 3.0, &bytes);
            }
        }
    }
    let y = area.y + area.height - 4.0;
    sheet.words(area.x, y, SMALL, colours.dim, 60.0, "written");
    let x = ages_legend(&mut sheet, area.x + 46.0, y);
    let (x, y) = if narrow { (area.x + 46.0, y - 14.0) } else { (x, y) };
    sheet.legend(x, y, &[(colours.rule, "small ones"), (colours.mark, "what a directory holds")]);
    sheet.finish()
}
