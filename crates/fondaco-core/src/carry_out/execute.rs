//! The run itself.

use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::ops::ControlFlow;
use std::os::fd::AsFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::FlockOperation;

use super::check::Checks;
use super::holding::{Areas, directory_times};
use super::measured::{Measured, reasons};
use super::release::release;
use super::settle::{remainder, settle_all};
use super::{CarryOutError, EntryRecord, EntryState, Figures, Journal, RunState, Settled, Watch};
use crate::archive::{Depot, Packing};
use crate::kernel::{self, CallError, Kind, Op, OpenFiles, PrivateDir, Stat};
use crate::plan::{Action, Deed, Forecast, Located, Plan, Refusal, Touched, survey_at};
use crate::state::State;
use crate::units::{Bytes, Time};
use crate::volume::volume_of;

/// What a run came to.
#[derive(Clone, Debug)]
pub struct RunSummary {
    /// Its number in the journal.
    pub run: i64,
    /// How it ended.
    pub state: RunState,
    /// Its actions, as they stand now.
    pub entries: Vec<EntryRecord>,
    /// What the plan said it would free.
    pub forecast: Forecast,
    /// Bytes freed, by the count of the inodes that went.
    pub freed: Bytes,
    /// Bytes by which the use of its volumes fell, as they say; negative if it rose.
    pub measured: Option<i64>,
    /// Why the measured number is not the counted one, where it is not; one sentence each.
    pub reasons: Vec<String>,
    /// Earlier runs that had been cut off, and were settled before this one began.
    pub settled: Vec<Settled>,
}

impl RunSummary {
    /// How many actions stand so.
    pub fn count(&self, state: EntryState) -> usize {
        self.entries.iter().filter(|entry| entry.state == state).count()
    }
}

/// How many actions are written to the journal in one synced step.
const BATCH: usize = 64;

/// Carries out a plan: see the [module](super).
///
/// # Errors
///
/// [`CarryOutError`] if it cannot begin, or the journal fails; what guards stop is no error but in
/// the summary.
pub fn carry_out(
    plan: &Plan,
    state: &State,
    clock: &dyn Fn() -> Time,
    watch: &Watch<'_>,
) -> Result<RunSummary, CarryOutError> {
    if plan.actions.is_empty() {
        return Err(CarryOutError::Empty);
    }
    kernel::raise_descriptor_limit();
    let _lock = lock(state)?;
    let mut journal = Journal::open(&state.journal_file())?;
    let settled = settle_all(&mut journal, clock())?;
    if let Some(run) = journal.run_of_plan(&plan.id)? {
        return Err(CarryOutError::AlreadyCarriedOut(run));
    }
    let token = token_of(plan);
    let id = journal.begin(plan, &token, clock())?;
    let used_before = used(plan, state);
    let entries = journal.entries(id)?;
    let mut run = Run {
        id,
        token: &token,
        checks: Checks::new(plan, state, OpenFiles::collect(clock())),
        areas: Areas::new(state, &token),
        touched: Touched::default(),
        journal: &mut journal,
        figures: Figures { total: entries.len(), ..Figures::default() },
        entries,
        clock,
        watch,
        stopped: false,
    };
    run.pack_all()?;
    run.remove_all()?;
    run.release_all()?;
    run.areas.remove_empty();
    let (entries, freed, stopped) = (run.entries, run.figures.freed, run.stopped);
    let measured =
        used_before.and_then(|before| Some(before.get() as i64 - used(plan, state)?.get() as i64));
    let told = measured.map_or_else(Vec::new, |measured| {
        reasons(&Measured { plan, entries: &entries, freed, measured, state, now: clock() })
    });
    let ended = if stopped { RunState::Stopped } else { RunState::Done };
    journal.end(id, ended, measured, &told, clock())?;
    let forecast = plan.frees();
    Ok(RunSummary {
        run: id,
        state: ended,
        entries,
        forecast,
        freed,
        measured,
        reasons: told,
        settled,
    })
}

/// Carries out what a cut-off or stopped run has not begun, as a run of its own. The earlier run then
/// says of these actions that they were carried on.
///
/// # Errors
///
/// As [`carry_out`]; [`CarryOutError::NoSuchRun`], [`CarryOutError::NothingLeft`].
pub fn finish(
    run: i64,
    state: &State,
    clock: &dyn Fn() -> Time,
    watch: &Watch<'_>,
) -> Result<RunSummary, CarryOutError> {
    let mut journal = Journal::open(&state.journal_file())?;
    let record = journal.run(run)?.ok_or(CarryOutError::NoSuchRun(run))?;
    let mut entries = journal.entries(run)?;
    let rest = remainder(&record, &entries, clock())?.ok_or(CarryOutError::NothingLeft(run))?;
    let summary = carry_out(&rest, state, clock, watch)?;
    entries.retain(|entry| entry.state == EntryState::Waiting);
    for entry in &mut entries {
        entry.state = EntryState::CarriedOn;
        entry.message = format!("carried on in run {}", summary.run);
        entry.at = clock().rfc3339();
    }
    journal.write(run, &entries)?;
    Ok(summary)
}

/// Takes the lock that lets one process at a time remove or put back.
pub(super) fn lock(state: &State) -> Result<RunLock, CarryOutError> {
    let path = state.lock_file();
    let file = OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(false)
        .mode(0o600)
        .open(&path)
        .map_err(CallError::on(Op::Create, &path))?;
    // whoever is just ending, or starting a program while it holds the lock, gets a moment
    for wait in [0, 20, 50, 100, 200] {
        std::thread::sleep(Duration::from_millis(wait));
        match rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => return Ok(RunLock(file)),
            Err(rustix::io::Errno::WOULDBLOCK) => {}
            Err(error) => return Err(CallError::on(Op::Lock, path)(error).into()),
        }
    }
    Err(CarryOutError::Busy(path))
}

/// Held while something is carried out, put back or settled.
pub(super) struct RunLock(File);

impl Drop for RunLock {
    /// Closing alone would not do: a scan that began meanwhile has copies of all descriptors.
    fn drop(&mut self) {
        // what is not unlocked here is, at the latest, when the scan ends
        let _ = rustix::fs::flock(&self.0, FlockOperation::Unlock);
    }
}

/// What tells a run's private directories and archives from all others.
fn token_of(plan: &Plan) -> String {
    let stamp: String = plan.created.chars().filter(char::is_ascii_alphanumeric).collect();
    let id: String = plan.id.chars().filter(char::is_ascii_alphanumeric).take(12).collect();
    format!("{}-{id}", stamp.get(..15).unwrap_or(&stamp))
}

/// The name of a run's archive in a depot, without its endings.
pub(super) fn archive_name(token: &str) -> String {
    format!("fondaco-{token}")
}

/// Bytes in use on all volumes of a plan together, if all of them answer.
fn used(plan: &Plan, state: &State) -> Option<Bytes> {
    let volumes = plan.volumes();
    volumes.iter().map(|(path, _)| Some(volume_of(path, state)?.capacity.ok()?.used)).sum()
}

struct Run<'a> {
    id: i64,
    token: &'a str,
    checks: Checks,
    areas: Areas<'a>,
    touched: Touched,
    journal: &'a mut Journal,
    entries: Vec<EntryRecord>,
    figures: Figures,
    clock: &'a dyn Fn() -> Time,
    watch: &'a Watch<'a>,
    stopped: bool,
}

impl Run<'_> {
    /// Tells how far we are and hears whether to stop.
    fn goes_on(&mut self, phase: &'static str, at: usize) -> bool {
        self.figures.phase = phase;
        self.figures.current = self.entries[at].action.place().to_owned();
        self.stopped |= (self.watch)(&self.figures) == ControlFlow::Break(());
        !self.stopped
    }

    fn conclude(&mut self, at: usize, state: EntryState, message: String) {
        let entry = &mut self.entries[at];
        (entry.state, entry.message, entry.at) = (state, message, (self.clock)().rfc3339());
        self.figures.done += 1;
    }

    /// Writes and proves the archives, one for each depot, before anything is taken away.
    fn pack_all(&mut self) -> Result<(), CarryOutError> {
        let mut depots: Vec<(PathBuf, Vec<usize>)> = Vec::new();
        for (at, entry) in self.entries.iter().enumerate() {
            if let Deed::Archive { depot } = &entry.action.deed {
                match depots.iter_mut().find(|(path, _)| path == depot) {
                    Some((_, members)) => members.push(at),
                    None => depots.push((depot.clone(), vec![at])),
                }
            }
        }
        for (depot, members) in depots {
            let result = self.pack(&depot, &members);
            if let Err(reason) = result {
                for at in members {
                    if self.entries[at].state == EntryState::Waiting {
                        let message = Refusal::Archive(reason.clone()).to_string();
                        self.conclude(at, EntryState::Failed, message);
                    }
                }
            }
        }
        Ok(self.journal.write(self.id, &self.entries)?)
    }

    fn pack(&mut self, depot: &Path, members: &[usize]) -> Result<(), String> {
        let words = |error: crate::archive::DepotError| error.to_string();
        let depot = Depot::open(depot).map_err(words)?;
        let mut packing = Packing::begin(depot, archive_name(self.token)).map_err(words)?;
        for at in members {
            if !self.goes_on("packing", *at) {
                packing.discard();
                return Ok(());
            }
            let action = self.entries[*at].action.clone();
            let packed = self.checks.target(&action, &self.touched).and_then(|(located, _)| {
                packing.add(action.number, &action.target, &located, &self.touched)
            });
            match packed {
                Ok(()) => {}
                Err(Refusal::Archive(reason)) => {
                    // the depot is full or failing: no use in going on
                    packing.discard();
                    return Err(reason);
                }
                Err(refusal) => self.conclude(*at, EntryState::Refused, refusal.to_string()),
            }
        }
        if packing.is_empty() {
            packing.discard();
            return Ok(());
        }
        if let Some(last) = members.last() {
            self.goes_on("comparing the archive", *last);
        }
        let packed = packing.publish((self.clock)()).map_err(words)?;
        for entry in &mut self.entries {
            if packed.actions.contains(&entry.action.number) {
                entry.archive = Some(packed.path.clone());
            }
        }
        Ok(())
    }

    /// Takes away what is still waiting, batch by batch.
    fn remove_all(&mut self) -> Result<(), CarryOutError> {
        let waiting: Vec<usize> = (0..self.entries.len())
            .filter(|at| {
                let entry = &self.entries[*at];
                let is_archive = matches!(entry.action.deed, Deed::Archive { .. });
                entry.state == EntryState::Waiting
                    && (!is_archive || entry.archive.is_some())
                    && !entry.action.deed.is_release()
            })
            .collect();
        for batch in waiting.chunks(BATCH) {
            if self.stopped {
                break;
            }
            self.checks.refresh((self.clock)());
            let ready = self.intend(batch)?;
            let mut parents = HashMap::new();
            for (at, located, area) in ready {
                if self.goes_on("removing", at) {
                    self.act(at, &located, &area);
                } else {
                    self.entries[at].state = EntryState::Waiting;
                }
                let path = &self.entries[at].action.target.path.0;
                parents.insert(path.parent().map(Path::to_owned), located);
            }
            // an outcome must not be in the journal before the device knows it
            for located in parents.into_values() {
                rustix::fs::fsync(&located.parent)
                    .map_err(CallError::on(Op::Sync, &located.mount_point))?;
            }
            self.areas.sync()?;
            let written: Vec<EntryRecord> =
                batch.iter().map(|at| self.entries[*at].clone()).collect();
            self.journal.write(self.id, &written)?;
        }
        Ok(())
    }

    /// Lets go of deleted files, one by one: each intent is in the journal before the act.
    fn release_all(&mut self) -> Result<(), CarryOutError> {
        let mut ended = Vec::new();
        for at in 0..self.entries.len() {
            let entry = &self.entries[at];
            if entry.state != EntryState::Waiting || !entry.action.deed.is_release() {
                continue;
            }
            if !self.goes_on("releasing", at) {
                break;
            }
            self.entries[at].state = EntryState::Intended;
            self.journal.write(self.id, std::slice::from_ref(&self.entries[at]))?;
            let action = self.entries[at].action.clone();
            match release(&action, &mut ended, self.clock) {
                Ok(released) => {
                    self.figures.freed += released.freed;
                    self.entries[at].freed = released.freed;
                    self.conclude(at, released.state, released.message);
                }
                Err(refusal) => self.conclude(at, EntryState::Refused, refusal.to_string()),
            }
            self.journal.write(self.id, std::slice::from_ref(&self.entries[at]))?;
        }
        Ok(())
    }

    /// Step 1 for a batch: what may be touched at all is written down as intended, with where it will be held.
    fn intend(&mut self, batch: &[usize]) -> Result<Vec<(usize, Located, PathBuf)>, CarryOutError> {
        let mut ready = Vec::new();
        for at in batch {
            let path = self.entries[*at].action.target.path.0.clone();
            let opened = self.checks.protected(&path).and_then(|()| {
                let located = crate::plan::locate(&path)?;
                let area = self.areas.path_for(&path, &located)?;
                Ok((located, area))
            });
            match opened {
                Ok((located, area)) => {
                    let entry = &mut self.entries[*at];
                    entry.area = Some(area.clone());
                    entry.parent_before = directory_times(located.parent.as_fd());
                    entry.state = EntryState::Intended;
                    ready.push((*at, located, area));
                }
                Err(refusal) => self.conclude(*at, EntryState::Refused, refusal.to_string()),
            }
        }
        let written: Vec<EntryRecord> = batch.iter().map(|at| self.entries[*at].clone()).collect();
        self.journal.write(self.id, &written)?;
        Ok(ready)
    }

    /// Steps 2 to 5 for one action.
    fn act(&mut self, at: usize, located: &Located, area: &Path) {
        let action = self.entries[at].action.clone();
        let checked = self.checks.target(&action, &self.touched);
        let area = match checked.and_then(|_| self.areas.at(area)) {
            Ok(area) => area,
            Err(refusal) => {
                return self.conclude(at, EntryState::Refused, refusal.to_string());
            }
        };
        self.entries[at].parent_before = directory_times(located.parent.as_fd());
        let taken = self.take(&action, located, &area);
        self.entries[at].parent_after =
            directory_times(located.parent.as_fd()).map(|(_, written)| written);
        if let Err(refusal) = taken {
            let state = match refusal {
                Refusal::Stranded { .. } => EntryState::Failed,
                _ => EntryState::Refused,
            };
            return self.conclude(at, state, refusal.to_string());
        }
        if action.deed == Deed::SetAside {
            return self.conclude(at, EntryState::Held, String::new());
        }
        let freed_before = self.figures.freed;
        let removed = self.remove(at, &action, &area);
        let mut freed = self.figures.freed.less(freed_before);
        if action.shared > Bytes::ZERO {
            // inodes were counted; of shared extents only what the forecast found goes with them
            freed = freed.min(action.frees.now);
            self.figures.freed = freed_before + freed;
        }
        self.entries[at].freed = freed;
        match removed {
            Ok(()) if action.deed == Deed::Delete => {
                self.conclude(at, EntryState::Deleted, String::new());
            }
            Ok(()) => self.conclude(at, EntryState::Archived, String::new()),
            Err(error) => {
                let rest = area.path().to_owned();
                let rest = crate::shown::Shown(rest);
                let message = format!("{}; what is left of it is in {rest}", error.whole());
                self.conclude(at, EntryState::Failed, message);
            }
        }
    }

    /// Steps 3 and 4: into the private directory, and compared there.
    fn take(
        &mut self,
        action: &Action,
        located: &Located,
        area: &PrivateDir,
    ) -> Result<(), Refusal> {
        let path = &action.target.path.0;
        let held = std::ffi::OsString::from(action.number.to_string());
        let before = kernel::stat_at(&located.parent, located.name.as_os_str())
            .map_err(CallError::on(Op::Examine, path))?;
        area.take(&located.parent, &located.name, &held)
            .map_err(CallError::on(Op::Rename, path))?;
        let compared = self.compare(action, area, &held, &before);
        compared.map_err(|refusal| match area.give(&held, &located.parent, &located.name) {
            Ok(()) => refusal,
            Err(_) => Refusal::Stranded { path: path.clone(), held: area.path().join(&held) },
        })
    }

    /// Step 4; `before` is what stood in the place just before it was moved.
    fn compare(
        &mut self,
        action: &Action,
        area: &PrivateDir,
        held: &std::ffi::OsStr,
        before: &Stat,
    ) -> Result<(), Refusal> {
        let path = &action.target.path.0;
        let moved = area.stat(held)?.ok_or_else(|| Refusal::Gone(area.path().join(held)))?;
        if moved.kind != Kind::Directory && (moved.dev, moved.ino) == (before.dev, before.ino) {
            // our own rename is a change of the inode, which its other names have in common with it
            self.touched.note(before, &moved);
        }
        let here = area.fd().as_fd();
        let found = survey_at(here, held, path, &self.touched, &mut |_| Ok(()))?;
        match action.target.difference(&found.target, true) {
            Some(difference) => Err(Refusal::Changed { path: path.clone(), difference }),
            None => Ok(()),
        }
    }

    /// Step 5 for what does not stay.
    fn remove(&mut self, at: usize, action: &Action, area: &PrivateDir) -> Result<(), CallError> {
        let mut name = self.entries[at].held_name();
        if action.target.kind == Kind::Directory {
            let cleared = self.entries[at].cleared_name();
            rename_within(area, &name, &cleared)?;
            name = cleared;
        }
        let (freed, touched) = (&mut self.figures.freed, &mut self.touched);
        area.remove(name.as_ref(), &mut |before, after| {
            if before.kind == Kind::Directory || before.links < 2 {
                *freed += before.allocated();
            }
            if let Some(after) = after {
                touched.note(before, after);
            }
        })
    }
}

/// Gives an entry of a private directory its second name there.
fn rename_within(area: &PrivateDir, from: &str, to: &str) -> Result<(), CallError> {
    area.give(from.as_ref(), area.fd(), to.as_ref())
        .map_err(CallError::on(Op::Rename, area.path().join(from)))
}
