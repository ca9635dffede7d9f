//! The durable record of every run and action.
//!
//! One SQLite database with full synchronisation: a transaction that has been committed is on the
//! device. Intents are committed before acts, outcomes after. Paths are kept as bytes.

mod actions;
mod older;
mod packed;
mod records;
mod schema;
mod sums;

use std::borrow::Borrow;
use std::collections::{BTreeSet, HashMap};
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OptionalExtension, Row, TransactionBehavior, params};

use actions::{each_action, insert_all_actions};
use packed::Step;
pub use records::{EntryRecord, EntryState, RunRecord, RunState};
use schema::VERSION;
use sums::{Counts, Standings, counted};

use crate::kernel::Inventory;
use crate::packed_list::PackedList;
use crate::plan::{Action, Forecast, Plan};
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
    /// The run of which no counts are kept, since its actions are just changing.
    changing: Option<i64>,
}

impl Journal {
    /// Opens the journal, making it if there is none.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn open(path: &Path) -> Result<Self, JournalError> {
        let wrap = |source| JournalError::Database { path: path.to_owned(), source };
        let mut database = Connection::open(path).map_err(wrap)?;
        database.busy_timeout(Duration::from_secs(10)).map_err(wrap)?;
        database
            .execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL;")
            .map_err(wrap)?;
        match version_of(&database).map_err(wrap)? {
            VERSION => {}
            0..VERSION => bring_to_today(&mut database).map_err(wrap)?,
            found => return Err(JournalError::OtherVersion { path: path.to_owned(), found }),
        }
        Ok(Self { database, path: path.to_owned(), changing: None })
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
        self.begin_with(plan, token, now, |_| {})
    }

    /// As [`Journal::begin`]. `each` is shown every action in passing.
    pub(super) fn begin_with(
        &mut self,
        plan: &Plan,
        token: &str,
        now: Time,
        mut each: impl FnMut(&Action),
    ) -> Result<i64, JournalError> {
        let wrap = self.wrap();
        let at = now.rfc3339();
        let transaction = self.database.transaction().map_err(&wrap)?;
        transaction
            .execute(
                "INSERT INTO run (plan_id, token, begun, state, frees_now, frees_later, protect, actions)
                 VALUES (?1, ?2, ?3, ?4, 0, 0, ?5, ?6)",
                params![
                    plan.id,
                    token,
                    at,
                    RunState::Running.word(),
                    json(&plan.protect).map_err(&wrap)?,
                    plan.actions.len() as i64,
                ],
            )
            .map_err(&wrap)?;
        let run = transaction.last_insert_rowid();
        let mut frees = Forecast::default();
        insert_all_actions(&transaction, run, plan, |action| {
            frees.now += action.frees.now;
            frees.later += action.frees.later;
            each(action);
        })
        .map_err(&wrap)?;
        transaction
            .execute(
                "UPDATE run SET frees_now = ?2, frees_later = ?3 WHERE id = ?1",
                params![run, frees.now.get() as i64, frees.later.get() as i64],
            )
            .map_err(&wrap)?;
        transaction.commit().map_err(&wrap)?;
        self.changing = Some(run);
        Ok(run)
    }

    /// Writes how some actions of a run stand, all of them in one synced step.
    ///
    /// # Errors
    ///
    /// [`JournalError`]; then none of them is written.
    pub fn write(
        &mut self,
        run: i64,
        entries: impl IntoIterator<Item = impl Borrow<EntryRecord>>,
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
        entries: impl IntoIterator<Item = (impl Borrow<EntryRecord>, Option<&'a Inventory>)>,
    ) -> Result<(), JournalError> {
        let wrap = self.wrap();
        let step = packed::pack_step(entries).map_err(not_written).map_err(&wrap)?;
        let Some(step) = step else { return Ok(()) };
        let transaction = self.database.transaction().map_err(&wrap)?;
        insert_step(&transaction, run, &step).map_err(&wrap)?;
        if self.changing != Some(run) {
            let forget = "UPDATE run SET counts = NULL, half_done = NULL WHERE id = ?1";
            transaction.execute(forget, [run]).map_err(&wrap)?;
        }
        transaction.commit().map_err(&wrap)?;
        self.changing = Some(run);
        Ok(())
    }

    /// The list of what may be removed of a target that is held or being removed, or whose removal has failed.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn inventory(&self, run: i64, number: u32) -> Result<Option<Inventory>, JournalError> {
        Ok(self.inventories(run, number, number)?.remove(&number))
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
        let mut found = HashMap::new();
        self.each_step(run, (first, last), |list| {
            packed::apply_inventories(list, (first, last), &mut found)
        })?;
        Ok(found)
    }

    /// All steps of a run in which any of these actions came to stand otherwise, in their order.
    fn each_step(
        &self,
        run: i64,
        (first, last): (u32, u32),
        mut with: impl FnMut(&[u8]) -> io::Result<()>,
    ) -> Result<(), JournalError> {
        let wrap = self.wrap();
        let select =
            "SELECT list FROM step WHERE run = ?1 AND first <= ?3 AND last >= ?2 ORDER BY id";
        let mut select = self.database.prepare_cached(select).map_err(&wrap)?;
        let mut rows = select.query(params![run, first, last]).map_err(&wrap)?;
        while let Some(row) = rows.next().map_err(&wrap)? {
            let list = row.get_ref(0).and_then(|list| Ok(list.as_blob()?)).map_err(&wrap)?;
            with(list).map_err(|error| wrap(conversion(0, error)))?;
        }
        Ok(())
    }

    /// The runs that were cut off, or of which a purge was. The caller holds the lock of runs: what is counted here is kept.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn cut_off(&mut self) -> Result<Vec<RunRecord>, JournalError> {
        let wrap = self.wrap();
        let runs = self.runs_where(schema::OPEN)?;
        if runs.is_empty() {
            return Ok(runs);
        }
        self.changing = None;
        let transaction = self.database.transaction().map_err(&wrap)?;
        for run in runs.iter().filter(|run| run.state != RunState::Running) {
            keep_counts(&transaction, run.id, &run.counts).map_err(&wrap)?;
        }
        transaction.commit().map_err(&wrap)?;
        let is_cut_off = |run: &RunRecord| run.state == RunState::Running || run.half_done() > 0;
        Ok(runs.into_iter().filter(is_cut_off).collect())
    }

    /// Ends a run; `reasons` say why its measure is not what was counted, `entries` are its actions as they stand. Gives
    /// how many of them stand how.
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
        entries: &PackedList<EntryRecord>,
        now: Time,
    ) -> Result<Vec<(EntryState, u64)>, JournalError> {
        let wrap = self.wrap();
        let reasons = json(&reasons).map_err(&wrap)?;
        self.changing = None;
        let transaction = self.database.transaction().map_err(&wrap)?;
        let Standings { counts, done } = entries.sum();
        let counts = counted(counts);
        for (reason, (actions, freed)) in done {
            let insert = "INSERT OR REPLACE INTO done_by_reason VALUES (?1, ?2, ?3, ?4)";
            let values = params![run, reason, actions as i64, freed.get() as i64];
            transaction.execute(insert, values).map_err(&wrap)?;
        }
        keep_counts(&transaction, run, &counts).map_err(&wrap)?;
        transaction
            .execute(
                "UPDATE run SET state = ?2, measured = ?3, ended = ?4, reasons = ?5 WHERE id = ?1",
                params![run, state.word(), measured, now.rfc3339(), reasons],
            )
            .map_err(&wrap)?;
        transaction.commit().map_err(&wrap)?;
        Ok(counts)
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
        self.runs_where("true")
    }

    /// The mount points of the volumes that a run's actions are on, of a run of many thousands as some of them in its
    /// beginning, middle and end say.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn volumes_of(&self, run: i64) -> Result<BTreeSet<PathBuf>, JournalError> {
        let wrap = self.wrap();
        let select = "SELECT list FROM actions WHERE run = ?1 AND (first IN (
                          SELECT max(first) FROM actions WHERE run = ?1
                      ) OR first % 65536 < 1024) ORDER BY first LIMIT 16";
        let mut select = self.database.prepare_cached(select).map_err(&wrap)?;
        let mut rows = select.query([run]).map_err(&wrap)?;
        let mut volumes = BTreeSet::new();
        while let Some(row) = rows.next().map_err(&wrap)? {
            let list = row.get_ref(0).and_then(|list| Ok(list.as_blob()?)).map_err(&wrap)?;
            let actions = packed::unpack(list).map_err(|error| wrap(conversion(0, error)))?;
            volumes.extend(actions.into_iter().map(|action| action.volume.0));
        }
        Ok(volumes)
    }

    /// One run; `None` if there is none with that number.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn run(&self, id: i64) -> Result<Option<RunRecord>, JournalError> {
        Ok(self.runs_where(&format!("id = {id}"))?.pop())
    }

    /// The runs of which a condition in SQL holds, newest first.
    fn runs_where(&self, condition: &str) -> Result<Vec<RunRecord>, JournalError> {
        let wrap = self.wrap();
        let mut select = self
            .database
            .prepare(&format!(
                "SELECT id, plan_id, token, begun, ended, state, frees_now, frees_later, measured,
                 protect, reasons, actions, counts FROM run WHERE {condition} ORDER BY id DESC"
            ))
            .map_err(&wrap)?;
        let rows = select.query_map([], run_record).map_err(&wrap)?;
        let rows = rows.collect::<Result<Vec<_>, _>>().map_err(&wrap)?;
        let mut runs = Vec::with_capacity(rows.len());
        for (mut run, counted) in rows {
            run.counts = match counted {
                Some(counts) => counts,
                None => self.count(&run)?,
            };
            runs.push(run);
        }
        Ok(runs)
    }

    /// Counts how many actions of a run stand how.
    fn count(&self, run: &RunRecord) -> Result<Counts, JournalError> {
        let mut states = vec![EntryState::Waiting; run.actions as usize];
        self.each_step(run.id, ALL, |list| packed::apply_states(list, &mut states))?;
        Ok(counted(states.into_iter().map(|state| (state, 1))))
    }

    /// The actions of a run, in the order of its plan.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub fn entries(&self, run: i64) -> Result<PackedList<EntryRecord>, JournalError> {
        let wrap = self.wrap();
        let begun: Option<String> = self
            .database
            .query_row("SELECT begun FROM run WHERE id = ?1", [run], |row| row.get(0))
            .optional()
            .map_err(&wrap)?;
        let at = begun.unwrap_or_default();
        let (mut entries, mut first) = (PackedList::new(), 1);
        while let Some(part) = self.part_from(run, first, &at, SOME_ROWS, None)? {
            first += part.len() as u32;
            entries.extend(part);
        }
        Ok(entries)
    }

    /// Some thousand actions of a run as they stand, in the order of its plan from number `first` on, which is 1 or the number
    /// behind those of another such part; adds to `lists` what may be removed of each. `at` is when the run began. `None` if
    /// there are no more.
    ///
    /// # Errors
    ///
    /// [`JournalError`].
    pub(in crate::carry_out) fn held_from(
        &self,
        run: i64,
        first: u32,
        at: &str,
        lists: &mut HashMap<u32, Inventory>,
    ) -> Result<Option<Vec<EntryRecord>>, JournalError> {
        // whoever removes what is held can begin with the first of it
        let rows = if first == 1 { FIRST_ROWS } else { MANY_ROWS };
        self.part_from(run, first, at, rows, Some(lists))
    }

    /// As [`Journal::held_from`], of so many rows.
    fn part_from(
        &self,
        run: i64,
        first: u32,
        at: &str,
        rows: u32,
        mut lists: Option<&mut HashMap<u32, Inventory>>,
    ) -> Result<Option<Vec<EntryRecord>>, JournalError> {
        let wrap = self.wrap();
        let mut entries = Vec::new();
        let waiting = |action| entries.push(EntryRecord::waiting(action, at.to_owned()));
        each_action(&self.database, run, first, rows, waiting).map_err(&wrap)?;
        if entries.is_empty() {
            return Ok(None);
        }
        let last = first + (entries.len() as u32 - 1);
        self.each_step(run, (first, last), |list| {
            packed::apply(list, first, &mut entries, lists.as_deref_mut())
        })?;
        Ok(Some(entries))
    }
}

/// So many rows of actions are read at a time.
const SOME_ROWS: u32 = 4;
/// The same where the journal and the device are synced once for all of them.
const MANY_ROWS: u32 = 16;
/// And at first.
const FIRST_ROWS: u32 = 2;

/// The numbers of all actions that a run may have.
const ALL: (u32, u32) = (0, u32::MAX);

fn version_of(database: &Connection) -> rusqlite::Result<u32> {
    database.query_row("PRAGMA user_version", [], |row| row.get(0))
}

/// Makes the tables, or makes those of an earlier version today's, in one step.
fn bring_to_today(database: &mut Connection) -> rusqlite::Result<()> {
    let transaction = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
    // another process may have been faster
    let version = version_of(&transaction)?;
    if version == VERSION {
        return Ok(());
    }
    transaction.execute_batch(&schema::steps_from(version))?;
    if (1..5).contains(&version) {
        older::pack_rows(&transaction)?;
        transaction.execute_batch(schema::WITHOUT_ROWS)?;
    }
    transaction.execute_batch(&format!("PRAGMA user_version = {VERSION};"))?;
    transaction.commit()
}

fn insert_step(database: &Connection, run: i64, step: &Step) -> rusqlite::Result<()> {
    let insert = "INSERT INTO step (run, first, last, list) VALUES (?1, ?2, ?3, ?4)";
    let (first, last) = step.numbers;
    database.prepare_cached(insert)?.execute(params![run, first, last, step.list])?;
    Ok(())
}

/// A record that could not be written down must stop the act, not leave an empty line.
fn json(value: &impl serde::Serialize) -> rusqlite::Result<String> {
    serde_json::to_string(value).map_err(not_written)
}

fn not_written(error: impl std::error::Error + Send + Sync + 'static) -> rusqlite::Error {
    rusqlite::Error::ToSqlConversionFailure(Box::new(error))
}

/// Keeps how many actions of a run stand how, until that changes.
fn keep_counts(
    database: &Connection,
    run: i64,
    counts: &[(EntryState, u64)],
) -> rusqlite::Result<()> {
    let half_done = |(state, _): &&(EntryState, u64)| state.is_half_done();
    let half_done: u64 = counts.iter().filter(half_done).map(|(_, count)| count).sum();
    let words: Vec<(&str, u64)> =
        counts.iter().map(|(state, count)| (state.word(), *count)).collect();
    let all: u64 = counts.iter().map(|(_, count)| count).sum();
    // counts of some of its actions are none of the run
    database.execute(
        "UPDATE run SET counts = ?2, half_done = ?3 WHERE id = ?1 AND actions = ?4",
        params![run, json(&words)?, half_done as i64, all as i64],
    )?;
    Ok(())
}

/// A run, with how many of its actions stand how if that is kept.
fn run_record(row: &Row<'_>) -> rusqlite::Result<(RunRecord, Option<Counts>)> {
    let bytes = |column| row.get::<_, i64>(column).map(|n| Bytes::new(n.max(0) as u64));
    let protect: String = row.get(9)?;
    let reasons: String = row.get(10)?;
    let counts = row.get::<_, Option<String>>(12)?.map(|text| {
        let words: Vec<(String, u64)> =
            serde_json::from_str(&text).map_err(|error| conversion(12, error))?;
        let state =
            |(word, count): (String, u64)| Ok((known(12, &word, EntryState::of_word)?, count));
        words.into_iter().map(state).collect::<rusqlite::Result<_>>()
    });
    let run = RunRecord {
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
    };
    Ok((run, counts.transpose()?))
}

fn word<T>(row: &Row<'_>, column: usize, of: fn(&str) -> Option<T>) -> rusqlite::Result<T> {
    let text: String = row.get(column)?;
    known(column, &text, of)
}

fn known<T>(column: usize, text: &str, of: fn(&str) -> Option<T>) -> rusqlite::Result<T> {
    of(text).ok_or_else(|| conversion(column, std::io::Error::other(format!("state `{text}`"))))
}

fn conversion(
    column: usize,
    error: impl Into<Box<dyn std::error::Error + Send + Sync>>,
) -> rusqlite::Error {
    rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, error.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_that_may_have_been_cut_off_are_found_without_going_through_all() {
        let directory = tempfile::tempdir().unwrap();
        let journal = Journal::open(&directory.path().join("journal.db")).unwrap();
        let ask = format!("EXPLAIN QUERY PLAN SELECT plan_id FROM run WHERE {}", schema::OPEN);
        let plan: String = journal.database.query_row(&ask, [], |row| row.get("detail")).unwrap();
        assert!(plan.contains("USING INDEX open_run"), "{plan}");
    }
}
