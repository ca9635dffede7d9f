//! What `statx(2)` knows about one entry.

use std::ffi::CStr;
use std::io;
use std::os::fd::AsFd;
use std::path::Path;

use rustix::fs::{AtFlags, CWD, Statx, StatxFlags};
use serde::{Deserialize, Serialize};

use crate::units::{Bytes, Time};

/// What sort of entry a name stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A regular file.
    File,
    /// A directory, which holds other entries.
    Directory,
    /// A symbolic link; never followed.
    Link,
    /// A FIFO, socket or device node.
    Special,
}

impl Kind {
    /// From the type bits of `st_mode` (`inode(7)`).
    pub fn of_mode(mode: u32) -> Self {
        match mode & u32::from(Self::BITS) {
            0o100_000 => Self::File,
            0o040_000 => Self::Directory,
            0o120_000 => Self::Link,
            _ => Self::Special,
        }
    }

    /// Where a mode has its type bits (`S_IFMT` in `inode(7)`).
    pub const BITS: u16 = 0o170_000;

    /// The type bits of a mode; a special thing of which no more is known counts as a FIFO.
    pub fn mode_bits(self) -> u16 {
        match self {
            Self::File => 0o100_000,
            Self::Directory => 0o040_000,
            Self::Link => 0o120_000,
            Self::Special => 0o010_000,
        }
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Directory => "directory",
            Self::Link => "link",
            Self::Special => "special",
        }
    }
}

/// The facts about one inode at one moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stat {
    /// Device number of its file system (`makedev(3)` form).
    pub dev: u64,
    /// Inode number, unique on its file system.
    pub ino: u64,
    /// Id of the mount it was reached through; 0 if the kernel does not tell (before 5.8).
    pub mount: u64,
    /// What it is.
    pub kind: Kind,
    /// `st_mode`, with the type bits.
    pub mode: u32,
    /// Number of names (hard links).
    pub links: u32,
    /// Number of the user that owns it.
    pub uid: u32,
    /// Number of the group that owns it.
    pub gid: u32,
    /// Length in bytes (`st_size`).
    pub size: u64,
    /// Blocks of 512 bytes.
    pub blocks: u64,
    /// Device number of a device node.
    pub rdev: u64,
    /// When its contents were last read.
    pub atime: Time,
    /// When its contents were last written.
    pub mtime: Time,
    /// Last change of the inode.
    pub ctime: Time,
    /// Birth, where the file system keeps it.
    pub btime: Option<Time>,
    /// Cannot be changed or removed by anyone (`chattr +i`).
    pub immutable: bool,
    /// Can only be appended to (`chattr +a`).
    pub append_only: bool,
    /// It is the root of a mount.
    pub mount_root: bool,
}

// linux/stat.h
const ATTR_IMMUTABLE: u64 = 0x10;
const ATTR_APPEND: u64 = 0x20;
const ATTR_MOUNT_ROOT: u64 = 0x2000;

impl Stat {
    /// Bytes on disk.
    pub fn allocated(&self) -> Bytes {
        Bytes::from_blocks(self.blocks)
    }

    pub(crate) fn of_statx(x: &Statx) -> Self {
        let time = |t: rustix::fs::StatxTimestamp| Time { sec: t.tv_sec, nsec: t.tv_nsec };
        let attributes = x.stx_attributes.bits() & x.stx_attributes_mask.bits();
        let mask = StatxFlags::from_bits_retain(x.stx_mask);
        Self {
            dev: rustix::fs::makedev(x.stx_dev_major, x.stx_dev_minor),
            ino: x.stx_ino,
            mount: if mask.contains(StatxFlags::MNT_ID) { x.stx_mnt_id } else { 0 },
            kind: Kind::of_mode(u32::from(x.stx_mode)),
            mode: u32::from(x.stx_mode),
            links: x.stx_nlink,
            uid: x.stx_uid,
            gid: x.stx_gid,
            size: x.stx_size,
            blocks: x.stx_blocks,
            rdev: rustix::fs::makedev(x.stx_rdev_major, x.stx_rdev_minor),
            atime: time(x.stx_atime),
            mtime: time(x.stx_mtime),
            ctime: time(x.stx_ctime),
            btime: mask.contains(StatxFlags::BTIME).then(|| time(x.stx_btime)),
            immutable: attributes & ATTR_IMMUTABLE != 0,
            append_only: attributes & ATTR_APPEND != 0,
            mount_root: attributes & ATTR_MOUNT_ROOT != 0,
        }
    }
}

/// What `fstatat(2)` tells, as the kernel wrote it: no birth, no attributes and no mount. A scan of millions keeps
/// a few of its fields, so the others are not even copied.
#[derive(Clone, Copy, Debug)]
pub struct PlainStat(rustix::fs::Stat);

impl PlainStat {
    /// Device number of its file system, as [`Stat::dev`].
    #[inline]
    pub fn dev(&self) -> u64 {
        self.0.st_dev
    }

    /// Inode number, as [`Stat::ino`].
    #[inline]
    pub fn ino(&self) -> u64 {
        self.0.st_ino
    }

    /// What it is, as [`Stat::kind`].
    #[inline]
    pub fn kind(&self) -> Kind {
        Kind::of_mode(self.0.st_mode)
    }

    /// Permissions with the type bits, as [`Stat::mode`].
    #[inline]
    pub fn mode(&self) -> u32 {
        self.0.st_mode
    }

    /// Number of its names, as [`Stat::links`].
    #[inline]
    pub fn links(&self) -> u32 {
        self.0.st_nlink as u32
    }

    /// User and group.
    #[inline]
    pub fn owner(&self) -> (u32, u32) {
        (self.0.st_uid, self.0.st_gid)
    }

    /// Length in bytes, as [`Stat::size`].
    #[inline]
    pub fn size(&self) -> u64 {
        self.0.st_size as u64
    }

    /// Blocks of 512 bytes, as [`Stat::blocks`].
    #[inline]
    pub fn blocks(&self) -> u64 {
        self.0.st_blocks as u64
    }

    /// Seconds of the last reading, writing and change.
    #[inline]
    pub fn seconds(&self) -> [i64; 3] {
        [self.0.st_atime, self.0.st_mtime, self.0.st_ctime]
    }

    /// The same of an entry that is known to have been reached through this mount.
    pub fn on_mount(&self, mount: u64) -> Stat {
        let s = &self.0;
        let time = |sec: i64, nsec: u64| Time { sec, nsec: nsec as u32 };
        Stat {
            dev: self.dev(),
            ino: self.ino(),
            mount,
            kind: self.kind(),
            mode: self.mode(),
            links: self.links(),
            uid: s.st_uid,
            gid: s.st_gid,
            size: self.size(),
            blocks: self.blocks(),
            rdev: s.st_rdev,
            atime: time(s.st_atime, s.st_atime_nsec),
            mtime: time(s.st_mtime, s.st_mtime_nsec),
            ctime: time(s.st_ctime, s.st_ctime_nsec),
            btime: None,
            immutable: false,
            append_only: false,
            mount_root: false,
        }
    }
}

fn wanted() -> StatxFlags {
    StatxFlags::BASIC_STATS | StatxFlags::BTIME | StatxFlags::MNT_ID
}

/// The entry `name` of an open directory, itself and not what a link points to.
///
/// # Errors
///
/// As `statx(2)`. Automounts are not triggered.
pub fn stat_at(directory: impl AsFd, name: impl rustix::path::Arg) -> io::Result<Stat> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    Ok(Stat::of_statx(&rustix::fs::statx(directory, name, flags, wanted())?))
}

/// As [`stat_at`], with what a catalog keeps and no more: of the times not the birth.
///
/// # Errors
///
/// As `statx(2)`.
pub fn stat_for_catalog(directory: impl AsFd, name: impl rustix::path::Arg) -> io::Result<Stat> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    Ok(Stat::of_statx(&rustix::fs::statx(directory, name, flags, for_catalog())?))
}

/// As [`stat_for_catalog`], of an open directory.
///
/// # Errors
///
/// As `statx(2)`.
pub fn stat_open_for_catalog(directory: impl AsFd) -> io::Result<Stat> {
    Ok(Stat::of_statx(&rustix::fs::statx(directory, c"", AtFlags::EMPTY_PATH, for_catalog())?))
}

/// As [`stat_for_catalog`], by `fstatat(2)`, which copies less but does not know the mount: for what is
/// no directory and has nothing mounted beside it, so that its mount is known.
///
/// # Errors
///
/// As `fstatat(2)`.
#[inline]
pub fn stat_plain_at(directory: impl AsFd, name: &CStr) -> io::Result<PlainStat> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    Ok(PlainStat(rustix::fs::statat(directory, name, flags)?))
}

/// As [`stat_open_for_catalog`], by `fstat(2)`, which does less but does not know the mount.
///
/// # Errors
///
/// As `fstat(2)`.
pub fn stat_plain_open(directory: impl AsFd) -> io::Result<PlainStat> {
    Ok(PlainStat(rustix::fs::fstat(directory)?))
}

fn for_catalog() -> StatxFlags {
    StatxFlags::BASIC_STATS | StatxFlags::MNT_ID
}

/// What an open descriptor refers to.
///
/// # Errors
///
/// As `statx(2)`.
pub fn stat_descriptor(descriptor: impl AsFd) -> io::Result<Stat> {
    Ok(Stat::of_statx(&rustix::fs::statx(descriptor, "", AtFlags::EMPTY_PATH, wanted())?))
}

/// Whether there is an entry at a path, whatever it is. Only the answer that there is none is taken for absence.
///
/// # Errors
///
/// As `statx(2)`.
pub fn is_there(path: &Path) -> io::Result<bool> {
    match stat_path(path) {
        Ok(_) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error),
    }
}

/// The entry at a path, itself and not what a link points to. For display only: between this call
/// and the next the path may mean something else.
///
/// # Errors
///
/// As `statx(2)`.
pub fn stat_path(path: &Path) -> io::Result<Stat> {
    stat_at(CWD, path)
}
