//! Comparing the scan at hand with an earlier one of the same place.

use std::path::PathBuf;
use std::sync::Arc;

use fondaco_core::analysis::BreakdownBy;
use fondaco_core::catalog::{Catalog, EntryId, Seen};
use fondaco_core::history::{Measure, Side, as_they_are, compare_through, same_place};
use fondaco_core::lens::{AccountsOf, Lens};
use fondaco_core::saved;
use fondaco_core::state::State;
use fondaco_core::units::Time;

use super::lens;
use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{ComparedScans, GrownSlices, Growth, Later, Model, Moment};
use crate::frame::questions::Question;

/// A scan is compared by itself with one that is at least so many seconds older.
const OLDER: i64 = 3600;

/// Whether the scan at hand can be compared: one place that has been scanned to its end.
pub fn can_compare(model: &Model) -> bool {
    // what a scan that was stopped did not come to would look gone
    let is_whole = model.scan.catalog.is_some() && !model.scan.running && model.scan.complete;
    is_whole && model.scan.roots.len() == 1
}

/// Shows the column of growth, or takes it away.
pub fn turn(model: &mut Model) -> Vec<Job> {
    model.growth.shown = !model.growth.shown;
    if !model.growth.shown {
        return lens::refresh(model);
    }
    if model.growth.moments_of == Some(model.scan.number) {
        say_chosen(model);
    } else {
        model.say("Looking for an earlier scan of this place …");
    }
    let mut jobs = look(model);
    jobs.extend(lens::refresh(model));
    jobs
}

/// Says what the scan at hand is compared with.
fn say_chosen(model: &mut Model) {
    let scanned = model.scan.read().map_or(model.now, |catalog| catalog.now());
    match model.growth.chosen {
        None => model.say("No earlier scan of this place is kept: what is scanned from now on is"),
        Some((number, at)) => {
            let age = at.age(scanned);
            model
                .say(format!("Compared with scan {number}, {age} earlier: [ and ] choose another"));
        }
    }
}

/// Finds what there is to compare with, and compares with it.
pub fn look(model: &mut Model) -> Vec<Job> {
    if !can_compare(model) {
        return Vec::new();
    }
    if model.growth.moments_of != Some(model.scan.number) {
        let Some(scanned) = model.scan.read().map(|catalog| catalog.now()) else {
            return Vec::new();
        };
        let find = FindMoments {
            scan: model.scan.number,
            place: model.scan.roots[0].clone(),
            scanned,
            state: model.state.clone(),
        };
        return vec![Job::Work(Box::new(find))];
    }
    ask(model)
}

/// Compares with the chosen scan, unless that has been done.
fn ask(model: &mut Model) -> Vec<Job> {
    let (Some(chosen), true) = (model.growth.chosen, can_compare(model)) else {
        return Vec::new();
    };
    let Some((_, before)) = model.growth.before.clone().filter(|(moment, _)| *moment == chosen)
    else {
        model.growth.waiting = true;
        let state = model.state.clone();
        return vec![Job::Work(Box::new(ReadEarlier { moment: chosen, state }))];
    };
    let entries = model.scan.read().map_or(0, |catalog| catalog.len());
    let wanted = (model.scan.number, entries, model.lens.text.clone(), chosen.0);
    if model.lens.waiting || model.growth.asked.as_ref() == Some(&wanted) {
        return Vec::new();
    }
    let Some(later) = model.scan.catalog.clone().map(Later::AtHand) else { return Vec::new() };
    model.growth.asked = Some(wanted);
    model.growth.waiting = true;
    let (text, state) = (model.lens.text.clone(), model.state.clone());
    let other = model.growth.other.clone();
    let question = AskGrowth { earlier: chosen, other, before, later, lens: text, state };
    lens::ask_own(model, question).into_iter().collect()
}

/// Looks again if something that growth depends on is another: the scan, the lens.
pub fn refresh(model: &mut Model) -> Vec<Job> {
    let wanted = model.growth.shown || model.station.room().shows_changes(model);
    let jobs = if wanted { look(model) } else { Vec::new() };
    measure(model);
    jobs
}

/// By how much what lies in the directory at hand has changed.
pub fn measure(model: &mut Model) {
    model.growth.here.clear();
    let (Some(compared), Some(at)) = (model.growth.compared.clone(), model.place.at) else {
        return;
    };
    let after = compared.later.read();
    let here = compared.found.place_after(at, &after);
    if let Some(place) = here {
        let found = compared.found.growth_in(place, &compared.before, &after);
        model.growth.here = found.into_iter().collect();
    }
}

/// Works out by how much slices have changed, unless that has been done.
pub fn slices(model: &mut Model, by: BreakdownBy) -> Vec<Job> {
    let growth = &model.growth;
    let Some(compared) = growth.compared.clone().filter(|_| growth.shown) else {
        return Vec::new();
    };
    if growth.slices.by == Some(by) || by == BreakdownBy::Attribute {
        return Vec::new();
    }
    vec![Job::Work(Box::new(SumSlices { compared, by }))]
}

/// Compares with the scan before or after the chosen one.
pub fn choose(model: &mut Model, step: isize) -> Vec<Job> {
    let growth = &mut model.growth;
    let place = growth.chosen.and_then(|chosen| growth.moments.iter().position(|m| *m == chosen));
    let last = growth.moments.len().saturating_sub(1);
    let next = place.map_or(last, |place| place.saturating_add_signed(step).min(last));
    choose_moment(model, next)
}

/// Compares with the kept scan of this place among those of the place.
pub fn choose_moment(model: &mut Model, place: usize) -> Vec<Job> {
    let Some(moment) = model.growth.moments.get(place).copied() else { return Vec::new() };
    model.growth.chosen = Some(moment);
    model.growth.other = None;
    model.say(format!("Compared with scan {} of {}", moment.0, moment.1.local()));
    let mut jobs = ask(model);
    jobs.extend(model.station.room().on_moment(model));
    jobs
}

/// Compares with a scan that is none of those that are kept.
pub fn compare_with(model: &mut Model, catalog: Arc<Catalog>, path: PathBuf) -> Vec<Job> {
    let moment = (0, catalog.now());
    model.growth.chosen = Some(moment);
    model.growth.before = Some((moment, catalog));
    model.growth.other = Some(path);
    // it may be another than the last that was no kept scan
    model.growth.asked = None;
    ask(model)
}

/// What is compared with is of another scan.
pub fn forget(model: &mut Model) -> Option<Job> {
    let before = std::mem::take(&mut model.growth);
    let Growth { shown, chosen, before: earlier, compared, .. } = before;
    model.growth = Growth { shown, chosen, before: earlier, ..Growth::default() };
    compared.map(|compared| Job::DropLater(compared))
}

#[derive(Debug)]
struct FindMoments {
    scan: u64,
    place: PathBuf,
    scanned: Time,
    state: State,
}

impl Work for FindMoments {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let outcome = saved::list(&self.state).map_err(Failure::of).map(|scans| {
            let of_place = |scan: saved::SavedScan| {
                let about = scan.about.ok()?;
                let is_it = about.complete
                    && matches!(&about.roots[..], [root] if self.place.starts_with(root))
                    && about.scanned < self.scanned;
                is_it.then_some((scan.number, about.scanned))
            };
            let mut moments: Vec<Moment> = scans.into_iter().filter_map(of_place).collect();
            moments.sort_by_key(|(_, at)| *at);
            moments
        });
        Box::new(MomentsFound { scan: self.scan, scanned: self.scanned, outcome })
    }
}

#[derive(Debug)]
struct MomentsFound {
    scan: u64,
    scanned: Time,
    outcome: Result<Vec<Moment>, Failure>,
}

impl News for MomentsFound {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if model.scan.number != self.scan {
            return Vec::new();
        }
        let moments = match self.outcome {
            Ok(moments) => moments,
            Err(reason) => {
                model.say_trouble(format!("The kept scans cannot be listed: {reason}"));
                return Vec::new();
            }
        };
        let older = moments.iter().rev().find(|(_, at)| self.scanned.sec - at.sec >= OLDER);
        // what was chosen before a part was scanned again stays so
        let chosen = model.growth.chosen.filter(|chosen| moments.contains(chosen));
        model.growth.chosen = chosen.or(older.or(moments.last()).copied());
        model.growth.moments = moments;
        model.growth.moments_of = Some(self.scan);
        if model.growth.shown {
            say_chosen(model);
        }
        ask(model)
    }
}

/// Reads a kept scan.
#[derive(Debug)]
struct ReadEarlier {
    moment: Moment,
    state: State,
}

impl Work for ReadEarlier {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let outcome = saved::open(&self.state, self.moment.0).map(Arc::new).map_err(Failure::of);
        Box::new(EarlierRead { moment: self.moment, outcome })
    }
}

#[derive(Debug)]
struct EarlierRead {
    moment: Moment,
    outcome: Result<Arc<Catalog>, Failure>,
}

impl News for EarlierRead {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if model.growth.chosen != Some(self.moment) {
            return Vec::new();
        }
        match self.outcome {
            Ok(catalog) => {
                model.growth.before = Some((self.moment, catalog));
                ask(model)
            }
            Err(reason) => {
                model.growth.waiting = false;
                model.say_trouble(format!("Scan {} cannot be read: {reason}", self.moment.0));
                Vec::new()
            }
        }
    }
}

/// What changed since an earlier scan.
#[derive(Debug)]
struct AskGrowth {
    earlier: Moment,
    other: Option<PathBuf>,
    before: Arc<Catalog>,
    later: Later,
    lens: String,
    state: State,
}

impl Question for AskGrowth {
    fn sort(&self) -> &'static str {
        "growth"
    }

    fn answer(&self, seen: Seen<'_>) -> Box<dyn News> {
        let compared = compared(self, seen);
        Box::new(GrowthFound(compared.map(Arc::new)))
    }
}

fn compared(asked: &AskGrowth, after: Seen<'_>) -> Option<ComparedScans> {
    let before = &asked.before;
    // the root of what was scanned where it lies is the path that was typed; a file of a scan is none of its roots
    let is_tree = asked.other.is_some()
        && asked.other == before.roots().first().map(|root| root.path.clone());
    let (was, is) = match is_tree {
        true => as_they_are(before, after.catalog())?,
        false => same_place(before, after.catalog())?,
    };
    let names = AccountsOf { origin: after.catalog().origin(), system: &asked.state };
    // it is the one under which the scan at hand is seen, so that it has been read before
    let lens = Lens::parse(&asked.lens, &names).ok().filter(|_| !asked.lens.is_empty());
    let side = Side { seen: after, at: is };
    let found = compare_through(lens.as_ref(), &names, (before, was), side, Measure::Allocated);
    Some(ComparedScans {
        earlier: asked.earlier,
        other: asked.other.clone(),
        before: Arc::clone(before),
        later: asked.later.clone(),
        later_at: after.catalog().now(),
        found,
        lens: asked.lens.clone(),
    })
}

#[derive(Debug)]
struct GrowthFound(Option<Arc<ComparedScans>>);

impl News for GrowthFound {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        model.growth.waiting = false;
        model.growth.slices = GrownSlices::default();
        let before = std::mem::replace(&mut model.growth.compared, self.0);
        measure(model);
        let mut jobs: Vec<Job> = before.map(|before| Job::DropLater(before)).into_iter().collect();
        jobs.extend(model.station.room().on_changes(model));
        jobs
    }
}

#[derive(Debug)]
struct SumSlices {
    compared: Arc<ComparedScans>,
    by: BreakdownBy,
}

impl Work for SumSlices {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self { compared, by } = *self;
        let found = compared.found.by(by, &compared.before, &compared.later.read());
        let bytes = found.slices.into_iter().map(|slice| (slice.key, slice.changes.net()));
        Box::new(SlicesSummed(GrownSlices { by: Some(by), bytes: bytes.collect() }))
    }
}

#[derive(Debug)]
struct SlicesSummed(GrownSlices);

impl News for SlicesSummed {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        model.growth.slices = self.0;
        Vec::new()
    }
}

/// Bytes by which an entry of the directory at hand has changed since the earlier scan; nothing if that is not known.
pub fn of_entry(model: &Model, id: EntryId) -> Option<i64> {
    let compared = model.growth.compared.as_ref()?;
    let is_of_scan = match (&compared.later, &model.scan.catalog) {
        (Later::AtHand(later), Some(at_hand)) => Arc::ptr_eq(later, at_hand),
        _ => false,
    };
    (model.growth.shown && is_of_scan).then(|| model.growth.here.get(&id).copied().unwrap_or(0))
}
