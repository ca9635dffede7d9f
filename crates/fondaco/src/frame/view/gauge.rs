//! The waterline gauge: level, waterline, and the relief that is planned. Never hidden.

use fondaco_core::archive::is_store;
use fondaco_core::kernel::Capacity;
use fondaco_core::plan::Forecast;
use fondaco_core::shown::shown;
use fondaco_core::units::Bytes;
use fondaco_core::volume::Volume;
use ratatui::layout::Rect;
use ratatui::style::Style;
use unicode_width::UnicodeWidthStr;

use super::pen::{Pen, Target};
use super::theme::Theme;
use crate::fit::cut_path;
use crate::frame::commands::named;
use crate::frame::model::{Filling, Model};
use crate::query::seconds_words;

/// How many seconds it holds how fast a volume fills.
const FRESH: i64 = 5;

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let Some(volume) = model.gauge_volume() else {
        let in_store = model.scan.roots.first().is_some_and(|root| is_store(root));
        let text = match (in_store, model.volumes_loaded) {
            (true, _) => "a store has no level: what goes there frees nothing here",
            (false, true) => "no volume",
            (false, false) => "asking the volumes …",
        };
        pen.text(1, area.y, text, theme.dim, area.width);
        return;
    };
    let path = shown(&volume.mount_point);
    let capacity = match &volume.capacity {
        Ok(capacity) => capacity,
        Err(reason) => {
            pen.text(
                1,
                area.y,
                &format!("{path}: level not known: {reason}"),
                theme.trouble,
                area.width,
            );
            return;
        }
    };
    let relief = model.draft.relief(&volume.mount_point);
    let level = capacity.level_for(volume.level_for);
    let over = level > volume.waterline;
    let label = format!("level {:>6}  ", level.to_string());
    let x = pen.text(1, area.y, &label, if over { theme.trouble } else { theme.teal }, 20);
    let path = cut_path(&path, usize::from(area.width / 4));
    let right = format!("  {}  {path}", model.bytes(capacity.total));
    let end = area.width.saturating_sub(right.width() as u16 + 1);
    pen.text(end, area.y, &right, theme.plain, right.width() as u16);
    bar(pen, Rect::new(x, area.y, end.saturating_sub(x), 1), volume, capacity, relief.now);
    let indent = if area.width >= 110 { x } else { 1 };
    figures(model, pen, area, (volume, capacity), relief, indent);
}

/// One bar with edges: what stays, what is planned to go, what is free, and the waterline's tick.
pub fn bar(pen: &mut Pen<'_>, area: Rect, volume: &Volume, capacity: &Capacity, relief: Bytes) {
    if area.width < 4 {
        return;
    }
    let theme = pen.theme;
    pen.text(area.x, area.y, "▕", theme.dim, 1);
    pen.text(area.right() - 1, area.y, "▏", theme.dim, 1);
    let inner = Rect::new(area.x + 1, area.y, area.width - 2, 1);
    let whole = capacity.whole_for(volume.level_for);
    let column = |bytes: Bytes| {
        (bytes.share_of(whole) * f64::from(inner.width)).round().min(f64::from(inner.width)) as u16
    };
    let (used, stays) = (column(capacity.used), column(capacity.used.less(relief)));
    let tick =
        ((volume.waterline.share() * f64::from(inner.width)).round() as u16).min(inner.width - 1);
    // relief of anything shows, however small
    let stays = if relief > Bytes::ZERO { stays.min(used.saturating_sub(1)) } else { stays };
    for i in 0..inner.width {
        let (sign, style) = cell(theme, i, used, stays, tick);
        pen.text(inner.x + i, inner.y, sign, style, 1);
    }
    pen.text(inner.x + tick, inner.y, "┃", theme.brass, 1);
}

fn cell(theme: &Theme, at: u16, used: u16, stays: u16, tick: u16) -> (&'static str, Style) {
    if at < stays {
        ("█", if at < tick { theme.teal } else { theme.trouble })
    } else if at < used {
        ("▒", theme.amber)
    } else {
        (" ", theme.plain)
    }
}

fn figures(
    model: &Model,
    pen: &mut Pen<'_>,
    area: Rect,
    (volume, capacity): (&Volume, &Capacity),
    relief: Forecast,
    x: u16,
) {
    let theme = pen.theme;
    let y = area.y + 1;
    // the number that is worked towards comes first: it must never be cut
    let to_find = volume.to_find(relief.now);
    let (text, style) = if to_find > Bytes::ZERO {
        (format!("still to find {}", model.bytes(to_find)), theme.trouble)
    } else if relief.now > Bytes::ZERO {
        ("enough is planned".to_owned(), theme.teal)
    } else {
        ("below the waterline".to_owned(), theme.teal)
    };
    let mut x = pen.text(x, y, &text, style, area.width - x);
    // what was seen a while ago is no rate of this moment
    let is_now = |filling: &&Filling| {
        filling.mount_point == volume.mount_point && model.now.sec - filling.seen.sec <= FRESH
    };
    if let Some(filling) = model.filling.as_ref().filter(is_now) {
        let text = format!(" · full in {} at this rate", seconds_words(filling.full_in));
        x = pen.text(x, y, &text, theme.trouble, area.width - x);
    }
    let mut planned = format!(" · planned ▒ {}", model.bytes(relief.now));
    if relief.later > Bytes::ZERO {
        planned.push_str(&format!(" + {} later", model.bytes(relief.later)));
    }
    x = pen.text(x, y, &planned, theme.amber, area.width - x);
    let begin = x;
    let waterline = format!(" · waterline {} ┃", volume.waterline);
    x = pen.text(x, y, &waterline, theme.plain, area.width - x);
    if let Some(command) = named(model, "waterline") {
        pen.hit(Rect::new(begin, y, x - begin, 1), Target::Command(command));
    }
    let used = format!(" · used {}", model.bytes(capacity.used));
    x = pen.text(x, y, &used, theme.plain, area.width - x);
    if let Some(inodes) = capacity.inode_level() {
        let short = volume.short_of_inodes();
        let text = format!("{}inodes {inodes}", if short { "! " } else { "" });
        if x + (text.width() as u16) + 3 < area.width {
            let style = if short { theme.trouble } else { theme.dim };
            pen.text_right(area.width - 1, y, &text, style);
        }
    }
}
