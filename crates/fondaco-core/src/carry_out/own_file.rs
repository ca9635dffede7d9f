//! The way back of what was linked or shared: a file of its own again, with blocks of its own.
//!
//! The new file is made in the private directory, proved, and exchanged with the old one in one step; what lies in the
//! private directory then is one more name of the file that stays, or the copy that shared its blocks, and is removed.

use std::ffi::OsString;
use std::fs::File;
use std::os::fd::{AsFd, OwnedFd};
use std::path::Path;

use super::EntryRecord;
use super::batch::refusal_of;
use super::copies::are_equal;
use super::exchange::{drop_other_name, exchange};
use super::holding::{Areas, clear_attempt};
use super::linking::{is_linked, linked_to};
use super::put_back::has_room;
use crate::archive::{Metadata, copy_open_file};
use crate::kernel::{
    self, CallError, Kind, Lease, Leases, NoLease, Op, OwnChanges, PrivateDir, Removal, Stat,
    Strictness,
};
use crate::plan::{Located, Refusal, Target, Touched, list_at};
use crate::shown::Shown;
use crate::units::Bytes;

/// What was found in the place of a linked or shared copy, open and kept still.
struct Found {
    stat: Stat,
    lease: Option<Lease>,
    file: OwnedFd,
}

impl Found {
    fn still_stands(&self, path: &Path) -> Result<(), Refusal> {
        let now = kernel::stat_descriptor(&self.file).map_err(CallError::on(Op::Examine, path))?;
        let unbroken = self.lease.as_ref().map_or(Ok(true), Lease::is_unbroken);
        let unbroken = unbroken.map_err(CallError::on(Op::Examine, path))?;
        match unbroken && (now.size, now.mtime) == (self.stat.size, self.stat.mtime) {
            true => Ok(()),
            false => Err(Refusal::InUse { path: path.to_owned(), holder: None }),
        }
    }
}

/// Makes a file of its own of a copy that was linked to, or shares blocks with, the file that stays. Contents that have
/// been changed since come along as they are now, which the answer says.
pub(super) fn return_own_file(
    entry: &EntryRecord,
    located: &Located,
    areas: &mut Areas<'_>,
) -> Result<Option<String>, Refusal> {
    let path = &entry.action.target.path.0;
    let area = areas.of(path, located)?;
    let held = OsString::from(format!("{}.back", entry.action.number));
    if finish(entry, &area, &held, located)? {
        return Ok(None);
    }
    clear_attempt(&area, &held)?; // of a put back that was cut off
    let found = look(entry, located)?;
    has_room(path, Bytes::new(found.stat.size))?;
    let is_as_it_was = (found.stat.size, found.stat.mtime) == reviewed_as(entry);
    let metadata = match &entry.action.own {
        Some(own) if is_as_it_was => (**own).clone(),
        Some(own) => Metadata { mtime: found.stat.mtime, ..(**own).clone() },
        None => Metadata::of(&found.file, path)?,
    };
    if let Err(refusal) = copy_open_file(&found.file, &area, &held, &metadata) {
        clear_attempt(&area, &held)?;
        return Err(refusal);
    }
    area.sync()?;
    found.still_stands(path)?;
    let copy = kernel::open_file(area.fd(), held.as_os_str());
    let copy = OwnedFd::from(copy.map_err(CallError::on(Op::Open, path))?);
    let copy_stat = kernel::stat_descriptor(&copy).map_err(CallError::on(Op::Examine, path))?;
    if let Err(refusal) = exchange(&area, &held, path, located, &found.stat) {
        // the copy goes, and nothing else that may lie under its name by then
        if area.stat(&held)?.is_some_and(|there| there.ino == copy_stat.ino) {
            clear_attempt(&area, &held)?;
        }
        return Err(refusal);
    }
    // from here on the old file lies where nobody finds it
    let checked = found.still_stands(path).and_then(|()| {
        let old = File::from(found.file.try_clone().map_err(CallError::on(Op::Open, path))?);
        match are_equal(&old, &copy, path, &entry.action.target)? {
            true => Ok(()),
            false => Err(Refusal::InUse { path: path.clone(), holder: None }),
        }
    });
    if let Err(refusal) = checked {
        exchange(&area, &held, path, located, &copy_stat)?;
        clear_attempt(&area, &held)?;
        return Err(refusal);
    }
    rustix::fs::fsync(&located.parent).map_err(CallError::on(Op::Sync, path))?;
    area.sync()?;
    remove_old(entry, &area, &held, found)?;
    Ok((!is_as_it_was)
        .then(|| "its contents had changed since, and came along as they are".to_owned()))
}

/// Length and time of writing of what stands in the place if nothing has changed since: of a link those of the file that
/// stays.
fn reviewed_as(entry: &EntryRecord) -> (u64, crate::units::Time) {
    let as_reviewed = linked_to(entry).unwrap_or(&entry.action.target);
    (as_reviewed.size, as_reviewed.mtime)
}

/// Opens what stands in the place, if it is what a run has left there.
fn look(entry: &EntryRecord, located: &Located) -> Result<Found, Refusal> {
    let path = &entry.action.target.path.0;
    let not_there =
        |reason: &str| Refusal::NotHeld { path: path.clone(), reason: reason.to_owned() };
    let file = match kernel::open_file(&located.parent, located.name.as_os_str()) {
        Ok(file) => OwnedFd::from(file),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let reason = match linked_to(entry) {
                Some(kept) => format!("its name is gone; the file is at {}", Shown(&kept.path.0)),
                None => "it is gone".to_owned(),
            };
            return Err(not_there(&reason));
        }
        Err(error) => return Err(CallError::on(Op::Open, path)(error).into()),
    };
    let stat = kernel::stat_descriptor(&file).map_err(CallError::on(Op::Examine, path))?;
    let is_ours = match linked_to(entry) {
        Some(_) => is_linked(entry, &stat),
        None => stat.ino == entry.action.target.inode,
    };
    if !is_ours || stat.kind != Kind::File {
        return Err(not_there("another file is in its place"));
    }
    if linked_to(entry).is_none() && stat.links > 1 {
        return Err(not_there("it has more names, which would no longer be one file"));
    }
    let taken = match linked_to(entry) {
        // others may read it meanwhile, since it stays
        Some(_) => Lease::take_shared(file),
        None => Lease::take(file),
    };
    match taken {
        Ok(lease) => {
            let file = lease.file().try_clone().map_err(CallError::on(Op::Open, path))?;
            Ok(Found { stat, lease: Some(lease), file })
        }
        Err((file, NoLease::Unavailable(_))) => Ok(Found { stat, lease: None, file }),
        Err((_, NoLease::InUse)) => Err(Refusal::InUse { path: path.clone(), holder: None }),
    }
}

/// Ends a way back that was cut off between its exchange and its end; tells whether there was one.
fn finish(
    entry: &EntryRecord,
    area: &PrivateDir,
    held: &OsString,
    located: &Located,
) -> Result<bool, Refusal> {
    let path = &entry.action.target.path.0;
    let Some(left) = area.stat(held)? else { return Ok(false) };
    let is_old = match linked_to(entry) {
        Some(_) => is_linked(entry, &left),
        None => left.ino == entry.action.target.inode,
    };
    if !is_old {
        return Ok(false);
    }
    let open = |directory: &dyn AsFd, name: &std::ffi::OsStr| {
        let file = kernel::open_file(directory.as_fd(), name);
        file.map_err(CallError::on(Op::Open, path))
    };
    let old = open(&area.fd(), held)?;
    let new = OwnedFd::from(open(&located.parent, &located.name)?);
    // only what is the same as its replacement goes
    if !are_equal(&old, &new, path, &entry.action.target)? {
        return Err(Refusal::Stranded { path: path.clone(), held: area.path().join(held) });
    }
    let found = Found { stat: left, lease: None, file: old.into() };
    remove_old(entry, area, held, found)?;
    Ok(true)
}

/// Removes the old file, or its extra name, from the private directory.
fn remove_old(
    entry: &EntryRecord,
    area: &PrivateDir,
    held: &OsString,
    found: Found,
) -> Result<(), Refusal> {
    let path = &entry.action.target.path.0;
    if found.stat.links > 1 {
        drop_other_name(area, held, found.stat.ino)?;
        return Ok(area.sync()?);
    }
    let here = area.fd().as_fd();
    let (survey, inventory) = list_at(here, held, path, &Touched::default(), &mut |_| Ok(()))?;
    let expected = Target::of_inode(path, &found.stat);
    if (survey.target.inode, survey.target.size, survey.target.mtime)
        != (expected.inode, expected.size, expected.mtime)
    {
        return Err(Refusal::Stranded { path: path.clone(), held: area.path().join(held) });
    }
    let mut leases = Leases::default();
    if let Some(lease) = found.lease {
        leases.hold(&found.stat, lease);
    }
    drop(found.file);
    let mut removal = Removal {
        inventory: &inventory,
        strictness: Strictness::Exact,
        leases: &leases,
        is_unused: false,
        path,
        own: &mut OwnChanges::default(),
        gone: &mut |_, _| {},
    };
    area.remove(held, &mut removal).map_err(refusal_of)?;
    Ok(area.sync()?)
}
