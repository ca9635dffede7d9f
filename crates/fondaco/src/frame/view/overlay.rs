//! What stands in front of a station: a choice, a question, the palette, the help.

use fondaco_core::plan::Deed;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, grouped};
use ratatui::layout::Rect;

use super::pen::{self, Pen};
use crate::fit::wrap;
use crate::frame::commands::available;
use crate::frame::geometry::{folded, last_offset, listing_room};
use crate::frame::model::{Model, Overlay, SavedRow};
use crate::frame::{Field, deed_key, palette_rows};

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, panel: Rect) {
    match &model.overlay {
        None => {}
        Some(Overlay::ChooseDeed { name, deeds, held, bytes, cursor, .. }) => {
            let named = if held.is_some() { format!("the deleted {name}") } else { name.clone() };
            choose_deed(model, pen, panel, &named, deeds, *bytes, *cursor);
        }
        Some(Overlay::ChooseForMany { named, bytes, deeds, cursor, .. }) => {
            choose_deed(model, pen, panel, named, deeds, *bytes, *cursor);
        }
        Some(Overlay::Ask { sentence, typed, error, offers, .. }) => {
            ask(pen, panel, sentence, typed, error.as_deref(), offers);
        }
        Some(Overlay::Saved { rows, cursor, forgets }) => {
            saved(model, pen, panel, rows.as_deref(), *cursor, *forgets);
        }
        Some(Overlay::Palette { typed, cursor }) => palette(model, pen, panel, typed, *cursor),
        Some(Overlay::Listing { title, lines, offset }) => {
            // lines may be long: it takes the whole width
            let wide = Rect { x: 0, width: pen.area().width, ..panel };
            listing(pen, wide, title, lines, *offset);
        }
        Some(Overlay::Help { offset }) => help(model, pen, panel, *offset),
    }
}

/// A cleared area in the middle of the panel, with a brass rule above and below; no box. It never
/// covers the gauge, and grows beyond a low panel only as far as it must.
fn sheet(pen: &mut Pen<'_>, panel: Rect, width: u16, height: u16) -> Rect {
    let width = width.min(panel.width);
    let most = pen.area().height.saturating_sub(panel.y);
    let height = (height + 2).min(most);
    let y = panel.y + panel.height.saturating_sub(height) / 2;
    let outer = Rect::new(panel.x + (panel.width - width) / 2, y, width, height);
    pen.clear(outer);
    let style = pen.theme.brass;
    pen.fill(Rect { height: 1, ..outer }, "─", style);
    pen.fill(Rect { y: outer.bottom() - 1, height: 1, ..outer }, "─", style);
    Rect::new(outer.x + 2, outer.y + 1, outer.width.saturating_sub(4), outer.height - 2)
}

fn choose_deed(
    model: &Model,
    pen: &mut Pen<'_>,
    panel: Rect,
    name: &str,
    deeds: &[Deed],
    bytes: Bytes,
    cursor: usize,
) {
    let theme = pen.theme;
    let area = sheet(pen, panel, 92, deeds.len() as u16 + 5);
    pen.text(area.x, area.y, &format!("Do what with {name}?"), theme.plain, area.width);
    let when = "Nothing happens until the plan is carried out.";
    pen.text(area.x, area.y + 1, when, theme.dim, area.width);
    let size = model.bytes(bytes);
    for (i, deed) in deeds.iter().enumerate() {
        let y = area.y + 3 + i as u16;
        let chosen = i == cursor;
        let style = if chosen { theme.selected } else { theme.plain };
        let key = deed_key(deed);
        let effect = match deed {
            Deed::SetAside => format!("frees {size} once purged; can be put back"),
            Deed::Archive { depot } if on_own_volume(model, depot) => {
                let depot = Shown(depot);
                format!("frees what packing saves; kept on the same volume, in {depot}")
            }
            Deed::Archive { depot } => {
                format!("frees {size}; kept in {}", Shown(depot))
            }
            Deed::Move { .. } => {
                format!("frees {size} if it goes to another volume; can be put back")
            }
            Deed::Link => format!("frees {size}; one file under both names; can be put back"),
            Deed::Share => format!("frees {size}; the same blocks in both; can be put back"),
            Deed::Delete => format!("frees {size}; cannot be put back"),
            Deed::Restore { .. } => "frees nothing; goes back to where it was".to_owned(),
            Deed::RemovePackages => {
                format!("frees {size}; the package manager does it, and installs them again")
            }
            Deed::RemoveObject => format!("removes {size} from its store, for good"),
            Deed::VacuumJournal => format!("frees {size}; the journal's program does it, for good"),
            Deed::End { by_force: false } => {
                format!("frees {size}; asked to end (TERM)")
            }
            Deed::Save { .. } => format!("frees {size}; saved as a file, it goes on"),
            Deed::Cut => format!("frees {size}; contents lost, it goes on"),
            Deed::End { by_force: true } => {
                format!("frees {size}; KILL: it can save nothing")
            }
        };
        let mark = if chosen { "▸" } else { " " };
        let line = format!("{mark} {key}  {:<12} {effect}", deed.word());
        if chosen {
            pen.fill(Rect::new(area.x, y, area.width, 1), " ", style);
        }
        pen.text(area.x, y, &line, style, area.width);
    }
    let letters: Vec<String> = deeds.iter().map(|deed| deed_key(deed).to_string()).collect();
    let keys = format!("{} chooses; ↑ ↓ and Enter too; Esc leaves it alone", letters.join(", "));
    pen.text(area.x, area.y + 4 + deeds.len() as u16, &keys, theme.dim, area.width);
}

/// Whether a depot lies on the volume that is being relieved.
fn on_own_volume(model: &Model, depot: &std::path::Path) -> bool {
    let of = |volume: &fondaco_core::volume::Volume| volume.mount_point.clone();
    let own = model.gauge_volume().map(of);
    own.is_some() && model.volume_of(depot).map(of) == own
}

fn ask(
    pen: &mut Pen<'_>,
    panel: Rect,
    sentence: &str,
    typed: &Field,
    error: Option<&str>,
    offers: &[String],
) {
    let theme = pen.theme;
    let width = 84.min(panel.width.saturating_sub(4));
    let lines = wrap(sentence, usize::from(width)).len() as u16;
    let offered = if offers.is_empty() { 0 } else { offers.len() as u16 + 1 };
    let area = sheet(pen, panel, width + 4, lines + 5 + offered);
    pen.wrapped(area, sentence, theme.plain);
    let y = area.y + lines + 1;
    let typing = format!("▸ {}", pen::typed(typed, usize::from(area.width.saturating_sub(2))));
    pen.text(area.x, y, &typing, theme.brass, area.width);
    match error {
        Some(error) => pen.text(area.x, y + 2, &format!("! {error}"), theme.trouble, area.width),
        None => pen.text(
            area.x,
            y + 2,
            "Enter answers; Esc leaves everything as it is",
            theme.dim,
            area.width,
        ),
    };
    for (i, offer) in offers.iter().enumerate() {
        let style = if typed.text() == offer { theme.selected } else { theme.dim };
        pen.text(area.x + 2, y + 4 + i as u16, &shown(offer), style, area.width - 2);
    }
}

fn saved(
    model: &Model,
    pen: &mut Pen<'_>,
    panel: Rect,
    rows: Option<&[SavedRow]>,
    cursor: usize,
    forgets: Option<u64>,
) {
    let theme = pen.theme;
    let count = rows.map_or(0, <[SavedRow]>::len);
    let height = (count as u16).saturating_add(4).min(panel.height.saturating_sub(2)).max(6);
    let area = sheet(pen, panel, 110, height);
    let (title, style) = match forgets {
        None => ("saved scans: Enter opens, Delete forgets, Esc closes".to_owned(), theme.brass),
        Some(number) => {
            let what = format!("Delete once more forgets scan {number} for good");
            (format!("{what}; any other key keeps it"), theme.trouble)
        }
    };
    pen.text(area.x, area.y, &title, style, area.width);
    let Some(rows) = rows else {
        pen.text(area.x, area.y + 2, "looking …", theme.dim, area.width);
        return;
    };
    if rows.is_empty() {
        let none = "None yet: every scan that goes to its end here is saved.";
        pen.text(area.x, area.y + 2, none, theme.dim, area.width);
        return;
    }
    let head = [(5, "scan"), (14, "age"), (26, "entries"), (39, "allocated"), (50, "file")];
    for (x, word) in head {
        pen.text_right(area.x + x, area.y + 2, word, theme.dim);
    }
    pen.text(area.x + 53, area.y + 2, "what", theme.dim, area.width.saturating_sub(53));
    let visible = usize::from(area.height.saturating_sub(3));
    let offset = (cursor + 1).saturating_sub(visible);
    for (i, row) in rows.iter().enumerate().skip(offset).take(visible) {
        let y = area.y + 3 + (i - offset) as u16;
        let style = if i == cursor { theme.selected } else { theme.plain };
        if i == cursor {
            pen.fill(Rect::new(area.x, y, area.width, 1), " ", style);
        }
        pen.text_right(area.x + 5, y, &row.number.to_string(), style);
        let about = match &row.about {
            Ok(about) => about,
            Err(reason) => {
                pen.text(area.x + 8, y, &reason.to_string(), style, area.width.saturating_sub(8));
                continue;
            }
        };
        pen.text_right(area.x + 14, y, &about.scanned.age(model.now).to_string(), style);
        pen.text_right(area.x + 26, y, &grouped(about.entries), style);
        pen.text_right(area.x + 39, y, &model.bytes(about.allocated), style);
        pen.text_right(area.x + 50, y, &model.bytes(about.file), style);
        let roots: Vec<String> = about.roots.iter().map(shown).collect();
        let stopped = if about.complete { "" } else { " (stopped)" };
        let what = format!("{}{stopped}", roots.join("  "));
        pen.text(area.x + 53, y, &what, style, area.width.saturating_sub(53));
    }
}

fn palette(model: &Model, pen: &mut Pen<'_>, panel: Rect, typed: &str, cursor: usize) {
    let theme = pen.theme;
    let rows = palette_rows(model, typed);
    let height = (rows.len() as u16 + 2).min(panel.height.saturating_sub(2)).max(6);
    let area = sheet(pen, panel, 92, height);
    pen.text(area.x, area.y, &format!("all commands: {}▏", shown(typed)), theme.brass, area.width);
    if rows.is_empty() {
        pen.text(
            area.x,
            area.y + 2,
            "No command here fits; Backspace widens.",
            theme.dim,
            area.width,
        );
    }
    let visible = usize::from(area.height.saturating_sub(2));
    let offset = (cursor + 1).saturating_sub(visible);
    for (i, row) in rows.iter().enumerate().skip(offset).take(visible) {
        let y = area.y + 2 + (i - offset) as u16;
        let chosen = i == cursor;
        let (style, quiet) =
            if chosen { (theme.selected, theme.selected) } else { (theme.plain, theme.dim) };
        if chosen {
            pen.fill(Rect::new(area.x, y, area.width, 1), " ", style);
        }
        let key = row.keys.first().map(ToString::to_string).unwrap_or_default();
        pen.text_right(area.x + 7, y, &key, style);
        pen.text(area.x + 9, y, row.name, style, 16);
        pen.text(area.x + 26, y, row.help, quiet, area.width.saturating_sub(26));
    }
}

fn help(model: &Model, pen: &mut Pen<'_>, panel: Rect, offset: usize) {
    let theme = pen.theme;
    let rows: Vec<_> = available(model).collect();
    let height = (rows.len() as u16 + 2).min(panel.height.saturating_sub(2));
    let area = sheet(pen, panel, 96, height);
    let visible = usize::from(area.height.saturating_sub(2));
    let offset = offset.min(rows.len().saturating_sub(visible));
    let more = if rows.len() > visible { "; ↑ ↓ show more" } else { "" };
    let title = format!("What works in {}; any other key closes{more}", model.station.name());
    pen.text(area.x, area.y, &title, theme.brass, area.width);
    for (i, row) in rows.iter().skip(offset).take(visible).enumerate() {
        let y = area.y + 2 + i as u16;
        let keys: Vec<String> = row.keys.iter().map(ToString::to_string).collect();
        pen.text_right(area.x + 12, y, &keys.join(" "), theme.brass);
        pen.text(area.x + 14, y, row.name, theme.plain, 16);
        pen.text(area.x + 31, y, row.help, theme.dim, area.width.saturating_sub(31));
    }
}

fn listing(pen: &mut Pen<'_>, panel: Rect, title: &str, lines: &[String], offset: usize) {
    let theme = pen.theme;
    let room = listing_room((pen.area().width, pen.area().height));
    let last = last_offset(lines, room);
    let mut rows: Vec<String> = Vec::new();
    for line in lines.iter().skip(offset.min(last)) {
        if rows.len() >= room.1 {
            break;
        }
        rows.extend(folded(line, room.0));
    }
    rows.truncate(room.1);
    let area = sheet(pen, panel, 120, rows.len() as u16 + 2);
    let more = if last > 0 { "↑ ↓ show more; " } else { "" };
    pen.text(area.x, area.y, title, theme.brass, area.width);
    pen.text(area.x, area.y + 1, &format!("{more}any other key closes"), theme.dim, area.width);
    for (row, y) in rows.iter().zip(area.y + 2..) {
        pen.text(area.x, y, row, theme.plain, area.width);
    }
}
