//! What the stations that look at a scan know: lens, ages, breakdown, files, map.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use fondaco_core::analysis::{
    AgeBy, Area, Block, Breakdown, BreakdownBy, FileList, FileOrder, Matrix,
};
use fondaco_core::catalog::{EntryId, Selection};
use fondaco_core::lens::{Completion, Lens, LensError};
use fondaco_core::units::{Bytes, Time};

use super::Field;

/// The lens over all stations.
#[derive(Clone, Debug, Default)]
pub struct LensState {
    /// As it holds; empty if everything is shown.
    pub text: String,
    /// The same, read.
    pub lens: Lens,
    /// What it chooses; nothing until that has been found out.
    pub selection: Option<Arc<Selection>>,
    /// Its choice is being made.
    pub waiting: bool,
    /// It is being typed.
    pub typing: Option<Typing>,
}

/// A lens that is being typed.
#[derive(Clone, Debug, Default)]
pub struct Typing {
    /// So far.
    pub text: Field,
    /// What held before, for stepping back.
    pub before: String,
    /// Why it is none yet.
    pub error: Option<LensError>,
    /// How it could go on.
    pub offers: Vec<Completion>,
    /// The offer that has been gone to with the arrows.
    pub cursor: Option<usize>,
}

/// Where the cursor of the Ages station stands; each may be one past the last class, on the sums.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct CellPlace {
    /// From the largest size down.
    pub row: usize,
    /// From the newest age on.
    pub column: usize,
}

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
    /// Those that are on the screen, from `offset` on.
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

/// The Ages station.
#[derive(Clone, Debug, Default)]
pub struct Ages {
    /// Which time counts.
    pub by: AgeBy,
    /// The matrix, if it has been made.
    pub matrix: Option<Arc<Matrix>>,
    /// Where the cursor stands.
    pub cursor: CellPlace,
    /// Where a block begins, if one is being marked.
    pub anchor: Option<CellPlace>,
    /// The files of the selection, by byte-years.
    pub files: Files,
    /// It is being looked for.
    pub waiting: bool,
}

impl Ages {
    /// Size classes in the selection, from the largest down, and age classes from the newest on, both ends
    /// included.
    pub fn selection(&self) -> Option<(CellPlace, CellPlace)> {
        let matrix = self.matrix.as_ref()?;
        let (rows, columns) = (matrix.cells.len(), self.columns());
        let span = |a: usize, b: usize, sums: usize| match a == sums || b == sums {
            true => (0, sums - 1),
            false => (a.min(b), a.max(b)),
        };
        let other = self.anchor.unwrap_or(self.cursor);
        let (top, bottom) = span(self.cursor.row, other.row, rows);
        let (left, right) = span(self.cursor.column, other.column, columns);
        Some((CellPlace { row: top, column: left }, CellPlace { row: bottom, column: right }))
    }

    /// Columns of the matrix without the sums; one more if some times are not known.
    pub fn columns(&self) -> usize {
        self.matrix.as_ref().map_or(0, |matrix| {
            matrix.classes.ages.len() + 1 + usize::from(matrix.of_no_age().entries > 0)
        })
    }

    /// The selection as classes of the matrix.
    pub fn block(&self) -> Option<Block> {
        let matrix = self.matrix.as_ref()?;
        let (from, to) = self.selection()?;
        let last = matrix.cells.len() - 1;
        Some(Block {
            classes: matrix.classes.clone(),
            sizes: last - to.row..=last - from.row,
            ages: from.column..=to.column,
        })
    }
}

/// The Breakdown station.
#[derive(Clone, Debug, Default)]
pub struct BreakdownStation {
    /// By which property.
    pub by: BreakdownBy,
    /// What was found, if it was.
    pub found: Option<Arc<Breakdown>>,
    /// The selected slice.
    pub cursor: usize,
    /// Path of its largest entry.
    pub largest: Option<PathBuf>,
    /// What other properties need is being worked out, or has been.
    pub learned: bool,
    /// It is being looked for.
    pub waiting: bool,
}

/// How Directories shows what a directory holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Manner {
    /// As stairs.
    #[default]
    Cascade,
    /// As areas within areas.
    Map,
    /// As a list of files, however deep they lie.
    Files,
}

/// The list of files on Directories.
#[derive(Clone, Debug, Default)]
pub struct FilesStation {
    /// Their order.
    pub order: FileOrder,
    /// They.
    pub files: Files,
    /// They are being looked for.
    pub waiting: bool,
}

/// The map on Directories.
#[derive(Clone, Debug, Default)]
pub struct MapStation {
    /// Its areas, each after the one it lies in.
    pub areas: Vec<Area>,
    /// Names of those that have room for one, in the same order; empty ones have none.
    pub names: Vec<String>,
}

/// All of them.
#[derive(Clone, Debug, Default)]
pub struct Looking {
    /// The lens.
    pub lens: LensState,
    /// Ages.
    pub ages: Ages,
    /// Breakdown.
    pub breakdown: BreakdownStation,
    /// How Directories shows.
    pub manner: Manner,
    /// The list of files.
    pub files: FilesStation,
    /// The map.
    pub map: MapStation,
    /// Counts questions of each sort: of two the answer to the later one is believed.
    pub asked: [u64; 6],
    /// While a scan grows, nothing is asked anew before it has gone on for so long.
    pub rest_until: Duration,
    /// A closer look is going on: how many entries it has seen.
    pub closer: Option<u64>,
    /// What is to be done with all files is asked when their list stands.
    pub plans_when_ready: bool,
}
