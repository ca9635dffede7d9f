//! What one thread of a walk does with one directory: opens it, examines what it lists, hands it over.
//!
//! A directory is opened relative to its parent's descriptor, so no path is ever too long; when
//! descriptors run short, or the directory was taken from another thread, it is found by name from
//! its root. Most directories are examined only when they are open, which saves a look-up; where
//! something is mounted near by, or opening could mount something, they are examined first.

use std::ffi::{CStr, CString, OsStr, OsString};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, PoisonError};

use crossbeam_deque::Worker;

use super::hand_over::{Below, KEPT_BACK, LeadingOn};
use super::held::{Held, Holdings};
use super::walk::{CountDown, LiveFigures, Shared, Task, add_to};
use crate::catalog::{Batch, EntryId, Reading, Unreadable};
use crate::kernel::{self, DirReader, Kind, Listed, Op, PlainStat, ReadOrder, Stat};
use crate::units::{Bytes, Time};

/// One thread of a walk, with what it uses again from directory to directory.
pub(super) struct Thread<'a> {
    pub(super) shared: &'a Shared,
    pub(super) number: usize,
    pub(super) holdings: Arc<Holdings>,
    pub(super) own: Worker<Task>,
    reader: DirReader,
    /// Of the directory at hand, and of some that are kept back.
    pub(super) listed: Batch,
    /// Directories that are kept back; they still count as pending.
    pub(super) kept: CountDown<'a>,
    excluded: Batch,
    /// Directories to go into, of all that are kept back.
    pub(super) below: Vec<Below>,
    pub(super) leading_on: Vec<LeadingOn>,
}

/// The directory at hand.
struct CurrentDirectory<'t> {
    task: &'t Task,
    mount: u64,
    dev: u64,
    careful: bool,
}

impl CurrentDirectory<'_> {
    /// Whether an entry lies on another mount; where the kernel does not tell, on another device.
    fn is_crossed_by(&self, stat: &Stat) -> bool {
        if stat.mount != 0 && self.mount != 0 {
            stat.mount != self.mount
        } else {
            stat.dev != self.dev
        }
    }

    /// The way from the scanned root to an entry; just its name where no pattern looks at more.
    fn below_root(&self, name: &OsStr) -> PathBuf {
        match &self.task.path {
            Some(path) => {
                let above = &path.as_os_str().as_bytes()[self.task.root_length..];
                let above = above.strip_prefix(b"/").unwrap_or(above);
                Path::new(OsStr::from_bytes(above)).join(name)
            }
            None => PathBuf::from(name),
        }
    }
}

impl<'a> Thread<'a> {
    pub(super) fn new(
        shared: &'a Shared,
        number: usize,
        holdings: Arc<Holdings>,
        own: Worker<Task>,
        now: Time,
    ) -> Self {
        let (listed, excluded) = (Batch::new(now), Batch::new(now));
        let (reader, kept) = (DirReader::default(), CountDown::none(shared));
        Self {
            shared,
            number,
            holdings,
            own,
            reader,
            listed,
            kept,
            excluded,
            below: Vec::new(),
            leading_on: Vec::new(),
        }
    }

    /// `done` says, when it is dropped, that the task is.
    pub(super) fn visit(&mut self, task: Task, done: CountDown<'a>) {
        if task.excluded.is_none() {
            self.figures().current.store(task.entry.0, Relaxed);
        }
        let opened = self.open(&task);
        let fd = match opened {
            Ok(fd) => fd,
            Err(error) => return self.could_not_open(task, error),
        };
        let mut at =
            CurrentDirectory { task: &task, mount: task.mount, dev: task.dev, careful: false };
        let mut own = None;
        if !task.examined {
            match examine(&fd, &task) {
                Ok(stat) if at.is_crossed_by(&stat) && !self.shared.enters(&stat) => {
                    return self.is_other_volume(task, &stat);
                }
                Ok(stat) => {
                    (at.mount, at.dev) = (stat.mount, stat.dev);
                    own = Some(stat);
                }
                Err(error) => return self.failed(&task, None, Op::Examine, error),
            }
        }
        at.careful = self.shared.must_be_careful(task.path.as_deref(), at.mount);
        let from = self.below.len();
        let (troubles, read) = self.read(&fd, &at);
        let bytes = own.map_or(0, |stat: Stat| stat.allocated().get());
        add_to(&self.figures().bytes, bytes);
        let (mount, dev) = (at.mount, at.dev);
        let plain = task.excluded.is_none() && !at.careful && read.is_ok() && troubles.is_empty();
        self.keep(&task, own.as_ref());
        if self.below.len() > from {
            let hold = self.holdings.hold(self.number, fd);
            self.leading_on.push(LeadingOn::new(&task, hold, (mount, dev), from..self.below.len()));
        }
        // of what failed more is to be said, and until then the scan must not end
        let mut done = Some(done);
        if plain {
            self.kept.join(done.take());
        }
        if !plain || self.listed.len() >= KEPT_BACK || self.shared.waits.load(Relaxed) {
            self.hand_over();
        }
        if let Err(error) = read {
            self.failed(&task, None, Op::ReadDirectory, error);
        }
        for (name, error) in troubles {
            self.failed(&task, Some(&name), Op::Examine, error);
        }
        if let Some(parent) = task.parent {
            Held::release(parent, self.number);
        }
        drop(done);
    }

    /// Ends what was listed; what was kept out is counted at once.
    fn keep(&mut self, task: &Task, own: Option<&Stat>) {
        let listed = task.excluded.is_none();
        if listed {
            self.listed.end_directory(task.entry, own);
        }
        if (!listed || !self.excluded.is_empty())
            && let Some(mut catalog) = self.shared.write()
        {
            catalog.note_excluded(task.entry, own.filter(|_| !listed), &self.excluded);
        }
    }

    fn figures(&self) -> &'a LiveFigures {
        &self.shared.figures[self.number]
    }

    fn open(&self, task: &Task) -> io::Result<OwnedFd> {
        match task.parent.as_ref().and_then(|parent| parent.for_thread(self.number)) {
            Some(parent) => kernel::open_directory(parent, task.name.as_c_str()),
            None => self.open_by_names(task),
        }
    }

    /// Reads all names and examines what must be; stops early if the scan is to stop. Returns the
    /// entries that could not be examined, and how the reading ended.
    fn read(
        &mut self,
        fd: &OwnedFd,
        at: &CurrentDirectory<'_>,
    ) -> (Vec<(CString, io::Error)>, io::Result<()>) {
        self.excluded.clear();
        let (shared, figures) = (self.shared, self.figures());
        let order =
            if shared.waits.load(Relaxed) { ReadOrder::Inode } else { ReadOrder::Directory };
        let (listed, excluded, below) = (&mut self.listed, &mut self.excluded, &mut self.below);
        let mut sort_in = Sorting { shared, at, listed, excluded, below, open: false };
        sort_in.open = shared.filter.is_open() && at.task.excluded.is_none();
        let mut troubles = Vec::new();
        let (mut count, mut bytes) = (0u64, 0u64);
        let read = self.reader.read_in(order, fd, |entry| {
            let examined = match entry.listed {
                Listed::Directory if !at.careful => {
                    sort_in.unexamined(entry.name, entry.inode);
                    count += 1;
                    return !shared.stop.load(Relaxed);
                }
                Listed::NoDirectory if !at.careful => {
                    kernel::stat_plain_at(fd, entry.name).map(|stat| {
                        sort_in.plain(entry.name, &stat);
                        stat.blocks()
                    })
                }
                _ => kernel::stat_for_catalog(fd, entry.name).map(|stat| {
                    sort_in.examined(entry.name, &stat);
                    stat.blocks
                }),
            };
            match examined {
                Ok(blocks) => bytes += Bytes::from_blocks(blocks).get(),
                Err(error) => troubles.push((entry.name.to_owned(), error)),
            }
            count += 1;
            if count == 1024 {
                add_to(&figures.entries, std::mem::take(&mut count));
                add_to(&figures.bytes, std::mem::take(&mut bytes));
            }
            !shared.stop.load(Relaxed)
        });
        add_to(&figures.entries, count);
        add_to(&figures.bytes, bytes);
        (troubles, read)
    }

    /// Opens a directory from its root, name by name: for roots, and when descriptors ran short.
    fn open_by_names(&self, task: &Task) -> io::Result<OwnedFd> {
        let mut names: Vec<OsString> = Vec::new();
        let mut beyond = task.excluded.as_ref();
        while let Some(at) = beyond {
            names.push(OsStr::from_bytes(at.name.to_bytes()).to_owned());
            beyond = at.above.as_ref();
        }
        let root = {
            let catalog = self.shared.catalog.read().unwrap_or_else(PoisonError::into_inner);
            if catalog.is_finished() {
                return Err(io::ErrorKind::Interrupted.into());
            }
            let mut at = task.entry;
            while !catalog.is_root(at)
                && let Some(up) = catalog.parent(at)
            {
                names.push(catalog.name(at).to_owned());
                at = up;
            }
            catalog.path(at)
        };
        let first = kernel::open_root(&root)?;
        names.iter().rev().try_fold(first, |fd, name| kernel::open_directory(fd, name.as_os_str()))
    }

    /// It counts with what can be known of it from outside.
    fn could_not_open(&self, task: Task, error: io::Error) {
        self.failed(&task, None, Op::OpenDirectory, error);
        if !task.examined && task.excluded.is_none() {
            let stat = match task.parent.as_ref().and_then(|held| held.for_thread(self.number)) {
                Some(parent) => kernel::stat_for_catalog(parent, task.name.as_c_str()),
                None => kernel::stat_path(&self.path(&task, None)),
            };
            if let Ok(stat) = stat
                && stat.kind == Kind::Directory
                && let Some(mut catalog) = self.shared.write()
            {
                catalog.set_own(task.entry, &stat);
            }
        }
        if let Some(parent) = task.parent {
            Held::release(parent, self.number);
        }
    }

    /// Something was mounted on it after the scan had begun.
    fn is_other_volume(&self, task: Task, stat: &Stat) {
        if task.excluded.is_none()
            && let Some(mut catalog) = self.shared.write()
        {
            catalog.set_own(task.entry, &Stat { blocks: 0, size: 0, ..*stat });
            catalog.set_reading(task.entry, Reading::OtherVolume);
        }
        if let Some(parent) = task.parent {
            Held::release(parent, self.number);
        }
    }

    /// The path for a message; nothing if the scan has ended and its catalog may be elsewhere.
    fn path(&self, task: &Task, name: Option<&CStr>) -> PathBuf {
        let Some(mut path) = self.path_of(task.entry) else { return PathBuf::new() };
        let (mut names, mut beyond) = (Vec::new(), task.excluded.as_ref());
        while let Some(at) = beyond {
            names.push(at.name.as_c_str());
            beyond = at.above.as_ref();
        }
        path.extend(names.into_iter().rev().chain(name).map(|n| OsStr::from_bytes(n.to_bytes())));
        path
    }

    pub(super) fn path_of(&self, entry: EntryId) -> Option<PathBuf> {
        let catalog = self.shared.catalog.read().unwrap_or_else(PoisonError::into_inner);
        (!catalog.is_finished()).then(|| catalog.path(entry))
    }

    fn failed(&self, task: &Task, name: Option<&CStr>, op: Op, error: io::Error) {
        let itself = name.is_none() && task.excluded.is_none();
        self.note(itself.then_some(task.entry), self.path(task, name), op, error);
    }

    /// Keeps what could not be done; `directory` is one that could not be read, or not wholly.
    pub(super) fn note(&self, directory: Option<EntryId>, path: PathBuf, op: Op, error: io::Error) {
        let Some(mut catalog) = self.shared.write() else { return };
        add_to(&self.figures().unreadable, 1);
        if let Some(directory) = directory {
            catalog.set_reading(directory, Reading::Failed);
        }
        let errno = error.raw_os_error().unwrap_or(0);
        let words = if errno == rustix::io::Errno::NOENT.raw_os_error() {
            "it vanished during the scan".to_owned()
        } else {
            error.to_string()
        };
        catalog.note_unreadable(Unreadable { path, op, error: words, errno });
    }
}

/// An opened directory of which only its parent's word is known. If it is the inode that the parent names, on
/// the parent's device, nothing is mounted on it but perhaps itself, and it counts as of the parent's mount;
/// otherwise it is asked for its mount.
fn examine(fd: &OwnedFd, task: &Task) -> io::Result<Stat> {
    let stat = kernel::stat_plain_open(fd)?;
    if (stat.ino(), stat.dev()) == (task.inode, task.dev) {
        return Ok(stat.on_mount(task.mount));
    }
    kernel::stat_open_for_catalog(fd)
}

/// Puts entries where they belong: listed or only counted, gone into or not.
struct Sorting<'s> {
    shared: &'s Shared,
    at: &'s CurrentDirectory<'s>,
    listed: &'s mut Batch,
    excluded: &'s mut Batch,
    below: &'s mut Vec<Below>,
    /// Everything is listed.
    open: bool,
}

impl Sorting<'_> {
    fn lists_directory(&self, name: &OsStr) -> bool {
        let at = self.at;
        self.open
            || at.task.excluded.is_none()
                && self.shared.filter.lists_directory(name, &at.below_root(name))
    }

    /// A directory, as its parent says.
    fn unexamined(&mut self, name: &CStr, inode: u64) {
        let excluded = !self.lists_directory(OsStr::from_bytes(name.to_bytes()));
        let place = self.listed.len() as u32;
        let batch = if excluded { &mut *self.excluded } else { &mut *self.listed };
        batch.push_unread(name.to_bytes());
        let name = name.to_owned();
        let (mount, dev, examined) = (0, 0, false);
        self.below.push(Below { place, name, inode, mount, dev, examined, excluded });
    }

    /// What lies on the mount of its directory.
    #[inline]
    fn plain(&mut self, name: &CStr, stat: &PlainStat) {
        // mostly: nothing is excluded
        if self.open && stat.kind() != Kind::Directory {
            self.listed.push_plain(name.to_bytes(), stat);
        } else {
            self.examined(name, &stat.on_mount(self.at.mount));
        }
    }

    fn examined(&mut self, name: &CStr, stat: &Stat) {
        let (bytes, at) = (name.to_bytes(), self.at);
        let os_name = OsStr::from_bytes(bytes);
        let crosses = at.careful && at.is_crossed_by(stat);
        if stat.kind == Kind::Directory {
            let excluded = !self.lists_directory(os_name);
            let place = self.listed.len() as u32;
            let batch = if excluded { &mut *self.excluded } else { &mut *self.listed };
            if at.is_crossed_by(stat) && !self.shared.enters(stat) {
                return batch.push_other_volume(bytes, stat);
            }
            batch.push(bytes, stat);
            let (mount, dev) = (stat.mount, stat.dev);
            let name = name.to_owned();
            let (inode, examined) = (stat.ino, true);
            return self.below.push(Below { place, name, inode, mount, dev, examined, excluded });
        }
        let lists = self.open
            || at.task.excluded.is_none()
                && self.shared.filter.lists(os_name, &at.below_root(os_name), stat);
        let batch = if lists { &mut *self.listed } else { &mut *self.excluded };
        if crosses && !self.shared.cross_volumes {
            // a file that is mounted over another: its bytes are its own volume's
            batch.push(bytes, &Stat { blocks: 0, size: 0, links: 1, ..*stat });
        } else {
            batch.push(bytes, stat);
        }
    }
}
