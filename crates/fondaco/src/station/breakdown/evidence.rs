//! What is known about the selected slice.

use fondaco_core::analysis::{Classes, Slice};
use fondaco_core::catalog::AGE_CLASSES;
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, grouped};

use super::selected;
use super::view::slice_name;
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet, growth_words};

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
    add_growth(model, slice, &mut sheet);
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

/// By how much the slice has changed since an earlier scan, if that is shown.
fn add_growth(model: &Model, slice: &Slice, sheet: &mut Sheet) {
    let slices = &model.growth.slices;
    let (Some(both), true) = (&model.growth.compared, model.growth.shown) else { return };
    if slices.by != Some(model.rooms.breakdown.by) {
        return;
    }
    let grown = slices.bytes.get(&slice.key).copied().unwrap_or(0);
    let since = both.earlier.1.local();
    sheet.fact("change", format!("{} since {since}", growth_words(model, Some(grown))));
    if let Some(days) = both.days().filter(|_| grown != 0) {
        let a_day = (grown as f64 / days) as i64;
        sheet.fact("a day", growth_words(model, Some(a_day)));
    }
}
