//! How much the volumes of a plan have in use before and after its run. A managed store tells it by its list; a bucket only if
//! all of it were listed, so that what goes there is not measured.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use fondaco_store::ManagedStore;

use super::EntryRecord;
use crate::archive::is_store;
use crate::kernel::Mount;
use crate::packed_list::PackedList;
use crate::plan::objects::used_in;
use crate::plan::{Action, Deed, Overview, Plan, ToolTarget};
use crate::state::State;
use crate::units::Bytes;
use crate::volume::used_of_volume;

/// A list is believed for so long: whoever waits for a volume to settle asks often.
const BELIEVED: Duration = Duration::from_secs(1);

/// See the [module](self).
pub(super) struct MeasuredVolumes<'a> {
    /// Where they are mounted, or the addresses of managed stores.
    pub(super) paths: Vec<PathBuf>,
    stores: HashMap<PathBuf, ManagedStore>,
    /// What stores have said last, and when.
    last: RefCell<HashMap<PathBuf, (Instant, Option<Bytes>)>>,
    mounts: Vec<Mount>,
    state: &'a State,
}

fn managed(action: &Action) -> Option<&ManagedStore> {
    match action.tool.as_deref() {
        Some(ToolTarget::Object(object)) => object.managed.as_deref(),
        _ => None,
    }
}

impl<'a> MeasuredVolumes<'a> {
    pub(super) fn of(plan: &Plan, overview: &Overview, mounts: &[Mount], state: &'a State) -> Self {
        let mut stores: HashMap<PathBuf, ManagedStore> = HashMap::new();
        if overview.has(|deed| *deed == Deed::RemoveObject) {
            for action in &plan.actions {
                if let Some(store) = managed(&action)
                    && !stores.contains_key(&action.volume.0)
                {
                    stores.insert(action.volume.0.clone(), store.clone());
                }
            }
        }
        let all = overview.volumes.iter().map(|(path, _)| path);
        let paths = all.filter(|path| !is_store(path) || stores.contains_key(*path)).cloned();
        Self {
            paths: paths.collect(),
            stores,
            last: RefCell::default(),
            mounts: mounts.to_vec(),
            state,
        }
    }

    /// Bytes in use on all of them now; nothing if there is none, or one does not answer.
    pub(super) fn used(&self) -> Option<Bytes> {
        if self.paths.is_empty() {
            return None;
        }
        let used = |path: &PathBuf| match self.stores.get(path) {
            Some(store) => self.used_in_store(path, store),
            None => used_of_volume(path, self.state, &self.mounts),
        };
        self.paths.iter().map(used).sum()
    }

    /// Bytes that a store lists now; nothing if it does not answer.
    fn used_in_store(&self, volume: &Path, store: &ManagedStore) -> Option<Bytes> {
        let known = self.last.borrow().get(volume).copied();
        if let Some((_, used)) = known.filter(|(asked, _)| asked.elapsed() < BELIEVED) {
            return used;
        }
        let used = used_in(store).ok();
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
