//! The Directories station: what is shown of a directory.

use std::collections::HashMap;
use std::path::PathBuf;

use fondaco_core::catalog::{AgeProfile, EntryId, Order, Tail};
use fondaco_core::kernel::Kind;
use fondaco_core::units::{Bytes, Time};

/// One row of the cascade, ready to be drawn.
#[derive(Clone, Debug)]
pub struct EntryRow {
    /// Which entry.
    pub id: EntryId,
    /// Display form of its name, with a slash if it is a directory.
    pub name: String,
    /// Bytes on disk.
    pub allocated: Bytes,
    /// Length.
    pub apparent: Bytes,
    /// Names in it.
    pub entries: u64,
    /// Newest writing in it.
    pub newest: Time,
    /// Bytes by age.
    pub profile: AgeProfile,
    /// What it is.
    pub kind: Kind,
    /// Not wholly read, or another volume: the size is not all.
    pub incomplete: bool,
    /// The deed planned for it, or for what holds it.
    pub planned: Option<char>,
}

/// What is selected in the cascade.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Selected {
    /// One of its rows.
    Entry(EntryId),
    /// The last row, which stands for all that do not fit.
    Tail,
}

/// The Directories station.
#[derive(Clone, Debug, Default)]
pub struct Directories {
    /// The directory that is shown.
    pub at: Option<EntryId>,
    /// Its path.
    pub path: PathBuf,
    /// The one above it, if the scan has it.
    pub parent: Option<EntryId>,
    /// Bytes on disk of what is shown of it.
    pub whole: Bytes,
    /// Entries that are shown of it.
    pub entries: u64,
    /// The same of all there is in it, whatever the lens.
    pub all: (Bytes, u64),
    /// Its entries in order, as many as are listed one by one.
    pub ids: Vec<EntryId>,
    /// Those of them that are on the screen, from `offset` on.
    pub rows: Vec<EntryRow>,
    /// Bytes on disk of those above the screen: where its first stair begins.
    pub above: Bytes,
    /// What is not listed one by one.
    pub tail: Tail,
    /// The tail has been opened: all entries are rows, and the panel scrolls.
    pub tail_open: bool,
    /// What the rows are ordered by.
    pub order: Order,
    /// The selected row.
    pub selected: Option<Selected>,
    /// The user has chosen it: it is kept while rankings move.
    pub chosen: bool,
    /// The first row that is drawn.
    pub offset: usize,
    /// What was selected in directories that were left.
    pub remembered: HashMap<EntryId, EntryId>,
    /// The ancestor that is selected in the trail, counted from the top.
    pub trail: usize,
    /// What has been typed to find a name.
    pub typed: Option<String>,
    /// Where to go as soon as the scan has met it.
    pub wanted: Option<(PathBuf, Option<PathBuf>)>,
}

impl Directories {
    /// The selected entry, if it is one and not the tail.
    pub fn selected_entry(&self) -> Option<EntryId> {
        match self.selected {
            Some(Selected::Entry(id)) => Some(id),
            _ => None,
        }
    }

    /// The selected row.
    pub fn selected_row(&self) -> Option<&EntryRow> {
        let id = self.selected_entry()?;
        self.rows.iter().find(|row| row.id == id)
    }

    /// Whether Enter does anything.
    pub fn can_enter(&self) -> bool {
        match self.selected {
            Some(Selected::Tail) => true,
            _ => self.selected_row().is_some_and(|row| row.kind == Kind::Directory),
        }
    }

    /// Place of the selected row; the tail comes after the last.
    pub fn cursor(&self) -> Option<usize> {
        match self.selected? {
            Selected::Tail => Some(self.ids.len()),
            Selected::Entry(id) => self.ids.iter().position(|listed| *listed == id),
        }
    }

    /// Rows, the tail included.
    pub fn length(&self) -> usize {
        self.ids.len() + usize::from(self.tail.children > 0)
    }
}
