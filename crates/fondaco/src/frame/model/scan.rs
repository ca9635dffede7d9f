//! The scan at hand, and saved scans.

use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard};

use crate::failure::Failure;

use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::saved::About;
use fondaco_core::scan::Progress;
use fondaco_core::units::Time;

/// The scan at hand, or the last one.
#[derive(Clone, Debug, Default)]
pub struct ScanState {
    /// Counts scans: what an earlier one still says is not believed.
    pub number: u64,
    /// What it scans.
    pub roots: Vec<PathBuf>,
    /// Its result so far.
    pub catalog: Option<Arc<RwLock<Catalog>>>,
    /// How far it is.
    pub progress: Progress,
    /// It goes on.
    pub running: bool,
    /// It went to its end.
    pub complete: bool,
    /// When it ended; of a saved one, when it was scanned.
    pub ended: Option<Time>,
    /// It was saved and opened again.
    pub saved: bool,
    /// A part of it is looked at again.
    pub mending: Option<Mending>,
}

/// A second look at a part of a scan.
#[derive(Clone, Debug, Default)]
pub struct Mending {
    /// The directory to scan; `None` if it is the places that a run changed.
    pub path: Option<PathBuf>,
    /// How far the second look is.
    pub progress: Progress,
}

/// A saved scan as it is listed.
#[derive(Clone, Debug)]
pub struct SavedRow {
    /// Tells it from earlier scans.
    pub number: u64,
    /// What it says of itself, or why it cannot be read.
    pub about: Result<About, Failure>,
}

impl ScanState {
    /// The catalog, to be read for a moment.
    pub fn read(&self) -> Option<RwLockReadGuard<'_, Catalog>> {
        Some(self.catalog.as_ref()?.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// The path of an entry.
    pub fn path_of(&self, id: EntryId) -> Option<PathBuf> {
        let catalog = self.read()?;
        ((id.0 as usize) < catalog.len()).then(|| catalog.path(id))
    }

    /// Whether it goes on.
    pub fn is_running(&self) -> bool {
        self.running
    }

    /// Whether it, or a second look at a part of it, can be stopped.
    pub fn can_stop(&self) -> bool {
        self.running || self.mending.as_ref().is_some_and(|mending| mending.path.is_some())
    }
}

/// A catalog that others share, to be read for a moment.
pub fn read(catalog: &RwLock<Catalog>) -> RwLockReadGuard<'_, Catalog> {
    catalog.read().unwrap_or_else(PoisonError::into_inner)
}
