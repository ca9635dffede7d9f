//! The thread that writes down what searches have read and found: neither a search nor whoever stops it waits for the device.

use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Mutex};
use std::thread::{Builder, JoinHandle};

use rusqlite::{Connection, OptionalExtension, params};

use super::groups::write_groups;
use super::row::{number, records_of, row_of, take_one, write_one};
use super::{KnownError, ReadNow, connect, is_of_row, key_of, locked, low_of};
use crate::duplicates::earlier::GroupFound;
use crate::units::Time;

/// So many bytes are gathered before they are given to the thread.
const BATCH: usize = 16 << 20;

/// If more bytes than this are still to be written, a search waits before it reads on.
const MOST_WAITING: usize = 48 << 20;

/// Holds what is written at a time.
const CACHE: &str = "PRAGMA cache_size = -32768;";

/// So many bytes are remembered at most: some ten millions of files.
const MOST_BYTES: i64 = 512 << 20;

/// The first that failed, told at the end of a search.
pub(super) type Failed = Mutex<Option<KnownError>>;

/// See the [module](self). Once it is let go of, all that was given to it is written.
#[derive(Debug)]
pub(super) struct Writer {
    now: Time,
    /// What was read and is not yet given to the thread, one record behind the other, each behind its device and inode.
    pending: Mutex<Vec<u8>>,
    /// Bytes that the thread has not written yet.
    waiting: Arc<AtomicUsize>,
    /// There until it is let go of.
    thread: Option<(Sender<Work>, JoinHandle<()>)>,
}

/// What the thread does, one after the other.
enum Work {
    /// Writes down what was read of files, as it stands in [`Writer::pending`].
    Files(Vec<u8>),
    /// Writes down what was found of groups.
    Groups(Vec<GroupFound>),
    /// Has the device keep what has been written, so that less is left to the next search.
    Checkpoint,
    /// Says that all before this is done.
    Tell(Sender<()>),
}

impl Writer {
    /// Begins the thread, which writes into the database at `path`.
    ///
    /// # Errors
    ///
    /// If no thread can be begun.
    pub(super) fn begin(path: PathBuf, now: Time, failed: Arc<Failed>) -> std::io::Result<Self> {
        let (give, work) = channel::<Work>();
        let waiting = Arc::new(AtomicUsize::new(0));
        let left = Arc::clone(&waiting);
        let mut database = Database { path, now, connection: None };
        let write = move || {
            for work in work {
                let bytes = work.bytes();
                if let Err(source) = database.act(work) {
                    // what comes after it is written all the same
                    locked(&failed)
                        .get_or_insert_with(|| KnownError::new(&database.path, source.into()));
                }
                left.fetch_sub(bytes, Relaxed);
            }
        };
        let thread = Some((give, Builder::new().spawn(write)?));
        Ok(Self { now, pending: Mutex::default(), waiting, thread })
    }

    /// Takes what was read of files that were at rest.
    pub(super) fn remember(&self, read: &[ReadNow]) {
        let mut pending = locked(&self.pending);
        for ((device, inode), as_read, read) in read {
            if as_read.is_at_rest(self.now) {
                pending.extend_from_slice(&device.to_le_bytes());
                pending.extend_from_slice(&inode.to_le_bytes());
                write_one(&mut pending, as_read, read);
            }
        }
        if pending.len() >= BATCH {
            self.give(Work::Files(std::mem::take(&mut *pending)));
        }
    }

    /// Takes what was found of groups.
    pub(super) fn remember_groups(&self, found: Vec<GroupFound>) {
        if !found.is_empty() {
            self.give(Work::Groups(found));
        }
    }

    /// Has what was read until now written down and kept by the device, if anything was.
    pub(super) fn write_meanwhile(&self) {
        if self.give_pending() {
            self.give(Work::Checkpoint);
        }
    }

    /// Waits until all is written. The device keeps it later.
    pub(super) fn finish(&self) {
        self.give_pending();
        let (tell, told) = channel();
        self.give(Work::Tell(tell));
        // nobody tells anything if the thread has panicked, and there is nothing to wait for
        let _ = told.recv();
        self.give(Work::Checkpoint);
    }

    /// Whether a search may read on: little waits, or nothing will ever be written since the thread has panicked.
    pub(super) fn has_room(&self) -> bool {
        let has_ended = || self.thread.as_ref().is_none_or(|(_, thread)| thread.is_finished());
        self.waiting.load(Relaxed) < MOST_WAITING || has_ended()
    }

    fn give_pending(&self) -> bool {
        let pending = std::mem::take(&mut *locked(&self.pending));
        let is_any = !pending.is_empty();
        if is_any {
            self.give(Work::Files(pending));
        }
        is_any
    }

    fn give(&self, work: Work) {
        self.waiting.fetch_add(work.bytes(), Relaxed);
        if let Some((give, _)) = &self.thread {
            // a thread that has panicked takes nothing more
            let _ = give.send(work);
        }
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.give_pending();
        if let Some((give, thread)) = self.thread.take() {
            drop(give);
            let _ = thread.join();
        }
    }
}

impl Work {
    fn bytes(&self) -> usize {
        match self {
            Self::Files(records) => records.len(),
            _ => 0,
        }
    }
}

/// The database as the thread has it.
struct Database {
    path: PathBuf,
    now: Time,
    /// Once there is something to be written.
    connection: Option<Connection>,
}

impl Database {
    fn act(&mut self, work: Work) -> rusqlite::Result<()> {
        match work {
            Work::Files(records) => {
                let now = self.now;
                write_rows(self.open()?, &records, now, MOST_BYTES)
            }
            Work::Groups(found) => write_groups(self.open()?, &found),
            Work::Checkpoint => {
                // where nothing was written there is none, and where this fails, it is done in a later search
                let checkpoint = "PRAGMA wal_checkpoint(TRUNCATE)";
                let connection = self.connection.iter();
                connection.for_each(|open| drop(open.query_row(checkpoint, [], |_| Ok(()))));
                Ok(())
            }
            Work::Tell(tell) => {
                // whoever asked may not wait any more
                let _ = tell.send(());
                Ok(())
            }
        }
    }

    fn open(&mut self) -> rusqlite::Result<&mut Connection> {
        match &mut self.connection {
            Some(connection) => Ok(connection),
            none => {
                let connection = none.insert(connect(&self.path)?);
                connection.execute_batch(CACHE)?;
                Ok(connection)
            }
        }
    }
}

/// Writes records into the rows that they belong to, beside what is in those already.
fn write_rows(
    database: &mut Connection,
    pending: &[u8],
    now: Time,
    most: i64,
) -> rusqlite::Result<()> {
    let mut records: Vec<(u64, u64, &[u8])> = Vec::new();
    let mut rest = pending;
    while let Some((device, inode)) = number(&mut rest).zip(number(&mut rest)) {
        let from = rest;
        if take_one(&mut rest).is_none() {
            break;
        }
        records.push((device, inode, &from[..from.len() - rest.len()]));
    }
    // what was read later of an inode comes behind what was read before
    records.sort_by_key(|record| (key_of(record), record.1));
    let transaction = database.transaction()?;
    {
        let mut select =
            transaction.prepare("SELECT list FROM read_files WHERE device = ?1 AND number = ?2")?;
        let mut insert =
            transaction.prepare("INSERT OR REPLACE INTO read_files VALUES (?1, ?2, ?3, ?4)")?;
        for row in records.chunk_by(is_of_row) {
            let (device, number) = key_of(&row[0]);
            let key = [device as i64, number as i64];
            let before: Option<Vec<u8>> = select.query_row(key, |row| row.get(0)).optional()?;
            let before = before.unwrap_or_default();
            let mut all = records_of(&before);
            all.extend(row.iter().map(|(_, inode, record)| (low_of(*inode), *record)));
            all.sort_by_key(|(low, _)| *low);
            // of one inode the last counts
            all.reverse();
            all.dedup_by_key(|(low, _)| *low);
            all.reverse();
            insert.execute(params![key[0], key[1], now.sec / 86_400, row_of(&all)])?;
        }
    }
    transaction.execute(FORGET, [most])?;
    transaction.commit()
}

/// Forgets what was read longest ago, as far as there is too much.
const FORGET: &str = "
DELETE FROM read_files WHERE (SELECT sum(length(list)) FROM read_files) > ?1 AND (device, number) IN (
    SELECT device, number FROM (
        SELECT device, number, sum(length(list)) OVER (ORDER BY day DESC, device, number) AS so_far FROM read_files
    ) WHERE so_far > ?1
)";

#[cfg(test)]
mod tests {
    use super::super::row::LINE;
    use super::super::{AsRead, Read, TABLES, TOGETHER};
    use super::*;

    #[test]
    fn what_was_read_longest_ago_is_forgotten_once_there_is_too_much() {
        let mut database = Connection::open_in_memory().unwrap();
        database.execute_batch(TABLES).unwrap();
        let stat_of =
            |inode: u64| AsRead { size: inode, mtime: Time::at(1), ctime: Time::at(2), born: None };
        let write =
            |database: &mut Connection, inodes: std::ops::Range<u64>, day: i64, most: i64| {
                let mut pending = Vec::new();
                for inode in inodes.map(|row| row * TOGETHER) {
                    pending.extend_from_slice(&7u64.to_le_bytes());
                    pending.extend_from_slice(&inode.to_le_bytes());
                    write_one(&mut pending, &stat_of(inode), &Read { steps: vec![1], whole: None });
                }
                write_rows(database, &pending, Time::at(day * 86_400), most).unwrap();
                let mut select =
                    database.prepare("SELECT number FROM read_files ORDER BY number").unwrap();
                select
                    .query_map([], |row| row.get(0))
                    .unwrap()
                    .map(Result::unwrap)
                    .collect::<Vec<i64>>()
            };
        // rows of one file each
        let one = 4 + LINE as i64 + 42;
        assert_eq!(write(&mut database, 0..4, 1, 10 * one), [0, 1, 2, 3]);
        assert_eq!(write(&mut database, 4..8, 2, 10 * one), [0, 1, 2, 3, 4, 5, 6, 7]);
        // what is read again is as new
        assert_eq!(write(&mut database, 3..4, 3, 5 * one), [3, 4, 5, 6, 7]);
        assert_eq!(write(&mut database, 8..20, 4, 5 * one), [8, 9, 10, 11, 12], "also of one day");
    }
}
