//! Giving a new entry what its original had besides contents: owner, mode, times and extended attributes.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use rustix::fs::{AtFlags, FileType, Gid, Mode, Timespec, Timestamps, Uid};

use super::ArchivedEntry;
use crate::kernel::{self, CallError, Kind, Op};
use crate::units::Time;

/// Gives a file or directory its owner, mode, attributes and times, in the order in which the
/// later ones survive: a change of owner clears set-id bits. `path` is for messages.
pub(super) fn dress(fd: &OwnedFd, wanted: &ArchivedEntry, path: &Path) -> Result<(), CallError> {
    let (uid, gid) = (Uid::from_raw(wanted.uid), Gid::from_raw(wanted.gid));
    rustix::fs::fchown(fd, Some(uid), Some(gid)).map_err(CallError::on(Op::SetOwner, path))?;
    set_attributes(fd, &wanted.attributes).map_err(CallError::on(Op::SetAttribute, path))?;
    rustix::fs::fchmod(fd, Mode::from_raw_mode(wanted.mode & 0o7777))
        .map_err(CallError::on(Op::SetMode, path))?;
    rustix::fs::futimens(fd, &times(wanted.atime, wanted.mtime))
        .map_err(CallError::on(Op::SetTimes, path))
}

/// Makes a symbolic link, a FIFO or a device node with owner, mode and times; a directory without them, since filling
/// it changes its times.
pub(super) fn make_without_contents(
    parent: &OwnedFd,
    name: &OsStr,
    wanted: &ArchivedEntry,
) -> io::Result<()> {
    match wanted.kind {
        Kind::Directory => rustix::fs::mkdirat(parent, name, Mode::RWXU)?,
        Kind::Link => {
            let to = wanted.link.as_ref().map_or(Path::new(""), |to| &to.0);
            rustix::fs::symlinkat(to, parent, name)?;
            dress_unopened(parent, name, wanted)?;
        }
        Kind::Special | Kind::File => {
            let kind = FileType::from_raw_mode(wanted.mode);
            rustix::fs::mknodat(parent, name, kind, Mode::RUSR | Mode::WUSR, wanted.device)?;
            dress_unopened(parent, name, wanted)?;
        }
    }
    Ok(())
}

/// As [`dress`] for what is not opened: links have no mode of their own.
fn dress_unopened(parent: &OwnedFd, name: &OsStr, wanted: &ArchivedEntry) -> io::Result<()> {
    let flags = AtFlags::SYMLINK_NOFOLLOW;
    let (uid, gid) = (Uid::from_raw(wanted.uid), Gid::from_raw(wanted.gid));
    rustix::fs::chownat(parent, name, Some(uid), Some(gid), flags)?;
    if wanted.kind != Kind::Link {
        let mode = Mode::from_raw_mode(wanted.mode & 0o7777);
        rustix::fs::chmodat(parent, name, mode, AtFlags::empty())?;
    }
    Ok(rustix::fs::utimensat(parent, name, &times(wanted.atime, wanted.mtime), flags)?)
}

/// Access and modification time as the kernel takes them.
pub(crate) fn times(atime: Time, mtime: Time) -> Timestamps {
    let spec = |time: Time| Timespec { tv_sec: time.sec, tv_nsec: i64::from(time.nsec) };
    Timestamps { last_access: spec(atime), last_modification: spec(mtime) }
}

/// Labels of the kernel's security modules may be set by root only and are not a user's data.
fn set_attributes(fd: &OwnedFd, attributes: &BTreeMap<String, String>) -> io::Result<()> {
    for (name, value) in attributes {
        if name.starts_with("security.") && kernel::effective_user() != 0 {
            continue;
        }
        let value = STANDARD.decode(value).map_err(io::Error::other)?;
        rustix::fs::fsetxattr(fd, name.as_str(), &value, rustix::fs::XattrFlags::empty())?;
    }
    Ok(())
}
