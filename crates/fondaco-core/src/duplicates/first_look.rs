//! The first bytes of every candidate, directory by directory: most files that differ do so there, and neighbours are
//! opened by their names and not by their whole paths.

use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::IoSliceMut;
use std::ops::Range;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU32, AtomicU64, AtomicUsize, Ordering::Relaxed};

use rustix::fs::{Mode, OFlags, ResolveFlags};
use rustix::io::{Errno, ReadWriteFlags};

use super::candidates::{Candidate, Candidates};
use super::contents::end_of_step;
use super::known::{AsRead, Read, ReadNow};
use super::search::{HEARD, NotRead, Shared};
use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, CallError, Op};
use crate::parallel;

/// Where entries are. A catalog that others use too is not to be held while files are read.
pub trait Places: Sync {
    /// The whole path of an entry.
    fn path(&self, entry: EntryId) -> PathBuf;

    /// The directory and the name of each of some entries.
    fn places(&self, entries: &[EntryId]) -> Vec<(Option<EntryId>, OsString)>;
}

impl Places for Catalog {
    fn path(&self, entry: EntryId) -> PathBuf {
        Catalog::path(self, entry)
    }

    fn places(&self, entries: &[EntryId]) -> Vec<(Option<EntryId>, OsString)> {
        entries.iter().map(|entry| (self.parent(*entry), self.name(*entry).to_owned())).collect()
    }
}

/// What the first look at a file found, in eight bytes: the beginning of the digest of its first bytes, and in the lowest
/// bit whether that was known from an earlier search.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Look(u64);

impl Look {
    /// It cannot be read, is not as scanned, or was not come to.
    const LEFT_OUT: Self = Self(0);

    fn new(digest: u64, known: bool) -> Self {
        // two that differ in a single bit are told apart by the next step; none is taken for one that was left out
        Self((digest & !1).max(2) | u64::from(known))
    }

    fn digest(self) -> u64 {
        self.0 & !1
    }

    /// In which of so many equal ranges the digest lies.
    fn range(self, ranges: u64) -> u64 {
        ((u128::from(self.digest()) * u128::from(ranges)) >> 64) as u64
    }

    fn is_known(self) -> bool {
        self.0 & 1 == 1
    }
}

/// So many files are looked at by one thread before it asks for more.
const TOGETHER: usize = 256;

/// Of a group with more files than this, about so many are compared at once.
const SORTED_TOGETHER: usize = 1 << 17;

/// For fewer files than this no thread is begun to look up what is known.
const LEAST_FILES: usize = 4096;

/// For fewer groups than this no thread is begun.
const LEAST_GROUPS: usize = 128;

/// Groups of files of one length whose first bytes are the same.
pub(super) struct Alike {
    files: Vec<Candidate>,
    groups: Vec<Range<u32>>,
}

impl Alike {
    /// How many groups there are.
    pub(super) fn len(&self) -> usize {
        self.groups.len()
    }

    /// The files of all groups.
    pub(super) fn files(&self) -> &[Candidate] {
        &self.files
    }

    /// A group by its number.
    pub(super) fn group(&self, number: usize) -> Option<&[Candidate]> {
        let range = self.groups.get(number)?;
        Some(&self.files[range.start as usize..range.end as usize])
    }
}

/// Looks at the first bytes of all candidates, and leaves those that have them in common with another one, in the order of
/// the groups; the rest is done. Takes twelve bytes for each meanwhile.
pub(super) fn first_look(candidates: Candidates, shared: &Shared<'_>) -> Alike {
    let mut all = Alike { files: Vec::new(), groups: Vec::new() };
    let looks = defaults::<AtomicU64>(candidates.files.len(), shared);
    let Some(looks) = looks.filter(|_| !candidates.is_empty()) else {
        shared.give_back(candidates);
        return all;
    };
    let look_at = |files: &[u32], buffer: &mut [u8]| {
        let found = look_at(&candidates, files, shared, buffer);
        for (at, look) in files.iter().zip(found) {
            looks[*at as usize].store(look.0, Relaxed);
        }
    };
    let unknown = unknown(&candidates, &looks, shared);
    if !shared.is_stopped() {
        shared.has_looked_at(candidates.len() - unknown.len());
    }
    each_part(&unknown, shared, &look_at);
    let Candidates { files, groups } = candidates;
    let parts =
        parallel::each(portions(&groups), |portion| alike(&files, &portion, &looks, shared));
    for Alike { files, groups } in parts {
        let first = all.files.len() as u32;
        all.files.extend(files);
        all.groups.extend(groups.into_iter().map(|group| group.start + first..group.end + first));
    }
    shared.give_back((files, looks));
    all
}

/// Takes what is known of candidates as they were scanned, which then need not be asked for, and gives the others in the
/// order of the catalog.
fn unknown(candidates: &Candidates, looks: &[AtomicU64], shared: &Shared<'_>) -> Vec<u32> {
    let is_told = |at: u32| looks[at as usize].load(Relaxed) != Look::LEFT_OUT.0;
    shared.known.firsts(&candidates.files, |at, first| {
        looks[at].store(Look::new(first, true).0, Relaxed);
    });
    // for each entry of the catalog one more than its place among the candidates: sorting them takes longer, and does not
    // hear a stop
    let some = candidates.files.chunks(HEARD).take_while(|_| !shared.is_stopped());
    let last = some.flatten().map(|file| file.entry.0).max();
    let entries = last.map_or(0, |last| last as usize + 1);
    let Some(by_entry) = defaults::<AtomicU32>(entries, shared) else { return Vec::new() };
    let count = candidates.files.len() as u32;
    let part = parallel::small_part_of(count as usize, LEAST_FILES) as u32;
    parallel::each((0..count).step_by(part as usize), |from| {
        for at in (from..count.min(from.saturating_add(part)))
            .filter(|at| !shared.is_stopped() && !is_told(*at))
        {
            let file = &candidates.files[at as usize];
            match shared.known.first_of_scanned(file) {
                Some(first) => looks[at as usize].store(Look::new(first, true).0, Relaxed),
                None => by_entry[file.entry.0 as usize].store(at + 1, Relaxed),
            }
        }
    });
    let found = by_entry.iter().take_while(|_| !shared.is_stopped());
    found.filter_map(|at| at.load(Relaxed).checked_sub(1)).collect()
}

/// So many of the same; nothing if the search is stopped.
fn defaults<T: Default>(count: usize, shared: &Shared<'_>) -> Option<Vec<T>> {
    let mut all = Vec::with_capacity(count);
    while all.len() < count && !shared.is_stopped() {
        all.extend(std::iter::repeat_with(T::default).take(HEARD.min(count - all.len())));
    }
    Some(all).filter(|_| !shared.is_stopped())
}

/// Does something to some files at a time, on several threads, until it is stopped.
fn each_part(files: &[u32], shared: &Shared<'_>, act: &(dyn Fn(&[u32], &mut [u8]) + Sync)) {
    let next = AtomicUsize::new(0);
    let work = || {
        let mut buffer = [0; 16];
        loop {
            let from = next.fetch_add(TOGETHER, Relaxed);
            let Some(part) = files.get(from..files.len().min(from + TOGETHER)) else { return };
            if part.is_empty() || shared.is_stopped() {
                return;
            }
            act(part, &mut buffer);
        }
    };
    let is_ended = || shared.is_stopped() || next.load(Relaxed) >= files.len();
    shared.on_threads(files.len().div_ceil(TOGETHER), &is_ended, &work);
}

/// Groups of which one thread finds at a time which files are alike. Of a large one it is those files whose digests lie in
/// one of some ranges, so that several threads share it, little memory is taken, and a stop is heard.
struct Portion<'g> {
    groups: &'g [Range<u32>],
    range: u64,
    ranges: u64,
}

fn portions(groups: &[Range<u32>]) -> Vec<Portion<'_>> {
    let together = parallel::small_part_of(groups.len(), LEAST_GROUPS);
    let mut portions = Vec::new();
    for some in groups.chunk_by(|one, other| !is_large(one) && !is_large(other)) {
        if is_large(&some[0]) {
            let ranges = some[0].len().div_ceil(SORTED_TOGETHER) as u64;
            portions.extend((0..ranges).map(|range| Portion { groups: some, range, ranges }));
        } else {
            let parts = some.chunks(together);
            portions.extend(parts.map(|groups| Portion { groups, range: 0, ranges: 1 }));
        }
    }
    portions
}

fn is_large(group: &Range<u32>) -> bool {
    group.len() > SORTED_TOGETHER
}

/// The files that have their first bytes in common with another one.
fn alike(
    files: &[Candidate],
    portion: &Portion<'_>,
    looks: &[AtomicU64],
    shared: &Shared<'_>,
) -> Alike {
    let mut alike = Alike { files: Vec::new(), groups: Vec::new() };
    let mut of_group: Vec<(Look, &Candidate)> = Vec::new();
    for range in portion.groups {
        if shared.is_stopped() {
            break;
        }
        let range = range.start as usize..range.end as usize;
        let found = looks[range.clone()].iter().map(|look| Look(look.load(Relaxed)));
        let found = found.zip(&files[range]);
        of_group.clear();
        of_group.extend(found.filter(|(look, _)| look.range(portion.ranges) == portion.range));
        // those that are alike keep their order, which is that of the device
        of_group.sort_by_key(|(look, _)| look.digest());
        for same in of_group.chunk_by(|one, other| one.0.digest() == other.0.digest()) {
            let (first, file) = &same[0];
            if first.digest() == Look::LEFT_OUT.0 {
                same.iter().for_each(|(_, file)| shared.is_done(file));
            } else if same.len() == 1 {
                shared.is_done(file);
                if first.is_known() {
                    shared.is_known();
                }
            } else {
                let from = alike.files.len() as u32;
                alike.files.extend(same.iter().map(|(_, file)| **file));
                alike.groups.push(from..alike.files.len() as u32);
            }
        }
    }
    alike
}

fn look_at(
    candidates: &Candidates,
    part: &[u32],
    shared: &Shared<'_>,
    buffer: &mut [u8],
) -> Vec<Look> {
    let files: Vec<&Candidate> = part.iter().map(|at| &candidates.files[*at as usize]).collect();
    let mut looks = vec![Look::LEFT_OUT; files.len()];
    let entries: Vec<EntryId> = files.iter().map(|file| file.entry).collect();
    let places = shared.places.places(&entries);
    let mut directory: Option<(EntryId, OwnedFd)> = None;
    // they are remembered together: threads would wait for each other
    let mut read = Vec::with_capacity(files.len());
    for (at, (file, (parent, name))) in files.into_iter().zip(places).enumerate() {
        if shared.is_stopped() {
            break;
        }
        let opened = open_directory(&mut directory, parent, file.device(), shared);
        let look = match &opened {
            Ok(Some(directory)) => {
                look_at_one(file, directory.as_fd(), &name, shared, buffer, &mut read)
            }
            Ok(None) => {
                let path = shared.path(file.entry);
                look_at_one(file, rustix::fs::CWD, path.as_os_str(), shared, buffer, &mut read)
            }
            Err(error) => {
                let again = std::io::Error::from(error.source.kind());
                Err(CallError::on(error.op, &error.path)(again).into())
            }
        };
        match look {
            Ok(look) => looks[at] = look,
            Err(reason) => shared.not_read(file, shared.path(file.entry), reason),
        }
    }
    shared.has_looked_at(looks.len());
    shared.remember_read(&read);
    looks
}

/// The directory of the next file, which is often that of the last one; `None` for a file that was scanned by itself.
fn open_directory<'d>(
    last: &'d mut Option<(EntryId, OwnedFd)>,
    wanted: Option<EntryId>,
    device: u64,
    shared: &Shared<'_>,
) -> Result<Option<&'d OwnedFd>, CallError> {
    let Some(wanted) = wanted else { return Ok(None) };
    if last.as_ref().is_none_or(|(open, _)| *open != wanted) {
        let path = shared.path(wanted);
        if path.as_os_str().is_empty() {
            // what stands above several roots is nowhere
            return Ok(None);
        }
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let in_memory =
            shared.turns(device).then(|| cached(rustix::fs::CWD, path.as_os_str(), flags));
        let opened = in_memory.flatten().map_or_else(
            || {
                let _turn = shared.turn(device);
                rustix::fs::open(&path, flags, Mode::empty())
            },
            Ok,
        );
        let opened = opened.map_err(CallError::on(Op::OpenDirectory, &path))?;
        *last = Some((wanted, opened));
    }
    Ok(last.as_ref().map(|(_, directory)| directory))
}

fn look_at_one(
    file: &Candidate,
    directory: impl AsFd,
    name: &OsStr,
    shared: &Shared<'_>,
    buffer: &mut [u8],
    all_read: &mut Vec<ReadNow>,
) -> Result<Look, NotRead> {
    let failed = |op| {
        move |error: std::io::Error| {
            NotRead::from(CallError::on(op, shared.path(file.entry))(error))
        }
    };
    if shared.known.has(file.device(), file.inode) {
        let stat = kernel::stat_at(&directory, name).map_err(failed(Op::Examine))?;
        shared.must_be_as_scanned(file, &stat)?;
        if let Some(first) = shared.known.of(&stat).and_then(|known| known.first()) {
            return Ok(Look::new(first, true));
        }
    }
    let opened = open_in_turn(&directory, name, file.device(), shared).map_err(failed(Op::Open))?;
    let stat = kernel::stat_descriptor(&opened).map_err(failed(Op::Examine))?;
    shared.must_be_as_scanned(file, &stat)?;
    let end = end_of_step(0, file.length);
    let first = &mut buffer[..end as usize];
    let is_read = shared.turns(file.device()) && read_in_memory(&opened, first, 0);
    let _turn = (!is_read).then(|| shared.turn(file.device()));
    match if is_read { Ok(()) } else { opened.read_exact_at(first, 0) } {
        Ok(()) => {}
        Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => {
            return Err(NotRead::Changed);
        }
        Err(error) => return Err(failed(Op::Read)(error)),
    }
    shared.has_read(end);
    let hash = *blake3::hash(first).as_bytes();
    let digest = beginning(&hash);
    let read = match end == file.length {
        true => Read { steps: Vec::new(), whole: Some(hash) },
        false => Read { steps: vec![digest], whole: None },
    };
    all_read.push(((stat.dev, stat.ino), AsRead::of(&stat), read));
    Ok(Look::new(digest, false))
}

/// As [`open`]; of a device that turns, what is not in memory is opened in turn.
pub(super) fn open_in_turn(
    directory: impl AsFd,
    name: &OsStr,
    device: u64,
    shared: &Shared<'_>,
) -> std::io::Result<File> {
    let in_memory = shared.turns(device).then(|| open_in_memory(&directory, name)).flatten();
    in_memory.map_or_else(
        || {
            let _turn = shared.turn(device);
            open(&directory, name)
        },
        Ok,
    )
}

/// As [`open`], if the kernel need not ask the device for it (`openat2(2)`, `RESOLVE_CACHED`).
fn open_in_memory(directory: impl AsFd, name: &OsStr) -> Option<File> {
    let flags =
        OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC | OFlags::NOATIME;
    cached(directory, name, flags).map(File::from)
}

fn cached(directory: impl AsFd, name: &OsStr, flags: OFlags) -> Option<OwnedFd> {
    rustix::fs::openat2(directory, name, flags, Mode::empty(), ResolveFlags::CACHED).ok()
}

/// Reads a part of a file if all of that is in memory (`preadv2(2)`, `RWF_NOWAIT`).
pub(super) fn read_in_memory(file: &File, bytes: &mut [u8], at: u64) -> bool {
    let wanted = bytes.len();
    let mut bytes = [IoSliceMut::new(bytes)];
    rustix::io::preadv2(file, &mut bytes, at, ReadWriteFlags::NOWAIT).is_ok_and(|got| got == wanted)
}

/// The first eight bytes of a digest.
pub(super) fn beginning(digest: &[u8; 32]) -> u64 {
    u64::from_le_bytes(digest[..8].try_into().unwrap_or_default())
}

/// Opens what was a regular file when it was scanned: no link is followed and nothing waited for, and the access time
/// stays where the kernel allows that (`open(2)`, `O_NOATIME`).
pub(super) fn open(
    directory: impl AsFd,
    name: impl rustix::path::Arg + Copy,
) -> std::io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let opened = match rustix::fs::openat(&directory, name, flags | OFlags::NOATIME, Mode::empty())
    {
        Err(Errno::PERM) => rustix::fs::openat(&directory, name, flags, Mode::empty()),
        opened => opened,
    };
    Ok(File::from(opened?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn portions_have_every_group_once_and_of_a_large_one_each_digest_lies_in_one_range() {
        let large = SORTED_TOGETHER as u32;
        let lengths = [2, 3, large + 1, 2, large, 5 * large, 3 * large + 7, 4];
        let mut end = 0;
        let groups: Vec<Range<u32>> = lengths
            .map(|length| {
                end += length;
                end - length..end
            })
            .to_vec();
        let portions = portions(&groups);
        let firsts = portions.iter().filter(|portion| portion.range == 0);
        let all: Vec<_> = firsts.flat_map(|portion| portion.groups.iter().cloned()).collect();
        assert_eq!(all, groups);
        for of in portions.chunk_by(|one, other| one.groups.as_ptr() == other.groups.as_ptr()) {
            let ranges = of[0].ranges;
            let files: usize = of[0].groups.iter().map(ExactSizeIterator::len).sum();
            assert!(of.iter().map(|portion| portion.range).eq(0..ranges));
            assert!(ranges == 1 || files.div_ceil(ranges as usize) <= SORTED_TOGETHER);
            let digests = (0..=16).map(|part| (u64::MAX / 16).saturating_mul(part));
            let found: Vec<u64> =
                digests.map(|digest| Look::new(digest, true).range(ranges)).collect();
            assert!(found.is_sorted() && (found[0], found[16]) == (0, ranges - 1));
        }
    }
}
