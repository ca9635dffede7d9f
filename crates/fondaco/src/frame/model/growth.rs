//! The scan at hand beside an earlier one of the same place: what both stations of directories and of slices, and the
//! history, tell as growth.

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard};

use fondaco_core::analysis::{BreakdownBy, SliceKey};
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::history::Comparison;
use fondaco_core::units::Time;

/// A kept scan, by its number, and when it was made. What is no kept scan has the number 0.
pub type Moment = (u64, Time);

/// The later side of a comparison.
#[derive(Clone, Debug)]
pub enum Later {
    /// The scan at hand.
    AtHand(Arc<RwLock<Catalog>>),
    /// A kept scan.
    Kept(Moment, Arc<Catalog>),
}

impl Later {
    /// Reads it for a moment.
    pub fn read(&self) -> LaterGuard<'_> {
        match self {
            Self::AtHand(shared) => {
                LaterGuard::AtHand(shared.read().unwrap_or_else(PoisonError::into_inner))
            }
            Self::Kept(_, catalog) => LaterGuard::Kept(catalog),
        }
    }
}

/// A catalog that is read for a moment.
#[derive(Debug)]
pub enum LaterGuard<'a> {
    /// That of the scan at hand.
    AtHand(RwLockReadGuard<'a, Catalog>),
    /// A kept one.
    Kept(&'a Catalog),
}

impl std::ops::Deref for LaterGuard<'_> {
    type Target = Catalog;
    fn deref(&self) -> &Catalog {
        match self {
            Self::AtHand(guard) => guard,
            Self::Kept(catalog) => catalog,
        }
    }
}

/// Two scans with what changed between them.
#[derive(Debug)]
pub struct ComparedScans {
    /// Which is the earlier one.
    pub earlier: Moment,
    /// Where that lies, if it is no kept scan.
    pub other: Option<PathBuf>,
    /// The earlier one.
    pub before: Arc<Catalog>,
    /// The later one.
    pub later: Later,
    /// When the later one was made.
    pub later_at: Time,
    /// What changed from the earlier to the later one.
    pub found: Comparison,
    /// The lens under which it was compared.
    pub lens: String,
}

impl ComparedScans {
    /// The time between the two, in days; nothing where the first is not the earlier one, as with two trees of today.
    pub fn days(&self) -> Option<f64> {
        let seconds = self.later_at.sec - self.earlier.1.sec;
        (seconds > 0).then_some(seconds as f64 / 86_400.0)
    }
}

/// What the slices of a breakdown have more or less than before.
#[derive(Clone, Debug, Default)]
pub struct GrownSlices {
    /// By which property; nothing if it has not been worked out.
    pub by: Option<BreakdownBy>,
    /// Bytes by slice; what is not in it has not changed.
    pub bytes: HashMap<SliceKey, i64>,
}

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct Growth {
    /// The column is shown.
    pub shown: bool,
    /// The kept scans of the place that was scanned, older than the scan at hand, oldest first.
    pub moments: Vec<Moment>,
    /// Of which scan they are.
    pub moments_of: Option<u64>,
    /// The one that the scan at hand is compared with.
    pub chosen: Option<Moment>,
    /// That scan, once it has been read.
    pub before: Option<(Moment, Arc<Catalog>)>,
    /// Where that lies, if it is no kept scan.
    pub other: Option<PathBuf>,
    /// What changed since.
    pub compared: Option<Arc<ComparedScans>>,
    /// What was asked for last: the scan, its entries, the lens, the earlier scan.
    pub asked: Option<(u64, usize, String, u64)>,
    /// It is being found out.
    pub waiting: bool,
    /// By how much entries of the directory at hand have changed.
    pub here: HashMap<EntryId, i64>,
    /// By how much slices have changed.
    pub slices: GrownSlices,
}
