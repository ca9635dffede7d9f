//! Running a plan's checks without changing anything.

use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;
use std::path::PathBuf;

use super::check::Checks;
use super::holding::area_root;
use super::{CarryOutError, Figures, Watch, release, restoring, together, tools};
use crate::archive::DepotPlace;
use crate::kernel::{self, CallError, DirReader, Op};
use crate::plan::{
    Action, Deed, Forecast, Forecaster, Plan, Refusal, Survey, Touched, survey_held,
};
use crate::shown::Shown;
use crate::state::State;
use crate::units::{Bytes, Time, UnitStyle, counted};

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
    let mut checks = Checks::new(plan, state);
    checks.refresh(now);
    let mut warnings = depot_warnings(plan, checks.depots());
    warnings.extend(memory_warnings(plan));
    let mut rehearsal = Rehearsal { warnings, ..Rehearsal::default() };
    let mut forecaster = Forecaster::default();
    // how many entries of each directory would not be in their places any more
    let mut gone: HashMap<PathBuf, u64> = HashMap::new();
    let mut figures =
        Figures { phase: "rehearsing", total: plan.actions.len(), ..Figures::default() };
    let incomplete = match checks.overview.has_groups {
        true => together::incomplete(&checks, plan.actions.iter()),
        false => HashMap::new(),
    };
    for action in &plan.actions {
        figures.current = action.target.path.0.clone();
        if watch(&figures) == ControlFlow::Break(()) {
            rehearsal
                .warnings
                .push("the rehearsal was stopped; what follows is not checked".into());
            break;
        }
        let outcome = match action.emptied {
            true => will_be_empty(&checks, &action, &gone),
            false => check(&checks, &action, state, now),
        };
        let leaves = checks.overview.has_emptied && leaves_its_place(&action.deed);
        if let (Ok(_), true, Some(parent)) = (&outcome, leaves, action.target.path.0.parent()) {
            match gone.get_mut(parent) {
                Some(count) => *count += 1,
                None => drop(gone.insert(parent.to_owned(), 1)),
            }
        }
        let refused = outcome.as_ref().err().map(ToString::to_string);
        let refused = refused.or_else(|| incomplete.get(&action.number).cloned());
        let outcome = if incomplete.contains_key(&action.number) { Ok(None) } else { outcome };
        if let Ok(Some(survey)) = outcome {
            rehearsal.frees.add(forecaster.next(&action.deed, &survey));
        }
        rehearsal.findings.push(Finding { number: action.number, refused });
        figures.done += 1;
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
    if let Deed::Restore { .. } = action.deed {
        let ready = restoring::check(checks, action, &Touched::default())?;
        return Ok(Some(ready.survey));
    }
    if action.deed.is_of_tool() {
        tools::check(action, checks)?;
        return Ok(Some(tools::survey_of(action)));
    }
    let (located, mut survey) = checks.target(action, &Touched::default())?;
    area_root(&action.target.path.0, &located, state)?;
    if action.shared > Bytes::ZERO {
        survey.shared = crate::plan::survey(&action.target.path.0)?.shared;
    }
    Ok(Some(survey))
}

fn leaves_its_place(deed: &Deed) -> bool {
    matches!(deed, Deed::Delete | Deed::SetAside | Deed::Archive { .. } | Deed::Move { .. })
}

/// Checks a directory that the actions before it would empty.
fn will_be_empty(
    checks: &Checks,
    action: &Action,
    gone: &HashMap<PathBuf, u64>,
) -> Result<Option<Survey>, Refusal> {
    let path = &action.target.path.0;
    checks.emptied(action)?;
    let open = kernel::open_root(path).map_err(CallError::on(Op::OpenDirectory, path))?;
    let mut holds = 0u64;
    DirReader::default()
        .read(&open, |_| {
            holds += 1;
            true
        })
        .map_err(CallError::on(Op::ReadDirectory, path))?;
    // each of those that go has just been seen in its place
    let stays = holds.saturating_sub(gone.get(path).copied().unwrap_or(0));
    if stays > 0 {
        let reason = format!("it still holds {}", counted(stays, "entry"));
        return Err(Refusal::Hopeless { path: path.clone(), reason });
    }
    Ok(None)
}

/// Warnings for archives and moves that go to a file system in memory.
fn memory_warnings(plan: &Plan) -> Vec<String> {
    let destinations = plan.destinations();
    let mounts = kernel::mounts().unwrap_or_default();
    let in_memory = |place: &PathBuf| {
        let mount = kernel::mount_of(place, &mounts);
        mount.is_some_and(|mount| matches!(mount.fs_type.as_str(), "tmpfs" | "ramfs"))
    };
    let in_memory = destinations.into_iter().filter(in_memory);
    in_memory
        .map(|place| {
            format!(
                "{} lies in memory: what goes there is gone when the machine restarts",
                Shown(&place)
            )
        })
        .collect()
}

/// Warnings for depots that the plan may fill up.
fn depot_warnings(plan: &Plan, places: &[DepotPlace]) -> Vec<String> {
    let mut needed: BTreeMap<&DepotPlace, Bytes> = BTreeMap::new();
    for action in &plan.actions {
        let Deed::Archive { depot } = &action.deed else { continue };
        // two names of one depot need room there together
        let place = DepotPlace::look(depot).ok();
        if let Some(place) = places.iter().find(|known| Some(*known) == place.as_ref()) {
            *needed.entry(place).or_default() += action.target.allocated;
        }
    }
    let warnings = needed.into_iter().filter_map(|(place, needed)| {
        let style = UnitStyle::Binary;
        let depot = Shown(&place.path);
        match kernel::capacity(&place.standing) {
            Ok(capacity) if needed > capacity.free() => Some(format!(
                "the depot {depot} has {} free, and {} are to be packed",
                capacity.free().shown(style),
                needed.shown(style)
            )),
            Ok(_) => None,
            Err(error) => {
                Some(format!("how much the depot {depot} has free is not known: {error}"))
            }
        }
    });
    warnings.collect()
}
