//! Breakdown: bytes by one property at a time.

use fondaco_core::analysis::{BreakdownBy, Slice};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::shown;
use fondaco_core::units::grouped;
use ratatui::layout::Rect;

use crate::frame::model::Model;
use crate::frame::view::{
    Pen, Target, age_profile, cut_path, growth_title, growth_words, nothing_scanned, share, stair,
};
use crate::words;

/// Where the columns are; what is `None` does not fit.
struct Columns {
    name: (u16, u16),
    allocated: u16,
    share: u16,
    bar: (u16, u16),
    entries: u16,
    ages: Option<u16>,
    largest: Option<u16>,
    growth: Option<u16>,
}

impl Columns {
    fn of(area: Rect, growth: bool) -> Self {
        let (ages, largest) = (area.width >= 84, area.width >= 70);
        let right = 10 + if ages { 10 } else { 0 } + if largest { 12 } else { 0 };
        let grown = if growth { 12 } else { 0 };
        let rest = area.width.saturating_sub(2 + 11 + grown + 7 + right + 2);
        let name = (rest * 3 / 5).clamp(12, 40);
        let begin = area.x + 2;
        let allocated = begin + name + 11;
        let share = allocated + grown + 7;
        let bar = rest.saturating_sub(name);
        let entries = share + 2 + bar + 9;
        Self {
            name: (begin, name),
            allocated,
            growth: growth.then_some(allocated + grown),
            share,
            bar: (share + 2, bar),
            entries,
            ages: ages.then_some(entries + 2),
            largest: largest.then_some(entries + if ages { 10 } else { 0 } + 12),
        }
    }
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if nothing_scanned(model, pen, area) {
        return;
    }
    let station = &model.rooms.breakdown;
    let place = cut_path(&shown(&model.place.path), usize::from(area.width / 2));
    let x = pen.text(area.x + 1, area.y, &place, theme.plain, area.width);
    pen.text(x + 2, area.y, "broken down by", theme.dim, area.width);
    properties(pen, area, station.by);
    let columns = Columns::of(area, model.growth.shown);
    let Some(found) = &station.found else {
        pen.text(columns.name.0, area.y + 3, "looking …", theme.dim, area.width);
        return;
    };
    heading(pen, area.y + 2, &columns, station.by);
    if let Some(x) = columns.growth {
        pen.text_right(x, area.y + 2, &growth_title(model), theme.dim);
    }
    let visible = usize::from(area.height.saturating_sub(4));
    let offset = (station.cursor + 1).saturating_sub(visible);
    for (i, slice) in found.slices.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, area.y + 3 + (i - offset) as u16, area.width, 1);
        row(model, pen, line, &columns, slice, i == station.cursor);
        pen.hit(line, Target::Row(i));
    }
    footer(model, pen, Rect { y: area.bottom() - 1, height: 1, ..area });
}

/// The properties in a line, the one at hand marked.
fn properties(pen: &mut Pen<'_>, area: Rect, by: BreakdownBy) {
    let theme = pen.theme;
    let mut x = area.x + 2;
    for other in BreakdownBy::ALL {
        let left = area.right().saturating_sub(x);
        let here = other == by;
        let style = if here { theme.selected } else { theme.dim };
        let text = if here { format!("▸{} ", other.words()) } else { other.words().to_owned() };
        x = pen.text(x, area.y + 1, &text, style, left) + 2;
    }
}

fn heading(pen: &mut Pen<'_>, y: u16, columns: &Columns, by: BreakdownBy) {
    let dim = pen.theme.dim;
    pen.text(columns.name.0, y, by.words(), dim, columns.name.1);
    pen.text_right(columns.allocated, y, "allocated ↓", dim);
    pen.text_right(columns.share, y, "share", dim);
    pen.text_right(columns.entries, y, "entries", dim);
    if let Some(x) = columns.ages {
        pen.text(x, y, "new  old", dim, 8);
    }
    if let Some(x) = columns.largest {
        pen.text_right(x, y, "largest", dim);
    }
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    columns: &Columns,
    slice: &Slice,
    selected: bool,
) {
    let theme = pen.theme;
    let (text, quiet) = pen.begin_row(line, selected);
    let y = line.y;
    pen.text(columns.name.0, y, &slice_name(model, slice), text, columns.name.1);
    pen.text_right(columns.allocated, y, &model.bytes(slice.sum.allocated), text);
    if let Some(x) = columns.growth {
        let slices = &model.growth.slices;
        let grown = (slices.by == Some(model.rooms.breakdown.by))
            .then(|| slices.bytes.get(&slice.key).copied().unwrap_or(0));
        pen.text_right(x, y, &growth_words(model, grown), quiet);
    }
    let whole = model.rooms.breakdown.found.as_ref().map(|found| found.whole.allocated);
    let whole = whole.unwrap_or_default();
    pen.text_right(columns.share, y, &share(slice.sum.allocated, whole), quiet);
    let (x, width) = columns.bar;
    if width >= 4 {
        if selected && theme.selected.bg.is_none() {
            // a reversed row would swallow its bar
            pen.fill(Rect::new(x, y, width, 1), " ", theme.plain);
        }
        let (_, bar) = stair(0.0, slice.sum.allocated.share_of(whole), width);
        pen.text(x, y, &bar, theme.in_row(theme.teal, selected), width);
    }
    pen.text_right(columns.entries, y, &grouped(slice.sum.entries), quiet);
    if let Some(x) = columns.ages {
        pen.text(x, y, &age_profile(&slice.profile), quiet, 8);
    }
    if let Some(x) = columns.largest {
        pen.text_right(x, y, &model.bytes(slice.largest_allocated), quiet);
    }
}

/// What the entries of a slice have in common, with the names of accounts.
pub(super) fn slice_name(model: &Model, slice: &Slice) -> String {
    let named = |name: Option<String>, number: u32| {
        name.unwrap_or_else(|| format!("{number} ! no such account"))
    };
    let names = model.names.of_scan();
    let user = |number| named(names.user_name(number), number);
    let group = |number| named(names.group_name(number), number);
    words::slice_words(&slice.key, user, group)
}

fn footer(model: &Model, pen: &mut Pen<'_>, line: Rect) {
    let station = &model.rooms.breakdown;
    let Some(found) = &station.found else { return };
    let mut text = format!(
        "{} of {} slices",
        station.cursor + 1,
        grouped((found.slices.len() + found.rest.0) as u64)
    );
    if found.overlaps() {
        text = format!("{text}; an entry may have several attributes: they do not add up");
    }
    if found.slices.is_empty() {
        text = "Nothing passes the lens: a shows all again.".to_owned();
    }
    if station.waiting {
        text = "looking …".to_owned();
    }
    if let Some(looked) = model.questions.closer {
        text = format!("looking closer: {} entries · S stops", grouped(looked));
    }
    pen.text(line.x + 2, line.y, &text, pen.theme.dim, line.width.saturating_sub(2));
}
