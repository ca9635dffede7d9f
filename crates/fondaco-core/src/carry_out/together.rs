//! Actions that are done together or not at all: the parts of a kernel, what lies in a bin and the file that says so.
//!
//! All parts are looked at before the first of them is touched. What changes after that look is refused by itself, as
//! every target is; what was set aside by then can be put back.

use std::collections::{BTreeMap, HashMap};
use std::ops::Deref;

use super::check::Checks;
use super::execute::Run;
use super::{CarryOutError, EntryState};
use crate::plan::{Action, Touched};
use crate::shown::Shown;

/// For each action that has to stay because another part of it does, why.
pub(super) fn incomplete(
    checks: &Checks,
    actions: impl Iterator<Item = impl Deref<Target = Action>>,
) -> HashMap<u32, String> {
    let mut groups: BTreeMap<u32, Vec<Action>> = BTreeMap::new();
    for action in actions {
        if let Some(first) = action.together {
            groups.entry(first).or_default().push(action.clone());
        }
    }
    let mut found = HashMap::new();
    for group in groups.into_values() {
        let refused = group.iter().find_map(|action| {
            let refusal = checks.target(action, &Touched::default()).err()?;
            Some((
                action.number,
                format!(
                    "it goes only together with {}, which stays: {refusal}",
                    Shown(action.place())
                ),
            ))
        });
        if let Some((number, reason)) = refused {
            let others = group.iter().filter(|action| action.number != number);
            found.extend(others.map(|action| (action.number, reason.clone())));
        }
    }
    found
}

impl Run<'_> {
    /// Refuses what would go without a part of it.
    pub(super) fn refuse_incomplete(&mut self) -> Result<(), CarryOutError> {
        if !self.checks.overview.has_groups {
            return Ok(());
        }
        self.checks.refresh((self.clock)());
        let parts = self.places_of(|entry| entry.action.together.is_some());
        let parts_left = parts.iter().map(|at| &self.entries[*at]);
        let waiting = parts_left.filter(|entry| entry.state == EntryState::Waiting);
        let incomplete = incomplete(&self.checks, waiting.map(|entry| &entry.action));
        self.checks.forget_place();
        for at in parts {
            if let Some(reason) = incomplete.get(&self.entries[at].action.number) {
                self.conclude(at, EntryState::Refused, reason.clone());
                self.journal.write(self.id, [&self.entries[at]])?;
            }
        }
        Ok(())
    }
}
