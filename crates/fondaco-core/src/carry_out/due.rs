//! What is held and due to be purged.

use super::{CarryOutError, EntryState, Journal};
use crate::plan::Action;
use crate::state::State;
use crate::units::{Bytes, Time};

/// Actions of a run whose targets are held and due.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Due {
    /// Number of the run in the journal.
    pub run: i64,
    /// The numbers of the actions.
    pub actions: Vec<u32>,
}

/// When what an action has set aside is due to be purged; `held_since` is RFC 3339.
pub fn due_at(action: &Action, held_since: &str) -> Option<Time> {
    let since = Time::of_rfc3339(held_since)?;
    let after = i64::try_from(action.purge_after?).ok()?;
    Some(Time::at(since.sec.saturating_add(after)))
}

/// What is held and will be due next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NextDue {
    /// How many actions are due at the same day or before.
    pub actions: u64,
    /// Bytes on disk of what they hold.
    pub allocated: Bytes,
    /// When the first of them is due.
    pub at: Time,
}

/// What will be due next: all that is due within a day of the first.
///
/// # Errors
///
/// [`CarryOutError`] of the journal.
pub fn next_due(state: &State) -> Result<Option<NextDue>, CarryOutError> {
    const DAY: i64 = 86_400;
    let mut held: Vec<(Time, Bytes)> = Vec::new();
    each_held(state, |_, action, at| held.push((at, action.target.allocated)))?;
    let Some(first) = held.iter().map(|(at, _)| *at).min() else { return Ok(None) };
    let soon = held.iter().filter(|(at, _)| at.sec <= first.sec.saturating_add(DAY));
    let (actions, allocated) =
        soon.fold((0, Bytes::ZERO), |(count, sum), (_, bytes)| (count + 1, sum + *bytes));
    Ok(Some(NextDue { actions, allocated, at: first }))
}

/// All that is held longer than its rule asks for, run by run. What is set aside by hand, or by a rule that does not say for
/// how long, is never due.
///
/// # Errors
///
/// [`CarryOutError`] of the journal.
pub fn due(state: &State, now: Time) -> Result<Vec<Due>, CarryOutError> {
    let mut found: Vec<Due> = Vec::new();
    each_held(state, |run, action, at| {
        if at > now {
            return;
        }
        match found.last_mut().filter(|last| last.run == run) {
            Some(last) => last.actions.push(action.number),
            None => found.push(Due { run, actions: vec![action.number] }),
        }
    })?;
    Ok(found)
}

/// Shows the actions of all runs, the first run first, that hold something which will be due, and when.
fn each_held(state: &State, mut each: impl FnMut(i64, &Action, Time)) -> Result<(), CarryOutError> {
    let journal = Journal::open(&state.journal_file())?;
    let runs = journal.runs()?.into_iter().rev();
    for run in runs.filter(|run| run.count(EntryState::Held) > 0) {
        let entries = journal.entries(run.id)?;
        for entry in entries.iter().filter(|entry| entry.state == EntryState::Held) {
            if let Some(at) = due_at(&entry.action, &entry.at) {
                each(run.id, &entry.action, at);
            }
        }
    }
    Ok(())
}
