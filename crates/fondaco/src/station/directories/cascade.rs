//! The cascade: rankings that move while a scan runs, and the way in and out of levels.

use std::collections::HashMap;

use fondaco_core::catalog::{EntryId, Order, Ranking, Reading, Seen};
use fondaco_core::kernel::Kind;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::Bytes;

use super::{EntryRow, Shows, map};
use crate::frame::commands::Key;
use crate::frame::deed_letter;
use crate::frame::geometry::list_rows;
use crate::frame::message::Job;
use crate::frame::model::{Model, Selected, read};
use crate::frame::update::evidence::look;
use crate::frame::update::{growth, lens, place};

/// Ranks the directory at hand afresh. The selected entry stays selected where it now stands; as
/// long as the user has not chosen one, it is the first.
pub(super) fn rank(model: &mut Model) {
    let (Some(at), Some(shared)) = (place::measure(model), model.scan.catalog.clone()) else {
        return;
    };
    let catalog = read(&shared);
    let visible = list_rows(model);
    let selection = lens::selection(model);
    let seen = catalog.seen(selection.as_deref());
    let children = match seen.is_narrowed() {
        true => seen.children(at).count(),
        false => catalog.children(at).len(),
    };
    let all = model.place.tail_open || children <= visible;
    let limit = if all { usize::MAX } else { visible.saturating_sub(1) };
    let by_growth = model.rooms.directories.by_growth && model.growth.shown;
    let state = &mut model.rooms.directories;
    let ranking = match by_growth {
        true => by_what_grew(seen, at, &model.growth.here, limit),
        false => seen.ranking(at, state.order, limit),
    };
    state.ids = ranking.rows;
    state.tail = ranking.tail;
    let stands = cursor(model).is_some_and(|cursor| cursor < length(model));
    if !model.place.chosen || !stands {
        let chosen = model.place.chosen && model.place.selected == Some(Selected::Tail);
        let first = model.rooms.directories.ids.first().map(|id| Selected::Entry(*id));
        model.place.selected = if chosen { Some(Selected::Tail) } else { first };
    }
    drop(catalog);
    window(model);
    if model.rooms.directories.shows.has_map() {
        map::draw_up(model);
    }
}

/// What grew most comes first, then what did not change, the largest first, then what shrank.
fn by_what_grew(
    seen: Seen<'_>,
    at: EntryId,
    growth: &HashMap<EntryId, i64>,
    limit: usize,
) -> Ranking {
    let mut ranking = seen.ranking(at, Order::Allocated, usize::MAX);
    let grown = |id: &EntryId| growth.get(id).copied().unwrap_or(0);
    ranking.rows.sort_by_key(|id| std::cmp::Reverse(grown(id)));
    for id in ranking.rows.drain(limit.min(ranking.rows.len())..) {
        ranking.tail.children += 1;
        ranking.tail.allocated += seen.allocated(id);
        ranking.tail.entries += seen.entries(id);
    }
    ranking
}

/// Place of the selected row; the tail comes after the last.
pub(super) fn cursor(model: &Model) -> Option<usize> {
    let ids = &model.rooms.directories.ids;
    match model.place.selected? {
        Selected::Tail => Some(ids.len()),
        Selected::Entry(id) => ids.iter().position(|listed| *listed == id),
    }
}

/// Rows, the tail included.
pub(super) fn length(model: &Model) -> usize {
    let state = &model.rooms.directories;
    state.ids.len() + usize::from(state.tail.children > 0)
}

/// Rows that are on the screen, the tail included.
pub(super) fn rows_drawn(model: &Model) -> usize {
    let state = &model.rooms.directories;
    state.rows.len() + usize::from(state.tail.children > 0)
}

/// The selected row, if it is on the screen.
pub(super) fn selected_row(model: &Model) -> Option<&EntryRow> {
    let id = model.place.selected_entry()?;
    model.rooms.directories.rows.iter().find(|row| row.id == id)
}

/// Whether Enter does anything in the cascade.
pub(super) fn can_enter(model: &Model) -> bool {
    match model.place.selected {
        Some(Selected::Tail) => true,
        _ => selected_row(model).is_some_and(|row| row.kind == Kind::Directory),
    }
}

/// Makes the rows that are on the screen, scrolled so that the selected one is among them.
fn window(model: &mut Model) {
    let Some(shared) = model.scan.catalog.clone() else { return };
    let catalog = read(&shared);
    let visible = list_rows(model);
    let (cursor, length) = (cursor(model).unwrap_or(0), length(model));
    let mut offset = model.rooms.directories.offset.min(length.saturating_sub(visible));
    if cursor < offset {
        offset = cursor;
    } else if cursor >= offset + visible {
        offset = cursor + 1 - visible;
    }
    let ids = &model.rooms.directories.ids;
    let selection = lens::selection(model);
    let seen = catalog.seen(selection.as_deref());
    let above: Bytes = ids[..offset.min(ids.len())].iter().map(|id| seen.allocated(*id)).sum();
    let rows = ids.iter().skip(offset).take(visible).map(|id| entry_row(seen, *id, model));
    let rows: Vec<EntryRow> = rows.collect();
    let root = model.place.selected_entry().map(|id| catalog.path(id));
    model.place.root = root.filter(|path| model.scan.roots.contains(path));
    let state = &mut model.rooms.directories;
    (state.offset, state.above, state.rows) = (offset, above, rows);
}

fn entry_row(seen: Seen<'_>, id: EntryId, model: &Model) -> EntryRow {
    let catalog = seen.catalog();
    let slash = if catalog.is_directory(id) { "/" } else { "" };
    let reading = catalog.reading(id);
    let planned = model.draft.covering(&model.place.path.join(catalog.name(id)));
    EntryRow {
        id,
        name: format!("{}{slash}", Shown(catalog.name(id))),
        allocated: seen.allocated(id),
        apparent: seen.apparent(id),
        entries: seen.entries(id),
        newest: seen.newest(id),
        profile: seen.age_profile(id),
        kind: catalog.kind(id),
        incomplete: matches!(reading, Some(Reading::Failed | Reading::OtherVolume)),
        planned: planned.map(|planned| deed_letter(&planned.deed)),
        growth: growth::of_entry(model, id),
    }
}

/// Selects the row at a place.
pub(super) fn select(model: &mut Model, place: usize) -> Vec<Job> {
    model.place.selected = match model.rooms.directories.ids.get(place) {
        Some(id) => Some(Selected::Entry(*id)),
        None => Some(Selected::Tail),
    };
    model.place.chosen = true;
    window(model);
    look(model)
}

/// Goes into the selected directory, opens the tail, or goes to the ancestor that has been chosen.
pub(super) fn enter(model: &mut Model) -> Vec<Job> {
    if model.place.trail.is_some() {
        return enter_ancestor(model);
    }
    match model.place.selected {
        Some(Selected::Tail) => {
            let place = model.rooms.directories.ids.len();
            model.place.tail_open = true;
            rank(model);
            select(model, place)
        }
        Some(Selected::Entry(id)) if can_enter(model) => {
            if let Some(at) = model.place.at {
                model.place.remembered.insert(at, id);
            }
            go_into(model, id)
        }
        _ => Vec::new(),
    }
}

fn go_into(model: &mut Model, id: EntryId) -> Vec<Job> {
    model.rooms.directories.offset = 0;
    place::go_into(model, id)
}

/// An area of the map has been clicked: what it belongs to is selected, and gone into with a double click.
pub(super) fn on_map_click(model: &mut Model, id: EntryId, double: bool) -> Vec<Job> {
    if !model.rooms.directories.shows.has_map() {
        return Vec::new();
    }
    if !model.rooms.directories.ids.contains(&id) {
        model.place.tail_open = true;
        rank(model);
    }
    let ids = &model.rooms.directories.ids;
    let Some(place) = ids.iter().position(|listed| *listed == id) else {
        return Vec::new();
    };
    let mut jobs = select(model, place);
    if double && can_enter(model) {
        jobs.extend(enter(model));
    }
    jobs
}

/// Goes to the directory above.
pub(super) fn go_out(model: &mut Model) -> Vec<Job> {
    let (Some(at), Some(parent)) = (model.place.at, model.place.parent) else { return Vec::new() };
    if let Some(id) = model.place.selected_entry() {
        model.place.remembered.insert(at, id);
    }
    model.place.remembered.insert(parent, at);
    let mut jobs = go_into(model, parent);
    jobs.extend(show_selected(model, at));
    jobs
}

/// Makes sure that an entry is selected and listed: it may be one of the tail.
fn show_selected(model: &mut Model, id: EntryId) -> Vec<Job> {
    if cursor(model).is_some() && model.place.selected_entry() == Some(id) {
        return Vec::new();
    }
    model.place.tail_open = true;
    (model.place.selected, model.place.chosen) = (Some(Selected::Entry(id)), true);
    rank(model);
    look(model)
}

/// Shows the directory that an entry lies in as stairs, with the entry selected.
pub fn show_entry(model: &mut Model, id: EntryId) -> Vec<Job> {
    let Some(parent) = model.scan.read().and_then(|catalog| catalog.parent(id)) else {
        return Vec::new();
    };
    model.rooms.directories.shows = Shows::Cascade;
    model.place.remembered.insert(parent, id);
    let mut jobs = go_into(model, parent);
    jobs.extend(show_selected(model, id));
    jobs
}

/// Begins to choose an ancestor in the header, or ends it.
pub(super) fn open_trail(model: &mut Model) -> Vec<Job> {
    model.place.trail = match model.place.trail {
        Some(_) => None,
        None => Some(place::trail(model).len().saturating_sub(2)),
    };
    Vec::new()
}

/// Keys that move along the trail; says whether the key was one.
pub(super) fn on_trail(model: &mut Model, key: Key) -> bool {
    let last = place::trail(model).len().saturating_sub(1);
    let Some(chosen) = &mut model.place.trail else { return false };
    match key {
        Key::Left | Key::Up => *chosen = chosen.saturating_sub(1),
        Key::Right | Key::Down => *chosen = (*chosen + 1).min(last),
        Key::Home => *chosen = 0,
        Key::End => *chosen = last,
        _ => return false,
    }
    true
}

fn enter_ancestor(model: &mut Model) -> Vec<Job> {
    let trail = place::trail(model);
    let chosen = model.place.trail.take().and_then(|chosen| trail.get(chosen).copied());
    let Some(id) = chosen else { return Vec::new() };
    for pair in trail.windows(2) {
        model.place.remembered.insert(pair[0], pair[1]);
    }
    if model.place.at == Some(id) { Vec::new() } else { go_into(model, id) }
}

pub(super) fn next_order(model: &mut Model) -> Vec<Job> {
    let shown = model.growth.shown;
    let state = &mut model.rooms.directories;
    // after the last of the others comes what grew, if that is shown
    state.by_growth = shown && !state.by_growth && state.order == Order::Name;
    if !state.by_growth {
        state.order = state.order.next();
    }
    let order = if state.by_growth { "what grew" } else { state.order.word() };
    rank(model);
    model.say(format!("Ordered by {order}"));
    look(model)
}

/// Keys while a name is being typed: the selection jumps to the first name that begins so.
pub(super) fn on_typed(model: &mut Model, key: Key) -> Vec<Job> {
    let Some(typed) = &mut model.rooms.directories.typed else { return Vec::new() };
    match key {
        Key::Char(c) => typed.push(c),
        Key::Backspace => {
            typed.pop();
        }
        _ => {
            model.rooms.directories.typed = None;
            return Vec::new();
        }
    }
    let typed = typed.to_lowercase();
    let Some(catalog) = model.scan.read() else { return Vec::new() };
    let begins = |id: &EntryId| shown(catalog.name(*id)).to_lowercase().starts_with(&typed);
    let listed = model.rooms.directories.ids.iter().copied().find(begins);
    let found = listed.or_else(|| {
        let mut all = model.place.at.into_iter().flat_map(|at| catalog.children(at));
        all.find(begins)
    });
    drop(catalog);
    let Some(id) = found else {
        model.say(format!("No name here begins with {}", shown(&typed)));
        return Vec::new();
    };
    if !model.rooms.directories.ids.contains(&id) {
        model.place.tail_open = true;
    }
    (model.place.selected, model.place.chosen) = (Some(Selected::Entry(id)), true);
    rank(model);
    look(model)
}
