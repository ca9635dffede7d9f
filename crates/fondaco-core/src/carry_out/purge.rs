//! Purging: removing for good what is held.
//!
//! Entries are taken from the journal some thousand at a time. While others unlink those of one batch, this thread looks at
//! the next, writes down that they are being purged, and then what became of those before. So a million of them take
//! little more than their names cost the kernel.

use std::cell::LazyCell;
use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::Scope;

use super::batch::refusal_of;
use super::execute::{BatchSize, lock};
use super::holding::{Reopened, remove_if_empty};
use super::put_back::{Returned, area_of};
use super::settle::{remove_rest, settle_all};
use super::{CarryOutError, EntryRecord, EntryState, Journal};
use crate::kernel::{
    self, CallError, Inventory, InventoryWriter, Kind, Lease, Leases, NoLease, Op, OpenFiles,
    PrivateDir, Stat,
};
use crate::parallel;
use crate::plan::{Refusal, Touched, list_at};
use crate::shown::{Shown, shown};
use crate::state::State;
use crate::units::{Bytes, Time};

/// Removes what a run has set aside, for good: all of it, or the actions with these numbers.
///
/// It is refused if something was put into it or changed since it was set aside, or if a process has it open. Once its
/// removal has begun, it is *being purged*: a purge that is cut off is ended at the next start.
///
/// # Errors
///
/// [`CarryOutError`]; what cannot be removed is no error but in the result.
pub fn purge(
    run: i64,
    numbers: Option<&[u32]>,
    state: &State,
    now: Time,
) -> Result<Returned, CarryOutError> {
    purge_while(run, numbers, state, now, &|| true)
}

/// As [`purge`], as long as it is said that it goes on; what has not been begun by then stays held.
///
/// # Errors
///
/// As [`purge`].
pub fn purge_while(
    run: i64,
    numbers: Option<&[u32]>,
    state: &State,
    now: Time,
    goes_on: &dyn Fn() -> bool,
) -> Result<Returned, CarryOutError> {
    kernel::raise_descriptor_limit();
    let _lock = lock(state)?;
    let mut journal = Journal::open(&state.journal_file())?;
    settle_all(&mut journal, state, now)?;
    let record = journal.run(run)?.ok_or(CarryOutError::NoSuchRun(run))?;
    let mut purge = Purge {
        run,
        begun: record.begun,
        numbers: numbers.map(|numbers| numbers.iter().copied().collect()),
        journal,
        areas: Reopened::default(),
        emptied: BTreeSet::new(),
        returned: Returned::default(),
        now,
        holds_leases: true,
    };
    std::thread::scope(|scope| purge.go_through(&mut Remover::new(scope), goes_on))?;
    Ok(purge.end())
}

struct Purge {
    run: i64,
    /// When the run began.
    begun: String,
    /// The actions that are meant, if not all.
    numbers: Option<HashSet<u32>>,
    journal: Journal,
    areas: Reopened,
    /// The private directories from which something went.
    emptied: BTreeSet<PathBuf>,
    returned: Returned,
    now: Time,
    /// Files of the last batch had to be leased, for which there must be descriptors.
    holds_leases: bool,
}

/// What is about to be removed, as it was found to be.
struct Looked {
    entry: Box<EntryRecord>,
    area: Arc<PrivateDir>,
    list: Inventory,
    /// No process has it open: it is a regular file with one name, which only root could open where it lies.
    is_unused: bool,
}

/// What is removed together.
struct Batch {
    looked: Vec<Looked>,
    leases: Leases,
}

/// Why some or all of an entry is still there.
#[derive(Debug, thiserror::Error)]
#[error("{refusal}; what is left of it is in {}", Shown(rest))]
struct NotPurged {
    refusal: Refusal,
    /// Where that lies.
    rest: PathBuf,
}

/// What became of an entry: the bytes that were freed, or why it is still there.
type Removed = (Box<EntryRecord>, Result<Bytes, NotPurged>);

impl Purge {
    fn go_through(
        &mut self,
        remover: &mut Remover<'_, '_>,
        goes_on: &dyn Fn() -> bool,
    ) -> Result<(), CarryOutError> {
        let (mut first, mut begun, mut lists) = (1, 0, HashMap::new());
        'all: while let Some(part) =
            self.journal.held_from(self.run, first, &self.begun, &mut lists)?
        {
            first += part.len() as u32;
            let mut rest = self.wanted(part);
            while !rest.is_empty() {
                if !goes_on() {
                    break 'all;
                }
                let mut size = match self.holds_leases {
                    true => BatchSize::new(),
                    false => BatchSize::without_leases(begun),
                };
                let takes = |entry: &&EntryRecord| size.takes(entry.action.target.entries);
                let length = rest.iter().take_while(takes).count();
                let after = rest.split_off(length);
                begun += length;
                let batch = self.look(std::mem::replace(&mut rest, after), &mut lists)?;
                remover.begin(batch);
                while let Some(removed) = remover.ended(1) {
                    self.conclude(removed)?;
                }
            }
            lists.clear();
        }
        while let Some(removed) = remover.ended(0) {
            self.conclude(removed)?;
        }
        Ok(())
    }

    /// Those that are to be purged and can be; what was asked for and is not held is refused.
    fn wanted(&mut self, part: Vec<EntryRecord>) -> Vec<EntryRecord> {
        let mut wanted = Vec::with_capacity(part.len());
        for entry in part {
            let named = self.numbers.as_ref().map(|named| named.contains(&entry.action.number));
            match (named, matches!(entry.state, EntryState::Held | EntryState::Purging)) {
                (None | Some(true), true) => wanted.push(entry),
                (Some(true), false) => {
                    let reason = format!("it is {}", entry.state.word());
                    self.returned.refused.push((entry, reason));
                }
                _ => {}
            }
        }
        wanted
    }

    /// Looks at all of a batch, and writes down that what passed is being purged.
    fn look(
        &mut self,
        batch: Vec<EntryRecord>,
        lists: &mut HashMap<u32, Inventory>,
    ) -> Result<Batch, CarryOutError> {
        let now = self.now;
        let open: OpenNow<'_> = LazyCell::new(Box::new(move || OpenFiles::collect(now)));
        let (mut looked, mut leases) = (Vec::with_capacity(batch.len()), Leases::default());
        let mut known = HashSet::new();
        for entry in batch {
            // it is handed on twice
            let mut entry = Box::new(entry);
            let kept = lists.remove(&entry.action.number);
            if kept.is_some() {
                known.insert(entry.action.number);
            }
            match look_before_purge(&entry, kept, &open, &mut self.areas, &mut leases) {
                Ok((area, list, is_unused)) => {
                    entry.state = EntryState::Purging;
                    looked.push(Looked { entry, area, list, is_unused });
                }
                Err(refusal) => self.returned.refused.push((*entry, refusal.to_string())),
            }
        }
        // the journal has the lists, but for those of runs that did not keep them
        let begun = looked.iter().map(|one| {
            let is_known = known.contains(&one.entry.action.number);
            (&*one.entry, (!is_known).then_some(&one.list))
        });
        self.journal.write_with(self.run, begun)?;
        self.holds_leases = !leases.is_empty();
        Ok(Batch { looked, leases })
    }

    /// Writes down what became of a batch, once its device knows it too.
    fn conclude(&mut self, removed: Vec<Removed>) -> Result<(), CarryOutError> {
        let synced = self.areas.sync();
        let at = self.now.rfc3339();
        let (mut done, mut refused) = (Vec::with_capacity(removed.len()), Vec::new());
        for (mut entry, outcome) in removed {
            match (outcome, &synced) {
                (Ok(freed), Ok(())) => {
                    (entry.state, entry.at) = (EntryState::Purged, at.clone());
                    entry.freed += freed;
                    entry.message.clear();
                    self.returned.freed += freed;
                    done.push(entry);
                    continue;
                }
                // it stays being purged, which the next start ends
                (Ok(_), Err(error)) => {
                    entry.message =
                        format!("it is gone, which the device may not keep: {}", error.whole());
                }
                (Err(error), _) => entry.message = error.to_string(),
            }
            refused.push(entry);
        }
        self.journal.write(self.run, done.iter().chain(&refused).map(|entry| &**entry))?;
        for entry in &done {
            if let Some(area) = entry.area.as_ref().filter(|area| !self.emptied.contains(*area)) {
                self.emptied.insert(area.clone());
            }
        }
        self.returned.done.extend(done.into_iter().map(|entry| *entry));
        self.returned.refused.extend(refused.into_iter().map(|entry| {
            let reason = entry.message.clone();
            (*entry, reason)
        }));
        Ok(())
    }

    fn end(self) -> Returned {
        let returned = self.returned;
        let (done, refused) = (returned.done.len(), returned.refused.len());
        tracing::info!(run = self.run, done, refused, "purged");
        for (entry, reason) in &returned.refused {
            let target = Shown(entry.action.place()).to_string();
            tracing::warn!(run = self.run, target, reason = %shown(reason), "not purged");
        }
        self.emptied.into_iter().for_each(|area| remove_if_empty(&area));
        returned
    }
}

/// Removes batches, on a thread of its own as soon as there are many entries.
struct Remover<'s, 'e> {
    scope: &'s Scope<'s, 'e>,
    thread: Option<(SyncSender<Batch>, Receiver<Vec<Removed>>)>,
    /// Batches that the thread has and has not given back.
    under_way: usize,
    ended: VecDeque<Vec<Removed>>,
}

/// For fewer entries a thread takes longer to begin than it saves.
const WORTH_A_THREAD: usize = 64;

impl<'s, 'e> Remover<'s, 'e> {
    fn new(scope: &'s Scope<'s, 'e>) -> Self {
        Self { scope, thread: None, under_way: 0, ended: VecDeque::new() }
    }

    /// Begins with a batch that the journal has as being purged.
    fn begin(&mut self, batch: Batch) {
        if self.thread.is_none() && batch.looked.len() >= WORTH_A_THREAD {
            let (send, batches) = sync_channel::<Batch>(1);
            let (give_back, removed) = sync_channel(2);
            let work =
                move || batches.iter().map(remove).try_for_each(|removed| give_back.send(removed));
            let builder = std::thread::Builder::new().name("purge".to_owned());
            self.thread = builder.spawn_scoped(self.scope, work).ok().map(|_| (send, removed));
        }
        let batch = match &self.thread {
            Some((send, _)) => match send.send(batch) {
                Ok(()) => {
                    self.under_way += 1;
                    return;
                }
                Err(not_taken) => not_taken.0,
            },
            None => batch,
        };
        self.ended.push_back(remove(batch));
    }

    /// What became of a batch that has ended; waits for one as long as more than `most` are under way.
    fn ended(&mut self, most: usize) -> Option<Vec<Removed>> {
        if let Some((_, removed)) = self.thread.as_ref().filter(|_| self.under_way > most) {
            self.under_way -= 1;
            // what a thread has not told that panicked stays being purged
            return removed.recv().ok();
        }
        self.ended.pop_front()
    }
}

/// Fewer files than this are not worth a thread.
const LEAST_FILES: usize = 256;

/// Removes a batch, files with one name on several threads: most of what that takes the kernel is freeing the inode, for which
/// it does not lock the directory. Names of one inode go one after the other, so that what they free is counted once.
fn remove(batch: Batch) -> Vec<Removed> {
    let Batch { looked, leases } = batch;
    let remove_one = |one: &Looked| {
        let Looked { entry, area, list, is_unused } = one;
        remove_rest(entry, area, list, &leases, *is_unused).map_err(|error| {
            let rest = area.path().join(entry.held_name());
            NotPurged { refusal: refusal_of(error), rest }
        })
    };
    let (single, others): (Vec<Looked>, Vec<Looked>) =
        looked.into_iter().partition(|one| one.is_unused);
    let part = parallel::small_part_of(single.len(), LEAST_FILES);
    let remove_part = |part: &[Looked]| part.iter().map(remove_one).collect::<Vec<_>>();
    let of_single = parallel::each(single.chunks(part), remove_part).into_iter().flatten();
    let of_others: Vec<_> = others.iter().map(remove_one).collect();
    let all = single.into_iter().chain(others).map(|one| one.entry);
    let mut removed: Vec<Removed> = all.zip(of_single.chain(of_others)).collect();
    removed.sort_by_key(|(entry, _)| entry.action.number);
    removed
}

/// Looks at what is held, and holds it against the list that was made when it was set aside. Gives whether it is known that
/// no process has it open, as far as that is not told by a lease.
fn look_before_purge(
    entry: &EntryRecord,
    kept: Option<Inventory>,
    open: &OpenNow<'_>,
    areas: &mut Reopened,
    leases: &mut Leases,
) -> Result<(Arc<PrivateDir>, Inventory, bool), Refusal> {
    let area = area_of(entry, areas)?;
    let held = OsString::from(entry.held_name());
    let path = &entry.action.target.path.0;
    let Some(found) = area.stat(&held)? else {
        let reason = "the holding area does not have it".to_owned();
        return Err(Refusal::NotHeld { path: path.clone(), reason });
    };
    if let (EntryState::Purging, Some(inventory)) = (entry.state, &kept) {
        return Ok((area, inventory.clone(), false));
    }
    let is_single = found.kind == Kind::File && found.links == 1;
    // only root can open what lies there, and root sees what every process has open
    let is_told = kernel::effective_user() == 0 && open.trouble.is_none() && open.hidden == 0;
    let list = match is_single {
        true if is_told => {
            is_in_use(&found, path, open)?;
            list_of_one(&held, &found, path)?
        }
        true => match lease_held(&area, &held, &found, path, open, leases)? {
            Some(stat) => list_of_one(&held, &stat, path)?,
            None => list_unused(&area, &held, path, open)?,
        },
        false => list_unused(&area, &held, path, open)?,
    };
    if let Some(kept) = kept {
        let read_error = |error| CallError::on(Op::Read, "journal.db")(error);
        if let Some((below, difference)) = kept.difference(&list).map_err(read_error)? {
            let path = path.join(below).components().collect();
            return Err(Refusal::Changed { path, difference: difference.to_owned() });
        }
    }
    Ok((area, list, is_single && is_told))
}

/// The open files of all processes, collected when they are asked for.
type OpenNow<'a> = LazyCell<OpenFiles, Box<dyn FnOnce() -> OpenFiles + 'a>>;

fn is_in_use(stat: &Stat, path: &Path, open: &OpenNow<'_>) -> Result<(), Refusal> {
    match open.is_open(stat.dev, stat.ino) {
        false => Ok(()),
        true => {
            let holder = open.holders(stat.dev, stat.ino).into_iter().next();
            Err(Refusal::InUse { path: path.to_owned(), holder })
        }
    }
}

/// The list of a regular file that is held.
fn list_of_one(held: &OsStr, stat: &Stat, path: &Path) -> Result<Inventory, Refusal> {
    let failed = |error: io::Error| CallError::on(Op::Write, path)(error);
    let mut list = InventoryWriter::new().map_err(failed)?;
    list.add(0, held, stat).map_err(failed)?;
    Ok(list.finish().map_err(failed)?)
}

/// Leases a regular file that is held, and gives what it is then. `None` if it is another one, or cannot be leased.
fn lease_held(
    area: &PrivateDir,
    held: &OsStr,
    found: &Stat,
    path: &Path,
    open: &OpenNow<'_>,
    leases: &mut Leases,
) -> Result<Option<Stat>, Refusal> {
    let Ok(file) = kernel::open_found_file(area.fd(), held) else { return Ok(None) };
    let lease = match Lease::take(file) {
        Ok(lease) => lease,
        Err((_, NoLease::InUse)) => {
            let holder = open.holders(found.dev, found.ino).into_iter().next();
            return Err(Refusal::InUse { path: path.to_owned(), holder });
        }
        Err((_, NoLease::Unavailable(_))) => return Ok(None),
    };
    let stat = kernel::stat_descriptor(lease.file()).map_err(CallError::on(Op::Examine, path))?;
    if (stat.dev, stat.ino) != (found.dev, found.ino) {
        return Ok(None);
    }
    leases.hold(&stat, lease);
    Ok(Some(stat))
}

/// The list of what is held; refuses what a process has open.
fn list_unused(
    area: &PrivateDir,
    held: &OsStr,
    path: &Path,
    open: &OpenNow<'_>,
) -> Result<Inventory, Refusal> {
    if let Some(trouble) = &open.trouble {
        let reason = format!("it cannot be told who has it open: {trouble}");
        return Err(Refusal::Hopeless { path: path.to_owned(), reason });
    }
    let here = area.fd().as_fd();
    let (_, found) = list_at(here, held, path, &Touched::default(), &mut |visit| {
        let path = path.join(visit.below).components().collect::<PathBuf>();
        is_in_use(visit.found, &path, open)
    })?;
    Ok(found)
}
