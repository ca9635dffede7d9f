//! Groups of one length in which nothing has changed since an earlier search: what was found then is found again, and of
//! their files only those that are equal are asked for.
//!
//! A group is known by the inodes of all its files, and when each was written and changed as of the scan. Whatever happens to
//! a file after it was at rest and has been read, it gets a later change time than that. So what was found of a group holds for
//! every later scan that shows the same times.

use std::collections::HashMap;
use std::sync::Mutex;

use rustc_hash::{FxHashMap, FxHashSet};
use serde::{Deserialize, Serialize};

use super::all_known::MOST_TOGETHER;
use super::candidates::{Candidate, Candidates};
use super::first_look::open_in_turn;
use super::search::{HEARD, Shared, locked};
use super::tell_apart::Equal;
use crate::{kernel, parallel};

/// So many groups are remembered at most, so that what is known of them takes little memory.
const MOST_GROUPS: usize = 1 << 18;

/// For fewer groups than this no thread is begun.
const LEAST_GROUPS: usize = 16;

/// For fewer files than this no thread is begun to ask for them.
const LEAST_FILES: usize = 512;

/// The beginning of the BLAKE3 digest of all that a group is known by.
type GroupKey = [u8; 16];

/// A file by its device and inode.
type Inode = (u64, u64);

/// What was found of a group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct GroupFound {
    /// How long its files are.
    length: u64,
    key: GroupKey,
    /// The day of the search that found or used it last, counted from 1970.
    pub(super) day: u32,
    /// Those that are equal.
    sets: Vec<Vec<Inode>>,
}

impl GroupFound {
    /// In which part of all that is known it is kept.
    pub(super) fn part(&self) -> u8 {
        self.key[0]
    }

    /// What tells its group from any other.
    pub(super) fn known_by(&self) -> (u64, GroupKey) {
        (self.length, self.key)
    }
}

/// What is to be said of the groups of a search, for the next one.
#[derive(Debug, Default)]
pub(super) struct Groups {
    /// The key of each group that is at rest, by its length.
    keys: FxHashMap<u64, GroupKey>,
    /// What was found now.
    sets: Mutex<HashMap<u64, Vec<Vec<Inode>>>>,
    /// Lengths of groups of which not all is sure: a file was not read, or is not quite as scanned.
    unsure: Mutex<FxHashSet<u64>>,
}

impl Groups {
    /// A file of this length is not as it was scanned, or not read.
    pub(super) fn is_unsure(&self, length: u64) {
        locked(&self.unsure).insert(length);
    }

    /// Notes files that are equal.
    pub(super) fn found(&self, equal: &[Equal]) {
        let inode = |file: &Candidate| (file.device(), file.inode);
        for Equal { files, .. } in equal {
            let Some(first) = files.first() else { continue };
            if self.keys.contains_key(&first.length) {
                let set = files.iter().map(inode).collect();
                locked(&self.sets).entry(first.length).or_default().push(set);
            }
        }
    }

    /// What is sure of all groups, at the end of a search that was not stopped.
    pub(super) fn all_found(&self, day: u32) -> Vec<GroupFound> {
        let (mut sets, unsure) = (locked(&self.sets), locked(&self.unsure));
        let sure = self.keys.iter().filter(|(length, _)| !unsure.contains(length));
        let found = |(length, key): (&u64, &GroupKey)| {
            let sets = sets.remove(length).unwrap_or_default();
            GroupFound { length: *length, key: *key, day, sets }
        };
        sure.map(found).collect()
    }
}

/// Takes the groups out of which an earlier search found all there is, and gives the others, with what is to be remembered of
/// them.
pub(super) fn take_found(
    mut candidates: Candidates,
    devices: &[(u64, bool)],
    shared: &Shared<'_>,
) -> (Candidates, Groups) {
    if !shared.known.remembers() {
        return (candidates, Groups::default());
    }
    ask_of_blocks(&candidates.files, devices, shared);
    let keys = keys_of(&candidates, shared);
    let places: FxHashMap<(u64, GroupKey), usize> =
        keys.iter().map(|(at, key)| (*key, *at as usize)).collect();
    let place = |found: &GroupFound| places.get(&found.known_by()).copied();
    let mut taken = vec![false; candidates.groups.len()];
    let mut equal = Vec::new();
    for found in shared.known.groups_found(|found| place(found).is_some()) {
        let Some(at) = place(&found) else { continue };
        let sets = sets_of(group(&candidates, at), &found.sets);
        taken[at] = sets.is_some();
        equal.extend(sets.into_iter().flatten().map(|files| (at, files)));
    }
    let mut groups = Groups::default();
    if taken.contains(&true) {
        ask_for(&equal, &mut taken, shared);
        for (at, files) in equal {
            if taken[at] {
                let files = files.into_iter().copied().collect();
                shared.is_found(vec![Equal { files, same_blocks: Vec::new() }]);
            }
        }
        for (at, _) in taken.iter().enumerate().filter(|(_, taken)| **taken) {
            shared.has_looked_at(group(&candidates, at).len());
            shared.are_known(group(&candidates, at));
        }
    }
    let others = keys.into_iter().filter(|(at, _)| !taken[*at as usize]);
    groups.keys = others.map(|(_, key)| key).collect();
    candidates.leave_out(&taken, || !shared.is_stopped());
    (candidates, groups)
}

/// Finds out of each device whether its files can have blocks in common.
fn ask_of_blocks(files: &[Candidate], devices: &[(u64, bool)], shared: &Shared<'_>) {
    /// Files that cannot be opened are told of when they are read.
    const MOST_FAILURES: usize = 16;
    for (device, _) in devices {
        let on_it = files.iter().filter(|file| file.device() == *device);
        let open = |file: &Candidate| {
            let path = shared.path(file.entry);
            open_in_turn(rustix::fs::CWD, path.as_os_str(), *device, shared).ok()
        };
        if let Some(open) = on_it.take(MOST_FAILURES).find_map(open) {
            shared.blocks.ask(&open, *device);
        }
    }
}

fn group(candidates: &Candidates, at: usize) -> &[Candidate] {
    let range = &candidates.groups[at];
    &candidates.files[range.start as usize..range.end as usize]
}

/// The groups by their places, each with its length and key. Left out are those of which a file was changed a moment ago, or may
/// have blocks in common with another one, which changes without a trace in its times; and if there are too many, the smallest.
fn keys_of(candidates: &Candidates, shared: &Shared<'_>) -> Vec<(u32, (u64, GroupKey))> {
    let groups = &candidates.groups;
    let are_few =
        |least: &usize| groups.iter().filter(|group| group.len() >= *least).count() <= MOST_GROUPS;
    let least = std::iter::successors(Some(2), |least| Some(least * 2)).find(are_few).unwrap_or(2);
    let places = (0..groups.len() as u32).filter(|at| groups[*at as usize].len() >= least);
    let places: Vec<u32> = places.collect();
    let keys = |part: &[u32]| {
        let mut record = Vec::new();
        let key = |at: &u32| {
            let group = group(candidates, *at as usize);
            record.clear();
            let mut free = None;
            for (at, file) in group.iter().enumerate() {
                if at % HEARD == 0 && shared.is_stopped() {
                    return None;
                }
                if free != Some(file.device()) {
                    free = Some(file.device()).filter(|device| shared.blocks.has_none(*device));
                    free?;
                }
                let changed = file.changed.filter(|_| shared.known.is_at_rest(file))?;
                record.extend_from_slice(&file.device().to_le_bytes());
                record.extend_from_slice(&file.inode.to_le_bytes());
                record.extend_from_slice(&file.written.to_le_bytes());
                record.extend_from_slice(&changed.get().to_le_bytes());
            }
            let key = *blake3::hash(&record).as_bytes().first_chunk()?;
            Some((*at, (group.first()?.length, key)))
        };
        part.iter().filter_map(key).collect::<Vec<_>>()
    };
    let part = parallel::small_part_of(places.len(), LEAST_GROUPS);
    parallel::each(places.chunks(part), keys).concat()
}

/// The files of sets in a group, which is in the order of device and inode; nothing if one is not there.
fn sets_of<'a>(group: &'a [Candidate], sets: &[Vec<Inode>]) -> Option<Vec<Vec<&'a Candidate>>> {
    let file = |(device, inode): &Inode| {
        let at = group.binary_search_by_key(&(*device, *inode), |file| (file.device(), file.inode));
        at.ok().map(|at| &group[at])
    };
    sets.iter().map(|set| set.iter().map(file).collect()).collect()
}

/// Asks for files that are equal, some thousands at a time in the order of the catalog, and gives groups back of which one is
/// not as it was scanned.
fn ask_for(equal: &[(usize, Vec<&Candidate>)], taken: &mut [bool], shared: &Shared<'_>) {
    let mut files: Vec<(usize, &Candidate)> =
        equal.iter().flat_map(|(at, files)| files.iter().map(move |file| (*at, *file))).collect();
    let is_there = |file: &Candidate| {
        let now = kernel::stat_path(&shared.path(file.entry));
        now.is_ok_and(|now| file.is_quite_as_scanned(&now))
    };
    let outdated = |part: &mut [(usize, &Candidate)]| {
        // all at once would take long in which no stop is heard
        part.sort_unstable_by_key(|(_, file)| file.entry);
        let asked = part.iter().take_while(|_| !shared.is_stopped());
        asked.filter(|(_, file)| !is_there(file)).map(|(at, _)| *at).collect::<Vec<_>>()
    };
    let part = parallel::part_of(files.len(), LEAST_FILES).min(MOST_TOGETHER);
    for at in parallel::each(files.chunks_mut(part), outdated).concat() {
        taken[at] = false;
    }
    if shared.is_stopped() {
        taken.fill(false);
    }
}
