//! Evidence about many entries at once: classes of the matrix, slices of a breakdown.

use fondaco_core::analysis::{Cell, Classes};
use fondaco_core::catalog::AGE_CLASSES;
use fondaco_core::shown::shown;
use fondaco_core::units::grouped;

use super::breakdown::slice_name;
use super::evidence::Sheet;
use super::pen::Pen;
use crate::app::model::Model;

/// Classes of size and age.
pub(super) fn of_classes(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let ages = &model.looking.ages;
    let (Some(matrix), Some(block)) = (&ages.matrix, ages.block()) else { return sheet };
    let mut sum = Cell::default();
    for size in block.sizes.clone() {
        let row = matrix.cells[size].iter().chain(&matrix.not_known[size..=size]);
        for (_, cell) in row.enumerate().filter(|(age, _)| block.ages.contains(age)) {
            sum.entries += cell.entries;
            sum.allocated += cell.allocated;
        }
    }
    let files = ages.files.list.whole;
    let text = format!(
        "{} in {} files. Enter narrows the lens to them, A plans them all.",
        model.bytes(files.allocated),
        grouped(files.entries)
    );
    sheet.verdict = Some((text, pen.theme.plain));
    let classes = &block.classes;
    let span = |from: String, to: String| if from == to { from } else { format!("{from} to {to}") };
    let size = |class| classes.size_words(class, model.units);
    sheet.fact("size", span(size(*block.sizes.start()), size(*block.sizes.end())));
    let age = |class| classes.age_words(class);
    sheet.fact("age", span(age(*block.ages.start()), age(*block.ages.end())));
    sheet.fact("allocated", model.bytes(sum.allocated));
    let whole = matrix.whole();
    let share = sum.allocated.share_of(whole.allocated) * 100.0;
    sheet.fact("share", format!("{share:.1} % of {}", model.bytes(whole.allocated)));
    sheet.fact("entries", grouped(sum.entries));
    sheet.fact("directories", grouped(sum.entries.saturating_sub(files.entries)));
    let share = sum.entries as f64 / whole.entries.max(1) as f64 * 100.0;
    sheet.fact("of entries", format!("{share:.1} % of {}", grouped(whole.entries)));
    sheet
}

/// A slice of the breakdown.
pub(super) fn of_slice(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let Some(slice) = model.selected_slice() else { return sheet };
    let name = slice_name(model, slice);
    let text =
        format!("{name}: {}. Enter narrows the lens to it.", model.bytes(slice.sum.allocated));
    sheet.verdict = Some((text, pen.theme.plain));
    let whole = model.looking.breakdown.found.as_ref().map(|found| found.whole);
    let whole = whole.unwrap_or_default();
    sheet.fact("entries", grouped(slice.sum.entries));
    let share = slice.sum.allocated.share_of(whole.allocated) * 100.0;
    sheet.fact("share", format!("{share:.1} % of {}", model.bytes(whole.allocated)));
    sheet.fact("largest", model.bytes(slice.largest_allocated));
    if let Some(path) = &model.looking.breakdown.largest {
        sheet.fact("it lies in", shown(path));
    }
    sheet.fact("lens", shown(slice.key.term()));
    sheet.list_title = "by age of the last writing";
    let classes = Classes::default();
    let words = (0..AGE_CLASSES).map(|class| classes.age_words(class));
    sheet.list = words
        .zip(slice.profile)
        .filter(|(_, bytes)| *bytes > 0.0)
        .map(|(words, bytes)| (words, model.bytes(fondaco_core::units::Bytes::new(bytes as u64))))
        .collect();
    sheet
}
