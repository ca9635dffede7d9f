//! Undo: returning what was set aside or archived.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::ffi::OsString;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::OFlags;

use super::execute::{BatchSize, lock};
use super::holding::{Areas, Reopened, directory_times, remove_if_empty};
use super::moving::{StagedBack, copy_back, return_renamed};
use super::own_file::return_own_file;
use super::settle::{is_in_place, settle_all};
use super::{CarryOutError, EntryRecord, EntryState, Journal};
use crate::archive::{Links, OpenArchive};
use crate::kernel::{self, CallError, FileLock, Inventory, Op, PrivateDir, open_beneath};
use crate::packed_list::PackedList;
use crate::plan::{Located, Locator, Refusal, Target};
use crate::shown::{Shown, shown};
use crate::state::State;
use crate::units::{Bytes, Time, UnitStyle, grouped};

/// What became of the actions that were asked for.
#[derive(Clone, Debug, Default)]
pub struct Returned {
    /// The entries that were put back or purged, as they stand now.
    pub done: PackedList<EntryRecord>,
    /// Directories that had been emptied in part before: the rest is back, and what is missing is listed.
    pub in_part: Vec<(EntryRecord, Missing)>,
    /// The entries that could not be put back or purged, each with the reason. They are where they were.
    pub refused: Vec<(EntryRecord, String)>,
    /// Bytes freed by purging.
    pub freed: Bytes,
}

/// What is missing of a target that was put back.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Missing {
    /// These paths below it, or an empty one for the target itself.
    Paths(Vec<PathBuf>),
    /// There is no list of what it held.
    NotKnown,
}

/// Puts back what a run has set aside or archived: all of it, or the actions with these numbers.
/// Contents, owners, modes and times are those of the originals; the times of the directories that
/// hold them too, if nothing else has changed there since. Nothing is ever overwritten. Of what was partly removed
/// the rest is put back.
///
/// # Errors
///
/// [`CarryOutError`]; what cannot be put back is no error but in the result.
pub fn put_back(
    run: i64,
    numbers: Option<&[u32]>,
    state: &State,
    now: Time,
) -> Result<Returned, CarryOutError> {
    let mut chosen = Chosen::open(run, numbers, state, now, EntryRecord::can_be_put_back)?;
    let token = chosen.token.clone();
    let mut places = Places {
        areas: Areas::of_run(state, &token),
        reopened: Reopened::default(),
        archives: None,
        unpacked: BTreeMap::new(),
        links: Links::default(),
        locator: Locator::default(),
    };
    // the last first: so the times of a directory that several were taken from go back step by step
    let mut rest = std::mem::take(&mut chosen.places);
    while !rest.is_empty() {
        places.unpack_ahead(rest.iter().rev().map(|place| &chosen.entries[*place as usize]));
        // what is still to be unpacked is not worth sharing a step of the journal for: a crash would leave more of it back
        // in its place that the journal still has in the archive
        let mut size = BatchSize::new();
        let goes = |entry: &&EntryRecord| {
            (entry.state == EntryState::Held || places.unpacked.contains_key(&entry.action.number))
                && size.takes(entry.action.target.entries)
        };
        let last = rest.iter().rev().map(|place| &chosen.entries[*place as usize]);
        let length = last.take_while(goes).count().max(1);
        let batch = chosen.take(&rest.split_off(rest.len() - length));
        put_back_batch(batch, &mut chosen, &mut places, now)?;
    }
    places.clear_unpacked();
    places.areas.remove_empty();
    Ok(chosen.end("put back"))
}

/// Where things are put back from and to, kept from one to the next: most come from one archive or area.
pub(super) struct Places<'a> {
    pub(super) areas: Areas<'a>,
    reopened: Reopened,
    pub(super) archives: Option<OpenArchive>,
    /// The areas of targets that lie there unpacked and durable, by the numbers of their actions.
    pub(super) unpacked: BTreeMap<u32, Arc<PrivateDir>>,
    /// What has been copied back and has more names.
    links: Links,
    pub(super) locator: Locator,
}

/// Puts a batch back, the last first; when this returns, what became of each is in the journal.
fn put_back_batch(
    batch: Vec<EntryRecord>,
    chosen: &mut Chosen,
    places: &mut Places<'_>,
    now: Time,
) -> Result<(), CarryOutError> {
    places.locator.forget();
    let mut parents: BTreeMap<PathBuf, Arc<OwnedFd>> = BTreeMap::new();
    let mut back = Vec::new();
    for mut entry in batch.into_iter().rev() {
        let is_whole = entry.state.is_done();
        let inventory = match is_whole {
            true => None,
            false => chosen.journal.inventory(chosen.run, entry.action.number)?,
        };
        match return_one(&mut entry, inventory.as_ref(), places) {
            Ok((back_now, located)) => {
                let path = &entry.action.target.path.0;
                let parent = path.parent().unwrap_or(path).to_owned();
                parents.entry(parent).or_insert(located.parent);
                back.push((entry, back_now));
            }
            Err(refusal) => chosen.returned.refused.push((entry, refusal.to_string())),
        }
    }
    // that something is back must not be in the journal before the device knows it
    let synced = parents.iter().try_for_each(|(path, parent)| {
        rustix::fs::fsync(parent).map_err(CallError::on(Op::Sync, path))
    });
    if let Err(error) =
        synced.and_then(|()| places.reopened.sync()).and_then(|()| places.areas.sync())
    {
        let reason = format!("{}; it is back, which the device may not keep", error.whole());
        chosen.returned.refused.extend(back.into_iter().map(|(entry, _)| (entry, reason.clone())));
        return Ok(());
    }
    let mut records = Vec::new();
    for (mut entry, back) in back {
        (entry.state, entry.message) = match &back {
            Back::Whole => (EntryState::PutBack, String::new()),
            Back::AsItIs(message) => (EntryState::PutBack, message.clone()),
            Back::Copied(_) => (EntryState::PutBack, copy_stays(&entry)),
            Back::InPart(missing) => {
                (EntryState::PutBackInPart, missing.words(&entry.action.target))
            }
        };
        entry.at = now.rfc3339();
        records.push((entry, back));
    }
    chosen.journal.write(chosen.run, records.iter().map(|(entry, _)| entry))?;
    for (mut entry, back) in records {
        match back {
            Back::Whole | Back::AsItIs(_) => chosen.returned.done.push(entry),
            Back::Copied(copy) => {
                entry.message = match copy.remove_source(&entry, &mut places.areas, now) {
                    Ok(()) => String::new(),
                    Err(refusal) => format!("{}: {refusal}", copy_stays(&entry)),
                };
                chosen.journal.write(chosen.run, [&entry])?;
                chosen.returned.done.push(entry);
            }
            Back::InPart(missing) => chosen.returned.in_part.push((entry, missing)),
        }
    }
    Ok(())
}

/// How a target is back in its place.
enum Back {
    Whole,
    /// As a file of its own, of which the message says what is to be known.
    AsItIs(String),
    /// As a copy of what was moved, which still lies where it was moved to.
    Copied(Box<StagedBack>),
    InPart(Missing),
}

fn copy_stays(entry: &EntryRecord) -> String {
    format!("its copy is still at {}", Shown(&entry.destination().unwrap_or_default()))
}

/// Puts one target back, which the device may not know yet; tells how it is back, and where it was put.
fn return_one(
    entry: &mut EntryRecord,
    inventory: Option<&Inventory>,
    places: &mut Places<'_>,
) -> Result<(Back, Located), Refusal> {
    let path = entry.action.target.path.0.clone();
    let located = places.locator.locate(&path).map_err(|refusal| match refusal {
        Refusal::Gone(_) => Refusal::NotHeld {
            path: path.clone(),
            reason: "the directory that held it is gone; make it and try again".to_owned(),
        },
        other => other,
    })?;
    let before = directory_times(located.parent.as_fd());
    let mut back = Back::Whole;
    match entry.state {
        EntryState::Linked | EntryState::Shared => {
            if let Some(message) = return_own_file(entry, &located, &mut places.areas)? {
                back = Back::AsItIs(message);
            }
        }
        EntryState::Held => return_held(entry, &path, &located, &mut places.reopened)?,
        EntryState::Moved if return_renamed(entry, &located)? => {}
        EntryState::Moved => {
            back = Back::Copied(Box::new(return_copied(entry, &path, &located, places)?));
        }
        EntryState::Archived => places.return_archived(entry, &path, &located)?,
        _ if entry.archive.is_some() => places.return_archived(entry, &path, &located)?,
        _ => {
            match return_rest(entry, &path, &located, inventory, &mut places.reopened)? {
                Missing::Paths(paths) if paths.is_empty() => {} // it was not begun after all
                missing => back = Back::InPart(missing),
            }
        }
    }
    restore_directory_times(entry, &located, before);
    Ok((back, located))
}

impl Missing {
    fn words(&self, target: &Target) -> String {
        match self {
            Self::NotKnown => "some of it had been removed; what is not known".to_owned(),
            Self::Paths(paths) => {
                let (gone, of) = (grouped(paths.len() as u64), grouped(target.entries));
                format!("{gone} of its {of} entries had been removed")
            }
        }
    }
}

/// The actions of a run that something is to be done to, under the lock.
struct Chosen {
    run: i64,
    token: String,
    journal: Journal,
    /// All actions of the run.
    entries: PackedList<EntryRecord>,
    /// The places of those that something is done to, in order.
    places: Vec<u32>,
    returned: Returned,
    _lock: FileLock,
}

impl Chosen {
    fn open(
        run: i64,
        numbers: Option<&[u32]>,
        state: &State,
        now: Time,
        applies: impl Fn(&EntryRecord) -> bool,
    ) -> Result<Self, CarryOutError> {
        kernel::raise_descriptor_limit();
        let lock = lock(state)?;
        let mut journal = Journal::open(&state.journal_file())?;
        settle_all(&mut journal, state, now)?;
        let record = journal.run(run)?.ok_or(CarryOutError::NoSuchRun(run))?;
        let mut returned = Returned::default();
        let (entries, mut places) = (journal.entries(run)?, Vec::new());
        let numbers = numbers.map(|numbers| numbers.iter().copied().collect::<HashSet<u32>>());
        for (place, entry) in (0..).zip(&entries) {
            let wanted = numbers.as_ref().map(|numbers| numbers.contains(&entry.action.number));
            match (wanted, applies(&entry)) {
                (None | Some(true), true) => places.push(place),
                (Some(true), false) => {
                    let reason = format!("it is {}", entry.state.word());
                    returned.refused.push((entry.clone(), reason));
                }
                _ => {}
            }
        }
        Ok(Self { run, token: record.token, journal, entries, places, returned, _lock: lock })
    }

    /// The entries at some places, which are not asked for a second time.
    fn take(&mut self, places: &[u32]) -> Vec<EntryRecord> {
        let taken = places.iter().map(|place| self.entries[*place as usize].clone()).collect();
        self.entries.trim();
        taken
    }

    fn end(self, what: &'static str) -> Returned {
        let returned = self.returned;
        let (done, refused) = (returned.done.len(), returned.refused.len());
        tracing::info!(run = self.run, done, in_part = returned.in_part.len(), refused, "{what}");
        for (entry, reason) in &returned.refused {
            let target = Shown(entry.action.place()).to_string();
            tracing::warn!(run = self.run, target, reason = %shown(reason), "not {what}");
        }
        let mut areas: BTreeSet<PathBuf> =
            returned.in_part.iter().filter_map(|(entry, _)| entry.area.clone()).collect();
        for entry in &returned.done {
            areas.extend(entry.area.clone().filter(|area| !areas.contains(area)));
        }
        areas.into_iter().for_each(|area| remove_if_empty(&area));
        returned
    }
}

pub(super) fn area_of(
    entry: &EntryRecord,
    areas: &mut Reopened,
) -> Result<Arc<PrivateDir>, Refusal> {
    let not_held = |reason: &str| Refusal::NotHeld {
        path: entry.action.target.path.0.clone(),
        reason: reason.to_owned(),
    };
    let area = entry.area.as_deref().ok_or_else(|| not_held("no holding area is known"))?;
    areas.at(area).map_err(|refusal| match refusal {
        Refusal::Gone(_) => not_held("its holding area is gone"),
        other => other,
    })
}

fn return_held(
    entry: &EntryRecord,
    path: &Path,
    located: &Located,
    areas: &mut Reopened,
) -> Result<(), Refusal> {
    let area = area_of(entry, areas)?;
    let held = OsString::from(entry.held_name());
    if area.stat(&held)?.is_none() {
        return match is_in_place(entry)? {
            true => Ok(()), // put back before, but cut off before the journal knew
            false => {
                let reason = "the holding area does not have it".to_owned();
                Err(Refusal::NotHeld { path: path.to_owned(), reason })
            }
        };
    }
    give(&area, &held, path, located)
}

/// Refuses what its old volume has no room for.
pub(super) fn has_room(path: &Path, needed: Bytes) -> Result<(), Refusal> {
    let parent = path.parent().unwrap_or(path);
    let capacity = kernel::capacity(parent).map_err(CallError::on(Op::Examine, parent))?;
    if needed <= capacity.free() {
        return Ok(());
    }
    let style = UnitStyle::Binary;
    let (needed, free) = (needed.shown(style), capacity.free().shown(style));
    let reason = format!("it needs {needed}, and its volume has {free} free");
    Err(Refusal::NotHeld { path: path.to_owned(), reason })
}

/// Copies what was moved to another volume back to its place.
fn return_copied(
    entry: &EntryRecord,
    path: &Path,
    located: &Located,
    places: &mut Places<'_>,
) -> Result<StagedBack, Refusal> {
    is_free(path, located)?;
    let back = copy_back(entry, located, &mut places.areas, &mut places.links)?;
    back.give(path, located)?;
    Ok(back)
}

pub(super) fn is_free(path: &Path, located: &Located) -> Result<(), Refusal> {
    match kernel::stat_at(&located.parent, located.name.as_os_str()) {
        Ok(_) => Err(Refusal::Occupied(path.to_owned())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(CallError::on(Op::Examine, path)(error).into()),
    }
}

/// Gives what is left of a target its place back, and tells what is missing.
fn return_rest(
    entry: &EntryRecord,
    path: &Path,
    located: &Located,
    inventory: Option<&Inventory>,
    areas: &mut Reopened,
) -> Result<Missing, Refusal> {
    let area = area_of(entry, areas)?;
    let held = OsString::from(entry.held_name());
    if area.stat(&held)?.is_none() {
        let reason = "the holding area does not have it".to_owned();
        return Err(Refusal::NotHeld { path: path.to_owned(), reason });
    }
    let missing = match inventory {
        None => Missing::NotKnown,
        Some(inventory) => Missing::Paths(missing(&area, &held, inventory)?),
    };
    give(&area, &held, path, located)?;
    Ok(missing)
}

/// The paths of a list that are not there.
pub(super) fn missing(
    area: &PrivateDir,
    held: &OsString,
    inventory: &Inventory,
) -> Result<Vec<PathBuf>, Refusal> {
    let unreadable = |error| CallError::on(Op::Read, area.path())(error);
    let mut missing = Vec::new();
    for entry in inventory.paths().map_err(unreadable)? {
        let (path, _) = entry.map_err(unreadable)?;
        let flags = OFlags::PATH | OFlags::NOFOLLOW;
        let place = Path::new(held).join(&path).components().collect::<PathBuf>();
        let parent = place.parent().unwrap_or(Path::new(""));
        // its directory is missing too, and stands in the list before it
        if missing.iter().rev().any(|above| path.starts_with(above)) {
            missing.push(path);
            continue;
        }
        let parent = open_beneath(area.fd(), parent, flags | OFlags::DIRECTORY)
            .map_err(CallError::on(Op::OpenDirectory, area.path().join(parent)))?;
        match kernel::stat_at(parent, place.file_name().unwrap_or(held)) {
            Ok(_) => {}
            Err(error) if error.kind() == io::ErrorKind::NotFound => missing.push(path),
            Err(error) => {
                return Err(CallError::on(Op::Examine, area.path().join(place))(error).into());
            }
        }
    }
    Ok(missing)
}

pub(super) fn give(
    area: &PrivateDir,
    held: &OsString,
    path: &Path,
    located: &Located,
) -> Result<(), Refusal> {
    area.give(held, &located.parent, &located.name).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => Refusal::Occupied(path.to_owned()),
        _ => CallError::on(Op::Rename, path)(error).into(),
    })
}

/// If the directory has not been written since our own act, it gets the times it had before that.
fn restore_directory_times(entry: &EntryRecord, located: &Located, now: Option<(Time, Time)>) {
    let written = now.map(|(_, written)| written);
    if let (Some((read, mtime)), true) =
        (entry.parent_before, written.is_some() && written == entry.parent_after)
    {
        // the entry is back either way; a directory's times are not worth failing for
        let _ = rustix::fs::futimens(&located.parent, &crate::archive::times(read, mtime));
    }
}
