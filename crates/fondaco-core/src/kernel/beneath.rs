//! Opening, moving and removing by directory descriptor, beneath a root, without following links.

use std::ffi::OsStr;
use std::fmt;
use std::io;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{Mode, OFlags, RenameFlags, ResolveFlags};
use rustix::io::Errno;

use super::stat::{Kind, Stat, stat_at, stat_descriptor};
use crate::shown::Shown;

/// What was being done when a call failed; completes "cannot …".
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)] // each is its own word
pub enum Op {
    Open,
    OpenDirectory,
    ReadDirectory,
    Examine,
    Read,
    Write,
    Create,
    Rename,
    Remove,
    Sync,
    SetOwner,
    SetMode,
    SetTimes,
    SetAttribute,
    Lock,
    Link,
    Share,
}

impl Op {
    /// As in "cannot open directory /x".
    pub fn words(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::OpenDirectory => "open directory",
            Self::ReadDirectory => "read directory",
            Self::Examine => "examine",
            Self::Read => "read",
            Self::Write => "write",
            Self::Create => "create",
            Self::Rename => "rename",
            Self::Remove => "remove",
            Self::Sync => "sync",
            Self::SetOwner => "set the owner of",
            Self::SetMode => "set the mode of",
            Self::SetTimes => "set the times of",
            Self::SetAttribute => "set an attribute of",
            Self::Lock => "lock",
            Self::Link => "link",
            Self::Share => "share the blocks of",
        }
    }
}

impl Op {
    /// The one that goes by these words; [`Op::Read`] if none does.
    pub fn of_words(words: &str) -> Self {
        Self::ALL.into_iter().find(|op| op.words() == words).unwrap_or(Self::Read)
    }

    const ALL: [Self; 17] = [
        Self::Open,
        Self::OpenDirectory,
        Self::ReadDirectory,
        Self::Examine,
        Self::Read,
        Self::Write,
        Self::Create,
        Self::Rename,
        Self::Remove,
        Self::Sync,
        Self::SetOwner,
        Self::SetMode,
        Self::SetTimes,
        Self::SetAttribute,
        Self::Lock,
        Self::Link,
        Self::Share,
    ];
}

impl fmt::Display for Op {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.words())
    }
}

/// A call that the kernel refused: what, on which path, and its own words as the source.
#[derive(Debug, thiserror::Error)]
#[error("cannot {op} {}", Shown(path))]
pub struct CallError {
    /// What was tried.
    pub op: Op,
    /// What the call was made on.
    pub path: PathBuf,
    /// What the kernel said.
    pub source: io::Error,
}

impl CallError {
    /// For `map_err`: adds what and where to an I/O error.
    pub fn on<E: Into<io::Error>>(op: Op, path: impl Into<PathBuf>) -> impl FnOnce(E) -> Self {
        let path = path.into();
        move |source| Self { op, path, source: source.into() }
    }

    /// The message with the kernel's words behind it, on one line.
    pub fn whole(&self) -> String {
        format!("{self}: {}", self.source)
    }
}

/// Opens a directory to start from, by its path. The last component is not followed if a link; the
/// access time is left alone as in [`open_directory`].
///
/// # Errors
///
/// As `open(2)`.
pub fn open_root(path: &Path) -> io::Result<OwnedFd> {
    open_directory(rustix::fs::CWD, path)
}

/// Opens a directory's entry as a directory, not following a link and leaving its access time
/// alone where the kernel allows that (`O_NOATIME`: to the owner and to root).
///
/// # Errors
///
/// As `openat(2)`.
pub fn open_directory(parent: impl AsFd, name: impl rustix::path::Arg) -> io::Result<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    name.into_with_c_str(|name| {
        match rustix::fs::openat(&parent, name, flags | OFlags::NOATIME, Mode::empty()) {
            Err(Errno::PERM) => rustix::fs::openat(&parent, name, flags, Mode::empty()),
            opened => opened,
        }
    })
    .map_err(Into::into)
}

/// Opens a directory's entry for reading if it is a regular file: nothing is waited for, no device is woken, no
/// link followed, and the access time stays where the kernel allows that.
///
/// # Errors
///
/// As `openat(2)`; `EINVAL` if it is no regular file.
pub fn open_file(parent: impl AsFd, name: impl rustix::path::Arg) -> io::Result<std::fs::File> {
    name.into_with_c_str(|name| {
        // a descriptor that cannot be read from wakes nothing; what it refers to stays the same
        let path = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let found = rustix::fs::openat(&parent, name, path, Mode::empty())?;
        let stat = stat_descriptor(&found);
        let stat = stat.map_err(|error| Errno::from_io_error(&error).unwrap_or(Errno::IO))?;
        if stat.kind != Kind::File {
            return Err(Errno::INVAL);
        }
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let place = format!("/proc/self/fd/{}", found.as_raw_fd());
        let opened = match rustix::fs::open(&*place, flags | OFlags::NOATIME, Mode::empty()) {
            Err(Errno::PERM) => rustix::fs::open(&*place, flags, Mode::empty()),
            opened => opened,
        };
        Ok(std::fs::File::from(opened?))
    })
    .map_err(Into::into)
}

/// As [`open_file`], for an entry that was looked at just now and is a regular file. What has come to its place since is
/// opened without waiting for it, and told by whoever looks at the descriptor.
///
/// # Errors
///
/// As `openat(2)`.
pub fn open_found_file(parent: impl AsFd, name: impl rustix::path::Arg) -> io::Result<OwnedFd> {
    let flags =
        OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOFOLLOW | OFlags::NOCTTY | OFlags::CLOEXEC;
    name.into_with_c_str(|name| {
        match rustix::fs::openat(&parent, name, flags | OFlags::NOATIME, Mode::empty()) {
            Err(Errno::PERM) => rustix::fs::openat(&parent, name, flags, Mode::empty()),
            opened => opened,
        }
    })
    .map_err(Into::into)
}

/// Opens `relative` beneath an open directory: no symbolic link on the way or at the end, no way
/// up and out, no crossing into another mount.
///
/// Paths longer than the kernel's limit are opened piece by piece with the same promises.
///
/// # Errors
///
/// As `openat2(2)`: `ELOOP` for a link, `EXDEV` for another mount or an escape.
pub fn open_beneath(root: impl AsFd, relative: &Path, flags: OFlags) -> io::Result<OwnedFd> {
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_XDEV;
    let open = |base: &dyn AsFd, piece: &Path, flags: OFlags| -> io::Result<OwnedFd> {
        let piece = if piece.as_os_str().is_empty() { Path::new(".") } else { piece };
        // the kernel asks for another try when a rename runs alongside
        for _ in 0..64 {
            let flags = flags | OFlags::CLOEXEC | OFlags::NOFOLLOW;
            match rustix::fs::openat2(base.as_fd(), piece, flags, Mode::empty(), resolve) {
                Err(Errno::AGAIN) => {}
                other => return Ok(other?),
            }
        }
        Err(Errno::AGAIN.into())
    };
    let mut held: Option<OwnedFd> = None;
    let mut piece = PathBuf::new();
    for part in relative.components() {
        if piece.as_os_str().len() + part.as_os_str().len() > 3000 {
            let base: &dyn AsFd = held.as_ref().map_or(&root as &dyn AsFd, |fd| fd);
            held = Some(open(base, &piece, OFlags::PATH | OFlags::DIRECTORY)?);
            piece.clear();
        }
        match part {
            Component::Normal(name) => piece.push(name),
            Component::CurDir => {}
            _ => return Err(Errno::XDEV.into()),
        }
    }
    let base: &dyn AsFd = held.as_ref().map_or(&root as &dyn AsFd, |fd| fd);
    open(base, &piece, flags)
}

/// The directory that a path leads to, and the last name in it: [`Path::parent`] and [`Path::file_name`], which take
/// paths apart from their beginning, in one step for paths that are written plainly.
pub(crate) fn directory_and_name(path: &Path) -> Option<(&Path, &OsStr)> {
    let bytes = path.as_os_str().as_bytes();
    let slash = memchr::memrchr(b'/', bytes);
    if let Some(slash) = slash.filter(|slash| *slash > 0) {
        let (directory, name) = (&bytes[..slash], &bytes[slash + 1..]);
        let is_plain = !matches!(name, b"" | b"." | b"..")
            && !directory.ends_with(b"/")
            && !directory.ends_with(b"/.");
        if is_plain {
            return Some((Path::new(OsStr::from_bytes(directory)), OsStr::from_bytes(name)));
        }
    }
    Some((path.parent()?, path.file_name()?))
}

/// Opens the directory that holds `path`, beneath the mount point `root`, and gives the last name.
///
/// # Errors
///
/// [`CallError`]; a path that is not below `root`, or is `root` itself, is `EXDEV`.
pub fn parent_of<'a>(root: &Path, path: &'a Path) -> Result<(OwnedFd, &'a OsStr), CallError> {
    let outside = || CallError::on(Op::Open, path)(io::Error::from(Errno::XDEV));
    let relative = path.strip_prefix(root).map_err(|_| outside())?;
    let (Some(parent), Some(name)) = (relative.parent(), relative.file_name()) else {
        return Err(outside());
    };
    let base = open_root(root).map_err(CallError::on(Op::OpenDirectory, root))?;
    let directory = open_beneath(base, parent, OFlags::RDONLY | OFlags::DIRECTORY)
        .map_err(CallError::on(Op::OpenDirectory, root.join(parent)))?;
    Ok((directory, name))
}

/// A directory of ours, mode 0700, into which entries are moved so that nobody can swap them.
#[derive(Debug)]
pub struct PrivateDir {
    fd: OwnedFd,
    path: PathBuf,
}

impl PrivateDir {
    /// Makes the directory `name` in `parent`, which must not be there yet, and makes the name durable.
    ///
    /// # Errors
    ///
    /// [`CallError`]; `EEXIST` if something has that name.
    pub fn create(parent: impl AsFd, name: &OsStr, path: PathBuf) -> Result<Self, CallError> {
        rustix::fs::mkdirat(&parent, name, Mode::RWXU).map_err(CallError::on(Op::Create, &path))?;
        rustix::fs::fsync(&parent).map_err(CallError::on(Op::Sync, &path))?;
        Self::open_existing(parent, name, path)
    }

    /// Opens `name` in `parent`, making it if it is missing, and makes sure that it is a directory
    /// of this user with mode 0700.
    ///
    /// # Errors
    ///
    /// [`CallError`]; `EPERM` if what stands there is not ours or open to others.
    pub fn open(parent: impl AsFd, name: &OsStr, path: PathBuf) -> Result<Self, CallError> {
        match rustix::fs::mkdirat(&parent, name, Mode::RWXU) {
            Ok(()) => {
                rustix::fs::fsync(&parent).map_err(CallError::on(Op::Sync, &path))?;
            }
            Err(Errno::EXIST) => {}
            Err(error) => return Err(CallError::on(Op::Create, &path)(error)),
        }
        Self::open_existing(parent, name, path)
    }

    /// As [`PrivateDir::open`], but what is missing stays missing.
    ///
    /// # Errors
    ///
    /// As [`PrivateDir::open`].
    pub fn open_existing(
        parent: impl AsFd,
        name: &OsStr,
        path: PathBuf,
    ) -> Result<Self, CallError> {
        let fd = open_directory(parent, name).map_err(CallError::on(Op::OpenDirectory, &path))?;
        let stat = stat_descriptor(&fd).map_err(CallError::on(Op::Examine, &path))?;
        if stat.uid != super::effective_user() || stat.mode & 0o7777 != 0o700 {
            return Err(CallError::on(Op::Open, &path)(io::Error::new(
                io::ErrorKind::PermissionDenied,
                "it must belong to this user and have mode 0700",
            )));
        }
        Ok(Self { fd, path })
    }

    /// Where it is, for messages.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The descriptor, for calls on its entries.
    pub fn fd(&self) -> &OwnedFd {
        &self.fd
    }

    /// The facts about one of its entries; `None` if there is none.
    ///
    /// # Errors
    ///
    /// [`CallError`] for anything but a missing entry.
    pub fn stat(&self, name: &OsStr) -> Result<Option<Stat>, CallError> {
        match stat_at(&self.fd, name) {
            Ok(stat) => Ok(Some(stat)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(CallError::on(Op::Examine, self.path.join(name))(error)),
        }
    }

    /// Moves an entry of `from` in here under a new name. Nothing is ever overwritten.
    ///
    /// # Errors
    ///
    /// As `renameat2(2)` with `RENAME_NOREPLACE`.
    pub fn take(&self, from: impl AsFd, name: &OsStr, held: &OsStr) -> io::Result<()> {
        let flags = RenameFlags::NOREPLACE;
        Ok(rustix::fs::renameat_with(from, name, &self.fd, held, flags)?)
    }

    /// Moves one of its entries out to `to` under `name`. Nothing is ever overwritten.
    ///
    /// # Errors
    ///
    /// As `renameat2(2)` with `RENAME_NOREPLACE`.
    pub fn give(&self, held: &OsStr, to: impl AsFd, name: &OsStr) -> io::Result<()> {
        let flags = RenameFlags::NOREPLACE;
        Ok(rustix::fs::renameat_with(&self.fd, held, to, name, flags)?)
    }

    /// Exchanges one of its entries with an entry of `other`, in one step: both names are there all the time.
    ///
    /// # Errors
    ///
    /// As `renameat2(2)` with `RENAME_EXCHANGE`.
    pub fn exchange(&self, held: &OsStr, other: impl AsFd, name: &OsStr) -> io::Result<()> {
        Ok(rustix::fs::renameat_with(&self.fd, held, other, name, RenameFlags::EXCHANGE)?)
    }

    /// Makes another name, in here, of a file that is open. Nothing is ever overwritten.
    ///
    /// # Errors
    ///
    /// As `linkat(2)`.
    pub fn link(&self, file: impl AsFd, held: &OsStr) -> io::Result<()> {
        let open = format!("/proc/self/fd/{}", file.as_fd().as_raw_fd());
        let flags = rustix::fs::AtFlags::SYMLINK_FOLLOW;
        Ok(rustix::fs::linkat(rustix::fs::CWD, open, &self.fd, held, flags)?)
    }

    /// Makes what was moved in or out durable.
    ///
    /// # Errors
    ///
    /// [`CallError`], as `fsync(2)`.
    pub fn sync(&self) -> Result<(), CallError> {
        rustix::fs::fsync(&self.fd).map_err(CallError::on(Op::Sync, &self.path))
    }

    /// Whether `syncfs(2)` makes durable what was written to its file system. Most servers of FUSE are never told of it
    /// (Linux, `fs/fuse/inode.c`, `fuse_sync_fs`), and what cannot be asked is not relied on.
    pub fn syncs_as_volume(&self) -> bool {
        const FUSE: u32 = 0x6573_5546; // linux/magic.h
        rustix::fs::fstatfs(&self.fd).is_ok_and(|fs| fs.f_type as u32 != FUSE)
    }

    /// Makes all that was written to its file system durable (`syncfs(2)`), where [`PrivateDir::syncs_as_volume`].
    ///
    /// # Errors
    ///
    /// [`CallError`].
    pub fn sync_volume(&self) -> Result<(), CallError> {
        rustix::fs::syncfs(&self.fd).map_err(CallError::on(Op::Sync, &self.path))
    }

    /// The names in here.
    ///
    /// # Errors
    ///
    /// [`CallError`], as `getdents64(2)`.
    pub fn names(&self) -> Result<Vec<std::ffi::OsString>, CallError> {
        let again =
            open_directory(&self.fd, ".").map_err(CallError::on(Op::OpenDirectory, &self.path))?;
        let mut names = Vec::new();
        super::DirReader::default()
            .read(&again, |entry| {
                names.push(OsStr::from_bytes(entry.name.to_bytes()).to_owned());
                true
            })
            .map_err(CallError::on(Op::ReadDirectory, &self.path))?;
        Ok(names)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_split_as_the_standard_library_does_it() {
        let parts = ["", "/", "//", ".", "..", "/.", "/..", "a", "/a", "/a.", "/.a", "/a/", " "];
        for number in 0..parts.len().pow(3) {
            let part = |place: u32| parts[number / parts.len().pow(place) % parts.len()];
            let path = [part(0), part(1), part(2)].concat();
            let path = Path::new(&path);
            let expected = path.parent().zip(path.file_name());
            assert_eq!(directory_and_name(path), expected, "{}", path.display());
        }
    }

    #[test]
    fn every_operation_has_words_of_its_own_that_lead_back_to_it() {
        for op in Op::ALL {
            assert_eq!(Op::of_words(op.words()), op);
        }
        assert_eq!(Op::of_words("of a later version"), Op::Read);
    }
}
