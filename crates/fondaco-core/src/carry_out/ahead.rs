//! Leases on the files of a batch, taken on a thread of their own a little ahead of the one that takes the files away.
//!
//! What a lease needs is four calls that change nothing, so that they can run beside the renames and removals of the
//! files before. Whoever takes a file compares it again, by descriptor, right before and right after.

use std::ffi::OsString;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;

use crate::kernel::{Kind, Lease, Stat, open_found_file, stat_at, stat_descriptor};

/// A regular file that is kept still, and what it was when its lease began.
pub(super) struct LeasedFile {
    pub(super) lease: Lease,
    /// The facts about it, by its descriptor.
    pub(super) stat: Stat,
}

/// Where a file is looked for: an open directory, and its name there.
pub(super) type FilePlace = (Arc<OwnedFd>, OsString);

/// Files are handed over so many at a time.
const TOGETHER: usize = 32;

/// The files of a batch, in its order, as they are leased.
pub(super) struct LeasesAhead {
    receive: Option<Receiver<Vec<Option<LeasedFile>>>>,
    ready: std::vec::IntoIter<Option<LeasedFile>>,
    thread: Option<JoinHandle<()>>,
}

impl LeasesAhead {
    /// Begins with a batch: `None` stands for what is not to be leased. The thread is at most `far` files ahead. For a few
    /// files, or where no thread can be begun, nothing is leased ahead.
    pub(super) fn begin(files: Vec<Option<FilePlace>>, far: usize) -> Self {
        let mut ahead = Self { receive: None, ready: Vec::new().into_iter(), thread: None };
        if files.len() < 2 * TOGETHER {
            return ahead;
        }
        let (send, receive) = sync_channel(far / TOGETHER);
        let work = move || lease_all(&files, &send);
        if let Ok(thread) = std::thread::Builder::new().name("lease ahead".to_owned()).spawn(work) {
            (ahead.receive, ahead.thread) = (Some(receive), Some(thread));
        }
        ahead
    }

    /// The next file of the batch, if it could be leased: else it has to be looked at anew, which tells why.
    pub(super) fn next(&mut self) -> Option<LeasedFile> {
        if self.ready.as_slice().is_empty() {
            self.ready = self.receive.as_ref()?.recv().ok()?.into_iter();
        }
        self.ready.next().flatten()
    }
}

impl Drop for LeasesAhead {
    fn drop(&mut self) {
        // the thread ends at the next files that nobody takes
        self.receive = None;
        if let Some(thread) = self.thread.take() {
            // no lease stands any more when this returns; a panic there would have nothing to say
            let _ = thread.join();
        }
    }
}

fn lease_all(files: &[Option<FilePlace>], send: &SyncSender<Vec<Option<LeasedFile>>>) {
    for together in files.chunks(TOGETHER) {
        let leased = together.iter().map(|place| lease_one(place.as_ref()?)).collect();
        if send.send(leased).is_err() {
            return;
        }
    }
}

/// Leases a regular file with one name: this program's own lease by one name would refuse another.
fn lease_one((directory, name): &FilePlace) -> Option<LeasedFile> {
    let found = stat_at(directory, name.as_os_str()).ok()?;
    if found.kind != Kind::File || found.links != 1 {
        return None;
    }
    let file = open_found_file(directory, name.as_os_str()).ok()?;
    let lease = Lease::take(file).ok()?;
    let stat = stat_descriptor(lease.file()).ok()?;
    ((stat.dev, stat.ino) == (found.dev, found.ino)).then_some(LeasedFile { lease, stat })
}
