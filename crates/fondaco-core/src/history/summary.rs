//! What stays of a scan when it is no longer kept: the sizes of its larger directories, its kinds, owners and families.
//!
//! A summary has some hundred numbers and takes a few kilobytes, so that those of years are a few megabytes. They are thinned
//! as they grow old: one a day stays for about a year, then one a week.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rusqlite::{OptionalExtension, Transaction, params};

use super::trend::{Outlook, Sample, outlook};
use super::{History, HistoryError, LOOKED_BACK};
use crate::analysis::{BreakdownBy, SliceKey, breakdown};
use crate::catalog::{Catalog, EntryId, Order};
use crate::saved::{self, SavedError};
use crate::state::State;
use crate::units::{Bytes, Time};

/// The tables of summaries.
pub(super) const SCHEMA: &str = "
CREATE TABLE scan (
    id INTEGER PRIMARY KEY,
    place BLOB NOT NULL,
    at INTEGER NOT NULL,
    UNIQUE (place, at)
) STRICT;
CREATE TABLE part (
    id INTEGER PRIMARY KEY,
    sort INTEGER NOT NULL,
    name BLOB NOT NULL,
    UNIQUE (sort, name)
) STRICT;
CREATE TABLE size (
    part INTEGER NOT NULL REFERENCES part (id),
    scan INTEGER NOT NULL REFERENCES scan (id) ON DELETE CASCADE,
    allocated INTEGER NOT NULL,
    entries INTEGER NOT NULL,
    PRIMARY KEY (part, scan)
) STRICT, WITHOUT ROWID;
CREATE INDEX size_of_scan ON size (scan);
";

/// A directory is kept if it holds this share of its place, …
const SHARE: u64 = 500;
/// … but no more of them than this, the largest first.
const DIRECTORIES: usize = 256;
/// So many owners and families are kept.
const SLICES: usize = 48;

const DAY: i64 = 86_400;
/// All summaries stay for so long.
const ALL: i64 = 2 * DAY;
/// One of each day stays for so long; of older ones, one of each week.
const DAILY: i64 = 400 * DAY;

/// What a number of a summary is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PartSort {
    /// A directory, by its path.
    Directory,
    /// A kind of contents, by its word.
    Kind,
    /// An owner, by number.
    Owner,
    /// A family of names.
    Family,
}

impl PartSort {
    fn number(self) -> u8 {
        match self {
            Self::Directory => 0,
            Self::Kind => 1,
            Self::Owner => 2,
            Self::Family => 3,
        }
    }
}

/// How large something was when it was scanned.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SizeThen {
    /// When the scan began.
    pub at: Time,
    /// Bytes on disk.
    pub allocated: Bytes,
    /// Entries in it.
    pub entries: u64,
}

/// Something with its sizes over time, the oldest first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartSizes {
    /// Its path, word or number.
    pub name: Vec<u8>,
    /// One for each scan in which it was large enough to be kept.
    pub sizes: Vec<SizeThen>,
}

/// A directory that grows, with how fast.
#[derive(Clone, Debug, PartialEq)]
pub struct Growing {
    /// Path of the directory.
    pub path: PathBuf,
    /// Its size when it was scanned last.
    pub allocated: Bytes,
    /// Bytes a day.
    pub rise: f64,
    /// In how many days it would fill what is free, if nothing else changed.
    pub fills_in: Option<f64>,
}

/// Keeps a scan in the state directory with its summary; if it is `automatic`, those like it are thinned. Gives its number,
/// and how many were forgotten.
///
/// # Errors
///
/// [`SavedError`]. A summary that cannot be kept is said in the log and loses nothing: the scan is there.
pub fn keep_scan(
    state: &State,
    catalog: &Catalog,
    automatic: bool,
) -> Result<(u64, u64), SavedError> {
    let kept = match automatic {
        true => saved::save_and_thin(state, catalog)?,
        false => (saved::save(state, catalog, false)?, 0),
    };
    let summary =
        History::open(&state.history_file()).and_then(|mut history| history.keep_summary(catalog));
    if let Err(error) = summary {
        tracing::warn!(%error, number = kept.0, "no summary of the scan was kept");
    }
    Ok(kept)
}

impl History {
    /// Keeps the summary of a whole scan, of each of its roots.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`]; then none is kept.
    pub fn keep_summary(&mut self, catalog: &Catalog) -> Result<(), HistoryError> {
        if !catalog.is_complete() {
            return Ok(());
        }
        let path = self.path.clone();
        let wrap = |source| HistoryError::Database { path: path.clone(), source };
        let transaction = self.database.transaction().map_err(wrap)?;
        for root in catalog.roots() {
            keep_root(&transaction, catalog, root.entry, &root.path).map_err(wrap)?;
            thin(&transaction, &root.path, catalog.now()).map_err(wrap)?;
        }
        transaction
            .execute("DELETE FROM part WHERE id NOT IN (SELECT part FROM size)", [])
            .map_err(wrap)?;
        transaction.commit().map_err(wrap)
    }

    /// The sizes of a directory over time, from scans of it or of a directory above it, oldest first.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`].
    pub fn sizes(&self, directory: &Path, since: Time) -> Result<Vec<SizeThen>, HistoryError> {
        let wrap = |source| HistoryError::Database { path: self.path.clone(), source };
        let mut select = self
            .database
            .prepare_cached(
                "SELECT at, MAX(allocated), MAX(entries) FROM size
                 JOIN part ON part.id = size.part JOIN scan ON scan.id = size.scan
                 WHERE sort = 0 AND name = ?1 AND at >= ?2 GROUP BY at ORDER BY at",
            )
            .map_err(wrap)?;
        let rows = select
            .query_map(params![directory.as_os_str().as_bytes(), since.sec], |row| {
                let number = |column| row.get::<_, i64>(column).map(|n| n.max(0) as u64);
                let (allocated, entries) = (Bytes::new(number(1)?), number(2)?);
                Ok(SizeThen { at: Time::at(row.get(0)?), allocated, entries })
            })
            .map_err(wrap)?;
        rows.collect::<Result<_, _>>().map_err(wrap)
    }

    /// What was summed of a place, with its sizes over time.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`].
    pub fn parts(
        &self,
        place: &Path,
        sort: PartSort,
        since: Time,
    ) -> Result<Vec<PartSizes>, HistoryError> {
        let wrap = |source| HistoryError::Database { path: self.path.clone(), source };
        let mut select = self
            .database
            .prepare_cached(
                "SELECT name, at, allocated, entries FROM scan
                 JOIN size ON size.scan = scan.id JOIN part ON part.id = size.part
                 WHERE place = ?1 AND sort = ?2 AND at >= ?3 ORDER BY name, at",
            )
            .map_err(wrap)?;
        let key = params![place.as_os_str().as_bytes(), sort.number(), since.sec];
        let mut rows = select.query(key).map_err(wrap)?;
        let mut parts: Vec<PartSizes> = Vec::new();
        while let Some(row) = rows.next().map_err(wrap)? {
            let number = |column| row.get::<_, i64>(column).map(|n| n.max(0) as u64);
            let name: Vec<u8> = row.get(0).map_err(wrap)?;
            let size = SizeThen {
                at: Time::at(row.get(1).map_err(wrap)?),
                allocated: Bytes::new(number(2).map_err(wrap)?),
                entries: number(3).map_err(wrap)?,
            };
            match parts.last_mut() {
                Some(part) if part.name == name => part.sizes.push(size),
                _ => parts.push(PartSizes { name, sizes: vec![size] }),
            }
        }
        Ok(parts)
    }

    /// The directories of a place that grow, the fastest first: of one whose growth is nearly all in a directory in it, only
    /// that is told. Rises are found as those of volumes are, from the summaries of the last three months.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`].
    pub fn growing(
        &self,
        place: &Path,
        free: Option<Bytes>,
        now: Time,
    ) -> Result<Vec<Growing>, HistoryError> {
        let since = Time::at(now.sec - LOOKED_BACK);
        let parts = self.parts(place, PartSort::Directory, since)?;
        let newest = parts.iter().filter_map(|part| part.sizes.last()).map(|size| size.at).max();
        let mut growing: Vec<Growing> = Vec::new();
        for part in parts {
            let Some(last) = part.sizes.last().filter(|last| Some(last.at) == newest) else {
                continue;
            };
            let sample = |size: &SizeThen| Sample {
                at: size.at,
                used: size.allocated,
                free: free.unwrap_or_default(),
                inodes_used: 0,
                inodes: 0,
            };
            let samples: Vec<Sample> = part.sizes.iter().map(sample).collect();
            let rise = match outlook(&samples) {
                Outlook::NotYet => continue,
                Outlook::Steady(trend) | Outlook::Full(trend, _) => trend.rise,
            };
            // that the whole place grows is no answer
            if rise >= 1.0 && part.name != place.as_os_str().as_bytes() {
                growing.push(Growing {
                    path: Path::new(OsStr::from_bytes(&part.name)).to_owned(),
                    allocated: last.allocated,
                    rise,
                    fills_in: free.map(|free| free.get() as f64 / rise),
                });
            }
        }
        growing.sort_by(|a, b| b.rise.total_cmp(&a.rise).then_with(|| a.path.cmp(&b.path)));
        let explains = |inner: &Growing, outer: &Growing| {
            inner.path != outer.path
                && inner.path.starts_with(&outer.path)
                && inner.rise >= outer.rise * 0.8
        };
        let told: Vec<bool> = growing
            .iter()
            .map(|outer| !growing.iter().any(|inner| explains(inner, outer)))
            .collect();
        let mut told = told.into_iter();
        growing.retain(|_| told.next().unwrap_or(true));
        // what lies in a directory that is told is part of its growth
        let mut kept: Vec<Growing> = Vec::new();
        for one in growing {
            if !kept.iter().any(|outer| one.path.starts_with(&outer.path)) {
                kept.push(one);
            }
        }
        Ok(kept)
    }
}

fn keep_root(
    transaction: &Transaction<'_>,
    catalog: &Catalog,
    root: EntryId,
    path: &Path,
) -> rusqlite::Result<()> {
    let place = path.as_os_str().as_bytes();
    transaction.execute(
        "INSERT INTO scan (place, at) VALUES (?1, ?2) ON CONFLICT DO NOTHING",
        params![place, catalog.now().sec],
    )?;
    if transaction.changes() == 0 {
        return Ok(());
    }
    let scan = transaction.last_insert_rowid();
    let keep = |sort: PartSort, name: &[u8], allocated: Bytes, entries: u64| {
        let sort = sort.number();
        let known: Option<i64> = transaction
            .prepare_cached("SELECT id FROM part WHERE sort = ?1 AND name = ?2")?
            .query_row(params![sort, name], |row| row.get(0))
            .optional()?;
        let part = match known {
            Some(part) => part,
            None => {
                transaction
                    .prepare_cached("INSERT INTO part (sort, name) VALUES (?1, ?2)")?
                    .execute(params![sort, name])?;
                transaction.last_insert_rowid()
            }
        };
        transaction
            .prepare_cached("INSERT OR REPLACE INTO size VALUES (?1, ?2, ?3, ?4)")?
            .execute(params![part, scan, allocated.get() as i64, entries as i64])
            .map(|_| ())
    };
    for id in large_directories(catalog, root) {
        let path = catalog.path(id);
        let (allocated, entries) = (catalog.allocated(id), catalog.entries(id));
        keep(PartSort::Directory, path.as_os_str().as_bytes(), allocated, entries)?;
    }
    for (by, sort) in [
        (BreakdownBy::Kind, PartSort::Kind),
        (BreakdownBy::Owner, PartSort::Owner),
        (BreakdownBy::Family, PartSort::Family),
    ] {
        let found = breakdown(catalog.whole(), root, by);
        for slice in found.slices.iter().take(SLICES) {
            let name = match &slice.key {
                SliceKey::Kind(kind) => kind.word().as_bytes().to_vec(),
                SliceKey::Owner(user) => user.to_string().into_bytes(),
                SliceKey::Family(family) => family.clone(),
                _ => continue,
            };
            keep(sort, &name, slice.sum.allocated, slice.sum.entries)?;
        }
    }
    Ok(())
}

/// The directories that are worth a line: the root and those that hold a share of it, the largest.
fn large_directories(catalog: &Catalog, root: EntryId) -> Vec<EntryId> {
    let least = catalog.allocated(root).get() / SHARE;
    let mut large = vec![root];
    let mut next = 0;
    // the largest of each level in turn, so that what is cut off lies deepest
    while next < large.len() && large.len() < DIRECTORIES {
        let inside = catalog.ranking(large[next], Order::Allocated, DIRECTORIES).rows;
        let is_large = |id: &EntryId| {
            catalog.is_directory(*id) && catalog.allocated(*id).get() >= least.max(1)
        };
        large.extend(inside.into_iter().filter(is_large));
        next += 1;
    }
    large.truncate(DIRECTORIES);
    large
}

/// Forgets summaries of a place that are no longer wanted.
fn thin(transaction: &Transaction<'_>, place: &Path, now: Time) -> rusqlite::Result<()> {
    let place = place.as_os_str().as_bytes();
    let mut select =
        transaction.prepare_cached("SELECT id, at FROM scan WHERE place = ?1 ORDER BY at DESC")?;
    let rows = select.query_map([place], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let all: Vec<(i64, i64)> = rows.collect::<Result<_, _>>()?;
    let mut periods = HashSet::new();
    for (id, at) in all {
        let age = now.sec - at;
        let period = match age {
            age if age <= ALL => continue,
            age if age <= DAILY => (DAY, at.div_euclid(DAY)),
            _ => (7 * DAY, at.div_euclid(7 * DAY)),
        };
        if !periods.insert(period) {
            transaction.execute("DELETE FROM scan WHERE id = ?1", [id])?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::Batch;
    use crate::kernel::{self, Stat};

    const START: i64 = 2_000_000_000;

    /// A scan of a place: each directory has one file of so many blocks.
    fn scan(place: &str, at: i64, directories: &[(&str, u64)]) -> Catalog {
        let own = Stat { blocks: 0, size: 0, ..kernel::stat_path(Path::new("/")).unwrap() };
        let mut catalog = Catalog::new(Time::at(at));
        let top = catalog.add_roots(&[(place.into(), own)]).unwrap()[0];
        let mut batch = Batch::new(Time::at(at));
        directories.iter().for_each(|(name, _)| batch.push(name.as_bytes(), &own));
        let first = catalog.append(top, None, &batch).unwrap();
        for (number, (_, blocks)) in directories.iter().enumerate() {
            let mut batch = Batch::new(Time::at(at));
            let mode = u32::from(kernel::Kind::File.mode_bits());
            let file = Stat { kind: kernel::Kind::File, mode, links: 1, blocks: *blocks, ..own };
            batch.push(b"tide-2041-03-07.csv", &file);
            catalog.append(EntryId(first.0 + number as u32), None, &batch).unwrap();
        }
        catalog.finish(true);
        catalog
    }

    fn history(directory: &Path) -> History {
        History::open(&directory.join("history.db")).unwrap()
    }

    #[test]
    fn directories_have_their_sizes_over_time_after_their_scans_went() {
        let directory = tempfile::tempdir().unwrap();
        let mut history = history(directory.path());
        for day in 0..30u64 {
            let directories = [("logs", 1000 + 100 * day), ("charts", 9000), ("tiny", 1)];
            let catalog = scan("/srv/seamark", START + day as i64 * DAY, &directories);
            history.keep_summary(&catalog).unwrap();
            // once more is no more
            history.keep_summary(&catalog).unwrap();
        }
        let sizes = history.sizes(Path::new("/srv/seamark/logs"), Time::at(0)).unwrap();
        assert_eq!(sizes.len(), 30);
        assert_eq!(sizes[7].allocated, Bytes::from_blocks(1700));
        assert_eq!(sizes[7].at, Time::at(START + 7 * DAY));
        let late = history.sizes(Path::new("/srv/seamark/logs"), Time::at(START + 20 * DAY));
        assert_eq!(late.unwrap().len(), 10);
        // too small a share to be kept
        assert_eq!(history.sizes(Path::new("/srv/seamark/tiny"), Time::at(0)).unwrap(), []);
        let families = history.parts(Path::new("/srv/seamark"), PartSort::Family, Time::at(0));
        let family = families.unwrap();
        let tides = family.iter().find(|part| part.name == b"tide-#.csv").unwrap();
        assert_eq!((tides.sizes.len(), tides.sizes[0].entries), (30, 3));
        // the root grows only by what grows in it
        let now = Time::at(START + 30 * DAY);
        let free = Bytes::new(512_000);
        let growing = history.growing(Path::new("/srv/seamark"), Some(free), now).unwrap();
        assert_eq!(growing.len(), 1, "{growing:?}");
        assert_eq!(growing[0].path, Path::new("/srv/seamark/logs"));
        assert!((growing[0].rise - 51_200.0).abs() < 1.0 && growing[0].fills_in == Some(10.0));
    }

    #[test]
    fn years_of_hourly_scans_stay_small_and_the_newest_is_always_there() {
        let directory = tempfile::tempdir().unwrap();
        let mut history = history(directory.path());
        let names: Vec<String> = (0..40).map(|number| format!("survey-{number:02}")).collect();
        let places: Vec<(&str, u64)> = names.iter().map(|name| (name.as_str(), 800)).collect();
        // three years, a scan each day, and in the end one every eight hours
        let often = 3 * 365 * 24 - 10 * 24;
        for hour in (0..often).step_by(24).chain((often..3 * 365 * 24).step_by(8)) {
            history.keep_summary(&scan("/srv/seamark", START + hour * 3600, &places)).unwrap();
        }
        let sizes = history.sizes(Path::new("/srv/seamark/survey-07"), Time::at(0)).unwrap();
        let (oldest, newest) = (sizes[0].at, sizes[sizes.len() - 1].at);
        assert_eq!(newest, Time::at(START + (3 * 365 * 24 - 8) * 3600));
        assert!(oldest.sec - START < 7 * DAY, "the first week is there");
        // two days of all, about 400 of days, and weeks of the rest
        assert!((450..=520).contains(&sizes.len()), "{}", sizes.len());
        let bytes = std::fs::metadata(directory.path().join("history.db")).unwrap().len();
        assert!(bytes < 2 << 20, "{bytes}");
    }
}
