//! What changed between two moments, as a tree that can be gone into.

use std::path::PathBuf;
use std::sync::{Arc, Weak};

use fondaco_core::analysis::{BreakdownBy, SliceKey};
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::history::{
    ChangedRow, Changes, Measure, PlaceId, Side, SliceChange, compare_through, same_place,
};
use fondaco_core::lens::{AccountsOf, Lens};
use fondaco_core::saved;
use fondaco_core::state::State;

use super::{TreeState, tide, tide_view};
use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{ComparedScans, Focus, Later, Model, Moment};
use crate::frame::update::evidence::look;
use crate::frame::update::{growth, lens};
use crate::query::{Compared, ComparedRow};

/// What the two chosen moments come to.
pub(super) fn compared(model: &Model) -> Option<&Arc<ComparedScans>> {
    match model.rooms.history.tree.later {
        Some(_) => model.rooms.history.tree.kept.as_ref(),
        None => model.growth.compared.as_ref(),
    }
}

/// The properties that changes are told by.
const BY: [Option<BreakdownBy>; 4] =
    [None, Some(BreakdownBy::Kind), Some(BreakdownBy::Owner), Some(BreakdownBy::Family)];

/// The place that is shown.
pub(super) fn place(model: &Model) -> PlaceId {
    model.rooms.history.tree.way.last().copied().unwrap_or(PlaceId(0))
}

/// Makes the rows of the place that is shown. The selected one stays selected where it now stands. Slices are added up by a
/// job, since every entry that changed is looked at for them.
pub(super) fn draw_up(model: &mut Model) -> Vec<Job> {
    let Some(both) = compared(model).cloned() else {
        let tree = &mut model.rooms.history.tree;
        (tree.rows, tree.slices, tree.slices_of) = (Vec::new(), None, None);
        return Vec::new();
    };
    if let Some(by) = model.rooms.history.tree.by {
        return add_up(model, both, by);
    }
    let after = both.later.read();
    let told = Compared { before: &both.before, after: &after, found: &both.found };
    let is_there = |id: &PlaceId| (id.0 as usize) < both.found.places();
    let tree = &model.rooms.history.tree;
    let selected = tree.rows.get(tree.cursor).map(|row| row.path.clone());
    let tree = &mut model.rooms.history.tree;
    tree.way.retain(is_there);
    let place = tree.way.last().copied().unwrap_or(PlaceId(0));
    tree.rows = told.rows(place);
    let stands = selected.and_then(|path| tree.rows.iter().position(|row| row.path == path));
    tree.cursor = stands.unwrap_or(tree.cursor).min(tree.rows.len().saturating_sub(1));
    Vec::new()
}

/// Adds up what changed by a property, unless that has been done.
fn add_up(model: &mut Model, both: Arc<ComparedScans>, by: BreakdownBy) -> Vec<Job> {
    let tree = &mut model.rooms.history.tree;
    let of = (Arc::downgrade(&both), by);
    if is_of(tree, &of) {
        return Vec::new();
    }
    (tree.slices, tree.slices_of) = (None, Some(of));
    vec![Job::Work(Box::new(AddUp { both, by }))]
}

/// Whether slices were asked for of this comparison and by this property.
fn is_of(tree: &TreeState, (scans, by): &(Weak<ComparedScans>, BreakdownBy)) -> bool {
    tree.slices_of.as_ref().is_some_and(|(known, other)| known.ptr_eq(scans) && other == by)
}

#[derive(Debug)]
struct AddUp {
    both: Arc<ComparedScans>,
    by: BreakdownBy,
}

impl Work for AddUp {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self { both, by } = *self;
        let mut slices = both.found.by(by, &both.before, &both.later.read()).slices;
        // what only moved from directory to directory is no change of a slice
        slices.retain(|slice| {
            let moved_within = slice.changes.moved_within;
            slice.changes != Changes { moved_within, ..Changes::default() }
        });
        Box::new(AddedUp { of: (Arc::downgrade(&both), by), slices })
    }
}

#[derive(Debug)]
struct AddedUp {
    of: (Weak<ComparedScans>, BreakdownBy),
    slices: Vec<SliceChange>,
}

impl News for AddedUp {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let tree = &mut model.rooms.history.tree;
        if !is_of(tree, &self.of) || tree.by != Some(self.of.1) {
            return Vec::new();
        }
        tree.cursor = tree.cursor.min(self.slices.len().saturating_sub(1));
        tree.slices = Some(self.slices);
        look(model)
    }
}

pub(super) fn length(model: &Model) -> usize {
    let tree = &model.rooms.history.tree;
    if is_behind_tide(model) {
        return 0;
    }
    match tree.by {
        Some(_) => tree.slices.as_ref().map_or(0, Vec::len),
        None => tree.rows.len(),
    }
}

/// Whether the tide is shown in place of the changes. What is not seen is neither told about nor acted on.
fn is_behind_tide(model: &Model) -> bool {
    model.focus == Focus::Panel && tide_view::is_low(model)
}

/// The selected row, if changes are told by directory and are seen.
pub(super) fn selected(model: &Model) -> Option<&ComparedRow> {
    let tree = &model.rooms.history.tree;
    if tree.by.is_some() || is_behind_tide(model) { None } else { tree.rows.get(tree.cursor) }
}

pub(super) fn select(model: &mut Model, row: usize) -> Vec<Job> {
    model.rooms.history.tree.cursor = row;
    look(model)
}

/// The selected entry, if it is one of the scan at hand.
pub(super) fn subject(model: &Model) -> Option<EntryId> {
    if model.rooms.history.now.shown || model.rooms.history.tree.later.is_some() {
        return None;
    }
    let both = compared(model)?;
    let at_hand = model.scan.catalog.as_ref()?;
    let is_at_hand = matches!(&both.later, Later::AtHand(later) if Arc::ptr_eq(later, at_hand));
    selected(model).filter(|row| is_at_hand && !row.is_own)?.after
}

pub(super) fn can_enter(model: &Model) -> bool {
    if model.rooms.history.now.shown || is_behind_tide(model) {
        return false;
    }
    let tree = &model.rooms.history.tree;
    match tree.by {
        None => selected(model).is_some_and(|row| row.is_directory),
        Some(_) => slice_term(model).is_some(),
    }
}

fn slice_term(model: &Model) -> Option<String> {
    let tree = &model.rooms.history.tree;
    let key = &tree.slices.as_ref()?.get(tree.cursor)?.key;
    let is_root = matches!(key, SliceKey::Family(family) if family.is_empty());
    (!is_root).then(|| key.term())
}

/// Goes into the selected directory, or puts the selected slice into the lens.
pub(super) fn enter(model: &mut Model) -> Vec<Job> {
    if model.rooms.history.tree.by.is_some() {
        let Some(term) = slice_term(model) else { return Vec::new() };
        model.rooms.history.tree.by = None;
        model.rooms.history.tree.cursor = 0;
        return lens::narrow(model, &term);
    }
    if let Some(ChangedRow::Place(id)) = selected(model).map(|row| row.row) {
        let tree = &mut model.rooms.history.tree;
        tree.way.push(id);
        tree.cursor = 0;
        return drawn_up(model);
    }
    look(model)
}

/// Draws up what is shown, and looks at what is selected then.
fn drawn_up(model: &mut Model) -> Vec<Job> {
    let mut jobs = draw_up(model);
    jobs.extend(look(model));
    jobs
}

pub(super) fn go_out(model: &mut Model) -> Vec<Job> {
    let tree = &mut model.rooms.history.tree;
    let left = tree.way.pop();
    let mut jobs = draw_up(model);
    let tree = &mut model.rooms.history.tree;
    let was = left.map(ChangedRow::Place);
    tree.cursor = tree.rows.iter().position(|row| Some(row.row) == was).unwrap_or(0);
    jobs.extend(look(model));
    jobs
}

/// By the next property.
pub(super) fn turn(model: &mut Model) -> Vec<Job> {
    let tree = &mut model.rooms.history.tree;
    let at = BY.iter().position(|by| *by == tree.by).unwrap_or(0);
    tree.by = BY[(at + 1) % BY.len()];
    (tree.cursor, tree.way) = (0, Vec::new());
    drawn_up(model)
}

/// The kept scan that is nearest to the marked moment, by its place among the moments.
fn nearest(model: &Model) -> Option<usize> {
    let at = tide::marked(model)?;
    let far = |moment: &Moment| moment.1.sec.abs_diff(at.sec);
    let moments = model.growth.moments.iter().enumerate();
    moments.min_by_key(|(_, moment)| far(moment)).map(|(place, _)| place)
}

/// Compares from the marked moment on.
pub(super) fn from_here(model: &mut Model) -> Vec<Job> {
    let Some(place) = nearest(model) else { return Vec::new() };
    let chosen = model.growth.moments[place];
    if model.rooms.history.tree.later.is_some_and(|later| later.1 <= chosen.1) {
        model.rooms.history.tree.later = None;
    }
    model.rooms.history.tree.way.clear();
    growth::choose_moment(model, place)
}

/// Compares up to the marked moment; at the end of the tide to the scan at hand.
pub(super) fn to_here(model: &mut Model) -> Vec<Job> {
    let Some(place) = nearest(model) else { return Vec::new() };
    let later = model.growth.moments[place];
    let tree = &mut model.rooms.history.tree;
    tree.way.clear();
    if model.rooms.history.tide.at.is_none() {
        model.rooms.history.tree.later = None;
        model.say("Compared with the scan at hand");
        return drawn_up(model);
    }
    if model.growth.chosen.is_some_and(|chosen| chosen.1 >= later.1) {
        model
            .say_trouble("That moment is not after the earlier one: < chooses another earlier one");
        return Vec::new();
    }
    model.rooms.history.tree.later = Some(later);
    model.say(format!("Compared to scan {} of {}", later.0, later.1.local()));
    compare_kept(model)
}

/// Compares two kept scans, if the later moment is one.
pub(super) fn compare_kept(model: &mut Model) -> Vec<Job> {
    let (Some(later), Some(earlier)) = (model.rooms.history.tree.later, model.growth.chosen) else {
        return Vec::new();
    };
    let tree = &mut model.rooms.history.tree;
    tree.number += 1;
    let last = tree.kept.take();
    // what has been read is not read again
    let before = model.growth.before.as_ref().filter(|(moment, _)| *moment == earlier);
    let after = last.as_ref().and_then(|last| match &last.later {
        Later::Kept(moment, catalog) if *moment == later => Some(Arc::clone(catalog)),
        _ => None,
    });
    let work = CompareKept {
        number: tree.number,
        earlier: (earlier, before.map(|(_, catalog)| Arc::clone(catalog))),
        later: (later, after),
        lens: model.lens.text.clone(),
        state: model.state.clone(),
    };
    let mut jobs = draw_up(model);
    jobs.extend(last.map(|last| Job::DropLater(last)));
    jobs.push(Job::Work(Box::new(work)));
    jobs
}

/// Draws up what changed; under another lens two kept scans are compared anew.
pub(super) fn follow_lens(model: &mut Model) -> Vec<Job> {
    let tree = &model.rooms.history.tree;
    match &tree.kept {
        Some(kept) if tree.later.is_some() && kept.lens != model.lens.text => compare_kept(model),
        _ => draw_up(model),
    }
}

/// A kept scan, which may have been read before.
type KeptScan = (Moment, Option<Arc<Catalog>>);

#[derive(Debug)]
struct CompareKept {
    number: u64,
    earlier: KeptScan,
    later: KeptScan,
    lens: String,
    state: State,
}

impl Work for CompareKept {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let outcome = self.compared().map(Arc::new);
        Box::new(KeptCompared { number: self.number, outcome })
    }
}

impl CompareKept {
    fn compared(&self) -> Result<ComparedScans, Failure> {
        let open = |(moment, read): &KeptScan| match read {
            Some(catalog) => Ok(Arc::clone(catalog)),
            None => saved::open(&self.state, moment.0).map(Arc::new).map_err(Failure::of),
        };
        let (before, after) = (open(&self.earlier)?, open(&self.later)?);
        let (was, is) = same_place(&before, &after).ok_or("one of the scans is empty")?;
        let names = AccountsOf { origin: after.origin(), system: &self.state };
        let lens = match self.lens.is_empty() {
            true => None,
            false => Some(Lens::parse(&self.lens, &names).map_err(Failure::of)?),
        };
        let chosen = lens.as_ref().map(|lens| lens.select(&after, &names));
        let side = Side { seen: after.seen(chosen.as_ref()), at: is };
        let found =
            compare_through(lens.as_ref(), &names, (&before, was), side, Measure::Allocated);
        Ok(ComparedScans {
            earlier: self.earlier.0,
            other: None,
            later_at: after.now(),
            later: Later::Kept(self.later.0, Arc::clone(&after)),
            before,
            found,
            lens: self.lens.clone(),
        })
    }
}

#[derive(Debug)]
struct KeptCompared {
    number: u64,
    outcome: Result<Arc<ComparedScans>, Failure>,
}

impl News for KeptCompared {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if model.rooms.history.tree.number != self.number {
            return Vec::new();
        }
        match self.outcome {
            Ok(compared) => model.rooms.history.tree.kept = Some(compared),
            Err(reason) => {
                model.rooms.history.tree.later = None;
                model.say_trouble(format!("The two scans cannot be compared: {reason}"));
            }
        }
        let mut jobs = follow_lens(model);
        jobs.extend(look(model));
        jobs
    }
}

/// The path of the place that is shown.
pub(super) fn path(model: &Model) -> Option<PathBuf> {
    let both = compared(model)?;
    let shown = both.found.place(place(model));
    let after = both.later.read();
    let told = Compared { before: &both.before, after: &after, found: &both.found };
    Some(told.path(shown.before(), shown.after()))
}
