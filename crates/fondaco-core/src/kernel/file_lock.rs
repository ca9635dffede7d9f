//! Locks between processes (`flock(2)`), by a file that stays.

use std::fs::{File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use rustix::fs::{FlockOperation, flock};
use rustix::io::Errno;

use super::beneath::{CallError, Op};

/// A file that may be locked by one process at a time. It is unlocked when this is dropped, and by the kernel however the
/// process ends.
#[derive(Debug)]
pub struct FileLock(File);

impl FileLock {
    /// Opens the file, making it (mode 0600) if it is missing. It is not locked yet.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    pub fn open(path: &Path) -> Result<Self, CallError> {
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600);
        Ok(Self(options.open(path).map_err(CallError::on(Op::Create, path))?))
    }

    /// Locks it, if no other process has; waits for none.
    ///
    /// # Errors
    ///
    /// [`CallError`] for anything but that another process has it locked.
    pub fn try_lock(&self, path: &Path) -> Result<bool, CallError> {
        match flock(&self.0, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(true),
            Err(Errno::WOULDBLOCK) => Ok(false),
            Err(error) => Err(CallError::on(Op::Lock, path)(error)),
        }
    }

    /// The open file, for what it says of who has it locked.
    pub fn file(&mut self) -> &mut File {
        &mut self.0
    }
}

impl Drop for FileLock {
    /// Closing alone would not do: a scan or program that was begun meanwhile has copies of all descriptors.
    fn drop(&mut self) {
        // what is not unlocked here is, at the latest, when those end
        let _ = flock(&self.0, FlockOperation::Unlock);
    }
}
