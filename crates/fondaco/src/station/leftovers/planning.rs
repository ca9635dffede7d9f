//! Planning one leftover, or those of a group: all that can go, or one by one.

use std::path::PathBuf;
use std::sync::{Arc, RwLock};

use fondaco_core::catalog::Catalog;
use fondaco_core::leftovers::{Found, GroupName, Leftover, What};
use fondaco_core::plan::{Deed, PlannedLeftovers, Reviewer, plan_leftovers, usual_deed};
use fondaco_core::shown::shown;
use fondaco_core::state::State as Settings;
use fondaco_core::units::{Bytes, Time, counted};

use super::{looking, rows};
use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Asking, Model, Overlay, TypedAnswer, deeds, read};
use crate::frame::update::{ask, lens};

/// What a choice of a deed is about: leftovers of a group by their places in it.
#[derive(Clone, Debug, Default)]
pub(super) struct Chosen {
    /// What had been found when it was chosen: what is found later may be in other places.
    found: Option<Arc<Found>>,
    /// The number of the scan that it was found in.
    scan: u64,
    name: Option<GroupName>,
    places: Vec<usize>,
    /// Their number has to be typed before they are planned.
    asks_for_number: bool,
}

fn is_busy(model: &mut Model) -> bool {
    let active = model.run.is_active();
    if active {
        model.say_trouble("A run is going on: plan more when it has ended");
    }
    active
}

/// What can be done with leftovers, what is usual for them first.
fn offered(model: &Model, name: GroupName, items: &[&Leftover]) -> Vec<Deed> {
    let usual = items.first().and_then(|item| usual_deed(name, item));
    let through_manager = items.iter().any(|item| matches!(item.what, What::Package(_)));
    let mut offered: Vec<Deed> = usual.into_iter().collect();
    if name == GroupName::Bins && items.iter().all(|item| item.ids().len() > 1) {
        // where each was is read when it is planned
        offered.push(Deed::Restore { place: PathBuf::new(), info: None });
    }
    if !through_manager {
        let others = deeds(&model.state.depot()).into_iter().filter(|deed| !offered.contains(deed));
        offered.extend(others.collect::<Vec<_>>());
    }
    offered
}

/// Space on a leftover: takes it off the plan if it is there, else asks what is done with it.
pub(super) fn choose(model: &mut Model) -> Vec<Job> {
    if is_busy(model) {
        return Vec::new();
    }
    let Some((name, item)) = rows::item(model) else { return Vec::new() };
    if rows::is_planned(model, item) {
        return take_off(model);
    }
    if let Some(stays) = &item.stays {
        let text = format!("It stays: {stays}. Where it lies (Enter) it can be planned by hand");
        model.say(text);
        return Vec::new();
    }
    if !name.group().can_go() {
        model.say(format!("This group is only told: {}", name.group().against));
        return Vec::new();
    }
    let (named, bytes, deeds) =
        (rows::name(model, item), item.allocated, offered(model, name, &[item]));
    let places = vec![model.rooms.leftovers.item];
    let found = looking::results(model).cloned();
    model.rooms.leftovers.chosen =
        Chosen { found, scan: model.scan.number, name: Some(name), places, asks_for_number: false };
    model.overlay = Some(Overlay::ChooseForMany { count: 1, named, bytes, deeds, cursor: 0 });
    Vec::new()
}

fn take_off(model: &mut Model) -> Vec<Job> {
    let Some((_, item)) = rows::item(model) else { return Vec::new() };
    let named = rows::name(model, item);
    let paths: Vec<PathBuf> = match &item.what {
        // with all that goes in the same action
        What::Package(removal) => rows::planned_removal(model, removal).into_iter().collect(),
        _ => item.ids().iter().filter_map(|id| model.scan.path_of(*id)).collect(),
    };
    paths.iter().for_each(|path| model.draft.take_off(path));
    model.run.rehearsal = None;
    model.say(format!("Taken off the plan: {named}"));
    lens::refresh(model)
}

pub(super) fn can_plan_group(model: &Model) -> bool {
    rows::found_group(model).is_some_and(|group| group.that_go().next().is_some())
}

/// The places of what can go in the selected group, and is not planned yet.
fn that_go(model: &Model) -> (Option<GroupName>, Vec<usize>) {
    let Some(group) = rows::found_group(model) else { return (None, Vec::new()) };
    let is_planned = |item: &Leftover| !model.draft.is_empty() && rows::is_planned(model, item);
    let can_go = |item: &Leftover| item.stays.is_none() && !is_planned(item);
    let places = group.items.iter().enumerate().filter(|(_, item)| can_go(item));
    (Some(group.name), places.map(|(place, _)| place).collect())
}

/// Asks what is done with all of the selected group that can go.
pub(super) fn choose_group(model: &mut Model) -> Vec<Job> {
    if is_busy(model) {
        return Vec::new();
    }
    let (Some(name), places) = that_go(model) else { return Vec::new() };
    let Some(group) = rows::found_group(model) else { return Vec::new() };
    if places.is_empty() {
        model.say("All of the group that can go is planned already");
        return Vec::new();
    }
    let items: Vec<&Leftover> = places.iter().map(|place| &group.items[*place]).collect();
    let bytes = match items.len() as u64 == group.goes.items {
        true => group.goes.allocated,
        false => items.iter().map(|item| item.allocated).sum(),
    };
    let count = places.len() as u64;
    let named = format!("{} of the group {}", counted(count, "leftover"), name.group().title);
    let deeds = offered(model, name, &items);
    let found = looking::results(model).cloned();
    model.rooms.leftovers.chosen =
        Chosen { found, scan: model.scan.number, name: Some(name), places, asks_for_number: true };
    model.overlay = Some(Overlay::ChooseForMany { count, named, bytes, deeds, cursor: 0 });
    Vec::new()
}

/// The deed has been chosen: a group's number has to be typed first.
pub(super) fn put(model: &mut Model, deed: &Deed) -> Vec<Job> {
    let chosen = model.rooms.leftovers.chosen.clone();
    let Some(name) = chosen.name else { return Vec::new() };
    if !chosen.asks_for_number {
        return plan(model, chosen, deed.clone());
    }
    let count = chosen.places.len();
    let leftovers = counted(count as u64, "leftover");
    let sentence = format!(
        "This plans {leftovers} of the group {}: {}. Nothing happens until the plan is carried out. Type {count}:",
        name.group().title,
        deed.word()
    );
    let answer = PlanGroup { chosen, deed: deed.clone() };
    ask(model, Asking::Own(Arc::new(answer)), sentence, Some(count.to_string()))
}

#[derive(Debug)]
struct PlanGroup {
    chosen: Chosen,
    deed: Deed,
}

impl TypedAnswer for PlanGroup {
    fn take(&self, model: &mut Model, _typed: &str) -> Result<Vec<Job>, Failure> {
        Ok(plan(model, self.chosen.clone(), self.deed.clone()))
    }
}

/// Asks about each leftover of the group that can go.
pub(super) fn ask_one_by_one(model: &mut Model) -> Vec<Job> {
    if is_busy(model) {
        return Vec::new();
    }
    let (Some(name), places) = that_go(model) else { return Vec::new() };
    let Some(found) = looking::results(model).cloned() else { return Vec::new() };
    let scan = model.scan.number;
    let questions = OneByOne { found, scan, name, at: 0, places, goes: Vec::new() };
    questions.ask(model)
}

/// A question about one leftover after the other. What is to go is planned when all have been asked about.
#[derive(Clone, Debug)]
struct OneByOne {
    found: Arc<Found>,
    scan: u64,
    name: GroupName,
    places: Vec<usize>,
    at: usize,
    /// Places of what is to go.
    goes: Vec<usize>,
}

impl OneByOne {
    fn ask(self, model: &mut Model) -> Vec<Job> {
        let group = self.found.group(self.name);
        let next = self.places.get(self.at).and_then(|place| group?.items.get(*place));
        let Some(item) = next.cloned() else { return self.finish(model) };
        let item = &item;
        let usual = usual_deed(self.name, item).map_or("leave alone", |deed| deed.word());
        let sentence = format!(
            "{} of {}: {} ({}, {}). {}. Type y to plan it ({usual}), a for it and all that follow; Enter alone \
             lets it stay, e ends here.",
            self.at + 1,
            self.places.len(),
            rows::name(model, item),
            model.bytes(item.allocated),
            item.since.age(model.now),
            shown(&*item.note),
        );
        let place = self.places[self.at];
        model.rooms.leftovers.item = place;
        model.rooms.leftovers.inside = true;
        ask(model, Asking::Own(Arc::new(self)), sentence, None)
    }

    fn finish(self, model: &mut Model) -> Vec<Job> {
        model.overlay = None;
        if self.goes.is_empty() {
            model.say("All of them stay");
            return Vec::new();
        }
        let deed = {
            let group = self.found.group(self.name);
            let first = group.and_then(|group| group.items.get(self.goes[0]));
            first.and_then(|item| usual_deed(self.name, item))
        };
        let Some(deed) = deed else { return Vec::new() };
        let chosen = Chosen {
            found: Some(self.found),
            scan: self.scan,
            name: Some(self.name),
            places: self.goes,
            asks_for_number: false,
        };
        plan(model, chosen, deed)
    }
}

impl TypedAnswer for OneByOne {
    fn take(&self, model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure> {
        let mut next = self.clone();
        match typed {
            "" | "n" => next.at += 1,
            "y" => {
                next.goes.push(self.places[self.at]);
                next.at += 1;
            }
            "a" => {
                next.goes.extend(&self.places[self.at..]);
                next.at = self.places.len();
            }
            "e" => next.at = self.places.len(),
            _ => return Err("type y, a or e, or only Enter; Esc forgets all answers".into()),
        }
        Ok(next.ask(model))
    }
}

fn plan(model: &mut Model, chosen: Chosen, deed: Deed) -> Vec<Job> {
    let Chosen { found, scan, name, places, .. } = chosen;
    let catalog = model.scan.catalog.clone().filter(|_| scan == model.scan.number);
    let (Some(found), Some(catalog), Some(name)) = (found, catalog, name) else {
        model.say_trouble("The scan has changed meanwhile: nothing has been planned");
        return Vec::new();
    };
    model.say("Looking closely at every one of them …");
    let settings = model.state.clone();
    vec![Job::Work(Box::new(PlanLeftovers { scan, catalog, found, name, places, deed, settings }))]
}

#[derive(Debug)]
struct PlanLeftovers {
    scan: u64,
    catalog: Arc<RwLock<Catalog>>,
    found: Arc<Found>,
    name: GroupName,
    places: Vec<usize>,
    deed: Deed,
    settings: Settings,
}

impl Work for PlanLeftovers {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let (origin, roots) = {
            let catalog = read(&self.catalog);
            (catalog.origin().clone(), catalog.roots().to_vec())
        };
        let mut reviewer = Reviewer::of_scan(&self.settings, &origin, &roots, Time::now());
        let catalog = read(&self.catalog);
        let mut all = PlannedLeftovers::default();
        if let Some(group) = self.found.group(self.name) {
            let items = self.places.iter().filter_map(|place| group.items.get(*place));
            // what is usual may differ within a group: kernels of packages, and those installed by hand
            let (packages, entries): (Vec<_>, Vec<_>) =
                items.partition(|item| matches!(item.what, What::Package(_)));
            for (items, deed) in [(packages, Deed::RemovePackages), (entries, self.entry_deed())] {
                let planned = plan_leftovers(&catalog, self.name, items, &deed, &mut reviewer);
                all.planned.extend(planned.planned);
                all.left_out.extend(planned.left_out);
            }
        }
        Box::new(Planned { scan: self.scan, word: self.deed.word(), all })
    }
}

impl PlanLeftovers {
    /// What is done with entries if the chosen deed is one for packages.
    fn entry_deed(&self) -> Deed {
        if self.deed == Deed::RemovePackages { Deed::SetAside } else { self.deed.clone() }
    }
}

#[derive(Debug)]
struct Planned {
    scan: u64,
    word: &'static str,
    all: PlannedLeftovers,
}

impl News for Planned {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let Self { scan, word, all } = *self;
        let PlannedLeftovers { mut planned, left_out } = all;
        if model.run.is_active() || scan != model.scan.number {
            model
                .say_trouble("The scan has changed or a run is going on: nothing has been planned");
            return Vec::new();
        }
        let before = planned.len();
        planned.retain(|planned| model.draft.covering(&planned.path).is_none());
        let known = before - planned.len();
        let (count, bytes): (_, Bytes) =
            (planned.len() as u64, planned.iter().map(|planned| planned.estimate).sum());
        model.draft.put_all(planned);
        model.run.rehearsal = None;
        let mut text =
            format!("Planned: {word} {}, {}", counted(count, "entry"), model.bytes(bytes));
        if known > 0 {
            text = format!("{text}; {known} were planned before");
        }
        match left_out.first() {
            Some(first) => {
                let others = counted(left_out.len() as u64, "leftover");
                model.say_trouble(format!("{text}; {others} left out: {first}"));
            }
            None => model.say(text),
        }
        lens::refresh(model)
    }
}
