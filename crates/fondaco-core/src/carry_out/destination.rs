//! The directory that a move goes to: below it a target has the whole path that it had before.

use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{Gid, Mode, OFlags, Uid};

use super::holding::clear_attempt;
use crate::archive::{DepotError, DirectoryDepot};
use crate::kernel::{self, CallError, Kind, Op, PrivateDir, Stat, open_beneath};
use crate::plan::{Refusal, moved_place};

/// A directory that targets are moved to, open.
#[derive(Debug)]
pub(super) struct Destination {
    pub(super) path: PathBuf,
    directory: OwnedFd,
    pub(super) stat: Stat,
    /// Where copies lie until they get their places, if there are any.
    pub(super) staging: Option<Arc<PrivateDir>>,
}

fn below_root(path: &Path) -> &Path {
    path.strip_prefix("/").unwrap_or(path)
}

impl Destination {
    /// Opens a destination; a missing one is made with mode 0700.
    pub(super) fn open(to: &Path) -> Result<Self, DepotError> {
        Self::of(DirectoryDepot::open(to)?)
    }

    /// Opens a destination that is there.
    pub(super) fn open_existing(to: &Path) -> Result<Self, DepotError> {
        Self::of(DirectoryDepot::open_existing(to)?)
    }

    fn of(depot: DirectoryDepot) -> Result<Self, DepotError> {
        let (path, directory) = depot.into_parts();
        let stat =
            kernel::stat_descriptor(&directory).map_err(CallError::on(Op::Examine, &path))?;
        Ok(Self { path, directory, stat, staging: None })
    }

    /// Where a target is, or is to be.
    pub(super) fn place(&self, path: &Path) -> PathBuf {
        moved_place(&self.path, path)
    }

    /// Gives what lies in a private directory its place. Directories that are missing on the way are made like those
    /// that the target lay in. Tells the directory that holds it now, which is not synced yet.
    ///
    /// # Errors
    ///
    /// [`Refusal::Taken`] if something has the place, [`Refusal::Call`]; then it is where it was.
    pub(super) fn receive(
        &self,
        area: &Arc<PrivateDir>,
        held: &OsStr,
        path: &Path,
    ) -> Result<OwnedFd, Refusal> {
        let place = self.place(path);
        let below = below_root(path);
        let directory = below.parent().unwrap_or(Path::new(""));
        let name = below.file_name().ok_or_else(|| Refusal::Gone(path.to_owned()))?;
        // somebody else may make a directory on the way at the same time; each turn finds one more
        for _ in 0..=below.components().count() {
            match open_directory_beneath(&self.directory, directory) {
                Ok(parent) => {
                    return match area.give(held, &parent, name) {
                        Ok(()) => Ok(parent),
                        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                            Err(Refusal::Taken(place))
                        }
                        Err(error) => Err(CallError::on(Op::Rename, place)(error).into()),
                    };
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    self.make_way(area, held, directory)?;
                }
                Err(error) => {
                    let directory = self.path.join(directory);
                    return Err(CallError::on(Op::OpenDirectory, directory)(error).into());
                }
            }
        }
        Err(Refusal::Taken(place))
    }

    /// Makes the directories on the way that are missing. They are made in the private directory, where nobody else
    /// can put something in the place of one before it has its owner, and get their place with one rename.
    fn make_way(&self, area: &PrivateDir, held: &OsStr, directory: &Path) -> Result<(), Refusal> {
        let wrap = |op, path: &Path| CallError::on(op, self.path.join(path));
        let open_error = |error: io::Error, at: &Path| wrap(Op::OpenDirectory, at)(error);
        let sync = |directory: &OwnedFd, at: &Path| {
            rustix::fs::fsync(directory).map_err(|error| wrap(Op::Sync, at)(error.into()))
        };
        let mut at = PathBuf::new();
        let standing = open_directory_beneath(&self.directory, &at);
        let mut standing = standing.map_err(|error| open_error(error, &at))?;
        let mut parts = directory.components().map(Component::as_os_str);
        let first = loop {
            let Some(part) = parts.next() else { return Ok(()) };
            match open_directory_beneath(&standing, Path::new(part)) {
                Ok(next) => standing = next,
                Err(error) if error.kind() == io::ErrorKind::NotFound => break part,
                Err(error) => return Err(open_error(error, &at.join(part)).into()),
            }
            at.push(part);
        };
        let mut staged = OsString::from(held);
        staged.push(".way");
        clear_attempt(area, &staged)?;
        let mut original = Path::new("/").join(&at).join(first);
        let mut made = vec![make_like(&original, area.fd(), &staged)?];
        for name in parts {
            original.push(name);
            let next = make_like(&original, made.last().unwrap_or(area.fd()), name)?;
            made.push(next);
        }
        for directory in made.iter().rev() {
            sync(directory, &at)?;
        }
        match area.give(&staged, &standing, first) {
            Ok(()) => Ok(sync(&standing, &at)?),
            // it has been made meanwhile
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                clear_attempt(area, &staged)
            }
            Err(error) => Err(wrap(Op::Rename, &at.join(first))(error).into()),
        }
    }

    /// The directory that holds a moved target, and the facts about what has its name there; `None` if nothing has.
    pub(super) fn look(&self, path: &Path) -> Result<Option<(OwnedFd, Stat)>, CallError> {
        let below = below_root(path);
        let directory = below.parent().unwrap_or(Path::new(""));
        let absent = |error: io::Error, op, path: PathBuf| match error.kind() {
            io::ErrorKind::NotFound => Ok(None),
            _ => Err(CallError::on(op, path)(error)),
        };
        let parent = match open_directory_beneath(&self.directory, directory) {
            Ok(parent) => parent,
            Err(error) => return absent(error, Op::OpenDirectory, self.path.join(directory)),
        };
        match kernel::stat_at(&parent, below.file_name().unwrap_or_default()) {
            Ok(stat) => Ok(Some((parent, stat))),
            Err(error) => absent(error, Op::Examine, self.place(path)),
        }
    }
}

fn open_directory_beneath(root: impl AsFd, path: &Path) -> io::Result<OwnedFd> {
    open_beneath(root, path, OFlags::RDONLY | OFlags::DIRECTORY)
}

/// Makes a directory with owner and mode of another one. Only root can give a directory away.
fn make_like(original: &Path, parent: &OwnedFd, name: &OsStr) -> Result<OwnedFd, CallError> {
    let like = kernel::stat_path(original).map_err(CallError::on(Op::Examine, original))?;
    if like.kind != Kind::Directory {
        let error = io::Error::from(io::ErrorKind::NotADirectory);
        return Err(CallError::on(Op::OpenDirectory, original)(error));
    }
    rustix::fs::mkdirat(parent, name, Mode::RWXU).map_err(CallError::on(Op::Create, original))?;
    let made =
        kernel::open_directory(parent, name).map_err(CallError::on(Op::OpenDirectory, original))?;
    if kernel::effective_user() == 0 {
        let (uid, gid) = (Uid::from_raw(like.uid), Gid::from_raw(like.gid));
        rustix::fs::fchown(&made, Some(uid), Some(gid))
            .map_err(CallError::on(Op::SetOwner, original))?;
    }
    rustix::fs::fchmod(&made, Mode::from_raw_mode(like.mode & 0o7777))
        .map_err(CallError::on(Op::SetMode, original))?;
    Ok(made)
}
