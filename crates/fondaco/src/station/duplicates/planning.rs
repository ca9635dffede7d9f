//! Planning what a pair of trees or a set says: copies go, each beside the one that stays.

use std::sync::Arc;

use fondaco_core::duplicates::{Containment, Keep};
use fondaco_core::plan::{CopyPair, Deed, PlannedCopies, Reviewer, plan_copies, plan_pairs};
use fondaco_core::units::{Bytes, Time, counted};
use fondaco_core::volume::Volume;

use super::searching::{PairRow, Results, Subject};
use super::{searching, selected_pair, selected_set};
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Model, Overlay, deeds};
use crate::frame::update::lens;

/// What is planned.
#[derive(Clone, Debug)]
enum Chosen {
    /// What of the tree is in the other one too.
    Pair(PairRow),
    /// All copies of the set but the first, by its number.
    Set(usize),
    /// Those of all sets.
    AllSets,
}

/// Asks what is to be done with the copies in the selected tree or set.
pub(super) fn choose(model: &mut Model) -> Vec<Job> {
    let (count, bytes) = match (selected_pair(model), selected_set(model)) {
        (Some(pair), _) => {
            let row = &pair.contained;
            (row.same.files + row.elsewhere.files, row.relief)
        }
        (_, Some(set)) => (set.copies.len() as u64 - 1, set.arranged.relief),
        (None, None) => return Vec::new(),
    };
    model.rooms.duplicates.plans_all = false;
    ask(model, count, bytes)
}

/// Asks what is to be done with the copies of all sets.
pub(super) fn choose_all(model: &mut Model) -> Vec<Job> {
    let Some(results) = model.rooms.duplicates.results() else { return Vec::new() };
    let copies = results.found.sets.iter().map(|set| set.copies.len() as u64 - 1).sum();
    let relief = results.relief;
    model.rooms.duplicates.plans_all = true;
    ask(model, copies, relief)
}

fn ask(model: &mut Model, count: u64, bytes: Bytes) -> Vec<Job> {
    if model.run.is_active() {
        model.say_trouble("A run is going on: plan more when it has ended");
        return Vec::new();
    }
    let mut deeds = deeds(&model.state.depot());
    // after what leaves the other copies as they are
    deeds.insert(2, Deed::Link);
    // others cannot, or it cannot be told from here
    let shares = |volume: &Volume| matches!(volume.fs_type.as_str(), "btrfs" | "xfs");
    if model.gauge_volume().is_some_and(shares) {
        deeds.insert(2, Deed::Share);
    }
    let named = format!("all {} of them", counted(count, "file"));
    model.overlay = Some(Overlay::ChooseForMany { count, named, bytes, deeds, cursor: 0 });
    Vec::new()
}

/// The deed has been chosen: every copy is looked at closely.
pub(super) fn put(model: &mut Model, deed: &Deed) -> Vec<Job> {
    let chosen = match (selected_pair(model), selected_set(model)) {
        (None, Some(_)) if model.rooms.duplicates.plans_all => Chosen::AllSets,
        (Some(pair), _) => Chosen::Pair(pair.clone()),
        (_, Some(set)) => Chosen::Set(set.number),
        (None, None) => return Vec::new(),
    };
    let Some(results) = model.rooms.duplicates.results().cloned() else { return Vec::new() };
    let Some(subject) = Subject::of(model) else { return Vec::new() };
    let keep = match searching::keep(&subject.settings, model.rooms.duplicates.chosen.clone()) {
        Ok(keep) => keep,
        Err(failure) => {
            model.say_trouble(failure);
            return Vec::new();
        }
    };
    model.say("Looking closely at every one of them …");
    vec![Job::Work(Box::new(PlanCopies { subject, results, chosen, keep, deed: deed.clone() }))]
}

#[derive(Debug)]
struct PlanCopies {
    subject: Subject,
    results: Arc<Results>,
    chosen: Chosen,
    keep: Keep,
    deed: Deed,
}

impl Work for PlanCopies {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let Self { subject, results, chosen, keep, deed } = *self;
        let planned = subject.with(|catalog, selection| {
            let reviewer = Reviewer::of_scan(
                &subject.settings,
                catalog.origin(),
                catalog.roots(),
                Time::now(),
            );
            let sets = match &chosen {
                Chosen::Pair(pair) => {
                    let roots: Vec<_> = catalog.roots().iter().map(|root| root.entry).collect();
                    let seen = catalog.seen(selection);
                    let containment = Containment::new(seen, &roots, &results.found.sets);
                    let copies = containment.copies(pair.contained.tree, pair.contained.within);
                    let pairs: Vec<_> =
                        copies.map(|(goes, stays)| CopyPair { goes, stays }).collect();
                    return plan_pairs(catalog, &pairs, &deed, &reviewer);
                }
                Chosen::Set(number) => std::slice::from_ref(&results.found.sets[*number]),
                Chosen::AllSets => &results.found.sets,
            };
            let mut all = PlannedCopies::default();
            for set in sets {
                let PlannedCopies { planned, left_out } =
                    plan_copies(catalog, set, &keep, &deed, &reviewer);
                all.planned.extend(planned);
                all.left_out.extend(left_out);
            }
            all
        });
        Box::new(CopiesPlanned(deed.word(), planned))
    }
}

#[derive(Debug)]
struct CopiesPlanned(&'static str, PlannedCopies);

impl News for CopiesPlanned {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let Self(word, PlannedCopies { mut planned, left_out }) = *self;
        if model.run.is_active() {
            model.say_trouble("A run is going on: nothing has been planned");
            return Vec::new();
        }
        let before = planned.len();
        planned.retain(|planned| model.draft.covering(&planned.path).is_none());
        let known = before - planned.len();
        // of two trees that hold the same one can go, not both
        let count = planned.len();
        planned.retain(|planned| {
            let stays = planned.stays.as_ref();
            stays.is_none_or(|stays| model.draft.covering(&stays.path.0).is_none())
        });
        let both = count - planned.len();
        let (count, bytes) =
            (planned.len() as u64, planned.iter().map(|planned| planned.estimate).sum());
        model.draft.put_all(planned);
        model.run.rehearsal = None;
        let mut text =
            format!("Planned: {word} {}, {}", counted(count, "copy"), model.bytes(bytes));
        if known > 0 {
            text = format!("{text}; {known} were planned before");
        }
        if both > 0 {
            let copies = counted(both as u64, "copy");
            model.say_trouble(format!(
                "{text}; {copies} left out: what was to stay beside them is planned itself"
            ));
            return lens::refresh(model);
        }
        match left_out.first() {
            Some(first) => {
                let others = counted(left_out.len() as u64, "copy");
                model.say_trouble(format!("{text}; {others} left out: {first}"));
            }
            None => model.say(text),
        }
        lens::refresh(model)
    }
}
