//! The walk itself: threads that take directories from each other and append to one catalog.
//!
//! Every thread works depth first from a stack of its own, so that few descriptors are open, and
//! takes from the others what lies nearest the root when it has run dry. What one thread does with
//! one directory is in [`visit`](super::visit).

use std::any::Any;
use std::ffi::CString;
use std::panic::AssertUnwindSafe;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering::{AcqRel, Acquire, Relaxed};
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, AtomicUsize};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock, PoisonError, RwLock, RwLockWriteGuard};
use std::time::{Duration, Instant};

use crossbeam_deque::{Steal, Stealer, Worker};
use crossbeam_utils::CachePadded;
use rustc_hash::FxHashMap;

use super::held::{Held, Holdings};
use super::visit::Thread;
use super::waiting::WaitingSigns;
use super::{Filter, Options};
use crate::catalog::{Catalog, EntryId, ScannedVolume, write_between_readers};
use crate::kernel::{self, Stat};
use crate::shown::shown;
use crate::volume::{is_kernel_interface, is_remote};

/// How long threads that hang in the kernel are waited for after a stop.
const PATIENCE: Duration = Duration::from_millis(60);

/// What the threads of one scan have in common.
#[derive(Debug)]
pub(super) struct Shared {
    pub(super) catalog: Arc<RwLock<Catalog>>,
    /// One for each thread: what all write to would have to be passed around for each directory.
    pub(super) figures: Box<[CachePadded<LiveFigures>]>,
    pub(super) stop: CachePadded<AtomicBool>,
    /// Reading waits for a device: the order of inodes is worth its price.
    pub(super) waits: AtomicBool,
    pub(super) cross_volumes: bool,
    pub(super) filter: Filter,
    stand_back: bool,
    took: Mutex<Option<Duration>>,
    ended: Condvar,
    pending: CachePadded<AtomicUsize>,
    /// Threads that run.
    alive: AtomicUsize,
    panic: Mutex<Option<Box<dyn Any + Send>>>,
    coordinator: OnceLock<std::thread::Thread>,
    held_most: usize,
    mounts: FxHashMap<u64, MountTraits>,
    mount_points: Vec<PathBuf>,
}

/// What is shown of one thread's part of a scan while it runs. Only that thread writes it.
#[derive(Debug, Default)]
pub(super) struct LiveFigures {
    pub(super) entries: AtomicU64,
    pub(super) bytes: AtomicU64,
    pub(super) unreadable: AtomicU64,
    pub(super) current: AtomicU32,
}

/// Adds to a figure that no other thread writes, which needs no bus lock.
pub(super) fn add_to(figure: &AtomicU64, more: u64) {
    figure.store(figure.load(Relaxed) + more, Relaxed);
}

#[derive(Clone, Copy, Debug)]
struct MountTraits {
    kernel_interface: bool,
    /// Directories of it may be places where the server mounts something as they are opened.
    remote: bool,
}

impl Shared {
    pub(super) fn new(catalog: Catalog, options: &Options, threads: Threads) -> Self {
        let descriptors = kernel::raise_descriptor_limit() as usize;
        let table = kernel::mounts().unwrap_or_default();
        let traits = |mount: &kernel::Mount| {
            let kernel_interface = is_kernel_interface(&mount.fs_type);
            (mount.id, MountTraits { kernel_interface, remote: is_remote(&mount.fs_type) })
        };
        Self {
            catalog: Arc::new(RwLock::new(catalog)),
            figures: (0..threads.most).map(|_| CachePadded::default()).collect(),
            stop: CachePadded::default(),
            waits: AtomicBool::new(false),
            cross_volumes: options.cross_volumes,
            filter: options.filter.clone(),
            stand_back: options.stand_back,
            took: Mutex::new(None),
            ended: Condvar::new(),
            pending: CachePadded::default(),
            alive: AtomicUsize::new(0),
            panic: Mutex::new(None),
            coordinator: OnceLock::new(),
            held_most: (descriptors / 2).clamp(16, 8192),
            mounts: table.iter().map(traits).collect(),
            mount_points: table.into_iter().map(|mount| mount.mount_point).collect(),
        }
    }

    pub(super) fn took(&self) -> Option<Duration> {
        *lock(&self.took)
    }

    /// Waits for the end, at most so long.
    pub(super) fn wait(&self, most: Duration) {
        // whether it timed out is asked by `took`
        let _ = self.ended.wait_timeout_while(lock(&self.took), most, |took| took.is_none());
    }

    /// Makes the totals exact; the scan counts as ended only then, and takes no more.
    fn end(&self, begun: Instant, whole: bool) {
        // what is left could not be read: no thread could be begun for it
        let complete = whole && !self.stop.load(Relaxed) && self.pending.load(Acquire) == 0;
        let volumes = if complete { self.other_volumes() } else { Vec::new() };
        let mut catalog = write_between_readers(&self.catalog);
        catalog.add_volumes(volumes);
        catalog.finish(complete);
        drop(catalog);
        *lock(&self.took) = Some(begun.elapsed());
        self.ended.notify_all();
    }

    /// The file systems that were entered on the way.
    fn other_volumes(&self) -> Vec<ScannedVolume> {
        let catalog = self.catalog.read().unwrap_or_else(PoisonError::into_inner);
        let places = catalog.places_by_device();
        let known = |device| catalog.origin().volumes.iter().any(|known| known.device == device);
        let places: Vec<_> = places.into_iter().filter(|(device, _)| !known(*device)).collect();
        drop(catalog);
        // of one that cannot be examined any more nothing is planned
        places.iter().filter_map(|(_, place)| ScannedVolume::look(place).ok()).collect()
    }

    /// The catalog, to be written to; `None` once the scan has ended, for a thread that comes too late.
    pub(super) fn write(&self) -> Option<RwLockWriteGuard<'_, Catalog>> {
        let catalog = write_between_readers(&self.catalog);
        (!catalog.is_finished()).then_some(catalog)
    }

    /// Whether something is mounted below a path.
    pub(super) fn is_above_mounts(&self, path: &Path) -> bool {
        self.mount_points.iter().any(|mount| mount.starts_with(path) && mount != path)
    }

    /// Whether entries of a directory must be looked at before they are opened, and each asked for its
    /// mount: something is mounted directly in it, or it is of a kind where opening may mount.
    pub(super) fn must_be_careful(&self, path: Option<&Path>, mount: u64) -> bool {
        self.mounts.get(&mount).is_some_and(|traits| traits.remote)
            || path.is_some_and(|path| {
                self.mount_points.iter().any(|mount| mount.parent() == Some(path))
            })
    }

    /// Whether paths are needed below that of this directory.
    pub(super) fn wants_path(&self, path: &Path) -> bool {
        self.filter.wants_paths() || self.is_above_mounts(path)
    }

    pub(super) fn more_pending(&self, count: usize) {
        self.pending.fetch_add(count, AcqRel);
    }

    fn goes_on(&self) -> bool {
        self.pending.load(Acquire) > 0 && !self.stop.load(Relaxed)
    }

    /// Whether to go into a directory that lies on another mount than its parent.
    pub(super) fn enters(&self, stat: &Stat) -> bool {
        let known = self.mounts.get(&stat.mount);
        self.cross_volumes && known.is_some_and(|traits| !traits.kernel_interface)
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A directory still to be read.
#[derive(Debug)]
pub(super) struct Task {
    /// Its entry; of an excluded one, the listed directory that it lies below.
    pub(super) entry: EntryId,
    /// Of an excluded one: the way from there.
    pub(super) excluded: Option<Arc<UnlistedName>>,
    pub(super) name: CString,
    /// Its inode, as the directory that holds it names it.
    pub(super) inode: u64,
    pub(super) parent: Option<Arc<Held>>,
    /// Its own mount and device, or while it is not examined those of its parent.
    pub(super) mount: u64,
    pub(super) dev: u64,
    pub(super) examined: bool,
    /// Its path, as long as something is mounted below it or patterns look at paths.
    pub(super) path: Option<PathBuf>,
    /// How many of its path's bytes are the root's.
    pub(super) root_length: usize,
}

/// A name below an entry of the catalog that is not in it itself.
#[derive(Debug)]
pub(super) struct UnlistedName {
    pub(super) above: Option<Arc<UnlistedName>>,
    pub(super) name: CString,
}

/// How many threads a walk has.
#[derive(Clone, Copy, Debug)]
pub(super) struct Threads {
    /// From the beginning.
    pub(super) first: usize,
    /// Threads at most, once they wait for the device.
    pub(super) most: usize,
}

/// Walks everything below the roots and returns when all is read or a stop was asked for; then the
/// scan has ended.
///
/// Begins with `threads.first`. While they wait for the device more than they compute, more are added up
/// to `threads.most`: in memory a thread for each core is best, on a device more requests must be on
/// their way than there are cores. A thread that hangs in the kernel when the scan is stopped is left
/// behind; what it brings later is not taken.
pub(super) fn run(shared: &Arc<Shared>, roots: &[(EntryId, Stat)], threads: Threads) {
    let begun = Instant::now();
    let workers: Vec<Worker<Task>> = (0..threads.most).map(|_| Worker::new_lifo()).collect();
    let stealers: Arc<[Stealer<Task>]> = workers.iter().map(Worker::stealer).collect();
    shared.pending.store(roots.len(), Relaxed);
    shared.coordinator.get_or_init(std::thread::current);
    for (i, (entry, stat)) in roots.iter().enumerate() {
        add_to(&shared.figures[0].entries, 1);
        add_to(&shared.figures[0].bytes, stat.allocated().get());
        let path = shared.catalog.read().unwrap_or_else(PoisonError::into_inner).path(*entry);
        workers[i % threads.first].push(Task {
            entry: *entry,
            excluded: None,
            name: CString::default(),
            inode: stat.ino,
            parent: None,
            mount: stat.mount,
            dev: stat.dev,
            examined: true,
            root_length: path.as_os_str().len(),
            path: shared.wants_path(&path).then_some(path),
        });
    }
    let holdings = Holdings::new(threads.most, shared.held_most);
    let mut workers = workers.into_iter().enumerate();
    // what lies before a thread that cannot be begun is taken from there by those that run
    let begin = |(number, own): (usize, Worker<Task>)| {
        let (of_thread, stealers) = (Arc::clone(shared), Arc::clone(&stealers));
        let holdings = Arc::clone(&holdings);
        let work = move || one_thread(&of_thread, number, own, &stealers, holdings);
        shared.alive.fetch_add(1, AcqRel);
        let begun = std::thread::Builder::new().spawn(work).ok();
        if begun.is_none() {
            shared.alive.fetch_sub(1, AcqRel);
        }
        begun
    };
    let mut running = workers.by_ref().take(threads.first).map_while(begin).count();
    if running == 0
        && let Some((number, own)) = workers.next()
    {
        // not even one can be begun: then this one does it all
        shared.alive.fetch_add(1, AcqRel);
        one_thread(shared, number, own, &stealers, Arc::clone(&holdings));
    }
    let mut signs = WaitingSigns::new(threads.first);
    while shared.goes_on() && shared.alive.load(Acquire) > 0 {
        // woken early by the end
        std::thread::park_timeout(Duration::from_millis(20));
        let waits = shared.waits.load(Relaxed);
        let idle = shared.pending.load(Relaxed) <= running;
        if !(waits && running == threads.most) && signs.look(waits) && !idle {
            shared.waits.store(true, Relaxed);
            let more = running.min(threads.most - running);
            running += workers.by_ref().take(more).map_while(begin).count();
        }
    }
    let since = Instant::now();
    while shared.alive.load(Acquire) > 0
        && (!shared.stop.load(Relaxed) || since.elapsed() < PATIENCE)
    {
        std::thread::park_timeout(Duration::from_millis(5));
    }
    let panic = lock(&shared.panic).take();
    shared.ended(begun, panic);
}

impl Shared {
    /// Says that so many directories wait to be read.
    pub(super) fn count_pending(&self, count: usize) {
        self.pending.store(count, Relaxed);
    }

    /// One was read, and so many more were found in it.
    pub(super) fn pending_changed(&self, more: usize) {
        self.pending.fetch_add(more, AcqRel);
        self.pending.fetch_sub(1, AcqRel);
    }

    /// Ends the scan, also if a thread of it has panicked: then that goes on here.
    pub(super) fn ended(&self, begun: Instant, panic: Option<Box<dyn Any + Send>>) {
        // threads that wait for the end must be told of it, also if it is a panic
        self.end(begun, panic.is_none());
        self.log_end(begun);
        if let Some(panic) = panic {
            std::panic::resume_unwind(panic);
        }
    }

    fn log_end(&self, begun: Instant) {
        let catalog = self.catalog.read().unwrap_or_else(PoisonError::into_inner);
        let roots: Vec<String> = catalog.roots().iter().map(|root| shown(&root.path)).collect();
        let (entries, unreadable) = (catalog.rows(), catalog.unreadable().len());
        let (complete, seconds) = (catalog.is_complete(), begun.elapsed().as_secs_f64());
        tracing::info!(
            roots = roots.join(" "),
            entries,
            unreadable,
            complete,
            seconds,
            "scan ended"
        );
    }
}

fn one_thread(
    shared: &Arc<Shared>,
    number: usize,
    own: Worker<Task>,
    stealers: &[Stealer<Task>],
    holdings: Arc<Holdings>,
) {
    if shared.stand_back {
        kernel::stand_back();
    }
    // without it, the scan is only slower
    let _ = kernel::own_descriptor_table();
    let now = shared.catalog.read().unwrap_or_else(PoisonError::into_inner).now();
    let work = || {
        let mut thread = Thread::new(shared, number, holdings, own, now);
        let mut idle = 0u32;
        while shared.goes_on() {
            let task = thread.own.pop().or_else(|| {
                thread.hand_over();
                thread.own.pop().or_else(|| steal(stealers, number))
            });
            match task {
                Some(task) => {
                    idle = 0;
                    // counted down also when a panic unwinds, or the other threads wait for ever
                    thread.visit(task, CountDown::one(shared));
                }
                None => {
                    thread.holdings.empty_bin(number);
                    idle += 1;
                    if idle < 16 {
                        std::thread::yield_now();
                    } else {
                        std::thread::sleep(Duration::from_micros(u64::from(idle.min(500))));
                    }
                }
            }
        }
        thread.hand_over();
    };
    if let Err(panic) = std::panic::catch_unwind(AssertUnwindSafe(work)) {
        shared.stop.store(true, Relaxed);
        lock(&shared.panic).get_or_insert(panic);
    }
    shared.alive.fetch_sub(1, AcqRel);
    wake_coordinator(shared);
}

fn wake_coordinator(shared: &Shared) {
    if let Some(coordinator) = shared.coordinator.get() {
        coordinator.unpark();
    }
}

/// Directories that are pending until this is dropped.
pub(super) struct CountDown<'a> {
    shared: &'a Shared,
    count: usize,
}

impl<'a> CountDown<'a> {
    pub(super) fn none(shared: &'a Shared) -> Self {
        Self { shared, count: 0 }
    }

    fn one(shared: &'a Shared) -> Self {
        Self { shared, count: 1 }
    }

    /// Counts down later what another would.
    pub(super) fn join(&mut self, other: Option<Self>) {
        self.count += other.map_or(0, |mut other| std::mem::take(&mut other.count));
    }

    pub(super) fn count_down(&mut self) {
        let count = std::mem::take(&mut self.count);
        if count > 0 && self.shared.pending.fetch_sub(count, AcqRel) == count {
            wake_coordinator(self.shared);
        }
    }
}

impl Drop for CountDown<'_> {
    fn drop(&mut self) {
        self.count_down();
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
