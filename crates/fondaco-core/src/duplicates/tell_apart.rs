//! Reads the files of one length step by step, as far as they are alike.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use rustc_hash::FxHashMap;

use super::blocks::Blocks;
use super::candidates::Candidate;
use super::contents::{BLOCK, Digest, end_of_step, read_up_to};
use super::first_look::{beginning, open_in_turn, read_in_memory};
use super::known::{AsRead, Read, ReadNow};
use super::search::{NotRead, Shared};
use crate::kernel::{self, CallError, Op, Stat};

/// So many files of one length are kept open while they are compared.
const OPEN: usize = 64;
/// Of so many the state of the digest is kept from step to step; of more, what was read is read again.
const DIGESTED: usize = 256;

/// A file that is being read.
struct Member<'a> {
    candidate: &'a Candidate,
    /// As it was first looked at.
    stat: Option<Stat>,
    file: Option<File>,
    digest: Option<Digest>,
    /// Where it begins on its device, if that has been asked.
    place: u64,
    read: Read,
    looked_up: bool,
    /// How many steps of `read` come from an earlier search.
    from_before: usize,
    /// Whether it is taken for what was scanned without being looked at, as long as all that is asked of it is known.
    trusts_scan: bool,
}

/// Files of one length that are equal, each with its digest.
pub(super) struct Equal {
    pub(super) files: Vec<Candidate>,
    /// Those that have all their blocks in common, group by group.
    pub(super) same_blocks: Vec<Vec<Candidate>>,
}

/// Files that have been alike so far.
struct Part<'a> {
    /// The step that tells them apart next.
    step: usize,
    /// Samples from all over them are alike too.
    is_sampled: bool,
    members: Vec<Member<'a>>,
}

/// Files of this length or more are sampled at their end and in between once the first steps have found them alike, and read
/// in the order of their places.
const LONG: u64 = 1 << 20;
/// The step before which they are sampled.
const SAMPLED_AT: usize = 4;
/// Bytes of each sample.
const SAMPLE: u64 = 4096;

/// Shorter files are read sooner than it is asked where they lie.
const WORTH_ASKING: u64 = 64 << 10;

/// What came of telling files apart.
#[derive(Default)]
struct Told {
    equal: Vec<Equal>,
    ended: Vec<Ended>,
    not_read: Vec<(Candidate, PathBuf, NotRead)>,
    /// A file of which all was known is not as it was scanned.
    is_outdated: bool,
}

/// Tells files of one length apart whose first bytes are the same. What cannot be read, or changes meanwhile, is noted and
/// left out. `trusts_scan`: what is known of them is believed as long as it fits the scan, and looked at once more at the
/// end.
pub(super) fn tell_apart(
    group: &[Candidate],
    shared: &Shared<'_>,
    buffer: &mut [u8],
    trusts_scan: bool,
) -> Vec<Equal> {
    let mut told = told_apart(group, shared, buffer, trusts_scan);
    if told.is_outdated {
        told = told_apart(group, shared, buffer, false);
    }
    for (file, path, reason) in told.not_read {
        shared.not_read(&file, path, reason);
    }
    told.ended.iter().for_each(|ended| shared.remember(ended));
    told.equal
}

fn told_apart(
    group: &[Candidate],
    shared: &Shared<'_>,
    buffer: &mut [u8],
    trusts_scan: bool,
) -> Told {
    let length = group.first().map_or(0, |candidate| candidate.length);
    let new = |candidate| Member { trusts_scan, ..Member::new(candidate) };
    let members = group.iter().map(new).collect();
    // what has no more bytes than were looked at is read whole by the first step
    let begin = usize::from(end_of_step(0, length) < length);
    let mut aside: Aside = FxHashMap::default();
    let mut members: Vec<Member<'_>> = match length >= WORTH_ASKING {
        true => one_of_each_blocks(members, shared, &mut aside),
        false => members,
    };
    if length >= LONG && members.len() > 1 {
        let keeps_open = members.len() <= OPEN;
        members.iter_mut().for_each(|member| member.find_place(keeps_open, shared));
    }
    let mut told = Told::default();
    if members.len() < 2 {
        // there is nothing else to tell it from
        told.equal = members.iter().filter_map(|member| alone(member, &mut aside)).collect();
        return told;
    }
    let mut parts = vec![Part { step: begin, is_sampled: false, members }];
    while let Some(Part { step, is_sampled, mut members }) = parts.pop() {
        let keeps_open = members.len() <= OPEN;
        let keeps_digest = members.len() <= DIGESTED;
        // before much is read: what differs only at its end is not read whole to find that out
        let takes_samples = !is_sampled
            && length >= LONG
            && step >= SAMPLED_AT
            && !members.iter_mut().all(|member| member.is_known_at(step, shared));
        let is_known = members.iter_mut().all(|member| member.is_known_whole(shared));
        let end = if is_known { length } else { end_of_step(step, length) };
        let is_last = end == length && !takes_samples;
        let mut apart: FxHashMap<[u8; 32], Vec<Member<'_>>> = FxHashMap::default();
        // files of many directories, in the order in which they lie on the device
        members.sort_unstable_by_key(Member::order);
        for mut member in members {
            if shared.is_stopped() {
                return told;
            }
            let digest = match takes_samples {
                true => member.samples(shared, buffer),
                false => member.come_to(step, end, is_last, shared, buffer),
            };
            match digest {
                Ok(digest) => {
                    if !keeps_open {
                        member.file = None;
                    }
                    if !keeps_digest {
                        member.digest = None;
                    }
                    apart.entry(digest).or_default().push(member);
                }
                Err(reason) => {
                    told.is_outdated |= member.is_outdated(shared);
                    let path = member.path(shared);
                    told.not_read.push((*member.candidate, path, reason));
                }
            }
        }
        let mut found: Vec<_> = apart.into_values().collect();
        found.sort_by_key(|members| members.first().map(|member| member.candidate.inode));
        for members in found {
            match (members.len(), is_last) {
                (1, _) => {
                    for member in members {
                        told.equal.extend(alone(&member, &mut aside));
                        told.ended.push(member.ended());
                    }
                }
                (_, false) => parts.push(Part {
                    step: if takes_samples { step } else { step + 1 },
                    is_sampled: is_sampled || takes_samples,
                    members,
                }),
                (_, true) => equal_to_the_end(members, shared, &mut aside, &mut told),
            }
        }
    }
    told
}

/// Files that have all their blocks in common with the one that is read in their place, by its device and inode; that one
/// is the first of them.
type Aside = FxHashMap<(u64, u64), Vec<Candidate>>;

/// Of files that have all their blocks in common one stays to be read, and the others are put aside with it.
fn one_of_each_blocks<'a>(
    members: Vec<Member<'a>>,
    shared: &Shared<'_>,
    aside: &mut Aside,
) -> Vec<Member<'a>> {
    let keeps_open = members.len() <= OPEN;
    let mut first_of: FxHashMap<Blocks, (u64, u64)> = FxHashMap::default();
    let mut left = Vec::with_capacity(members.len());
    for mut member in members {
        if shared.is_stopped() {
            return Vec::new();
        }
        let blocks = member.blocks(shared);
        if !keeps_open {
            member.file = None;
        }
        match blocks.map(|blocks| *first_of.entry(blocks).or_insert(member.key())) {
            Some(first) if first != member.key() => {
                aside.entry(first).or_default().push(*member.candidate);
            }
            _ => left.push(member),
        }
    }
    for member in &left {
        if let Some(group) = aside.get_mut(&member.key()) {
            group.insert(0, *member.candidate);
        }
    }
    left
}

/// Files that are alike to their ends, with those that were put aside with one of them.
fn equal_to_the_end(
    members: Vec<Member<'_>>,
    shared: &Shared<'_>,
    aside: &mut Aside,
    told: &mut Told,
) {
    let mut equal = Equal { files: Vec::new(), same_blocks: Vec::new() };
    let mut by_blocks: FxHashMap<Blocks, Vec<Candidate>> = FxHashMap::default();
    for mut member in members {
        told.is_outdated |= member.is_outdated(shared);
        equal.files.push(*member.candidate);
        let asks = member.candidate.length < WORTH_ASKING;
        if let Some(group) = aside.remove(&member.key()) {
            equal.files.extend(group.iter().skip(1));
            equal.same_blocks.push(group);
        } else if asks && let Some(blocks) = member.blocks(shared) {
            by_blocks.entry(blocks).or_default().push(*member.candidate);
        }
        told.ended.push(member.ended());
    }
    by_blocks.retain(|_, group| group.len() > 1);
    equal.same_blocks.extend(by_blocks.into_values());
    told.equal.push(equal);
}

/// What is equal to a file that no other one is like: what was put aside with it, if anything.
fn alone(member: &Member<'_>, aside: &mut Aside) -> Option<Equal> {
    let group = aside.remove(&member.key())?;
    Some(Equal { files: group.clone(), same_blocks: vec![group] })
}

/// What is to be remembered of a file.
pub(super) type Ended = Option<ReadNow>;

impl<'a> Member<'a> {
    fn new(candidate: &'a Candidate) -> Self {
        Self {
            candidate,
            stat: None,
            file: None,
            digest: None,
            place: 0,
            read: Read::default(),
            looked_up: false,
            from_before: 0,
            trusts_scan: false,
        }
    }

    fn key(&self) -> (u64, u64) {
        (self.candidate.device(), self.candidate.inode)
    }

    /// The order in which a device is read: long files by where they begin on it, others by their inodes, which are about in
    /// that order.
    fn order(&self) -> (u64, u64, u64) {
        (self.candidate.device(), self.place, self.candidate.inode)
    }

    /// Asks where it begins on a device that turns, unless nothing is to be read of it. What goes wrong is told when it is
    /// read.
    fn find_place(&mut self, keeps_open: bool, shared: &Shared<'_>) {
        if shared.is_stopped()
            || !shared.turns(self.candidate.device())
            || self.is_known_whole(shared)
            || self.open(shared).is_err()
        {
            return;
        }
        let place = self.file.as_ref().map(kernel::first_place);
        self.place = place.and_then(|place| place.ok().flatten()).unwrap_or(0);
        if !keeps_open {
            self.file = None;
        }
    }

    fn path(&self, shared: &Shared<'_>) -> PathBuf {
        shared.path(self.candidate.entry)
    }

    /// Whether what is known of it was believed by its scan, and is not so any more: it is looked at now, unless it has been.
    fn is_outdated(&self, shared: &Shared<'_>) -> bool {
        if !self.trusts_scan || self.from_before == 0 {
            return false;
        }
        let is_known = |stat: &Stat| {
            self.candidate.is_as_scanned(stat).is_ok() && shared.known.of(stat).is_some()
        };
        match &self.stat {
            Some(stat) => !is_known(stat),
            None => !kernel::stat_path(&self.path(shared)).is_ok_and(|stat| is_known(&stat)),
        }
    }

    /// Where its contents lie, if other files have them there too. Whatever cannot be asked is found when it is read.
    fn blocks(&mut self, shared: &Shared<'_>) -> Option<Blocks> {
        if shared.blocks.has_none(self.candidate.device()) {
            return None;
        }
        self.open(shared).ok()?;
        shared.blocks.of(self.file.as_ref()?, self.stat.as_ref()?)
    }

    /// The digest of the contents up to the end of a step: as it is known, or read now.
    fn come_to(
        &mut self,
        step: usize,
        end: u64,
        is_last: bool,
        shared: &Shared<'_>,
        buffer: &mut [u8],
    ) -> Result<[u8; 32], NotRead> {
        if !std::mem::replace(&mut self.looked_up, true)
            && shared.known.has(self.candidate.device(), self.candidate.inode)
        {
            self.look_up(shared)?;
        }
        match (is_last, self.read.whole, self.read.steps.get(step)) {
            (true, Some(whole), _) => return Ok(whole),
            (false, _, Some(step)) => return Ok(widened(*step)),
            _ => {}
        }
        self.open(shared)?;
        if self.is_outdated(shared) {
            return Err(NotRead::Changed);
        }
        let (Some(file), Some(stat)) = (&self.file, &self.stat) else {
            return Err(NotRead::Changed);
        };
        let length = self.candidate.length;
        let mut digest = self.digest.take().unwrap_or_else(|| Digest::with_room(length));
        // the first step was told apart before, and is to be remembered with the others
        let lacks_first = step > 0 && self.read.steps.is_empty() && digest.at == 0;
        let first = end_of_step(0, length);
        let may_have_holes = stat.blocks * 512 < stat.size;
        let (at, device) = (digest.at, self.candidate.device());
        let is_short = end - at <= BLOCK as u64 && !may_have_holes;
        if is_short {
            let bytes = &mut buffer[..(end - at) as usize];
            let is_read = shared.turns(device) && read_in_memory(file, bytes, at);
            let _turn = (!is_read).then(|| shared.turn(device));
            let read = if is_read { Ok(()) } else { file.read_exact_at(bytes, at) };
            read.map_err(|error| self.not_read(error, shared))?;
            shared.has_read(end - at);
            let (start, rest) = bytes.split_at(if lacks_first { first as usize } else { 0 });
            if lacks_first {
                digest.add(start);
                self.read.steps.push(beginning(&digest.finish()));
            }
            digest.add(rest);
        } else {
            let _turn = shared.turn(device);
            let mut told = |bytes| {
                shared.has_read(bytes);
                !shared.is_stopped()
            };
            if lacks_first {
                let read = read_up_to(file, first, &mut digest, false, buffer, &mut told);
                read.map_err(|error| self.not_read(error, shared))?;
                self.read.steps.push(beginning(&digest.finish()));
            }
            match read_up_to(file, end, &mut digest, may_have_holes, buffer, &mut told) {
                Ok(true) => {}
                Ok(false) => return Err(NotRead::Stopped),
                Err(error) => return Err(self.not_read(error, shared)),
            }
        }
        let whole = digest.finish();
        self.digest = Some(digest);
        if is_last {
            let now = kernel::stat_descriptor(file);
            let now = now.map_err(|error| self.failed(Op::Examine, error, shared))?;
            if AsRead::of(&now) != AsRead::of(stat) {
                return Err(NotRead::Changed);
            }
            self.read.whole = Some(whole);
            return Ok(whole);
        }
        let short = beginning(&whole);
        // steps come one after the other, those of an earlier search first
        if self.read.steps.len() == step {
            self.read.steps.push(short);
        }
        Ok(widened(short))
    }

    /// Whether nothing has to be read of it to tell it apart by a step.
    fn is_known_at(&mut self, step: usize, shared: &Shared<'_>) -> bool {
        self.is_known_whole(shared) || self.read.steps.len() > step
    }

    /// Whether nothing at all has to be read of it.
    fn is_known_whole(&mut self, shared: &Shared<'_>) -> bool {
        if !self.looked_up && shared.known.has(self.candidate.device(), self.candidate.inode) {
            // what goes wrong is told when it is read
            self.looked_up = self.look_up(shared).is_ok();
        }
        self.read.whole.is_some()
    }

    /// The digest of the last bytes and of some from the middle.
    fn samples(&mut self, shared: &Shared<'_>, buffer: &mut [u8]) -> Result<[u8; 32], NotRead> {
        self.open(shared)?;
        let Some(file) = &self.file else { return Err(NotRead::Changed) };
        let length = self.candidate.length;
        let mut hash = blake3::Hasher::new();
        let _turn = shared.turn(self.candidate.device());
        for at in [length - SAMPLE, length / 2 / SAMPLE * SAMPLE] {
            let sample = &mut buffer[..SAMPLE as usize];
            file.read_exact_at(sample, at).map_err(|error| self.not_read(error, shared))?;
            shared.has_read(SAMPLE);
            hash.update(sample);
        }
        Ok(*hash.finalize().as_bytes())
    }

    fn failed(&self, op: Op, error: std::io::Error, shared: &Shared<'_>) -> NotRead {
        CallError::on(op, self.path(shared))(error).into()
    }

    /// Why it could not be read: one that has become shorter has changed.
    fn not_read(&self, error: std::io::Error, shared: &Shared<'_>) -> NotRead {
        match error.kind() {
            std::io::ErrorKind::UnexpectedEof => NotRead::Changed,
            _ => self.failed(Op::Read, error, shared),
        }
    }

    /// Takes what is known of it, if it is still as it was.
    fn look_up(&mut self, shared: &Shared<'_>) -> Result<(), NotRead> {
        if self.trusts_scan
            && let Some(read) = shared.known.of_scanned(self.candidate)
        {
            self.take(read.read());
            return Ok(());
        }
        let path = self.path(shared);
        let stat = kernel::stat_path(&path).map_err(CallError::on(Op::Examine, &path))?;
        shared.must_be_as_scanned(self.candidate, &stat)?;
        if let Some(read) = shared.known.of(&stat) {
            self.take(read.read());
        }
        Ok(())
    }

    fn take(&mut self, read: Read) {
        self.read = read;
        self.from_before = self.read.steps.len() + usize::from(self.read.whole.is_some());
    }

    /// Opens it, and makes sure that it is what was scanned.
    fn open(&mut self, shared: &Shared<'_>) -> Result<(), NotRead> {
        if self.file.is_some() {
            return Ok(());
        }
        let (path, device) = (self.path(shared), self.candidate.device());
        let file = open_in_turn(rustix::fs::CWD, path.as_os_str(), device, shared)
            .map_err(CallError::on(Op::Open, &path))?;
        let stat = kernel::stat_descriptor(&file).map_err(CallError::on(Op::Examine, &path))?;
        shared.must_be_as_scanned(self.candidate, &stat)?;
        match &self.stat {
            Some(before) if AsRead::of(before) != AsRead::of(&stat) => {
                return Err(NotRead::Changed);
            }
            Some(_) => {}
            None => self.stat = Some(stat),
        }
        self.file = Some(file);
        Ok(())
    }

    /// What is to be remembered of it: what was read just now, if it was at rest.
    fn ended(self) -> Ended {
        let stat = self.stat?;
        let count = self.read.steps.len() + usize::from(self.read.whole.is_some());
        (count > self.from_before).then(|| ((stat.dev, stat.ino), AsRead::of(&stat), self.read))
    }
}

/// The beginning of a digest in the place of the whole: what is not equal in it is not equal at all, and what is gets
/// read on.
fn widened(short: u64) -> [u8; 32] {
    let mut wide = [0; 32];
    wide[..8].copy_from_slice(&short.to_le_bytes());
    wide
}
