//! The Directories station: rankings that move while a scan runs, and the way in and out of levels.

use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard};

use fondaco_core::catalog::{Catalog, EntryId, Reading, Seen, Unreadable};
use fondaco_core::scan::Progress;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, counted, grouped};

use super::{books, lens, map, now, scans};
use crate::app::command_table::Key;
use crate::app::geometry::list_rows;
use crate::app::looking::Manner;
use crate::app::message::Job;
use crate::app::model::{EntryRow, Focus, Model, Overlay, Selected, Station};

pub(super) fn on_begun(model: &mut Model, catalog: Arc<RwLock<Catalog>>) -> Vec<Job> {
    model.scan.catalog = Some(catalog);
    rank(model);
    let mut jobs = look(model);
    let before = model.before_scan.take().and_then(|(scan, _)| scan.catalog);
    jobs.extend(before.map(|catalog| Job::LetGo(catalog)));
    jobs
}

/// A path that cannot be scanned costs nothing: the scan before is there again, as far as it was.
pub(super) fn on_refused(model: &mut Model, reason: &str) -> Vec<Job> {
    (model.scan, model.directories) = model.before_scan.take().unwrap_or_default();
    model.asked_evidence = None;
    model.say_trouble(format!("Cannot scan: {reason}. Type another path with p."));
    let mut jobs = lens::on_other_scan(model);
    rank(model);
    jobs.extend(look(model));
    jobs
}

pub(super) fn on_progress(model: &mut Model, progress: Progress, done: bool) -> Vec<Job> {
    model.scan.progress = progress;
    let mut jobs = Vec::new();
    if done && model.scan.running {
        model.scan.running = false;
        model.scan.ended = Some(now(model));
        model.scan.complete = read(model).is_some_and(|catalog| catalog.read_now().is_complete());
        let progress = &model.scan.progress;
        let (entries, seconds) = (grouped(progress.entries), progress.elapsed.as_secs_f64());
        let unreadable = match progress.unreadable {
            0 => String::new(),
            n => format!("; {} could not be read", counted(n, "place")),
        };
        let word = if model.scan.complete { "Scanned" } else { "Stopped after" };
        // elsewhere the notice belongs to what set the scan off
        if model.station == Station::Directories {
            model.say(format!("{word} {entries} entries in {seconds:.1} s{unreadable}"));
        }
        model.directories.wanted = None;
        jobs.extend(scans::save(model));
        jobs.extend(books::after_scan(model));
    }
    jobs.extend(lens::on_growth(model, done));
    if model.station == Station::Directories {
        rank(model);
        jobs.extend(look(model));
    }
    jobs
}

/// A catalog that can be read for a moment.
pub(super) struct Readable(Arc<RwLock<Catalog>>);

impl Readable {
    pub(super) fn read_now(&self) -> RwLockReadGuard<'_, Catalog> {
        self.0.read().unwrap_or_else(PoisonError::into_inner)
    }
}

pub(super) fn read(model: &Model) -> Option<Readable> {
    model.scan.catalog.clone().map(Readable)
}

/// Ranks the directory at hand afresh. The selected entry stays selected where it now stands; as
/// long as the user has not chosen one, it is the first.
pub(super) fn rank(model: &mut Model) {
    let Some(readable) = read(model) else { return };
    let catalog = readable.read_now();
    let visible = list_rows(model);
    let selection = lens::selection(model);
    let seen = catalog.seen(selection.as_deref());
    let directories = &mut model.directories;
    if let Some((path, inside)) = &directories.wanted
        && let Some(id) = catalog.find(path)
        && catalog.is_directory(id)
    {
        directories.at = Some(id);
        if let Some(inside) = inside.as_ref().and_then(|inside| catalog.find(inside)) {
            (directories.selected, directories.chosen) = (Some(Selected::Entry(inside)), true);
        }
    }
    let Some(top) = catalog.top() else { return };
    let at = *directories.at.get_or_insert(top);
    let children = match seen.is_narrowed() {
        true => seen.children(at).count(),
        false => catalog.children(at).len(),
    };
    let all = directories.tail_open || children <= visible;
    let limit = if all { usize::MAX } else { visible.saturating_sub(1) };
    let ranking = seen.ranking(at, directories.order, limit);
    directories.path = catalog.path(at);
    directories.parent = catalog.parent(at);
    directories.whole = seen.allocated(at);
    directories.entries = seen.entries(at);
    directories.all = (catalog.allocated(at), catalog.entries(at));
    directories.ids = ranking.rows;
    directories.tail = ranking.tail;
    let stands = directories.cursor().is_some_and(|cursor| cursor < directories.length());
    if !directories.chosen || !stands {
        let chosen = directories.chosen && directories.selected == Some(Selected::Tail);
        let first = directories.ids.first().map(|id| Selected::Entry(*id));
        directories.selected = if chosen { Some(Selected::Tail) } else { first };
    }
    drop(catalog);
    window(model);
    if model.looking.manner == Manner::Map {
        map::draw_up(model);
    }
}

/// The directory at hand; the topmost if none has been gone to yet.
pub(super) fn at(model: &Model) -> Option<EntryId> {
    model.directories.at.or_else(|| read(model)?.read_now().top())
}

/// Makes the rows that are on the screen, scrolled so that the selected one is among them.
fn window(model: &mut Model) {
    let Some(readable) = read(model) else { return };
    let catalog = readable.read_now();
    let visible = list_rows(model);
    let cursor = model.directories.cursor().unwrap_or(0);
    let length = model.directories.length();
    let mut offset = model.directories.offset.min(length.saturating_sub(visible));
    if cursor < offset {
        offset = cursor;
    } else if cursor >= offset + visible {
        offset = cursor + 1 - visible;
    }
    let ids = &model.directories.ids;
    let selection = lens::selection(model);
    let seen = catalog.seen(selection.as_deref());
    let above: Bytes = ids[..offset.min(ids.len())].iter().map(|id| seen.allocated(*id)).sum();
    let rows = ids.iter().skip(offset).take(visible).map(|id| entry_row(seen, *id, model));
    let rows: Vec<EntryRow> = rows.collect();
    let directories = &mut model.directories;
    (directories.offset, directories.above, directories.rows) = (offset, above, rows);
}

fn entry_row(seen: Seen<'_>, id: EntryId, model: &Model) -> EntryRow {
    let catalog = seen.catalog();
    let slash = if catalog.is_directory(id) { "/" } else { "" };
    let reading = catalog.reading(id);
    let planned = model.draft.covering(&model.directories.path.join(catalog.name(id)));
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
        planned: planned.map(|planned| crate::app::deed_letter(&planned.deed)),
    }
}

/// Asks for what is known about the selected entry, unless it is known.
pub(super) fn look(model: &mut Model) -> Vec<Job> {
    let Some(id) = model.subject() else {
        // whoever comes back to the same entry asks for it anew
        (model.evidence, model.asked_evidence) = (None, None);
        return Vec::new();
    };
    if model.scan.running && !model.directories.chosen {
        // rankings still move: looking at whatever comes first would only hold up the scan
        return Vec::new();
    }
    let of_it = model.evidence.as_ref().filter(|(known, _)| *known == id);
    let known = of_it
        .is_some_and(|(_, evidence)| model.scan.running || evidence.totals.exclusive.is_some());
    let asked = model.asked_evidence == Some((model.scan.number, id));
    if known || asked {
        return Vec::new();
    }
    if of_it.is_none() {
        model.evidence = None;
    }
    model.asked_evidence = Some((model.scan.number, id));
    let Some(catalog) = model.scan.catalog.clone() else { return Vec::new() };
    let (number, state, now) = (model.scan.number, model.state.clone(), model.now);
    vec![Job::Evidence { number, id, catalog, state, now }]
}

/// Selects the row at a place.
pub(super) fn select(model: &mut Model, place: usize) -> Vec<Job> {
    let directories = &mut model.directories;
    directories.selected = match directories.ids.get(place) {
        Some(id) => Some(Selected::Entry(*id)),
        None => Some(Selected::Tail),
    };
    directories.chosen = true;
    window(model);
    look(model)
}

pub(super) fn enter(model: &mut Model) -> Vec<Job> {
    if model.focus == Focus::Trail {
        return enter_ancestor(model);
    }
    let directories = &mut model.directories;
    match directories.selected {
        Some(Selected::Tail) => {
            let place = directories.ids.len();
            directories.tail_open = true;
            rank(model);
            select(model, place)
        }
        Some(Selected::Entry(id)) if directories.can_enter() => {
            if let Some(at) = directories.at {
                directories.remembered.insert(at, id);
            }
            go_into(model, id)
        }
        _ => Vec::new(),
    }
}

pub(super) fn go_into(model: &mut Model, id: EntryId) -> Vec<Job> {
    let directories = &mut model.directories;
    directories.at = Some(id);
    directories.tail_open = false;
    directories.offset = 0;
    directories.wanted = None;
    let remembered = directories.remembered.get(&id).copied();
    directories.selected = remembered.map(Selected::Entry);
    directories.chosen = remembered.is_some();
    if model.looking.manner == Manner::Files {
        return lens::refresh(model);
    }
    rank(model);
    look(model)
}

/// An area of the map has been clicked: what it belongs to is selected, and gone into with a double click.
pub(super) fn on_map_click(model: &mut Model, id: EntryId, double: bool) -> Vec<Job> {
    if model.overlay.is_some() || model.looking.manner != Manner::Map {
        return Vec::new();
    }
    if !model.directories.ids.contains(&id) {
        model.directories.tail_open = true;
        rank(model);
    }
    let Some(place) = model.directories.ids.iter().position(|listed| *listed == id) else {
        return Vec::new();
    };
    let mut jobs = select(model, place);
    if double && model.directories.can_enter() {
        jobs.extend(enter(model));
    }
    jobs
}

pub(super) fn go_out(model: &mut Model) -> Vec<Job> {
    let directories = &mut model.directories;
    let (Some(at), Some(parent)) = (directories.at, directories.parent) else { return Vec::new() };
    if let Some(id) = directories.selected_entry() {
        directories.remembered.insert(at, id);
    }
    directories.remembered.insert(parent, at);
    let jobs = go_into(model, parent);
    // the directory that was left may have been in the tail
    if model.directories.cursor().is_none() || model.directories.selected_entry() != Some(at) {
        model.directories.tail_open = true;
        model.directories.selected = Some(Selected::Entry(at));
        model.directories.chosen = true;
        rank(model);
        return look(model);
    }
    jobs
}

/// The directory at hand and those above it that the scan has, topmost first.
fn trail(model: &Model) -> Vec<EntryId> {
    let Some(readable) = read(model) else { return Vec::new() };
    let catalog = readable.read_now();
    let mut trail = Vec::new();
    let mut at = model.directories.at;
    while let Some(id) = at {
        trail.push(id);
        at = catalog.parent(id);
    }
    trail.reverse();
    trail
}

pub(super) fn open_trail(model: &mut Model) -> Vec<Job> {
    if model.focus == Focus::Trail {
        model.focus = Focus::Panel;
        return Vec::new();
    }
    model.focus = Focus::Trail;
    model.directories.trail = trail(model).len().saturating_sub(2);
    Vec::new()
}

/// Keys that move along the trail; says whether the key was one.
pub(super) fn on_trail(model: &mut Model, key: Key) -> bool {
    let last = trail(model).len().saturating_sub(1);
    let directories = &mut model.directories;
    match key {
        Key::Left | Key::Up => directories.trail = directories.trail.saturating_sub(1),
        Key::Right | Key::Down => directories.trail = (directories.trail + 1).min(last),
        Key::Home => directories.trail = 0,
        Key::End => directories.trail = last,
        _ => return false,
    }
    true
}

fn enter_ancestor(model: &mut Model) -> Vec<Job> {
    model.focus = Focus::Panel;
    let trail = trail(model);
    let Some(id) = trail.get(model.directories.trail).copied() else { return Vec::new() };
    for pair in trail.windows(2) {
        model.directories.remembered.insert(pair[0], pair[1]);
    }
    if model.directories.at == Some(id) { Vec::new() } else { go_into(model, id) }
}

pub(super) fn next_order(model: &mut Model) -> Vec<Job> {
    model.directories.order = model.directories.order.next();
    let order = model.directories.order.word();
    rank(model);
    model.say(format!("Ordered by {order}"));
    look(model)
}

/// Keys while a name is being typed: the selection jumps to the first name that begins so.
pub(super) fn on_typed(model: &mut Model, key: Key) -> Vec<Job> {
    let Some(typed) = &mut model.directories.typed else { return Vec::new() };
    match key {
        Key::Char(c) => typed.push(c),
        Key::Backspace => {
            typed.pop();
        }
        _ => {
            model.directories.typed = None;
            return Vec::new();
        }
    }
    let typed = typed.to_lowercase();
    let Some(readable) = read(model) else { return Vec::new() };
    let found = {
        let catalog = readable.read_now();
        let begins = |id: &EntryId| shown(catalog.name(*id)).to_lowercase().starts_with(&typed);
        let listed = model.directories.ids.iter().copied().find(begins);
        listed.or_else(|| {
            let mut all = model.directories.at.into_iter().flat_map(|at| catalog.children(at));
            all.find(begins)
        })
    };
    let Some(id) = found else {
        model.say(format!("No name here begins with {}", shown(&typed)));
        return Vec::new();
    };
    if !model.directories.ids.contains(&id) {
        model.directories.tail_open = true;
    }
    (model.directories.selected, model.directories.chosen) = (Some(Selected::Entry(id)), true);
    rank(model);
    look(model)
}

pub(super) fn list_unreadable(model: &mut Model) -> Vec<Job> {
    let Some(readable) = read(model) else { return Vec::new() };
    let line =
        |place: &Unreadable| format!("cannot {} {}: {}", place.op, Shown(&place.path), place.error);
    let lines: Vec<String> = readable.read_now().unreadable().iter().map(line).collect();
    let title = format!("{} could not be read", counted(lines.len() as u64, "place"));
    model.overlay = Some(Overlay::Listing { title, lines, offset: 0 });
    Vec::new()
}
