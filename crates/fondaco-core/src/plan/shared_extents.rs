//! What of a file's blocks is not its own: extents that it shares with other files.

use std::io;
use std::os::fd::{AsFd, OwnedFd};

use rustix::fs::{Mode, OFlags};

use super::Visit;
use crate::kernel::{self, BlocksShared, Kind, btrfs_file_extents, extents};

/// An extent that is freed when its last reference goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SharedExtent {
    /// Device number of its file system, and where on it.
    pub place: (u64, u64),
    /// Bytes on disk.
    pub bytes: u64,
    /// References in all; nothing where the file system does not tell how many.
    pub references: Option<u64>,
}

/// What a target has in common with others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Shared {
    /// Bytes that were counted with the target's blocks and are not freed with its inodes.
    pub counted: u64,
    /// The extents that they lie in, one for each reference.
    pub extents: Vec<SharedExtent>,
}

/// How the file system of a target keeps what files share.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sharing {
    /// Files share nothing.
    None,
    /// It says of an extent that it is shared, not by how many (`FIEMAP`).
    Flagged,
    /// Its trees tell how many references an extent has.
    Counted,
}

impl Sharing {
    pub(super) fn of(directory: impl AsFd) -> Self {
        match kernel::blocks_shared(directory) {
            BlocksShared::Counted if kernel::effective_user() == 0 => Self::Counted,
            BlocksShared::Counted | BlocksShared::Flagged => Self::Flagged,
            BlocksShared::Never => Self::None,
        }
    }

    /// Notes what a file shares. What cannot be asked counts as its own.
    pub(super) fn note(self, visit: &Visit<'_>, shared: &mut Shared) {
        let stat = visit.stat;
        // what several names hang on is freed with the last of them, which is another reckoning
        if self == Self::None || stat.kind != Kind::File || stat.blocks == 0 || stat.links > 1 {
            return;
        }
        let Ok(file) = open(visit) else { return };
        if self == Self::Counted
            && let Ok(found) = btrfs_file_extents(&file, stat.ino)
        {
            // what is kept in the trees frees nothing that can be foretold
            shared.counted += stat.allocated().get();
            shared.extents.extend(found.iter().map(|extent| SharedExtent {
                place: (stat.dev, extent.place),
                bytes: extent.length,
                references: Some(extent.references),
            }));
            return;
        }
        for extent in extents(&file).unwrap_or_default().iter().filter(|extent| extent.shared) {
            shared.counted += extent.length;
            let place = (stat.dev, extent.physical);
            shared.extents.push(SharedExtent { place, bytes: extent.length, references: None });
        }
    }
}

fn open(visit: &Visit<'_>) -> io::Result<OwnedFd> {
    // no device or FIFO is opened: should one have taken the file's place, this does not wait for it
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::NONBLOCK;
    let opened =
        rustix::fs::openat(visit.parent, visit.name, flags | OFlags::NOATIME, Mode::empty());
    match opened {
        Err(rustix::io::Errno::PERM) => {
            Ok(rustix::fs::openat(visit.parent, visit.name, flags, Mode::empty())?)
        }
        opened => Ok(opened?),
    }
}
