//! What was found of whole groups of files of one length, beside what was read of each file.

use std::num::NonZeroU32;

use rusqlite::{Connection, OptionalExtension, params};
use rustc_hash::FxHashSet;

use super::{AT_REST, Candidate, Known};
use crate::compact_form::{append, take};
use crate::duplicates::earlier::GroupFound;

/// So many bytes are remembered at most of each part.
const MOST_OF_PART: usize = 256 << 10;

impl Known {
    /// The day, counted from 1970.
    pub(in super::super) fn day(&self) -> u32 {
        (self.now.sec / 86_400).clamp(0, i64::from(u32::MAX)) as u32
    }

    /// Whether a file was neither written nor changed a moment ago, as of the scan.
    pub(in super::super) fn is_at_rest(&self, file: &Candidate) -> bool {
        let changed = file.changed.map_or(0, NonZeroU32::get);
        self.now.sec - i64::from(file.written.max(changed)) >= AT_REST
    }

    /// What was found of groups that are wanted. What cannot be read is not known, and told at the end.
    pub(in super::super) fn groups_found(
        &self,
        wanted: impl Fn(&GroupFound) -> bool,
    ) -> Vec<GroupFound> {
        let Some(store) = &self.store else { return Vec::new() };
        let mut found = Vec::new();
        store.ask(|database| {
            each_part(database, |list| {
                found.extend(groups_of(list).filter(|group| wanted(group)));
                self.goes_on()
            })
        });
        found
    }
}

fn each_part(database: &Connection, mut told: impl FnMut(&[u8]) -> bool) -> rusqlite::Result<()> {
    let mut select = database.prepare("SELECT list FROM found_groups")?;
    let mut rows = select.query([])?;
    while let Some(row) = rows.next()? {
        if !told(row.get_ref(0)?.as_blob()?) {
            break;
        }
    }
    Ok(())
}

/// The groups of a part, as far as they can be read.
fn groups_of(mut list: &[u8]) -> impl Iterator<Item = GroupFound> {
    std::iter::from_fn(move || take(&mut list))
}

/// Writes groups into the parts that they belong to, beside what is in those already; of what is too much the oldest go.
pub(super) fn write_groups(
    database: &mut Connection,
    found: &[GroupFound],
) -> rusqlite::Result<()> {
    let mut new: Vec<&GroupFound> = found.iter().collect();
    new.sort_by_key(|group| group.part());
    let transaction = database.transaction()?;
    {
        let mut select = transaction.prepare("SELECT list FROM found_groups WHERE part = ?1")?;
        let mut insert =
            transaction.prepare("INSERT OR REPLACE INTO found_groups VALUES (?1, ?2)")?;
        for of_part in new.chunk_by(|one, other| one.part() == other.part()) {
            let part = of_part[0].part();
            let before: Option<Vec<u8>> = select.query_row([part], |row| row.get(0)).optional()?;
            let before = before.unwrap_or_default();
            let is_new: FxHashSet<_> = of_part.iter().map(|group| group.known_by()).collect();
            let old = groups_of(&before).filter(|old| !is_new.contains(&old.known_by()));
            let mut all: Vec<GroupFound> = old.collect();
            all.extend(of_part.iter().copied().cloned());
            insert.execute(params![part, list_of(&all)])?;
        }
    }
    transaction.commit()
}

/// The groups as a list, the latest last, as many of them as may be kept.
fn list_of(groups: &[GroupFound]) -> Vec<u8> {
    let mut lists: Vec<(u32, Vec<u8>)> =
        groups.iter().map(|group| (group.day, Vec::new())).collect();
    for (group, (_, list)) in groups.iter().zip(&mut lists) {
        append(group, list);
    }
    lists.sort_by_key(|(day, _)| *day);
    let mut room = MOST_OF_PART;
    let fits = |list: &&[u8]| {
        let fits = list.len() <= room;
        room = room.saturating_sub(list.len());
        fits
    };
    let mut kept: Vec<&[u8]> =
        lists.iter().rev().map(|(_, list)| list.as_slice()).take_while(fits).collect();
    kept.reverse();
    kept.concat()
}
