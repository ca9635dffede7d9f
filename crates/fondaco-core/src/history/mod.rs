//! How volumes and directories changed: their levels and sizes over time, how soon a volume will be full, and what changed
//! between two moments.
//!
//! Takes [`Volume`]s whenever the program has asked for them, and scans when they are kept; keeps a sample of each volume and
//! a summary of each scan in a database, and gives [`Trend`]s. A forecast is made from what was measured or not at all. Two
//! scans are compared by [`compare`].

mod comparison;
mod summary;
mod tide;
mod trend;

use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, params};

pub use comparison::{
    Amount, ChangedRow, Changes, Comparison, EntryChange, Fate, Measure, Place, PlaceId, Side,
    SliceChange, SliceChanges, as_they_are, compare, compare_through, same_place,
};
pub use summary::{Growing, PartSizes, PartSort, SizeThen, keep_scan};
pub use tide::{Tide, TideColumn};
pub use trend::{Fall, Forecast, Outlook, Sample, Trend, outlook};

use crate::shown::Shown;
use crate::units::{Bytes, Time};
use crate::volume::Volume;

/// Why the history cannot be used. Everything else works without it.
#[derive(Debug, thiserror::Error)]
pub enum HistoryError {
    /// The database refused: a full disk, no rights, damage.
    #[error("the history {} cannot be used: {source}", Shown(path))]
    Database {
        /// The database of levels.
        path: PathBuf,
        /// What it said.
        source: rusqlite::Error,
    },
    /// It was written by another version.
    #[error("the history {} has version {found}; this program knows {VERSION}", Shown(path))]
    OtherVersion {
        /// The database of levels.
        path: PathBuf,
        /// The version that the file says it has.
        found: u32,
    },
}

const VERSION: u32 = 2;

/// So many seconds are looked back to tell where something is going.
pub const LOOKED_BACK: i64 = 92 * 86_400;

const SCHEMA: &str = "
CREATE TABLE sample (
    mount_point BLOB NOT NULL,
    source BLOB NOT NULL,
    at INTEGER NOT NULL,
    used INTEGER NOT NULL,
    free INTEGER NOT NULL,
    inodes_used INTEGER NOT NULL,
    inodes INTEGER NOT NULL,
    PRIMARY KEY (mount_point, source, at)
) STRICT, WITHOUT ROWID;
";

/// A volume is not sampled again within this many seconds.
const APART: i64 = 300;

/// How long samples are kept, in seconds.
const KEPT: i64 = 800 * 86_400;

/// See the [module](self).
#[derive(Debug)]
pub struct History {
    database: Connection,
    path: PathBuf,
}

impl History {
    /// Opens the history, making it if there is none.
    ///
    /// # Errors
    ///
    /// [`HistoryError`].
    pub fn open(path: &Path) -> Result<Self, HistoryError> {
        let wrap = |source| HistoryError::Database { path: path.to_owned(), source };
        let database = Connection::open(path).map_err(wrap)?;
        database.busy_timeout(Duration::from_secs(5)).map_err(wrap)?;
        // a lost sample is no harm, so nothing waits for the device
        database
            .execute_batch(
                "PRAGMA journal_mode = WAL; PRAGMA synchronous = OFF; PRAGMA foreign_keys = ON;",
            )
            .map_err(wrap)?;
        let version = || database.query_row("PRAGMA user_version", [], |row| row.get(0));
        let tables = match version().map_err(wrap)? {
            0 => [SCHEMA, summary::SCHEMA].concat(),
            1 => summary::SCHEMA.to_owned(),
            _ => String::new(),
        };
        if !tables.is_empty() {
            let make =
                format!("BEGIN IMMEDIATE; {tables} PRAGMA user_version = {VERSION}; COMMIT;");
            if database.execute_batch(&make).is_err() {
                // another process may have been faster
                let _ = database.execute_batch("ROLLBACK");
            }
        }
        match version().map_err(wrap)? {
            VERSION => Ok(Self { database, path: path.to_owned() }),
            found => Err(HistoryError::OtherVersion { path: path.to_owned(), found }),
        }
    }

    /// Keeps how full volumes are now; those that did not answer, hold nothing that lasts, or were sampled
    /// a few minutes ago, are left out. Gives how many were kept.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`]; then none is kept.
    pub fn sample(&mut self, volumes: &[Volume], now: Time) -> Result<usize, HistoryError> {
        let samples = volumes.iter().filter_map(|volume| {
            let sample = sample_of(volume, now)?;
            Some((volume.mount_point.as_path(), volume.source.as_path(), sample))
        });
        let samples: Vec<_> = samples.collect();
        self.keep(&samples)
    }

    /// Keeps samples of volumes, each with its mount point and source, as [`History::sample`] does.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`]; then none is kept.
    pub fn keep(&mut self, samples: &[(&Path, &Path, Sample)]) -> Result<usize, HistoryError> {
        let path = self.path.clone();
        let wrap = |source| HistoryError::Database { path: path.clone(), source };
        let transaction = self.database.transaction().map_err(wrap)?;
        let mut kept = 0;
        {
            let mut insert = transaction
                .prepare(
                    "INSERT INTO sample SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7 WHERE NOT EXISTS (
                     SELECT 1 FROM sample WHERE mount_point = ?1 AND source = ?2
                     AND at > ?3 - ?8 AND at < ?3 + ?8)",
                )
                .map_err(wrap)?;
            for (mount_point, source, sample) in samples {
                kept += insert
                    .execute(params![
                        mount_point.as_os_str().as_bytes(),
                        source.as_os_str().as_bytes(),
                        sample.at.sec,
                        sample.used.get() as i64,
                        sample.free.get() as i64,
                        sample.inodes_used as i64,
                        sample.inodes as i64,
                        APART,
                    ])
                    .map_err(wrap)?;
            }
            if let Some((.., sample)) = samples.first() {
                transaction
                    .execute("DELETE FROM sample WHERE at < ?1", [sample.at.sec - KEPT])
                    .map_err(wrap)?;
            }
        }
        transaction.commit().map_err(wrap)?;
        Ok(kept)
    }

    /// The samples of a volume since a moment, oldest first. Those from when something else was mounted
    /// there are not its own.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`].
    pub fn samples(&self, volume: &Volume, since: Time) -> Result<Vec<Sample>, HistoryError> {
        let wrap = |source| HistoryError::Database { path: self.path.clone(), source };
        let mut select = self
            .database
            .prepare_cached(
                "SELECT at, used, free, inodes_used, inodes FROM sample
                 WHERE mount_point = ?1 AND source = ?2 AND at >= ?3 ORDER BY at",
            )
            .map_err(wrap)?;
        let key = [&volume.mount_point, &volume.source].map(|path| path.as_os_str().as_bytes());
        let rows = select
            .query_map(params![key[0], key[1], since.sec], |row| {
                let number = |column| row.get::<_, i64>(column).map(|n| n.max(0) as u64);
                Ok(Sample {
                    at: Time::at(row.get(0)?),
                    used: Bytes::new(number(1)?),
                    free: Bytes::new(number(2)?),
                    inodes_used: number(3)?,
                    inodes: number(4)?,
                })
            })
            .map_err(wrap)?;
        rows.collect::<Result<_, _>>().map_err(wrap)
    }

    /// How a volume has moved, from all samples of the last three months.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`].
    pub fn outlook(&self, volume: &Volume, now: Time) -> Result<Outlook, HistoryError> {
        let mut samples = self.samples(volume, Time::at(now.sec - LOOKED_BACK))?;
        // a clock that was set back leaves samples that lie ahead
        samples.retain(|sample| sample.at <= now);
        // what it says now is not kept every time, but counts
        samples.extend(sample_of(volume, now).filter(|_| !samples.is_empty()));
        Ok(outlook(&samples))
    }
}

/// How full a volume is now, if it answered.
fn sample_of(volume: &Volume, now: Time) -> Option<Sample> {
    let c = volume.capacity.as_ref().ok()?;
    Some(Sample {
        at: now,
        used: c.used,
        free: c.free_for(volume.level_for),
        inodes_used: c.inodes - c.inodes_free,
        inodes: c.inodes,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn samples_are_kept_once_in_a_while_and_belong_to_what_was_mounted_then() {
        let directory = tempfile::tempdir().unwrap();
        let mut history = History::open(&directory.path().join("history.db")).unwrap();
        let sample = |at, used| Sample {
            at: Time::at(at),
            used: Bytes::new(used),
            free: Bytes::new(1000 - used),
            inodes_used: 1,
            inodes: 10,
        };
        let at = Path::new("/srv");
        let (a, b) = (Path::new("/dev/a"), Path::new("/dev/b"));
        assert_eq!(history.keep(&[(at, a, sample(10_000, 5))]).unwrap(), 1);
        assert_eq!(history.keep(&[(at, a, sample(10_299, 6))]).unwrap(), 0);
        assert_eq!(
            history.keep(&[(at, a, sample(10_300, 7)), (at, b, sample(10_300, 900))]).unwrap(),
            2
        );
        drop(history);
        let history = History::open(&directory.path().join("history.db")).unwrap();
        let volume = crate::volume::tests::volume(at, a);
        let used = |since| -> Vec<u64> {
            let samples = history.samples(&volume, Time::at(since)).unwrap();
            samples.iter().map(|sample| sample.used.get()).collect()
        };
        assert_eq!((used(0), used(10_001)), (vec![5, 7], vec![7]));
        assert_eq!(history.outlook(&volume, Time::at(10_300)).unwrap(), Outlook::NotYet);
    }
}
