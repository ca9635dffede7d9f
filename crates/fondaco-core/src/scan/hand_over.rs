//! How a thread of a walk hands over to the catalog, and goes on below, what it has read.
//!
//! Some directories are kept back and handed over together: neighbours share most of what that costs, and the
//! threads meet less often at the catalog.

use std::ffi::{CString, OsStr};
use std::io;
use std::ops::Range;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;
use std::sync::Arc;

use super::held::Held;
use super::visit::Thread;
use super::walk::{Task, UnlistedName};
use crate::catalog::EntryId;
use crate::kernel::Op;

/// So many entries are kept back: what takes a tenth of a millisecond to read. More would save little, and who
/// hands them over would keep the other threads from the catalog for longer.
pub(super) const KEPT_BACK: usize = 128;

/// A directory that is to be gone into.
pub(super) struct Below {
    /// Its place in the batch of what is listed.
    pub(super) place: u32,
    pub(super) name: CString,
    pub(super) inode: u64,
    pub(super) mount: u64,
    pub(super) dev: u64,
    pub(super) examined: bool,
    pub(super) excluded: bool,
}

/// A directory that has others in it.
pub(super) struct LeadingOn {
    /// Its entry; of an excluded one, the listed directory that it lies below.
    entry: EntryId,
    excluded: Option<Arc<UnlistedName>>,
    path: Option<PathBuf>,
    root_length: usize,
    /// Kept open for them, unless too many are.
    hold: Option<Arc<Held>>,
    mount: u64,
    dev: u64,
    /// Where they stand among all that are kept back.
    below: Range<usize>,
}

impl LeadingOn {
    pub(super) fn new(
        task: &Task,
        hold: Option<Arc<Held>>,
        (mount, dev): (u64, u64),
        below: Range<usize>,
    ) -> Self {
        Self {
            entry: task.entry,
            excluded: task.excluded.clone(),
            path: task.path.clone(),
            root_length: task.root_length,
            hold,
            mount,
            dev,
            below,
        }
    }

    fn task(&self, below: Below, first: EntryId, wants_path: impl Fn(&PathBuf) -> bool) -> Task {
        let name = || OsStr::from_bytes(below.name.to_bytes());
        let path = self.path.as_ref().map(|path| path.join(name())).filter(wants_path);
        let beyond =
            || Arc::new(UnlistedName { above: self.excluded.clone(), name: below.name.clone() });
        let excluded = below.excluded.then(beyond);
        Task {
            entry: if excluded.is_some() { self.entry } else { EntryId(first.0 + below.place) },
            excluded,
            name: below.name,
            inode: below.inode,
            parent: self.hold.clone(),
            mount: if below.examined { below.mount } else { self.mount },
            dev: if below.examined { below.dev } else { self.dev },
            examined: below.examined,
            path,
            root_length: self.root_length,
        }
    }
}

impl Thread<'_> {
    /// Gives the catalog all directories that are kept back, and puts those in them on the own stack.
    pub(super) fn hand_over(&mut self) {
        let first = if self.listed.is_whole() { self.append() } else { Some(EntryId(0)) };
        match first {
            Some(first) if !self.leading_on.is_empty() => self.go_on(first),
            Some(_) => {}
            None => {
                self.leading_on.clear();
                self.below.clear();
            }
        }
        // the last: until now they keep the scan from ending
        self.kept.count_down();
    }

    /// Returns the entry of the first row; nothing if the scan has ended or the catalog is full.
    fn append(&mut self) -> Option<EntryId> {
        let taken = self.shared.write().map(|mut catalog| catalog.append_whole(&self.listed));
        if let Some(Err(full)) = taken {
            for directory in self.listed.directories() {
                let path = self.path_of(directory).unwrap_or_default();
                self.note(Some(directory), path, Op::ReadDirectory, io::Error::other(full));
            }
        }
        self.listed.clear();
        taken.and_then(Result::ok)
    }

    fn go_on(&mut self, first: EntryId) {
        let shared = self.shared;
        shared.more_pending(self.below.len());
        // the last pushed is taken first: keep the directories' own order
        for above in self.leading_on.drain(..).rev() {
            for below in self.below.drain(above.below.clone()).rev() {
                self.own.push(above.task(below, first, |path| shared.wants_path(path)));
            }
            if let Some(hold) = above.hold {
                Held::release(hold, self.number);
            }
        }
    }
}
