//! The rows of the journal that have the actions of a run as its plan had them.

use std::io;
use std::sync::mpsc::{SendError, channel, sync_channel};

use rusqlite::{Connection, params};

use super::packed::{self, TOGETHER};
use super::{conversion, not_written};
use crate::packed_list::Record;
use crate::plan::{Action, Plan};

/// Writes all actions of a run. `each` is shown every one in passing.
pub(super) fn insert_all_actions(
    database: &Connection,
    run: i64,
    plan: &Plan,
    mut each: impl FnMut(&Action),
) -> rusqlite::Result<()> {
    std::thread::scope(|scope| {
        let (give, to_pack) = sync_channel::<Vec<Record<Action>>>(4);
        let (send, packed) = channel();
        let pack_all = move || {
            for actions in to_pack {
                if send.send(packed::pack(actions)).is_err() {
                    return;
                }
            }
        };
        // packed on a thread while the next are shown, where there are many; without it each is packed when it is its turn
        if plan.actions.len() > TOGETHER {
            let _ = std::thread::Builder::new().spawn_scoped(scope, pack_all);
        } else {
            drop(pack_all);
        }
        let mut first = 1;
        let mut insert = |list: io::Result<Vec<u8>>| {
            insert_actions(database, run, first, &list.map_err(not_written)?)?;
            first += TOGETHER;
            Ok(())
        };
        let mut rest = plan.actions.iter();
        while rest.len() > 0 {
            let actions: Vec<_> = rest.by_ref().take(TOGETHER).collect();
            actions.iter().for_each(|action| each(action));
            if let Err(SendError(actions)) = give.send(actions) {
                insert(packed::pack(actions))?;
            }
            packed.try_iter().try_for_each(&mut insert)?;
        }
        drop(give);
        packed.iter().try_for_each(&mut insert)
    })
}

/// Writes the actions of a run from number `first` on.
pub(super) fn insert_actions(
    database: &Connection,
    run: i64,
    first: usize,
    list: &[u8],
) -> rusqlite::Result<()> {
    let insert = "INSERT INTO actions (run, first, list) VALUES (?1, ?2, ?3)";
    database.prepare_cached(insert)?.execute(params![run, first as i64, list])?;
    Ok(())
}

/// The actions of some rows of a run, as its plan had them, in order from number `first` on.
pub(super) fn each_action(
    database: &Connection,
    run: i64,
    first: u32,
    rows: u32,
    mut with: impl FnMut(Action),
) -> rusqlite::Result<()> {
    let select = "SELECT list FROM actions WHERE run = ?1 AND first >= ?2 ORDER BY first LIMIT ?3";
    let mut select = database.prepare_cached(select)?;
    let mut rows = select.query(params![run, first, rows])?;
    while let Some(row) = rows.next()? {
        let list = row.get_ref(0)?.as_blob()?;
        let actions = packed::unpack(list).map_err(|error| conversion(0, error))?;
        actions.into_iter().for_each(&mut with);
    }
    Ok(())
}
