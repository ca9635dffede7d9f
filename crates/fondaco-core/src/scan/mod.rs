//! Walks trees in parallel into a [`Catalog`].
//!
//! Takes paths and [`Options`], gives a running [`Scan`] whose catalog can be read at any time: it
//! holds whole directories only and its totals fit what it holds. A place that cannot be read is
//! kept in the catalog and does not end the scan. Nothing is changed: no access times where the
//! kernel permits that, no links followed, no automounts triggered, no other volume entered
//! unless asked.

mod closer;
mod filter;
mod hand_over;
mod held;
mod objects;
mod reconcile;
mod visit;
mod waiting;
mod walk;

use std::collections::HashSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, PoisonError, RwLock, RwLockReadGuard};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use fondaco_store::ManagedStore;

use crate::archive::{is_store, managed_name};
use crate::catalog::{Catalog, EntryId, Full, Origin, ScannedVolume};
use crate::kernel::{self, CallError, Capacity, Kind, Op};
use crate::parallel;
use crate::shown::Shown;
use crate::units::{Bytes, Time};
pub use closer::look_closer;
pub use filter::Filter;
pub use reconcile::{reconcile, replace};
use walk::{LiveFigures, Shared, Threads};

/// How to scan.
#[derive(Clone, Debug)]
pub struct Options {
    /// Enter other volumes that are mounted below. Kernel interfaces such as `/proc` never are.
    pub cross_volumes: bool,
    /// Threads that read; 0 for as many as there are cores, and more while they wait for a device.
    pub threads: usize,
    /// The moment that ages are counted from.
    pub now: Time,
    /// What is listed; the rest is counted.
    pub filter: Filter,
    /// Managed stores that can be scanned, by their names.
    pub stores: Vec<ManagedStore>,
    /// Threads stand back when others want the processor: somebody looks at a screen meanwhile.
    pub stand_back: bool,
}

impl Options {
    /// Everything on the roots' own volumes.
    pub fn new(now: Time) -> Self {
        let filter = Filter::default();
        Self {
            cross_volumes: false,
            threads: 0,
            now,
            filter,
            stores: Vec::new(),
            stand_back: false,
        }
    }
}

/// Why a scan could not begin.
#[derive(Debug, thiserror::Error)]
pub enum ScanError {
    /// Nothing has that path.
    #[error("there is no {}", Shown(.0))]
    Missing(PathBuf),
    /// Only directories are scanned.
    #[error("{} is not a directory", Shown(.0))]
    NotADirectory(PathBuf),
    /// Stores are listed and directories walked, and one scan does not do both.
    #[error("{} and a store are not scanned together: scan them one after the other", Shown(.0))]
    Mixed(PathBuf),
    /// The kernel refused.
    #[error(transparent)]
    Call(#[from] CallError),
    /// Rules for one managed store must not be tried on another.
    #[error("{} is scanned alone", Shown(.0))]
    Alone(PathBuf),
    /// No such store is defined.
    #[error("{}: no [[store]] of that name stands in the rule file", Shown(.0))]
    NoStore(PathBuf),
    /// It was asked to stop, and half of it would be of no use.
    #[error("it was stopped")]
    Stopped,
    /// There is no room for it.
    #[error(transparent)]
    Full(#[from] Full),
}

/// How far a scan is.
#[derive(Clone, Debug, Default)]
pub struct Progress {
    /// How many entries have been examined so far.
    pub entries: u64,
    /// Bytes on disk of them, several names of one inode counted several times.
    pub bytes: Bytes,
    /// Places that could not be read.
    pub unreadable: u64,
    /// Time since the start; once ended, the time it took.
    pub elapsed: Duration,
    /// Where it is reading now.
    pub current: PathBuf,
}

/// A catalog is given addresses for as many entries as the volumes have inodes in use, but at most for these: 300 MiB.
const ROOM_MOST: u64 = 1 << 22;

/// A scan that runs on threads of its own, or has ended.
#[derive(Debug)]
pub struct Scan {
    shared: Arc<Shared>,
    begun: Instant,
    coordinator: Option<JoinHandle<()>>,
}

impl Scan {
    /// Begins to scan; where no thread can be begun, scans to the end. Roots inside other roots are covered by those
    /// and left out.
    ///
    /// # Errors
    ///
    /// [`ScanError`] if a root cannot be examined; then nothing is begun.
    pub fn start(roots: &[PathBuf], options: &Options) -> Result<Self, ScanError> {
        if roots.iter().any(|root| is_store(root)) {
            return Self::start_listing(roots, options);
        }
        let mut catalog = Catalog::new(options.now);
        let mut origin = Origin::of_this_machine();
        let (mut roots_found, mut inodes) = (Vec::new(), 0u64);
        for path in outermost(roots)? {
            let stat = kernel::stat_path(&path).map_err(CallError::on(Op::Examine, &path))?;
            if stat.kind != Kind::Directory {
                return Err(ScanError::NotADirectory(path));
            }
            // a directory that may be examined and not opened is told of when it is read
            if let Ok(volume) = ScannedVolume::look(&path) {
                // some file systems make these numbers up
                let Capacity { inodes: all, inodes_free, .. } = volume.capacity;
                inodes = inodes.saturating_add(all - inodes_free);
                if !origin.volumes.iter().any(|known| known.device == volume.device) {
                    origin.volumes.push(volume);
                }
            }
            roots_found.push((path, stat));
        }
        catalog.set_origin(origin);
        if !kernel::addresses_are_scarce() {
            let entries = inodes.min(ROOM_MOST) as usize;
            catalog.make_room(entries, entries / 8, entries * 15);
        }
        let entries = catalog.add_roots(&roots_found)?;
        let stats = roots_found.into_iter().map(|(_, stat)| stat);
        let tasks: Vec<_> = entries.into_iter().zip(stats).collect();
        let threads = match options.threads {
            0 => {
                let cores = std::thread::available_parallelism().map_or(2, |n| n.get().max(2));
                Threads { first: cores, most: cores.max(16) }
            }
            n => Threads { first: n, most: n },
        };
        let shared = Arc::new(Shared::new(catalog, options, threads));
        let begun = Instant::now();
        let walking = Arc::clone(&shared);
        let coordinator = parallel::begin(move || walk::run(&walking, &tasks, threads));
        Ok(Self { shared, begun, coordinator })
    }

    /// Begins to list stores.
    fn start_listing(roots: &[PathBuf], options: &Options) -> Result<Self, ScanError> {
        if let Some(path) = roots.iter().find(|root| !is_store(root)) {
            return Err(ScanError::Mixed(path.clone()));
        }
        if let Some(root) = roots.iter().find(|root| managed_name(root).is_some()) {
            return match roots {
                [root] => Self::of_managed(root, options),
                _ => Err(ScanError::Alone(root.clone())),
            };
        }
        let mut catalog = Catalog::new(options.now);
        catalog.set_origin(Origin::of_this_machine());
        // a slash at its end would make it another path
        let trimmed = |root: &PathBuf| PathBuf::from(root.to_string_lossy().trim_end_matches('/'));
        let roots: Vec<PathBuf> = roots.iter().map(trimmed).collect();
        let (mut stores, mut stats) = (Vec::new(), Vec::new());
        for root in &roots {
            let inside = |other: &PathBuf| other != root && root.starts_with(other);
            if !roots.iter().any(inside) && !stats.iter().any(|(known, _)| known == root) {
                let (store, stat) = objects::open(root)?;
                stores.push(store);
                stats.push((root.clone(), stat));
            }
        }
        let entries = catalog.add_roots(&stats)?;
        let threads = Threads { first: 1, most: 16 };
        let shared = Arc::new(Shared::new(catalog, options, threads));
        let begun = Instant::now();
        let listing = Arc::clone(&shared);
        let tasks = entries.into_iter().zip(stores).collect();
        let coordinator = parallel::begin(move || objects::run(&listing, tasks));
        Ok(Self { shared, begun, coordinator })
    }

    /// Lists a managed store, to its end.
    fn of_managed(root: &Path, options: &Options) -> Result<Self, ScanError> {
        let name = managed_name(root).unwrap_or_default();
        let definition = options.stores.iter().find(|store| store.name == name);
        let definition = definition.ok_or_else(|| ScanError::NoStore(root.to_owned()))?;
        let begun = Instant::now();
        let catalog = objects::list_managed(root, definition, options.now)?;
        let (entries, bytes) = (catalog.rows() as u64, catalog.origin().store.as_ref());
        let bytes = bytes.map_or(0, |store| store.used.get());
        let shared = Arc::new(Shared::new(catalog, options, Threads { first: 1, most: 1 }));
        shared.figures[0].entries.store(entries, Relaxed);
        shared.figures[0].bytes.store(bytes, Relaxed);
        shared.ended(begun, None);
        Ok(Self { shared, begun, coordinator: None })
    }

    /// The catalog as far as it goes. Hold it briefly: the walk waits meanwhile.
    pub fn catalog(&self) -> RwLockReadGuard<'_, Catalog> {
        self.shared.catalog.read().unwrap_or_else(PoisonError::into_inner)
    }

    /// The catalog itself, to be kept after the scan.
    pub fn shared_catalog(&self) -> Arc<RwLock<Catalog>> {
        Arc::clone(&self.shared.catalog)
    }

    /// The catalog of a scan that has ended, for good. While others hold it too, a stopped and empty one
    /// is left to them.
    pub fn into_catalog(mut self) -> Catalog {
        self.wait();
        let mut shared = self.shared.catalog.write().unwrap_or_else(PoisonError::into_inner);
        // a thread that hung and comes late must find it closed
        let mut closed = Catalog::new(shared.now());
        closed.finish(false);
        std::mem::replace(&mut *shared, closed)
    }

    /// How far it is.
    pub fn progress(&self) -> Progress {
        let figures = &self.shared.figures;
        let sum = |figure: fn(&LiveFigures) -> &AtomicU64| {
            figures.iter().map(|thread| figure(thread).load(Relaxed)).sum()
        };
        let current = EntryId(figures[0].current.load(Relaxed));
        Progress {
            entries: sum(|thread| &thread.entries),
            bytes: Bytes::new(sum(|thread| &thread.bytes)),
            unreadable: sum(|thread| &thread.unreadable),
            elapsed: self.shared.took().unwrap_or_else(|| self.begun.elapsed()),
            current: self.catalog().path(current),
        }
    }

    /// Asks it to stop. What is known stays; the catalog will not count as complete.
    pub fn stop(&self) {
        self.shared.stop.store(true, Relaxed);
    }

    /// Whether it has ended and its totals are exact.
    pub fn is_done(&self) -> bool {
        self.shared.took().is_some()
    }

    /// Waits for the end, at most so long; says whether it has come.
    pub fn wait_for(&self, most: Duration) -> bool {
        self.shared.wait(most);
        self.is_done()
    }

    /// Waits for the end.
    pub fn wait(&mut self) {
        if let Some(coordinator) = self.coordinator.take()
            && let Err(panic) = coordinator.join()
        {
            std::panic::resume_unwind(panic);
        }
    }
}

impl Drop for Scan {
    fn drop(&mut self) {
        self.stop();
    }
}

/// The paths without links in them, each once, and none that lies inside another.
fn outermost(roots: &[PathBuf]) -> Result<Vec<PathBuf>, ScanError> {
    let real: Vec<PathBuf> = roots.iter().map(|path| real_path(path)).collect::<Result<_, _>>()?;
    let mut seen = HashSet::new();
    let inside = |path: &Path| real.iter().any(|other| other != path && path.starts_with(other));
    Ok(real.iter().filter(|p| !inside(p) && seen.insert(*p)).cloned().collect())
}

/// The path with all links resolved; the first error a user meets, so it is told apart well.
fn real_path(path: &Path) -> Result<PathBuf, ScanError> {
    path.canonicalize().map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => ScanError::Missing(path.to_owned()),
        io::ErrorKind::NotADirectory => ScanError::NotADirectory(path.to_owned()),
        _ => ScanError::Call(CallError::on(Op::Open, path)(error)),
    })
}
