//! Directories: the cascade. Each bar begins where the one above ended, so that the stairs show
//! every share and how soon the sum nears the whole.

use fondaco_core::catalog::Order;
use fondaco_core::kernel::Kind;
use fondaco_core::units::{Bytes, grouped};
use ratatui::layout::Rect;

use super::{EntryRow, cascade};
use crate::frame::model::{Model, Selected};
use crate::frame::view::{
    Pen, Target, age_profile, cut_path, growth_title, growth_words, share, stair,
};

/// Where the columns are; what is `None` does not fit.
struct Columns {
    rank: u16,
    mark: u16,
    name: (u16, u16),
    allocated: u16,
    growth: Option<u16>,
    share: u16,
    cascade: (u16, u16),
    ages: Option<u16>,
    entries: Option<u16>,
    newest: Option<u16>,
}

impl Columns {
    fn of(area: Rect, growth: bool) -> Self {
        let (ages, entries) = (area.width >= 88, area.width >= 76);
        let newest = area.width >= 68;
        let right = u16::from(ages) * 10 + u16::from(entries) * 9 + u16::from(newest) * 8;
        let fixed = 8 + 11 + 7 + if growth { 12 } else { 0 };
        let rest = area.width.saturating_sub(fixed + right + 2);
        let name = (rest * 11 / 20).clamp(12, 48);
        let cascade = rest.saturating_sub(name);
        let begin = area.x + 8;
        let allocated = begin + name + 11;
        let grown = growth.then_some(allocated + 12);
        let share = grown.unwrap_or(allocated) + 7;
        let after = share + 2 + cascade;
        Self {
            rank: area.x + 5,
            mark: area.x + 6,
            name: (begin, name),
            allocated,
            growth: grown,
            share,
            cascade: (share + 2, cascade),
            ages: ages.then_some(after + 1),
            entries: entries.then_some(after + u16::from(ages) * 10 + 9),
            newest: newest.then_some(area.right()),
        }
    }
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let state = &model.rooms.directories;
    let columns = Columns::of(area, model.growth.shown);
    heading(model, pen, area, &columns);
    if cascade::length(model) == 0 {
        let style = pen.theme.dim;
        let text = match (model.scan.running, model.lens.text.is_empty()) {
            (true, _) => "reading …",
            (false, true) => "This directory is empty.",
            (false, false) => "Nothing in this directory passes the lens: a shows all again.",
        };
        pen.text(columns.name.0, area.y + 1, text, style, area.width);
        return;
    }
    let mut before = state.above;
    for (i, row) in state.rows.iter().enumerate() {
        let line = Rect::new(area.x, area.y + 1 + i as u16, area.width, 1);
        let rank = state.offset + i;
        entry(model, pen, line, &columns, row, rank, before);
        before += row.allocated;
        pen.hit(line, Target::Row(rank));
    }
    let at = state.rows.len() as u16 + 1;
    if state.tail.children > 0 && at < area.height {
        let line = Rect::new(area.x, area.y + at, area.width, 1);
        tail(model, pen, line, &columns, before);
        pen.hit(line, Target::Row(state.ids.len()));
    }
}

fn heading(model: &Model, pen: &mut Pen<'_>, area: Rect, columns: &Columns) {
    let (dim, chosen) = (pen.theme.dim, pen.theme.brass);
    let order = model.rooms.directories.order;
    let grown = model.rooms.directories.by_growth && model.growth.shown;
    let style = |by: Order| if order == by && !grown { chosen } else { dim };
    let y = area.y;
    let mark = |by: Order, text: &str| match order == by && !grown {
        true => format!("{text} ↓"),
        false => text.to_owned(),
    };
    pen.text(columns.name.0, y, &mark(Order::Name, "name"), style(Order::Name), columns.name.1);
    let (text, by) = if order == Order::Apparent {
        ("apparent ↓".to_owned(), Order::Apparent)
    } else {
        (mark(Order::Allocated, "allocated"), Order::Allocated)
    };
    pen.text_right(columns.allocated, y, &text, style(by));
    if let Some(x) = columns.growth {
        let by_growth = model.rooms.directories.by_growth;
        let text = growth_title(model) + if by_growth { " ↓" } else { "" };
        pen.text_right(x, y, &text, if by_growth { chosen } else { dim });
    }
    pen.text_right(columns.share, y, "share", dim);
    let (x, width) = columns.cascade;
    if width >= 14 {
        pen.text(x, y, "0", dim, 1);
        pen.text_right(x + width, y, "100 %", dim);
        if width >= 24 {
            pen.text(x + width / 2 - 3, y, "cascade", dim, 7);
        }
    }
    if let Some(x) = columns.ages {
        pen.text(x, y, "new  old", dim, 8);
    }
    if let Some(x) = columns.entries {
        pen.text_right(x, y, &mark(Order::Entries, "entries"), style(Order::Entries));
    }
    if let Some(x) = columns.newest {
        pen.text_right(x, y, &mark(Order::Newest, "newest"), style(Order::Newest));
    }
}

/// What the list is ordered by is what its bars show: apparent bytes only then.
fn measure(model: &Model, row: &EntryRow) -> Bytes {
    if model.rooms.directories.order == Order::Apparent { row.apparent } else { row.allocated }
}

fn entry(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    columns: &Columns,
    row: &EntryRow,
    rank: usize,
    before: Bytes,
) {
    let theme = pen.theme;
    let y = line.y;
    let selected = model.place.selected == Some(Selected::Entry(row.id));
    let (text, quiet) = pen.begin_row(line, selected);
    pen.text_right(columns.rank, y, &(rank + 1).to_string(), quiet);
    if let Some(letter) = row.planned {
        let style = if selected { theme.selected } else { theme.amber };
        pen.text(columns.mark, y, &letter.to_string(), style, 1);
    }
    let name = match row.kind {
        Kind::Link => format!("{} →", row.name),
        // one of several roots: the end of a path tells more than its beginning
        _ if row.name.starts_with('/') => cut_path(&row.name, usize::from(columns.name.1)),
        _ => row.name.clone(),
    };
    pen.text(columns.name.0, y, &name, text, columns.name.1);
    let incomplete = if row.incomplete { "≥ " } else { "" };
    let bytes = format!("{incomplete}{}", model.bytes(measure(model, row)));
    pen.text_right(columns.allocated, y, &bytes, text);
    if let Some(x) = columns.growth {
        let style = if row.growth.is_some_and(|grown| grown != 0) { text } else { quiet };
        pen.text_right(x, y, &growth_words(model, row.growth), style);
    }
    let whole = model.place.whole;
    pen.text_right(columns.share, y, &share(row.allocated, whole), quiet);
    stairs(pen, columns, y, (before, row.allocated, whole), row.planned.is_some(), selected);
    if let Some(x) = columns.ages {
        pen.text(x, y, &age_profile(&row.profile), quiet, 8);
    }
    if let Some(x) = columns.entries {
        pen.text_right(x, y, &grouped(row.entries), quiet);
    }
    if let Some(x) = columns.newest {
        pen.text_right(x, y, &row.newest.age(model.now).to_string(), quiet);
    }
}

fn tail(model: &Model, pen: &mut Pen<'_>, line: Rect, columns: &Columns, before: Bytes) {
    let tail = model.rooms.directories.tail;
    let selected = model.place.selected == Some(Selected::Tail);
    let (_, style) = pen.begin_row(line, selected);
    let name = format!("tail: {} more", grouped(tail.children));
    pen.text(columns.name.0, line.y, &name, style, columns.name.1);
    pen.text_right(columns.allocated, line.y, &model.bytes(tail.allocated), style);
    let whole = model.place.whole;
    pen.text_right(columns.share, line.y, &share(tail.allocated, whole), style);
    stairs(pen, columns, line.y, (before, tail.allocated, whole), false, selected);
    if let Some(x) = columns.entries {
        pen.text_right(x, line.y, &grouped(tail.entries), style);
    }
}

fn stairs(
    pen: &mut Pen<'_>,
    columns: &Columns,
    y: u16,
    (before, part, whole): (Bytes, Bytes, Bytes),
    planned: bool,
    selected: bool,
) {
    let (x, width) = columns.cascade;
    if width < 4 {
        return;
    }
    let theme = pen.theme;
    if selected && theme.selected.bg.is_none() {
        // a reversed row would swallow its bar
        pen.fill(Rect::new(x, y, width, 1), " ", theme.plain);
    }
    let to = before + part;
    let (start, bar) = stair(before.share_of(whole), to.share_of(whole), width);
    if planned {
        let hatched = "▒".repeat(bar.chars().count());
        let style = theme.in_row(theme.amber, selected);
        pen.text(x + start, y, &hatched, style, width - start);
    } else {
        let style = theme.in_row(theme.teal, selected);
        pen.text(x + start, y, &bar, style, width - start);
    }
}
