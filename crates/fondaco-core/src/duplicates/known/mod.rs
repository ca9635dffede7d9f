//! What has been read of files before, so that a second search reads almost nothing.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use rusqlite::Connection;
use rusqlite::config::DbConfig;
use rustc_hash::FxHashMap;

use self::by_row::{ByRow, KeptRows};
use self::row::{Row, reach_of};
use self::writer::{Failed, Writer};
use super::candidates::Candidate;
use super::earlier::GroupFound;
use crate::kernel::Stat;
use crate::shown::Shown;
use crate::units::Time;

mod by_row;
mod groups;
mod row;
mod writer;

/// Why what is known of files cannot be used. A search goes on without it.
#[derive(Debug, thiserror::Error)]
#[error("what is known of contents, in {}, cannot be used: {source}", Shown(path))]
pub struct KnownError {
    path: PathBuf,
    source: Cause,
}

#[derive(Debug, thiserror::Error)]
#[error(transparent)]
enum Cause {
    Database(#[from] rusqlite::Error),
    Thread(#[from] std::io::Error),
}

impl KnownError {
    fn new(path: &Path, source: Cause) -> Self {
        Self { path: path.to_owned(), source }
    }
}

/// What has been read of one file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Read {
    /// The beginnings of the digests at the end of each step that it came to.
    pub(super) steps: Vec<u64>,
    /// The digest of all of it.
    pub(super) whole: Option<[u8; 32]>,
}

/// An inode as it was when it was read; if anything of this is different now, nothing is known of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct AsRead {
    size: u64,
    mtime: Time,
    ctime: Time,
    /// Stands for the generation of the inode, since an inode that is used again is born again.
    born: Option<Time>,
}

impl AsRead {
    pub(super) fn of(stat: &Stat) -> Self {
        Self { size: stat.size, mtime: stat.mtime, ctime: stat.ctime, born: stat.btime }
    }

    /// Whether what is read now can be believed later: a change within the same tick of the clock would not show.
    pub(super) fn is_at_rest(&self, now: Time) -> bool {
        now.sec - self.mtime.max(self.ctime).sec >= AT_REST
    }
}

/// An inode by device and number, as it was, and what was read of it.
pub(super) type ReadNow = ((u64, u64), AsRead, Read);

/// Seconds that must have passed since a file was changed.
const AT_REST: i64 = 4;

/// See the [module](self).
#[derive(Debug, Default)]
pub struct Known {
    /// Where it is kept.
    store: Option<Store>,
    /// So many bytes are read at once, if no more are known.
    most_in_memory: u64,
    /// Once it has been asked for.
    is_much: OnceLock<bool>,
    /// All that is known if it is little; otherwise only of files that are not as they were scanned, once a search has asked.
    rows: OnceLock<Rows>,
    /// If much is known: of files whose first bytes are the same, once a search has come so far.
    alike: OnceLock<Rows>,
    /// Nothing more is read, since the search was stopped.
    is_stopped: AtomicBool,
    now: Time,
}

/// The database, with a connection that is read from. What is written is not waited for.
#[derive(Debug)]
struct Store {
    path: PathBuf,
    reading: Mutex<Connection>,
    writer: Writer,
    failed: Arc<Failed>,
}

impl Store {
    /// What the database answers. Why it does not is kept, to be told at the end.
    fn ask<T>(&self, ask: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Option<T> {
        let failed = |source: rusqlite::Error| {
            let failed = || KnownError::new(&self.path, source.into());
            locked(&self.failed).get_or_insert_with(failed);
        };
        ask(&locked(&self.reading)).map_err(failed).ok()
    }
}

/// Files of neighbouring inodes, as a row of the database has them, by device and [number](row_of_inode).
type Rows = FxHashMap<(u64, u64), Row>;

/// How far the files of a row were read. Those that a search reads on are written last, and the rows of all others, by far
/// the most, stay as they are then. A file that was in both may still be; what fits the file as it is counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Reach {
    /// No further than the first step.
    Beginning,
    Further,
}

/// What is known of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct KnownFile<'a> {
    as_read: AsRead,
    /// See [`Read::steps`], in eight bytes each.
    steps: &'a [u8],
    whole: Option<&'a [u8; 32]>,
}

impl KnownFile<'_> {
    /// The digest of its first step, or the beginning of that of all of it.
    pub(super) fn first(&self) -> Option<u64> {
        let first = self.steps.first_chunk().or_else(|| self.whole?.first_chunk());
        first.map(|first| u64::from_le_bytes(*first))
    }

    /// The beginning of the digest at the end of a step that it came to.
    pub(super) fn step(&self, step: usize) -> Option<[u8; 8]> {
        self.steps.get(step * 8..).and_then(|steps| steps.first_chunk().copied())
    }

    /// Whether a file is as it was when it was read.
    pub(super) fn is_of(&self, stat: &Stat) -> bool {
        self.as_read == AsRead::of(stat)
    }

    /// Whether a file was scanned as it was when it was read. A change between would show in the seconds of its change time:
    /// what was read had been at rest for longer than that.
    fn is_as_scanned(&self, file: &Candidate) -> bool {
        let seconds = |time: Time| time.sec.clamp(0, i64::from(u32::MAX)) as u32;
        let was = &self.as_read;
        file.changed.is_some_and(|changed| {
            (was.size, seconds(was.mtime), seconds(was.ctime))
                == (file.length, file.written, changed.get())
        })
    }

    /// The digest of all of it, if it was read to its end.
    pub(super) fn whole(&self) -> Option<[u8; 32]> {
        self.whole.copied()
    }

    /// All that was read of it.
    pub(super) fn read(&self) -> Read {
        let steps = self.steps.chunks_exact(8).filter_map(|step| step.first_chunk());
        Read {
            steps: steps.map(|step| u64::from_le_bytes(*step)).collect(),
            whole: self.whole.copied(),
        }
    }
}

impl Known {
    /// Nothing is known, and nothing will be remembered.
    pub fn nothing() -> Self {
        Self::default()
    }

    /// Opens what is known at some moment, making the file if there is none. `fresh`: what it holds is not believed, and
    /// forgotten.
    ///
    /// # Errors
    ///
    /// [`KnownError`].
    pub fn open(path: &Path, fresh: bool, now: Time) -> Result<Self, KnownError> {
        Self::open_within(path, fresh, now, MOST_IN_MEMORY)
    }

    /// As [`Known::open`]. If more bytes are known than are to be in memory, a search goes through them in the order of
    /// inodes, and keeps what is known of those files only that have something in common with others.
    ///
    /// # Errors
    ///
    /// [`KnownError`].
    pub fn open_within(
        path: &Path,
        fresh: bool,
        now: Time,
        most_in_memory: u64,
    ) -> Result<Self, KnownError> {
        let wrap = |cause| KnownError::new(path, cause);
        let reading = connect(path).map_err(|error| wrap(error.into()))?;
        prepare(&reading, fresh).map_err(|error| wrap(error.into()))?;
        let failed = Arc::<Failed>::default();
        let writer = Writer::begin(path.to_owned(), now, Arc::clone(&failed));
        let writer = writer.map_err(|error| wrap(error.into()))?;
        let reading = Mutex::new(reading);
        let store = Store { path: path.to_owned(), reading, writer, failed };
        Ok(Self { store: Some(store), most_in_memory, now, ..Self::default() })
    }

    /// Whether more is known than is to be in memory: it has to be [asked for](Known::firsts).
    fn is_much(&self) -> bool {
        *self.is_much.get_or_init(|| {
            let Some(store) = &self.store else { return false };
            let bytes = "SELECT coalesce(sum(length(list)), 0) FROM read_files";
            let bytes =
                store.ask(|database| database.query_row(bytes, [], |row| row.get::<_, i64>(0)));
            bytes.unwrap_or(0) as u64 > self.most_in_memory
        })
    }

    /// What is known and in memory. If it is little, it is read as soon as something is asked for: often no file has changed
    /// since an earlier search, and [what was found then](super::earlier) is enough.
    fn rows(&self) -> Option<&Rows> {
        match self.is_much() {
            true => self.rows.get(),
            false => Some(self.rows.get_or_init(|| self.all_rows())),
        }
    }

    /// All that is known. What cannot be read is not known, and told at the end.
    fn all_rows(&self) -> Rows {
        let mut rows = Rows::default();
        let Some(store) = &self.store else { return rows };
        store.ask(|database| {
            each_row(database, |key, list| {
                rows.insert(key, Row::new(list));
                self.goes_on()
            })
        });
        rows
    }

    /// Whether nothing is known of any file.
    pub(super) fn is_nothing(&self) -> bool {
        !self.is_much() && self.rows().is_none_or(Rows::is_empty)
    }

    /// If much is known, tells the beginnings of files that are as they were scanned, by their places in the list. What is
    /// known of files that are not stays in memory.
    pub(super) fn firsts(&self, files: &[Candidate], mut told: impl FnMut(usize, u64)) {
        if !self.is_much() {
            return;
        }
        let mut others = KeptRows::default();
        self.ask(files, &mut |at, known| {
            let file = &files[at];
            if known.is_as_scanned(file)
                && let Some(first) = known.first()
            {
                return told(at, first);
            }
            others.push(file, &known);
        });
        drop(self.rows.set(others.into_rows()));
    }

    /// If much is known, keeps in memory what is known of some files.
    pub(super) fn keep_of(&self, files: &[Candidate]) {
        if !self.is_much() {
            return;
        }
        let mut kept = KeptRows::default();
        self.ask(files, &mut |at, known| kept.push(&files[at], &known));
        drop(self.alike.set(kept.into_rows()));
    }

    /// Tells what is known of files, row by row, until the search is stopped. What cannot be read is not known, and told at
    /// the end.
    fn ask(&self, files: &[Candidate], told: &mut dyn FnMut(usize, KnownFile<'_>)) {
        let Some(store) = self.store.as_ref().filter(|_| !files.is_empty()) else { return };
        let Some(by_row) = ByRow::of(files, || self.goes_on()) else { return };
        store.ask(|database| {
            each_row(database, |key, list| {
                let here = by_row.files((key.0, key.1 & !FURTHER));
                if !here.is_empty() {
                    let known = Row::new(list);
                    for at in here.iter().map(|at| *at as usize) {
                        let known = known.find(low_of(files[at].inode));
                        known.into_iter().for_each(|known| told(at, known));
                    }
                }
                self.goes_on()
            })
        });
    }

    /// What may be known of an inode, if it is still as it was.
    fn find(
        &self,
        device: u64,
        inode: u64,
        order: [Reach; 2],
    ) -> impl Iterator<Item = KnownFile<'_>> {
        let rows = move |key| {
            let both = [self.alike.get(), self.rows()];
            both.into_iter().filter_map(move |rows| rows?.get(&key))
        };
        let rows =
            order.into_iter().flat_map(move |reach| rows((device, row_of_inode(inode, reach))));
        rows.filter_map(move |row| row.find(low_of(inode)))
    }

    /// Whether something is known of an inode that may still be so.
    pub(super) fn has(&self, device: u64, inode: u64) -> bool {
        self.find(device, inode, BEGINNING_FIRST).next().is_some()
    }

    /// What is known of a file as it stands.
    pub(super) fn of(&self, stat: &Stat) -> Option<KnownFile<'_>> {
        self.find(stat.dev, stat.ino, FURTHER_FIRST).find(|known| known.is_of(stat))
    }

    /// What is known of a file as it was scanned.
    pub(super) fn of_scanned(&self, file: &Candidate) -> Option<KnownFile<'_>> {
        let mut known = self.find(file.device(), file.inode, FURTHER_FIRST);
        known.find(|known| known.is_as_scanned(file))
    }

    /// What its first bytes are known to have been, of a file as it was scanned.
    pub(super) fn first_of_scanned(&self, file: &Candidate) -> Option<u64> {
        let mut known = self.find(file.device(), file.inode, BEGINNING_FIRST);
        known.find(|known| known.is_as_scanned(file))?.first()
    }

    /// Whether anything can be remembered.
    pub(super) fn remembers(&self) -> bool {
        self.store.is_some()
    }

    /// Remembers what was read, for a later search, if it was at rest.
    pub(super) fn remember(&self, read: &[ReadNow]) {
        self.store.iter().for_each(|store| store.writer.remember(read));
    }

    /// Whether more can be remembered at once, or less is to be read until what waits is written down.
    pub(super) fn has_room(&self) -> bool {
        self.store.as_ref().is_none_or(|store| store.writer.has_room())
    }

    /// Remembers what was found of groups.
    pub(super) fn remember_groups(&self, found: Vec<GroupFound>) {
        if let Some(store) = &self.store {
            store.writer.remember_groups(found);
        }
    }

    /// Has what has been read until now written down, and kept by the device, beside the search. What is left to its end then
    /// takes little.
    pub(super) fn write_down_meanwhile(&self) {
        self.store.iter().for_each(|store| store.writer.write_meanwhile());
    }

    /// Reads nothing more, since the search is stopped. Less is known then.
    pub(super) fn stop(&self) {
        self.is_stopped.store(true, Relaxed);
    }

    fn goes_on(&self) -> bool {
        !self.is_stopped.load(Relaxed)
    }

    /// Waits until all is written down. What a search that was stopped has read is written down when this is let go of.
    ///
    /// # Errors
    ///
    /// [`KnownError`], of the first that failed.
    pub(super) fn finish(&self) -> Result<(), KnownError> {
        let Some(store) = &self.store else { return Ok(()) };
        store.writer.finish();
        locked(&store.failed).take().map_or(Ok(()), Err)
    }
}

/// A connection to the database, with its settings.
fn connect(path: &Path) -> rusqlite::Result<Connection> {
    let database = Connection::open(path)?;
    database.busy_timeout(Duration::from_secs(5))?;
    // whoever closes it does not wait for the device
    database.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
    database.execute_batch(SETTINGS)?;
    Ok(database)
}

/// Makes what the database has not. `fresh`: what it holds is forgotten.
fn prepare(database: &Connection, fresh: bool) -> rusqlite::Result<()> {
    let layout = database.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0))?;
    if layout != LAYOUT {
        database.execute_batch(TABLES)?;
        database.pragma_update(None, "user_version", LAYOUT)?;
    }
    if fresh {
        database.execute_batch("DELETE FROM read_files; DELETE FROM found_groups;")?;
    }
    Ok(())
}

/// The row that a record of an inode belongs to.
fn key_of((device, inode, record): &(u64, u64, &[u8])) -> (u64, u64) {
    (*device, row_of_inode(*inode, reach_of(record)))
}

/// Whether two records lie in one row.
fn is_of_row(one: &(u64, u64, &[u8]), other: &(u64, u64, &[u8])) -> bool {
    key_of(one) == key_of(other)
}

/// Tells every row of the database, in order, as long as it is wanted.
fn each_row(
    database: &Connection,
    mut told: impl FnMut((u64, u64), &[u8]) -> bool,
) -> rusqlite::Result<()> {
    let mut select =
        database.prepare("SELECT device, number, list FROM read_files ORDER BY device, number")?;
    let mut rows = select.query([])?;
    while let Some(row) = rows.next()? {
        let (device, number): (i64, i64) = (row.get(0)?, row.get(1)?);
        if !told((device as u64, number as u64), row.get_ref(2)?.as_blob()?) {
            break;
        }
    }
    Ok(())
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Files of so many inode numbers in order are kept in one row.
const TOGETHER: u64 = 4096;

fn place_of(inode: u64) -> u64 {
    inode / TOGETHER
}

/// A bit that no place has: rows of files that were read further stand behind all others, so that writing them leaves the
/// pages of those alone.
const FURTHER: u64 = 1 << 54;

/// The number of the row that an inode belongs to.
fn row_of_inode(inode: u64, reach: Reach) -> u64 {
    match reach {
        Reach::Beginning => place_of(inode),
        Reach::Further => place_of(inode) | FURTHER,
    }
}

const FURTHER_FIRST: [Reach; 2] = [Reach::Further, Reach::Beginning];
const BEGINNING_FIRST: [Reach; 2] = [Reach::Beginning, Reach::Further];

fn low_of(inode: u64) -> u16 {
    (inode % TOGETHER) as u16
}

/// If more bytes are known, they are not all held in memory: those of about a million files.
const MOST_IN_MEMORY: u64 = 64 << 20;

/// What [`TABLES`] makes; a file that says another number gets what it has not. One more whenever they are changed.
const LAYOUT: i64 = 1;

/// For each connection.
const SETTINGS: &str = "
PRAGMA wal_autocheckpoint = 256;
PRAGMA synchronous = NORMAL;
";

/// Rows are long: large pages hold them in few pieces. Groups are kept in so many parts, each in a row, of which a search
/// writes those that it has something for.
const TABLES: &str = "
PRAGMA page_size = 65536;
PRAGMA journal_mode = WAL;
DROP TABLE IF EXISTS files;
DROP TABLE IF EXISTS contents;
DROP TABLE IF EXISTS digests;
CREATE TABLE IF NOT EXISTS read_files (
    device INTEGER NOT NULL,
    number INTEGER NOT NULL,
    day INTEGER NOT NULL,
    list BLOB NOT NULL,
    PRIMARY KEY (device, number)
) STRICT;
CREATE TABLE IF NOT EXISTS found_groups (
    part INTEGER PRIMARY KEY,
    list BLOB NOT NULL
) STRICT;
";

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::row::{records_of, row_of, write_one};
    use super::*;

    #[test]
    fn what_is_written_is_found_and_a_damaged_row_knows_less_and_nothing_else() {
        let at = |sec| Time { sec, nsec: 7 };
        let as_read = |sec| AsRead {
            size: 9,
            mtime: at(sec),
            ctime: at(-3),
            born: (sec > 5).then(|| at(sec)),
        };
        // few files and many
        for (count, apart) in [(8, 500), (600, 6)] {
            damaged_rows(count, apart, &as_read);
        }
    }

    fn damaged_rows(count: u16, apart: u16, as_read: &dyn Fn(i64) -> AsRead) {
        let files: Vec<(u16, AsRead, Read)> = (1..=count)
            .map(|n| {
                let whole = (n % 2 == 0).then_some([n as u8; 32]);
                let steps = (0..u64::from(n % 9)).collect();
                (n * apart, as_read(i64::from(n)), Read { steps, whole })
            })
            .collect();
        let packed: Vec<(u16, Vec<u8>)> = files
            .iter()
            .map(|(low, as_read, read)| {
                let mut record = Vec::new();
                write_one(&mut record, as_read, read);
                (*low, record)
            })
            .collect();
        let records: Vec<(u16, &[u8])> =
            packed.iter().map(|(low, record)| (*low, record.as_slice())).collect();
        let row = row_of(&records);
        let by_low: BTreeMap<u16, (&AsRead, &Read)> =
            files.iter().map(|(low, as_read, read)| (*low, (as_read, read))).collect();
        for length in (0..=row.len()).step_by(1 + row.len() / 2000).chain([row.len()]) {
            let mut found = 0;
            let known = Row::new(&row[..length]);
            for low in 0..4096 {
                let known = known.find(low);
                let expected = by_low.get(&low);
                assert!(known.is_none() || expected.is_some());
                if let (Some(known), Some((as_read, read))) = (known, expected) {
                    assert_eq!((known.as_read, known.read()), (**as_read, Read::clone(read)));
                    found += 1;
                }
            }
            assert_eq!(records_of(&row[..length]).len(), found);
            assert!(length < row.len() || found == files.len());
        }
    }
}
