//! Making a copy another name of the file that stays.
//!
//! Both are compared in their places, under leases. Then a new name of the file that stays is made in the private
//! directory and exchanged with the copy in one step, so that there is a file under the copy's path at any time. The copy
//! then lies where every removed target lies, is compared once more and removed as they are. Owner, mode, times and
//! attributes of the copy go to the journal before that, so that a file of its own can be made again.

use std::ffi::OsStr;
use std::io::ErrorKind;
use std::os::fd::AsFd;
use std::path::Path;

use super::batch::TakenTarget;
use super::check::kept_copy;
use super::exchange::{drop_other_name, exchange};
use super::execute::Run;
use super::settle::{Unsettled, finish_removal, is_in_place};
use super::{EntryRecord, EntryState};
use crate::archive::Metadata;
use crate::kernel::{self, CallError, Inventory, Op, PrivateDir, Stat};
use crate::plan::{Deed, Located, Refusal, Target, locate};
use crate::shown::Shown;

/// The file that stays in place of a copy, if an action makes the copy another name of it.
pub(super) fn linked_to(entry: &EntryRecord) -> Option<&Target> {
    entry.action.stays.as_deref().filter(|_| entry.action.deed == Deed::Link)
}

/// Whether facts are those of the file that stays.
pub(super) fn is_linked(entry: &EntryRecord, stat: &Stat) -> bool {
    let same = |kept: &Target| {
        // the number of a device may change when the machine starts again
        kept.inode == stat.ino
            && (kept.device == stat.dev || (kept.size, kept.mtime) == (stat.size, stat.mtime))
    };
    linked_to(entry).is_some_and(same)
}

impl Run<'_> {
    /// Exchanges a target with another name of the copy that stays, after comparing both.
    pub(super) fn link_and_take(&mut self, one: &TakenTarget) -> Result<(), Refusal> {
        let path = self.entries[one.at].action.target.path.0.clone();
        let (located, held) = (one.located(), self.entries[one.at].held_name());
        self.compare_with_copy(one, located.parent.as_fd(), &located.name)?;
        let Some(kept) = self.entries[one.at].action.stays.clone() else {
            return Err(Refusal::Gone(path));
        };
        let open = self.open_target(one, located.parent.as_fd(), &located.name)?;
        let own = Metadata::of(&open.into(), &path)?;
        let entry = &mut self.entries[one.at];
        entry.action.own = Some(Box::new(own));
        entry.action_changed = true;
        let file = self.kept_copies[&(kept.device, kept.inode)].fd();
        let linked = one.area.link(file, held.as_ref());
        linked.map_err(CallError::on(Op::Link, &kept.path.0))?;
        let exchanged = match one.area.stat(held.as_ref())? {
            Some(stat) if is_linked(&self.entries[one.at], &stat) => {
                exchange(&one.area, held.as_ref(), &path, located, one.stat())
            }
            _ => Err(Refusal::Gone(one.area.path().join(&held))),
        };
        if exchanged.is_err()
            && let Err(refusal) = drop_other_name(&one.area, held.as_ref(), kept.inode)
        {
            tracing::warn!(area = %Shown(one.area.path()), reason = %refusal, "a name is left");
        }
        exchanged
    }

    /// Removes names of files that stay which are still in a private directory, although they have been given back.
    pub(super) fn drop_left_names(&self) {
        if !self.checks.overview.has(|deed| *deed == Deed::Link) {
            return;
        }
        for entry in self.entries.iter().filter(|entry| entry.state != EntryState::Linked) {
            let (Some(kept), Some(path)) = (linked_to(&entry), &entry.area) else { continue };
            let held = entry.held_name();
            let Some(area) = self.areas.all().find(|area| area.path() == path) else { continue };
            let left = area.stat(held.as_ref()).ok().flatten();
            if left.is_some_and(|left| is_linked(&entry, &left)) {
                // it is tried a second time, and stays where it is known
                let _ = drop_other_name(&area, held.as_ref(), kept.inode);
            }
        }
    }

    /// Gives a target its place back, from which another name of the copy that stays goes: undoes
    /// [`link_and_take`](Self::link_and_take).
    pub(super) fn unlink_and_give(&self, one: &TakenTarget) -> Result<(), Refusal> {
        let entry = &self.entries[one.at];
        undo(entry, &one.area, entry.held_name().as_ref(), one.located())
    }
}

fn undo(
    entry: &EntryRecord,
    area: &PrivateDir,
    held: &OsStr,
    located: &Located,
) -> Result<(), Refusal> {
    let path = &entry.action.target.path.0;
    let stranded =
        || Refusal::Stranded { path: path.clone(), held: area.path().join(entry.held_name()) };
    let kept = linked_to(entry).ok_or_else(stranded)?;
    let there = kernel::stat_at(&located.parent, located.name.as_os_str());
    let there = there.map_err(|_| stranded())?;
    if !is_linked(entry, &there) {
        return Err(stranded());
    }
    exchange(area, held, path, located, &there).map_err(|_| stranded())?;
    if let Err(refusal) = drop_other_name(area, held, kept.inode) {
        tracing::warn!(area = %Shown(area.path()), reason = %refusal, "a name is left");
    }
    Ok(())
}

fn still_stands(path: &Path, kept: &Target) -> Result<bool, Refusal> {
    match kept_copy(path, kept) {
        Ok(_) => Ok(true),
        Err(Refusal::NoCopy { .. }) => Ok(false),
        Err(other) => Err(other),
    }
}

/// How an action that was cut off while it made a copy another name of the file that stays comes to stand.
pub(super) fn settle_link(
    entry: &mut EntryRecord,
    area: &PrivateDir,
    inventory: Option<&Inventory>,
) -> Result<(EntryState, String), Unsettled> {
    let path = entry.action.target.path.0.clone();
    let held = entry.held_name();
    let Some(kept) = linked_to(entry).cloned() else {
        return Err(Unsettled::Ever("the journal does not have the copy that stays".to_owned()));
    };
    let located = match locate(&path) {
        Ok(located) => Some(located),
        Err(Refusal::Gone(_)) => None,
        Err(other) => return Err(other.into()),
    };
    let there = match located.as_ref().map(|at| kernel::stat_at(&at.parent, at.name.as_os_str())) {
        Some(Ok(stat)) => Some(stat),
        Some(Err(error)) if error.kind() != ErrorKind::NotFound => {
            return Err(CallError::on(Op::Examine, &path)(error).into());
        }
        _ => None,
    };
    let place_is_linked = there.is_some_and(|stat| is_linked(entry, &stat));
    let target = &entry.action.target;
    match area.stat(held.as_ref())? {
        None if entry.state == EntryState::Cleared && !is_in_place(entry)? => {
            // it is removed only after the exchange is durable
            Ok((EntryState::Linked, "finished just before the run was cut off".to_owned()))
        }
        None if is_in_place(entry)? => Ok((EntryState::Waiting, String::new())),
        None => Ok((EntryState::Refused, Refusal::Gone(path).to_string())),
        Some(stat) if is_linked(entry, &stat) => {
            drop_other_name(area, held.as_ref(), kept.inode)?;
            area.sync()?;
            match is_in_place(entry)? {
                true => Ok((EntryState::Waiting, String::new())),
                false => Ok((EntryState::Refused, Refusal::Gone(path).to_string())),
            }
        }
        Some(stat)
            if stat.ino == target.inode
                && entry.state == EntryState::Cleared
                && still_stands(&path, &kept)? =>
        {
            finish_removal(entry, area, inventory)
        }
        Some(stat) if stat.ino == target.inode && place_is_linked => {
            let Some(located) = located else { return Err(Refusal::Gone(path).into()) };
            undo(entry, area, held.as_ref(), &located)?;
            area.sync()?;
            rustix::fs::fsync(&located.parent).map_err(CallError::on(Op::Sync, &path))?;
            let now = kernel::stat_at(&located.parent, located.name.as_os_str())
                .map_err(CallError::on(Op::Examine, &path))?;
            let target = &mut entry.action.target;
            if (now.size, now.mtime) != (target.size, target.mtime) {
                let message = "given its place back after the run was cut off; it has changed";
                return Ok((EntryState::Refused, message.to_owned()));
            }
            // our own renames have changed the inode's change time, and nothing else has
            target.ctime = now.ctime;
            entry.action_changed = true;
            let message = "given its place back after the run was cut off".to_owned();
            Ok((EntryState::Waiting, message))
        }
        Some(_) => Err(Refusal::Stranded { path, held: area.path().join(held) }.into()),
    }
}
