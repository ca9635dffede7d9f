//! A depot that is a directory.

use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::{Advice, AtFlags, Mode, OFlags, RenameFlags};
use rustix::io::Errno;

use super::{Depot, DepotError, NewObject};
use crate::kernel::{self, CallError, DirReader, Kind, Op, stat_at, stat_descriptor};
use crate::units::Bytes;

/// A directory that is open as a depot. What it is called may change; which directory it is does not.
#[derive(Debug)]
pub struct DirectoryDepot {
    path: PathBuf,
    directory: OwnedFd,
    identity: (u64, u64),
}

/// What stands where a depot is to be.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct DepotPlace {
    /// The depot without links on the way, as far as it is there.
    pub path: PathBuf,
    /// The depot itself, or the nearest directory above it that is there.
    pub standing: PathBuf,
}

impl DepotPlace {
    /// Looks where a depot is or would be made, and changes nothing. What this refuses [`DirectoryDepot::open`]
    /// refuses too.
    ///
    /// # Errors
    ///
    /// [`DepotError`].
    pub fn look(path: &Path) -> Result<Self, DepotError> {
        let not_plain = || DepotError::NotPlain(path.to_owned());
        if !path.is_absolute() {
            return Err(not_plain());
        }
        let mut missing = Vec::new();
        let mut standing = path;
        let real = loop {
            match standing.canonicalize() {
                Ok(real) => break real,
                // a link that leads nowhere is not a place where a directory can be made
                Err(error) if error.kind() == io::ErrorKind::NotFound && !is_there(standing)? => {
                    let (Some(parent), Some(name)) = (standing.parent(), standing.file_name())
                    else {
                        return Err(not_plain());
                    };
                    missing.push(name);
                    standing = parent;
                }
                Err(error) if error.raw_os_error() == Some(libc::ENOTDIR) => {
                    let at = standing.parent().unwrap_or(standing).to_owned();
                    return Err(DepotError::NoDirectory { path: path.to_owned(), at });
                }
                Err(error) => return Err(CallError::on(Op::Open, standing)(error).into()),
            }
        };
        let stat = kernel::stat_path(&real).map_err(CallError::on(Op::Examine, &real))?;
        if stat.kind != Kind::Directory {
            return Err(DepotError::NoDirectory { path: path.to_owned(), at: real });
        }
        if missing.is_empty() && (stat.uid != kernel::effective_user() || stat.mode & 0o022 != 0) {
            return Err(DepotError::NotOurs(real));
        }
        if let Some(at) = kernel::exposed_at(&real).map_err(CallError::on(Op::Examine, &real))? {
            return Err(DepotError::Exposed { path: path.to_owned(), at });
        }
        let whole = missing.iter().rev().fold(real.clone(), |path, name| path.join(name));
        Ok(Self { path: whole, standing: real })
    }

    /// Whether the depot would have to be made.
    pub fn is_missing(&self) -> bool {
        self.path != self.standing
    }
}

fn is_there(path: &Path) -> Result<bool, CallError> {
    kernel::is_there(path).map_err(CallError::on(Op::Examine, path))
}

impl DirectoryDepot {
    /// Opens a depot, making its directory (mode 0700) if it is missing; the names of directories that are made
    /// are durable when this returns.
    ///
    /// # Errors
    ///
    /// [`DepotError`].
    pub fn open(path: &Path) -> Result<Self, DepotError> {
        let place = DepotPlace::look(path)?;
        let mut at = place.standing.clone();
        let mut directory =
            kernel::open_root(&at).map_err(CallError::on(Op::OpenDirectory, &at))?;
        for name in place.path.strip_prefix(&place.standing).unwrap_or(Path::new("")) {
            at.push(name);
            match rustix::fs::mkdirat(&directory, name, Mode::RWXU) {
                Ok(()) => rustix::fs::fsync(&directory).map_err(CallError::on(Op::Sync, &at))?,
                Err(Errno::EXIST) => {} // another run was faster
                Err(error) => return Err(CallError::on(Op::Create, &at)(error).into()),
            }
            directory = kernel::open_directory(&directory, name)
                .map_err(CallError::on(Op::OpenDirectory, &at))?;
        }
        Self::of(directory, place.path)
    }

    /// Opens a depot that is there.
    ///
    /// # Errors
    ///
    /// [`DepotError`].
    pub fn open_existing(path: &Path) -> Result<Self, DepotError> {
        let path = path.canonicalize().map_err(CallError::on(Op::Open, path))?;
        let place = DepotPlace::look(&path)?;
        let directory = kernel::open_root(&place.path)
            .map_err(CallError::on(Op::OpenDirectory, &place.path))?;
        Self::of(directory, place.path)
    }

    /// Its path without links, and the descriptor.
    pub(crate) fn into_parts(self) -> (PathBuf, OwnedFd) {
        (self.path, self.directory)
    }

    /// Opens one of its objects for reading; no link is followed.
    fn open_object(&self, name: &str) -> Result<File, CallError> {
        let opened = kernel::open_file(&self.directory, name);
        opened.map_err(CallError::on(Op::Open, self.object(name)))
    }

    /// The directory is looked at once more by its descriptor: another may have come to its place.
    fn of(directory: OwnedFd, path: PathBuf) -> Result<Self, DepotError> {
        let stat = stat_descriptor(&directory).map_err(CallError::on(Op::Examine, &path))?;
        if stat.uid != kernel::effective_user() || stat.mode & 0o022 != 0 {
            return Err(DepotError::NotOurs(path));
        }
        Ok(Self { path, directory, identity: (stat.dev, stat.ino) })
    }
}

impl Depot for DirectoryDepot {
    fn identity(&self) -> String {
        format!("{}:{}", self.identity.0, self.identity.1)
    }

    fn object(&self, name: &str) -> PathBuf {
        self.path.join(name)
    }

    fn names(&self) -> Result<Vec<(OsString, Option<Bytes>)>, CallError> {
        let mut names = Vec::new();
        let read = DirReader::default().read(&self.directory, |entry| {
            names.push((OsStr::from_bytes(entry.name.to_bytes()).to_owned(), None));
            true
        });
        read.map_err(CallError::on(Op::ReadDirectory, &self.path))?;
        Ok(names)
    }

    fn length(&self, name: &str) -> Result<Bytes, CallError> {
        let stat = stat_at(&self.directory, name);
        Ok(Bytes::new(stat.map_err(CallError::on(Op::Examine, self.object(name)))?.size))
    }

    fn has(&self, name: &str) -> Result<bool, CallError> {
        match stat_at(&self.directory, name) {
            Ok(_) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(CallError::on(Op::Examine, self.object(name))(error)),
        }
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, DepotError> {
        let flags =
            OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        match rustix::fs::openat(&self.directory, name, flags, Mode::RUSR | Mode::WUSR) {
            Ok(fd) => Ok(Box::new(NewFile(File::from(fd)))),
            Err(Errno::EXIST) => Err(DepotError::Taken(self.object(name))),
            Err(error) => Err(CallError::on(Op::Create, self.object(name))(error).into()),
        }
    }

    fn read(
        &self,
        name: &str,
        from: u64,
        length: Option<u64>,
    ) -> Result<Box<dyn Read + Send>, CallError> {
        let at = |op| CallError::on(op, self.object(name));
        let mut file = self.open_object(name)?;
        file.seek(SeekFrom::Start(from)).map_err(|error| at(Op::Read)(error))?;
        Ok(match length {
            Some(length) => Box::new(file.take(length)),
            None => Box::new(file),
        })
    }

    fn read_stored(&self, name: &str) -> Result<Box<dyn Read + Send>, CallError> {
        let file = self.open_object(name)?;
        // it was synced long ago: let go of the cached pages, so that the device is asked
        let _ = rustix::fs::fadvise(&file, 0, None, Advice::DontNeed);
        Ok(Box::new(file))
    }

    fn rename_new(&self, from: &str, to: &str) -> Result<(), DepotError> {
        let here = &self.directory;
        let renamed = match rustix::fs::renameat_with(here, from, here, to, RenameFlags::NOREPLACE)
        {
            // file systems that cannot rename without replacing, such as NFS, can mostly link, which never replaces
            Err(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => {
                rustix::fs::linkat(here, from, here, to, AtFlags::empty())
                    .and_then(|()| rustix::fs::unlinkat(here, from, AtFlags::empty()))
            }
            renamed => renamed,
        };
        match renamed {
            Ok(()) => Ok(()),
            Err(Errno::EXIST) => Err(DepotError::Taken(self.object(to))),
            Err(error) => Err(CallError::on(Op::Rename, self.object(to))(error).into()),
        }
    }

    fn sync(&self) -> Result<(), CallError> {
        rustix::fs::fsync(&self.directory).map_err(CallError::on(Op::Sync, &self.path))
    }

    fn remove(&self, name: &str) -> Result<(), CallError> {
        match rustix::fs::unlinkat(&self.directory, name, AtFlags::empty()) {
            Ok(()) | Err(Errno::NOENT) => Ok(()),
            Err(error) => Err(CallError::on(Op::Remove, self.object(name))(error)),
        }
    }
}

/// A file of a depot that is being written.
#[derive(Debug)]
struct NewFile(File);

impl Write for NewFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl NewObject for NewFile {
    fn can_take_back(&self) -> bool {
        true
    }

    fn keep_from(&mut self, _length: u64) {}

    fn take_back_to(&mut self, length: u64) -> io::Result<()> {
        self.0.set_len(length)?;
        self.0.seek(SeekFrom::Start(length)).map(|_| ())
    }

    fn store(&mut self) -> io::Result<()> {
        self.0.sync_all()
    }

    fn read_back(&mut self) -> io::Result<Box<dyn Read + Send + '_>> {
        // it was synced: let go of the cached pages, so that the device is asked
        let _ = rustix::fs::fadvise(&self.0, 0, None, Advice::DontNeed);
        self.0.seek(SeekFrom::Start(0))?;
        Ok(Box::new(&self.0))
    }
}
