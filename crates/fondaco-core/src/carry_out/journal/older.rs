//! Journals of versions before 5, which had a row for every action: their rows are packed.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use rusqlite::{Connection, Row};

use super::actions::{each_action, insert_actions};
use super::packed::{TOGETHER, pack, pack_step};
use super::{EntryRecord, EntryState, SOME_ROWS, conversion, insert_step, not_written, word};
use crate::kernel::Inventory;
use crate::plan::Action;
use crate::units::{Bytes, Time};

/// Packs the rows of all runs in the table that version 4 had. What comes of it is in the tables of today.
pub(super) fn pack_rows(database: &Connection) -> rusqlite::Result<()> {
    let mut runs = database.prepare("SELECT id FROM run ORDER BY id")?;
    let runs = runs.query_map([], |row| row.get(0))?.collect::<Result<Vec<i64>, _>>()?;
    for run in runs {
        let mut known = Vec::new();
        loop {
            let before = known.len();
            each_action(database, run, before as u32 + 1, SOME_ROWS, |action| known.push(action))?;
            if known.len() == before {
                break;
            }
        }
        let mut select = database.prepare_cached(
            "SELECT number, action, state, area, archive, parent_before, parent_after, freed, message,
             at, copy, list FROM entry WHERE run = ?1 ORDER BY number",
        )?;
        let rows = select.query_map([run], |row| record(row, &known))?;
        let rows = rows.collect::<Result<Vec<_>, _>>()?;
        if known.is_empty() {
            // then each row has its action
            let actions: Vec<&Action> = rows.iter().map(|(entry, _)| &entry.action).collect();
            for (place, together) in actions.chunks(TOGETHER).enumerate() {
                let list = pack(together.iter().copied()).map_err(not_written)?;
                insert_actions(database, run, place * TOGETHER + 1, &list)?;
            }
        }
        for together in rows.chunks(TOGETHER) {
            let entries = together.iter().map(|(entry, list)| (entry, list.as_ref()));
            if let Some(step) = pack_step(entries).map_err(not_written)? {
                insert_step(database, run, &step)?;
            }
        }
    }
    Ok(())
}

/// Reads how an action stands: one of those that are known, or the one in the row.
fn record(row: &Row<'_>, known: &[Action]) -> rusqlite::Result<(EntryRecord, Option<Inventory>)> {
    let path = |column| -> rusqlite::Result<Option<PathBuf>> {
        let bytes: Option<Vec<u8>> = row.get(column)?;
        Ok(bytes.map(|bytes| PathBuf::from(OsStr::from_bytes(&bytes))))
    };
    let text: Option<String> = row.get(1)?;
    let number: u32 = row.get(0)?;
    let action = match (&text, known.get((number as usize).wrapping_sub(1))) {
        (Some(text), _) => serde_json::from_str(text).map_err(|error| conversion(1, error))?,
        (None, Some(action)) => action.clone(),
        (None, None) => return Err(conversion(0, format!("there is no action {number}"))),
    };
    let mut entry = EntryRecord::waiting(action, row.get(9)?);
    entry.action_changed = text.is_some();
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
    entry.message = row.get(8)?;
    let copy: Option<String> = row.get(10)?;
    entry.copy = copy.as_deref().and_then(|text| {
        let (device, inode) = text.split_once(' ')?;
        Some((device.parse().ok()?, inode.parse().ok()?))
    });
    let list: Option<Vec<u8>> = row.get(11)?;
    Ok((entry, list.map(Inventory::from_kept)))
}

fn time(text: &str) -> Option<Time> {
    serde_json::from_value(serde_json::Value::String(text.to_owned())).ok()
}
