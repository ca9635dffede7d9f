//! What is known about the selected classes of size and age.

use fondaco_core::analysis::Cell;
use fondaco_core::units::grouped;

use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet};

/// Classes of size and age.
pub(super) fn of_classes(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let ages = &model.rooms.ages;
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
