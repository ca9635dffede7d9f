//! Taking away a batch of targets: intended, taken, compared, cleared and removed together, so that the journal is
//! synced a few times for many.

use std::collections::HashMap;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::ahead::{FilePlace, LeasedFile, LeasesAhead};
use super::execute::Run;
use super::holding::directory_times;
use super::{CarryOutError, EntryRecord, EntryState};
use crate::kernel::{
    self, CallError, Facts, Inventory, InventoryWriter, Kind, Lease, NoLease, Op, PrivateDir,
    Removal, RemovalError, Stat, Strictness,
};
use crate::plan::{Action, Deed, Located, Refusal, Touched, list_at, survey_at};
use crate::shown::Shown;
use crate::units::{Bytes, Time, counted, grouped};

/// So many files are leased ahead of the one that is taken: a few milliseconds.
const FAR_AHEAD: usize = 96;

/// A target that lies in the private directory.
pub(super) struct TakenTarget {
    /// Number of the entry in the run.
    pub(super) at: usize,
    located: Located,
    pub(super) area: Arc<PrivateDir>,
    /// What stood in the place just before it was moved.
    before: Stat,
    /// It is kept still by a lease; not so what is no file, or where leases are not to be had.
    is_leased: bool,
    /// What it was right after it was moved, if it is a leased file: nobody can have changed it since.
    moved: Option<Stat>,
}

impl TakenTarget {
    /// What stood in the place just before it was moved.
    pub(super) fn stat(&self) -> &Stat {
        &self.before
    }

    /// The directory that it was taken from, and its name there.
    pub(super) fn located(&self) -> &Located {
        &self.located
    }
}

/// The directory of a target that has been opened, with what its neighbours there have in common with it.
struct OpenedPlace {
    /// Of the target.
    path: PathBuf,
    located: Located,
    area: Arc<PrivateDir>,
    times: Option<(Time, Time)>,
}

impl OpenedPlace {
    /// Another target, if its path names the same directory.
    fn neighbour(&self, path: &Path) -> Option<Located> {
        let (directory, name) = kernel::directory_and_name(path)?;
        let (known, _) = kernel::directory_and_name(&self.path)?;
        let is_same = known.as_os_str() == directory.as_os_str();
        is_same.then(|| Located {
            parent: Arc::clone(&self.located.parent),
            name: name.to_owned(),
            mount_point: Arc::clone(&self.located.mount_point),
        })
    }
}

impl Run<'_> {
    /// Takes a batch away. When this returns, what became of each is in the journal.
    pub(super) fn remove_batch(&mut self, batch: &[usize]) -> Result<(), CarryOutError> {
        self.checks.forget_place();
        let outcome = self.remove_intended(batch);
        self.lease_return.give_back(&mut self.leases);
        self.kept_copies.clear();
        outcome
    }

    fn remove_intended(&mut self, batch: &[usize]) -> Result<(), CarryOutError> {
        let mut taken = Vec::new();
        let ready = self.intend(batch)?;
        // before anything is taken: a failure in between would leave what was to the next start
        let mut parents: HashMap<PathBuf, Arc<OwnedFd>> = HashMap::new();
        let mut last: Option<&Arc<OwnedFd>> = None;
        for (at, located, _) in &ready {
            // neighbours mostly lie in one directory
            if last.is_some_and(|last| Arc::ptr_eq(last, &located.parent)) {
                continue;
            }
            last = Some(&located.parent);
            let path = &self.entries[*at].action.target.path.0;
            if let Some((parent, _)) = kernel::directory_and_name(path)
                && !parents.contains_key(parent)
            {
                parents.insert(parent.to_owned(), Arc::clone(&located.parent));
            }
        }
        let files = ready.iter().map(|(at, located, _)| self.leased_ahead(*at, located)).collect();
        let mut ahead = LeasesAhead::begin(files, FAR_AHEAD);
        for (at, located, area) in ready {
            let leased = ahead.next();
            if !self.goes_on("removing", at) {
                self.entries[at].state = EntryState::Waiting;
                continue;
            }
            match self.take(at, located, area, leased) {
                Ok(one) => taken.push(one),
                Err(refusal) => self.refuse(at, refusal),
            }
        }
        drop(ahead);
        let cleared = self.compare_all(taken)?;
        let cleared = self.place_all(cleared);
        for (one, inventory) in &cleared {
            if matches!(self.entries[one.at].action.deed, Deed::SetAside) {
                self.conclude_beside_copy(one);
            } else if self.is_moved_by_name(one) {
                self.conclude(one.at, EntryState::Moved, String::new());
            } else if self.is_moved(one) {
                self.remove(one, inventory);
            } else if self.goes_on("removing", one.at) {
                match self.copy_still_stands(one) {
                    Ok(()) => self.remove(one, inventory),
                    Err(refusal) => {
                        let refusal = self.give_back(one, refusal);
                        self.refuse(one.at, refusal);
                    }
                }
            } else {
                self.leave_for_later(one);
            }
        }
        // an outcome must not be in the journal before the device knows it
        for (path, parent) in parents {
            rustix::fs::fsync(&parent).map_err(CallError::on(Op::Sync, path))?;
        }
        self.areas.sync()?;
        // what is set aside keeps its list for the day when it is purged
        let is_held = |at: usize| self.entries[at].state == EntryState::Held;
        let lists: FxHashMap<usize, &Inventory> = cleared
            .iter()
            .filter(|(one, _)| is_held(one.at))
            .map(|(one, list)| (one.at, list))
            .collect();
        let records = batch.iter().map(|at| (&self.entries[*at], lists.get(at).copied()));
        Ok(self.journal.write_with(self.id, records)?)
    }

    /// Step 1: what may be touched at all is written down as intended, with where it will be held. The private
    /// directory is there before that, so that what is not in it later was never taken.
    fn intend(
        &mut self,
        batch: &[usize],
    ) -> Result<Vec<(usize, Located, Arc<PrivateDir>)>, CarryOutError> {
        let mut ready: Vec<(usize, Located, Arc<PrivateDir>)> = Vec::new();
        // nothing is changed yet, and neighbours in one directory have it, its times and its area in common
        let mut last: Option<OpenedPlace> = None;
        for at in batch {
            let action = &self.entries[*at].action;
            let path = &action.target.path.0;
            let opened = self.checks.permitted(action).and_then(|()| {
                if let Some(last) = last.as_ref()
                    && let Some(located) = last.neighbour(path)
                {
                    return Ok((located, Arc::clone(&last.area), last.times));
                }
                let located = self.checks.locate(path)?;
                let area = self.areas.of(path, &located)?;
                let times = directory_times(located.parent.as_fd());
                last = Some(OpenedPlace {
                    path: path.clone(),
                    located: located.clone(),
                    area: Arc::clone(&area),
                    times,
                });
                Ok((located, area, times))
            });
            match opened {
                Ok((located, area, times)) => {
                    let entry = &mut self.entries[*at];
                    entry.area = Some(area.path().to_owned());
                    entry.parent_before = times;
                    entry.state = EntryState::Intended;
                    ready.push((*at, located, area));
                }
                Err(refusal) => self.refuse(*at, refusal),
            }
        }
        self.journal.write(self.id, batch.iter().map(|at| &self.entries[*at]))?;
        Ok(ready)
    }

    /// Where the file of an action is, if it can be leased ahead: what has several names goes one after the other.
    fn leased_ahead(&self, at: usize, located: &Located) -> Option<FilePlace> {
        let action = &self.entries[at].action;
        let is_leased = matches!(action.deed, Deed::Delete | Deed::SetAside)
            && action.target.kind == Kind::File
            && action.target.links == 1;
        is_leased.then(|| (Arc::clone(&located.parent), located.name.clone()))
    }

    /// Steps 2 and 3: looked at, kept still, looked at again by descriptor, and moved.
    fn take(
        &mut self,
        at: usize,
        located: Located,
        area: Arc<PrivateDir>,
        leased: Option<LeasedFile>,
    ) -> Result<Box<TakenTarget>, Refusal> {
        if self.entries[at].action.emptied {
            self.look_at_emptied(at, &located)?;
        }
        if matches!(self.entries[at].action.deed, Deed::Delete | Deed::SetAside)
            && let Some(before) = self.lease_file(at, &located, leased)?
        {
            return self.take_leased(at, located, area, before);
        }
        let action = self.entries[at].action.clone();
        let path = &action.target.path.0;
        let (dev, ino) = (action.target.device, action.target.inode);
        if action.target.kind == Kind::File && self.leases.of(dev, ino).is_none() {
            match lease(&located, path)? {
                Some(lease) => {
                    let stat = kernel::stat_descriptor(lease.file());
                    let stat = stat.map_err(CallError::on(Op::Examine, path))?;
                    self.leases.hold(&stat, lease);
                }
                None => self.checks.refresh((self.clock)()),
            }
        }
        // what was leased may be another file than the one that was reviewed: that is compared now
        self.checks.target(&action, &self.touched)?;
        let before = kernel::stat_at(&located.parent, located.name.as_os_str())
            .map_err(CallError::on(Op::Examine, path))?;
        let is_leased = self.leases.of(before.dev, before.ino).is_some();
        let reviewed = self.touched.as_reviewed(before);
        if let Some(difference) = action.target.inode_difference(path, &reviewed) {
            return Err(Refusal::Changed { path: path.clone(), difference });
        }
        self.entries[at].parent_before = directory_times(located.parent.as_fd());
        let held = self.entries[at].held_name();
        let one = Box::new(TakenTarget { at, located, area, before, is_leased, moved: None });
        let located = &one.located;
        match action.deed {
            Deed::Link => self.link_and_take(&one)?,
            _ => one
                .area
                .take(&located.parent, &located.name, held.as_ref())
                .map_err(CallError::on(Op::Rename, path))?,
        }
        self.entries[at].parent_after =
            directory_times(one.located.parent.as_fd()).map(|(_, written)| written);
        match self.look_after_move(&one, &held) {
            Ok(_) => Ok(one),
            Err(refusal) => Err(self.give_back(&one, refusal)),
        }
    }

    /// Step 2 for a regular file, in the fewest calls: leases it, and compares it with its record by descriptor. `None` if
    /// it is none, or cannot be leased: then it goes the way of all others. `leased` is what was leased in its place ahead.
    fn lease_file(
        &mut self,
        at: usize,
        located: &Located,
        leased: Option<LeasedFile>,
    ) -> Result<Option<Stat>, Refusal> {
        let action = &self.entries[at].action;
        let target = &action.target;
        let path = &target.path.0;
        if target.kind != Kind::File || self.leases.of(target.device, target.inode).is_some() {
            return Ok(None);
        }
        let is_target =
            |file: &LeasedFile| (file.stat.dev, file.stat.ino) == (target.device, target.inode);
        if let Some(LeasedFile { lease, stat }) = leased.filter(is_target) {
            self.checks.leased_file(action, located, &stat, &self.touched)?;
            self.leases.hold(&stat, lease);
            return Ok(Some(stat));
        }
        let found = match kernel::stat_at(&located.parent, located.name.as_os_str()) {
            Ok(found) => found,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Err(Refusal::Gone(path.clone()));
            }
            Err(error) => return Err(CallError::on(Op::Examine, path)(error).into()),
        };
        if (found.kind, found.dev, found.ino) != (target.kind, target.device, target.inode) {
            return Ok(None);
        }
        let file = match kernel::open_found_file(&located.parent, located.name.as_os_str()) {
            Ok(file) => file,
            // somebody else has a lease on it
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                return Err(Refusal::InUse { path: path.clone(), holder: None });
            }
            Err(_) => return Ok(None),
        };
        let lease = match Lease::take(file) {
            Ok(lease) => lease,
            Err((_, NoLease::InUse)) => {
                return Err(Refusal::InUse { path: path.clone(), holder: None });
            }
            Err((_, NoLease::Unavailable(_))) => return Ok(None),
        };
        let stat = kernel::stat_descriptor(lease.file());
        let stat = stat.map_err(CallError::on(Op::Examine, path))?;
        self.checks.leased_file(action, located, &stat, &self.touched)?;
        self.leases.hold(&stat, lease);
        Ok(Some(stat))
    }

    /// Step 3 for a leased file.
    fn take_leased(
        &mut self,
        at: usize,
        located: Located,
        area: Arc<PrivateDir>,
        before: Stat,
    ) -> Result<Box<TakenTarget>, Refusal> {
        let held = self.entries[at].held_name();
        self.entries[at].parent_before = directory_times(located.parent.as_fd());
        let taken = area.take(&located.parent, &located.name, held.as_ref());
        taken.map_err(|error| {
            CallError::on(Op::Rename, &self.entries[at].action.target.path.0)(error)
        })?;
        self.entries[at].parent_after =
            directory_times(located.parent.as_fd()).map(|(_, written)| written);
        let taken = TakenTarget { at, located, area, before, is_leased: true, moved: None };
        let mut one = Box::new(taken);
        match self.look_after_move(&one, &held) {
            Ok(moved) => {
                // another of its names may be taken next, which changes the inode
                one.moved = (moved.links == 1).then_some(moved);
                Ok(one)
            }
            Err(refusal) => Err(self.give_back(&one, refusal)),
        }
    }

    /// Makes sure that a directory is empty now, and takes what it is by now for its record: what went from it has changed
    /// its times.
    fn look_at_emptied(&mut self, at: usize, located: &Located) -> Result<(), Refusal> {
        let entry = &mut self.entries[at];
        let path = entry.action.target.path.0.clone();
        let (parent, touched) = (located.parent.as_fd(), Touched::default());
        let found = survey_at(parent, &located.name, &path, &touched, &mut |_| Ok(()))?.target;
        let was = &entry.action.target;
        if (found.kind, found.device, found.inode) != (was.kind, was.device, was.inode) {
            let difference = "another entry is in its place".to_owned();
            return Err(Refusal::Changed { path, difference });
        }
        if found.entries > 1 {
            let reason = format!("it still holds {}", counted(found.entries - 1, "entry"));
            return Err(Refusal::Hopeless { path, reason });
        }
        entry.action.target = found;
        entry.action_changed = true;
        Ok(())
    }

    /// Beside the rename: it is the very inode, and nothing but its change time is different.
    fn look_after_move(&mut self, one: &TakenTarget, held: &str) -> Result<Stat, Refusal> {
        let path = &self.entries[one.at].action.target.path.0;
        let moved = one.area.stat(held.as_ref())?;
        let moved = moved.ok_or_else(|| Refusal::Gone(one.area.path().join(held)))?;
        // the rename itself changes the change time
        let expected = Facts { ctime: moved.ctime, ..Facts::of(&one.before) };
        if moved.kind != Kind::Directory {
            if Facts::of(&moved) != expected {
                let difference = "another entry came to its place, or it was written to".to_owned();
                return Err(Refusal::Changed { path: path.clone(), difference });
            }
            // our own rename is a change of the inode, which its other names have in common with it
            if moved.links > 1 {
                self.touched.note(&one.before, &moved);
            }
        }
        match self.leases.of(moved.dev, moved.ino) {
            Some(lease) if !lease.is_unbroken().map_err(CallError::on(Op::Examine, path))? => {
                Err(Refusal::InUse { path: path.clone(), holder: None })
            }
            _ => Ok(moved),
        }
    }

    /// Step 4 for all that were taken, and the journal's word that those which pass may be removed.
    #[expect(clippy::vec_box, reason = "some hundred bytes, which go from list to list")]
    fn compare_all(
        &mut self,
        taken: Vec<Box<TakenTarget>>,
    ) -> Result<Vec<(Box<TakenTarget>, Inventory)>, CarryOutError> {
        // what lies in the private directory can no longer be opened by its old path, so open files that are
        // collected now are all that there will be
        if taken.iter().any(|one| !one.is_leased) {
            self.checks.look_who_has_what_open((self.clock)());
        }
        let mut cleared = Vec::new();
        for one in taken {
            let compared = self.compare(&one).and_then(|list| {
                if matches!(self.entries[one.at].action.deed, Deed::Link) && one.is_leased {
                    // compared before it was taken, and kept still since
                    self.copy_still_stands(&one)?;
                } else {
                    let held = self.entries[one.at].held_name();
                    let area = Arc::clone(&one.area);
                    self.compare_with_copy(&one, area.fd().as_fd(), held.as_ref())?;
                }
                Ok(list)
            });
            match compared {
                Ok(inventory) => cleared.push((one, inventory)),
                Err(refusal) => {
                    let refusal = self.give_back(&one, refusal);
                    self.refuse(one.at, refusal);
                }
            }
        }
        if let Err(error) = self.clear(&cleared) {
            for (one, _) in &cleared {
                self.give_back(one, Refusal::Gone(one.area.path().to_owned()));
            }
            return Err(error);
        }
        Ok(cleared)
    }

    /// Writes down, with the lists, that what has been compared may be removed. What is set aside stays, so that nothing
    /// has to be known of it before its outcome.
    fn clear(&mut self, compared: &[(Box<TakenTarget>, Inventory)]) -> Result<(), CarryOutError> {
        if compared.is_empty() {
            return Ok(());
        }
        let stays = |entry: &EntryRecord| matches!(entry.action.deed, Deed::SetAside);
        for (one, _) in compared {
            let entry = &mut self.entries[one.at];
            if !stays(entry) {
                entry.state = EntryState::Cleared;
            }
        }
        // after a power cut, what the journal has as cleared must not stand in its old place, and what is linked must
        for (one, _) in compared {
            if matches!(self.entries[one.at].action.deed, Deed::Link) {
                let path = &self.entries[one.at].action.target.path.0;
                rustix::fs::fsync(&one.located.parent).map_err(CallError::on(Op::Sync, path))?;
            }
        }
        self.areas.sync()?;
        let records = compared.iter().map(|(one, list)| (&self.entries[one.at], Some(list)));
        let records: Vec<_> = records.filter(|(entry, _)| !stays(entry)).collect();
        match records.is_empty() {
            true => Ok(()),
            false => Ok(self.journal.write_with(self.id, records)?),
        }
    }

    fn compare(&self, one: &TakenTarget) -> Result<Inventory, Refusal> {
        let entry = &self.entries[one.at];
        let (target, held) = (&entry.action.target, entry.held_name());
        let path = &target.path.0;
        if let Some(moved) = &one.moved {
            // compared before and right after the move, and leased all the time
            let failed = |error: io::Error| CallError::on(Op::Write, path)(error);
            let mut list = InventoryWriter::new().map_err(failed)?;
            list.add(0, held.as_ref(), moved).map_err(failed)?;
            return Ok(list.finish().map_err(failed)?);
        }
        let mut guard = self.checks.guard(path);
        let here = one.area.fd().as_fd();
        let (found, inventory) =
            list_at(here, held.as_ref(), path, &self.touched, &mut |visit| guard.pass(&visit))?;
        if let Some(difference) = target.difference(&found.target, true) {
            return Err(Refusal::Changed { path: path.clone(), difference });
        }
        guard.in_use()?;
        if !one.is_leased {
            self.checks.sees_who_has_what_open(path)?;
        }
        Ok(inventory)
    }

    /// Gives a target its place back, and says what to tell of it then.
    pub(super) fn give_back(&mut self, one: &TakenTarget, refusal: Refusal) -> Refusal {
        let entry = &self.entries[one.at];
        let held = entry.held_name();
        let before = one.area.stat(held.as_ref()).ok().flatten();
        if matches!(entry.action.deed, Deed::Link) {
            if let Err(stranded) = self.unlink_and_give(one) {
                return stranded;
            }
        } else if one.area.give(held.as_ref(), &one.located.parent, &one.located.name).is_err() {
            let path = entry.action.target.path.0.clone();
            return Refusal::Stranded { path, held: one.area.path().join(held) };
        }
        let after = kernel::stat_at(&one.located.parent, one.located.name.as_os_str()).ok();
        if let Some((before, after)) = before.zip(after)
            && before.kind != Kind::Directory
            && before.links > 1
        {
            self.touched.note(&before, &after);
        }
        refusal
    }

    /// What is to be set aside stays where it is now, unless the copy that was to stay is not there any more.
    fn conclude_beside_copy(&mut self, one: &TakenTarget) {
        match self.copy_still_stands(one) {
            Ok(()) => self.conclude(one.at, EntryState::Held, String::new()),
            Err(refusal) => {
                let refusal = self.give_back(one, refusal);
                self.refuse(one.at, refusal);
            }
        }
    }

    /// A stop was asked for: what was cleared and is not begun goes back to its place.
    fn leave_for_later(&mut self, one: &TakenTarget) {
        let stopped = Refusal::Gone(one.area.path().to_owned());
        if let refusal @ Refusal::Stranded { .. } = self.give_back(one, stopped) {
            return self.refuse(one.at, refusal);
        }
        let entry = &mut self.entries[one.at];
        entry.state = EntryState::Waiting;
        // our own two renames have changed the inode's change time, and nothing else has
        let parent = one.located.parent.as_fd();
        match kernel::stat_at(parent, one.located.name.as_os_str()) {
            Ok(stat) if stat.ino == one.before.ino => {
                entry.action.target.ctime = stat.ctime;
                entry.action_changed = true;
            }
            // then it will be found to have changed
            _ => {}
        }
    }

    /// Step 5 for what does not stay.
    fn remove(&mut self, one: &TakenTarget, inventory: &Inventory) {
        let action = self.entries[one.at].action.clone();
        let held = self.entries[one.at].held_name();
        let (mut freed, mut gone) = (Bytes::ZERO, 0u64);
        let touched = &mut self.touched;
        let outcome = one.area.remove(
            held.as_ref(),
            &mut Removal {
                inventory,
                strictness: Strictness::Exact,
                leases: &self.leases,
                is_unused: false,
                path: &action.target.path.0,
                own: &mut self.own,
                gone: &mut |before, after| {
                    gone += 1;
                    if before.kind == Kind::Directory || before.links < 2 {
                        freed += before.allocated();
                    }
                    if let Some(after) = after {
                        touched.note(before, after);
                    }
                },
            },
        );
        if action.shared > Bytes::ZERO {
            // inodes were counted; of shared extents only what the forecast found goes with them
            freed = freed.min(action.frees.now);
        }
        self.figures.freed += freed;
        self.entries[one.at].freed = freed;
        let error = match outcome {
            Ok(()) => {
                let state = match action.deed {
                    Deed::Delete => EntryState::Deleted,
                    Deed::Move { .. } => EntryState::Moved,
                    Deed::Link => EntryState::Linked,
                    _ => EntryState::Archived,
                };
                return self.conclude(one.at, state, String::new());
            }
            Err(error) => error,
        };
        let refusal = self.give_back(one, refusal_of(error));
        if gone == 0 {
            return self.refuse_beside_copy(one.at, refusal);
        }
        let message = in_part(&refusal, gone, &action, &self.entries[one.at]);
        self.conclude(one.at, EntryState::Failed, message);
    }
}

/// What is told of a target of which some is gone and the rest is back in its place, or kept.
fn in_part(refusal: &Refusal, gone: u64, action: &Action, entry: &EntryRecord) -> String {
    let (gone, entries) = (grouped(gone), grouped(action.target.entries));
    let rest = match refusal {
        Refusal::Stranded { held, .. } => format!("what is left of it is in {}", Shown(held)),
        _ => "what is left of it is back in its place".to_owned(),
    };
    let whole = match (&entry.archive, entry.destination()) {
        (Some(archive), _) => format!("; all of it is in the archive {}", Shown(archive)),
        (None, Some(place)) => format!("; all of it is copied to {}", Shown(&place)),
        (None, None) => String::new(),
    };
    format!("{refusal}; {gone} of {entries} entries had been removed by then, {rest}{whole}")
}

/// A removal that was ended, as a reason to leave a target alone.
pub(super) fn refusal_of(error: RemovalError) -> Refusal {
    match error {
        RemovalError::InUse(path) => Refusal::InUse { path, holder: None },
        RemovalError::Call(error) => Refusal::Call(error),
        other => Refusal::Removal(other),
    }
}

/// Takes a lease on a file, so that no other process can open it. `None` where leases are not to be had: then the open
/// files of all processes are looked at instead.
pub(super) fn lease(located: &Located, path: &Path) -> Result<Option<Lease>, Refusal> {
    let file = match kernel::open_file(&located.parent, located.name.as_os_str()) {
        Ok(file) => file,
        // it may be taken although it may not be read; and what is no file any more is told by the comparison
        Err(error)
            if matches!(
                error.kind(),
                io::ErrorKind::PermissionDenied | io::ErrorKind::InvalidInput
            ) =>
        {
            return Ok(None);
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(Refusal::Gone(path.to_owned()));
        }
        // somebody else has a lease on it
        Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
            return Err(Refusal::InUse { path: path.to_owned(), holder: None });
        }
        Err(error) => return Err(CallError::on(Op::Open, path)(error).into()),
    };
    match Lease::take(file.into()) {
        Ok(lease) => Ok(Some(lease)),
        Err((_, NoLease::InUse)) => Err(Refusal::InUse { path: path.to_owned(), holder: None }),
        Err((_, NoLease::Unavailable(_))) => Ok(None),
    }
}
