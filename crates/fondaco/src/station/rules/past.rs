//! The rules, tried on the kept scans of the place that was scanned.

use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::Arc;

use fondaco_core::rule::{RuleSet, kept_days};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::Model;
use crate::query::Past;

/// So many days are looked at.
const DAYS: usize = 60;

/// The past of a place, as far as it is shown.
#[derive(Clone, Debug)]
pub(super) enum PastState {
    /// It is being found out.
    Waiting,
    /// What the rules would have done, and the selected day.
    Known(Arc<Past>, usize),
}

/// Tries the rule file on kept scans.
#[derive(Debug)]
struct TryPast {
    number: u64,
    place: PathBuf,
    state: State,
}

impl Work for TryPast {
    fn run(self: Box<Self>) -> Box<dyn News> {
        Box::new(PastTried { number: self.number, outcome: self.tried().map(Arc::new) })
    }
}

impl TryPast {
    fn tried(&self) -> Result<Past, Failure> {
        let rules = RuleSet::read(&self.state.rules_file(), &self.state).map_err(Failure::of)?;
        let rules = rules.ok_or_else(|| Failure::from("There is no rule file yet"))?;
        let mut days = kept_days(&self.state, &self.place).map_err(Failure::of)?;
        if days.is_empty() {
            return Err(format!(
                "No whole scan of {} is kept: what is scanned here from now on is kept by itself",
                Shown(&self.place)
            )
            .into());
        }
        days.drain(..days.len().saturating_sub(DAYS));
        let each = &mut |_| ControlFlow::Continue(());
        let days = rules.try_on_days(&self.state, &days, each).map_err(Failure::of)?;
        let titles = rules.rules.iter().map(|rule| rule.title.clone()).collect();
        Ok(Past { place: self.place.clone(), titles, days })
    }
}

/// The rules have been tried on kept scans.
#[derive(Debug)]
struct PastTried {
    number: u64,
    outcome: Result<Arc<Past>, Failure>,
}

impl News for PastTried {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let state = &mut model.rooms.rules;
        if state.past_number != self.number || state.past.is_none() {
            return Vec::new();
        }
        match self.outcome {
            Ok(past) => {
                let last = past.days.len().saturating_sub(1);
                state.past = Some(PastState::Known(past, last));
            }
            Err(failure) => {
                state.past = None;
                model.say_trouble(failure.to_string());
            }
        }
        Vec::new()
    }
}

/// Looks at the past, or leaves it.
pub(super) fn look(model: &mut Model) -> Vec<Job> {
    if model.rooms.rules.past.take().is_some() {
        return Vec::new();
    }
    let [place] = model.scan.roots.as_slice() else {
        model.say_trouble("Several places were scanned: scan the one whose past is asked for");
        return Vec::new();
    };
    let (place, state) = (place.clone(), model.state.clone());
    let rules = &mut model.rooms.rules;
    rules.past_number += 1;
    rules.past = Some(PastState::Waiting);
    vec![Job::Work(Box::new(TryPast { number: rules.past_number, place, state }))]
}

/// The past that is shown, with the selected day.
pub(super) fn known(model: &Model) -> Option<(&Arc<Past>, usize)> {
    match &model.rooms.rules.past {
        Some(PastState::Known(past, day)) => Some((past, *day)),
        _ => None,
    }
}
