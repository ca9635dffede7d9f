//! Entries of one directory in order, and the largest files below it.

use std::cmp::{Ordering, Reverse};
use std::collections::BinaryHeap;
use std::ops::Range;

use rustc_hash::FxHashSet;
use serde::{Deserialize, Serialize};

use super::{Catalog, EntryId, Seen};
use crate::parallel;
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
    /// All there are, in turn.
    pub const ALL: [Self; 5] =
        [Self::Allocated, Self::Apparent, Self::Entries, Self::Newest, Self::Name];

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
    /// The first entries, in the order that was asked for.
    pub rows: Vec<EntryId>,
    /// What was cut off.
    pub tail: Tail,
}

impl Ranking {
    /// Has every inode count once in the sum of the tail. That looks at all inodes with several names, which takes
    /// too long for a keystroke.
    pub fn count_inodes_once(&mut self, seen: Seen<'_>, directory: EntryId) {
        if self.tail.children > 0 {
            let again = seen.counted_again(directory, &self.rows);
            self.tail.allocated = self.tail.allocated.less(again);
        }
    }
}

/// What a ranking does not list one by one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Tail {
    /// How many children.
    pub children: u64,
    /// Their bytes on disk, added up: an inode that several of them have names of counts in each, until
    /// [`Ranking::count_inodes_once`] has been asked.
    pub allocated: Bytes,
    /// Entries in them.
    pub entries: u64,
}

impl Catalog {
    /// As [`Seen::ranking`], of all there is.
    pub fn ranking(&self, directory: EntryId, order: Order, limit: usize) -> Ranking {
        self.whole().ranking(directory, order, limit)
    }

    /// As [`Seen::largest_below`], of all there is.
    pub fn largest_below(&self, directory: EntryId, count: usize) -> Vec<EntryId> {
        self.whole().largest_below(directory, count)
    }
}

impl Seen<'_> {
    /// The first `limit` children of a directory in an order. Equal ones come by name.
    ///
    /// Only the part that is asked for is sorted, so a directory of a million is no burden.
    pub fn ranking(self, directory: EntryId, order: Order, limit: usize) -> Ranking {
        let common = self.common_start(directory);
        let mut first = if limit <= SCREENFUL {
            let of = |part| self.first(self.keys(part, order, common), limit);
            let parts = in_parts(self.catalog().child_numbers(directory), of);
            self.first(parts.into_iter().flatten(), limit)
        } else {
            let of = |part| self.keys(part, order, common).collect::<Vec<Key>>();
            let mut keys = in_parts(self.catalog().child_numbers(directory), of).concat();
            // numbers first, which costs a fraction of looking at names; then what they leave open
            sort(&mut keys, &|a: &Key, b: &Key| a.numbers().cmp(&b.numbers()));
            for equal in keys.chunk_by_mut(|a, b| a.numbers() == b.numbers()) {
                if equal.len() > 1 {
                    sort(equal, &|a: &Key, b: &Key| self.compare(a, b));
                }
            }
            keys.truncate(limit);
            keys
        };
        let rows: Vec<EntryId> = first.drain(..).map(|key| key.id).collect();
        let count = match self.is_narrowed() {
            true => self.children(directory).count(),
            false => self.catalog().children(directory).len(),
        };
        let mut tail = Tail { children: (count - rows.len()) as u64, ..Tail::default() };
        if tail.children > 0 {
            let sums = |ids: &mut dyn Iterator<Item = EntryId>| {
                ids.fold((Bytes::ZERO, 0), |(bytes, entries), id| {
                    (bytes + self.allocated(id), entries + self.entries(id))
                })
            };
            let all = sums(&mut self.children(directory));
            let shown = sums(&mut rows.iter().copied());
            tail.allocated = Bytes::new(all.0.get().saturating_sub(shown.0.get()));
            tail.entries = all.1 - shown.1;
        }
        Ranking { rows, tail }
    }

    /// Bytes of inodes that several of the children have names of that are not among the first, beyond once each.
    fn counted_again(self, directory: EntryId, first: &[EntryId]) -> Bytes {
        let catalog = self.catalog();
        let listed: FxHashSet<EntryId> = first.iter().copied().collect();
        let child_above = |name: EntryId| {
            let mut at = name;
            loop {
                match catalog.parent(at)? {
                    above if above == directory => return Some(at),
                    above => at = above,
                }
            }
        };
        let mut again = Bytes::ZERO;
        let mut children = Vec::new();
        for names in catalog.linked_entries().filter(|names| names.len() > 1) {
            let shown = names.iter().filter(|name| self.has(**name));
            children.clear();
            children.extend(shown.filter_map(|n| child_above(*n)).filter(|c| !listed.contains(c)));
            children.sort_unstable();
            children.dedup();
            let more = children.len().saturating_sub(1) as u64;
            again += Bytes::new(catalog.own_allocated(names[0]).get().saturating_mul(more));
        }
        again
    }

    /// The keys of those of some children that are shown.
    fn keys(self, children: Range<u32>, order: Order, common: usize) -> impl Iterator<Item = Key> {
        let shown = children.map(EntryId).filter(move |id| self.shows(*id));
        shown.map(move |id| self.key(id, order, common))
    }

    /// The first of many keys: they are kept in order while all are gone through.
    fn first(self, keys: impl Iterator<Item = Key>, limit: usize) -> Vec<Key> {
        let mut first: Vec<Key> = Vec::with_capacity(limit + 1);
        for key in keys {
            if first.len() == limit
                && first.last().is_none_or(|last| self.compare(&key, last) != Ordering::Less)
            {
                continue;
            }
            let place = first.partition_point(|other| self.compare(other, &key) == Ordering::Less);
            first.insert(place, key);
            first.truncate(limit);
        }
        first
    }

    /// How many bytes the names in a directory have in common at their beginning.
    fn common_start(self, directory: EntryId) -> usize {
        let mut names = self.children(directory).map(|id| self.catalog().own_name(id));
        let Some(first) = names.next() else { return 0 };
        names.fold(first.len(), |common, name| {
            if name.starts_with(&first[..common]) {
                return common;
            }
            first.iter().zip(name).take_while(|(a, b)| a == b).count()
        })
    }

    fn key(self, id: EntryId, order: Order, common: usize) -> Key {
        // what is largest or newest comes first
        let rank = !match order {
            Order::Allocated => self.allocated(id).get(),
            Order::Apparent => self.apparent(id).get(),
            Order::Entries => self.entries(id),
            Order::Newest => self.newest(id).sec as u64,
            Order::Name => 0,
        };
        let mut start = [0; 8];
        let rest = &self.catalog().own_name(id)[common..];
        let length = rest.len().min(start.len());
        start[..length].copy_from_slice(&rest[..length]);
        Key { rank, start: u64::from_be_bytes(start), id }
    }

    fn compare(self, a: &Key, b: &Key) -> Ordering {
        a.numbers()
            .cmp(&b.numbers())
            .then_with(|| self.catalog().own_name(a.id).cmp(self.catalog().own_name(b.id)))
    }

    /// The `count` largest entries below a directory that are not directories, largest first.
    ///
    /// Goes only into directories that hold one of them, the most promising first.
    pub fn largest_below(self, directory: EntryId, count: usize) -> Vec<EntryId> {
        // the smallest on top, to be pushed out
        let mut found: BinaryHeap<Reverse<(Bytes, Reverse<EntryId>)>> = BinaryHeap::new();
        let mut open = BinaryHeap::from([(self.largest(directory), Reverse(directory))]);
        while let Some((largest, Reverse(id))) = open.pop() {
            let full = found.len() == count;
            if full && found.peek().is_none_or(|Reverse((least, _))| largest <= *least) {
                break;
            }
            for id in self.children(id) {
                let bytes = self.largest(id);
                let full = found.len() == count;
                if full && found.peek().is_some_and(|Reverse((least, _))| bytes <= *least) {
                    continue;
                }
                if self.catalog().is_directory(id) {
                    open.push((bytes, Reverse(id)));
                    continue;
                }
                if full {
                    found.pop();
                }
                found.push(Reverse((bytes, Reverse(id))));
            }
        }
        found.into_sorted_vec().into_iter().map(|Reverse((_, Reverse(id)))| id).collect()
    }
}

/// What an entry is ordered by: its rank, then its name, of which the first bytes mostly decide.
#[derive(Clone, Copy)]
struct Key {
    rank: u64,
    start: u64,
    id: EntryId,
}

impl Key {
    fn numbers(&self) -> (u64, u64) {
        (self.rank, self.start)
    }
}

/// Up to how many the first are picked out without sorting the others.
const SCREENFUL: usize = 1000;

/// From how many keys on it is worth to sort on several threads.
const MANY: usize = 50_000;

/// Does the same with parts of many children side by side, and with few of them at once.
fn in_parts<T: Send>(children: Range<u32>, work: impl Fn(Range<u32>) -> T + Sync) -> Vec<T> {
    if children.len() < MANY {
        return vec![work(children)];
    }
    parallel::each(parallel::split(children, 1), work)
}

fn sort(keys: &mut [Key], compare: &(impl Fn(&Key, &Key) -> Ordering + Sync)) {
    if keys.len() < MANY {
        return keys.sort_unstable_by(compare);
    }
    let part = parallel::part_of(keys.len(), 1);
    parallel::each(keys.chunks_mut(part), |part| part.sort_unstable_by(compare));
    // what is in order by parts is merged by a stable sort in few passes
    keys.sort_by(compare);
}
