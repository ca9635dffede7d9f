//! Running a plan's checks without changing anything.

use std::ops::ControlFlow;
use std::path::Path;

use super::check::Checks;
use super::holding::area_root;
use super::{CarryOutError, Figures, Watch, release};
use crate::kernel::OpenFiles;
use crate::plan::{Action, Deed, Forecast, Plan, Refusal, Survey, Touched, forecast, survey_held};
use crate::state::State;
use crate::units::{Bytes, Time};

/// What a rehearsal says of one action.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Number of the action.
    pub number: u32,
    /// Why it would be left alone, if it would.
    pub refused: Option<String>,
}

/// What a rehearsal found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rehearsal {
    /// One for each action.
    pub findings: Vec<Finding>,
    /// What would be freed, by what stands now.
    pub frees: Forecast,
    /// What speaks against the whole: a depot that is full or not ours, a run that goes on.
    pub warnings: Vec<String>,
}

impl Rehearsal {
    /// How many actions would be left alone.
    pub fn refused(&self) -> usize {
        self.findings.iter().filter(|finding| finding.refused.is_some()).count()
    }
}

/// Checks every action as a run would, and changes nothing.
///
/// # Errors
///
/// [`CarryOutError::Empty`].
pub fn rehearse(
    plan: &Plan,
    state: &State,
    now: Time,
    watch: &Watch<'_>,
) -> Result<Rehearsal, CarryOutError> {
    if plan.actions.is_empty() {
        return Err(CarryOutError::Empty);
    }
    let checks = Checks::new(plan, state, OpenFiles::collect(now));
    let mut rehearsal = Rehearsal { warnings: depot_warnings(plan), ..Rehearsal::default() };
    let mut surveys = Vec::new();
    let mut figures =
        Figures { phase: "rehearsing", total: plan.actions.len(), ..Figures::default() };
    for action in &plan.actions {
        figures.current = action.target.path.0.clone();
        if watch(&figures) == ControlFlow::Break(()) {
            rehearsal
                .warnings
                .push("the rehearsal was stopped; what follows is not checked".into());
            break;
        }
        let outcome = check(&checks, action, state, now);
        let refused = outcome.as_ref().err().map(ToString::to_string);
        surveys.extend(outcome.ok().flatten().map(|survey| (&action.deed, survey)));
        rehearsal.findings.push(Finding { number: action.number, refused });
        figures.done += 1;
    }
    for frees in forecast(surveys.iter().map(|(deed, survey)| (*deed, survey))) {
        rehearsal.frees.now += frees.now;
        rehearsal.frees.later += frees.later;
    }
    watch(&figures).is_continue();
    Ok(rehearsal)
}

fn check(
    checks: &Checks,
    action: &Action,
    state: &State,
    now: Time,
) -> Result<Option<Survey>, Refusal> {
    if action.deed.is_release() {
        let found = release::check(action, now)?;
        return Ok(found.map(|(file, all)| survey_held(&file, &all)));
    }
    let (located, mut survey) = checks.target(action, &Touched::default())?;
    area_root(&action.target.path.0, &located, state)?;
    if action.shared > Bytes::ZERO {
        survey.shared = crate::plan::survey(&action.target.path.0)?.shared;
    }
    Ok(Some(survey))
}

/// What can be said about the depots without making anything.
fn depot_warnings(plan: &Plan) -> Vec<String> {
    let mut depots: Vec<(&Path, Bytes)> = Vec::new();
    for action in &plan.actions {
        if let Deed::Archive { depot } = &action.deed {
            match depots.iter_mut().find(|(path, _)| path == depot) {
                Some((_, bytes)) => *bytes += action.target.allocated,
                None => depots.push((depot, action.target.allocated)),
            }
        }
    }
    depots.iter().filter_map(|(path, bytes)| depot_warning(path, *bytes)).collect()
}

fn depot_warning(depot: &Path, needed: Bytes) -> Option<String> {
    use crate::shown::Shown;
    let standing = depot.ancestors().find(|path| path.exists())?;
    let writable = rustix::fs::accessat(
        rustix::fs::CWD,
        standing,
        rustix::fs::Access::WRITE_OK,
        rustix::fs::AtFlags::EACCESS,
    );
    if let Err(error) = writable {
        let error = std::io::Error::from(error);
        return Some(format!("the depot {} cannot be written to: {error}", Shown(depot)));
    }
    let free = crate::kernel::capacity(standing).ok()?.free();
    (needed > free).then(|| {
        let style = crate::units::UnitStyle::Binary;
        format!(
            "the depot {} has {} free, and {} are to be packed",
            Shown(depot),
            free.shown(style),
            needed.shown(style)
        )
    })
}
