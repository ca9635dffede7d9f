//! Breakdowns by ending and by family, of which each entry may have one of its own.
//!
//! Keys are told apart by a hash of 61 bits with keys that nobody knows; that two of a million names have the
//! same comes about once in four million times. Entries are dealt out by the first bits of it, so that a part's
//! sums fit into the processor's cache and no two threads find the same key.

use std::sync::atomic::{AtomicUsize, Ordering};

use ahash::RandomState;
use rustc_hash::FxHashMap;

use super::Cell;
use super::below::Below;
use super::breakdown::{Breakdown, BreakdownBy, SLICES, Slice, SliceKey, rank};
use crate::catalog::{AgeProfile, Catalog, EntryId};
use crate::kernel::Kind;
use crate::naming::extension;
use crate::units::Bytes;

/// For things that are no file, among endings.
const NO_FILE: u64 = 0;

const PARTS: usize = 64;

/// An entry with all that is asked of it later: a part's entries lie far apart in the catalog.
#[derive(Clone, Copy)]
struct Keyed {
    /// The hash of its key, of which [`CLASS`] is its age class.
    hash: u64,
    id: EntryId,
    /// Its bytes on disk in units of 512, or `u32::MAX` if they are more.
    blocks: u32,
}

const CLASS: u64 = 7;

impl Keyed {
    fn key(self) -> u64 {
        self.hash & !CLASS
    }

    fn allocated(self, catalog: &Catalog) -> Bytes {
        match self.blocks {
            u32::MAX => catalog.own_allocated(self.id),
            blocks => Bytes::new(u64::from(blocks) * 512),
        }
    }
}

/// So many entries are gone through at once, one column of the catalog after the other and the parts last: a
/// processor fetches in advance from a few places of memory only.
const WAITING: usize = 2048;

/// What one thread has found, and what the threads after it have.
struct Dealt {
    parts: Vec<Vec<Keyed>>,
    others: Vec<Vec<Vec<Keyed>>>,
    waiting: Vec<Keyed>,
    spare: Vec<u8>,
}

impl Dealt {
    fn new() -> Self {
        let waiting = Vec::with_capacity(WAITING);
        Self { parts: vec![Vec::new(); PARTS], others: Vec::new(), waiting, spare: Vec::new() }
    }

    fn deal(&mut self, complete: impl Fn(&mut [Keyed])) {
        complete(&mut self.waiting);
        for one in self.waiting.drain(..) {
            self.parts[(one.hash >> 56) as usize % PARTS].push(one);
        }
    }
}

/// What is kept of each key at first; of most no more is ever wanted.
#[derive(Clone, Copy)]
struct Sum {
    hash: u64,
    sum: Cell,
    largest: (Bytes, EntryId),
}

/// Sorts entries by ending or family; `class` gives the age class of one.
pub(super) fn breakdown(
    catalog: &Catalog,
    below: &Below<'_>,
    by: BreakdownBy,
    class: &(impl Fn(EntryId) -> usize + Sync),
) -> Breakdown {
    let hasher = RandomState::new();
    // those of a small directory are found sooner than those of the whole scan
    let many = by == BreakdownBy::Family && below.len() * 8 >= catalog.len();
    let families = if many { catalog.family_hashes() } else { None };
    let hash = |id: EntryId, spare: &mut Vec<u8>| -> u64 {
        match families {
            Some(families) => families[id.0 as usize],
            None if by == BreakdownBy::Extension && catalog.kind(id) != Kind::File => NO_FILE,
            None => hasher.hash_one(key(catalog, by, id, spare)),
        }
    };
    let complete = |waiting: &mut [Keyed]| {
        for one in waiting {
            let blocks = catalog.own_allocated(one.id).get() / 512;
            one.blocks = u32::try_from(blocks).unwrap_or(u32::MAX);
            one.hash = one.hash & !CLASS | class(one.id) as u64;
        }
    };
    let mut dealt = below.fold(
        Dealt::new,
        |dealt, id| {
            let hash = hash(id, &mut dealt.spare);
            dealt.waiting.push(Keyed { hash, id, blocks: 0 });
            if dealt.waiting.len() == WAITING {
                dealt.deal(complete);
            }
        },
        |dealt, mut more| {
            more.deal(complete);
            dealt.others.push(more.parts);
        },
    );
    dealt.deal(complete);
    let of_part = |part: usize| {
        let others = dealt.others.iter().flat_map(move |parts| &parts[part]);
        dealt.parts[part].iter().chain(others)
    };
    let mut all: Vec<Sum> =
        by_parts(|part| sums(catalog, of_part(part))).into_iter().flatten().collect();
    let mut whole = Cell::default();
    all.iter().for_each(|one| whole.add(one.sum));
    let by_rank = |one: &Sum| rank(one.sum, one.largest.1);
    let listed = all.len().min(SLICES);
    if listed < all.len() {
        all.select_nth_unstable_by_key(listed, by_rank);
    }
    let mut rest = (all.len() - listed, Cell::default());
    all.drain(listed..).for_each(|one| rest.1.add(one.sum));
    all.sort_by_key(by_rank);
    let places: FxHashMap<u64, usize> =
        all.iter().enumerate().map(|(place, one)| (one.hash, place)).collect();
    let mut profiles = vec![AgeProfile::default(); listed];
    let found = by_parts(|part| {
        let mut found = FxHashMap::<usize, AgeProfile>::default();
        for one in of_part(part) {
            if let Some(place) = places.get(&one.key()) {
                let bytes = one.allocated(catalog).get() as f32;
                found.entry(*place).or_default()[(one.hash & CLASS) as usize] += bytes;
            }
        }
        found
    });
    found.into_iter().flatten().for_each(|(place, profile)| profiles[place] = profile);
    let mut spare = Vec::new();
    let slices = all.into_iter().zip(profiles).map(|(one, profile)| {
        let largest = one.largest.1;
        let words = key(catalog, by, largest, &mut spare);
        let key = match (one.hash == NO_FILE, by) {
            (true, _) => SliceKey::NoFile,
            (false, BreakdownBy::Family) => SliceKey::Family(words.to_owned()),
            (false, _) => SliceKey::Extension(words.to_owned()),
        };
        let largest_allocated = one.largest.0;
        Slice { key, sum: one.sum, profile, largest, largest_allocated }
    });
    Breakdown { by, slices: slices.collect(), rest, whole }
}

/// Adds up the entries of one part, by their keys.
fn sums<'a>(catalog: &Catalog, entries: impl Iterator<Item = &'a Keyed>) -> Vec<Sum> {
    let mut places = FxHashMap::<u64, u32>::default();
    let mut sums = Vec::<Sum>::new();
    for one in entries {
        let allocated = one.allocated(catalog);
        let place = *places.entry(one.key()).or_insert(sums.len() as u32) as usize;
        if place == sums.len() {
            sums.push(Sum { hash: one.key(), sum: Cell::default(), largest: (allocated, one.id) });
        }
        let sum = &mut sums[place];
        sum.sum.add(Cell { entries: 1, allocated });
        if allocated > sum.largest.0 {
            sum.largest = (allocated, one.id);
        }
    }
    sums
}

/// Does the work of every part, on as many threads as there are cores.
fn by_parts<T: Send>(work: impl Fn(usize) -> T + Sync) -> Vec<T> {
    let threads = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let next = AtomicUsize::new(0);
    let some = || {
        let take = || Some(next.fetch_add(1, Ordering::Relaxed)).filter(|part| *part < PARTS);
        std::iter::from_fn(take).map(&work).collect::<Vec<T>>()
    };
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads).map(|_| scope.spawn(some)).collect();
        let mut done = some();
        for other in others {
            match other.join() {
                Ok(more) => done.extend(more),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        done
    })
}

/// The ending of an entry's name in small letters, or its family.
fn key<'a>(catalog: &'a Catalog, by: BreakdownBy, id: EntryId, spare: &'a mut Vec<u8>) -> &'a [u8] {
    if by == BreakdownBy::Family {
        return catalog.family_of(id, spare);
    }
    spare.clear();
    spare.extend(extension(catalog.own_name(id)).iter().map(u8::to_ascii_lowercase));
    spare
}
