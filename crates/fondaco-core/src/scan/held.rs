//! Open directories whose children are still to be read, by threads with descriptor tables of their own.
//!
//! A table that one thread has to itself costs less at every call. But then a descriptor means something
//! only to the thread that opened it, and must be closed by no other. So a [`Held`] that is let go by
//! another thread goes into its owner's bin, and the owner closes it; what is still in a bin when its
//! owner has ended was closed by the kernel with the owner's table, and is only forgotten.

use std::os::fd::{IntoRawFd, OwnedFd};
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};

/// What the threads of one scan hold open, and what they let go for each other.
#[derive(Debug)]
pub(super) struct Holdings {
    count: AtomicUsize,
    most: usize,
    bins: Vec<Mutex<Vec<OwnedFd>>>,
}

impl Holdings {
    pub(super) fn new(threads: usize, most: usize) -> Arc<Self> {
        let bins = (0..threads).map(|_| Mutex::default()).collect();
        Arc::new(Self { count: AtomicUsize::new(0), most, bins })
    }

    /// Holds a descriptor of the thread `owner`, unless too many are held; then it is closed.
    pub(super) fn hold(self: &Arc<Self>, owner: usize, fd: OwnedFd) -> Option<Arc<Held>> {
        if self.count.fetch_add(1, Relaxed) >= self.most {
            self.count.fetch_sub(1, Relaxed);
            return None;
        }
        Some(Arc::new(Held { fd: Some(fd), owner, holdings: Arc::clone(self) }))
    }

    /// Closes what others let go for this thread.
    pub(super) fn empty_bin(&self, owner: usize) {
        self.bins[owner].lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

impl Drop for Holdings {
    fn drop(&mut self) {
        for bin in &mut self.bins {
            let left = bin.get_mut().unwrap_or_else(PoisonError::into_inner).drain(..);
            left.for_each(|fd| {
                // its table has gone with its thread: here the number means something else
                let _ = fd.into_raw_fd();
            });
        }
    }
}

/// An open directory of one thread.
#[derive(Debug)]
pub(super) struct Held {
    fd: Option<OwnedFd>,
    owner: usize,
    holdings: Arc<Holdings>,
}

impl Held {
    /// The descriptor, if the thread asking is the one that may use it.
    pub(super) fn for_thread(&self, thread: usize) -> Option<&OwnedFd> {
        self.fd.as_ref().filter(|_| thread == self.owner)
    }

    /// Lets go of one hold on it; `thread` is the one that does.
    pub(super) fn release(held: Arc<Self>, thread: usize) {
        if let Some(mut last) = Arc::into_inner(held)
            && let Some(fd) = last.fd.take()
        {
            last.holdings.count.fetch_sub(1, Relaxed);
            if thread == last.owner {
                drop(fd);
            } else {
                let bin = &last.holdings.bins[last.owner];
                bin.lock().unwrap_or_else(PoisonError::into_inner).push(fd);
            }
        }
    }
}

impl Drop for Held {
    /// Not released, as when a scan is stopped: which thread this is is not known here, so it is left to the
    /// end of its owner's table.
    fn drop(&mut self) {
        if let Some(fd) = self.fd.take() {
            let bin = &self.holdings.bins[self.owner];
            bin.lock().unwrap_or_else(PoisonError::into_inner).push(fd);
        }
    }
}
