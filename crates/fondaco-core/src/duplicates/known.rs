//! What has been read of files before, so that a second search reads almost nothing.

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

/// So many files are remembered at most.
const MOST: usize = 4_000_000;

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
            let mut select = database.prepare(SELECT).map_err(wrap)?;
            let mut rows = select.query([]).map_err(wrap)?;
            while let Some(row) = rows.next().map_err(wrap)? {
                let (key, known) = known(row).map_err(wrap)?;
                files.insert(key, known);
            }
        }
        Ok(Self { database: Some((database, path.to_owned())), files: KnownFiles(files) })
    }

    /// Keeps what was read, for a later search.
    ///
    /// # Errors
    ///
    /// [`KnownError`]; then nothing of it is kept.
    pub(super) fn remember(&mut self, read: Vec<ReadNow>, now: Time) -> Result<(), KnownError> {
        let Some((database, path)) = &mut self.database else { return Ok(()) };
        let wrap = |source| KnownError { path: path.clone(), source };
        let transaction = database.transaction().map_err(wrap)?;
        {
            let mut insert = transaction.prepare(INSERT).map_err(wrap)?;
            for ((device, inode), as_read, read) in &read {
                let steps: Vec<u8> =
                    read.steps.iter().flat_map(|step| step.to_le_bytes()).collect();
                insert
                    .execute(params![
                        *device as i64,
                        *inode as i64,
                        as_read.size as i64,
                        nanoseconds(as_read.mtime),
                        nanoseconds(as_read.ctime),
                        as_read.born.map(nanoseconds),
                        steps,
                        read.whole.as_ref().map(|whole| &whole[..]),
                        now.sec / 86_400,
                    ])
                    .map_err(wrap)?;
            }
        }
        transaction.execute(FORGET, [MOST as i64]).map_err(wrap)?;
        transaction.commit().map_err(wrap)?;
        self.files.0.extend(read.into_iter().map(|(key, as_read, read)| (key, (as_read, read))));
        Ok(())
    }
}

const TABLES: &str = "
PRAGMA journal_mode = WAL;
PRAGMA synchronous = NORMAL;
CREATE TABLE IF NOT EXISTS file (
    device INTEGER NOT NULL,
    inode INTEGER NOT NULL,
    size INTEGER NOT NULL,
    mtime INTEGER NOT NULL,
    ctime INTEGER NOT NULL,
    born INTEGER,
    steps BLOB NOT NULL,
    whole BLOB,
    day INTEGER NOT NULL,
    PRIMARY KEY (device, inode)
) STRICT, WITHOUT ROWID;
";

const SELECT: &str = "SELECT device, inode, size, mtime, ctime, born, steps, whole FROM file";

const INSERT: &str = "INSERT OR REPLACE INTO file VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";

/// Forgets what was read longest ago, whole days together, if there is too much.
const FORGET: &str = "
DELETE FROM file WHERE (SELECT count(*) FROM file) > ?1 AND day = (SELECT min(day) FROM file)
    AND day < (SELECT max(day) FROM file)";

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

type Row = ((u64, u64), (AsRead, Read));

fn known(row: &rusqlite::Row<'_>) -> rusqlite::Result<Row> {
    let number = |column| row.get::<_, i64>(column).map(|number| number as u64);
    let steps: Vec<u8> = row.get(6)?;
    let whole: Option<Vec<u8>> = row.get(7)?;
    let as_read = AsRead {
        size: number(2)?,
        mtime: time(row.get(3)?),
        ctime: time(row.get(4)?),
        born: row.get::<_, Option<i64>>(5)?.map(time),
    };
    let read = Read {
        steps: steps.as_chunks().0.iter().map(|step| u64::from_le_bytes(*step)).collect(),
        whole: whole.and_then(|whole| whole.try_into().ok()),
    };
    Ok(((number(0)?, number(1)?), (as_read, read)))
}
