//! The last two lines: what just happened, and what works here and now.

use fondaco_core::shown::Shown;
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::pen::{Pen, Target};
use crate::fit::{cut, wrap};
use crate::frame::commands::{Command, available};
use crate::frame::model::{Model, Tone};

/// A notice covers no more lines than these.
const MOST_LINES: u16 = 6;

pub(super) fn notice(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if super::lens::typing(model, pen, area) {
        return;
    }
    let room = model.station.room();
    // what is typed in several lines stands in the panel, and leaves this line to notices
    let leaves_line = room.takes_lines(model) && model.notice.is_some();
    if let Some(text) = room.typing(model).filter(|_| !leaves_line) {
        pen.text(1, area.y, &text, theme.brass, area.width - 2);
        return;
    }
    if let Some(notice) = &model.notice {
        let style = match notice.tone {
            Tone::Plain => theme.plain,
            Tone::Trouble => theme.trouble,
        };
        let mark = if notice.tone == Tone::Trouble { "! " } else { "" };
        // a long one grows upwards: the reason often stands at its end
        let lines = wrap(&format!("{mark}{}", notice.text), usize::from(area.width - 2));
        let height = (lines.len() as u16).clamp(1, MOST_LINES);
        let area = Rect { y: (area.y + 1).saturating_sub(height), height, ..area };
        if height > 1 {
            pen.clear(area);
        }
        for (line, y) in lines.iter().zip(area.top()..area.bottom()) {
            pen.text(1, y, line, style, area.width - 2);
        }
    } else if model.scan.running {
        let at =
            cut(&Shown(&model.scan.progress.current).to_string(), usize::from(area.width - 12));
        pen.text(1, area.y, &format!("reading {at}"), theme.dim, area.width - 2);
    }
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if model.overlay.is_none() && model.station.room().takes_lines(model) {
        // keys are text now
        return;
    }
    let mut rows: Vec<_> = available(model).filter(|row| row.hint > 0).collect();
    rows.sort_by_key(|row| row.hint);
    // help and leaving are always to be seen: they get their place first
    let fixed = |row: &&&Command| row.hint >= 11;
    let width = |row: &&Command| {
        (row.keys.first().map_or(0, |key| key.to_string().width()) + row.name.width() + 4) as u16
    };
    let mut left = area.width.saturating_sub(rows.iter().filter(fixed).map(width).sum::<u16>() + 1);
    let shown: Vec<_> = rows
        .iter()
        .filter(|row| {
            if row.hint >= 11 {
                return true;
            }
            let fits = width(row) <= left;
            left = if fits { left - width(row) } else { 0 };
            fits
        })
        .collect();
    let mut x = area.x + 1;
    for row in shown {
        let Some(key) = row.keys.first() else { continue };
        let begin = x;
        x = pen.text(x, area.y, &key.to_string(), theme.brass, area.width.saturating_sub(x)) + 1;
        x = pen.text(x, area.y, row.name, theme.dim, area.width.saturating_sub(x));
        pen.hit(Rect::new(begin, area.y, x - begin, 1), Target::Command(row));
        x += 3;
    }
}
