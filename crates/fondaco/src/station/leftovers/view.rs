//! The panel: groups with what speaks for and against the selected one, and its leftovers below or to the right; in a
//! small panel one of the two.

use fondaco_core::leftovers::{FoundGroup, Group, GroupName, Leftover, Usual};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, counted, grouped};
use ratatui::layout::Rect;

use super::looking::Look;
use super::{held_view, looking, rows};
use crate::frame::geometry;
use crate::frame::model::Model;
use crate::frame::view::{Pen, Target, cut_path, nothing_scanned};

/// From this width on groups and leftovers stand side by side.
const BESIDE: u16 = 130;
/// Columns of the groups then.
const GROUPS: u16 = 52;
/// From this height on they stand one above the other.
const STACKED: u16 = 26;

/// Whether groups and leftovers are both seen: then there is room to say what speaks for and against a group too. Else
/// that stands in its evidence.
pub(super) fn shows_both(model: &Model) -> bool {
    let panel = geometry::panel(model);
    !model.scan.roots.is_empty() && (panel.width >= BESIDE || panel.height >= STACKED)
}

pub(super) fn draw(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let groups = rows::groups(model);
    if groups.is_empty() {
        empty(model, pen, area);
        return;
    }
    let inside = rows::is_inside(model);
    if area.width >= BESIDE && shows_both(model) {
        group_panel(model, pen, Rect { width: GROUPS, ..area }, &groups);
        let rule = Rect { x: area.x + GROUPS, width: 1, ..area };
        pen.fill(rule, "│", pen.theme.dim);
        let right = Rect { x: rule.x + 1, width: area.width - GROUPS - 1, ..area };
        open_group(model, pen, right);
    } else if shows_both(model) {
        let detail =
            rows::selected_group(model).map_or(0, |name| detail_lines(name.group(), area.width));
        let height = (groups.len() as u16 + 3 + detail).min(area.height * 3 / 5);
        group_panel(model, pen, Rect { height, ..area }, &groups);
        pen.fill(Rect { y: area.y + height, height: 1, ..area }, "─", pen.theme.dim);
        let below = Rect { y: area.y + height + 1, height: area.height - height - 1, ..area };
        open_group(model, pen, below);
    } else if inside {
        open_group(model, pen, area);
    } else {
        group_panel(model, pen, area, &groups);
    }
}

fn empty(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    if nothing_scanned(model, pen, area) {
        let below =
            Rect { x: area.x + 1, y: area.y + 3, width: area.width.saturating_sub(2), height: 2 };
        let text = "M scans this machine's own places: caches, packages, kernels, logs, what programs left.";
        pen.wrapped(below, text, pen.theme.dim);
        return;
    }
    let inner = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    let theme = pen.theme;
    let (text, style) = match &model.rooms.leftovers.look {
        Look::Failed(failure) => (failure.to_string(), theme.trouble),
        Look::Done(_) => ("Nothing of what was scanned looks left over.".to_owned(), theme.dim),
        _ if model.scan.running => {
            ("Leftovers are looked for when the scan has ended.".to_owned(), theme.dim)
        }
        _ => ("looking for leftovers …".to_owned(), theme.dim),
    };
    pen.wrapped(inner, &text, style);
}

/// What may go in all, in a line.
fn head(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    let theme = pen.theme;
    let inner = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    let Some(found) = looking::results(model) else {
        let text = match &model.rooms.leftovers.look {
            Look::Failed(failure) => format!("the rest could not be looked for: {failure}"),
            _ if model.scan.running => "the rest is looked for when the scan has ended".to_owned(),
            _ => "looking for more …".to_owned(),
        };
        pen.text(inner.x, inner.y, &text, theme.dim, inner.width);
        return;
    };
    let text = format!("{} may go", model.bytes(found.total.allocated));
    let x = pen.text(inner.x, inner.y, &text, theme.amber, inner.width);
    let more = if looking::is_going(model) {
        " · looking closer …".to_owned()
    } else if let Some(why) = &found.not_looked_closer {
        format!(" · by the scan alone: {why}")
    } else if found.twice > Bytes::ZERO {
        format!(" · {} in several groups", model.bytes(found.twice))
    } else {
        format!(" · {}", counted(found.total.items, "leftover"))
    };
    pen.text(x, inner.y, &more, theme.dim, inner.right().saturating_sub(x));
}

/// What stands for a group's size: what goes of it, or all if it is only told.
fn size_of(model: &Model, name: GroupName) -> (Bytes, u64) {
    if name == GroupName::Held {
        let bytes = model.held.files.iter().filter_map(|file| file.allocated).sum();
        return (bytes, model.held.files.len() as u64);
    }
    let found = looking::results(model).and_then(|found| found.group(name));
    found.map_or((Bytes::ZERO, 0), |found| {
        let sum = if found.goes.items > 0 { found.goes } else { found.stays };
        (sum.allocated, sum.items)
    })
}

/// Whether something of a group can be planned.
fn goes(model: &Model, name: GroupName) -> bool {
    let found = looking::results(model).and_then(|found| found.group(name));
    name == GroupName::Held || found.is_some_and(|found| found.goes.items > 0)
}

fn group_panel(model: &Model, pen: &mut Pen<'_>, area: Rect, groups: &[GroupName]) {
    let theme = pen.theme;
    head(model, pen, area);
    let selected = rows::group_cursor(model);
    let group = groups.get(selected).map(|name| name.group());
    let group = group.filter(|_| shows_both(model));
    let detail = group.map_or(0, |group| detail_lines(group, area.width));
    let list =
        Rect { y: area.y + 2, height: area.height.saturating_sub(2 + detail).max(3), ..area };
    let (size_right, count_right) = (area.right() - 1, area.right().saturating_sub(12));
    pen.text(area.x + 3, area.y + 1, "group", theme.dim, 20);
    pen.text_right(count_right, area.y + 1, "number", theme.dim);
    pen.text_right(size_right, area.y + 1, "allocated", theme.dim);
    let visible = usize::from(list.height);
    let offset = (selected + 1).saturating_sub(visible);
    for (i, name) in groups.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, list.y + (i - offset) as u16, area.width, 1);
        let is_selected = i == selected;
        let has_keys = is_selected && !rows::is_inside(model);
        let goes = goes(model, *name);
        let style = match (has_keys, is_selected, goes) {
            (true, ..) => theme.selected,
            (false, true, _) => theme.brass,
            (false, false, true) => theme.plain,
            (false, false, false) => theme.dim,
        };
        if has_keys {
            pen.fill(line, " ", theme.selected);
        }
        if is_selected {
            pen.text(line.x, line.y, "▸", style, 1);
        }
        let (bytes, count) = size_of(model, *name);
        let title = name.group().title;
        let width = count_right.saturating_sub(line.x + 3 + 8);
        pen.text(line.x + 3, line.y, title, style, width);
        pen.text_right(count_right, line.y, &grouped(count), style);
        pen.text_right(size_right, line.y, &model.bytes(bytes), style);
        if !rows::is_inside(model) {
            pen.hit(line, Target::Row(i));
        }
    }
    if let Some(group) = group {
        let y = area.bottom().saturating_sub(detail);
        details(pen, Rect { y, height: detail, ..area }, group);
    }
}

/// What a group is, and what speaks for and against it, each with its name.
fn sentences(group: &Group) -> [(&'static str, String); 4] {
    let sure = match group.usual {
        Usual::Tell => "only told: nothing of it is planned from here".to_owned(),
        _ => group.sure.words().to_owned(),
    };
    [
        ("", group.what.to_owned()),
        ("sure", sure),
        ("for", group.speaks_for.to_owned()),
        ("against", group.against.to_owned()),
    ]
}

fn detail_lines(group: &Group, width: u16) -> u16 {
    let lines = |(name, text): &(&str, String)| {
        let indent = if name.is_empty() { 2 } else { 11 };
        crate::fit::wrap(text, usize::from(width.saturating_sub(indent + 1))).len() as u16
    };
    sentences(group).iter().map(lines).sum::<u16>() + 1
}

fn details(pen: &mut Pen<'_>, area: Rect, group: &Group) {
    let theme = pen.theme;
    let mut y = area.y + 1;
    for (name, text) in sentences(group) {
        if y >= area.bottom() {
            return;
        }
        let indent = if name.is_empty() { 1 } else { 10 };
        pen.text(area.x + 1, y, name, theme.dim, 9);
        let part = Rect {
            x: area.x + indent,
            y,
            width: area.width.saturating_sub(indent + 2),
            height: area.bottom() - y,
        };
        let style = if name.is_empty() { theme.amber } else { theme.plain };
        y += pen.wrapped(part, &text, style).max(1);
    }
}

/// The leftovers of the selected group.
fn open_group(model: &Model, pen: &mut Pen<'_>, area: Rect) {
    if rows::selected_group(model) == Some(GroupName::Held) {
        held_view::draw(model, pen, area);
        return;
    }
    let Some(group) = rows::found_group(model) else { return };
    let theme = pen.theme;
    let inner = Rect { x: area.x + 1, width: area.width.saturating_sub(2), ..area };
    let x = pen.text(inner.x, inner.y, &summary(model, group), theme.amber, inner.width);
    if group.stays.items > 0 && group.group().can_go() {
        let stay = format!(" · {} stay", grouped(group.stays.items));
        pen.text(x, inner.y, &stay, theme.dim, inner.right().saturating_sub(x));
    }
    let columns = Columns::of(area);
    let y = area.y + 1;
    pen.text_right(columns.size, y, "allocated ↓", theme.brass);
    pen.text_right(columns.since, y, "since", theme.dim);
    pen.text(columns.name.0, y, "leftover", theme.dim, columns.name.1);
    pen.text(columns.note.0, y, "what it is", theme.dim, columns.note.1);
    let footer = group.troubles.first().map(|trouble| format!("Not known: {trouble}"));
    let below = u16::from(footer.is_some()) * 2;
    let visible = usize::from(area.height.saturating_sub(2 + below));
    let cursor = model.rooms.leftovers.item;
    let offset = (cursor + 1).saturating_sub(visible);
    for (i, item) in group.items.iter().enumerate().skip(offset).take(visible) {
        let line = Rect::new(area.x, y + 1 + (i - offset) as u16, area.width, 1);
        let is_selected = i == cursor && rows::is_inside(model);
        row(model, pen, line, &columns, (group.name, item), is_selected);
        if rows::is_inside(model) {
            pen.hit(line, Target::Row(i));
        }
    }
    if let Some(footer) = footer {
        let part = Rect { y: area.bottom() - 2, height: 2, ..inner };
        pen.wrapped(part, &footer, theme.dim);
    }
}

fn summary(model: &Model, group: &FoundGroup) -> String {
    let sum = if group.goes.items > 0 { group.goes } else { group.stays };
    let title = group.group().title;
    format!("{title}: {} in {}", model.bytes(sum.allocated), counted(sum.items, "leftover"))
}

struct Columns {
    size: u16,
    since: u16,
    name: (u16, u16),
    note: (u16, u16),
}

impl Columns {
    /// Names have more than half of the room: what they are is told below again.
    fn of(area: Rect) -> Self {
        let size = area.x + 14;
        let since = size + 7;
        let rest = area.right().saturating_sub(since + 3);
        let name = if rest > 44 { rest * 11 / 20 } else { rest };
        let note = rest.saturating_sub(name + 2);
        Self { size, since, name: (since + 2, name), note: (since + 2 + name + 2, note) }
    }
}

fn row(
    model: &Model,
    pen: &mut Pen<'_>,
    line: Rect,
    columns: &Columns,
    (name, item): (GroupName, &Leftover),
    is_selected: bool,
) {
    let theme = pen.theme;
    let goes = item.stays.is_none() && name.group().can_go();
    let (text, quiet) = pen.begin_row(line, is_selected);
    let style = if goes { text } else { quiet };
    if rows::is_planned(model, item) {
        pen.text(line.x + 1, line.y, "▒", theme.in_row(theme.amber, is_selected), 1);
    }
    pen.text_right(columns.size, line.y, &model.bytes(item.allocated), style);
    pen.text_right(columns.since, line.y, &item.since.age(model.now).to_string(), style);
    let named = cut_path(&rows::name(model, item), usize::from(columns.name.1));
    pen.text(columns.name.0, line.y, &named, style, columns.name.1);
    let note = match &item.stays {
        Some(stays) => format!("stays: {}", shown(&**stays)),
        None => shown(&*item.note),
    };
    pen.text(columns.note.0, line.y, &note, style, columns.note.1);
}
