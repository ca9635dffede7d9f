//! How much lies in managed stores before and after a run.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use fondaco_store::ManagedStore;

use super::EntryRecord;
use crate::packed_list::PackedList;
use crate::plan::objects::used_in;
use crate::plan::{Action, Deed, Overview, Plan, ToolTarget};
use crate::units::Bytes;

/// A list is believed for so long: whoever waits for a volume to settle asks often.
const BELIEVED: Duration = Duration::from_secs(1);

/// The managed stores that a plan removes something from.
#[derive(Default)]
pub(super) struct MeasuredStores {
    /// By their addresses.
    stores: HashMap<PathBuf, ManagedStore>,
    last: RefCell<HashMap<PathBuf, (Instant, Option<Bytes>)>>,
}

fn managed(action: &Action) -> Option<&ManagedStore> {
    match action.tool.as_deref() {
        Some(ToolTarget::Object(object)) => object.managed.as_deref(),
        _ => None,
    }
}

impl MeasuredStores {
    pub(super) fn of(plan: &Plan, overview: &Overview) -> Self {
        let mut new = Self::default();
        if overview.has(|deed| *deed == Deed::RemoveObject) {
            for action in &plan.actions {
                if let Some(store) = managed(&action)
                    && !new.stores.contains_key(&action.volume.0)
                {
                    new.stores.insert(action.volume.0.clone(), store.clone());
                }
            }
        }
        new
    }

    pub(super) fn has(&self, volume: &Path) -> bool {
        self.stores.contains_key(volume)
    }

    /// Bytes that a store lists now; nothing if it does not answer.
    pub(super) fn used(&self, volume: &Path) -> Option<Bytes> {
        let known = self.last.borrow().get(volume).copied();
        if let Some((_, used)) = known.filter(|(asked, _)| asked.elapsed() < BELIEVED) {
            return used;
        }
        let used = self.stores.get(volume).and_then(|store| used_in(store).ok());
        self.last.borrow_mut().insert(volume.to_owned(), (Instant::now(), used));
        used
    }

    /// What objects have freed in buckets, which are not measured. What was listed before the run is forgotten.
    pub(super) fn freed_elsewhere(
        &self,
        entries: &PackedList<EntryRecord>,
        overview: &Overview,
    ) -> Bytes {
        self.last.borrow_mut().clear();
        if !overview.has(|deed| *deed == Deed::RemoveObject) {
            return Bytes::ZERO;
        }
        let is_unmeasured = |entry: &EntryRecord| {
            entry.action.deed == Deed::RemoveObject && managed(&entry.action).is_none()
        };
        entries.iter().filter(|entry| is_unmeasured(entry)).map(|entry| entry.freed).sum()
    }
}
