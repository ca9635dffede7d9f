//! The lens: on the rule above the last two lines when it is set, and with its offers while it is typed.

use fondaco_core::shown::shown;
use fondaco_core::units::grouped;
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::pen::{self, Pen};
use crate::fit::cut;
use crate::frame::model::{Model, Typing};

/// On the rule: the lens, and the part that passes of the whole.
pub(super) fn on_rule(model: &Model, pen: &mut Pen<'_>, line: Rect) {
    let lens = &model.lens;
    if lens.text.is_empty() {
        return;
    }
    let theme = pen.theme;
    let part = part(model);
    let left = line.width.saturating_sub(part.width() as u16 + 14);
    let text = format!(" lens  {} ", cut(&shown(&lens.text), usize::from(left)));
    let x = pen.text(line.x + 2, line.y, &text, theme.brass, line.width - 4);
    pen.text(x + 1, line.y, &format!(" {part} "), theme.plain, line.right().saturating_sub(x + 1));
}

fn part(model: &Model) -> String {
    let lens = &model.lens;
    let Some(selection) = lens.selection.as_ref().filter(|_| !lens.waiting) else {
        return if model.scan.catalog.is_some() { "choosing …".into() } else { String::new() };
    };
    let here = &model.place;
    if !model.station.room().shows_scan() {
        return format!("{} entries pass", grouped(selection.len()));
    }
    format!(
        "{} of {} entries · {} of {}",
        grouped(here.entries),
        grouped(here.all.1),
        model.bytes(here.whole),
        model.bytes(here.all.0)
    )
}

/// The line in which it is typed; what is wrong with it stands behind.
pub(super) fn typing(model: &Model, pen: &mut Pen<'_>, line: Rect) -> bool {
    let Some(typing) = &model.lens.typing else { return false };
    let theme = pen.theme;
    let said = typing.error.as_ref().map_or(0, |error| error.to_string().width().min(40) + 6);
    let width = usize::from(line.width.saturating_sub(9)).saturating_sub(said);
    let text = format!("lens  {}", pen::typed(&typing.text, width));
    let x = pen.text(line.x + 1, line.y, &text, theme.brass, line.width - 2);
    let left = line.right().saturating_sub(x + 3);
    match &typing.error {
        Some(error) => pen.text(x + 3, line.y, &format!("! {error}"), theme.trouble, left),
        None => {
            let keys = "Tab completes · ↑ ↓ choose · Enter keeps it · Esc leaves it as it was";
            pen.text(x + 3, line.y, keys, theme.dim, left)
        }
    };
    true
}

/// How it could go on, in lines above the one in which it is typed.
pub(super) fn offers(model: &Model, pen: &mut Pen<'_>, panel: Rect) {
    let Some(Typing { offers, cursor, .. }) = &model.lens.typing else { return };
    if offers.is_empty() {
        return;
    }
    let theme = pen.theme;
    let visible = usize::from(panel.height.saturating_sub(3)).min(16).min(offers.len());
    let first = cursor.map_or(0, |cursor| (cursor + 1).saturating_sub(visible));
    let label = offers.iter().map(|offer| offer.label.width()).max().unwrap_or(0).min(34) as u16;
    let width = panel.width.min(96);
    let height = visible as u16 + 1;
    let area = Rect::new(panel.x, panel.bottom().saturating_sub(height), width, height);
    pen.clear(area);
    let more = match offers.len() - visible {
        0 => String::new(),
        n => format!(" and {n} more "),
    };
    pen.fill(Rect { height: 1, ..area }, "─", theme.brass);
    pen.text(area.x + 2, area.y, &more, theme.dim, area.width);
    for (i, offer) in offers.iter().enumerate().skip(first).take(visible) {
        let y = area.y + 1 + (i - first) as u16;
        let here = *cursor == Some(i);
        let (text, quiet) = match here {
            true => (theme.selected, theme.selected),
            false => (theme.plain, theme.dim),
        };
        if here {
            pen.fill(Rect { y, height: 1, ..area }, " ", theme.selected);
        }
        let mark = if here { "▸" } else { " " };
        pen.text(area.x + 1, y, &format!("{mark} {}", offer.label), text, label + 2);
        let left = area.right().saturating_sub(area.x + label + 6);
        pen.text(area.x + label + 5, y, &offer.help, quiet, left);
    }
}
