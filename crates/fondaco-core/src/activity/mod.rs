//! Who writes on a volume at this moment: by process and by directory.
//!
//! A [`Watch`] is looked at every second or so ([`Watch::tick`]) and adds up, over the last ticks, how much regular files have
//! grown. It knows them from two sources: the files that processes hold open for writing, and, as root, what the kernel tells
//! of everything that is made, written or moved on the file system. An inode is counted once, whichever source tells of it.
//! What cannot be known is said: processes that this user may not look into, events that were lost.

mod files;
mod written;

use std::collections::{HashMap, VecDeque};
use std::ffi::OsStr;
use std::hash::Hash;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Instant;

use files::KnownFiles;
use written::Written;

use crate::kernel::{
    CallError, FileEvents, Process, growing_file_in, stat_path, written_by, written_files,
};
use crate::state::State;
use crate::units::Bytes;
use crate::volume::{Class, Volume, volume_of};

/// Of the directories and names that events tell of, at most so many are looked at in a tick; beyond that the growth of a
/// directory is estimated by those that were.
const LOOKED_AT: usize = 2000;
/// Ticks that are kept apart where all are told of.
const TOGETHER: usize = 64;
/// So many directories and so many processes are kept for each tick, those that grew most.
const LARGEST: usize = 512;
/// Stands for the number of processes that have ended before anything was known of them.
const ENDED: u32 = 0;

/// Who writes to a file, by device and inode.
type Holders = HashMap<(u64, u64), Holder>;

/// Those who write to one file.
#[derive(Debug)]
struct Holder {
    pids: Vec<u32>,
    path: PathBuf,
    /// How many files it stands for, where not all could be looked at.
    stands_for: f64,
}

impl Holder {
    fn add(&mut self, pid: u32) {
        if !self.pids.contains(&pid) {
            self.pids.push(pid);
        }
    }
}

/// How a process or a directory grew in one tick, or in all that are kept.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Growth {
    bytes: f64,
    files: u64,
    made: u64,
    moved_here: u64,
}

impl Growth {
    fn add(&mut self, more: &Self) {
        self.bytes += more.bytes;
        self.files = self.files.max(more.files);
        self.made += more.made;
        self.moved_here += more.moved_here;
    }
}

/// What happened in one tick.
#[derive(Debug, Default)]
struct Tick {
    seconds: f64,
    processes: HashMap<u32, Growth>,
    directories: HashMap<PathBuf, Growth>,
    /// The file of each process that grew most.
    largest: HashMap<u32, (f64, PathBuf)>,
    used: Option<i64>,
    events: u64,
    lost: bool,
    estimated: bool,
}

/// A process that writes.
#[derive(Clone, Debug, PartialEq)]
pub struct Writer {
    /// Number of the process; 0 for all those that ended before anything was known of them.
    pub pid: u32,
    /// What is known of it.
    pub process: Option<Process>,
    /// Bytes a second by which its files grew.
    pub rate: f64,
    /// Bytes by which they grew in the time that is told of.
    pub grown: Bytes,
    /// How many files at once at most.
    pub files: u64,
    /// How many files it made.
    pub made: u64,
    /// The file of it that grew most.
    pub largest: Option<PathBuf>,
}

/// A directory in which files grow.
#[derive(Clone, Debug, PartialEq)]
pub struct GrowingDirectory {
    /// The directory that directly holds them.
    pub path: PathBuf,
    /// Bytes a second.
    pub rate: f64,
    /// Bytes by which they grew in the time that is told of.
    pub grown: Bytes,
    /// How many files were made in it.
    pub made: u64,
    /// How many came by a new name.
    pub moved_here: u64,
}

/// What is known over the last ticks.
#[derive(Clone, Debug)]
pub struct Activity {
    /// The time that is told of.
    pub seconds: f64,
    /// Who writes, the fastest first.
    pub writers: Vec<Writer>,
    /// Where, the fastest first.
    pub directories: Vec<GrowingDirectory>,
    /// Bytes a second by which all known files grew.
    pub rate: f64,
    /// Bytes a second by which the volume says that it has more in use; negative if it has less.
    pub volume_rate: Option<f64>,
    /// Free bytes of the volume now.
    pub free: Option<Bytes>,
    /// Processes that this user may not look into.
    pub hidden: usize,
    /// Why the kernel does not tell of everything that is written; nothing if it does.
    pub no_events: Option<String>,
    /// How many events there were.
    pub events: u64,
    /// Some were lost because they came too fast.
    pub lost: bool,
    /// So many files were written that some growth is estimated from the others.
    pub estimated: bool,
}

impl Activity {
    /// In how many seconds the volume is full if it goes on like this; nothing if it does not rise.
    pub fn full_in(&self) -> Option<f64> {
        let rate = self.volume_rate.filter(|rate| *rate > 0.0)?;
        let seconds = self.free?.get() as f64 / rate;
        (self.seconds >= 1.5).then_some(seconds)
    }
}

/// See the [module](self).
#[derive(Debug)]
pub struct Watch {
    place: PathBuf,
    /// All of its volume is watched, by whatever path a process knows it.
    whole: bool,
    device: u64,
    state: State,
    /// Ticks that are told of; all since the beginning if nothing is said.
    kept: Option<usize>,
    ticks: VecDeque<Tick>,
    files: KnownFiles,
    events: Result<FileEvents, NoEvents>,
    processes: HashMap<u32, Process>,
    written: HashMap<u32, u64>,
    used: Option<Bytes>,
    free: Option<Bytes>,
    hidden: usize,
    last: Instant,
}

impl Watch {
    /// Begins to watch what lies below a directory; tells of the last `kept` ticks, or of all if nothing is said.
    ///
    /// # Errors
    ///
    /// As `statx(2)` of the directory, and [`CallError`] if the processes cannot be listed.
    pub fn begin(place: &Path, state: &State, kept: Option<usize>) -> Result<Self, CallError> {
        let stat = stat_path(place).map_err(CallError::on(crate::kernel::Op::Examine, place))?;
        let events = FileEvents::begin(place).map_err(NoEvents);
        let volume = volume_of(place, state);
        let is_whole =
            |volume: &Volume| volume.class != Class::Simulated && volume.mount_point == place;
        let mut watch = Self {
            place: place.to_owned(),
            whole: volume.as_ref().is_some_and(is_whole),
            device: stat.dev,
            state: state.clone(),
            kept,
            ticks: VecDeque::new(),
            files: KnownFiles::default(),
            events,
            processes: HashMap::new(),
            written: HashMap::new(),
            used: None,
            free: None,
            hidden: 0,
            last: Instant::now(),
        };
        // what is known now is what growth is counted from
        watch.tick()?;
        watch.ticks.clear();
        Ok(watch)
    }

    /// Looks at what has happened since the last time.
    ///
    /// # Errors
    ///
    /// [`CallError`] if the processes cannot be listed.
    pub fn tick(&mut self) -> Result<(), CallError> {
        let seconds = self.last.elapsed().as_secs_f64();
        self.last = Instant::now();
        let mut tick = Tick { seconds, ..Tick::default() };
        self.files.begin_tick();
        let (open, hidden) = written_files(|device| device == self.device)?;
        self.hidden = hidden;
        let mut holders = Holders::new();
        for held in open {
            if !self.whole && !held.path.starts_with(&self.place) {
                continue;
            }
            let key = (held.file.dev, held.file.ino);
            self.files.note(held.file);
            let holder = holders.entry(key).or_insert_with(|| Holder {
                pids: Vec::new(),
                path: held.path,
                stands_for: 1.0,
            });
            holder.add(held.pid);
        }
        self.take_events(&mut tick, &mut holders);
        self.attribute(&mut tick, &holders);
        self.look_at_volume(&mut tick);
        self.files.end_tick();
        tick.forget_smallest();
        self.ticks.push_back(tick);
        let most = self.kept.unwrap_or(TOGETHER);
        while self.ticks.len() > most.max(1) {
            let oldest = self.ticks.pop_front();
            if let (None, Some(oldest), Some(next)) = (self.kept, oldest, self.ticks.front_mut()) {
                next.take_in(oldest);
            }
        }
        let (written, ticks) = (&self.written, &self.ticks);
        let is_told = |pid: &u32| ticks.iter().any(|tick| tick.processes.contains_key(pid));
        self.processes.retain(|pid, _| written.contains_key(pid) || is_told(pid));
        Ok(())
    }

    /// What the kernel tells of entries that were made, written or moved.
    fn take_events(&mut self, tick: &mut Tick, holders: &mut Holders) {
        let Ok(events) = &mut self.events else { return };
        let (written, lost) = Written::take(events);
        (tick.events, tick.lost) = (written.events, lost);
        // each directory gets its share of what can be looked at
        let share = (LOOKED_AT / written.directories.len().max(1)).max(1);
        for (handle, seen) in written.directories {
            // a directory that is gone has nothing that grows
            let Ok((directory, path)) = events.open_directory(&handle) else { continue };
            if !self.whole && !path.starts_with(&self.place) {
                continue;
            }
            if seen.made + seen.moved_here > 0 {
                let (made, moved_here) = (seen.made, seen.moved_here);
                let growth = tick.directories.entry(path.clone()).or_default();
                growth.add(&Growth { made, moved_here, ..Growth::default() });
            }
            let stands_for = seen.stands_for(share);
            tick.estimated |= stands_for > 1.0;
            for (name, pids) in seen.names.into_iter().take(share) {
                let name = Path::new(OsStr::from_bytes(&name));
                let Ok(Some(file)) = growing_file_in(&directory, name) else { continue };
                self.files.note(file);
                let holder = holders.entry((file.dev, file.ino)).or_insert_with(|| Holder {
                    pids: Vec::new(),
                    path: path.join(name),
                    stands_for,
                });
                pids.into_iter().for_each(|pid| holder.add(pid));
            }
        }
    }

    /// Gives the growth of every file to its directory and to those who write to it, by how much each of them wrote.
    fn attribute(&mut self, tick: &mut Tick, holders: &Holders) {
        let mut wrote: HashMap<u32, f64> = HashMap::new();
        for pid in holders.values().flat_map(|holder| &holder.pids) {
            if wrote.contains_key(pid) {
                continue;
            }
            let now = written_by(*pid);
            let before = now.and_then(|now| self.written.insert(*pid, now));
            let bytes = now.zip(before).map_or(0, |(now, before)| now.saturating_sub(before));
            wrote.insert(*pid, bytes as f64);
            // one that has ended meanwhile may have been known while it lived
            if let Some(process) = Process::look(*pid) {
                self.processes.insert(*pid, process);
            }
        }
        for (key, Holder { pids, path, stands_for }) in holders {
            let grown = self.files.grown(*key) as f64 * stands_for;
            if grown <= 0.0 {
                continue;
            }
            let directory = path.parent().unwrap_or(path).to_owned();
            let growth = tick.directories.entry(directory).or_default();
            growth.add(&Growth { bytes: grown, files: 1, ..Growth::default() });
            // what has ended may have been a child of one that still holds the file
            let mut living: Vec<u32> =
                pids.iter().copied().filter(|pid| self.processes.contains_key(pid)).collect();
            if living.is_empty() {
                living.push(ENDED);
            }
            let wrote = |pid: &u32| wrote.get(pid).copied().unwrap_or(0.0);
            let all: f64 = living.iter().map(wrote).sum();
            for pid in &living {
                let share = if all > 0.0 { wrote(pid) / all } else { 1.0 / living.len() as f64 };
                let bytes = grown * share;
                if bytes <= 0.0 {
                    continue;
                }
                let growth = tick.processes.entry(*pid).or_default();
                growth.bytes += bytes;
                growth.files += 1;
                growth.made += u64::from(self.files.is_new(*key));
                let largest = tick.largest.entry(*pid).or_default();
                if bytes > largest.0 {
                    *largest = (bytes, path.clone());
                }
            }
        }
        self.written.retain(|pid, _| wrote.contains_key(pid));
    }

    fn look_at_volume(&mut self, tick: &mut Tick) {
        let volume = volume_of(&self.place, &self.state);
        let capacity = volume.and_then(|volume| {
            let capacity = volume.capacity.ok()?;
            Some((capacity.used, capacity.free_for(volume.level_for)))
        });
        let used = capacity.map(|(used, _)| used);
        tick.used = used.zip(self.used).map(|(now, before)| now.get() as i64 - before.get() as i64);
        (self.used, self.free) = (used, capacity.map(|(_, free)| free));
    }

    /// What is known over the last ticks.
    pub fn activity(&self) -> Activity {
        let seconds: f64 = self.ticks.iter().map(|tick| tick.seconds).sum();
        let a_second = |bytes: f64| if seconds > 0.0 { bytes / seconds } else { 0.0 };
        let mut processes: HashMap<u32, Growth> = HashMap::new();
        let mut directories: HashMap<&Path, Growth> = HashMap::new();
        let mut largest: HashMap<u32, (f64, &PathBuf)> = HashMap::new();
        for tick in &self.ticks {
            for (pid, growth) in &tick.processes {
                processes.entry(*pid).or_default().add(growth);
            }
            for (path, growth) in &tick.directories {
                directories.entry(path).or_default().add(growth);
            }
            for (pid, (bytes, path)) in &tick.largest {
                let known = largest.entry(*pid).or_insert((0.0, path));
                if *bytes > known.0 {
                    *known = (*bytes, path);
                }
            }
        }
        let whole: f64 = directories.values().map(|growth| growth.bytes).sum();
        let writer = |(pid, growth): (u32, Growth)| Writer {
            pid,
            process: self.processes.get(&pid).cloned(),
            rate: a_second(growth.bytes),
            grown: Bytes::new(growth.bytes as u64),
            files: growth.files,
            made: growth.made,
            largest: largest.get(&pid).map(|(_, path)| (*path).clone()),
        };
        let mut writers: Vec<Writer> = processes.into_iter().map(writer).collect();
        writers.sort_by(|a, b| b.rate.total_cmp(&a.rate).then(a.pid.cmp(&b.pid)));
        let directory = |(path, growth): (&Path, Growth)| GrowingDirectory {
            path: path.to_owned(),
            rate: a_second(growth.bytes),
            grown: Bytes::new(growth.bytes as u64),
            made: growth.made,
            moved_here: growth.moved_here,
        };
        let mut directories: Vec<GrowingDirectory> =
            directories.into_iter().map(directory).collect();
        directories.sort_by(|a, b| b.rate.total_cmp(&a.rate).then_with(|| a.path.cmp(&b.path)));
        let used: Option<i64> = self.ticks.iter().map(|tick| tick.used).sum();
        Activity {
            seconds,
            writers,
            directories,
            rate: a_second(whole),
            volume_rate: used.filter(|_| seconds > 0.0).map(|used| a_second(used as f64)),
            free: self.free,
            hidden: self.hidden,
            no_events: self.events.as_ref().err().map(NoEvents::to_string),
            events: self.ticks.iter().map(|tick| tick.events).sum(),
            lost: self.ticks.iter().any(|tick| tick.lost),
            estimated: self.ticks.iter().any(|tick| tick.estimated),
        }
    }
}

impl Tick {
    /// Takes in what happened before.
    fn take_in(&mut self, earlier: Self) {
        self.seconds += earlier.seconds;
        self.events += earlier.events;
        self.lost |= earlier.lost;
        self.estimated |= earlier.estimated;
        self.used = self.used.zip(earlier.used).map(|(a, b)| a + b);
        for (pid, growth) in earlier.processes {
            self.processes.entry(pid).or_default().add(&growth);
        }
        for (path, growth) in earlier.directories {
            self.directories.entry(path).or_default().add(&growth);
        }
        for (pid, largest) in earlier.largest {
            let known = self.largest.entry(pid).or_default();
            if largest.0 > known.0 {
                *known = largest;
            }
        }
        self.forget_smallest();
    }

    /// Keeps what grew most, so that a storm does not take all memory.
    fn forget_smallest(&mut self) {
        let forgotten = [keep_largest(&mut self.directories), keep_largest(&mut self.processes)];
        self.largest.retain(|pid, _| self.processes.contains_key(pid));
        self.estimated |= forgotten.contains(&true);
    }
}

/// Forgets what grew least where there is too much of it. Says whether something was forgotten.
fn keep_largest<K: Eq + Hash>(grown: &mut HashMap<K, Growth>) -> bool {
    if grown.len() <= LARGEST {
        return false;
    }
    let mut all: Vec<(K, Growth)> = grown.drain().collect();
    all.sort_by(|a, b| b.1.bytes.total_cmp(&a.1.bytes));
    all.truncate(LARGEST);
    grown.extend(all);
    true
}

/// Why the kernel does not tell what is written on a file system.
#[derive(Debug, thiserror::Error)]
#[error("{}", why(.0))]
struct NoEvents(#[source] io::Error);

fn why(error: &io::Error) -> String {
    match error.raw_os_error() {
        Some(libc::EPERM) => "only root may listen to a whole file system".to_owned(),
        Some(libc::EXDEV | libc::EOPNOTSUPP | libc::ENODEV) => {
            "this file system cannot be listened to".to_owned()
        }
        Some(libc::ENOSYS | libc::EINVAL) => {
            "this kernel cannot tell what is written on a file system".to_owned()
        }
        _ => format!("the kernel does not tell what is written: {error}"),
    }
}
