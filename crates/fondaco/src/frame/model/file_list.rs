//! A list of files, however deep they lie.

use fondaco_core::analysis::FileList;
use fondaco_core::catalog::EntryId;
use fondaco_core::units::{Bytes, Time};

/// One file of a list, ready to be drawn.
#[derive(Clone, Debug)]
pub struct FileRow {
    /// Display form of its path below the directory at hand.
    pub path: String,
    /// Bytes on disk.
    pub allocated: Bytes,
    /// Its time, if it is known.
    pub time: Option<Time>,
    /// Bytes on disk times years.
    pub weight: f64,
    /// The deed planned for it, or for what holds it.
    pub planned: Option<char>,
}

/// Files of the lens in an order.
#[derive(Clone, Debug, Default)]
pub struct Files {
    /// As it was found.
    pub list: FileList,
    /// The rows that are on the screen, from `offset` on.
    pub rows: Vec<FileRow>,
    /// The selected one.
    pub cursor: usize,
    /// The first that is drawn.
    pub offset: usize,
}

impl Files {
    /// The selected one.
    pub fn selected(&self) -> Option<EntryId> {
        self.list.first.get(self.cursor).copied()
    }
}
