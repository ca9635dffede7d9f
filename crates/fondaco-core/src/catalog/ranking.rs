//! Entries of one directory in order, and the largest files below it.

use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;

use serde::{Deserialize, Serialize};

use super::{Catalog, EntryId};
use crate::units::Bytes;

/// What a ranking is ordered by; sizes and counts largest first, times newest first.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[allow(missing_docs)] // each is its own word
pub enum Order {
    #[default]
    Allocated,
    Apparent,
    Entries,
    Newest,
    Name,
}

impl Order {
    /// The next order in turn.
    pub fn next(self) -> Self {
        match self {
            Self::Allocated => Self::Apparent,
            Self::Apparent => Self::Entries,
            Self::Entries => Self::Newest,
            Self::Newest => Self::Name,
            Self::Name => Self::Allocated,
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allocated => "allocated",
            Self::Apparent => "apparent",
            Self::Entries => "entries",
            Self::Newest => "newest",
            Self::Name => "name",
        }
    }
}

/// The first entries of a directory in some order, and the sum of the others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ranking {
    /// In order.
    pub rows: Vec<EntryId>,
    /// What was cut off.
    pub tail: Tail,
}

/// What a ranking does not list one by one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Tail {
    /// How many children.
    pub children: u64,
    /// Their bytes on disk, added up.
    pub allocated: Bytes,
    /// Entries in them.
    pub entries: u64,
}

impl Catalog {
    /// The first `limit` children of a directory in an order. Equal ones come by name.
    ///
    /// Only the part that is asked for is sorted, so a directory of a million is no burden.
    pub fn ranking(&self, directory: EntryId, order: Order, limit: usize) -> Ranking {
        let mut rows: Vec<EntryId> = self.children(directory).collect();
        let mut cut = Vec::new();
        if rows.len() > limit {
            if limit > 0 {
                rows.select_nth_unstable_by(limit - 1, |a, b| self.compare(order, *a, *b));
            }
            cut = rows.split_off(limit);
        }
        rows.sort_unstable_by(|a, b| self.compare(order, *a, *b));
        let tail = Tail {
            children: cut.len() as u64,
            allocated: cut.iter().map(|id| self.allocated(*id)).sum(),
            entries: cut.iter().map(|id| self.entries(*id)).sum(),
        };
        Ranking { rows, tail }
    }

    fn compare(&self, order: Order, a: EntryId, b: EntryId) -> Ordering {
        let primary = match order {
            Order::Allocated => self.allocated(b).cmp(&self.allocated(a)),
            Order::Apparent => self.apparent(b).cmp(&self.apparent(a)),
            Order::Entries => self.entries(b).cmp(&self.entries(a)),
            Order::Newest => self.newest(b).cmp(&self.newest(a)),
            Order::Name => Ordering::Equal,
        };
        primary.then_with(|| self.name_bytes(a).cmp(self.name_bytes(b)))
    }

    /// The `count` largest entries below a directory that are not directories, largest first.
    ///
    /// Goes down only where the total still allows a larger one, so most of a tree is not visited.
    pub fn largest_below(&self, directory: EntryId, count: usize) -> Vec<EntryId> {
        let mut found = Vec::new();
        let mut open = BinaryHeap::from([(self.allocated(directory), Reverse(directory))]);
        while let Some((_, Reverse(id))) = open.pop() {
            if self.is_directory(id) {
                open.extend(self.children(id).map(|id| (self.allocated(id), Reverse(id))));
            } else {
                found.push(id);
                if found.len() == count {
                    break;
                }
            }
        }
        found
    }
}
