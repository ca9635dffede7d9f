//! A comparison by a property of entries instead of by directory.

use rustc_hash::FxHashMap;

use super::sums::{Amount, Changes, of_entry};
use super::{Comparison, EntryChange, Fate};
use crate::analysis::{BreakdownBy, SliceKey, slice_of};
use crate::catalog::Catalog;

/// What changed among entries that have something in common.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SliceChange {
    /// What they have in common.
    pub key: SliceKey,
    /// What changed. Something that has become a member of another slice counts as moved.
    pub changes: Changes,
}

/// A comparison by a property. The slices add up to the whole, but for what moved from one to another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SliceChanges {
    /// The property that entries are told apart by.
    pub by: BreakdownBy,
    /// The largest difference first; those in which nothing changed are left out.
    pub slices: Vec<SliceChange>,
}

impl Comparison {
    /// Sorts what changed by a property.
    pub fn by(&self, by: BreakdownBy, before: &Catalog, after: &Catalog) -> SliceChanges {
        let mut found: FxHashMap<SliceKey, Changes> = FxHashMap::default();
        let both = (before, after);
        for (number, entry) in self.entries.iter().enumerate() {
            let twin = self.twin_of(number as u32);
            let changes = of_entry(entry, twin, both, self.measure);
            let old = entry.before().map(|id| slice_of(before, by, id));
            let new = entry.after().map(|id| slice_of(after, by, id));
            match (entry.fate(), old, new) {
                (Fate::Gone | Fate::MovedAway, Some(key), _) | (Fate::New, _, Some(key)) => {
                    found.entry(key).or_default().add(&changes);
                }
                (Fate::MovedHere, _, Some(key)) => {
                    let from = twin.and_then(EntryChange::before);
                    let stays = from.is_some_and(|id| slice_of(before, by, id) == key);
                    let sums = found.entry(key).or_default();
                    sums.add(&changes);
                    if stays {
                        sums.moved_within.add(changes.moved_in);
                    }
                }
                (Fate::Stayed, Some(old), Some(new)) if old == new => {
                    found.entry(new).or_default().add(&changes);
                }
                (Fate::Stayed, Some(old), Some(new)) => {
                    let was = super::sums::was(entry, before, self.measure);
                    let is = super::sums::is(entry, after, self.measure);
                    found.entry(old).or_default().moved_out.add(Amount::one(was));
                    let there = found.entry(new).or_default();
                    there.moved_in.add(Amount::one(was));
                    there.put_difference(was, is);
                }
                _ => {}
            }
        }
        let mut slices: Vec<SliceChange> = found
            .into_iter()
            .map(|(key, changes)| SliceChange { key, changes: changes.without_moves_within() })
            .filter(|slice| !slice.changes.is_nothing())
            .collect();
        slices.sort_by(|a, b| {
            let size = |slice: &SliceChange| std::cmp::Reverse(slice.changes.net().unsigned_abs());
            size(a).cmp(&size(b)).then_with(|| a.key.cmp(&b.key))
        });
        SliceChanges { by, slices }
    }
}
