//! How many actions of a run stand how, and what those that are done have freed.

use std::collections::BTreeMap;

use super::{EntryRecord, EntryState};
use crate::packed_list::Sum;
use crate::units::Bytes;

/// How many actions stand so.
pub(super) type Counts = Vec<(EntryState, u64)>;

fn count(counts: &mut Counts, state: EntryState, more: u64) {
    match counts.iter_mut().find(|(known, _)| *known == state) {
        Some((_, count)) => *count += more,
        None => counts.push((state, more)),
    }
}

/// Counts states, in the order of their words.
pub(super) fn counted(states: impl IntoIterator<Item = (EntryState, u64)>) -> Counts {
    let mut counts = Counts::new();
    states.into_iter().for_each(|(state, number)| count(&mut counts, state, number));
    counts.sort_by_key(|(state, _)| state.word());
    counts
}

/// How some actions stand together.
#[derive(Clone, Debug, Default)]
pub struct Standings {
    /// How many of them stand how, in no order.
    pub(super) counts: Counts,
    /// How many were done for each reason, and what that freed.
    pub(super) done: BTreeMap<String, (u64, Bytes)>,
}

impl Standings {
    fn add_done(&mut self, reason: &str, actions: u64, freed: Bytes) {
        if !self.done.contains_key(reason) {
            self.done.insert(reason.to_owned(), (0, Bytes::ZERO));
        }
        if let Some(sum) = self.done.get_mut(reason) {
            sum.0 += actions;
            sum.1 += freed;
        }
    }
}

impl Sum<EntryRecord> for Standings {
    fn add(&mut self, entry: &EntryRecord) {
        count(&mut self.counts, entry.state, 1);
        if entry.state.is_done() {
            self.add_done(&entry.action.reason, 1, entry.freed);
        }
    }

    fn join(&mut self, others: &Self) {
        others.counts.iter().for_each(|(state, number)| count(&mut self.counts, *state, *number));
        for (reason, (actions, freed)) in &others.done {
            self.add_done(reason, *actions, *freed);
        }
    }
}
