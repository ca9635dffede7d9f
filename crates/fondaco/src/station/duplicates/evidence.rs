//! What is known about the selected pair of trees or set of equal files.

use fondaco_core::duplicates::Count;
use fondaco_core::shown::shown;
use fondaco_core::units::{counted, grouped};

use super::{selected_pair, selected_set};
use crate::frame::model::Model;
use crate::frame::view::{Pen, Sheet, dated};

pub(super) fn of_selected(model: &Model, pen: &Pen<'_>) -> Sheet {
    let open = model.rooms.duplicates.open.as_ref().map(|(open, _)| &open.pair);
    if let Some(pair) = selected_pair(model).or(open) {
        let row = &pair.contained;
        let missing = row.only_here.files + row.differs.files;
        let (text, style) = match missing {
            _ if open.is_some() && missing > 0 => (
                "These stay where they are when the copies in the tree go.".to_owned(),
                pen.theme.amber,
            ),
            0 => {
                let text = format!("All of it is in {} too.", shown(&pair.within));
                (text, pen.theme.teal)
            }
            _ => {
                let files = counted(missing, "file");
                let text = format!(
                    "Not there: {files}, which Enter lists. Space plans only what is there."
                );
                (text, pen.theme.amber)
            }
        };
        let mut sheet = Sheet::of_verdict(text, style);
        let count = |count: Count| {
            format!("{} · {}", counted(count.files, "file"), model.bytes(count.bytes))
        };
        sheet.fact("tree", shown(&pair.tree));
        sheet.fact("is in", shown(&pair.within));
        sheet.fact("same path", count(row.same));
        sheet.fact("elsewhere", count(row.elsewhere));
        sheet.fact("only here", count(row.only_here));
        sheet.fact("differs", count(row.differs));
        sheet.fact("newer here", grouped(row.newer_here));
        sheet.fact("relief", model.bytes(row.relief));
        return sheet;
    }
    if let Some(set) = selected_set(model) {
        let stays = set.copies.first().map(|copy| shown(&copy.below_root)).unwrap_or_default();
        let text = format!("{stays} stays ({}).", set.arranged.why);
        let mut sheet = Sheet::of_verdict(text, pen.theme.teal);
        sheet.fact("length", model.bytes(set.arranged.length));
        sheet.fact("copies", grouped(set.copies.len() as u64));
        sheet.fact("relief", model.bytes(set.arranged.relief));
        for (place, copy) in set.copies.iter().enumerate() {
            let mark = if place == 0 { "● stays" } else { "○ goes" };
            sheet.fact(mark, shown(&copy.below_root));
            sheet.fact("", dated(model, copy.written));
            if copy.names > 1 {
                sheet.fact("", counted(u64::from(copy.names), "name"));
            }
        }
        return sheet;
    }
    Sheet::default()
}
