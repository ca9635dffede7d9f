//! The durable record of every run and action.
//!
//! One SQLite database with full synchronisation: a transaction that has been committed is on the
//! device. Intents are committed before acts, outcomes after. Paths are kept as bytes.

mod packed;
mod records;
mod schema;

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OptionalExtension, Row, params};

use packed::{TOGETHER, pack, unpack};
pub use records::{EntryRecord, EntryState, RunRecord, RunState};
use schema::VERSION;

use crate::kernel::Inventory;
use crate::plan::{Forecast, Plan};
use crate::shown::Shown;
use crate::units::{Bytes, Time};

/// Why the journal cannot be used. Without it nothing is carried out.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// The database refused: a full disk, no rights, damage.
    #[error("the journal {} cannot be used: {source}{}", Shown(path), hint(source))]
    Database {
        /// The journal's database.
        path: PathBuf,
        /// What it said.
        source: rusqlite::Error,
    },
    /// It was written by another version.
    #[error("the journal {} has version {found}; this program knows {VERSION}", Shown(path))]
    OtherVersion {
        /// The journal's database.
        path: PathBuf,
        /// The version that the file says it has.
        found: u32,
    },
}

/// What to do next, where that is known: the volume that is full may be the journal's own.
fn hint(error: &rusqlite::Error) -> &'static str {
    match error.sqlite_error_code() {
        Some(rusqlite::ErrorCode::DiskFull) => {
            "; keep it on another volume, for instance with --state /dev/shm/fondaco"
        }
        _ => "",
    }
}

/// What a rule did when it last did something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LastOfReason {
    /// The reason that its actions carry.
    pub reason: String,
    /// Number of the run in which it did that.
    pub run: i64,
    /// When the run began, RFC 3339.
    pub begun: String,
    /// How many actions were done.
    pub actions: u64,
    /// Bytes that they have freed.
    pub freed: Bytes,
}

/// See the [module](self).
#[derive(Debug)]
pub struct Journal {
    database: Connection,
    path: PathBuf,
}

impl Journal {
    /// Opens the journal, making it if there is none.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn open(path: &Path) -> Result<Self, JournalError> {
        let wrap = |source| JournalError::Database { path: path.to_owned(), source };
        let database = Connection::open(path).map_err(wrap)?;
        database.busy_timeout(Duration::from_secs(10)).map_err(wrap)?;
        database
            .execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL;")
            .map_err(wrap)?;
        let version: u32 =
            database.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(wrap)?;
        match version {
            VERSION => {}
            0..VERSION => {
                let steps = schema::steps_from(version);
                let make =
                    format!("BEGIN IMMEDIATE; {steps} PRAGMA user_version = {VERSION}; COMMIT;");
                // another process may have been faster
                let made = database.execute_batch(&make);
                if made.is_err() {
                    let _ = database.execute_batch("ROLLBACK");
                }
                let now: u32 = database
                    .query_row("PRAGMA user_version", [], |row| row.get(0))
                    .map_err(wrap)?;
                if now != VERSION {
                    made.map_err(wrap)?;
                }
            }
            found => return Err(JournalError::OtherVersion { path: path.to_owned(), found }),
        }
        Ok(Self { database, path: path.to_owned() })
    }

    fn wrap(&self) -> impl Fn(rusqlite::Error) -> JournalError + use<> {
        let path = self.path.clone();
        move |source| JournalError::Database { path: path.clone(), source }
    }

    /// What each rule did when it last did something, by the reason that its actions carry: the run, when that began,
    /// how many actions were done and what they have freed. Only the last runs are looked at, one after the other.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn last_of_reasons(&self, most_runs: usize) -> Result<Vec<LastOfReason>, JournalError> {
        let wrap = self.wrap();
        let mut select = self
            .database
            .prepare_cached(
                "SELECT reason, run, begun, done_by_reason.actions, freed FROM done_by_reason
                 JOIN run ON run.id = run WHERE run > (SELECT max(id) FROM run) - ?1 ORDER BY run DESC",
            )
            .map_err(&wrap)?;
        let one = |row: &Row<'_>| {
            Ok(LastOfReason {
                reason: row.get(0)?,
                run: row.get(1)?,
                begun: row.get(2)?,
                actions: row.get::<_, i64>(3)?.max(0) as u64,
                freed: Bytes::new(row.get::<_, i64>(4)?.max(0) as u64),
            })
        };
        let mut last: Vec<LastOfReason> = Vec::new();
        for found in select.query_map([most_runs as i64], one).map_err(&wrap)? {
            let found = found.map_err(&wrap)?;
            if !last.iter().any(|known| known.reason == found.reason) {
                last.push(found);
            }
        }
        Ok(last)
    }

    /// Begins a run: all its actions are written as not begun. Gives its number.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn begin(&mut self, plan: &Plan, token: &str, now: Time) -> Result<i64, JournalError> {
        let wrap = self.wrap();
        let at = now.rfc3339();
        let frees = plan.frees();
        let transaction = self.database.transaction().map_err(&wrap)?;
        transaction
            .execute(
                "INSERT INTO run (plan_id, token, begun, state, frees_now, frees_later, protect, actions)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)",
                params![
                    plan.id,
                    token,
                    at,
                    RunState::Running.word(),
                    frees.now.get() as i64,
                    frees.later.get() as i64,
                    json(&plan.protect).map_err(&wrap)?,
                    plan.actions.len() as i64,
                ],
            )
            .map_err(&wrap)?;
        let run = transaction.last_insert_rowid();
        {
            let mut insert = transaction
                .prepare("INSERT INTO actions (run, first, list) VALUES (?1, ?2, ?3)")
                .map_err(&wrap)?;
            for (place, together) in plan.actions.chunks(TOGETHER).enumerate() {
                let list = pack(together).map_err(not_written).map_err(&wrap)?;
                insert.execute(params![run, (place * TOGETHER + 1) as i64, list]).map_err(&wrap)?;
            }
        }
        transaction.commit().map_err(&wrap)?;
        Ok(run)
    }

    /// Writes how some actions of a run stand, all of them in one synced step.
    ///
    /// # Errors
    ///
    /// [`JournalError`]; then none of them is written.
    pub fn write<'a>(
        &mut self,
        run: i64,
        entries: impl IntoIterator<Item = &'a EntryRecord>,
    ) -> Result<(), JournalError> {
        self.write_with(run, entries.into_iter().map(|entry| (entry, None)))
    }

    /// As [`Journal::write`], with the lists of what may be removed of some actions. A list is kept as long as its
    /// target is held or being removed, or its removal has failed.
    ///
    /// # Errors
    ///
    /// As [`Journal::write`].
    pub fn write_with<'a>(
        &mut self,
        run: i64,
        entries: impl IntoIterator<Item = (&'a EntryRecord, Option<&'a Inventory>)>,
    ) -> Result<(), JournalError> {
        let wrap = self.wrap();
        let transaction = self.database.transaction().map_err(&wrap)?;
        {
            let mut write = transaction
                .prepare_cached(
                    "INSERT INTO entry (run, number, state, area, archive, parent_before, parent_after, freed,
                     message, at, action, list, copy)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?14)
                     ON CONFLICT (run, number) DO UPDATE SET state = ?3, area = ?4, archive = ?5,
                     parent_before = ?6, parent_after = ?7, freed = ?8, message = ?9, at = ?10,
                     action = coalesce(?11, action), list = iif(?13, coalesce(?12, list), NULL),
                     copy = ?14",
                )
                .map_err(&wrap)?;
            for (entry, list) in entries {
                let before = entry.parent_before.map(|(read, written)| format!("{read} {written}"));
                let action = match entry.action_changed {
                    true => Some(json(&entry.action).map_err(&wrap)?),
                    false => None,
                };
                write
                    .execute(params![
                        run,
                        entry.action.number,
                        entry.state.word(),
                        path_bytes(entry.area.as_deref()),
                        path_bytes(entry.archive.as_deref()),
                        before,
                        entry.parent_after.map(|time| time.to_string()),
                        entry.freed.get() as i64,
                        entry.message,
                        entry.at,
                        action,
                        list.map(Inventory::kept),
                        entry.state.keeps_inventory(),
                        entry.copy.map(|(device, inode)| format!("{device} {inode}")),
                    ])
                    .map_err(&wrap)?;
            }
        }
        transaction.commit().map_err(&wrap)
    }

    /// The list of what may be removed of a target that is held or being removed, or whose removal has failed.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn inventory(&self, run: i64, number: u32) -> Result<Option<Inventory>, JournalError> {
        self.database
            .prepare_cached("SELECT list FROM entry WHERE run = ?1 AND number = ?2")
            .and_then(|mut select| {
                let list = |row: &Row<'_>| row.get::<_, Option<Vec<u8>>>(0);
                let list = select.query_row(params![run, number], list).optional()?;
                Ok(list.flatten().map(Inventory::from_kept))
            })
            .map_err(self.wrap())
    }

    /// The lists of what may be removed of the actions from `first` to `last`, of those that have one.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn inventories(
        &self,
        run: i64,
        first: u32,
        last: u32,
    ) -> Result<HashMap<u32, Inventory>, JournalError> {
        let select = "SELECT number, list FROM entry
                      WHERE run = ?1 AND number BETWEEN ?2 AND ?3 AND list IS NOT NULL";
        self.database
            .prepare_cached(select)
            .and_then(|mut select| {
                let row = |row: &Row<'_>| {
                    Ok((row.get::<_, u32>(0)?, Inventory::from_kept(row.get::<_, Vec<u8>>(1)?)))
                };
                select.query_map(params![run, first, last], row)?.collect()
            })
            .map_err(self.wrap())
    }

    /// The runs that were cut off, or of which a purge was.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn cut_off(&self) -> Result<Vec<RunRecord>, JournalError> {
        let half_done = |run: &RunRecord| {
            run.counts.iter().any(|(state, count)| state.is_half_done() && *count > 0)
        };
        let mut runs = self.runs()?;
        runs.retain(|run| run.state == RunState::Running || half_done(run));
        Ok(runs)
    }

    /// Ends a run; `reasons` say why its measure is not what was counted, `entries` are its actions as they stand.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn end(
        &mut self,
        run: i64,
        state: RunState,
        measured: Option<i64>,
        reasons: &[String],
        entries: &[EntryRecord],
        now: Time,
    ) -> Result<(), JournalError> {
        let wrap = self.wrap();
        let reasons = json(&reasons).map_err(&wrap)?;
        let transaction = self.database.transaction().map_err(&wrap)?;
        for (reason, (actions, freed)) in done_by_reason(entries) {
            let insert = "INSERT OR REPLACE INTO done_by_reason VALUES (?1, ?2, ?3, ?4)";
            let values = params![run, reason, actions as i64, freed.get() as i64];
            transaction.execute(insert, values).map_err(&wrap)?;
        }
        transaction
            .execute(
                "UPDATE run SET state = ?2, measured = ?3, ended = ?4, reasons = ?5 WHERE id = ?1",
                params![run, state.word(), measured, now.rfc3339(), reasons],
            )
            .map_err(&wrap)?;
        transaction.commit().map_err(&wrap)
    }

    /// The run that carried out a plan, if one did.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn run_of_plan(&self, plan_id: &str) -> Result<Option<i64>, JournalError> {
        self.database
            .query_row("SELECT id FROM run WHERE plan_id = ?1", [plan_id], |row| row.get(0))
            .optional()
            .map_err(self.wrap())
    }

    /// All runs, newest first.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn runs(&self) -> Result<Vec<RunRecord>, JournalError> {
        let wrap = self.wrap();
        let mut select = self
            .database
            .prepare(
                "SELECT id, plan_id, token, begun, ended, state, frees_now, frees_later, measured,
                 protect, reasons, actions FROM run ORDER BY id DESC",
            )
            .map_err(&wrap)?;
        let rows = select.query_map([], run_record).map_err(&wrap)?;
        let mut runs = rows.collect::<Result<Vec<_>, _>>().map_err(&wrap)?;
        let mut count = self
            .database
            .prepare("SELECT state, count(*) FROM entry WHERE run = ?1 GROUP BY state")
            .map_err(&wrap)?;
        for run in &mut runs {
            let rows = count
                .query_map([run.id], |row| {
                    Ok((word(row, 0, EntryState::of_word)?, row.get::<_, i64>(1)? as u64))
                })
                .map_err(&wrap)?;
            run.counts = rows.collect::<Result<_, _>>().map_err(&wrap)?;
            // those that were not begun have no row of their own
            let begun: u64 = run.counts.iter().map(|(_, count)| count).sum();
            let waiting = run.actions.saturating_sub(begun);
            match run.counts.iter_mut().find(|(state, _)| *state == EntryState::Waiting) {
                Some((_, count)) => *count += waiting,
                None if waiting > 0 => run.counts.push((EntryState::Waiting, waiting)),
                None => {}
            }
        }
        Ok(runs)
    }

    /// One run; `None` if there is none with that number.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn run(&self, id: i64) -> Result<Option<RunRecord>, JournalError> {
        Ok(self.runs()?.into_iter().find(|run| run.id == id))
    }

    /// The actions of a run, in the order of its plan.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn entries(&self, run: i64) -> Result<Vec<EntryRecord>, JournalError> {
        let wrap = self.wrap();
        let begun: Option<String> = self
            .database
            .query_row("SELECT begun FROM run WHERE id = ?1", [run], |row| row.get(0))
            .optional()
            .map_err(&wrap)?;
        let mut packed = self
            .database
            .prepare_cached("SELECT list FROM actions WHERE run = ?1 ORDER BY first")
            .map_err(&wrap)?;
        let mut entries = Vec::new();
        let lists = packed.query_map([run], |row| row.get::<_, Vec<u8>>(0)).map_err(&wrap)?;
        for list in lists {
            let actions =
                unpack(&list.map_err(&wrap)?).map_err(|error| wrap(conversion(0, error)))?;
            let at = begun.clone().unwrap_or_default();
            entries
                .extend(actions.into_iter().map(|action| EntryRecord::waiting(action, at.clone())));
        }
        let mut select = self
            .database
            .prepare_cached(
                "SELECT number, action, state, area, archive, parent_before, parent_after, freed, message,
                 at, copy FROM entry WHERE run = ?1 ORDER BY number",
            )
            .map_err(&wrap)?;
        let mut rows = select.query([run]).map_err(&wrap)?;
        while let Some(row) = rows.next().map_err(&wrap)? {
            let number = row.get::<_, u32>(0).map_err(&wrap)? as usize;
            if let Some(entry) = entries.get_mut(number.wrapping_sub(1)) {
                entry_record(row, entry).map_err(&wrap)?;
                continue;
            }
            // of a journal of an earlier version, whose actions were not packed
            let action: Option<String> = row.get(1).map_err(&wrap)?;
            let action = serde_json::from_str(action.as_deref().unwrap_or_default())
                .map_err(|error| wrap(conversion(1, error)))?;
            let mut entry = EntryRecord::waiting(action, String::new());
            entry_record(row, &mut entry).map_err(&wrap)?;
            entries.push(entry);
        }
        Ok(entries)
    }
}

/// How much was done for each reason, and what that freed.
fn done_by_reason(entries: &[EntryRecord]) -> BTreeMap<&str, (u64, Bytes)> {
    let mut sums = BTreeMap::new();
    for entry in entries.iter().filter(|entry| entry.state.is_done()) {
        let sum: &mut (u64, Bytes) = sums.entry(entry.action.reason.as_str()).or_default();
        sum.0 += 1;
        sum.1 += entry.freed;
    }
    sums
}

/// A record that could not be written down must stop the act, not leave an empty line.
fn json(value: &impl serde::Serialize) -> rusqlite::Result<String> {
    serde_json::to_string(value).map_err(not_written)
}

fn not_written(error: impl std::error::Error + Send + Sync + 'static) -> rusqlite::Error {
    rusqlite::Error::ToSqlConversionFailure(Box::new(error))
}

fn path_bytes(path: Option<&Path>) -> Option<&[u8]> {
    path.map(|path| path.as_os_str().as_bytes())
}

fn run_record(row: &Row<'_>) -> rusqlite::Result<RunRecord> {
    let bytes = |column| row.get::<_, i64>(column).map(|n| Bytes::new(n.max(0) as u64));
    let protect: String = row.get(9)?;
    let reasons: String = row.get(10)?;
    Ok(RunRecord {
        id: row.get(0)?,
        plan_id: row.get(1)?,
        token: row.get(2)?,
        begun: row.get(3)?,
        ended: row.get(4)?,
        state: word(row, 5, RunState::of_word)?,
        forecast: Forecast { now: bytes(6)?, later: bytes(7)? },
        measured: row.get(8)?,
        protect: serde_json::from_str(&protect).map_err(|error| conversion(9, error))?,
        reasons: serde_json::from_str(&reasons).map_err(|error| conversion(10, error))?,
        counts: Vec::new(),
        actions: row.get::<_, i64>(11)?.max(0) as u64,
    })
}

/// Reads how an action stands.
fn entry_record(row: &Row<'_>, entry: &mut EntryRecord) -> rusqlite::Result<()> {
    let path = |column| -> rusqlite::Result<Option<PathBuf>> {
        let bytes: Option<Vec<u8>> = row.get(column)?;
        Ok(bytes.map(|bytes| PathBuf::from(OsStr::from_bytes(&bytes))))
    };
    if let Some(action) = row.get::<_, Option<String>>(1)? {
        entry.action = serde_json::from_str(&action).map_err(|error| conversion(1, error))?;
    }
    let before: Option<String> = row.get(5)?;
    let after: Option<String> = row.get(6)?;
    entry.state = word(row, 2, EntryState::of_word)?;
    (entry.area, entry.archive) = (path(3)?, path(4)?);
    entry.parent_before = before.as_deref().and_then(|text| {
        let (read, written) = text.split_once(' ')?;
        Some((time(read)?, time(written)?))
    });
    entry.parent_after = after.as_deref().and_then(time);
    entry.freed = Bytes::new(row.get::<_, i64>(7)?.max(0) as u64);
    (entry.message, entry.at) = (row.get(8)?, row.get(9)?);
    let copy: Option<String> = row.get(10)?;
    entry.copy = copy.as_deref().and_then(|text| {
        let (device, inode) = text.split_once(' ')?;
        Some((device.parse().ok()?, inode.parse().ok()?))
    });
    Ok(())
}

fn time(text: &str) -> Option<Time> {
    serde_json::from_value(serde_json::Value::String(text.to_owned())).ok()
}

fn word<T>(row: &Row<'_>, column: usize, of: fn(&str) -> Option<T>) -> rusqlite::Result<T> {
    let text: String = row.get(column)?;
    of(&text).ok_or_else(|| conversion(column, std::io::Error::other(format!("state `{text}`"))))
}

fn conversion(
    column: usize,
    error: impl std::error::Error + Send + Sync + 'static,
) -> rusqlite::Error {
    rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(error))
}
