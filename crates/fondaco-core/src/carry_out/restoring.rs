//! Restoring what lies in a bin to where it was. One rename that replaces nothing: at any moment it lies in the bin or in
//! its old place.

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use rustix::fs::RenameFlags;

use super::check::Checks;
use super::execute::Run;
use super::settle::{Unsettled, is_in_place};
use super::{CarryOutError, EntryRecord, EntryState};
use crate::kernel::{self, CallError, Op, Stat};
use crate::plan::{Action, Deed, Located, Refusal, Survey, Target, Touched, locate};

/// Where something goes back to, and the file beside it that says so.
fn parts(action: &Action) -> Result<(&Path, Option<&Target>), Refusal> {
    match &action.deed {
        Deed::Restore { place, info } => Ok((place, info.as_deref())),
        _ => Err(Refusal::Gone(action.target.path.0.clone())),
    }
}

/// What a restore works on: the target in its bin, and the directory that it goes back to.
pub(super) struct Ready {
    pub(super) survey: Survey,
    from: Located,
    to: OwnedFd,
    name: std::ffi::OsString,
}

/// Makes sure that a target can go back. What a bin says of places is only believed as far as its owner could put things
/// there himself.
///
/// # Errors
///
/// [`Refusal`].
pub(super) fn check(checks: &Checks, action: &Action, touched: &Touched) -> Result<Ready, Refusal> {
    let (place, _) = parts(action)?;
    let (from, survey) = checks.target(action, touched)?;
    let hopeless =
        |reason: &str| Refusal::Hopeless { path: place.to_owned(), reason: reason.to_owned() };
    if let Some(reason) = checks.protects(place) {
        return Err(Refusal::Protected { path: place.to_owned(), reason });
    }
    let (to, name) = match locate(place) {
        Ok(Located { parent, name, .. }) => (parent, name),
        Err(Refusal::Gone(_)) => return Err(hopeless("the directory that it was in is not there")),
        Err(refusal) => return Err(refusal),
    };
    let look = |directory: &OwnedFd, path: &Path| -> Result<Stat, Refusal> {
        Ok(kernel::stat_descriptor(directory).map_err(CallError::on(Op::Examine, path))?)
    };
    let (bin, directory) = (look(&from.parent, &action.target.path.0)?, look(&to, place)?);
    if (bin.dev, bin.mount) != (directory.dev, directory.mount) {
        return Err(hopeless("it was on another volume than its bin"));
    }
    if kernel::effective_user() == 0 && bin.uid != directory.uid {
        return Err(hopeless("its directory belongs to somebody else than the bin"));
    }
    match kernel::stat_at(&to, name.as_os_str()) {
        Ok(_) => return Err(Refusal::Taken(place.to_owned())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {}
        Err(error) => return Err(CallError::on(Op::Examine, place)(error).into()),
    }
    let to = to.as_fd().try_clone_to_owned().map_err(CallError::on(Op::Open, place))?;
    Ok(Ready { survey, from, to, name })
}

impl Run<'_> {
    /// Restores what is to be restored, one by one: each intent is in the journal before the act.
    pub(super) fn restore_all(&mut self) -> Result<(), CarryOutError> {
        for at in self.waiting_for(|deed| matches!(deed, Deed::Restore { .. })) {
            if !self.goes_on("restoring", at) {
                break;
            }
            self.entries[at].state = EntryState::Intended;
            self.journal.write(self.id, [&self.entries[at]])?;
            self.checks.forget_place();
            let action = self.entries[at].action.clone();
            match check(&self.checks, &action, &self.touched)
                .and_then(|ready| restore(&action, &ready))
            {
                Ok(message) => self.conclude(at, EntryState::Restored, message),
                Err(refusal) => self.refuse(at, refusal),
            }
            self.journal.write(self.id, [&self.entries[at]])?;
        }
        Ok(())
    }
}

/// Gives a target its old place, and then removes what says so. Tells what is left to be known.
fn restore(action: &Action, ready: &Ready) -> Result<String, Refusal> {
    let (place, info) = parts(action)?;
    let Ready { from, to, name, .. } = ready;
    let flags = RenameFlags::NOREPLACE;
    rustix::fs::renameat_with(&from.parent, &from.name, to, name, flags).map_err(|error| {
        match error {
            rustix::io::Errno::EXIST => Refusal::Taken(place.to_owned()),
            error => CallError::on(Op::Rename, place)(error).into(),
        }
    })?;
    if let Err(refusal) = is_restored(action, place, ready) {
        // what cannot be vouched for goes back to where it was reviewed
        return Err(match rustix::fs::renameat_with(to, name, &from.parent, &from.name, flags) {
            Ok(()) => match sync_both(action, place, ready) {
                Ok(()) => refusal,
                Err(error) => {
                    let error = error.whole();
                    let reason = format!(
                        "{refusal}; it is back in its bin, which the device may not keep: {error}"
                    );
                    Refusal::Hopeless { path: action.target.path.0.clone(), reason }
                }
            },
            Err(_) => {
                Refusal::Stranded { path: action.target.path.0.clone(), held: place.to_owned() }
            }
        });
    }
    let at = format!("back at {}", crate::shown::Shown(place));
    Ok(match info.map(remove_info) {
        None | Some(Ok(())) => at,
        Some(Err(refusal)) => format!("{at}; what the bin says of it stays: {refusal}"),
    })
}

/// Makes sure that what has come to a place is what was to go there, and that both directories keep that.
fn is_restored(action: &Action, place: &Path, ready: &Ready) -> Result<(), Refusal> {
    let Ready { to, name, .. } = ready;
    let now = kernel::stat_at(to, name.as_os_str()).map_err(CallError::on(Op::Examine, place))?;
    if now.ino != action.target.inode {
        // somebody has put something else into the bin in between: that is not ours to move
        let difference = "another entry was in its place".to_owned();
        return Err(Refusal::Changed { path: action.target.path.0.clone(), difference });
    }
    Ok(sync_both(action, place, ready)?)
}

/// Syncs the directory that something was in and the one that it went to.
fn sync_both(
    action: &Action,
    place: &Path,
    Ready { from, to, .. }: &Ready,
) -> Result<(), CallError> {
    for (directory, path) in [(to.as_fd(), place), (from.parent.as_fd(), &action.target.path.0)] {
        rustix::fs::fsync(directory).map_err(CallError::on(Op::Sync, path))?;
    }
    Ok(())
}

/// Removes the file that said where something was, if it is still what was reviewed.
fn remove_info(info: &Target) -> Result<(), Refusal> {
    let path = &info.path.0;
    let located = locate(path)?;
    let file = kernel::open_file(&located.parent, located.name.as_os_str());
    let file = file.map_err(CallError::on(Op::Open, path))?;
    let stat = kernel::stat_descriptor(&file).map_err(CallError::on(Op::Examine, path))?;
    if let Some(difference) = info.inode_difference(path, &stat) {
        return Err(Refusal::Changed { path: path.clone(), difference });
    }
    let named = kernel::stat_at(&located.parent, located.name.as_os_str());
    if named.map_err(CallError::on(Op::Examine, path))?.ino != stat.ino {
        let difference = "another entry is in its place".to_owned();
        return Err(Refusal::Changed { path: path.clone(), difference });
    }
    rustix::fs::unlinkat(&located.parent, &located.name, rustix::fs::AtFlags::empty())
        .map_err(CallError::on(Op::Remove, path))?;
    Ok(rustix::fs::fsync(&located.parent).map_err(CallError::on(Op::Sync, path))?)
}

/// How a restore that was cut off has come to stand.
pub(super) fn settled(entry: &EntryRecord) -> Result<(EntryState, String), Unsettled> {
    if is_in_place(entry)? {
        return Ok((EntryState::Waiting, "still in its bin when the run was cut off".to_owned()));
    }
    let target = &entry.action.target;
    let gone = || (EntryState::Refused, Refusal::Gone(target.path.0.clone()).to_string());
    let Deed::Restore { place, .. } = &entry.action.deed else { return Ok(gone()) };
    let place: &PathBuf = place;
    match kernel::stat_path(place) {
        Ok(stat) if (stat.ino, stat.kind) == (target.inode, target.kind) => {
            Ok((EntryState::Restored, "restored just before the run was cut off".to_owned()))
        }
        Ok(_) => Ok(gone()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(gone()),
        Err(error) => Err(CallError::on(Op::Examine, place)(error).into()),
    }
}
