//! What has been read of files before, so that a second search reads almost nothing.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, params};
use rustc_hash::FxHashMap;

use crate::kernel::Stat;
use crate::shown::Shown;
use crate::units::Time;

/// Why what is known of files cannot be used. A search goes on without it.
#[derive(Debug, thiserror::Error)]
#[error("what is known of contents, in {}, cannot be used: {source}", Shown(path))]
pub struct KnownError {
    path: PathBuf,
    source: rusqlite::Error,
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
    database: Option<(Connection, PathBuf)>,
    pub(super) files: KnownFiles,
}

/// What is known of files, by device and inode.
#[derive(Debug, Default)]
pub(super) struct KnownFiles(FxHashMap<(u64, u64), (AsRead, Read)>);

impl KnownFiles {
    /// Whether something is known of an inode that may still be so.
    pub(super) fn has(&self, device: u64, inode: u64) -> bool {
        self.0.contains_key(&(device, inode))
    }

    /// What is known of a file as it stands.
    pub(super) fn of(&self, stat: &Stat) -> Option<&Read> {
        let (as_read, read) = self.0.get(&(stat.dev, stat.ino))?;
        (*as_read == AsRead::of(stat)).then_some(read)
    }
}

impl Known {
    /// Nothing is known, and nothing will be remembered.
    pub fn nothing() -> Self {
        Self::default()
    }

    /// Opens what is known, making the file if there is none. `fresh`: what it holds is not believed, and written anew.
    ///
    /// # Errors
    ///
    /// [`KnownError`].
    pub fn open(path: &Path, fresh: bool) -> Result<Self, KnownError> {
        let wrap = |source| KnownError { path: path.to_owned(), source };
        let database = Connection::open(path).map_err(wrap)?;
        database.busy_timeout(Duration::from_secs(5)).map_err(wrap)?;
        database.execute_batch(TABLES).map_err(wrap)?;
        let mut files = FxHashMap::default();
        if !fresh {
            let mut select = database.prepare("SELECT device, list FROM files").map_err(wrap)?;
            let mut rows = select.query([]).map_err(wrap)?;
            while let Some(row) = rows.next().map_err(wrap)? {
                let device = row.get::<_, i64>(0).map_err(wrap)? as u64;
                let list = row.get_ref(1).and_then(|list| Ok(list.as_blob()?)).map_err(wrap)?;
                each_in(list, &mut |inode, as_read, read| {
                    files.insert((device, inode), (as_read, read));
                });
            }
        }
        Ok(Self { database: Some((database, path.to_owned())), files: KnownFiles(files) })
    }

    /// Keeps what was read, for a later search. What lies near it is written again with it.
    ///
    /// # Errors
    ///
    /// [`KnownError`]; then nothing of it is kept.
    pub(super) fn remember(&mut self, read: Vec<ReadNow>, now: Time) -> Result<(), KnownError> {
        let Some((database, path)) = &mut self.database else { return Ok(()) };
        if read.is_empty() {
            return Ok(());
        }
        let wrap = |source| KnownError { path: path.clone(), source };
        let mut touched: BTreeMap<(u64, u64), Vec<u8>> = BTreeMap::new();
        for ((device, inode), as_read, read) in read {
            touched.entry((device, inode / TOGETHER)).or_default();
            self.files.0.insert((device, inode), (as_read, read));
        }
        for ((device, inode), (as_read, read)) in &self.files.0 {
            if let Some(list) = touched.get_mut(&(*device, inode / TOGETHER)) {
                write_one(list, *inode, as_read, read);
            }
        }
        let transaction = database.transaction().map_err(wrap)?;
        {
            let mut insert = transaction
                .prepare("INSERT OR REPLACE INTO files VALUES (?1, ?2, ?3, ?4)")
                .map_err(wrap)?;
            for ((device, place), list) in &touched {
                let values = params![*device as i64, *place as i64, now.sec / 86_400, list];
                insert.execute(values).map_err(wrap)?;
            }
        }
        transaction.execute(FORGET, [MOST_BYTES]).map_err(wrap)?;
        transaction.commit().map_err(wrap)
    }
}

/// Files of so many inode numbers in order are kept in one row.
const TOGETHER: u64 = 4096;

/// So many bytes are remembered at most: some millions of files.
const MOST_BYTES: i64 = 256 << 20;

const TABLES: &str = "
PRAGMA journal_mode = WAL;
PRAGMA synchronous = NORMAL;
CREATE TABLE IF NOT EXISTS files (
    device INTEGER NOT NULL,
    place INTEGER NOT NULL,
    day INTEGER NOT NULL,
    list BLOB NOT NULL,
    PRIMARY KEY (device, place)
) STRICT;
";

/// Forgets what was read longest ago, whole days together, if there is too much.
const FORGET: &str = "
DELETE FROM files WHERE (SELECT sum(length(list)) FROM files) > ?1 AND day = (SELECT min(day) FROM files)
    AND day < (SELECT max(day) FROM files)";

/// Writes a file behind others: numbers of eight bytes, little-endian, then how many steps and whether there is the
/// digest of all, then those.
fn write_one(list: &mut Vec<u8>, inode: u64, as_read: &AsRead, read: &Read) {
    let born = as_read.born.map_or(i64::MIN, nanoseconds);
    let times = [nanoseconds(as_read.mtime), nanoseconds(as_read.ctime), born];
    for number in [inode, as_read.size].into_iter().chain(times.map(|time| time as u64)) {
        list.extend_from_slice(&number.to_le_bytes());
    }
    let steps = read.steps.len().min(usize::from(u8::MAX));
    list.extend_from_slice(&[steps as u8, u8::from(read.whole.is_some())]);
    for step in &read.steps[..steps] {
        list.extend_from_slice(&step.to_le_bytes());
    }
    list.extend_from_slice(read.whole.as_ref().map_or(&[], |whole| &whole[..]));
}

/// Reads what [`write_one`] has written. A list that is damaged ends where it is: what follows is not known.
fn each_in(mut list: &[u8], each: &mut dyn FnMut(u64, AsRead, Read)) {
    fn take<'a>(list: &mut &'a [u8], count: usize) -> Option<&'a [u8]> {
        let (taken, rest) = list.split_at_checked(count)?;
        *list = rest;
        Some(taken)
    }
    let number = |list: &mut &[u8]| Some(u64::from_le_bytes(take(list, 8)?.try_into().ok()?));
    let mut one = || -> Option<(u64, AsRead, Read)> {
        let (inode, size) = (number(&mut list)?, number(&mut list)?);
        let (mtime, ctime) = (time(number(&mut list)? as i64), time(number(&mut list)? as i64));
        let born = number(&mut list)? as i64;
        let born = (born != i64::MIN).then(|| time(born));
        let counts = take(&mut list, 2)?;
        let steps = (0..counts[0]).map(|_| number(&mut list)).collect::<Option<Vec<u64>>>()?;
        let whole = match counts[1] {
            0 => None,
            _ => Some(take(&mut list, 32)?.try_into().ok()?),
        };
        Some((inode, AsRead { size, mtime, ctime, born }, Read { steps, whole }))
    };
    while let Some((inode, as_read, read)) = one() {
        each(inode, as_read, read);
    }
}

/// Nanoseconds since 1970; times too far off for that are all the same, and never believed, since sizes and other
/// times still differ.
fn nanoseconds(time: Time) -> i64 {
    time.sec.saturating_mul(1_000_000_000).saturating_add(i64::from(time.nsec))
}

fn time(nanoseconds: i64) -> Time {
    let (sec, nsec) =
        (nanoseconds.div_euclid(1_000_000_000), nanoseconds.rem_euclid(1_000_000_000));
    Time { sec, nsec: nsec as u32 }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_a_damaged_list_only_loses_its_end() {
        let at = |sec| Time { sec, nsec: 7 };
        let as_read = |sec| AsRead {
            size: 9,
            mtime: at(sec),
            ctime: at(-3),
            born: (sec > 5).then(|| at(sec)),
        };
        let files: Vec<(u64, AsRead, Read)> = (1..9u64)
            .map(|n| {
                let whole = (n % 2 == 0).then_some([n as u8; 32]);
                (n, as_read(n as i64), Read { steps: (0..n).collect(), whole })
            })
            .collect();
        let mut list = Vec::new();
        files.iter().for_each(|(inode, as_read, read)| write_one(&mut list, *inode, as_read, read));
        for length in 0..=list.len() {
            let mut found = Vec::new();
            each_in(&list[..length], &mut |inode, as_read, read| {
                found.push((inode, as_read, read));
            });
            assert_eq!(found, files[..found.len()]);
            assert!(length < list.len() || found.len() == files.len());
        }
    }
}
