//! What is held and due to be purged.

use super::{CarryOutError, EntryState, Journal};
use crate::packed_list::Record;
use crate::plan::Action;
use crate::state::State;
use crate::units::Time;

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
