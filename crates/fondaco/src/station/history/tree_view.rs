//! Draws what changed between two moments.

use fondaco_core::history::{Amount, Changes, Fate, SliceChange};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::shown;
use fondaco_core::units::{UnitStyle, counted, grouped};
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::tide_view::a_day;
use super::tree;
use crate::frame::model::{ComparedScans, Later, Model};
use crate::frame::view::{Pen, Target, cut_path};
use crate::query::{ComparedRow, fate_word, moved_words, row_name};
use crate::words::{self, signed_bytes, slice_words};

/// Where the columns are; what is `None` does not fit.
struct Columns {
    change: u16,
    a_day: Option<u16>,
    what: u16,
    name: (u16, u16),
    bar: Option<(u16, u16)>,
    now: Option<u16>,
    moved: Option<(u16, u16)>,
}

impl Columns {
    fn of(area: Rect) -> Self {
        let (a_day, now) = (area.width >= 66, area.width >= 76);
        let change = area.x + 13;
        let day = change + 12;
        let what = if a_day { day } else { change } + 2;
        let begin = what + 12;
        let right = area.right().saturating_sub(if now { 12 } else { 0 });
        let left = right.saturating_sub(begin);
        let bar = if left >= 44 { 17 } else { 0 };
        let moved = if left - bar >= 50 { (left - bar) / 2 } else { 0 };
        let name = left - bar - moved;
        Self {
            change,
            a_day: a_day.then_some(day),
            what,
            name: (begin, name),
            moved: (moved > 0).then_some((begin + name, moved)),
            bar: (bar > 0).then_some((begin + name + moved + 1, bar.saturating_sub(2))),
            now: now.then_some(area.right()),
        }
    }
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    if area.height < 3 {
        return;
    }
    let Some(both) = tree::compared(model) else {
        pen.wrapped(
            Rect { x: area.x + 1, width: area.width - 2, ..area },
            &why_nothing(model),
            theme.dim,
        );
        return;
    };
    heading(model, pen, area, both);
    let columns = Columns::of(area);
    let y = area.y + 2;
    pen.text_right(columns.change, y, "change ↓", theme.brass);
    if let Some(x) = columns.a_day {
        pen.text_right(x, y, "a day", theme.dim);
    }
    pen.text(columns.what, y, "what", theme.dim, 10);
    pen.text(columns.name.0, y, title(model), theme.dim, columns.name.1);
    if let Some((x, width)) = columns.moved {
        pen.text(x, y, "moved", theme.dim, width);
    }
    if let Some((x, width)) = columns.bar {
        pen.text(x, y, "less", theme.dim, 4);
        pen.text_right(x + width, y, "more", theme.dim);
    }
    if let Some(x) = columns.now {
        let by_directory = model.rooms.history.tree.by.is_none();
        pen.text_right(x, y, if by_directory { "now" } else { "entries" }, theme.dim);
    }
    rows(
        model,
        pen,
        Rect { y: y + 1, height: area.height.saturating_sub(3), ..area },
        &columns,
        both,
    );
}

fn title(model: &Model) -> &'static str {
    match model.rooms.history.tree.by {
        None => "name",
        Some(by) => by.words(),
    }
}

/// Why there is nothing to compare.
fn why_nothing(model: &Model) -> String {
    if model.scan.roots.is_empty() {
        let volume = model
            .selected_volume()
            .map(|volume| format!("Scan {} first (1, then Enter)", shown(&volume.mount_point)));
        let first = volume.unwrap_or_else(|| "Scan something first".to_owned());
        return format!("{first}, and what changed since an earlier scan of it stands here.");
    }
    if model.scan.running {
        return "What changed stands here when the scan has ended.".to_owned();
    }
    if !model.scan.complete {
        return "The scan was stopped: what it did not come to would look gone. F5 under 2 Directories scans it anew."
            .to_owned();
    }
    if model.scan.roots.len() > 1 {
        return "Several places were scanned together: scan one of them to see what changed in it."
            .to_owned();
    }
    match (model.growth.waiting, model.growth.moments_of, model.growth.moments.is_empty()) {
        (true, ..) | (_, None, _) => "comparing with an earlier scan …".to_owned(),
        (_, _, true) => "No earlier scan of this place is kept. Each scan that ends is kept by itself: the next one shows here \
            what changed.".to_owned(),
        _ => "comparing …".to_owned(),
    }
}

/// The two moments and what it all came to.
fn heading(model: &Model, pen: &mut Pen<'_>, area: Rect, both: &ComparedScans) {
    let theme = pen.theme;
    let place = both.found.place(tree::place(model));
    let later = match &both.later {
        Later::AtHand(_) => "the scan at hand".to_owned(),
        Later::Kept(moment, _) => format!("scan {} of {}", moment.0, moment.1.local()),
    };
    let (number, at) = both.earlier;
    let path = tree::path(model).map_or_else(String::new, shown);
    let path = cut_path(&path, usize::from(area.width / 3));
    let x = pen.text(area.x + 1, area.y, &path, theme.plain, area.width);
    let earlier = match &both.other {
        Some(path) => cut_path(&shown(path), usize::from(area.width / 4)),
        None => format!("scan {number} of {}", at.local()),
    };
    let between = both
        .days()
        .map_or_else(String::new, |days| format!(" · {} between them", words::days(days)));
    let unread = [both.before.unreadable().len(), both.later.read().unreadable().len()];
    let unread = match unread.iter().max() {
        Some(count) if *count > 0 => {
            format!(
                " · ! {} unreadable: what is there may look new or gone",
                counted(*count as u64, "place")
            )
        }
        _ => String::new(),
    };
    let text = format!("  < {earlier} > {later}{between}{unread}");
    pen.text(x, area.y, &text, theme.dim, area.right().saturating_sub(x));
    let net = signed_bytes(place.changes.net(), model.units);
    let style = if place.changes.net() > 0 { theme.brass } else { theme.teal };
    let x = pen.text(area.x + 1, area.y + 1, &net, style, area.width);
    let words = parts(&place.changes, model.units);
    pen.text(x + 2, area.y + 1, &words, theme.plain, area.right().saturating_sub(x + 2));
}

/// What a change is made of, in a line.
pub(super) fn parts(changes: &Changes, units: UnitStyle) -> String {
    let word = |(word, amount): (&str, Amount)| {
        format!("{word} {} ({})", amount.bytes.shown(units), grouped(amount.entries))
    };
    let words: Vec<String> = changes.named().map(word).collect();
    if words.is_empty() { "nothing has changed".to_owned() } else { words.join(" · ") }
}

fn rows(model: &Model, pen: &mut Pen<'_>, area: Rect, columns: &Columns, both: &ComparedScans) {
    let tree = &model.rooms.history.tree;
    let length = tree::length(model);
    let slices = tree.slices.as_deref().unwrap_or_default();
    if length == 0 {
        let text = match (tree.by.is_some() && tree.slices.is_none(), both.lens.is_empty()) {
            (true, _) => "adding up …",
            (false, true) => "Nothing has changed here.",
            (false, false) => "Nothing that passes the lens has changed here.",
        };
        pen.text(columns.name.0, area.y, text, pen.theme.dim, area.width);
        return;
    }
    let visible = usize::from(area.height);
    let offset = (tree.cursor + 1).saturating_sub(visible);
    let largest = match tree.by {
        None => tree.rows.iter().map(|row| row.changes.net().unsigned_abs()).max(),
        Some(_) => slices.iter().map(|slice| slice.changes.net().unsigned_abs()).max(),
    };
    let largest = largest.unwrap_or(0).max(1);
    for number in (offset..length).take(visible) {
        let line = Rect::new(area.x, area.y + (number - offset) as u16, area.width, 1);
        let told = match tree.by {
            None => of_row(model, &tree.rows[number]),
            Some(_) => of_slice(model, &slices[number]),
        };
        row(model, pen, line, columns, &told, (number == tree.cursor, largest, both.days()));
        pen.hit(line, Target::Row(number));
    }
}

/// What stands in a row.
struct Told {
    net: i64,
    what: String,
    name: String,
    now: String,
    moved: String,
    planned: bool,
}

fn of_row(model: &Model, row: &ComparedRow) -> Told {
    let changes = &row.changes;
    // what came to nothing in the sum is told by what it is made of
    let moved = match moved_words(row) {
        Some(words) => words,
        None if changes.moved_within.entries > 0 => {
            format!("{} within", counted(changes.moved_within.entries, "entry"))
        }
        None => String::new(),
    };
    Told {
        net: changes.net(),
        what: fate_word(row.fate, changes).to_owned(),
        name: row_name(row),
        now: row.after.map_or_else(|| "-".to_owned(), |_| model.bytes(row.amounts[1])),
        moved,
        planned: model.draft.covering(&row.path).is_some(),
    }
}

fn of_slice(model: &Model, slice: &SliceChange) -> Told {
    let names = model.names.of_scan();
    let named = |name: Option<String>, number: u32| name.unwrap_or_else(|| number.to_string());
    let name = slice_words(
        &slice.key,
        |id| named(names.user_name(id), id),
        |id| named(names.group_name(id), id),
    );
    Told {
        net: slice.changes.net(),
        what: fate_word(Fate::Stayed, &slice.changes).to_owned(),
        name,
        now: format!("{:+}", slice.changes.net_entries()),
        moved: parts(&slice.changes, model.units),
        planned: false,
    }
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    columns: &Columns,
    told: &Told,
    (selected, largest, days): (bool, u64, Option<f64>),
) {
    let theme = pen.theme;
    let (text, quiet) = pen.begin_row(line, selected);
    let y = line.y;
    pen.text_right(columns.change, y, &signed_bytes(told.net, model.units), text);
    if let Some(x) = columns.a_day {
        pen.text_right(x, y, &a_day(told.net, days, model), quiet);
    }
    pen.text(columns.what, y, &told.what, quiet, 11);
    let style = if told.planned && !selected { theme.amber } else { text };
    pen.text(columns.name.0, y, &told.name, style, columns.name.1.saturating_sub(1));
    if let Some((x, width)) = columns.moved {
        pen.text(x, y, &told.moved, quiet, width.saturating_sub(1));
    }
    if let Some((x, width)) = columns.bar {
        let bars = (theme.in_row(theme.teal, selected), theme.in_row(theme.brass, selected));
        if selected && theme.selected.bg.is_none() {
            pen.fill(Rect::new(x, y, width, 1), " ", theme.plain);
        }
        difference(pen, (x, y, width), told.net, largest, bars);
    }
    if let Some(x) = columns.now {
        pen.text_right(x, y, &told.now, quiet);
    }
}

/// A bar that begins in the middle: to the left if there is less than before, to the right if there is more.
fn difference(
    pen: &mut Pen<'_>,
    (x, y, width): (u16, u16, u16),
    net: i64,
    largest: u64,
    (less, more): (Style, Style),
) {
    let half = width / 2;
    let part = net.unsigned_abs() as f64 / largest as f64 * f64::from(half);
    let long = (part.round() as u16).max(u16::from(net != 0)).min(half);
    let middle = x + half;
    if net < 0 {
        pen.fill(Rect::new(middle - long, y, long, 1), "▒", less);
    } else {
        pen.fill(Rect::new(middle + 1, y, long, 1), "█", more);
    }
    pen.text(middle, y, "│", pen.theme.rule, 1);
}
