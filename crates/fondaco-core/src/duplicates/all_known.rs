//! Groups of which everything is known from an earlier search: nothing of them is read. Those that are equal are looked at
//! once more, in the order of the catalog.

use std::ops::Range;

use super::candidates::Candidate;
use super::first_look::Alike;
use super::known::KnownFile;
use super::search::Shared;
use super::tell_apart::Equal;
use crate::{kernel, parallel};

/// About so many files at most are told apart before those that are equal are looked at.
pub(super) const MOST_TOGETHER: usize = 32_768;

/// For fewer files than this no thread is begun.
const LEAST_TOGETHER: usize = 1024;

/// A group that has to be told apart by more than what is known of it as it was scanned.
#[derive(Clone, Copy, Debug)]
pub(super) struct Rest {
    /// Its number among the groups.
    pub(super) group: usize,
    /// Whether what is known of it may still fit the scan.
    pub(super) trusts_scan: bool,
}

/// Finds the sets of the groups of which everything is known, and gives the other ones in their order.
pub(super) fn take_known(alike: &Alike, shared: &Shared<'_>) -> Vec<Rest> {
    if alike.len() == 0 {
        return Vec::new();
    }
    if shared.known.is_nothing() {
        return (0..alike.len()).map(|group| Rest { group, trusts_scan: true }).collect();
    }
    shared.known.keep_of(alike.files());
    parallel::each(parts(alike), |part| take_part(part, alike, shared)).concat()
}

/// Groups that follow each other, about as many files together.
fn parts(alike: &Alike) -> Vec<Range<usize>> {
    let together = parallel::small_part_of(alike.files().len(), LEAST_TOGETHER).min(MOST_TOGETHER);
    let (mut parts, mut from, mut files) = (Vec::new(), 0, 0);
    for number in 0..alike.len() {
        files += alike.group(number).map_or(0, <[Candidate]>::len);
        if files >= together {
            parts.push(from..number + 1);
            (from, files) = (number + 1, 0);
        }
    }
    parts.push(from..alike.len());
    parts
}

fn take_part(part: Range<usize>, alike: &Alike, shared: &Shared<'_>) -> Vec<Rest> {
    let mut rest = Vec::new();
    let mut known: Vec<(usize, Vec<Equal>)> = Vec::new();
    let mut equal: Vec<(usize, KnownMember<'_>)> = Vec::new();
    for group in part {
        if shared.is_stopped() {
            return rest;
        }
        let mut sets = Sets { of: known.len(), equal: Vec::new(), members: &mut equal };
        let before = sets.members.len();
        match alike.group(group).and_then(|files| equal_as_known(files, shared, &mut sets)) {
            Some(()) => known.push((group, sets.equal)),
            None => {
                equal.truncate(before);
                rest.push(Rest { group, trusts_scan: true });
            }
        }
    }
    equal.sort_unstable_by_key(|(_, member)| member.file.entry);
    let mut outdated = vec![false; known.len()];
    for (at, member) in equal {
        if shared.is_stopped() {
            return rest;
        }
        outdated[at] = outdated[at] || member.is_outdated(shared);
    }
    for ((group, equal), is_outdated) in known.into_iter().zip(outdated) {
        if is_outdated {
            rest.push(Rest { group, trusts_scan: false });
            continue;
        }
        shared.found(equal);
        shared.are_known(alike.group(group).unwrap_or_default());
    }
    rest.sort_unstable_by_key(|rest| rest.group);
    rest
}

/// A file, and what is known of it as it was scanned.
#[derive(Clone, Copy)]
struct KnownMember<'a> {
    file: &'a Candidate,
    known: KnownFile<'a>,
}

impl KnownMember<'_> {
    /// Whether the file is no longer what is known of it.
    fn is_outdated(&self, shared: &Shared<'_>) -> bool {
        let now = kernel::stat_path(&shared.path(self.file.entry));
        !now.is_ok_and(|now| self.file.is_as_scanned(&now).is_ok() && self.known.is_of(&now))
    }
}

/// The sets of one group.
struct Sets<'s, 'a> {
    /// The number of the group among those of which all is known.
    of: usize,
    equal: Vec<Equal>,
    /// The members of the sets of all such groups.
    members: &'s mut Vec<(usize, KnownMember<'a>)>,
}

/// Finds which files of a group are equal, if enough is known of all of them as they were scanned and none can have its
/// blocks in common with another.
fn equal_as_known<'a>(
    group: &'a [Candidate],
    shared: &'a Shared<'_>,
    sets: &mut Sets<'_, 'a>,
) -> Option<()> {
    let mut free = None;
    let mut members = Vec::with_capacity(group.len());
    for file in group {
        if free != Some(file.device()) {
            free = Some(file.device()).filter(|device| shared.blocks.has_none(*device));
            free?;
        }
        members.push(KnownMember { file, known: shared.known.of_scanned(file)? });
    }
    apart_from(1, &mut members, sets)
}

/// Tells files apart that are alike up to a step.
fn apart_from<'a>(
    step: usize,
    members: &mut [KnownMember<'a>],
    sets: &mut Sets<'_, 'a>,
) -> Option<()> {
    if members.len() < 2 {
        return Some(());
    }
    if members.iter().all(|member| member.known.whole().is_some()) {
        members.sort_unstable_by_key(|member| (member.known.whole(), member.file.entry));
        let same = members.chunk_by(|one, other| one.known.whole() == other.known.whole());
        for same in same.filter(|same| same.len() > 1) {
            let files = same.iter().map(|member| *member.file).collect();
            sets.equal.push(Equal { files, same_blocks: Vec::new() });
            sets.members.extend(same.iter().map(|member| (sets.of, *member)));
        }
        return Some(());
    }
    if !members.iter().all(|member| member.known.step(step).is_some()) {
        return None;
    }
    members.sort_unstable_by_key(|member| member.known.step(step));
    let mut same =
        members.chunk_by_mut(|one, other| one.known.step(step) == other.known.step(step));
    same.try_for_each(|same| apart_from(step + 1, same, sets))
}
