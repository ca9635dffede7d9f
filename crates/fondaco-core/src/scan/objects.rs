//! Lists stores into a catalog, directory by directory: what names have in common up to a slash is a directory.
//!
//! A listing waits for the network most of the time, so that several threads ask at once. Each directory is taken over when
//! its list is whole.

use std::collections::VecDeque;
use std::io;
use std::path::Path;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Instant;

use fondaco_store::{
    Below, Environment, Listed, Managed, ManagedStore, Patience, Store, StoreAddress, StoreError,
};

use jiff::tz::TimeZone;

use super::ScanError;
use super::walk::{Shared, add_to};
use crate::catalog::{Batch, Catalog, EntryId, ListedStore, Origin, Reading, Unreadable};
use crate::kernel::{CallError, Kind, Op, Stat};
use crate::naming::date_in;
use crate::units::{Bytes, Time};

/// So many requests are on their way at once.
const THREADS: usize = 12;

/// Opens the stores that a scan begins at. Whether they are there is asked of each.
pub(super) fn open(root: &Path) -> Result<(Arc<dyn Store>, Stat), ScanError> {
    let call = |error: StoreError| CallError::on(Op::Open, root)(io::Error::from(error));
    let text = root.to_str().ok_or_else(|| ScanError::Missing(root.to_owned()))?;
    let address = StoreAddress::parse(text).map_err(call)?;
    let store = fondaco_store::open(&address, &Environment::of_process(), Patience::default())
        .map_err(call)?;
    // the first answer tells whether one can come in at all
    store.level("", &mut |_| false).map_err(call)?;
    Ok((store, stat_of(Kind::Directory, 0, None)))
}

/// What is known of an object, in the form of an inode: its length, which is what it takes, and when it was written.
pub(crate) fn stat_of(kind: Kind, length: u64, written: Option<i64>) -> Stat {
    let time = Time { sec: written.unwrap_or(0), nsec: 0 };
    Stat {
        dev: 0,
        ino: 0,
        mount: 0,
        kind,
        mode: u32::from(kind.mode_bits()),
        links: 1,
        uid: 0,
        gid: 0,
        size: length,
        blocks: length.div_ceil(512),
        rdev: 0,
        atime: time,
        mtime: time,
        ctime: time,
        btime: None,
        immutable: false,
        append_only: false,
        mount_root: false,
    }
}

/// Lists a managed store into a catalog: its members lie directly in it.
pub(super) fn list_managed(
    root: &Path,
    definition: &ManagedStore,
    now: Time,
) -> Result<Catalog, ScanError> {
    let call = |error: StoreError| CallError::on(Op::ReadDirectory, root)(io::Error::from(error));
    let store = Managed::open(definition, &Environment::of_process(), Patience::default());
    let found = store.and_then(|store| store.members()).map_err(call)?;
    let mut catalog = Catalog::new(now);
    let used = found.members.iter().map(|member| Bytes::new(member.length)).sum();
    let mut origin = Origin::of_this_machine();
    origin.store = Some(ListedStore { definition: definition.clone(), used });
    catalog.set_origin(origin);
    let top = catalog.add_roots(&[(root.to_owned(), stat_of(Kind::Directory, 0, None))])?;
    let mut batch = Batch::new(now);
    for Listed { name, length, written } in &found.members {
        // what has no date is as new as can be, so that no rule takes it for old
        let written = written.or_else(|| dated(name)).unwrap_or(now.sec);
        batch.push(name.as_bytes(), &stat_of(Kind::File, *length, Some(written)));
    }
    for entry in top {
        catalog.append(entry, None, &batch)?;
    }
    for name in found.odd {
        let error = "its name could mean something else to the store: it is left alone".to_owned();
        let path = root.join(name.replace('/', "\\"));
        catalog.note_unreadable(Unreadable { path, op: Op::Examine, error, errno: 0 });
    }
    Ok(catalog)
}

/// The date in a name, as a moment.
fn dated(name: &str) -> Option<i64> {
    let date = date_in(name.as_bytes())?.to_zoned(TimeZone::system()).ok()?;
    Some(date.timestamp().as_second())
}

/// A directory of a store that is still to be listed.
struct Task {
    store: Arc<dyn Store>,
    entry: EntryId,
    /// Its name in the store.
    name: String,
}

/// Directories that wait, and how many are being listed.
#[derive(Default)]
struct Queue {
    tasks: Mutex<(VecDeque<Task>, usize)>,
    changed: Condvar,
}

impl Queue {
    /// The next directory; `None` when there is none and none can come.
    fn next(&self) -> Option<Task> {
        let mut tasks = self.tasks.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            // the last one first, so that few wait
            if let Some(task) = tasks.0.pop_back() {
                tasks.1 += 1;
                return Some(task);
            }
            if tasks.1 == 0 {
                return None;
            }
            tasks = self.changed.wait(tasks).unwrap_or_else(PoisonError::into_inner);
        }
    }

    fn done(&self, more: impl IntoIterator<Item = Task>) {
        let mut tasks = self.tasks.lock().unwrap_or_else(PoisonError::into_inner);
        tasks.0.extend(more);
        tasks.1 -= 1;
        self.changed.notify_all();
    }
}

/// Lists all of the stores, and ends the scan.
pub(super) fn run(shared: &Arc<Shared>, roots: Vec<(EntryId, Arc<dyn Store>)>) {
    let begun = Instant::now();
    shared.count_pending(roots.len());
    add_to(&shared.figures[0].entries, roots.len() as u64);
    let queue = Queue::default();
    {
        let mut tasks = queue.tasks.lock().unwrap_or_else(PoisonError::into_inner);
        let task = |(entry, store)| Task { store, entry, name: String::new() };
        tasks.0.extend(roots.into_iter().map(task));
    }
    std::thread::scope(|scope| {
        for number in 1..THREADS.min(shared.figures.len()) {
            let queue = &queue;
            let work = move || one_thread(shared, number, queue);
            // where no more can be begun, fewer do it
            let _ =
                std::thread::Builder::new().name("listing".to_owned()).spawn_scoped(scope, work);
        }
        one_thread(shared, 0, &queue);
    });
    shared.ended(begun, None);
}

fn one_thread(shared: &Arc<Shared>, number: usize, queue: &Queue) {
    while let Some(task) = queue.next() {
        // stopped, it only empties the queue
        let more = match shared.stop.load(Relaxed) {
            true => Vec::new(),
            false => list(shared, number, &task),
        };
        shared.pending_changed(more.len());
        queue.done(more);
    }
}

/// Lists one directory; gives those in it.
fn list(shared: &Arc<Shared>, number: usize, task: &Task) -> Vec<Task> {
    let figures = &shared.figures[number];
    figures.current.store(task.entry.0, Relaxed);
    let now = shared.catalog.read().unwrap_or_else(PoisonError::into_inner).now();
    let (mut batch, mut names, mut odd) = (Batch::new(now), Vec::new(), Vec::new());
    let mut bytes = 0;
    let listed = task.store.level(&task.name, &mut |below| {
        match below {
            // the object that stands for the directory itself
            Below::Object(Listed { name, .. }) if name.is_empty() => {}
            // such names mean another place to everything that takes paths apart
            Below::Object(Listed { name, .. }) | Below::Directory(name) if is_odd(&name) => {
                odd.push(name);
            }
            Below::Object(Listed { name, length, written }) => {
                bytes += length;
                batch.push(name.as_bytes(), &stat_of(Kind::File, length, written));
            }
            Below::Directory(name) => {
                names.push((batch.len(), name.clone()));
                batch.push(name.as_bytes(), &stat_of(Kind::Directory, 0, None));
            }
        }
        !shared.stop.load(Relaxed)
    });
    if shared.stop.load(Relaxed) {
        return Vec::new();
    }
    let entries = batch.len() as u64;
    let Some(mut catalog) = shared.write() else { return Vec::new() };
    let first = match catalog.append(task.entry, None, &batch) {
        Ok(first) => first,
        Err(full) => {
            shared.stop.store(true, Relaxed);
            tracing::error!("{full}");
            return Vec::new();
        }
    };
    let path = catalog.path(task.entry);
    if let Err(error) = listed {
        add_to(&figures.unreadable, 1);
        catalog.set_reading(task.entry, Reading::Failed);
        let error = error.to_string();
        catalog.note_unreadable(Unreadable {
            path: path.clone(),
            op: Op::ReadDirectory,
            error,
            errno: 0,
        });
    }
    for name in odd {
        add_to(&figures.unreadable, 1);
        let error = "its name has a part that is empty, . or ..".to_owned();
        let path = path.join(name.replace('/', "\\"));
        catalog.note_unreadable(Unreadable { path, op: Op::Examine, error, errno: 0 });
    }
    drop(catalog);
    add_to(&figures.entries, entries);
    add_to(&figures.bytes, Bytes::new(bytes).get());
    let below = |(at, name): (usize, String)| Task {
        store: Arc::clone(&task.store),
        entry: EntryId(first.0 + at as u32),
        name: if task.name.is_empty() { name } else { format!("{}/{name}", task.name) },
    };
    names.into_iter().map(below).collect()
}

/// Whether a part of a name cannot be one of a path.
fn is_odd(name: &str) -> bool {
    matches!(name, "" | "." | "..") || name.contains('/')
}
