//! The scan at hand, saved scans, and the books of a volume.

use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use fondaco_core::books::Books;
use fondaco_core::catalog::Catalog;
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
    /// Which directory; nothing if it is places that were changed.
    pub path: Option<PathBuf>,
    /// How far.
    pub progress: Progress,
}

/// A saved scan as it is listed.
#[derive(Clone, Debug)]
pub struct SavedRow {
    /// Its number.
    pub number: u64,
    /// What it says of itself, or why it cannot be read.
    pub about: Result<About, String>,
}

impl ScanState {
    /// Whether it goes on.
    pub fn is_running(&self) -> bool {
        self.running
    }

    /// Whether it, or a second look at a part of it, can be stopped.
    pub fn can_stop(&self) -> bool {
        self.running || self.mending.as_ref().is_some_and(|mending| mending.path.is_some())
    }
}

/// The books of a volume, below the list of volumes.
#[derive(Clone, Debug, Default)]
pub struct BooksState {
    /// Which volume they are of, or are being drawn up of.
    pub of: Option<PathBuf>,
    /// Counts requests: of two that overlap, the later one is believed, whichever ends first.
    pub number: u64,
    /// They are being drawn up.
    pub running: bool,
    /// What came of it.
    pub outcome: Option<Result<Books, String>>,
    /// The selected line.
    pub cursor: usize,
}

impl BooksState {
    /// The books of a volume, if they have been drawn up.
    pub fn of_volume(&self, mount_point: &Path) -> Option<&Books> {
        let books = self.outcome.as_ref()?.as_ref().ok()?;
        (books.mount_point == mount_point).then_some(books)
    }
}
