//! How old and how large: bytes by classes of both, and the files that weigh most.
//!
//! Takes a [`Catalog`] and one of its directories. Every inode counts once, with its first name below that
//! directory, and a directory with its own blocks, so that a [`Matrix`] adds up to the directory's total.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashSet};

use serde::Serialize;

use crate::catalog::{AGE_BOUNDS, Catalog, EntryId};
use crate::units::{Age, Bytes, Time};

/// Which of its times says how old an entry is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum AgeBy {
    /// When its contents were last written.
    #[default]
    Written,
    /// When it was last read. Volumes mounted with `noatime` do not keep it, with `relatime` to the day.
    Read,
}

impl AgeBy {
    /// The time of an entry that is asked for, to the second.
    pub fn of(self, catalog: &Catalog, id: EntryId) -> Time {
        match self {
            Self::Written => catalog.modified(id),
            Self::Read => catalog.accessed(id),
        }
    }
}

/// Where one class ends and the next begins.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Classes {
    /// Sizes, smallest first: a class holds what is smaller than its bound.
    pub sizes: Vec<Bytes>,
    /// Ages, newest first: a class holds what is younger than its bound.
    pub ages: Vec<Age>,
}

impl Default for Classes {
    fn default() -> Self {
        let sizes = [64 << 10, 1 << 20, 16 << 20, 256 << 20, 4 << 30];
        Self { sizes: sizes.map(Bytes::new).to_vec(), ages: AGE_BOUNDS.to_vec() }
    }
}

impl Classes {
    /// The class of a size and that of an age.
    fn of(&self, size: Bytes, age: Age) -> (usize, usize) {
        (
            self.sizes.partition_point(|bound| *bound <= size),
            self.ages.partition_point(|bound| *bound <= age),
        )
    }
}

/// What one class holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Cell {
    /// Entries, each inode once.
    pub entries: u64,
    /// Their bytes on disk.
    pub allocated: Bytes,
}

impl Cell {
    fn add(&mut self, other: Self) {
        self.entries += other.entries;
        self.allocated += other.allocated;
    }
}

/// Size classes by age classes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Matrix {
    /// Where the classes end.
    pub classes: Classes,
    /// By size, then by age.
    pub cells: Vec<Vec<Cell>>,
}

impl Matrix {
    /// The sum of one size class.
    pub fn of_size(&self, size: usize) -> Cell {
        sum(self.cells[size].iter())
    }

    /// The sum of one age class.
    pub fn of_age(&self, age: usize) -> Cell {
        sum(self.cells.iter().map(|row| &row[age]))
    }

    /// The sum of all.
    pub fn whole(&self) -> Cell {
        sum(self.cells.iter().flatten())
    }
}

fn sum<'a>(cells: impl Iterator<Item = &'a Cell>) -> Cell {
    cells.fold(Cell::default(), |mut sum, cell| {
        sum.add(*cell);
        sum
    })
}

/// Sorts what a directory holds, itself included, into classes of size and age.
pub fn matrix(catalog: &Catalog, at: EntryId, by: AgeBy, classes: Classes) -> Matrix {
    let row = vec![Cell::default(); classes.ages.len() + 1];
    let mut cells = vec![row; classes.sizes.len() + 1];
    each_once(catalog, at, |id, allocated| {
        let age = by.of(catalog, id).age(catalog.now());
        let (size, age) = classes.of(allocated, age);
        cells[size][age].add(Cell { entries: 1, allocated });
    });
    Matrix { classes, cells }
}

/// Tells every inode below a directory once, the directory included, with its own bytes on disk.
fn each_once(catalog: &Catalog, at: EntryId, mut each: impl FnMut(EntryId, Bytes)) {
    let mut seen = HashSet::new();
    let mut open = vec![at];
    while let Some(id) = open.pop() {
        let again = catalog.is_multi_linked(id) && !seen.insert(catalog.device_and_inode(id));
        if !again {
            each(id, catalog.own_allocated(id));
        }
        open.extend(catalog.children(id));
    }
}

/// What files are listed by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileOrder {
    /// Bytes on disk, largest first.
    #[default]
    Allocated,
    /// Oldest first.
    Age,
    /// Size times age: dead weight, heaviest first.
    ByteYears,
}

/// Bytes on disk times years of age: how much room a file has taken for how long.
pub fn byte_years(allocated: Bytes, age: Age) -> f64 {
    const YEAR: f64 = 365.0 * 86_400.0;
    allocated.get() as f64 * (age.secs() as f64 / YEAR)
}

/// The first `count` of all that is no directory below one, each inode once. Equal ones come as the scan
/// met them.
pub fn first_files(
    catalog: &Catalog,
    at: EntryId,
    order: FileOrder,
    by: AgeBy,
    count: usize,
) -> Vec<EntryId> {
    // the least on top, to be pushed out
    let mut found: BinaryHeap<Reverse<(u128, Reverse<EntryId>)>> = BinaryHeap::new();
    each_once(catalog, at, |id, allocated| {
        if catalog.is_directory(id) {
            return;
        }
        let age = by.of(catalog, id).age(catalog.now()).secs();
        let rank = match order {
            FileOrder::Allocated => u128::from(allocated.get()),
            FileOrder::Age => u128::from(age),
            // to the byte and second: no two that differ are taken for equal
            FileOrder::ByteYears => u128::from(allocated.get()) * u128::from(age),
        };
        found.push(Reverse((rank, Reverse(id))));
        if found.len() > count {
            found.pop();
        }
    });
    found.into_sorted_vec().into_iter().map(|Reverse((_, Reverse(id)))| id).collect()
}
