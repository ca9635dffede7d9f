//! Looking beneath mount points without unmounting anything.

use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;

use rustix::fs::CWD;
use rustix::mount::{OpenTreeFlags, open_tree};

/// A clone of the mount that `path` lies on, its root at `path`, attached nowhere and without what is
/// mounted below: the directories that mount points cover are seen there as they are. Nobody else sees
/// it, and it goes when the descriptor is closed.
///
/// # Errors
///
/// As `open_tree(2)` with `OPEN_TREE_CLONE`: `EPERM` without `CAP_SYS_ADMIN`.
pub fn private_mount(path: &Path) -> io::Result<OwnedFd> {
    let flags = OpenTreeFlags::OPEN_TREE_CLONE | OpenTreeFlags::OPEN_TREE_CLOEXEC;
    Ok(open_tree(CWD, path, flags)?)
}
