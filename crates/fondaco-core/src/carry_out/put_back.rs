//! Undo: returning what was set aside or archived; and purging what is held.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::os::fd::AsFd;
use std::path::Path;

use super::execute::lock;
use super::holding::{Areas, directory_times, remove_if_empty, reopen};
use super::settle::settle_all;
use super::{CarryOutError, EntryRecord, EntryState, Journal};
use crate::archive::unpack;
use crate::kernel::{self, CallError, Kind, Op, PrivateDir};
use crate::plan::{Located, Refusal, locate};
use crate::state::State;
use crate::units::{Bytes, Time, UnitStyle};

/// What became of the actions that were asked for.
#[derive(Clone, Debug, Default)]
pub struct Returned {
    /// Those that were put back or purged, as they stand now.
    pub done: Vec<EntryRecord>,
    /// Those that could not be, each with the reason. They are where they were.
    pub refused: Vec<(EntryRecord, String)>,
    /// Bytes freed by purging.
    pub freed: Bytes,
}

/// Puts back what a run has set aside or archived: all of it, or the actions with these numbers.
/// Contents, owners, modes and times are those of the originals; the times of the directories that
/// hold them too, if nothing else has changed there since. Nothing is ever overwritten.
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
    each(run, numbers, state, now, EntryState::can_be_put_back, &mut |entry, areas| {
        let path = entry.action.target.path.0.clone();
        let located = locate(&path).map_err(|refusal| match refusal {
            Refusal::Gone(_) => Refusal::NotHeld {
                path: path.clone(),
                reason: "the directory that held it is gone; make it and try again".to_owned(),
            },
            other => other,
        })?;
        let before = directory_times(located.parent.as_fd());
        match entry.state {
            EntryState::Held => return_held(entry, &path, &located)?,
            _ => return_archived(entry, &path, &located, areas)?,
        }
        restore_directory_times(entry, &located, before);
        rustix::fs::fsync(&located.parent).map_err(CallError::on(Op::Sync, &path))?;
        entry.state = EntryState::PutBack;
        Ok(Bytes::ZERO)
    })
}

/// Removes what a run has set aside, for good: all of it, or the actions with these numbers.
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
    let is_held = |state| state == EntryState::Held;
    each(run, numbers, state, now, is_held, &mut |entry, _| {
        let area = area_of(entry)?;
        let mut freed = Bytes::ZERO;
        area.remove(entry.held_name().as_ref(), &mut |stat, _| {
            if stat.kind == Kind::Directory || stat.links < 2 {
                freed += stat.allocated();
            }
        })?;
        area.sync()?;
        (entry.state, entry.freed) = (EntryState::Purged, freed);
        Ok(freed)
    })
}

type Act<'a> = dyn FnMut(&mut EntryRecord, &mut Areas<'_>) -> Result<Bytes, Refusal> + 'a;

/// Does something to the chosen actions of a run, the last first: so the times of a directory that
/// several were taken from go back step by step.
fn each(
    run: i64,
    numbers: Option<&[u32]>,
    state: &State,
    now: Time,
    applies: fn(EntryState) -> bool,
    act: &mut Act<'_>,
) -> Result<Returned, CarryOutError> {
    kernel::raise_descriptor_limit();
    let _lock = lock(state)?;
    let mut journal = Journal::open(&state.journal_file())?;
    settle_all(&mut journal, now)?;
    let record = journal.run(run)?.ok_or(CarryOutError::NoSuchRun(run))?;
    let mut areas = Areas::new(state, &record.token);
    let mut returned = Returned::default();
    let chosen = |entry: &EntryRecord| match numbers {
        Some(numbers) => numbers.contains(&entry.action.number),
        None => applies(entry.state),
    };
    for mut entry in journal.entries(run)?.into_iter().rev().filter(chosen) {
        if !applies(entry.state) {
            let reason = format!("it is {}", entry.state.word());
            returned.refused.push((entry, reason));
            continue;
        }
        match act(&mut entry, &mut areas) {
            Ok(freed) => {
                entry.at = now.rfc3339();
                journal.write(run, std::slice::from_ref(&entry))?;
                returned.freed += freed;
                returned.done.push(entry);
            }
            Err(refusal) => returned.refused.push((entry, refusal.to_string())),
        }
    }
    areas.remove_empty();
    let held: BTreeSet<_> = returned.done.iter().filter_map(|entry| entry.area.as_ref()).collect();
    held.into_iter().for_each(|area| remove_if_empty(area));
    Ok(returned)
}

fn area_of(entry: &EntryRecord) -> Result<PrivateDir, Refusal> {
    let not_held = |reason: &str| Refusal::NotHeld {
        path: entry.action.target.path.0.clone(),
        reason: reason.to_owned(),
    };
    let area = entry.area.as_deref().ok_or_else(|| not_held("no holding area is known"))?;
    reopen(area).map_err(|refusal| match refusal {
        Refusal::Gone(_) => not_held("its holding area is gone"),
        other => other,
    })
}

fn return_held(entry: &EntryRecord, path: &Path, located: &Located) -> Result<(), Refusal> {
    let area = area_of(entry)?;
    let held = OsString::from(entry.held_name());
    if area.stat(&held)?.is_none() {
        return if is_in_place(entry, located) {
            Ok(()) // put back before, but cut off before the journal knew
        } else {
            let reason = "the holding area does not have it".to_owned();
            Err(Refusal::NotHeld { path: path.to_owned(), reason })
        };
    }
    give(&area, &held, path, located)?;
    Ok(area.sync()?)
}

fn return_archived(
    entry: &mut EntryRecord,
    path: &Path,
    located: &Located,
    areas: &mut Areas<'_>,
) -> Result<(), Refusal> {
    let archive = entry.archive.clone().ok_or_else(|| Refusal::NotHeld {
        path: path.to_owned(),
        reason: "no archive is known".to_owned(),
    })?;
    if kernel::stat_at(&located.parent, located.name.as_os_str()).is_ok() {
        return Err(Refusal::Occupied(path.to_owned()));
    }
    let parent = path.parent().unwrap_or(path);
    let capacity = kernel::capacity(parent).map_err(CallError::on(Op::Examine, parent))?;
    let needed = entry.action.target.allocated;
    if needed > capacity.free() {
        let style = UnitStyle::Binary;
        let (needed, free) = (needed.shown(style), capacity.free().shown(style));
        let reason = format!("it needs {needed}, and its volume has {free} free");
        return Err(Refusal::NotHeld { path: path.to_owned(), reason });
    }
    let area = areas.at(&areas.path_for(path, located)?)?;
    let held = OsString::from(format!("{}.back", entry.action.number));
    if area.stat(&held)?.is_some() {
        area.remove(&held, &mut |_, _| {})?; // of an attempt that was cut off
    }
    let unpacked = unpack(&archive, entry.action.number, &area, &held);
    if let Err(error) = unpacked {
        if area.stat(&held)?.is_some() {
            area.remove(&held, &mut |_, _| {})?;
        }
        return Err(Refusal::Archive(error.to_string()));
    }
    give(&area, &held, path, located)
}

fn give(area: &PrivateDir, held: &OsString, path: &Path, located: &Located) -> Result<(), Refusal> {
    area.give(held, &located.parent, &located.name).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => Refusal::Occupied(path.to_owned()),
        _ => CallError::on(Op::Rename, path)(error).into(),
    })
}

fn is_in_place(entry: &EntryRecord, located: &Located) -> bool {
    let target = &entry.action.target;
    kernel::stat_at(&located.parent, located.name.as_os_str())
        .is_ok_and(|stat| (stat.dev, stat.ino) == (target.device, target.inode))
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
