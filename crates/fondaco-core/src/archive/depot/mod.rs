//! Places that archives go to: an address, and what a place of any kind promises.
//!
//! A directory is one kind, a store over HTTP another. A kind implements [`Depot`] and [`NewObject`], gets a variant of
//! [`DepotAddress`], and passes the promises in the tests of this module.

mod directory;
mod store;

use std::ffi::OsString;
use std::fmt::Debug;
use std::io::{self, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use crate::kernel::CallError;
use crate::shown::Shown;
use crate::units::Bytes;

use fondaco_store::{StoreAddress, StoreError};

pub use directory::{DepotPlace, DirectoryDepot};
pub use store::StoreDepot;

/// Why a depot cannot be used, or an archive in it not be trusted.
#[derive(Debug, thiserror::Error)]
pub enum DepotError {
    /// The kernel refused: full, read-only, no rights …
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
    /// It is a file, or a file lies on the way to it.
    #[error("{} cannot be used: {} is no directory", Shown(path), Shown(at))]
    NoDirectory {
        /// The depot as it was given.
        path: PathBuf,
        /// What is no directory.
        at: PathBuf,
    },
    /// Somebody else could change archives in it.
    #[error("{} must belong to this user and be writable by nobody else", Shown(.0))]
    NotOurs(PathBuf),
    /// Somebody else could put another directory in its place.
    #[error("{} is not safe: others may write to {}", Shown(path), Shown(at))]
    Exposed {
        /// The depot as it was given.
        path: PathBuf,
        /// The directory on the way to it.
        at: PathBuf,
    },
    /// It is given in a way that can mean different places.
    #[error("{} must be an absolute path, without `..` behind what is there", Shown(.0))]
    NotPlain(PathBuf),
    /// Another archive has that name.
    #[error("{} exists, and no archive is ever replaced", Shown(.0))]
    Taken(PathBuf),
    /// It is a store that is called in a way that makes no sense, or that cannot be come into.
    #[error("{}: {source}", Shown(path))]
    Store {
        /// The depot as it was given.
        path: PathBuf,
        /// What is wrong.
        source: StoreError,
    },
    /// What was read back is not what was written.
    #[error("the archive {} is not what was written: {reason}", Shown(path))]
    Differs {
        /// The archive that differs.
        path: PathBuf,
        /// Where it differs.
        reason: String,
    },
}

/// What a depot is called in plans and journals. The address of a store is written like a path, `s3://BUCKET/PREFIX` or
/// `https://HOST/PATH`: no absolute path begins so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DepotAddress {
    /// A directory, by its path.
    Directory(PathBuf),
    /// A store, by its address.
    Store(PathBuf),
}

impl From<&Path> for DepotAddress {
    fn from(path: &Path) -> Self {
        match is_store(path) {
            true => Self::Store(path.to_owned()),
            false => Self::Directory(path.to_owned()),
        }
    }
}

/// Whether what a depot is called is the address of a store.
pub fn is_store(path: &Path) -> bool {
    StoreAddress::is_meant(path.as_os_str().as_bytes())
}

/// The name of a managed store that a path is, or lies in: `store:NAME`.
pub fn managed_name(path: &Path) -> Option<&str> {
    path.to_str()?.strip_prefix("store:")?.split('/').next()
}

/// The absolute path of a depot that is given relative to a directory; the address of a store is as it is.
///
/// # Errors
///
/// That of [`std::path::absolute`].
pub fn absolute(path: &Path) -> io::Result<PathBuf> {
    if is_store(path) { Ok(path.to_owned()) } else { std::path::absolute(path) }
}

impl DepotAddress {
    /// Opens the depot; one that is missing is made, and its name is durable when this returns.
    ///
    /// # Errors
    ///
    /// [`DepotError`].
    pub fn open(&self) -> Result<Box<dyn Depot>, DepotError> {
        match self {
            Self::Directory(path) => Ok(Box::new(DirectoryDepot::open(path)?)),
            Self::Store(path) => Ok(Box::new(StoreDepot::of_process(path)?)),
        }
    }

    /// Opens a depot that is there.
    ///
    /// # Errors
    ///
    /// [`DepotError`].
    pub fn open_existing(&self) -> Result<Box<dyn Depot>, DepotError> {
        match self {
            Self::Directory(path) => Ok(Box::new(DirectoryDepot::open_existing(path)?)),
            Self::Store(path) => Ok(Box::new(StoreDepot::of_process(path)?)),
        }
    }
}

/// A depot that is open. Whatever it is called, it stays the same place, and nothing in it is ever replaced.
pub trait Depot: Debug + Send {
    /// Which place it is, however it is called: equal for two that are open on the same.
    fn identity(&self) -> String;

    /// What one of its objects is called.
    fn object(&self, name: &str) -> PathBuf;

    /// The names of all of its objects, in no order, with their lengths where the list has them.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    fn names(&self) -> Result<Vec<(OsString, Option<Bytes>)>, CallError>;

    /// The length of an object.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    fn length(&self, name: &str) -> Result<Bytes, CallError>;

    /// Whether a name is taken.
    ///
    /// # Errors
    ///
    /// [`CallError`] for any answer but that it is there or is not.
    fn has(&self, name: &str) -> Result<bool, CallError>;

    /// Begins a new object that only this user may read.
    ///
    /// # Errors
    ///
    /// [`DepotError::Taken`] if the name is, [`DepotError::Call`].
    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, DepotError>;

    /// Reads an object from a byte on: so many bytes, or all that follow.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    fn read(
        &self,
        name: &str,
        from: u64,
        length: Option<u64>,
    ) -> Result<Box<dyn Read + Send>, CallError>;

    /// Reads an object from its beginning, as it is stored and not as it is remembered.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    fn read_stored(&self, name: &str) -> Result<Box<dyn Read + Send>, CallError>;

    /// Gives an object another name, which must be free: whatever has it stays.
    ///
    /// # Errors
    ///
    /// [`DepotError::Taken`], [`DepotError::Call`]; then the object has its old name.
    fn rename_new(&self, from: &str, to: &str) -> Result<(), DepotError>;

    /// Makes all names in it durable.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    fn sync(&self) -> Result<(), CallError>;

    /// Removes one of its objects, if it is there.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    fn remove(&self, name: &str) -> Result<(), CallError>;

    /// Writes a small object whole and makes it durable, under a temporary name first. The name that it gets must be
    /// free.
    ///
    /// # Errors
    ///
    /// [`DepotError::Taken`], [`DepotError::Call`]; then nothing of it is left.
    fn write_new(&self, name: &str, contents: &[u8]) -> Result<(), DepotError> {
        let part = unfinished(name);
        let mut object = self.create(&part)?;
        let written = object.write_all(contents).and_then(|()| object.store());
        drop(object);
        let named = written
            .map_err(|error| {
                CallError::on(crate::kernel::Op::Write, self.object(name))(error).into()
            })
            .and_then(|()| self.rename_new(&part, name));
        if named.is_err() {
            // the error that matters is the first one
            let _ = self.remove(&part);
        }
        named
    }

    /// Removes what an unfinished packing has left, of which nothing can be missed: originals are
    /// removed only after an archive has its name. One that has it is left alone, with its index, and so is
    /// everything if it cannot be seen whether one has it.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    fn clear_unfinished(&self, name: &str) -> Result<(), CallError> {
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

/// An object of a depot that is being written, as a stream.
pub trait NewObject: Write + Debug + Send {
    /// Whether what was written last can be taken back. Where it cannot, it is spooled before it is written.
    fn can_take_back(&self) -> bool;

    /// Says that what is written after this length may be taken back, and nothing that lies before it any more.
    fn keep_from(&mut self, length: u64);

    /// Takes back all that was written after the length of [`NewObject::keep_from`].
    ///
    /// # Errors
    ///
    /// That of the depot; also if it cannot be done at all.
    fn take_back_to(&mut self, length: u64) -> io::Result<()>;

    /// Makes all that was written durable; nothing is written after it.
    ///
    /// # Errors
    ///
    /// That of the depot.
    fn store(&mut self) -> io::Result<()>;

    /// Reads it from its beginning, as it is stored and not as it is remembered.
    ///
    /// # Errors
    ///
    /// That of the depot.
    fn read_back(&mut self) -> io::Result<Box<dyn Read + Send + '_>>;
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
    /// The file names that belong to the archive NAME.
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
mod tests;
