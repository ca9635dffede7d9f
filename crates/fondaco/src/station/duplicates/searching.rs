//! Counting what could be equal, the search, and its results as rows.

use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, PoisonError, RwLock};

use fondaco_core::catalog::{Catalog, EntryId, Selection};
use fondaco_core::duplicates::{
    Arranged, Candidates, Contained, Containment, Figures, Found, Keep, Known, Places, Relation,
    Set, search,
};
use fondaco_core::kernel;
use fondaco_core::parallel;
use fondaco_core::state::State as Settings;
use fondaco_core::units::{Bytes, Time, counted};

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::Model;

/// Pairs of trees are shown of which at least so much of the one is in the other.
const LEAST: f64 = 0.25;
/// So many sets and pairs are shown at most.
const SHOWN: usize = 5000;

/// What of the scan at hand could be equal.
#[derive(Clone, Debug)]
pub(super) struct Could {
    pub(super) files: u64,
    pub(super) bytes: Bytes,
}

/// How far the search is.
#[derive(Clone, Debug, Default)]
pub(super) enum Search {
    /// Nothing has been read yet.
    #[default]
    None,
    /// It goes on.
    Going {
        figures: Figures,
        /// Sets that have been found so far, and what all but one of each take.
        sets: u64,
        relief: Bytes,
        stop: Arc<AtomicBool>,
    },
    /// It has ended.
    Done(Arc<Results>),
}

/// A tree, and the one that holds much of it.
#[derive(Clone, Debug)]
pub(super) struct PairRow {
    pub(super) contained: Contained,
    /// Below the scanned root.
    pub(super) tree: PathBuf,
    pub(super) within: PathBuf,
}

/// Equal files, the one that stays first.
#[derive(Clone, Debug)]
pub(super) struct SetRow {
    /// Its number among the sets that were found.
    pub(super) number: usize,
    pub(super) arranged: Arranged,
    pub(super) copies: Vec<CopyRow>,
}

/// One of some equal files.
#[derive(Clone, Debug)]
pub(super) struct CopyRow {
    pub(super) path: PathBuf,
    pub(super) below_root: PathBuf,
    pub(super) written: Time,
    /// How many names it has.
    pub(super) names: u32,
}

/// What a search has found.
#[derive(Debug)]
pub(super) struct Results {
    pub(super) found: Arc<Found>,
    pub(super) pairs: Arc<Vec<PairRow>>,
    pub(super) sets: Vec<SetRow>,
    /// What all copies but one of each set take.
    pub(super) relief: Bytes,
    /// For every scanned name of a copy the number of its set.
    pub(super) set_of: Arc<HashMap<EntryId, u32>>,
}

/// What of a tree is not in the other one.
#[derive(Debug)]
pub(super) struct NotThere {
    pub(super) pair: PairRow,
    /// Path below the tree, length, what it is.
    pub(super) files: Vec<(PathBuf, Bytes, Relation)>,
}

/// What is asked about: the scan at hand, as far as the lens shows it.
#[derive(Clone, Debug)]
pub(super) struct Subject {
    number: u64,
    scan: u64,
    catalog: Arc<RwLock<Catalog>>,
    selection: Option<Arc<Selection>>,
    pub(super) settings: Settings,
}

impl Subject {
    /// Of the scan at hand, if it has ended.
    pub(super) fn of(model: &mut Model) -> Option<Self> {
        if model.scan.running {
            return None;
        }
        let catalog = model.scan.catalog.clone()?;
        model.rooms.duplicates.number += 1;
        model.rooms.duplicates.about = model.searched();
        Some(Self {
            number: model.rooms.duplicates.number,
            scan: model.scan.number,
            catalog,
            selection: model.lens.selection.clone(),
            settings: model.state.clone(),
        })
    }

    /// Asks the catalog something, which is not held longer than that.
    pub(super) fn with<T>(&self, ask: impl FnOnce(&Catalog, Option<&Selection>) -> T) -> T {
        let catalog = self.catalog.read().unwrap_or_else(PoisonError::into_inner);
        ask(&catalog, self.selection.as_deref())
    }

    /// Whether an answer is still wanted.
    fn is_current(&self, model: &Model) -> bool {
        self.number == model.rooms.duplicates.number && self.scan == model.scan.number
    }
}

/// The catalog is asked for a moment, and not held while files are read.
impl Places for Subject {
    fn path(&self, entry: EntryId) -> PathBuf {
        self.with(|catalog, _| catalog.path(entry))
    }

    fn places(&self, entries: &[EntryId]) -> Vec<(Option<EntryId>, OsString)> {
        self.with(|catalog, _| catalog.places(entries))
    }
}

fn roots(catalog: &Catalog) -> Vec<EntryId> {
    catalog.roots().iter().map(|root| root.entry).collect()
}

/// Counts what could be equal, unless that is known.
pub(super) fn count(model: &mut Model) -> Vec<Job> {
    let state = &model.rooms.duplicates;
    if state.could.is_some() || !matches!(state.search, Search::None) {
        return Vec::new();
    }
    // the scan has changed since: what is known by its hash is not read once more
    if let Some(before) = state.again.clone() {
        let jobs = begin(model);
        let state = &mut model.rooms.duplicates;
        if !jobs.is_empty() {
            (state.pair, state.set, state.again) = (before.pair, before.set, None);
            state.showed_sets = before.shows_sets;
        }
        return jobs;
    }
    match Subject::of(model) {
        Some(subject) => vec![Job::Work(Box::new(Count(subject)))],
        None => Vec::new(),
    }
}

/// The scan has changed: if there were results, they are looked for again when they are wanted.
pub(super) fn forget_until_wanted(model: &mut Model) {
    let state = &mut model.rooms.duplicates;
    if state.results().is_some() {
        let super::State { pair, set, shows_sets, .. } = *state;
        state.again = Some(Again { pair, set, shows_sets });
    }
    forget(model);
}

/// What was selected before the scan changed.
#[derive(Clone, Debug)]
pub(super) struct Again {
    pair: usize,
    set: usize,
    shows_sets: bool,
}

/// The scan or the lens is another one.
pub(super) fn forget(model: &mut Model) {
    let state = &mut model.rooms.duplicates;
    if let Search::Going { stop, .. } = &state.search {
        stop.store(true, Relaxed);
    }
    let (number, again) = (state.number + 1, state.again.take());
    *state = super::State { number, again, ..super::State::default() };
}

#[derive(Debug)]
struct Count(Subject);

impl Work for Count {
    fn run(self: Box<Self>) -> Box<dyn News> {
        kernel::stand_back();
        let could = self.0.with(|catalog, selection| {
            let candidates = Candidates::of(catalog.seen(selection), &roots(catalog));
            Could { files: candidates.len() as u64, bytes: candidates.bytes() }
        });
        Box::new(Counted(self.0, could))
    }
}

#[derive(Debug)]
struct Counted(Subject, Could);

impl News for Counted {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if self.0.is_current(model) {
            model.rooms.duplicates.could = Some(self.1);
        }
        Vec::new()
    }
}

/// Begins the search.
pub(super) fn begin(model: &mut Model) -> Vec<Job> {
    let Some(subject) = Subject::of(model) else { return Vec::new() };
    let stop = Arc::new(AtomicBool::new(false));
    let state = &mut model.rooms.duplicates;
    state.open = None;
    state.search = Search::Going {
        figures: Figures::default(),
        sets: 0,
        relief: Bytes::ZERO,
        stop: Arc::clone(&stop),
    };
    vec![Job::Work(Box::new(Searching { subject, stop }))]
}

/// Ends the search; what is known by then is shown.
pub(super) fn stop(model: &mut Model) -> Vec<Job> {
    let state = &mut model.rooms.duplicates;
    let Search::Going { figures, stop, .. } = &state.search else { return Vec::new() };
    stop.store(true, Relaxed);
    if figures.candidates == 0 {
        // what is still being counted is of no use, and not waited for
        state.number += 1;
        state.search = Search::None;
        model.say("Stopped: no files had been compared yet");
    } else {
        model.say("Stopping: what is known by now is put in order");
    }
    Vec::new()
}

#[derive(Debug)]
struct Searching {
    subject: Subject,
    stop: Arc<AtomicBool>,
}

impl Work for Searching {
    fn run(self: Box<Self>) -> Box<dyn News> {
        self.run_telling(&mut |_| {})
    }

    fn run_telling(self: Box<Self>, tell: &mut dyn FnMut(Box<dyn News>)) -> Box<dyn News> {
        let Self { subject, stop } = *self;
        let candidates = subject
            .with(|catalog, selection| Candidates::of(catalog.seen(selection), &roots(catalog)));
        let known = Known::open(&subject.settings.hashes_file(), false, Time::now());
        // what cannot be remembered is read again the next time
        let known = known.unwrap_or_default();
        let (mut sets, mut relief) = (0, Bytes::ZERO);
        let found = search(candidates, &subject, &known, &mut |figures, new| {
            sets += new.len() as u64;
            let others = |set: &Set| Bytes::new(set.length.get() * (set.copies.len() as u64 - 1));
            relief += new.iter().map(others).sum();
            tell(Box::new(Progress {
                subject: subject.clone(),
                figures: figures.clone(),
                sets,
                relief,
            }));
            if stop.load(Relaxed) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        // what a stopped search has read is written down beside what comes next
        parallel::begin(move || drop(known));
        let results = subject.with(|catalog, selection| {
            let containment =
                Containment::new(catalog.seen(selection), &roots(catalog), &found.sets);
            let mut pairs = containment.rows(LEAST);
            pairs.truncate(SHOWN);
            let row = |contained: Contained| PairRow {
                tree: catalog.path_below_root(contained.tree),
                within: catalog.path_below_root(contained.within),
                contained,
            };
            pairs.into_iter().map(row).collect::<Vec<_>>()
        });
        let arranged = arrange(&subject, &found.sets, HashSet::new());
        let set_of = Arc::new(subject.with(|catalog, _| set_of(catalog, &found.sets)));
        let (found, pairs) = (Arc::new(found), Arc::new(results));
        let results = |(sets, relief)| Arc::new(Results { found, pairs, sets, relief, set_of });
        let outcome = arranged.map(results);
        Box::new(Ended(subject, outcome))
    }
}

#[derive(Debug)]
struct Progress {
    subject: Subject,
    figures: Figures,
    sets: u64,
    relief: Bytes,
}

impl News for Progress {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if self.subject.is_current(model)
            && let Search::Going { figures, sets, relief, .. } = &mut model.rooms.duplicates.search
        {
            (*figures, *sets, *relief) = (self.figures, self.sets, self.relief);
        }
        Vec::new()
    }
}

#[derive(Debug)]
struct Ended(Subject, Result<Arc<Results>, Failure>);

impl News for Ended {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if !self.0.is_current(model) {
            return Vec::new();
        }
        match self.1 {
            Ok(results) => {
                if results.found.stopped {
                    model.say("Stopped: this is what was known by then");
                }
                let last_run = last_run(model).unwrap_or_default();
                let state = &mut model.rooms.duplicates;
                state.last_run = last_run;
                state.pair = state.pair.min(results.pairs.len().saturating_sub(1));
                state.set = state.set.min(results.sets.len().saturating_sub(1));
                // where no tree is like another one, the sets are all there is
                let is_only = results.pairs.is_empty() && !results.sets.is_empty();
                state.shows_sets = is_only || std::mem::take(&mut state.showed_sets);
                state.search = Search::Done(results);
            }
            Err(failure) => {
                model.rooms.duplicates.search = Search::None;
                model.say_trouble(failure);
            }
        }
        Vec::new()
    }
}

fn set_of(catalog: &Catalog, sets: &[Set]) -> HashMap<EntryId, u32> {
    let mut set_of = HashMap::new();
    for (number, set) in (0u32..).zip(sets) {
        for copy in &set.copies {
            match catalog.names_of_inode(*copy) {
                Some((names, _)) => set_of.extend(names.into_iter().map(|name| (name, number))),
                None => {
                    set_of.insert(*copy, number);
                }
            }
        }
    }
    set_of
}

/// The order of preference of the settings, after what has been chosen by hand.
pub(super) fn keep(settings: &Settings, chosen: HashSet<EntryId>) -> Result<Keep, Failure> {
    let keep = Keep::parse(&settings.settings.keep).map_err(Failure::of)?;
    Ok(keep.with_chosen(chosen))
}

/// What the last run did to copies, and what it left.
fn last_run(model: &Model) -> Option<String> {
    let summary = model.run.summary.as_ref()?;
    let copies = || summary.entries.iter().filter(|entry| entry.action.stays.is_some());
    let done = copies().find(|entry| entry.state.is_done())?.state;
    let count = copies().filter(|entry| entry.state == done).count();
    let left = copies().filter(|entry| !entry.state.is_done()).count();
    let left = if left > 0 { format!(", {left} left") } else { String::new() };
    let copies = counted(count as u64, "copy");
    Some(format!(" · run {}: {copies} {}{left}", summary.run, done.word()))
}

/// Puts the copies of every set in order of preference.
fn arrange(
    subject: &Subject,
    sets: &[Set],
    chosen: HashSet<EntryId>,
) -> Result<(Vec<SetRow>, Bytes), Failure> {
    let keep = keep(&subject.settings, chosen)?;
    Ok(subject.with(|catalog, _| {
        let copy = |id: &EntryId| {
            let names = catalog.names_of_inode(*id);
            CopyRow {
                path: catalog.path(*id),
                below_root: catalog.path_below_root(*id),
                written: catalog.modified(*id),
                names: names.map_or(1, |(met, elsewhere)| met.len() as u32 + elsewhere),
            }
        };
        let mut relief = Bytes::ZERO;
        let mut rows = Vec::new();
        for (number, set) in sets.iter().enumerate() {
            let arranged = keep.arrange(catalog, set);
            relief += arranged.relief;
            if rows.len() < SHOWN {
                let copies = arranged.copies.iter().map(copy).collect();
                rows.push(SetRow { number, arranged, copies });
            }
        }
        let path = |row: &SetRow| row.copies.first().map(|copy| copy.path.clone());
        rows.sort_by_cached_key(|row| (std::cmp::Reverse(row.arranged.relief), path(row)));
        (rows, relief)
    }))
}

/// Another copy of the selected set stays: the next one, whatever the order of preference says.
pub(super) fn keep_another(model: &mut Model) -> Vec<Job> {
    let Some(set) = super::selected_set(model) else { return Vec::new() };
    let Some(results) = model.rooms.duplicates.results().cloned() else { return Vec::new() };
    let copies = &results.found.sets[set.number].copies;
    let stays = set.arranged.copies.first().copied();
    // what stays may be another name of the copy that the set has
    let names = subject_names(model, stays);
    let at = copies.iter().position(|copy| names.contains(copy)).unwrap_or(0);
    let next = copies[(at + 1) % copies.len()];
    let chosen = &mut model.rooms.duplicates.chosen;
    chosen.retain(|copy| !copies.contains(copy) && !names.contains(copy));
    chosen.insert(next);
    rearrange(model)
}

/// All scanned names of an entry.
fn subject_names(model: &Model, entry: Option<EntryId>) -> Vec<EntryId> {
    let Some((entry, catalog)) = entry.zip(model.scan.catalog.as_ref()) else { return Vec::new() };
    let catalog = catalog.read().unwrap_or_else(PoisonError::into_inner);
    catalog.names_of_inode(entry).map_or_else(|| vec![entry], |(names, _)| names)
}

/// Puts the sets in order anew: the order of preference is another one.
pub(super) fn rearrange(model: &mut Model) -> Vec<Job> {
    let Some(results) = model.rooms.duplicates.results().cloned() else { return Vec::new() };
    match Subject::of(model) {
        Some(subject) => {
            let chosen = model.rooms.duplicates.chosen.clone();
            vec![Job::Work(Box::new(Rearrange(subject, results, chosen)))]
        }
        None => Vec::new(),
    }
}

#[derive(Debug)]
struct Rearrange(Subject, Arc<Results>, HashSet<EntryId>);

impl Work for Rearrange {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self(subject, before, chosen) = *self;
        let arranged = arrange(&subject, &before.found.sets, chosen);
        Box::new(Rearranged(subject, arranged.map(|(sets, relief)| (before, sets, relief))))
    }
}

#[derive(Debug)]
struct Rearranged(Subject, Result<(Arc<Results>, Vec<SetRow>, Bytes), Failure>);

impl News for Rearranged {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if !self.0.is_current(model) {
            return Vec::new();
        }
        match self.1 {
            Ok((before, sets, relief)) => {
                let results = Results {
                    found: Arc::clone(&before.found),
                    pairs: Arc::clone(&before.pairs),
                    sets,
                    relief,
                    set_of: Arc::clone(&before.set_of),
                };
                // the cursor stays on its set
                let state = &mut model.rooms.duplicates;
                let number = before.sets.get(state.set).map(|row| row.number);
                let row = results.sets.iter().position(|row| Some(row.number) == number);
                state.set = row.unwrap_or(0);
                model.rooms.duplicates.search = Search::Done(Arc::new(results));
            }
            Err(failure) => model.say_trouble(failure),
        }
        Vec::new()
    }
}

/// Lists what of the selected tree is not in the other one.
pub(super) fn open(model: &mut Model) -> Vec<Job> {
    let Some(pair) = super::selected_pair(model).cloned() else { return Vec::new() };
    let Some(results) = model.rooms.duplicates.results().cloned() else { return Vec::new() };
    match Subject::of(model) {
        Some(subject) => vec![Job::Work(Box::new(Open { subject, results, pair }))],
        None => Vec::new(),
    }
}

#[derive(Debug)]
struct Open {
    subject: Subject,
    results: Arc<Results>,
    pair: PairRow,
}

impl Work for Open {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self { subject, results, pair } = *self;
        let mut files = subject.with(|catalog, selection| {
            let containment =
                Containment::new(catalog.seen(selection), &roots(catalog), &results.found.sets);
            let (tree, within) = (pair.contained.tree, pair.contained.within);
            let above = catalog.path(tree);
            let not_there = |(id, relation): (EntryId, Relation)| {
                let is_there = matches!(relation, Relation::Same | Relation::Elsewhere);
                let path = catalog.path(id);
                let below = path.strip_prefix(&above).unwrap_or(&path).to_owned();
                (!is_there).then(|| (below, catalog.apparent(id), relation))
            };
            containment.relations(tree, within).filter_map(not_there).collect::<Vec<_>>()
        });
        files.sort_by_key(|(path, bytes, _)| (std::cmp::Reverse(*bytes), path.clone()));
        Box::new(Opened(subject, Arc::new(NotThere { pair, files })))
    }
}

#[derive(Debug)]
struct Opened(Subject, Arc<NotThere>);

impl News for Opened {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if self.0.is_current(model) {
            model.rooms.duplicates.open = Some((self.1, 0));
        }
        Vec::new()
    }
}
