//! A directory that archives go to.

use std::fs::File;
use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags};
use rustix::io::Errno;

use crate::kernel::{self, CallError, Kind, Op, stat_at, stat_descriptor};
use crate::shown::Shown;

/// Why a depot cannot be used, or an archive in it not be trusted.
#[derive(Debug, thiserror::Error)]
pub enum DepotError {
    /// The kernel refused: full, read-only, no rights …
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
    /// It is a file, or a file lies on the way to it.
    #[error("the depot {} cannot be used: {} is no directory", Shown(path), Shown(at))]
    NoDirectory {
        /// The depot as it was given.
        path: PathBuf,
        /// What is no directory.
        at: PathBuf,
    },
    /// Somebody else could change archives in it.
    #[error("the depot {} must belong to this user and be writable by nobody else", Shown(.0))]
    NotOurs(PathBuf),
    /// Somebody else could put another directory in its place.
    #[error("the depot {} is not safe: others may write to {}", Shown(path), Shown(at))]
    Exposed {
        /// The depot as it was given.
        path: PathBuf,
        /// The directory on the way to it.
        at: PathBuf,
    },
    /// It is given in a way that can mean different places.
    #[error("the depot {} must be an absolute path, without `..` behind what is there", Shown(.0))]
    NotPlain(PathBuf),
    /// Another archive has that name.
    #[error("{} exists, and no archive is ever replaced", Shown(.0))]
    Taken(PathBuf),
    /// What was read back is not what was written.
    #[error("the archive {} is not what was written: {reason}", Shown(path))]
    Differs {
        /// Which archive.
        path: PathBuf,
        /// Where it differs.
        reason: String,
    },
}

/// A depot that is open. What it is called may change; which directory it is does not.
#[derive(Debug)]
pub struct Depot {
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
    /// Looks where a depot is or would be made, and changes nothing. What this refuses [`Depot::open`] refuses too.
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
    match kernel::stat_path(path) {
        Ok(_) => Ok(true),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(CallError::on(Op::Examine, path)(error)),
    }
}

impl Depot {
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
        for name in place.path.strip_prefix(&place.standing).unwrap_or(Path::new("")).iter() {
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

    /// The directory is looked at once more by its descriptor: another may have come to its place.
    fn of(directory: OwnedFd, path: PathBuf) -> Result<Self, DepotError> {
        let stat = stat_descriptor(&directory).map_err(CallError::on(Op::Examine, &path))?;
        if stat.uid != kernel::effective_user() || stat.mode & 0o022 != 0 {
            return Err(DepotError::NotOurs(path));
        }
        Ok(Self { path, directory, identity: (stat.dev, stat.ino) })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Which directory it is, however it is called: device and inode.
    pub fn identity(&self) -> (u64, u64) {
        self.identity
    }

    /// The path of one of its files.
    pub fn file(&self, name: &str) -> PathBuf {
        self.path.join(name)
    }

    /// Whether a name is taken.
    ///
    /// # Errors
    ///
    /// [`CallError`] for any answer but that it is there or is not.
    pub fn has(&self, name: &str) -> Result<bool, CallError> {
        match stat_at(&self.directory, name) {
            Ok(_) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(CallError::on(Op::Examine, self.file(name))(error)),
        }
    }

    /// Makes a new file that only this user may read.
    ///
    /// # Errors
    ///
    /// [`DepotError::Taken`] if the name is, [`DepotError::Call`].
    pub fn create(&self, name: &str) -> Result<File, DepotError> {
        let flags =
            OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        match rustix::fs::openat(&self.directory, name, flags, Mode::RUSR | Mode::WUSR) {
            Ok(fd) => Ok(File::from(fd)),
            Err(Errno::EXIST) => Err(DepotError::Taken(self.file(name))),
            Err(error) => Err(CallError::on(Op::Create, self.file(name))(error).into()),
        }
    }

    /// Opens one of its files for reading; no link is followed.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    pub fn read(&self, name: &str) -> Result<File, CallError> {
        kernel::open_file(&self.directory, name).map_err(CallError::on(Op::Open, self.file(name)))
    }

    /// Writes a small file whole and syncs it, under a temporary name first. The name that it gets must be free.
    ///
    /// # Errors
    ///
    /// [`DepotError::Taken`], [`DepotError::Call`]; then nothing of it is left.
    pub fn write_new(&self, name: &str, contents: &[u8]) -> Result<(), DepotError> {
        let part = unfinished(name);
        let mut file = self.create(&part)?;
        let written = file.write_all(contents).and_then(|()| file.sync_all());
        let named = written
            .map_err(|error| CallError::on(Op::Write, self.file(name))(error).into())
            .and_then(|()| self.rename_new(&part, name));
        if named.is_err() {
            // the error that matters is the first one
            let _ = self.remove(&part);
        }
        named
    }

    /// Gives a file another name, which must be free: whatever has it stays.
    ///
    /// # Errors
    ///
    /// [`DepotError::Taken`], [`DepotError::Call`]; then the file has its old name.
    pub fn rename_new(&self, from: &str, to: &str) -> Result<(), DepotError> {
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
            Err(Errno::EXIST) => Err(DepotError::Taken(self.file(to))),
            Err(error) => Err(CallError::on(Op::Rename, self.file(to))(error).into()),
        }
    }

    /// Makes all names in it durable.
    ///
    /// # Errors
    ///
    /// [`CallError`], as `fsync(2)`.
    pub fn sync(&self) -> Result<(), CallError> {
        rustix::fs::fsync(&self.directory).map_err(CallError::on(Op::Sync, &self.path))
    }

    /// Removes one of its files, if it is there.
    fn remove(&self, name: &str) -> Result<(), CallError> {
        match rustix::fs::unlinkat(&self.directory, name, AtFlags::empty()) {
            Ok(()) | Err(Errno::NOENT) => Ok(()),
            Err(error) => Err(CallError::on(Op::Remove, self.file(name))(error)),
        }
    }

    /// Removes what an unfinished packing has left, of which nothing can be missed: originals are
    /// removed only after an archive has its name. One that has it is left alone, with its index, and so is
    /// everything if it cannot be seen whether one has it.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    pub fn clear_unfinished(&self, name: &str) -> Result<(), CallError> {
        let files = ArchiveFiles::of(name);
        let is_named = self.has(&files.archive)?;
        for file in [&files.archive, &files.index, &files.sums] {
            self.remove(&unfinished(file))?;
        }
        if !is_named {
            self.remove(&files.index)?;
            self.remove(&files.sums)?;
        }
        Ok(())
    }
}

/// The names of the three files that an archive consists of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ArchiveFiles {
    /// The archive itself, `NAME.tar.zst`.
    pub archive: String,
    /// The index beside it, `NAME.json`.
    pub index: String,
    /// Its checksum for standard tools, `NAME.sha256`.
    pub sums: String,
}

impl ArchiveFiles {
    /// Those of the archive NAME.
    pub fn of(name: &str) -> Self {
        let file = |ending: &str| format!("{name}.{ending}");
        Self { archive: file("tar.zst"), index: file("json"), sums: file("sha256") }
    }
}

/// What a file is called until it is proved.
pub(super) fn unfinished(file: &str) -> String {
    format!(".{file}.part")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn depot() -> (tempfile::TempDir, Depot) {
        let directory = tempfile::tempdir().unwrap();
        let depot = Depot::open(&directory.path().canonicalize().unwrap().join("a/depot")).unwrap();
        (directory, depot)
    }

    #[test]
    fn what_is_unfinished_is_cleared_and_what_has_its_name_is_kept() {
        let (_directory, depot) = depot();
        let write = |files: &[&str]| {
            files.iter().for_each(|file| std::fs::write(depot.file(file), b"x").unwrap());
        };
        let names = || {
            let names = std::fs::read_dir(depot.path()).unwrap();
            let mut names: Vec<_> =
                names.map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
            names.sort();
            names
        };
        write(&[".run.tar.zst.part", "run.json", "run.sha256", "other.tar.zst", "other.json"]);
        depot.clear_unfinished("run").unwrap();
        assert_eq!(names(), ["other.json", "other.tar.zst"]);
        depot.clear_unfinished("run").unwrap();
        write(&[".other.tar.zst.part"]);
        depot.clear_unfinished("other").unwrap();
        assert_eq!(names(), ["other.json", "other.tar.zst"]);
    }

    #[test]
    fn no_name_is_taken_that_something_has() {
        let (_directory, depot) = depot();
        depot.write_new("run.json", b"first").unwrap();
        assert!(matches!(depot.write_new("run.json", b"second"), Err(DepotError::Taken(_))));
        assert!(matches!(depot.create("run.json"), Err(DepotError::Taken(_))));
        depot.create("other").unwrap();
        assert!(matches!(depot.rename_new("other", "run.json"), Err(DepotError::Taken(_))));
        assert_eq!(std::fs::read(depot.file("run.json")).unwrap(), b"first");
        assert!(depot.has("other").unwrap() && !depot.has(".run.json.part").unwrap());
    }

    #[test]
    fn a_place_is_refused_in_a_look_as_it_is_in_earnest() {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        std::fs::write(home.join("file"), b"x").unwrap();
        std::os::unix::fs::symlink("nowhere", home.join("broken")).unwrap();
        for path in ["file", "file/depot", "broken", "broken/depot", "a/../b"] {
            let path = home.join(path);
            let looked = DepotPlace::look(&path).unwrap_err().to_string();
            assert_eq!(Depot::open(&path).unwrap_err().to_string(), looked);
        }
        assert!(matches!(DepotPlace::look(Path::new("depot")), Err(DepotError::NotPlain(_))));
        std::os::unix::fs::symlink(".", home.join("here")).unwrap();
        let place = DepotPlace::look(&home.join("here/new/depot")).unwrap();
        assert_eq!((place.path, place.standing), (home.join("new/depot"), home));
    }
}
