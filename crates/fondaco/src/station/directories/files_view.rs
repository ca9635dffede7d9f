//! The list of files.

use fondaco_core::analysis::{AgeBy, FileOrder};
use fondaco_core::shown::shown;
use fondaco_core::units::counted;
use ratatui::layout::Rect;

use crate::frame::model::Model;
use crate::frame::view::{Pen, file_list};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let state = &model.rooms.directories;
    let whole = state.files.list.whole;
    let columns = file_list::Columns::of(area, state.files_order);
    file_list::heading(pen, area.y, &columns, AgeBy::Written, state.files_order);
    let order = match state.files_order {
        FileOrder::Allocated => "largest first",
        FileOrder::Age => "oldest first",
        FileOrder::ByteYears => "by byte-years",
    };
    let listed = state.files.list.first.len() as u64;
    let more = match whole.entries.saturating_sub(listed) {
        0 => String::new(),
        _ => format!(", the first {listed} listed"),
    };
    let title = format!(
        "{} below {}, {order}{more}",
        counted(whole.entries, "file"),
        shown(&model.place.path)
    );
    let left = area.right().saturating_sub(columns.path);
    pen.text(columns.path, area.y, &title, theme.brass, left);
    if whole.entries == 0 {
        let text = match (state.files_awaited, model.lens.text.is_empty()) {
            (true, _) => "looking …",
            (false, true) => "There is no file below this directory.",
            (false, false) => "No file passes the lens: a shows all again.",
        };
        pen.text(columns.path, area.y + 2, text, theme.dim, left);
        return;
    }
    let below = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
    file_list::rows(model, pen, below, &columns, &state.files, true);
}
