//! The durable record of every run and action.
//!
//! One SQLite database with full synchronisation: a transaction that has been committed is on the
//! device. Intents are committed before acts, outcomes after. Paths are kept as bytes.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OptionalExtension, Row, params};

use crate::kernel::Inventory;
use crate::plan::{Action, Forecast, Plan};
use crate::shown::Shown;
use crate::units::{Bytes, Time};

/// Why the journal cannot be used. Without it nothing is carried out.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// The database refused: a full disk, no rights, damage.
    #[error("the journal {} cannot be used: {source}{}", Shown(path), hint(source))]
    Database {
        /// The file.
        path: PathBuf,
        /// What it said.
        source: rusqlite::Error,
    },
    /// It was written by another version.
    #[error("the journal {} has version {found}; this program knows {VERSION}", Shown(path))]
    OtherVersion {
        /// The file.
        path: PathBuf,
        /// Its version.
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

const VERSION: u32 = 3;

/// What makes a journal of version 1 one of version 2, which tells of deleted files that were let go of
/// and why a measure is not the count.
const FROM_VERSION_1: &str = "ALTER TABLE run ADD COLUMN reasons TEXT NOT NULL DEFAULT '[]';";

/// What makes a journal of version 2 one of version 3, which keeps what may be removed while a removal goes on.
const FROM_VERSION_2: &str = "
CREATE TABLE inventory (
    run INTEGER NOT NULL,
    number INTEGER NOT NULL,
    list BLOB NOT NULL,
    PRIMARY KEY (run, number)
) STRICT, WITHOUT ROWID;
";

const SCHEMA: &str = "
CREATE TABLE run (
    id INTEGER PRIMARY KEY,
    plan_id TEXT NOT NULL UNIQUE,
    token TEXT NOT NULL,
    begun TEXT NOT NULL,
    ended TEXT,
    state TEXT NOT NULL,
    frees_now INTEGER NOT NULL,
    frees_later INTEGER NOT NULL,
    measured INTEGER,
    protect TEXT NOT NULL,
    reasons TEXT NOT NULL DEFAULT '[]'
) STRICT;
CREATE TABLE entry (
    run INTEGER NOT NULL REFERENCES run (id),
    number INTEGER NOT NULL,
    path BLOB NOT NULL,
    action TEXT NOT NULL,
    state TEXT NOT NULL,
    area BLOB,
    archive BLOB,
    parent_before TEXT,
    parent_after TEXT,
    freed INTEGER NOT NULL DEFAULT 0,
    message TEXT NOT NULL DEFAULT '',
    at TEXT NOT NULL,
    PRIMARY KEY (run, number)
) STRICT, WITHOUT ROWID;
";

/// How a run stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunState {
    /// It goes on, or was cut off and has not been settled.
    Running,
    /// It came to its end.
    Done,
    /// It was stopped on request.
    Stopped,
    /// It was cut off, and has been settled since.
    CutOff,
}

/// How an action stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum EntryState {
    /// Not begun.
    Waiting,
    /// About to be taken, or taken and not yet compared.
    Intended,
    /// In the private directory, found to be what was reviewed, and being removed from there.
    Cleared,
    /// In the holding area.
    Held,
    /// Removed.
    Deleted,
    /// In an archive, and removed.
    Archived,
    /// A guard stopped it; in its place.
    Refused,
    /// Something went wrong; the message says where it is.
    Failed,
    /// Back in its place.
    PutBack,
    /// It was held, and has been removed since.
    Purged,
    /// It was held, and its purge has begun: some of it may be gone.
    Purging,
    /// Some of it had been removed; the rest is back in its place.
    PutBackInPart,
    /// Of a deleted file: its holders have ended.
    Ended,
    /// Of a deleted file: cut to nothing.
    Cut,
    /// Of a deleted file: saved under a name, and cut to nothing.
    Saved,
    /// Not begun in its run; a later run has taken it over.
    CarriedOn,
}

macro_rules! words {
    ($type:ty, $($variant:ident => $word:literal),+) => {
        impl $type {
            /// The word for it, in the database, on screen and in documents.
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }
            fn of_word(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$variant),)+ _ => None }
            }
        }
    };
}
words!(RunState, Running => "running", Done => "done", Stopped => "stopped", CutOff => "cut off");
words!(EntryState, Waiting => "not begun", Intended => "intended", Held => "set aside",
    Deleted => "deleted", Archived => "archived", Refused => "refused", Failed => "failed",
    PutBack => "put back", Ended => "ended", Cut => "cut", Saved => "saved and cut", Purged => "purged",
    Cleared => "being removed", Purging => "being purged", PutBackInPart => "partly back", CarriedOn => "carried on");

impl EntryState {
    /// Whether what was planned has been done.
    pub fn is_done(self) -> bool {
        use EntryState::{Archived, Cut, Deleted, Ended, Held, Saved};
        matches!(self, Deleted | Held | Archived | Ended | Cut | Saved)
    }

    /// Whether a person should look at it.
    pub fn is_trouble(self) -> bool {
        self.is_half_done() || matches!(self, Self::Refused | Self::Failed | Self::PutBackInPart)
    }

    /// Whether it was being removed when it was last written down: the list of what may go is kept until it has
    /// come to an end.
    pub fn is_half_done(self) -> bool {
        matches!(self, Self::Cleared | Self::Purging)
    }

    /// Whether the list of what may be removed is still of use.
    fn keeps_inventory(self) -> bool {
        self.is_half_done() || matches!(self, Self::Intended | Self::Held | Self::Failed)
    }
}

/// One run, as the journal has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunRecord {
    /// Its number.
    pub id: i64,
    /// Id of the plan that it carried out.
    pub plan_id: String,
    /// Tells its private directories and archives from those of other runs.
    pub token: String,
    /// When it began, RFC 3339.
    pub begun: String,
    /// When it ended.
    pub ended: Option<String>,
    /// How it stands.
    pub state: RunState,
    /// What the plan said it would free.
    pub forecast: Forecast,
    /// What the volumes said it freed; negative if others wrote more meanwhile.
    pub measured: Option<i64>,
    /// Places that the plan's rules protect.
    pub protect: Vec<crate::shown::DocPath>,
    /// Why the measure is not what was counted, where that is known; one sentence each.
    pub reasons: Vec<String>,
    /// How many actions stand how.
    pub counts: Vec<(EntryState, u64)>,
}

impl RunRecord {
    /// How many of its actions stand so.
    pub fn count(&self, state: EntryState) -> u64 {
        self.counts.iter().find(|(s, _)| *s == state).map_or(0, |(_, count)| *count)
    }
}

/// One action of a run, as the journal has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EntryRecord {
    /// The action, with its target's record.
    pub action: Action,
    /// How it stands.
    pub state: EntryState,
    /// The private directory that it was moved into.
    pub area: Option<PathBuf>,
    /// The archive that holds it.
    pub archive: Option<PathBuf>,
    /// When its directory was last read and written, before it was moved.
    pub parent_before: Option<(Time, Time)>,
    /// When its directory was last written, just after it was moved.
    pub parent_after: Option<Time>,
    /// Bytes freed.
    pub freed: Bytes,
    /// What a person should know.
    pub message: String,
    /// When its state last changed, RFC 3339.
    pub at: String,
}

impl EntryRecord {
    /// Whether there may be something to put back.
    pub fn can_be_put_back(&self) -> bool {
        match self.state {
            EntryState::Held | EntryState::Archived | EntryState::Purging => true,
            EntryState::Failed => self.area.is_some() || self.archive.is_some(),
            _ => false,
        }
    }

    /// Its name in the private directory.
    pub fn held_name(&self) -> String {
        self.action.number.to_string()
    }
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
                let steps = match version {
                    0 => [SCHEMA, FROM_VERSION_2].concat(),
                    1 => [FROM_VERSION_1, FROM_VERSION_2].concat(),
                    _ => FROM_VERSION_2.to_owned(),
                };
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
                "INSERT INTO run (plan_id, token, begun, state, frees_now, frees_later, protect)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                params![
                    plan.id,
                    token,
                    at,
                    RunState::Running.word(),
                    frees.now.get() as i64,
                    frees.later.get() as i64,
                    json(&plan.protect).map_err(&wrap)?,
                ],
            )
            .map_err(&wrap)?;
        let run = transaction.last_insert_rowid();
        {
            let mut insert = transaction
                .prepare(
                    "INSERT INTO entry (run, number, path, action, state, at)
                     VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                )
                .map_err(&wrap)?;
            for action in &plan.actions {
                let json = json(action).map_err(&wrap)?;
                let path = action.target.path.0.as_os_str().as_bytes();
                let waiting = EntryState::Waiting.word();
                insert
                    .execute(params![run, action.number, path, json, waiting, at])
                    .map_err(&wrap)?;
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
    pub fn write(&mut self, run: i64, entries: &[EntryRecord]) -> Result<(), JournalError> {
        self.write_with(run, entries, &[])
    }

    /// As [`Journal::write`], with the lists of what may be removed of some actions. A list is kept as long as its
    /// target is held or being removed, or its removal has failed.
    ///
    /// # Errors
    ///
    /// As [`Journal::write`].
    pub fn write_with(
        &mut self,
        run: i64,
        entries: &[EntryRecord],
        inventories: &[(u32, &Inventory)],
    ) -> Result<(), JournalError> {
        let wrap = self.wrap();
        let transaction = self.database.transaction().map_err(&wrap)?;
        {
            let mut forget = transaction
                .prepare_cached("DELETE FROM inventory WHERE run = ?1 AND number = ?2")
                .map_err(&wrap)?;
            let mut keep = transaction
                .prepare_cached("INSERT OR REPLACE INTO inventory VALUES (?1, ?2, ?3)")
                .map_err(&wrap)?;
            for (number, inventory) in inventories {
                keep.execute(params![run, number, inventory.compressed()]).map_err(&wrap)?;
            }
            let mut update = transaction
                .prepare_cached(
                    "UPDATE entry SET state = ?3, area = ?4, archive = ?5, parent_before = ?6,
                     parent_after = ?7, freed = ?8, message = ?9, at = ?10, action = ?11
                     WHERE run = ?1 AND number = ?2",
                )
                .map_err(&wrap)?;
            for entry in entries {
                let bytes = |path: &Option<PathBuf>| {
                    path.as_ref().map(|path| path.as_os_str().as_bytes().to_owned())
                };
                let before = entry.parent_before.map(|(read, written)| format!("{read} {written}"));
                update
                    .execute(params![
                        run,
                        entry.action.number,
                        entry.state.word(),
                        bytes(&entry.area),
                        bytes(&entry.archive),
                        before,
                        entry.parent_after.map(|time| time.to_string()),
                        entry.freed.get() as i64,
                        entry.message,
                        entry.at,
                        json(&entry.action).map_err(&wrap)?,
                    ])
                    .map_err(&wrap)?;
                if !entry.state.keeps_inventory() {
                    forget.execute(params![run, entry.action.number]).map_err(&wrap)?;
                }
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
            .query_row(
                "SELECT list FROM inventory WHERE run = ?1 AND number = ?2",
                params![run, number],
                |row| Ok(Inventory::from_compressed(row.get(0)?)),
            )
            .optional()
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

    /// Ends a run; `reasons` say why its measure is not what was counted.
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
        now: Time,
    ) -> Result<(), JournalError> {
        let wrap = self.wrap();
        let reasons = json(&reasons).map_err(wrap)?;
        self.database
            .execute(
                "UPDATE run SET state = ?2, measured = ?3, ended = ?4, reasons = ?5 WHERE id = ?1",
                params![run, state.word(), measured, now.rfc3339(), reasons],
            )
            .map_err(self.wrap())
            .map(|_| ())
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
                 protect, reasons FROM run ORDER BY id DESC",
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
        let mut select = self
            .database
            .prepare_cached(
                "SELECT action, state, area, archive, parent_before, parent_after, freed, message,
                 at FROM entry WHERE run = ?1 ORDER BY number",
            )
            .map_err(&wrap)?;
        let rows = select.query_map([run], entry_record).map_err(&wrap)?;
        rows.collect::<Result<_, _>>().map_err(&wrap)
    }
}

/// A record that could not be written down must stop the act, not leave an empty line.
fn json(value: &impl serde::Serialize) -> rusqlite::Result<String> {
    serde_json::to_string(value)
        .map_err(|error| rusqlite::Error::ToSqlConversionFailure(Box::new(error)))
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
    })
}

fn entry_record(row: &Row<'_>) -> rusqlite::Result<EntryRecord> {
    let path = |column| -> rusqlite::Result<Option<PathBuf>> {
        let bytes: Option<Vec<u8>> = row.get(column)?;
        Ok(bytes.map(|bytes| PathBuf::from(OsStr::from_bytes(&bytes))))
    };
    let action: String = row.get(0)?;
    let before: Option<String> = row.get(4)?;
    let after: Option<String> = row.get(5)?;
    Ok(EntryRecord {
        action: serde_json::from_str(&action).map_err(|error| conversion(0, error))?,
        state: word(row, 1, EntryState::of_word)?,
        area: path(2)?,
        archive: path(3)?,
        parent_before: before.as_deref().and_then(|text| {
            let (read, written) = text.split_once(' ')?;
            Some((time(read)?, time(written)?))
        }),
        parent_after: after.as_deref().and_then(time),
        freed: Bytes::new(row.get::<_, i64>(6)?.max(0) as u64),
        message: row.get(7)?,
        at: row.get(8)?,
    })
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
