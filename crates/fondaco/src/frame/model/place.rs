//! The place in the scan at hand: the directory that is shown, and what is selected in it. All stations that show
//! something of a scan show it of this directory.

use std::collections::HashMap;
use std::path::PathBuf;

use fondaco_core::catalog::EntryId;
use fondaco_core::units::Bytes;

/// What is selected in the directory at hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Selected {
    /// One of its entries.
    Entry(EntryId),
    /// The last row, which stands for all that do not fit.
    Tail,
}

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct Place {
    /// The directory that is shown.
    pub at: Option<EntryId>,
    /// Path of that directory.
    pub path: PathBuf,
    /// The one above it, if the scan has it.
    pub parent: Option<EntryId>,
    /// Bytes on disk of what is shown of it.
    pub whole: Bytes,
    /// Entries that are shown of it.
    pub entries: u64,
    /// The same of all there is in it, whatever the lens.
    pub all: (Bytes, u64),
    /// The selected row.
    pub selected: Option<Selected>,
    /// Above several roots: the path of the selected one.
    pub root: Option<PathBuf>,
    /// The user has chosen it: it is kept while rankings move.
    pub chosen: bool,
    /// The tail has been opened: all entries are rows, and the panel scrolls.
    pub tail_open: bool,
    /// What was selected in directories that were left.
    pub remembered: HashMap<EntryId, EntryId>,
    /// While an ancestor is being chosen in the header: which, counted from the top.
    pub trail: Option<usize>,
    /// Where to go as soon as the scan has met it.
    pub wanted: Option<(PathBuf, Option<PathBuf>)>,
}

impl Place {
    /// The selected entry, if it is one and not the tail.
    pub fn selected_entry(&self) -> Option<EntryId> {
        match self.selected {
            Some(Selected::Entry(id)) => Some(id),
            _ => None,
        }
    }
}
