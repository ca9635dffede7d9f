//! Moving targets to another directory. On its own volume a target is renamed; to another volume it is copied, synced,
//! read back and compared before the original goes.
//!
//! The copies of a run lie in its private directory on the volume that they go to, and get their places only when the
//! originals have been taken, compared and cleared. So a copy that is not in its place can always be removed: its
//! original is whole.

use std::collections::HashMap;
use std::ffi::OsString;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::batch::{TakenTarget, lease, refusal_of};
use super::destination::Destination;
use super::execute::Run;
use super::holding::{Areas, clear_attempt, remove_if_empty, reopen};
use super::put_back::has_room;
use super::{CarryOutError, EntryRecord, EntryState};
use crate::archive::{Copying, DepotError, Links};
use crate::kernel::{
    self, CallError, Inventory, Kind, Leases, Op, OpenFiles, OwnChanges, PrivateDir, Removal, Stat,
    Strictness,
};
use crate::packed_list::Record;
use crate::plan::{Deed, Located, Refusal, Survey, Touched, list_at, survey_at};
use crate::shown::Shown;
use crate::state::State;
use crate::units::Time;

/// The ending of a copy's name as long as it is not in its place.
const COPY: &str = ".copy";
/// The ending of the name of what was copied back and goes from its destination. It is not a copy's: such a name must
/// never be cleared away.
const COPIED_BACK: &str = ".taken";
/// That of directories which are made on the way to a place.
const WAY: &str = ".way";

fn copy_name(entry: &EntryRecord) -> OsString {
    format!("{}{COPY}", entry.held_name()).into()
}

/// Whether the entry is moved by being renamed, and not by being copied.
fn is_renamed(entry: &EntryRecord) -> bool {
    entry.copy == Some((entry.action.target.device, entry.action.target.inode))
}

impl Run<'_> {
    /// Copies and proves what goes to other volumes, before anything is taken away.
    pub(super) fn copy_all(&mut self) -> Result<(), CarryOutError> {
        if !self.checks.overview.has(|deed| matches!(deed, Deed::Move { .. })) {
            return Ok(());
        }
        let mut by_destination: HashMap<PathBuf, Vec<usize>> = HashMap::new();
        for (at, entry) in self.entries.iter().enumerate() {
            if let Deed::Move { to, .. } = &entry.action.deed {
                by_destination.entry(to.clone()).or_default().push(at);
            }
        }
        let mut members: Vec<_> = by_destination.into_iter().collect();
        members.sort_by_key(|(_, members)| members.first().copied());
        for (to, members) in members {
            let permitted: Vec<usize> = members
                .into_iter()
                .filter(|at| match self.checks.permitted(&self.entries[*at].action) {
                    Ok(()) => true,
                    Err(refusal) => {
                        self.refuse(*at, refusal);
                        false
                    }
                })
                .collect();
            if permitted.is_empty() {
                continue;
            }
            match Destination::open(&to) {
                Ok(mut destination) => {
                    if let Err(refusal) = self.copy_to(&mut destination, &permitted) {
                        for at in permitted {
                            if self.entries[at].state == EntryState::Waiting {
                                self.conclude(at, EntryState::Failed, refusal.to_string());
                            }
                        }
                    }
                    self.destinations.insert(to, destination);
                }
                Err(error) => {
                    for at in permitted {
                        self.conclude(at, EntryState::Failed, error.to_string());
                    }
                }
            }
        }
        let moved = |entry: &Record<EntryRecord>| matches!(entry.action.deed, Deed::Move { .. });
        Ok(self.journal.write(self.id, self.entries.iter().filter(moved))?)
    }

    /// What is returned stops all of a destination.
    fn copy_to(&mut self, destination: &mut Destination, members: &[usize]) -> Result<(), Refusal> {
        let mut crossing = Vec::new();
        for at in members {
            let target = &self.entries[*at].action.target;
            match self.checks.crosses(&target.path.0, &destination.stat) {
                Ok(true) => crossing.push(*at),
                Ok(false) => self.entries[*at].copy = Some((target.device, target.inode)),
                Err(refusal) => self.refuse(*at, refusal),
            }
        }
        if crossing.is_empty() {
            return Ok(());
        }
        let inside = destination.path.join("moved");
        let located = self.checks.locate(&inside)?;
        let area = self.areas.of(&inside, &located)?;
        destination.staging = Some(Arc::clone(&area));
        let (mut copying, none) = (Copying::into(&area), Links::default());
        self.checks.refresh((self.clock)());
        let mut copied = Vec::new();
        for at in crossing {
            if !self.goes_on("copying", at) {
                return Ok(());
            }
            let action = self.entries[at].action.clone();
            let held = copy_name(&self.entries[at]);
            let outcome = self.checks.target(&action, &self.touched).and_then(|(located, _)| {
                copying.add(&held.to_string_lossy(), &action.target, &located, &self.touched, &none)
            });
            match outcome {
                Ok(()) => copied.push((at, held)),
                Err(refusal) => {
                    clear_attempt(&area, &held)?;
                    self.refuse(at, refusal);
                }
            }
        }
        copying.sync()?;
        for (at, held) in copied {
            if !self.goes_on("comparing the copies", at) {
                return Ok(());
            }
            match copying.prove(&held.to_string_lossy()) {
                Ok(stat) => self.entries[at].copy = Some((stat.dev, stat.ino)),
                Err(refusal) => {
                    clear_attempt(&area, &held)?;
                    self.refuse(at, refusal);
                }
            }
        }
        Ok(())
    }

    /// Gives what has been cleared and is to be moved its place at its destination, durably. What cannot get it goes back
    /// to where it was. The rest is returned.
    pub(super) fn place_all(
        &mut self,
        cleared: Vec<(Box<TakenTarget>, Inventory)>,
    ) -> Vec<(Box<TakenTarget>, Inventory)> {
        if !self.checks.overview.has(|deed| matches!(deed, Deed::Move { .. })) {
            return cleared;
        }
        let mut parents: HashMap<PathBuf, OwnedFd> = HashMap::new();
        let mut rest = Vec::new();
        for (one, inventory) in cleared {
            let Some(place) = self.entries[one.at].destination() else {
                rest.push((one, inventory));
                continue;
            };
            match self.place(&one) {
                Ok(parent) => {
                    let directory = place.parent().unwrap_or(&place).to_owned();
                    parents.entry(directory).or_insert(parent);
                    rest.push((one, inventory));
                }
                Err(refusal) => {
                    let refusal = self.give_back(&one, refusal);
                    self.refuse(one.at, refusal);
                }
            }
        }
        let synced = parents
            .into_iter()
            .try_for_each(|(path, parent)| {
                rustix::fs::fsync(&parent).map_err(CallError::on(Op::Sync, path))
            })
            .and_then(|()| self.areas.sync());
        let Err(error) = synced else { return rest };
        // originals stay as long as it is not sure that the device has the names of their copies
        let (moved, others): (Vec<_>, Vec<_>) =
            rest.into_iter().partition(|(one, _)| self.entries[one.at].destination().is_some());
        for (one, _) in moved {
            if is_renamed(&self.entries[one.at]) {
                let message =
                    format!("{}; it is moved, which the device may not keep", error.whole());
                self.conclude(one.at, EntryState::Moved, message);
                continue;
            }
            let again =
                CallError::on(error.op, &error.path)(std::io::Error::from(error.source.kind()));
            let refusal = self.give_back(&one, again.into());
            self.refuse_beside_copy(one.at, refusal);
        }
        others
    }

    fn place(&self, one: &TakenTarget) -> Result<OwnedFd, Refusal> {
        let entry = &self.entries[one.at];
        let (Deed::Move { to, .. }, Some((_, inode))) = (&entry.action.deed, entry.copy) else {
            return Err(Refusal::Gone(entry.action.target.path.0.clone()));
        };
        let path = &entry.action.target.path.0;
        let gone = || Refusal::Gone(to.clone());
        let destination = self.destinations.get(to).ok_or_else(gone)?;
        let (area, held) = match is_renamed(entry) {
            true => (Arc::clone(&one.area), OsString::from(entry.held_name())),
            false => (destination.staging.clone().ok_or_else(gone)?, copy_name(entry)),
        };
        let parent = destination.receive(&area, &held, path)?;
        if is_renamed(entry) {
            // nothing is removed after it, so nothing depends on what is there now
            return Ok(parent);
        }
        match destination.look(path)? {
            Some((_, stat)) if stat.ino == inode => Ok(parent),
            _ => Err(Refusal::Changed {
                path: destination.place(path),
                difference: "it was moved away as soon as it was there".to_owned(),
            }),
        }
    }

    /// Whether a cleared target needs nothing but its place.
    pub(super) fn is_moved_by_name(&self, one: &TakenTarget) -> bool {
        is_renamed(&self.entries[one.at])
    }

    /// Whether a target is moved: then it is brought to the end, whoever asks to stop.
    pub(super) fn is_moved(&self, one: &TakenTarget) -> bool {
        self.entries[one.at].destination().is_some()
    }

    /// Refuses a target that is back although its copy has its place already. The copy stays: from the moment that it
    /// has a public name, it may be another one's file.
    pub(super) fn refuse_beside_copy(&mut self, at: usize, refusal: Refusal) {
        self.refuse(at, refusal);
        let entry = &mut self.entries[at];
        if let Some(place) = entry.destination() {
            entry.message += &format!("; its copy stays at {}", Shown(&place));
        }
    }

    /// Removes the copies that have got no place.
    pub(super) fn clear_copies(&self) {
        if !self.checks.overview.has(|deed| matches!(deed, Deed::Move { .. })) {
            return;
        }
        for area in self.areas.all() {
            if let Err(refusal) = clear_copies_in(&area) {
                tracing::warn!(area = %Shown(area.path()), reason = %refusal, "a copy is left");
            }
        }
    }
}

fn clear_copies_in(area: &PrivateDir) -> Result<(), Refusal> {
    let is_ours = |name: &OsString| {
        let name = name.to_string_lossy();
        name.ends_with(COPY) || name.ends_with(WAY)
    };
    area.names()?.iter().filter(|name| is_ours(name)).try_for_each(|name| clear_attempt(area, name))
}

/// Removes the copies that a run which was cut off has left without a place; says how often that failed. Their originals
/// are whole: see the [module](self).
pub(super) fn clear_copies_of(state: &State, token: &str) -> Result<u64, CarryOutError> {
    let mut failed = 0;
    for area in state.places()?.holding_areas {
        let path = area.0.join(token);
        match reopen(&path) {
            Ok(area) => failed += u64::from(clear_copies_in(&area).is_err()),
            Err(Refusal::Gone(_)) => continue,
            Err(_) => failed += 1,
        }
        remove_if_empty(&path);
    }
    Ok(failed)
}

/// Whether what was moved is at its destination, durably.
///
/// # Errors
///
/// [`Refusal`] if that cannot be told.
pub(super) fn is_at_destination(entry: &EntryRecord) -> Result<bool, Refusal> {
    match found_at_destination(entry)? {
        Some((_, parent, _)) => {
            rustix::fs::fsync(&parent)
                .map_err(CallError::on(Op::Sync, entry.destination().unwrap_or_default()))?;
            Ok(true)
        }
        None => Ok(false),
    }
}

/// The destination of a moved target, with the directory that holds it and the facts about it.
fn found_at_destination(
    entry: &EntryRecord,
) -> Result<Option<(Destination, OwnedFd, Stat)>, Refusal> {
    let (Deed::Move { to, .. }, Some((device, inode))) = (&entry.action.deed, entry.copy) else {
        return Ok(None);
    };
    match kernel::stat_path(to) {
        Ok(_) => {}
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(CallError::on(Op::Examine, to)(error).into()),
    }
    let target = &entry.action.target;
    let not_held = |error| match error {
        DepotError::Call(error) => Refusal::Call(error),
        error => Refusal::NotHeld { path: target.path.0.clone(), reason: error.to_string() },
    };
    let destination = Destination::open_existing(to).map_err(not_held)?;
    let Some((parent, stat)) = destination.look(&target.path.0)? else { return Ok(None) };
    // the number of a device may change when the machine starts again
    let is_it = stat.ino == inode
        && stat.kind == target.kind
        && (stat.dev == device || stat.mtime == target.mtime);
    Ok(is_it.then_some((destination, parent, stat)))
}

/// A copy of a moved target that is on its way back.
pub(super) struct StagedBack {
    area: Arc<PrivateDir>,
    held: OsString,
    survey: Survey,
}

fn not_there(entry: &EntryRecord) -> Refusal {
    let place = entry.destination().unwrap_or_default();
    let reason = format!("it is not what lies at {}", Shown(&place));
    Refusal::NotHeld { path: entry.action.target.path.0.clone(), reason }
}

/// Gives a target that was moved within its volume its place back.
pub(super) fn return_renamed(entry: &EntryRecord, located: &Located) -> Result<bool, Refusal> {
    if !is_renamed(entry) {
        return Ok(false);
    }
    let path = &entry.action.target.path.0;
    let (_, parent, stat) = found_at_destination(entry)?.ok_or_else(|| not_there(entry))?;
    let flags = rustix::fs::RenameFlags::NOREPLACE;
    let name = path.file_name().unwrap_or_default();
    rustix::fs::renameat_with(&parent, name, &located.parent, &located.name, flags).map_err(
        |error| match error {
            rustix::io::Errno::EXIST => Refusal::Occupied(path.clone()),
            error => CallError::on(Op::Rename, path)(error).into(),
        },
    )?;
    let now = kernel::stat_at(&located.parent, located.name.as_os_str())
        .map_err(CallError::on(Op::Examine, path))?;
    if now.ino != stat.ino {
        // somebody has put something else there in between: that is not ours to move
        let back = rustix::fs::renameat_with(&located.parent, &located.name, &parent, name, flags);
        back.map_err(CallError::on(Op::Rename, path))?;
        return Err(not_there(entry));
    }
    rustix::fs::fsync(&parent).map_err(CallError::on(Op::Sync, path))?;
    Ok(true)
}

/// Copies what was moved to another volume back into a private directory beside its old place, and proves the copy.
pub(super) fn copy_back(
    entry: &EntryRecord,
    located: &Located,
    areas: &mut Areas<'_>,
    links: &mut Links,
) -> Result<StagedBack, Refusal> {
    let path = &entry.action.target.path.0;
    let (destination, parent, _) = found_at_destination(entry)?.ok_or_else(|| not_there(entry))?;
    let place = destination.place(path);
    let name = path.file_name().unwrap_or_default();
    let survey = survey_at(parent.as_fd(), name, &place, &Touched::default(), &mut |_| Ok(()))?;
    has_room(path, survey.target.allocated)?;
    let area = areas.of(path, located)?;
    let held = OsString::from(format!("{}.back", entry.action.number));
    clear_attempt(&area, &held)?; // of a put back that was cut off
    let from = Located {
        parent: parent.into(),
        name: name.to_owned(),
        mount_point: destination.path.as_path().into(),
    };
    let copied = {
        let mut copying = Copying::into(&area);
        let name = held.to_string_lossy();
        let proved = copying
            .add(&name, &survey.target, &from, &Touched::default(), links)
            .and_then(|()| Ok(copying.sync()?))
            .and_then(|()| copying.prove(&name));
        copying.note_links(&name, path, links);
        proved
    };
    match copied {
        Ok(_) => Ok(StagedBack { area, held, survey }),
        Err(refusal) => {
            clear_attempt(&area, &held)?;
            Err(refusal)
        }
    }
}

impl StagedBack {
    /// Gives it its old place.
    pub(super) fn give(&self, path: &Path, located: &Located) -> Result<(), Refusal> {
        self.area.give(&self.held, &located.parent, &located.name).map_err(|error| {
            match error.kind() {
                std::io::ErrorKind::AlreadyExists => Refusal::Occupied(path.to_owned()),
                _ => CallError::on(Op::Rename, path)(error).into(),
            }
        })
    }

    /// Removes what was copied back from its destination, if it is still what was copied and nobody has it open.
    pub(super) fn remove_source(
        &self,
        entry: &EntryRecord,
        areas: &mut Areas<'_>,
        now: Time,
    ) -> Result<(), Refusal> {
        let path = &entry.action.target.path.0;
        let (destination, parent, stat) =
            found_at_destination(entry)?.ok_or_else(|| not_there(entry))?;
        let inside = destination.path.join("moved");
        let area = areas.of(&inside, &crate::plan::locate(&inside)?)?;
        let held = OsString::from(format!("{}{COPIED_BACK}", entry.held_name()));
        let place = destination.place(path);
        let name = path.file_name().unwrap_or_default();
        let mut leases = Leases::default();
        if stat.kind == Kind::File {
            let source = Located {
                parent: parent.try_clone().map_err(CallError::on(Op::Open, &place))?.into(),
                name: name.to_owned(),
                mount_point: destination.path.as_path().into(),
            };
            if let Some(lease) = lease(&source, &place)? {
                leases.hold(&stat, lease);
            }
        }
        let now_there =
            kernel::stat_at(&parent, name).map_err(CallError::on(Op::Examine, &place))?;
        // the change time of an inode is that of all its names, and others of them may have been put back before
        let as_copied = match now_there.links {
            0 | 1 => now_there,
            _ => Stat { ctime: self.survey.target.ctime, ..now_there },
        };
        if stat.kind != Kind::Directory
            && let Some(difference) = self.survey.target.inode_difference(&place, &as_copied)
        {
            return Err(Refusal::Changed { path: place, difference });
        }
        area.take(&parent, name, &held).map_err(CallError::on(Op::Rename, &place))?;
        let removed = self.remove_taken(&area, &held, &place, &leases, now);
        if removed.is_err() && area.give(&held, &parent, name).is_err() {
            return Err(Refusal::Stranded { path: place, held: area.path().join(held) });
        }
        rustix::fs::fsync(&parent).map_err(CallError::on(Op::Sync, &place))?;
        removed
    }

    fn remove_taken(
        &self,
        area: &PrivateDir,
        held: &OsString,
        place: &Path,
        leases: &Leases,
        now: Time,
    ) -> Result<(), Refusal> {
        let open = OpenFiles::collect(now);
        if let Some(trouble) = &open.trouble {
            let reason = format!("it cannot be told who has it open: {trouble}");
            return Err(Refusal::Hopeless { path: place.to_owned(), reason });
        }
        let here = area.fd().as_fd();
        let (found, inventory) = list_at(here, held, place, &Touched::default(), &mut |visit| {
            let stat = visit.found;
            // a leased file is open here, and can be opened nowhere else
            if leases.of(stat.dev, stat.ino).is_none() && open.is_open(stat.dev, stat.ino) {
                let path = place.join(visit.below).components().collect();
                let holder = open.holders(stat.dev, stat.ino).into_iter().next();
                return Err(Refusal::InUse { path, holder });
            }
            Ok(())
        })?;
        if let Some(difference) = self.survey.target.difference(&found.target, true) {
            return Err(Refusal::Changed { path: place.to_owned(), difference });
        }
        let mut removal = Removal {
            inventory: &inventory,
            strictness: Strictness::Exact,
            leases,
            is_unused: false,
            path: place,
            own: &mut OwnChanges::default(),
            gone: &mut |_, _| {},
        };
        area.remove(held, &mut removal).map_err(refusal_of)
    }
}
