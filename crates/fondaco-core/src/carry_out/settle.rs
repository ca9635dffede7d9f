//! Bringing runs that were cut off to a defined state.

use std::collections::{BTreeSet, HashMap};
use std::ffi::OsStr;
use std::io::ErrorKind;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use super::execute::{archive_name, lock};
use super::holding::{remove_if_empty, reopen};
use super::linking::settle_link;
use super::put_back::missing;
use super::{CarryOutError, EntryRecord, EntryState, Journal, RunRecord, RunState, tools};
use super::{moving, release, restoring, sharing};
use fondaco_store::{Environment, Patience};

use crate::archive::{Depot, DepotAddress, StoreDepot, is_store};
use crate::kernel::{
    self, CallError, Inventory, Kind, Leases, Op, OwnChanges, PrivateDir, Removal, RemovalError,
    Strictness,
};
use crate::packed_list::PackedList;
use crate::plan::{Deed, Plan, PlanError, Refusal, Touched, list_at, locate};
use crate::shown::Shown;
use crate::state::State;
use crate::units::{Bytes, Time};

/// What settling a run did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settled {
    /// Number of the run.
    pub run: i64,
    /// Actions whose removal was finished.
    pub finished: u64,
    /// Actions whose target was given its place back.
    pub returned: u64,
    /// Actions that were not begun.
    pub not_begun: u64,
    /// Actions that need a look: their messages say why.
    pub failed: u64,
}

/// Settles all runs that were cut off, if no other process is in the middle of one.
///
/// What lies in a private directory and has not been cleared for removal goes back to its place,
/// unless it was to be set aside and is what was reviewed: then it is where it should be. What has
/// been cleared, or was being purged, is removed to the end. What was not begun is left for [`remainder`].
///
/// # Errors
///
/// [`CarryOutError::Journal`]; [`CarryOutError::Call`] if the lock cannot be made.
pub fn settle(state: &State, now: Time) -> Result<Vec<Settled>, CarryOutError> {
    let journal = state.journal_file();
    match kernel::stat_path(&journal) {
        Ok(_) => {}
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(CallError::on(Op::Examine, journal)(error).into()),
    }
    match lock(state) {
        Ok(_lock) => settle_all(&mut Journal::open(&state.journal_file())?, state, now),
        Err(CarryOutError::Busy(_)) => Ok(Vec::new()),
        Err(error) => Err(error),
    }
}

/// As [`settle`]; the caller holds the lock.
pub(super) fn settle_all(
    journal: &mut Journal,
    state: &State,
    now: Time,
) -> Result<Vec<Settled>, CarryOutError> {
    let cut_off = journal.cut_off()?;
    let settled = cut_off.iter().map(|run| settle_run(journal, run, state, now));
    let settled: Vec<Settled> = settled.collect::<Result<_, _>>()?;
    for Settled { run, finished, returned, not_begun, failed } in &settled {
        tracing::warn!(run, finished, returned, not_begun, failed, "a cut-off run was settled");
    }
    // a purge that still cannot be ended has been told of before
    Ok(settled.into_iter().filter(|settled| *settled != Settled::nothing(settled.run)).collect())
}

impl Settled {
    fn nothing(run: i64) -> Self {
        Self { run, finished: 0, returned: 0, not_begun: 0, failed: 0 }
    }
}

fn settle_run(
    journal: &mut Journal,
    run: &RunRecord,
    state: &State,
    now: Time,
) -> Result<Settled, CarryOutError> {
    let mut entries = journal.entries(run.id)?;
    let mut settled = Settled::nothing(run.id);
    let was_running = run.state == RunState::Running;
    // what cannot be seen now is asked for again at the next start
    let mut unsettled = false;
    let mut lists = HashMap::new();
    let to_settle =
        |entry: &EntryRecord| entry.state == EntryState::Intended || entry.state.is_half_done();
    let mut half_done = Vec::new();
    for (place, entry) in entries.iter().enumerate() {
        if to_settle(&entry) {
            half_done.push(place);
        } else if entry.state == EntryState::Waiting && was_running {
            settled.not_begun += 1;
        }
    }
    // actions have their numbers in order
    let number = |place: Option<&usize>| place.map_or(0, |place| entries[*place].action.number);
    let (first, last) = (number(half_done.first()), number(half_done.last()));
    let inventories = journal.inventories(run.id, first, last)?;
    for place in &half_done {
        let entry = &mut entries[*place];
        let inventory = inventories.get(&entry.action.number);
        let mut list = None;
        let settled_as = settle_entry(entry, inventory, now, &mut list);
        lists.extend(list.map(|list| (*place, list)));
        match settled_as {
            Ok((state, message)) => (entry.state, entry.message) = (state, message),
            Err(Unsettled::Now(reason)) => {
                settled.failed += u64::from(entry.message != reason);
                unsettled = true;
                entry.message = reason;
                continue;
            }
            Err(Unsettled::Ever(reason)) => {
                (entry.state, entry.message) = (EntryState::Failed, reason);
            }
        }
        entry.at = now.rfc3339();
        match entry.state {
            EntryState::Waiting | EntryState::Refused => settled.returned += 1,
            EntryState::Failed => settled.failed += 1,
            _ => settled.finished += 1,
        }
    }
    if was_running {
        let left = clear_unfinished_archives(run, &entries);
        settled.failed += left;
        // a store may be away, or still be at what it was asked last
        unsettled |= left > 0;
        if entries.iter().any(|entry| matches!(entry.action.deed, Deed::Move { .. })) {
            settled.failed += moving::clear_copies_of(state, &run.token)?;
        }
    }
    let records = half_done.iter().map(|place| (&entries[*place], lists.get(place)));
    journal.write_with(run.id, records)?;
    if unsettled {
        return Ok(settled);
    }
    let mut areas: BTreeSet<PathBuf> = BTreeSet::new();
    for entry in &entries {
        areas.extend(entry.area.clone().filter(|area| !areas.contains(area)));
    }
    // one that was made and not yet written down is where runs have had theirs before
    let made = state.places()?.holding_areas.into_iter().map(|area| area.0.join(&run.token));
    areas.into_iter().chain(made).for_each(|area| remove_if_empty(&area));
    if was_running {
        journal.end(run.id, RunState::CutOff, None, &[], &entries, now)?;
    }
    Ok(settled)
}

/// Why a half-done action has not come to a defined state.
pub(super) enum Unsettled {
    /// What would tell cannot be asked now: another volume is mounted there, or a device fails.
    Now(String),
    /// It needs a person's look.
    Ever(String),
}

impl From<Refusal> for Unsettled {
    fn from(refusal: Refusal) -> Self {
        match refusal {
            Refusal::Call(_) => Self::Now(refusal.to_string()),
            other => Self::Ever(other.to_string()),
        }
    }
}

impl From<CallError> for Unsettled {
    fn from(error: CallError) -> Self {
        Self::Now(error.whole())
    }
}

/// How one half-done action comes to stand. `list` is filled with what a target consists of that is set aside from now on.
fn settle_entry(
    entry: &mut EntryRecord,
    inventory: Option<&Inventory>,
    now: Time,
    list: &mut Option<Inventory>,
) -> Result<(EntryState, String), Unsettled> {
    let path = entry.action.target.path.0.clone();
    if entry.action.deed.is_release() {
        return Ok(release::settled(&entry.action, now));
    }
    if let Deed::Restore { .. } = entry.action.deed {
        return restoring::settled(entry);
    }
    if entry.action.deed.is_of_tool() {
        return Ok(tools::settled(&entry.action)?);
    }
    if entry.action.deed == Deed::Share {
        return sharing::settle_share(entry);
    }
    let no_area = || Unsettled::Ever("the journal has no holding area of it".to_owned());
    let area_path = entry.area.clone().ok_or_else(no_area)?;
    let area = match reopen(&area_path) {
        Ok(area) => area,
        Err(Refusal::Gone(_)) => return without_area(entry, &area_path),
        Err(refusal) => return Err(refusal.into()),
    };
    if entry.action.deed == Deed::Link {
        return settle_link(entry, &area, inventory);
    }
    let held = entry.held_name();
    if area.stat(held.as_ref())?.is_none() {
        return not_held(entry);
    }
    if entry.state == EntryState::Cleared && matches!(entry.action.deed, Deed::Move { .. }) {
        if moving::is_at_destination(entry)? {
            return finish_removal(entry, &area, inventory);
        }
        // without its copy an original stays, and one that is not whole has had its copy
        if !is_whole(&area, held.as_ref(), inventory)? {
            let place = entry.destination().unwrap_or_default();
            return Err(Unsettled::Now(format!(
                "its copy cannot be seen at {}: is its volume mounted?",
                Shown(&place)
            )));
        }
    } else if entry.state.is_half_done() {
        return finish_removal(entry, &area, inventory);
    }
    let here = area.fd().as_fd();
    let (found, found_list) =
        list_at(here, held.as_ref(), &path, &Touched::default(), &mut |_| Ok(()))?;
    let (was, is) = (&entry.action.target, &found.target);
    if entry.action.emptied && is.entries == 1 && (was.device, was.inode) == (is.device, is.inode) {
        // what went from it before has changed it
        entry.action.target = found.target.clone();
        entry.action_changed = true;
    }
    let difference = entry.action.target.difference(&found.target, true);
    if entry.action.deed == Deed::SetAside && difference.is_none() {
        // what comes into it later must not go with it when it is purged
        *list = Some(found_list);
        return Ok((EntryState::Held, "set aside just before the run was cut off".into()));
    }
    let located = locate(&path).map_err(|refusal| match refusal {
        Refusal::Gone(_) => Refusal::Stranded { path: path.clone(), held: area.path().join(&held) },
        other => other,
    })?;
    if let Err(error) = area.give(held.as_ref(), &located.parent, &located.name) {
        if error.kind() != ErrorKind::AlreadyExists {
            return Err(CallError::on(Op::Rename, path)(error).into());
        }
        return Err(Refusal::Stranded { path, held: area.path().join(held) }.into());
    }
    area.sync()?;
    rustix::fs::fsync(&located.parent).map_err(CallError::on(Op::Sync, &path))?;
    let message = "given its place back after the run was cut off".to_owned();
    if let Some(difference) = difference {
        return Ok((EntryState::Refused, format!("{message}; it has changed: {difference}")));
    }
    // our own two renames have changed the inode's change time, and nothing else has
    let now = kernel::stat_at(&located.parent, located.name.as_os_str())
        .map_err(CallError::on(Op::Examine, &path))?;
    entry.action.target.ctime = now.ctime;
    entry.action_changed = true;
    Ok((EntryState::Waiting, message))
}

/// Whether nothing that is listed has been removed yet.
fn is_whole(
    area: &PrivateDir,
    held: &OsStr,
    inventory: Option<&Inventory>,
) -> Result<bool, Unsettled> {
    match inventory {
        Some(inventory) => Ok(missing(area, &held.to_owned(), inventory)?.is_empty()),
        None => Ok(false),
    }
}

/// Whether the target is in its place.
pub(super) fn is_in_place(entry: &EntryRecord) -> Result<bool, CallError> {
    let target = &entry.action.target;
    match kernel::stat_path(&target.path.0) {
        // the number of a device may change when the machine starts again
        Ok(stat) => Ok(stat.ino == target.inode
            && (stat.dev == target.device
                || (stat.kind, stat.size, stat.mtime) == (target.kind, target.size, target.mtime))),
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(false),
        // that it cannot be seen does not say that it has gone
        Err(error) => Err(CallError::on(Op::Examine, &target.path.0)(error)),
    }
}

/// The private directory is there and does not hold it: it was never taken, or it was cleared and is wholly removed.
fn not_held(entry: &EntryRecord) -> Result<(EntryState, String), Unsettled> {
    if entry.state == EntryState::Purging {
        return Ok((EntryState::Purged, "purged just before that was cut off".to_owned()));
    }
    if is_in_place(entry)? {
        return in_place(entry);
    }
    if entry.state == EntryState::Cleared
        && let Some(place) = entry.destination()
    {
        let words = match moving::is_at_destination(entry)? {
            true => "finished just before the run was cut off".to_owned(),
            false => format!("it was moved to {}, and is not seen there now", Shown(&place)),
        };
        return Ok((EntryState::Moved, words));
    }
    let path = entry.action.target.path.0.clone();
    let message = "finished just before the run was cut off".to_owned();
    Ok(match (entry.state, &entry.action.deed) {
        (EntryState::Cleared, Deed::Archive { .. }) => (EntryState::Archived, message),
        (EntryState::Cleared, _) => (EntryState::Deleted, message),
        // it went, or was given another name, before it was taken
        _ => (EntryState::Refused, Refusal::Gone(path).to_string()),
    })
}

/// It is in its place. What had been cleared was given back, and some of it may have been removed before that.
fn in_place(entry: &EntryRecord) -> Result<(EntryState, String), Unsettled> {
    let target = &entry.action.target;
    if entry.state == EntryState::Cleared && target.kind == Kind::Directory {
        let found = crate::plan::survey(&target.path.0)?;
        if let Some(difference) = target.difference(&found.target, true) {
            let message = format!("what is left of it is back in its place: {difference}");
            return Ok((EntryState::Failed, message));
        }
    }
    Ok((EntryState::Waiting, String::new()))
}

/// The private directory is not there, although it was made before the intent was written down.
fn without_area(entry: &EntryRecord, area: &Path) -> Result<(EntryState, String), Unsettled> {
    if is_in_place(entry)? {
        return Ok((EntryState::Waiting, String::new()));
    }
    let area = Shown(area);
    // of another volume, or none, nothing can be said of what the right one holds
    let root = area.0.ancestors().nth(2).unwrap_or(area.0);
    match kernel::stat_path(root) {
        Ok(stat) if stat.dev == entry.action.target.device => Err(Unsettled::Ever(format!(
            "its holding area {area} has been removed: whether it was in there is not known"
        ))),
        Ok(_) => Err(Unsettled::Now(format!(
            "its holding area {area} is not there: is its volume mounted?"
        ))),
        Err(error) if error.kind() == ErrorKind::NotFound => Err(Unsettled::Now(format!(
            "its holding area {area} is not there: is its volume mounted?"
        ))),
        Err(error) => Err(CallError::on(Op::Examine, root)(error).into()),
    }
}

pub(super) fn finish_removal(
    entry: &mut EntryRecord,
    area: &PrivateDir,
    inventory: Option<&Inventory>,
) -> Result<(EntryState, String), Unsettled> {
    let held = entry.held_name();
    let kept = || Shown(area.path().join(&held)).to_string();
    let Some(inventory) = inventory else {
        let message = format!("it is not known what of it may go; what is left is in {}", kept());
        return Err(Unsettled::Ever(message));
    };
    let freed = remove_rest(entry, area, inventory, &Leases::default(), false).map_err(
        |error| match error {
            RemovalError::Call(error) => {
                Unsettled::Now(format!("{}; what is left of it is in {}", error.whole(), kept()))
            }
            other => Unsettled::Ever(format!("{other}; what is left of it is in {}", kept())),
        },
    )?;
    area.sync()?;
    entry.freed += freed;
    let state = match (entry.state, &entry.action.deed) {
        (EntryState::Purging, _) => EntryState::Purged,
        (_, Deed::Archive { .. }) => EntryState::Archived,
        (_, Deed::Move { .. }) => EntryState::Moved,
        (_, Deed::Link) => EntryState::Linked,
        _ => EntryState::Deleted,
    };
    Ok((state, "removed to the end after it was cut off".to_owned()))
}

/// Removes what is left of a target of which some may be gone; tells the bytes that this freed. `is_unused`: see
/// [`Removal`].
pub(super) fn remove_rest(
    entry: &EntryRecord,
    area: &PrivateDir,
    inventory: &Inventory,
    leases: &Leases,
    is_unused: bool,
) -> Result<Bytes, RemovalError> {
    let mut freed = Bytes::ZERO;
    area.remove(
        entry.held_name().as_ref(),
        &mut Removal {
            inventory,
            strictness: Strictness::AfterCrash,
            leases,
            is_unused,
            path: &entry.action.target.path.0,
            own: &mut OwnChanges::default(),
            gone: &mut |stat, _| {
                if stat.kind == Kind::Directory || stat.links < 2 {
                    freed += stat.allocated();
                }
            },
        },
    )?;
    Ok(freed)
}

/// Removes what a run has begun to write into depots and not given its name; says how often that failed. Only files
/// with the run's own random name are meant, and not of an archive for which something was taken away; a depot that is away
/// keeps them, and they do no harm.
fn clear_unfinished_archives(run: &RunRecord, entries: &PackedList<EntryRecord>) -> u64 {
    let (mut depots, mut used) = (BTreeSet::new(), BTreeSet::new());
    for entry in entries {
        if let Deed::Archive { depot } = &entry.action.deed {
            if !depots.contains(depot) {
                depots.insert(depot.clone());
            }
            if entry.archive.is_some() && !used.contains(depot) {
                used.insert(depot.clone());
            }
        }
    }
    let clear = |depot: &PathBuf| {
        let open = match is_store(depot) {
            // whoever begins a run with the network down does not wait long for this
            true => StoreDepot::open(depot, &Environment::of_process(), Patience::short())
                .map(|store| Box::new(store) as Box<dyn Depot>),
            false => DepotAddress::from(depot.as_path()).open_existing(),
        };
        open.is_ok_and(|depot| depot.clear_unfinished(&archive_name(&run.token)).is_err())
    };
    depots.difference(&used).filter(|depot| clear(depot)).count() as u64
}

/// A new plan of what a cut-off or stopped run has not begun, with the same records and guards;
/// `None` if nothing is left.
///
/// # Errors
///
/// [`PlanError::NoId`].
pub fn remainder(
    run: &RunRecord,
    entries: &PackedList<EntryRecord>,
    now: Time,
) -> Result<Option<Plan>, PlanError> {
    let waiting = entries.iter().filter(|entry| entry.state == EntryState::Waiting);
    let mut left = waiting.map(|entry| entry.action.clone()).peekable();
    if left.peek().is_none() {
        return Ok(None);
    }
    Plan::new(left, run.protect.clone(), now).map(Some)
}
