//! What is held and due to be purged.

use super::{CarryOutError, EntryState, Journal};
use crate::packed_list::Record;
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
    let journal = Journal::open(&state.journal_file())?;
    let mut held: Vec<(Time, Bytes)> = Vec::new();
    for run in journal.runs()?.into_iter().filter(|run| run.count(EntryState::Held) > 0) {
        let entries = journal.entries(run.id)?;
        for entry in entries.iter().filter(|entry| entry.state == EntryState::Held) {
            let at = due_at(&entry.action, &entry.at);
            held.extend(at.map(|at| (at, entry.action.target.allocated)));
        }
    }
    let Some(first) = held.iter().map(|(at, _)| *at).min() else { return Ok(None) };
    let soon = held.iter().filter(|(at, _)| at.sec <= first.sec.saturating_add(DAY));
    let (actions, allocated) =
        soon.fold((0, Bytes::ZERO), |(count, sum), (_, bytes)| (count + 1, sum + *bytes));
    Ok(Some(NextDue { actions, allocated, at: first }))
}

/// All that is held longer than its rule asks for. What is set aside by hand, or by a rule that does not say for how long,
/// is never due.
///
/// # Errors
///
/// [`CarryOutError`] of the journal.
pub fn due(state: &State, now: Time) -> Result<Vec<Due>, CarryOutError> {
    let journal = Journal::open(&state.journal_file())?;
    let mut found = Vec::new();
    for run in journal.runs()?.into_iter().rev() {
        if run.count(EntryState::Held) == 0 {
            continue;
        }
        let entries = journal.entries(run.id)?;
        let is_due = |entry: &Record<super::EntryRecord>| {
            entry.state == EntryState::Held
                && due_at(&entry.action, &entry.at).is_some_and(|at| at <= now)
        };
        let actions: Vec<u32> =
            entries.iter().filter(is_due).map(|entry| entry.action.number).collect();
        if !actions.is_empty() {
            found.push(Due { run: run.id, actions });
        }
    }
    Ok(found)
}
