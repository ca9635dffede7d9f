//! Bringing runs that were cut off to a defined state.

use std::io::ErrorKind;
use std::os::fd::AsFd;
use std::path::PathBuf;

use super::execute::{archive_name, lock};
use super::holding::{remove_if_empty, reopen};
use super::release;
use super::{CarryOutError, EntryRecord, EntryState, Journal, RunRecord, RunState};
use crate::archive::Depot;
use crate::kernel::{self, CallError, Kind, Op, PrivateDir};
use crate::plan::{Deed, Plan, PlanError, Refusal, Touched, locate, survey_at};
use crate::shown::Shown;
use crate::state::State;
use crate::units::{Bytes, Time};

/// What settling a run did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settled {
    /// Number of the run.
    pub run: i64,
    /// Actions whose removal was finished.
    pub finished: u64,
    /// Actions whose target was given its place back.
    pub returned: u64,
    /// Actions that were not begun.
    pub not_begun: u64,
    /// Actions that need a look: their messages say why.
    pub failed: u64,
}

/// Settles all runs that were cut off, if no other process is in the middle of one.
///
/// What lies in a private directory and has not been cleared for removal goes back to its place,
/// unless it was to be set aside and is what was reviewed: then it is where it should be. What has
/// been cleared is removed to the end. What was not begun is left for [`remainder`].
///
/// # Errors
///
/// [`CarryOutError::Journal`]; [`CarryOutError::Call`] if the lock cannot be made.
pub fn settle(state: &State, now: Time) -> Result<Vec<Settled>, CarryOutError> {
    if !state.journal_file().exists() {
        return Ok(Vec::new());
    }
    match lock(state) {
        Ok(_lock) => settle_all(&mut Journal::open(&state.journal_file())?, now),
        Err(CarryOutError::Busy(_)) => Ok(Vec::new()),
        Err(error) => Err(error),
    }
}

/// As [`settle`]; the caller holds the lock.
pub(super) fn settle_all(journal: &mut Journal, now: Time) -> Result<Vec<Settled>, CarryOutError> {
    let cut_off = journal.runs()?.into_iter().filter(|run| run.state == RunState::Running);
    cut_off.map(|run| settle_run(journal, &run, now)).collect()
}

fn settle_run(journal: &mut Journal, run: &RunRecord, now: Time) -> Result<Settled, CarryOutError> {
    let mut entries = journal.entries(run.id)?;
    let mut settled = Settled { run: run.id, finished: 0, returned: 0, not_begun: 0, failed: 0 };
    for entry in &mut entries {
        if entry.state == EntryState::Intended {
            let outcome = settle_entry(entry, now)
                .unwrap_or_else(|refusal| (EntryState::Failed, refusal.to_string()));
            (entry.state, entry.message) = outcome;
            entry.at = now.rfc3339();
            match entry.state {
                EntryState::Waiting | EntryState::Refused => settled.returned += 1,
                EntryState::Failed => settled.failed += 1,
                _ => settled.finished += 1,
            }
        } else if entry.state == EntryState::Waiting {
            settled.not_begun += 1;
        }
    }
    clear_unfinished_archives(run, &entries);
    journal.write(run.id, &entries)?;
    let areas: std::collections::BTreeSet<PathBuf> =
        entries.iter().filter_map(|entry| entry.area.clone()).collect();
    areas.iter().for_each(|area| remove_if_empty(area));
    journal.end(run.id, RunState::CutOff, None, &[], now)?;
    Ok(settled)
}

/// How one half-done action comes to stand.
fn settle_entry(entry: &mut EntryRecord, now: Time) -> Result<(EntryState, String), Refusal> {
    let path = entry.action.target.path.0.clone();
    if entry.action.deed.is_release() {
        return Ok(release::settled(&entry.action, now));
    }
    let area = match entry.area.as_deref().map(reopen) {
        Some(Ok(area)) => area,
        Some(Err(Refusal::Gone(_))) | None => return not_held(entry),
        Some(Err(refusal)) => return Err(refusal),
    };
    let (held, cleared) = (entry.held_name(), entry.cleared_name());
    if area.stat(cleared.as_ref())?.is_some() {
        return finish_removal(entry, &area, &cleared);
    }
    if area.stat(held.as_ref())?.is_none() {
        return not_held(entry);
    }
    let here = area.fd().as_fd();
    let found = survey_at(here, held.as_ref(), &path, &Touched::default(), &mut |_| Ok(()))?;
    let difference = entry.action.target.difference(&found.target, true);
    if entry.action.deed == Deed::SetAside && difference.is_none() {
        return Ok((EntryState::Held, "set aside just before the run was cut off".into()));
    }
    let located = locate(&path)?;
    if area.give(held.as_ref(), &located.parent, &located.name).is_err() {
        return Err(Refusal::Stranded { path, held: area.path().join(held) });
    }
    area.sync()?;
    let message = "given its place back after the run was cut off".to_owned();
    if let Some(difference) = difference {
        return Ok((EntryState::Refused, format!("{message}; it has changed: {difference}")));
    }
    // our own two renames have changed the inode's change time, and nothing else has
    let now = kernel::stat_at(&located.parent, located.name.as_os_str())
        .map_err(CallError::on(Op::Examine, &path))?;
    entry.action.target.ctime = now.ctime;
    Ok((EntryState::Waiting, message))
}

/// It is not in the private directory: either it was never taken, or it is wholly removed.
fn not_held(entry: &EntryRecord) -> Result<(EntryState, String), Refusal> {
    let target = &entry.action.target;
    let in_place = match kernel::stat_path(&target.path.0) {
        Ok(stat) => (stat.dev, stat.ino) == (target.device, target.inode),
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
            false
        }
        // that it cannot be seen does not say that it has gone
        Err(error) => return Err(CallError::on(Op::Examine, &target.path.0)(error).into()),
    };
    let message = "finished just before the run was cut off".to_owned();
    Ok(match entry.action.deed {
        _ if in_place => (EntryState::Waiting, String::new()),
        Deed::Delete => (EntryState::Deleted, message),
        Deed::Archive { .. } => (EntryState::Archived, message),
        Deed::SetAside => {
            let place = Shown(&target.path.0);
            (EntryState::Failed, format!("{place} is neither in its place nor held"))
        }
        // settled before it comes to this: nothing was ever moved
        Deed::End { .. } | Deed::Cut | Deed::Save { .. } => (EntryState::Waiting, String::new()),
    })
}

fn finish_removal(
    entry: &mut EntryRecord,
    area: &PrivateDir,
    cleared: &str,
) -> Result<(EntryState, String), Refusal> {
    let mut freed = Bytes::ZERO;
    area.remove(cleared.as_ref(), &mut |stat, _| {
        if stat.kind == Kind::Directory || stat.links < 2 {
            freed += stat.allocated();
        }
    })?;
    area.sync()?;
    entry.freed += freed;
    let state = match entry.action.deed {
        Deed::Archive { .. } => EntryState::Archived,
        _ => EntryState::Deleted,
    };
    Ok((state, "removed to the end after the run was cut off".to_owned()))
}

fn clear_unfinished_archives(run: &RunRecord, entries: &[EntryRecord]) {
    let mut depots: Vec<&PathBuf> = entries
        .iter()
        .filter_map(|entry| match &entry.action.deed {
            Deed::Archive { depot } => Some(depot),
            _ => None,
        })
        .collect();
    depots.dedup();
    for depot in depots {
        // a depot that is away keeps its part file; it does no harm
        if depot.exists()
            && let Ok(depot) = Depot::open(depot)
        {
            let _ = depot.clear_unfinished(&archive_name(&run.token));
        }
    }
}

/// A new plan of what a cut-off or stopped run has not begun, with the same records and guards;
/// `None` if nothing is left.
///
/// # Errors
///
/// [`PlanError::NoId`].
pub fn remainder(
    run: &RunRecord,
    entries: &[EntryRecord],
    now: Time,
) -> Result<Option<Plan>, PlanError> {
    let left: Vec<_> = entries
        .iter()
        .filter(|entry| entry.state == EntryState::Waiting)
        .map(|entry| entry.action.clone())
        .collect();
    if left.is_empty() {
        return Ok(None);
    }
    Plan::new(left, run.protect.clone(), now).map(Some)
}
