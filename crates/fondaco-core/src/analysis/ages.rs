//! How old and how large: bytes by classes of both, and the files that weigh most.
//!
//! Takes a [`Catalog`] and one of its directories. Every inode counts once, with its first name below that
//! directory, and a directory with its own blocks, so that a [`Matrix`] adds up to the directory's total.

use std::cmp::Reverse;
use std::collections::BinaryHeap;

use serde::Serialize;

use super::below::Below;
use crate::catalog::{AGE_BOUNDS, Catalog, EntryId, Seen};
use crate::units::{Age, Bytes, Time, UnitError, UnitStyle};

/// The time stamp that an entry's age is counted from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum AgeBy {
    /// When its contents were last written.
    #[default]
    Written,
    /// When it was last read. Volumes mounted with `noatime` do not keep it, with `relatime` to the day.
    Read,
    /// When its inode was last changed: its contents, owner, mode or names.
    Changed,
    /// When it was made. Only a closer look tells it, and only where the volume keeps it.
    Born,
}

impl AgeBy {
    /// All there are.
    pub const ALL: [Self; 4] = [Self::Written, Self::Read, Self::Changed, Self::Born];

    /// The time of an entry that is asked for, to the second, if it is known.
    pub fn of(self, catalog: &Catalog, id: EntryId) -> Option<Time> {
        match self {
            Self::Written => Some(catalog.modified(id)),
            Self::Read => Some(catalog.accessed(id)),
            Self::Changed => Some(catalog.changed(id)),
            Self::Born => catalog.closer().and_then(|closer| closer.born(id)),
        }
    }

    /// How old an entry is, if that is known.
    pub fn age(self, catalog: &Catalog, id: EntryId) -> Option<Age> {
        self.of(catalog, id).map(|time| time.age(catalog.now()))
    }

    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Self::Written => "last written",
            Self::Read => "last read",
            Self::Changed => "last changed",
            Self::Born => "born",
        }
    }

    /// The same as the end of a sentence that begins with when.
    pub fn clause(self) -> &'static str {
        match self {
            Self::Written => "it was last written",
            Self::Read => "it was last read",
            Self::Changed => "its inode was last changed",
            Self::Born => "it was made",
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
    /// Classes that end where these texts say, as in `1 MiB` and `90 d`; the usual ones where there is none.
    ///
    /// # Errors
    ///
    /// What is wrong: no size or age, or not in order.
    pub fn of_texts(sizes: &[String], ages: &[String]) -> Result<Self, UnitError> {
        let mut classes = Self::default();
        let unordered = |text: &String| UnitError {
            text: text.clone(),
            expected: "classes in order, each ending after the one before it",
        };
        if !sizes.is_empty() {
            classes.sizes =
                sizes.iter().map(|text| Bytes::parse(text)).collect::<Result<_, _>>()?;
        }
        if !ages.is_empty() {
            classes.ages = ages.iter().map(|text| Age::parse(text)).collect::<Result<_, _>>()?;
        }
        if let Some(place) = classes.sizes.windows(2).position(|pair| pair[0] >= pair[1]) {
            return Err(unordered(&sizes[place + 1]));
        }
        if let Some(place) = classes.ages.windows(2).position(|pair| pair[0] >= pair[1]) {
            return Err(unordered(&ages[place + 1]));
        }
        Ok(classes)
    }

    /// What a size class is called: where it ends.
    pub fn size_words(&self, class: usize, style: UnitStyle) -> String {
        match self.sizes.get(class) {
            Some(bound) => format!("< {}", bound.shown(style).replace(".0 ", " ")),
            None => "larger".to_owned(),
        }
    }

    /// What an age class is called: where it ends; the one after the last has no age.
    pub fn age_words(&self, class: usize) -> String {
        match self.ages.get(class) {
            Some(bound) => format!("< {}", bound_words(*bound)),
            None if class == self.ages.len() => "older".to_owned(),
            None => "not known".to_owned(),
        }
    }

    fn of_size(&self, size: Bytes) -> usize {
        self.sizes.partition_point(|bound| *bound <= size)
    }

    fn of_age(&self, age: Age) -> usize {
        self.ages.partition_point(|bound| *bound <= age)
    }
}

/// An age to the second, in the largest unit that it is a whole number of: so no two bounds read the same.
fn bound_words(bound: Age) -> String {
    let (secs, day) = (bound.secs(), Age::days(1).secs());
    let units =
        [("y", 365 * day), ("mo", 30 * day), ("d", day), ("h", 3600), ("min", 60), ("s", 1)];
    let fits = |(unit, length): &(&str, u64)| {
        // a month is spoken of as thirty days
        secs.is_multiple_of(*length) && secs >= *length && !(*unit == "mo" && secs < 2 * length)
    };
    let (unit, length) = units.into_iter().find(fits).unwrap_or(("s", 1));
    format!("{} {unit}", secs / length)
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
    pub(super) fn add(&mut self, other: Self) {
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
    /// By size: what has no age, because its time is not known.
    pub not_known: Vec<Cell>,
}

impl Matrix {
    /// The sum of one size class.
    pub fn of_size(&self, size: usize) -> Cell {
        sum(self.cells[size].iter().chain(&self.not_known[size..=size]))
    }

    /// The sum of one age class.
    pub fn of_age(&self, age: usize) -> Cell {
        sum(self.cells.iter().map(|row| &row[age]))
    }

    /// The sum of what has no age.
    pub fn of_no_age(&self) -> Cell {
        sum(self.not_known.iter())
    }

    /// The sum of all.
    pub fn whole(&self) -> Cell {
        sum(self.cells.iter().flatten().chain(&self.not_known))
    }
}

fn sum<'a>(cells: impl Iterator<Item = &'a Cell>) -> Cell {
    cells.fold(Cell::default(), |mut sum, cell| {
        sum.add(*cell);
        sum
    })
}

/// Sorts what is shown of a directory, itself included, into classes of size and age.
pub fn matrix(seen: Seen<'_>, at: EntryId, by: AgeBy, classes: Classes) -> Matrix {
    let catalog = seen.catalog();
    let columns = classes.ages.len() + 2;
    let rows = classes.sizes.len() + 1;
    // of each row the last cell is for what has no age
    let cells = Below::new(seen, at).fold(
        || vec![Cell::default(); columns * rows],
        |cells, id| {
            let allocated = catalog.own_allocated(id);
            let size = classes.of_size(allocated);
            let age = by.age(catalog, id).map_or(columns - 1, |age| classes.of_age(age));
            cells[size * columns + age].add(Cell { entries: 1, allocated });
        },
        |cells, more| cells.iter_mut().zip(more).for_each(|(cell, more)| cell.add(more)),
    );
    let rows = || cells.chunks(columns);
    let not_known = rows().map(|row| row[columns - 1]).collect();
    let cells = rows().map(|row| row[..columns - 1].to_vec()).collect();
    Matrix { classes, cells, not_known }
}

/// Classes of size and age that belong together; a size or age is in it if its number is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Block {
    /// Where classes end.
    pub classes: Classes,
    /// The size classes of the block, by their places among the classes.
    pub sizes: std::ops::RangeInclusive<usize>,
    /// Age classes; the one after the last is of what has no age.
    pub ages: std::ops::RangeInclusive<usize>,
}

impl Block {
    fn holds(&self, allocated: Bytes, age: Option<Age>) -> bool {
        let last = self.classes.ages.len() + 1;
        let age = age.map_or(last, |age| self.classes.of_age(age));
        self.ages.contains(&age) && self.sizes.contains(&self.classes.of_size(allocated))
    }
}

/// What files are listed by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileOrder {
    /// Bytes on disk, largest first.
    #[default]
    Allocated,
    /// The oldest first.
    Age,
    /// Size times age: dead weight, heaviest first.
    ByteYears,
}

impl FileOrder {
    /// All there are.
    pub const ALL: [Self; 3] = [Self::Allocated, Self::Age, Self::ByteYears];
}

/// Bytes on disk times years of age: how much room a file has taken for how long.
pub fn byte_years(allocated: Bytes, age: Age) -> f64 {
    const YEAR: f64 = 365.0 * 86_400.0;
    allocated.get() as f64 * (age.secs() as f64 / YEAR)
}

/// The files of a directory, or of a block of its matrix, in an order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileList {
    /// The first of them.
    pub first: Vec<EntryId>,
    /// All that is no directory, each inode once.
    pub whole: Cell,
}

/// The first `count` of all that is no directory and shown below one, each inode once. Equal ones come as the
/// scan met them.
pub fn first_files(
    seen: Seen<'_>,
    at: EntryId,
    order: FileOrder,
    by: AgeBy,
    block: Option<&Block>,
    count: usize,
) -> FileList {
    let catalog = seen.catalog();
    // the least on top, to be pushed out
    type Ranked = BinaryHeap<Reverse<(u128, Reverse<EntryId>)>>;
    let keep = |found: &mut Ranked, one: Reverse<(u128, Reverse<EntryId>)>| {
        if found.len() < count {
            found.push(one);
        } else if let Some(mut least) = found.peek_mut()
            && least.0 < one.0
        {
            *least = one;
        }
    };
    let (found, whole) = Below::new(seen, at).fold(
        || (Ranked::new(), Cell::default()),
        |(found, whole), id| {
            if catalog.is_directory(id) {
                return;
            }
            let allocated = catalog.own_allocated(id);
            let age = by.age(catalog, id);
            if block.is_some_and(|block| !block.holds(allocated, age)) {
                return;
            }
            whole.add(Cell { entries: 1, allocated });
            let age = age.map_or(0, Age::secs);
            let rank = match order {
                FileOrder::Allocated => u128::from(allocated.get()),
                FileOrder::Age => u128::from(age),
                // to the byte and second: no two that differ are taken for equal
                FileOrder::ByteYears => u128::from(allocated.get()) * u128::from(age),
            };
            keep(found, Reverse((rank, Reverse(id))));
        },
        |(found, whole), (more, sum)| {
            whole.add(sum);
            more.into_iter().for_each(|one| keep(found, one));
        },
    );
    let first = found.into_sorted_vec().into_iter().map(|Reverse((_, Reverse(id)))| id).collect();
    FileList { first, whole }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_are_named_by_where_they_end_and_must_be_in_order() {
        let classes = Classes::default();
        assert_eq!((classes.age_words(0), classes.age_words(4)), ("< 1 d".into(), "< 1 y".into()));
        assert_eq!(classes.age_words(classes.ages.len()), "older");
        assert_eq!(classes.age_words(classes.ages.len() + 1), "not known");
        assert_eq!(classes.size_words(1, UnitStyle::Binary), "< 1 MiB");
        assert_eq!(classes.size_words(classes.sizes.len(), UnitStyle::Binary), "larger");
        let texts =
            |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>();
        let own = Classes::of_texts(&texts(&["4k", "1G"]), &texts(&["30d", "1y"])).unwrap();
        assert_eq!((own.sizes.len(), own.ages.len()), (2, 2));
        for words in
            ["90 s", "36 h", "30 d", "61 d", "77 d", "3 mo", "12 mo", "1 y", "400 d", "2 y"]
        {
            let own = Classes::of_texts(&[], &texts(&[words])).unwrap();
            assert_eq!(own.age_words(0), format!("< {words}"), "as it was typed");
        }
        assert_eq!(Classes::of_texts(&[], &[]), Ok(Classes::default()));
        for (sizes, ages) in [(&["1G", "4k"][..], &[][..]), (&[], &["1y", "1y"]), (&["x"], &[])] {
            assert!(Classes::of_texts(&texts(sizes), &texts(ages)).is_err());
        }
    }
}
