//! The walk itself: threads that take directories from each other and append to one catalog.
//!
//! Every thread works depth first from a stack of its own, so that few descriptors are open, and
//! takes from the others what lies nearest the root when it has run dry. A directory is opened
//! relative to its parent's descriptor, so no path is ever too long; when descriptors run short, or
//! the directory was taken from another thread, it is found by name from its root.

use std::collections::HashMap;
use std::ffi::{CStr, CString, OsStr};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::sync::atomic::Ordering::{AcqRel, Acquire, Relaxed};
use std::sync::atomic::{AtomicU32, AtomicU64, AtomicUsize};
use std::sync::{
    Arc, Condvar, Mutex, OnceLock, PoisonError, RwLock, RwLockWriteGuard, TryLockError,
};
use std::time::{Duration, Instant};

use crossbeam_deque::{Steal, Stealer, Worker};
use rustix::fs::{AtFlags, StatxFlags};

use super::Options;
use super::held::{Held, Holdings};
use crate::catalog::{Batch, Catalog, EntryId, Reading, Unreadable};
use crate::kernel::{self, DirReader, Kind, Op, Stat};
use crate::volume::is_kernel_interface;

/// What the threads of one scan have in common.
#[derive(Debug)]
pub(super) struct Shared {
    pub(super) catalog: Arc<RwLock<Catalog>>,
    pub(super) entries: AtomicU64,
    pub(super) bytes: AtomicU64,
    pub(super) unreadable: AtomicU64,
    pub(super) current: AtomicU32,
    pub(super) stop: AtomicBool,
    took: Mutex<Option<Duration>>,
    ended: Condvar,
    pending: AtomicUsize,
    coordinator: OnceLock<std::thread::Thread>,
    held_most: usize,
    cross_volumes: bool,
    kernel_mounts: HashMap<u64, bool>,
    mount_points: Vec<PathBuf>,
}

impl Shared {
    pub(super) fn new(catalog: Catalog, options: &Options) -> Self {
        let descriptors = kernel::raise_descriptor_limit() as usize;
        let table = kernel::mounts().unwrap_or_default();
        let interface = |mount: &kernel::Mount| (mount.id, is_kernel_interface(&mount.fs_type));
        Self {
            catalog: Arc::new(RwLock::new(catalog)),
            entries: AtomicU64::new(0),
            bytes: AtomicU64::new(0),
            unreadable: AtomicU64::new(0),
            current: AtomicU32::new(0),
            stop: AtomicBool::new(false),
            took: Mutex::new(None),
            ended: Condvar::new(),
            pending: AtomicUsize::new(0),
            coordinator: OnceLock::new(),
            held_most: (descriptors / 2).clamp(16, 8192),
            cross_volumes: options.cross_volumes,
            kernel_mounts: table.iter().map(interface).collect(),
            mount_points: table.into_iter().map(|mount| mount.mount_point).collect(),
        }
    }

    pub(super) fn took(&self) -> Option<Duration> {
        *self.took.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Waits for the end, at most so long.
    pub(super) fn wait(&self, most: Duration) {
        let took = self.took.lock().unwrap_or_else(PoisonError::into_inner);
        // whether it timed out is asked by `took`
        let _ = self.ended.wait_timeout_while(took, most, |took| took.is_none());
    }

    /// Makes the totals exact; the scan counts as ended only then.
    pub(super) fn end(&self, begun: Instant, whole: bool) {
        let complete = whole && !self.stop.load(Relaxed);
        self.catalog.write().unwrap_or_else(PoisonError::into_inner).finish(complete);
        *self.took.lock().unwrap_or_else(PoisonError::into_inner) = Some(begun.elapsed());
        self.ended.notify_all();
    }

    /// The catalog, to be written to. An append takes some microseconds, less than it costs to be put to
    /// sleep and woken, so it is tried for a while first.
    fn write_soon(&self) -> RwLockWriteGuard<'_, Catalog> {
        for _ in 0..2000 {
            match self.catalog.try_write() {
                Ok(catalog) => return catalog,
                Err(TryLockError::Poisoned(poisoned)) => return poisoned.into_inner(),
                Err(TryLockError::WouldBlock) => std::hint::spin_loop(),
            }
        }
        self.catalog.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// The path, if something is mounted below it.
    fn if_above_mounts(&self, path: PathBuf) -> Option<PathBuf> {
        let below = |mount: &PathBuf| mount.starts_with(&path) && *mount != path;
        self.mount_points.iter().any(below).then_some(path)
    }

    /// Whether something is mounted directly in a directory: only then can an entry that is no
    /// directory lie on another mount.
    fn has_mounts_in(&self, path: &Path) -> bool {
        self.mount_points.iter().any(|mount| mount.parent() == Some(path))
    }

    fn goes_on(&self) -> bool {
        self.pending.load(Acquire) > 0 && !self.stop.load(Relaxed)
    }

    /// Whether to go into a directory that lies on another mount than its parent.
    fn enters(&self, stat: &Stat) -> bool {
        self.cross_volumes && !self.kernel_mounts.get(&stat.mount).copied().unwrap_or(true)
    }
}

/// A directory still to be read.
struct Task {
    entry: EntryId,
    name: CString,
    parent: Option<Arc<Held>>,
    mount: u64,
    dev: u64,
    /// Its path, as long as something is mounted below it.
    above_mounts: Option<PathBuf>,
}

/// Walks everything below the roots and returns when all is read or a stop was asked for.
///
/// Begins with `threads.first`. While they wait for the device more than they compute, more are added up
/// to `threads.most`: in memory a thread for each core is best, on a device more requests must be on
/// their way than there are cores.
pub(super) fn run(shared: &Shared, roots: &[(EntryId, Stat)], threads: Threads) {
    let workers: Vec<Worker<Task>> = (0..threads.most).map(|_| Worker::new_lifo()).collect();
    let stealers: Vec<Stealer<Task>> = workers.iter().map(Worker::stealer).collect();
    shared.pending.store(roots.len(), Relaxed);
    shared.coordinator.get_or_init(std::thread::current);
    for (i, (entry, stat)) in roots.iter().enumerate() {
        shared.entries.fetch_add(1, Relaxed);
        shared.bytes.fetch_add(stat.allocated().get(), Relaxed);
        workers[i % threads.first].push(Task {
            entry: *entry,
            name: CString::default(),
            parent: None,
            mount: stat.mount,
            dev: stat.dev,
            above_mounts: shared.if_above_mounts(root_path(shared, *entry)),
        });
    }
    let holdings = Holdings::new(threads.most, shared.held_most);
    std::thread::scope(|scope| {
        let mut workers = workers.into_iter().enumerate();
        let mut add = |count: usize| {
            for (number, own) in workers.by_ref().take(count) {
                let (stealers, holdings) = (&stealers, Arc::clone(&holdings));
                scope.spawn(move || {
                    // without it, the scan is only slower
                    let _ = kernel::own_descriptor_table();
                    Thread {
                        shared,
                        number,
                        holdings,
                        own,
                        reader: DirReader::default(),
                        batch: Batch::default(),
                        below: Vec::new(),
                        above_mounts: None,
                    }
                    .work(stealers);
                });
            }
        };
        add(threads.first);
        let mut running = threads.first;
        let mut before = (Instant::now(), kernel::processor_time());
        while running < threads.most && shared.goes_on() {
            // woken early by the end
            std::thread::park_timeout(Duration::from_millis(20));
            let now = (Instant::now(), kernel::processor_time());
            let computing = (now.1 - before.1).as_secs_f64() / (now.0 - before.0).as_secs_f64();
            if computing < 0.6 * threads.first as f64 && shared.pending.load(Relaxed) > running {
                add(2);
                running += 2;
            }
            before = now;
        }
    });
}

/// How many threads a walk has.
#[derive(Clone, Copy, Debug)]
pub(super) struct Threads {
    /// From the beginning.
    pub(super) first: usize,
    /// At most.
    pub(super) most: usize,
}

struct Thread<'a> {
    shared: &'a Shared,
    number: usize,
    holdings: Arc<Holdings>,
    own: Worker<Task>,
    reader: DirReader,
    batch: Batch,
    /// Place in the batch, mount and device of each directory to go into.
    below: Vec<(u32, CString, u64, u64)>,
    /// The path of the directory at hand, if something is mounted below it.
    above_mounts: Option<PathBuf>,
}

impl Thread<'_> {
    fn work(&mut self, stealers: &[Stealer<Task>]) {
        let mut idle = 0u32;
        while self.shared.goes_on() {
            match self.own.pop().or_else(|| steal(stealers, self.number)) {
                Some(task) => {
                    idle = 0;
                    // counted down also when a panic unwinds, or the other threads wait for ever
                    let _done = CountDown(self.shared);
                    self.visit(task);
                }
                None => {
                    self.holdings.empty_bin(self.number);
                    idle += 1;
                    if idle < 16 {
                        std::thread::yield_now();
                    } else {
                        std::thread::sleep(Duration::from_micros(u64::from(idle.min(500))));
                    }
                }
            }
        }
    }

    fn visit(&mut self, task: Task) {
        self.shared.current.store(task.entry.0, Relaxed);
        let parent = task.parent.as_ref().and_then(|parent| parent.for_thread(self.number));
        let opened = match parent {
            Some(parent) => kernel::open_directory(parent, task.name.as_c_str()),
            None => self.open_by_names(task.entry),
        };
        if let Some(parent) = task.parent {
            Held::release(parent, self.number);
        }
        let fd = match opened {
            Ok(fd) => fd,
            Err(error) => return self.failed(task.entry, None, Op::OpenDirectory, error),
        };
        self.above_mounts = task.above_mounts;
        let careful =
            self.above_mounts.as_ref().is_some_and(|path| self.shared.has_mounts_in(path));
        self.batch.clear();
        self.below.clear();
        let mut troubles = Vec::new();
        let (shared, batch, below) = (self.shared, &mut self.batch, &mut self.below);
        let mut counted = 0;
        let read = self.reader.read(&fd, |entry| {
            let examined = if entry.surely_no_directory && !careful {
                examine_file(fd.as_fd(), entry.name, task.mount)
            } else {
                examine(fd.as_fd(), entry.name)
            };
            match examined {
                Ok(stat) => {
                    let name = entry.name.to_bytes();
                    let crosses = if stat.mount != 0 && task.mount != 0 {
                        stat.mount != task.mount
                    } else {
                        stat.dev != task.dev
                    };
                    if stat.kind == Kind::Directory {
                        if crosses && !shared.enters(&stat) {
                            batch.push_other_volume(name, &stat);
                        } else {
                            let place = batch.len() as u32;
                            below.push((place, entry.name.to_owned(), stat.mount, stat.dev));
                            batch.push(name, &stat);
                        }
                    } else if crosses && !shared.cross_volumes {
                        // a file that is mounted over another: its bytes are its own volume's
                        batch.push(name, &Stat { blocks: 0, size: 0, links: 1, ..stat });
                    } else {
                        batch.push(name, &stat);
                    }
                    shared.bytes.fetch_add(stat.allocated().get(), Relaxed);
                }
                Err(error) => troubles.push((entry.name.to_owned(), error)),
            }
            if batch.len() - counted >= 1024 {
                shared.entries.fetch_add((batch.len() - counted) as u64, Relaxed);
                counted = batch.len();
            }
            !shared.stop.load(Relaxed)
        });
        shared.entries.fetch_add((batch.len() - counted) as u64, Relaxed);
        self.hand_over(task.entry, fd);
        if let Err(error) = read {
            self.failed(task.entry, None, Op::ReadDirectory, error);
        }
        for (name, error) in troubles {
            self.failed(task.entry, Some(&name), Op::Examine, error);
        }
    }

    /// Appends the batch and puts the directories in it on the own stack.
    fn hand_over(&mut self, entry: EntryId, fd: OwnedFd) {
        let appended = self.shared.write_soon().append(entry, &self.batch);
        let first = match appended {
            Ok(first) => first,
            Err(full) => {
                return self.failed(entry, None, Op::ReadDirectory, io::Error::other(full));
            }
        };
        if self.below.is_empty() {
            return;
        }
        self.shared.pending.fetch_add(self.below.len(), AcqRel);
        let parent = self.holdings.hold(self.number, fd);
        // the last pushed is taken first: keep the directory's own order
        for (place, name, mount, dev) in self.below.drain(..).rev() {
            let entry = EntryId(first.0 + place);
            let above_mounts = self.above_mounts.as_ref().and_then(|path| {
                self.shared.if_above_mounts(path.join(OsStr::from_bytes(name.to_bytes())))
            });
            self.own.push(Task { entry, name, parent: parent.clone(), mount, dev, above_mounts });
        }
        if let Some(parent) = parent {
            Held::release(parent, self.number);
        }
    }

    /// Opens a directory from its root, name by name: for roots, and when descriptors ran short.
    fn open_by_names(&self, entry: EntryId) -> io::Result<OwnedFd> {
        let mut names = Vec::new();
        let root = {
            let catalog = self.shared.catalog.read().unwrap_or_else(PoisonError::into_inner);
            let mut at = entry;
            while let Some(up) = catalog.parent(at) {
                names.push(catalog.name(at).to_owned());
                at = up;
            }
            catalog.path(at)
        };
        let first = kernel::open_root(&root)?;
        names.iter().rev().try_fold(first, |fd, name| kernel::open_directory(fd, name.as_os_str()))
    }

    fn failed(&self, entry: EntryId, name: Option<&CStr>, op: Op, error: io::Error) {
        self.shared.unreadable.fetch_add(1, Relaxed);
        let mut catalog = self.shared.catalog.write().unwrap_or_else(PoisonError::into_inner);
        let mut path = catalog.path(entry);
        match name {
            Some(name) => path.push(OsStr::from_bytes(name.to_bytes())),
            None => catalog.set_reading(entry, Reading::Failed),
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

struct CountDown<'a>(&'a Shared);

impl Drop for CountDown<'_> {
    fn drop(&mut self) {
        if self.0.pending.fetch_sub(1, AcqRel) == 1
            && let Some(coordinator) = self.0.coordinator.get()
        {
            coordinator.unpark();
        }
    }
}

fn steal(stealers: &[Stealer<Task>], number: usize) -> Option<Task> {
    let others = (1..stealers.len()).map(|i| &stealers[(number + i) % stealers.len()]);
    for other in others {
        loop {
            match other.steal() {
                Steal::Success(task) => return Some(task),
                Steal::Retry => {}
                Steal::Empty => break,
            }
        }
    }
    None
}

fn root_path(shared: &Shared, entry: EntryId) -> PathBuf {
    shared.catalog.read().unwrap_or_else(PoisonError::into_inner).path(entry)
}

/// For what is no directory and has nothing mounted beside it: the older call costs less, and its
/// mount is known.
fn examine_file(directory: BorrowedFd<'_>, name: &CStr, mount: u64) -> io::Result<Stat> {
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    Ok(Stat::of_plain(&rustix::fs::statat(directory, name, flags)?, mount))
}

/// Asks only for what a catalog keeps.
fn examine(directory: BorrowedFd<'_>, name: &CStr) -> io::Result<Stat> {
    let wanted = StatxFlags::BASIC_STATS.difference(StatxFlags::CTIME) | StatxFlags::MNT_ID;
    let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
    Ok(Stat::of_statx(&rustix::fs::statx(directory, name, flags, wanted)?))
}
