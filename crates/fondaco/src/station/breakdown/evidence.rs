//! What is known about the selected slice.

use fondaco_core::analysis::Classes;
use fondaco_core::catalog::AGE_CLASSES;
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, grouped};

use super::selected;
use super::view::slice_name;
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet};

/// A slice of the breakdown.
pub(super) fn of_slice(model: &Model, pen: &Pen<'_>) -> Sheet {
    let mut sheet = Sheet::default();
    let Some(slice) = selected(model) else { return sheet };
    let name = slice_name(model, slice);
    let text =
        format!("{name}: {}. Enter narrows the lens to it.", model.bytes(slice.sum.allocated));
    sheet.verdict = Some((text, pen.theme.plain));
    let whole = model.rooms.breakdown.found.as_ref().map(|found| found.whole);
    let whole = whole.unwrap_or_default();
    sheet.fact("entries", grouped(slice.sum.entries));
    let share = slice.sum.allocated.share_of(whole.allocated) * 100.0;
    sheet.fact("share", format!("{share:.1} % of {}", model.bytes(whole.allocated)));
    sheet.fact("largest", model.bytes(slice.largest_allocated));
    if let Some(path) = &model.rooms.breakdown.largest {
        sheet.fact("it lies in", shown(path));
    }
    if let Some(found) = &model.rooms.breakdown.found {
        sheet.fact("lens", shown(found.term(slice)));
    }
    sheet.list_title = "by age of the last writing";
    let classes = Classes::default();
    let words = (0..AGE_CLASSES).map(|class| classes.age_words(class));
    sheet.list = words
        .zip(slice.profile)
        .filter(|(_, bytes)| *bytes > 0.0)
        .map(|(words, bytes)| (words, model.bytes(Bytes::new(bytes as u64))))
        .collect();
    sheet
}
