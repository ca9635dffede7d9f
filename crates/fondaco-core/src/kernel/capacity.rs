//! What a file system says about its room.

use std::io;
use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::units::{Bytes, Level};

/// Room on one file system, in bytes and inodes (`statvfs(3)`).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Capacity {
    /// Everything that files can use, the share reserved for root included.
    pub total: Bytes,
    /// Bytes in use.
    pub used: Bytes,
    /// Free for root.
    pub free_root: Bytes,
    /// Free for everybody else.
    pub free_users: Bytes,
    /// Inodes the file system can have; 0 where it makes them as needed.
    pub inodes: u64,
    /// Inodes that can still be made.
    pub inodes_free: u64,
    /// Size of a block.
    pub block: u64,
}

/// Whose free space a level is reckoned with: what is reserved for root is not free for others.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LevelFor {
    /// What users and their services can still write: when it is gone, they stop.
    #[default]
    Users,
    /// What root can still write.
    Root,
}

impl LevelFor {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Users => "users",
            Self::Root => "root",
        }
    }

    /// The other one.
    pub fn other(self) -> Self {
        match self {
            Self::Users => Self::Root,
            Self::Root => Self::Users,
        }
    }
}

impl Capacity {
    /// Bytes free for users or for root.
    pub fn free_for(&self, whom: LevelFor) -> Bytes {
        match whom {
            LevelFor::Users => self.free_users,
            LevelFor::Root => self.free_root,
        }
    }

    /// What is in use and what is free for users or root together: of this the level is a share.
    pub fn whole_for(&self, whom: LevelFor) -> Bytes {
        self.used + self.free_for(whom)
    }

    /// Used / (used + free for users or root).
    pub fn level_for(&self, whom: LevelFor) -> Level {
        Level::of(self.used, self.whole_for(whom))
    }

    /// Free for this user.
    pub fn free(&self) -> Bytes {
        if super::effective_user() == 0 { self.free_root } else { self.free_users }
    }

    /// The share of inodes in use, where the file system has a fixed number of them.
    pub fn inode_level(&self) -> Option<Level> {
        (self.inodes > 0)
            .then(|| Level::of(Bytes::new(self.inodes - self.inodes_free), Bytes::new(self.inodes)))
    }
}

/// Asks the file system that holds `path`.
///
/// A network file system whose server is gone may keep the caller waiting for ever: ask those on a
/// thread of their own.
///
/// # Errors
///
/// As `statvfs(3)`.
pub fn capacity(path: &Path) -> io::Result<Capacity> {
    let s = rustix::fs::statvfs(path)?;
    let bytes = |blocks: u64| Bytes::new(blocks.saturating_mul(s.f_frsize));
    Ok(Capacity {
        total: bytes(s.f_blocks),
        used: bytes(s.f_blocks.saturating_sub(s.f_bfree)),
        free_root: bytes(s.f_bfree),
        free_users: bytes(s.f_bavail),
        inodes: s.f_files,
        inodes_free: s.f_ffree.min(s.f_files),
        block: s.f_frsize,
    })
}
