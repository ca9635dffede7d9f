//! Entries told apart by a key of which there may be as many as entries: each key gets a number.
//!
//! Keys are told apart by a hash of 64 bits with keys that nobody knows; that two of ten million have the same
//! comes about once in 370 000 times. Entries are dealt out by some bits of it, so that the numbers of one part
//! fit into the processor's cache and no two threads find the same key.

use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

use rustc_hash::FxHashMap;

use super::EntryId;
use crate::parallel;

const PARTS: usize = 64;

/// Entries with the hashes of their keys, as one thread found them.
pub(crate) struct HashedKeys(Vec<Part>);

#[derive(Clone, Default)]
struct Part {
    hashes: Vec<u64>,
    ids: Vec<u32>,
}

impl HashedKeys {
    pub(crate) fn new() -> Self {
        Self(vec![Part::default(); PARTS])
    }

    pub(crate) fn push(&mut self, id: EntryId, hash: u64) {
        let part = &mut self.0[(hash >> 57) as usize % PARTS];
        part.hashes.push(hash);
        part.ids.push(id.0);
    }
}

/// The number of each entry's key.
#[derive(Debug)]
pub(crate) struct Keys {
    by_entry: Box<[AtomicU32]>,
    end: usize,
}

impl Keys {
    /// Numbers the keys of some of so many entries; the others have the number 0, which stands for nothing there.
    pub(crate) fn number(entries: usize, dealt: &[HashedKeys]) -> Self {
        let by_entry: Box<[AtomicU32]> = (0..entries).map(|_| AtomicU32::new(0)).collect();
        let lanes = parallel::threads();
        let most = parallel::each(0..lanes, |lane| {
            let parts = (lane..PARTS).step_by(lanes);
            parts.map(|part| number_part(part, dealt, &by_entry)).max().unwrap_or(0)
        });
        // the parts take turns: what came early in the catalog has a low number, and neighbours near ones
        let end = most.into_iter().max().unwrap_or(0) * PARTS;
        Self { by_entry, end }
    }

    /// The number of an entry's key.
    pub(crate) fn of(&self, id: EntryId) -> usize {
        self.by_entry[id.0 as usize].load(Relaxed) as usize
    }

    /// All numbers are below this one; some of those below it stand for no key.
    pub(crate) fn end(&self) -> usize {
        self.end
    }
}

/// Gives how many keys the part has.
fn number_part(part: usize, dealt: &[HashedKeys], by_entry: &[AtomicU32]) -> usize {
    let mut numbers = FxHashMap::<u64, u32>::default();
    for one in dealt.iter().map(|dealt| &dealt.0[part]) {
        for (hash, id) in one.hashes.iter().zip(&one.ids) {
            let next = numbers.len() as u32;
            let number = *numbers.entry(*hash).or_insert(next) * PARTS as u32 + part as u32;
            by_entry[*id as usize].store(number, Relaxed);
        }
    }
    numbers.len()
}
