//! The run itself.

use std::collections::HashMap;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::time::Duration;

use super::check::Checks;
use super::copies::KeptCopy;
use super::destination::Destination;
use super::holding::Areas;
use super::measured::{Counted, measure};
use super::measured_volumes::MeasuredVolumes;
use super::overlaps::Overlaps;
use super::release::release;
use super::settle::{remainder, settle_all};
use super::tools::{self, Done};
use super::{CarryOutError, EntryRecord, EntryState, Figures, Journal, RunState, Settled, Watch};
use crate::archive::{Depot, DepotAddress, DepotError, Packing};
use crate::kernel::{self, CallError, FileLock, Kind, LeaseReturn, Leases, Op, OwnChanges};
use crate::packed_list::{PackedList, Record};
use crate::plan::{Deed, Forecast, Plan, Refusal, Touched};
use crate::shown::{Shown, shown};
use crate::state::State;
use crate::units::{Bytes, Time};

/// What a run came to.
#[derive(Clone, Debug)]
pub struct RunSummary {
    /// Its number in the journal.
    pub run: i64,
    /// How it ended.
    pub state: RunState,
    /// How many of its actions stand how.
    pub counts: Vec<(EntryState, u64)>,
    /// Its actions, as they stand now.
    pub entries: PackedList<EntryRecord>,
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
        let found = self.counts.iter().find(|(other, _)| *other == state);
        found.map_or(0, |(_, count)| *count as usize)
    }
}

/// How many actions, one at least, are done together and written to the journal in one synced step.
pub(super) struct BatchSize {
    most: usize,
    actions: usize,
    entries: u64,
}

/// So many actions are done together at most, if their files are leased.
const MOST_ACTIONS: u64 = 4096;
/// So many are in the first batch of those that grow.
const FIRST_ACTIONS: usize = 2048;

impl BatchSize {
    pub(super) fn new() -> Self {
        // each may need a descriptor for its lease, and a tree needs some besides
        let most = (kernel::raise_descriptor_limit() / 4).clamp(16, MOST_ACTIONS) as usize;
        Self { most, actions: 0, entries: 0 }
    }

    /// For what holds no leases, and so need not be done with soon. The first batches, before which so many actions have
    /// been `begun`, are smaller, so that whoever waits for them can begin.
    pub(super) fn without_leases(begun: usize) -> Self {
        let most = (FIRST_ACTIONS + begun).min(4 * MOST_ACTIONS as usize);
        Self { most, actions: 0, entries: 0 }
    }

    /// Whether an action belongs to the batch too. Its target has so many entries.
    pub(super) fn takes(&mut self, entries: u64) -> bool {
        // a batch of large trees would keep its files leased for long
        let most_entries = 2 * MOST_ACTIONS.max(self.most as u64);
        self.actions += 1;
        self.entries = self.entries.saturating_add(entries);
        self.actions == 1 || (self.actions <= self.most && self.entries <= most_entries)
    }
}

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
    let settled = settle_all(&mut journal, state, clock())?;
    if let Some(run) = journal.run_of_plan(&plan.id)? {
        return Err(CarryOutError::AlreadyCarriedOut(run));
    }
    let token = new_token(clock())?;
    let protection = Checks::protection_of(plan, state);
    let mut overlaps = Overlaps::of_none(plan, &protection);
    let now = clock();
    let (mut entries, at) = (PackedList::new(), now.rfc3339());
    // a plan may have a million actions: all that is done with each of them is done in one go
    let id = journal.begin_with(plan, &token, now, |action| {
        overlaps.look_at(action);
        entries.push(EntryRecord::waiting(action.clone(), at.clone()));
    })?;
    let hopeless = overlaps.finish();
    let checks = Checks::knowing_overlaps(plan, state, protection, hopeless);
    let forecast = checks.overview.frees;
    tracing::info!(run = id, plan = %shown(&plan.id), actions = plan.actions.len(), "run begun");
    // they are asked several times, and a plan may have a million actions
    let volumes = MeasuredVolumes::of(plan, &checks.overview, checks.mounts(), state);
    let used_before = volumes.used();
    let mut run = Run {
        id,
        token: &token,
        checks,
        areas: Areas::of_new_run(state, &token),
        state,
        touched: Touched::default(),
        own: OwnChanges::default(),
        leases: Leases::default(),
        lease_return: LeaseReturn::default(),
        destinations: HashMap::new(),
        kept_copies: HashMap::new(),
        journal: &mut journal,
        figures: Figures { total: entries.len(), ..Figures::default() },
        entries,
        clock,
        watch,
        last_second: (i64::MIN, String::new()),
        stopped: false,
    };
    run.go_through()?;
    let Run { entries, stopped, checks, areas, figures: Figures { freed, .. }, .. } = run;
    let areas: Vec<PathBuf> = areas.all().map(|area| area.path().to_owned()).collect();
    let measured_of = freed.less(volumes.freed_elsewhere(&entries, &checks.overview));
    let counted = Counted {
        overview: &checks.overview,
        entries: &entries,
        areas: &areas,
        freed: measured_of,
        state,
        clock,
    };
    let (measured, reasons) = measure(&counted, &volumes.paths, used_before, &|| volumes.used());
    let ended = if stopped { RunState::Stopped } else { RunState::Done };
    let counts = journal.end(id, ended, measured, &reasons, &entries, clock())?;
    log_troubles(id, &counts, &entries);
    let done: u64 = counts.iter().filter(|(state, _)| state.is_done()).map(|(_, n)| n).sum();
    tracing::info!(
        run = id,
        state = ended.word(),
        done,
        freed = freed.get(),
        measured,
        "run ended"
    );
    Ok(RunSummary {
        run: id,
        state: ended,
        counts,
        entries,
        forecast,
        freed,
        measured,
        reasons,
        settled,
    })
}

/// Writes to the log which actions were not done, and why.
fn log_troubles(run: i64, counts: &[(EntryState, u64)], entries: &PackedList<EntryRecord>) {
    if counts.iter().any(|(state, _)| state.is_trouble()) {
        let troubles = entries.iter().filter(|entry| entry.state.is_trouble());
        troubles.for_each(|entry| log_trouble(run, &entry));
    }
}

/// Writes to the log that an action was not done, and why. Names cannot forge a line of it.
fn log_trouble(run: i64, entry: &EntryRecord) {
    tracing::warn!(
        run,
        action = entry.action.number,
        deed = entry.action.deed.word(),
        target = %Shown(entry.action.place()),
        state = entry.state.word(),
        reason = %shown(&entry.message),
        "not done"
    );
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
    let entries = journal.entries(run)?;
    let rest = remainder(&record, &entries, clock())?.ok_or(CarryOutError::NothingLeft(run))?;
    let summary = carry_out(&rest, state, clock, watch)?;
    let (message, at) = (format!("carried on in run {}", summary.run), clock().rfc3339());
    let waiting = entries.iter().filter(|entry| entry.state == EntryState::Waiting);
    let carried_on = waiting.map(|entry| EntryRecord {
        state: EntryState::CarriedOn,
        message: message.clone(),
        at: at.clone(),
        ..entry.clone()
    });
    journal.write(run, carried_on)?;
    Ok(summary)
}

/// Takes the lock that lets one process at a time remove or put back.
pub(super) fn lock(state: &State) -> Result<FileLock, CarryOutError> {
    let path = state.lock_file();
    let lock = FileLock::open(&path)?;
    // a process that is just ending, or starts a program while it holds the lock, is given a moment
    for wait in [0, 20, 50, 100, 200] {
        std::thread::sleep(Duration::from_millis(wait));
        if lock.try_lock(&path)? {
            return Ok(lock);
        }
    }
    Err(CarryOutError::Busy(path))
}

/// What tells a run's private directories and archives from all others, also from those of the same plan carried
/// out with another state directory: when, and 64 random bits.
fn new_token(now: Time) -> Result<String, CarryOutError> {
    let stamp: String = now.rfc3339().chars().filter(char::is_ascii_alphanumeric).collect();
    let random = kernel::random_id().map_err(CallError::on(Op::Read, "getrandom(2)"))?;
    Ok(format!("{}-{}", stamp.get(..15).unwrap_or(&stamp), random.get(..16).unwrap_or(&random)))
}

/// The name of a run's archive in a depot, without its endings.
pub(super) fn archive_name(token: &str) -> String {
    format!("fondaco-{token}")
}

pub(super) struct Run<'a> {
    pub(super) id: i64,
    token: &'a str,
    pub(super) checks: Checks,
    pub(super) areas: Areas<'a>,
    state: &'a State,
    pub(super) touched: Touched,
    pub(super) own: OwnChanges,
    /// On the files of the batch at hand.
    pub(super) leases: Leases,
    /// Where they go when the batch is done.
    pub(super) lease_return: LeaseReturn,
    /// Copies that stay, of the batch at hand, by device and inode.
    pub(super) kept_copies: HashMap<(u64, u64), KeptCopy>,
    /// Where things are moved to, by the path that the plan has.
    pub(super) destinations: HashMap<PathBuf, Destination>,
    pub(super) journal: &'a mut Journal,
    pub(super) entries: PackedList<EntryRecord>,
    pub(super) figures: Figures,
    pub(super) clock: &'a dyn Fn() -> Time,
    watch: &'a Watch<'a>,
    /// The second in which an action was concluded last, and how it is written.
    last_second: (i64, String),
    stopped: bool,
}

impl Run<'_> {
    /// All actions, kind after kind, and then what the run itself made and needs no more.
    fn go_through(&mut self) -> Result<(), CarryOutError> {
        self.refuse_incomplete()?;
        self.pack_all()?;
        self.copy_all()?;
        self.share_all()?;
        self.remove_all(false)?;
        self.remove_all(true)?;
        self.tools_all()?;
        self.restore_all()?;
        self.release_all()?;
        // what was removed is freed before it is measured
        self.lease_return = LeaseReturn::default();
        self.clear_copies();
        self.drop_left_names();
        self.areas.remove_empty();
        Ok(())
    }

    /// Tells how far we are and hears whether to stop.
    pub(super) fn goes_on(&mut self, phase: &'static str, at: usize) -> bool {
        self.figures.phase = phase;
        let current = self.figures.current.as_mut_os_string();
        current.clear();
        current.push(self.entries[at].action.place());
        self.stopped |= (self.watch)(&self.figures) == ControlFlow::Break(());
        !self.stopped
    }

    pub(super) fn conclude(&mut self, at: usize, state: EntryState, message: String) {
        let now = (self.clock)();
        if self.last_second.0 != now.sec {
            self.last_second = (now.sec, now.rfc3339());
        }
        let entry = &mut self.entries[at];
        (entry.state, entry.message) = (state, message);
        self.last_second.1.clone_into(&mut entry.at);
        self.figures.done += 1;
    }

    /// The places of the entries that are such, in order.
    pub(super) fn places_of(&self, such: impl Fn(&EntryRecord) -> bool) -> Vec<usize> {
        let all = self.entries.iter().enumerate();
        all.filter(|(_, entry)| such(entry)).map(|(at, _)| at).collect()
    }

    /// The places of the entries that wait for such a deed, in order.
    pub(super) fn waiting_for(&self, such: impl Fn(&Deed) -> bool) -> Vec<usize> {
        if !self.checks.overview.has(&such) {
            return Vec::new();
        }
        self.places_of(|entry| entry.state == EntryState::Waiting && such(&entry.action.deed))
    }

    /// Writes and proves the archives, one for each depot, before anything is taken away.
    fn pack_all(&mut self) -> Result<(), CarryOutError> {
        let places = self.checks.depots().iter().map(|place| &place.path);
        let depots: Vec<PathBuf> = places.chain(self.checks.stores()).cloned().collect();
        self.state.remember(&depots, &[])?;
        // two names of one directory are one depot
        let mut depots: Vec<(Box<dyn Depot>, Vec<usize>)> = Vec::new();
        if !self.checks.overview.has(|deed| matches!(deed, Deed::Archive { .. })) {
            return Ok(());
        }
        let archived = self.places_of(|entry| matches!(entry.action.deed, Deed::Archive { .. }));
        for at in archived {
            let action = &self.entries[at].action;
            let Deed::Archive { depot } = &action.deed else { continue };
            if let Err(refusal) = self.checks.permitted(action) {
                self.conclude(at, EntryState::Refused, refusal.to_string());
                continue;
            }
            match DepotAddress::from(depot.as_path()).open() {
                Ok(open) => {
                    match depots.iter_mut().find(|(known, _)| known.identity() == open.identity()) {
                        Some((_, members)) => members.push(at),
                        None => depots.push((open, vec![at])),
                    }
                }
                Err(error) => {
                    let message = Refusal::Archive(error.to_string()).to_string();
                    self.conclude(at, EntryState::Failed, message);
                }
            }
        }
        for (depot, members) in depots {
            if let Err(refusal) = self.pack(depot, &members) {
                for at in members {
                    if self.entries[at].state == EntryState::Waiting {
                        self.conclude(at, EntryState::Failed, refusal.to_string());
                    }
                }
            }
        }
        let packed =
            |entry: &Record<EntryRecord>| matches!(entry.action.deed, Deed::Archive { .. });
        Ok(self.journal.write(self.id, self.entries.iter().filter(packed))?)
    }

    /// Packs what is to go to one depot. A target that its guards stop is refused by itself; what is returned stops
    /// all.
    fn pack(&mut self, depot: Box<dyn Depot>, members: &[usize]) -> Result<(), Refusal> {
        let failed = |error: DepotError| Refusal::Archive(error.to_string());
        let mut packing = Packing::begin(depot, archive_name(self.token)).map_err(failed)?;
        self.checks.refresh((self.clock)());
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
                Err(refusal @ Refusal::Archive(_)) => {
                    // the depot is full or failing: no use in going on
                    packing.discard();
                    return Err(refusal);
                }
                Err(refusal) => self.refuse(*at, refusal),
            }
        }
        if packing.is_empty() {
            packing.discard();
            return Ok(());
        }
        if let Some(last) = members.last() {
            self.goes_on("comparing the archive", *last);
        }
        let packed = packing.publish((self.clock)()).map_err(failed)?;
        for at in members {
            if packed.actions.contains(&self.entries[*at].action.number) {
                self.entries[*at].archive = Some(packed.path.clone());
            }
        }
        Ok(())
    }

    /// Ends an action that a guard stopped; names the processes that have its target open, where they can be seen.
    pub(super) fn refuse(&mut self, at: usize, refusal: Refusal) {
        let refusal = match refusal {
            Refusal::InUse { path, holder: None } => {
                let stat = kernel::stat_path(&path).ok();
                let holder = stat.and_then(|stat| self.checks.holder(&stat, (self.clock)()));
                Refusal::InUse { path, holder }
            }
            other => other,
        };
        let state = match refusal {
            Refusal::Stranded { .. } => EntryState::Failed,
            _ => EntryState::Refused,
        };
        self.conclude(at, state, refusal.to_string());
    }

    /// Takes away what is still waiting, batch by batch: all but directories that this empties, or those.
    fn remove_all(&mut self, emptied: bool) -> Result<(), CarryOutError> {
        if emptied && !self.checks.overview.has_emptied {
            return Ok(());
        }
        let mut next = 0;
        while !self.stopped {
            let batch = self.next_batch(&mut next, emptied);
            if batch.is_empty() {
                break;
            }
            // of a file its lease tells; a directory is asked for before it is taken, so that one that is in use
            // stays in its place
            if batch.iter().any(|at| self.entries[*at].action.target.kind != Kind::File) {
                self.checks.refresh((self.clock)());
            }
            self.remove_batch(&batch)?;
        }
        Ok(())
    }

    /// The places of the next entries that are to be taken away together. `next` is where they are looked for, and then
    /// where they have been looked for.
    fn next_batch(&mut self, next: &mut usize, emptied: bool) -> Vec<usize> {
        let (mut batch, mut size) = (Vec::new(), BatchSize::new());
        while *next < self.entries.len() {
            // what is unpacked here stays so until it has been done; what is passed over need not
            if next.is_multiple_of(1024) {
                self.entries.trim();
            }
            let entry = &self.entries[*next];
            let is_archive = matches!(entry.action.deed, Deed::Archive { .. });
            let goes = entry.state == EntryState::Waiting
                && entry.action.emptied == emptied
                && (!is_archive || entry.archive.is_some())
                && entry.action.deed.takes_target();
            if goes && !size.takes(entry.action.target.entries) {
                break;
            }
            if goes {
                batch.push(*next);
            }
            *next += 1;
        }
        batch
    }

    /// Has programs of the system remove what is theirs, one by one: each intent is in the journal before the act.
    fn tools_all(&mut self) -> Result<(), CarryOutError> {
        for at in self.waiting_for(Deed::is_of_tool) {
            if !self.goes_on("asking", at) {
                break;
            }
            if let Err(refusal) = tools::check(&self.entries[at].action, &self.checks) {
                self.conclude(at, EntryState::Refused, refusal.to_string());
                self.journal.write(self.id, [&self.entries[at]])?;
                continue;
            }
            self.entries[at].state = EntryState::Intended;
            self.journal.write(self.id, [&self.entries[at]])?;
            let Done { state, freed, message } =
                tools::remove(&self.entries[at].action, &self.checks);
            self.figures.freed += freed;
            self.entries[at].freed = freed;
            self.conclude(at, state, message);
            self.journal.write(self.id, [&self.entries[at]])?;
        }
        Ok(())
    }

    /// Lets go of deleted files, one by one: each intent is in the journal before the act.
    fn release_all(&mut self) -> Result<(), CarryOutError> {
        let mut ended = Vec::new();
        for at in self.waiting_for(Deed::is_release) {
            if !self.goes_on("releasing", at) {
                break;
            }
            self.entries[at].state = EntryState::Intended;
            self.journal.write(self.id, [&self.entries[at]])?;
            let action = self.entries[at].action.clone();
            match release(&action, &mut ended, self.clock) {
                Ok(released) => {
                    self.figures.freed += released.freed;
                    self.entries[at].freed = released.freed;
                    self.conclude(at, released.state, released.message);
                }
                Err(refusal) => self.conclude(at, EntryState::Refused, refusal.to_string()),
            }
            self.journal.write(self.id, [&self.entries[at]])?;
        }
        Ok(())
    }
}
