//! Writing what is restored on several threads: hashing takes longer than unpacking.

use std::fs::File;
use std::os::fd::OwnedFd;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};

use super::dress::dress;
use super::original::ContentHash;
use super::tar_read::Pieces;
use super::{ArchivedEntry, DepotError};
use crate::kernel::{CallError, Op};
use crate::parallel;

/// Longer files are written as they are read.
pub(super) const LONGEST: u64 = 1 << 20;
/// So many files wait to be written before the reader does.
const WAITING: usize = 32;

/// A new file, and what it is to hold.
pub(super) struct NewFile<'a> {
    pub(super) fd: OwnedFd,
    pub(super) pieces: Pieces,
    pub(super) wanted: &'a ArchivedEntry,
    /// What it is called in messages.
    pub(super) path: PathBuf,
}

impl NewFile<'_> {
    /// Compares the contents with the index, writes them, and gives the file what its original had.
    pub(super) fn write(self) -> Result<(), DepotError> {
        let mut hash = ContentHash::default();
        let file = File::from(self.fd);
        for (offset, data) in &self.pieces {
            hash.zeros_up_to(*offset);
            hash.update(data);
            file.write_all_at(data, *offset).map_err(CallError::on(Op::Write, &self.path))?;
        }
        hash.zeros_up_to(self.wanted.size);
        if Some(&hash.finish()) != self.wanted.sha256.as_ref() {
            let reason = "its contents are not those of the original".to_owned();
            return Err(DepotError::Differs { path: self.path, reason });
        }
        file.set_len(self.wanted.size).map_err(CallError::on(Op::Write, &self.path))?;
        Ok(dress(&OwnedFd::from(file), self.wanted, &self.path)?)
    }
}

/// Threads that write.
pub(super) struct Writers<'a> {
    send: SyncSender<NewFile<'a>>,
    failed: &'a Failed,
}

/// The first error of them.
#[derive(Default)]
pub(super) struct Failed(Mutex<Option<DepotError>>);

impl Failed {
    fn keep(&self, error: DepotError) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
    }

    fn take(&self) -> Option<DepotError> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl<'a> Writers<'a> {
    /// Does work with them; when this returns all that was given to them has been written.
    ///
    /// # Errors
    ///
    /// The first error of the work or of a writer.
    pub(super) fn with<T>(
        failed: &'a Failed,
        work: impl FnOnce(&Self) -> Result<T, DepotError>,
    ) -> Result<T, DepotError> {
        let (send, receive) = sync_channel(WAITING);
        let receive = Mutex::new(Some(receive));
        let done = std::thread::scope(|scope| {
            let begin = |_| {
                let write = || write_all(&receive, failed);
                std::thread::Builder::new()
                    .name("writing".to_owned())
                    .spawn_scoped(scope, write)
                    .ok()
            };
            if (0..parallel::threads()).map_while(begin).count() == 0 {
                // nobody takes anything, and the work writes by itself
                receive.lock().unwrap_or_else(PoisonError::into_inner).take();
            }
            let writers = Self { send, failed };
            let done = work(&writers);
            drop(writers);
            done
        });
        match (done, failed.take()) {
            // an error of a writer is the cause of one of the work
            (_, Some(error)) => Err(error),
            (done, None) => done,
        }
    }

    /// Has a file written.
    ///
    /// # Errors
    ///
    /// That of an earlier file.
    pub(super) fn write(&self, file: NewFile<'a>) -> Result<(), DepotError> {
        if let Some(error) = self.failed.take() {
            return Err(error);
        }
        match self.send.send(file) {
            Ok(()) => Ok(()),
            Err(returned) => returned.0.write(),
        }
    }
}

fn write_all(receive: &Mutex<Option<Receiver<NewFile<'_>>>>, failed: &Failed) {
    let next = || receive.lock().unwrap_or_else(PoisonError::into_inner).as_ref()?.recv().ok();
    while let Some(file) = next() {
        if let Err(error) = file.write() {
            failed.keep(error);
        }
    }
}
