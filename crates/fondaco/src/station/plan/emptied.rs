//! Planning the directories that the rest of the plan empties.

use std::path::PathBuf;

use fondaco_core::packed_list::PackedList;
use fondaco_core::plan::{Planned, Refusal, Reviewer, plan_emptied};
use fondaco_core::state::State as Settings;
use fondaco_core::units::{Time, counted};

use crate::frame::message::{Job, News, Work};
use crate::frame::model::Model;

/// Looks for them, on a thread of its own: every directory on the way is read.
pub(super) fn plan(model: &mut Model) -> Vec<Job> {
    let catalog = model.scan.catalog.as_ref();
    let roots = catalog.map_or_else(Vec::new, |catalog| {
        let catalog = catalog.read().unwrap_or_else(std::sync::PoisonError::into_inner);
        catalog.roots().iter().map(|root| root.path.clone()).collect()
    });
    model.say("Looking for directories that this empties …");
    let (planned, state) = (model.draft.planned().clone(), model.state.clone());
    vec![Job::Work(Box::new(Look { planned, roots, state }))]
}

#[derive(Debug)]
struct Look {
    planned: PackedList<Planned>,
    roots: Vec<PathBuf>,
    state: Settings,
}

impl Work for Look {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let mut reviewer = Reviewer::new(&self.state, Time::now());
        reviewer.protect_below(&self.roots);
        let (found, left_out) = plan_emptied(&self.planned, &self.roots, &reviewer);
        Box::new(Emptied { found, left_out })
    }
}

#[derive(Debug)]
struct Emptied {
    found: Vec<Planned>,
    left_out: Vec<Refusal>,
}

impl News for Emptied {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let Self { mut found, left_out } = *self;
        if model.run.is_active() {
            model.say_trouble("A run is going on: nothing has been planned");
            return Vec::new();
        }
        // what was asked for may have been taken off or planned meanwhile
        found.retain(|new| model.draft.covering(&new.path).is_none());
        let count = found.len() as u64;
        model.draft.put_all(found);
        model.run.rehearsal = None;
        match (count, left_out.first()) {
            (_, Some(first)) => model.say_trouble(format!("Not looked into: {first}")),
            (0, None) => model.say("The plan empties no directory that is not on it already"),
            (count, None) => {
                let directories = counted(count, "emptied directory");
                model.say(format!("Planned: {directories}, each to go when it is empty"));
            }
        }
        Vec::new()
    }
}
