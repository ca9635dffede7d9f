//! The search itself: groups of one length by several threads, figures and sets as they come.

use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering::Relaxed};
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use rustc_hash::FxHashMap;

use super::all_known::take_known;
use super::blocks::BlocksInCommon;
use super::candidates::{Candidate, Candidates};
use super::earlier::{Groups, take_found};
use super::first_look::{Alike, Places, first_look};
use super::known::{Known, KnownError, ReadNow};
use super::tell_apart::{Ended, Equal, tell_apart};
use crate::catalog::EntryId;
use crate::kernel::{CallError, Stat};
use crate::parallel;
use crate::units::Bytes;

/// Files that hold the same bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Set {
    /// How long each of them is.
    pub length: Bytes,
    /// One entry for each inode, in the order of the catalog.
    pub copies: Vec<EntryId>,
    /// Those of them that have all their blocks in common, group by group.
    pub same_blocks: Vec<Vec<EntryId>>,
}

/// How far a search is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Figures {
    /// Files that could be equal to another one.
    pub candidates: u64,
    /// Files of which the first bytes are known: all are looked at before any is read further.
    pub looked_at: u64,
    /// Files of which it is known what they are equal to.
    pub done: u64,
    /// Bytes of all candidates.
    pub bytes: Bytes,
    /// Bytes of the candidates that are done: they had to be read at most.
    pub bytes_done: Bytes,
    /// Bytes that were read.
    pub read: Bytes,
    /// Files of which enough was known from an earlier search.
    pub known: u64,
    /// How long it has taken so far.
    pub elapsed: Duration,
}

/// Why a file is left out of a search.
#[derive(Debug, thiserror::Error)]
pub enum NotRead {
    /// It is not what was scanned, or changed while it was read.
    #[error("it is not as it was scanned")]
    Changed,
    /// The search was stopped.
    #[error("the search was stopped")]
    Stopped,
    /// The kernel refused.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
}

impl Figures {
    /// How much of the work is done, as a guess.
    pub fn share(&self) -> f64 {
        let all = guessed_time(self.candidates, self.bytes).as_secs_f64();
        let done = guessed_time(self.looked_at, self.bytes_done).as_secs_f64();
        if all > 0.0 { (done / all).min(1.0) } else { 0.0 }
    }
}

/// How long it takes to look at so many files, and to read so many bytes of them, as a guess.
pub fn guessed_time(files: u64, bytes: Bytes) -> Duration {
    const A_SECOND: f64 = (200 << 20) as f64;
    Duration::from_micros(10).mul_f64(files as f64)
        + Duration::from_secs_f64(bytes.get() as f64 / A_SECOND)
}

/// What a search has come to.
#[derive(Debug, Default)]
pub struct Found {
    /// In order of what all but one of each take.
    pub sets: Vec<Set>,
    /// Files that could not be read, or are no longer as they were scanned.
    pub not_read: Vec<(EntryId, PathBuf, NotRead)>,
    /// The figures at its end.
    pub figures: Figures,
    /// It was stopped; the sets are those that were known by then.
    pub stopped: bool,
    /// Why what was read could not be remembered.
    pub not_remembered: Option<KnownError>,
}

/// What the threads of a search have in common.
pub(super) struct Shared<'a> {
    pub(super) known: &'a Known,
    pub(super) places: &'a dyn Places,
    pub(super) blocks: BlocksInCommon,
    /// Held by whoever reads from a device that turns.
    turning: FxHashMap<u64, Mutex<()>>,
    /// Something had to be read from one of them.
    waits: AtomicBool,
    stop: AtomicBool,
    read: AtomicU64,
    bytes_done: AtomicU64,
    looked_at: AtomicU64,
    done: AtomicU64,
    taken_as_known: AtomicU64,
    not_read: Mutex<Vec<(EntryId, PathBuf, NotRead)>>,
    sets: Mutex<Vec<Set>>,
    /// What a later search can take from this one.
    groups: OnceLock<Groups>,
    /// What is no longer needed, see [`Shared::give_back`].
    given_back: Mutex<Vec<Box<dyn Send>>>,
}

impl Shared<'_> {
    pub(super) fn path(&self, entry: EntryId) -> PathBuf {
        self.places.path(entry)
    }

    /// Whether a device turns, so that what is not in memory is read from it in turn.
    pub(super) fn turns(&self, device: u64) -> bool {
        self.turning.contains_key(&device)
    }

    /// To be held while a device is read: of one that turns, a single file is read at a time.
    pub(super) fn turn(&self, device: u64) -> Option<MutexGuard<'_, ()>> {
        let turning = self.turning.get(&device)?;
        self.waits.store(true, Relaxed);
        Some(locked(turning))
    }

    /// Has some threads do the same: one for each processor, at most so many, and one for each device that turns as soon as
    /// one of those is waited for. As long as all is in memory, more threads than processors take longer.
    pub(super) fn on_threads(
        &self,
        most: usize,
        is_ended: &(dyn Fn() -> bool + Sync),
        work: &(dyn Fn() + Sync),
    ) {
        let work_later = || {
            while !self.waits.load(Relaxed) && !is_ended() {
                std::thread::sleep(Duration::from_millis(1));
            }
            work();
        };
        std::thread::scope(|scope| {
            // where a thread cannot be begun, fewer take longer
            for _ in 1..parallel::threads().min(most) {
                let _ = std::thread::Builder::new().spawn_scoped(scope, work);
            }
            for _ in 0..self.turning.len().min(most.saturating_sub(1)) {
                let _ = std::thread::Builder::new().spawn_scoped(scope, work_later);
            }
            work();
        });
    }

    pub(super) fn is_stopped(&self) -> bool {
        self.stop.load(Relaxed)
    }

    /// Gives memory back; of a search that was stopped once all else is done, behind whoever waits for it. As long as the kernel
    /// takes much memory back, no thread can be begun.
    pub(super) fn give_back(&self, memory: impl Send + 'static) {
        if self.is_stopped() {
            locked(&self.given_back).push(Box::new(memory));
        }
    }

    pub(super) fn has_read(&self, bytes: u64) {
        self.read.fetch_add(bytes, Relaxed);
    }

    pub(super) fn not_read(&self, file: &Candidate, path: PathBuf, reason: NotRead) {
        if !matches!(reason, NotRead::Stopped) {
            locked(&self.not_read).push((file.entry, path, reason));
        }
        self.is_unsure(file);
    }

    /// Refuses what is not the file that was scanned.
    pub(super) fn must_be_as_scanned(&self, file: &Candidate, now: &Stat) -> Result<(), NotRead> {
        if !file.is_quite_as_scanned(now) {
            self.is_unsure(file);
        }
        file.is_as_scanned(now)
    }

    fn is_unsure(&self, file: &Candidate) {
        self.groups.get().into_iter().for_each(|groups| groups.is_unsure(file.length));
    }

    pub(super) fn remember(&self, ended: &Ended) {
        match ended {
            Some(read) => self.remember_read(std::slice::from_ref(read)),
            None => self.is_known(),
        }
    }

    /// Remembers what was read. If much waits to be written down, so does what is to be read next.
    pub(super) fn remember_read(&self, read: &[ReadNow]) {
        self.known.remember(read);
        while !self.known.has_room() && !self.is_stopped() {
            std::thread::sleep(Duration::from_millis(1));
        }
    }

    /// What has been counted so far; the rest of the figures is that of none.
    fn figures(&self) -> Figures {
        Figures {
            looked_at: self.looked_at.load(Relaxed),
            done: self.done.load(Relaxed),
            bytes_done: Bytes::new(self.bytes_done.load(Relaxed)),
            read: Bytes::new(self.read.load(Relaxed)),
            known: self.taken_as_known.load(Relaxed),
            ..Figures::default()
        }
    }

    /// Adds files that are equal to what has been found.
    pub(super) fn found(&self, equal: Vec<Equal>) {
        self.groups.get().into_iter().for_each(|groups| groups.found(&equal));
        self.is_found(equal);
    }

    /// As [`Shared::found`], of what an earlier search has found.
    pub(super) fn is_found(&self, equal: Vec<Equal>) {
        if !equal.is_empty() {
            locked(&self.sets).extend(equal.into_iter().map(set_of));
        }
    }

    /// Counts a file of which enough was known.
    pub(super) fn is_known(&self) {
        self.taken_as_known.fetch_add(1, Relaxed);
    }

    /// Counts files of which the first bytes are known now.
    pub(super) fn has_looked_at(&self, files: usize) {
        self.looked_at.fetch_add(files as u64, Relaxed);
    }

    /// Counts the files of a group of which all was known.
    pub(super) fn are_known(&self, files: &[Candidate]) {
        self.taken_as_known.fetch_add(files.len() as u64, Relaxed);
        self.done.fetch_add(files.len() as u64, Relaxed);
        self.bytes_done.fetch_add(files.iter().map(|file| file.length).sum(), Relaxed);
    }

    /// Counts a file of which it is known what it is equal to.
    pub(super) fn is_done(&self, file: &Candidate) {
        self.done.fetch_add(1, Relaxed);
        self.bytes_done.fetch_add(file.length, Relaxed);
    }
}

/// Compares the files of each group, several groups at a time.
fn compare_groups(alike: &Alike, shared: &Shared<'_>) {
    let rest = take_known(alike, shared);
    if shared.is_stopped() {
        return;
    }
    let next = AtomicUsize::new(0);
    let compare = || {
        let mut buffer = vec![0; BUFFER];
        while !shared.is_stopped() {
            let Some(rest) = rest.get(next.fetch_add(1, Relaxed)) else { break };
            let Some(files) = alike.group(rest.group) else { break };
            shared.found(tell_apart(files, shared, &mut buffer, rest.trusts_scan));
            files.iter().for_each(|file| shared.is_done(file));
        }
    };
    shared.known.write_down_meanwhile();
    let is_ended = || shared.is_stopped() || next.load(Relaxed) >= rest.len();
    shared.on_threads(rest.len(), &is_ended, &compare);
}

pub(super) fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// How often figures and new sets are told.
const OFTEN: Duration = Duration::from_millis(50);
/// So many files are gone through before a stop is heard.
pub(super) const HEARD: usize = 1 << 16;
/// How much is read in one call at most, so that a stop is heard soon.
const BUFFER: usize = 1 << 20;

/// Reads what could be equal, as far as it is alike. `places` says where entries are; `watch` hears the figures and
/// the sets that are new since it was asked last, and says whether to go on.
pub fn search(
    candidates: Candidates,
    places: &dyn Places,
    known: &Known,
    watch: &mut dyn FnMut(&Figures, &[Set]) -> ControlFlow<()>,
) -> Found {
    let begun = Instant::now();
    let devices = candidates.devices();
    let shared = Shared {
        known,
        places,
        blocks: BlocksInCommon::default(),
        turning: devices
            .iter()
            .filter(|(_, turns)| *turns)
            .map(|(device, _)| (*device, Mutex::default()))
            .collect(),
        waits: AtomicBool::new(false),
        stop: AtomicBool::new(false),
        read: AtomicU64::new(0),
        bytes_done: AtomicU64::new(0),
        looked_at: AtomicU64::new(0),
        done: AtomicU64::new(0),
        taken_as_known: AtomicU64::new(0),
        not_read: Mutex::default(),
        sets: Mutex::default(),
        groups: OnceLock::new(),
        given_back: Mutex::default(),
    };
    let (count, bytes) = (candidates.len() as u64, candidates.bytes());
    let figures =
        || Figures { candidates: count, bytes, elapsed: begun.elapsed(), ..shared.figures() };
    let candidates = Mutex::new(Some(candidates));
    let work = || {
        let Some(candidates) = locked(&candidates).take() else { return };
        let (others, groups) = take_found(candidates, &devices, &shared);
        let groups = shared.groups.get_or_init(|| groups);
        let alike = first_look(others, &shared);
        compare_groups(&alike, &shared);
        shared.give_back(alike);
        if !shared.is_stopped() {
            known.remember_groups(groups.all_found(known.day()));
        }
    };
    let (watching, has_ended) = (std::thread::current(), AtomicBool::new(false));
    let work_and_tell = || {
        work();
        has_ended.store(true, Relaxed);
        watching.unpark();
    };
    let mut told = 0;
    std::thread::scope(|scope| {
        let Ok(worker) = std::thread::Builder::new().spawn_scoped(scope, work_and_tell) else {
            return work(); // no thread could be begun
        };
        // a worker that panics finishes without having ended
        let goes_on = || !has_ended.load(Relaxed) && !worker.is_finished();
        while goes_on() {
            let new = locked(&shared.sets)[told..].to_vec();
            told += new.len();
            if watch(&figures(), &new) == ControlFlow::Break(()) {
                shared.stop.store(true, Relaxed);
                known.stop();
            }
            let asked = Instant::now();
            while goes_on() && asked.elapsed() < OFTEN {
                std::thread::park_timeout(Duration::from_millis(1));
            }
        }
    });
    let figures = figures();
    let stopped = shared.is_stopped();
    let Shared { not_read, sets, given_back, .. } = shared;
    let mut sets = sets.into_inner().unwrap_or_else(PoisonError::into_inner);
    let more = sets.get(told..).unwrap_or_default();
    watch(&figures, more).is_continue();
    sets.sort_by_key(|set| {
        let others = set.copies.len() as u64 - 1;
        (std::cmp::Reverse(set.length.get() * others), set.copies.first().copied())
    });
    let mut not_read = not_read.into_inner().unwrap_or_else(PoisonError::into_inner);
    not_read.sort_by_key(|(entry, ..)| *entry);
    // whoever has stopped it does not wait for that: it is written down when what is known is let go of
    let not_remembered = if stopped { None } else { known.finish().err() };
    if stopped {
        parallel::begin(move || drop(given_back));
    }
    Found { sets, not_read, figures, stopped, not_remembered }
}

fn set_of(equal: Equal) -> Set {
    let length = equal.files.first().map_or(0, |file| file.length);
    let entries = |files: &[Candidate]| {
        let mut entries: Vec<EntryId> = files.iter().map(|file| file.entry).collect();
        entries.sort();
        entries
    };
    Set {
        length: Bytes::new(length),
        copies: entries(&equal.files),
        same_blocks: equal.same_blocks.iter().map(|group| entries(group)).collect(),
    }
}
