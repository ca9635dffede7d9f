//! How the journal keeps what there may be a million of: packed by the thousand, in the form of the library `postcard`,
//! compressed.

use std::borrow::Borrow;
use std::cell::RefCell;
use std::collections::HashMap;
use std::io::{self, Read};

use serde::{Deserialize, Serialize};
use zstd::stream::read::Decoder;

use super::records::Progress;
use super::{EntryRecord, EntryState};
use crate::compact_form::{ByteString, append, take};
use crate::kernel::Inventory;
use crate::packed_list::Packable;
use crate::plan::Action;

/// So many actions are packed together.
pub(super) const TOGETHER: usize = 1024;

/// What is written often is compressed little.
const LEVEL: i32 = 1;

/// What a list of actions begins with. One of a journal of a version before 6 is of lines of JSON, which begin with a
/// brace.
const COMPACT: u8 = 1;

/// Packs actions for a row of the journal.
pub(super) fn pack(actions: impl IntoIterator<Item = impl Borrow<Action>>) -> io::Result<Vec<u8>> {
    let mut plain = vec![COMPACT];
    for action in actions {
        let action: &Action = action.borrow();
        if !action.pack(&mut plain) {
            return Err(io::Error::other("an action has no compact form"));
        }
    }
    compress(&plain)
}

/// Compresses a list. What is damaged after that is refused, not taken for something else.
fn compress(plain: &[u8]) -> io::Result<Vec<u8>> {
    thread_local! {
        // making one takes longer than compressing one action
        static COMPRESSOR: RefCell<Option<zstd::bulk::Compressor<'static>>> = const { RefCell::new(None) };
    }
    COMPRESSOR.with_borrow_mut(|known| {
        let compressor = match known {
            Some(compressor) => compressor,
            None => {
                let mut new = zstd::bulk::Compressor::new(LEVEL)?;
                new.include_checksum(true)?;
                known.insert(new)
            }
        };
        compressor.compress(plain)
    })
}

/// Unpacks what [`pack`] has packed, now or in an earlier version.
pub(super) fn unpack(list: &[u8]) -> io::Result<Vec<Action>> {
    let mut plain = Vec::new();
    Decoder::new(list)?.read_to_end(&mut plain)?;
    let Some((&COMPACT, mut rest)) = plain.split_first() else {
        let lines = serde_json::Deserializer::from_slice(&plain).into_iter();
        return Ok(lines.collect::<Result<_, _>>()?);
    };
    let mut actions = Vec::new();
    while !rest.is_empty() {
        let damaged = || io::Error::other("a list of actions is damaged");
        actions.push(Action::unpack(&mut rest).ok_or_else(damaged)?);
    }
    Ok(actions)
}

/// How an action stood when that was written down: all of its [`EntryRecord`], but of the action itself only what is
/// another than in the plan.
#[derive(Debug, Serialize, Deserialize)]
struct Standing<'a> {
    number: u32,
    state: &'a str,
    #[serde(borrow)]
    progress: Progress<'a>,
    /// The action in JSON, if this program has changed the record of its target since it was planned.
    action: Option<&'a str>,
    #[serde(borrow)]
    list: Option<ByteString<'a>>,
}

/// A row of the journal: how some actions stand, written in one synced step.
pub(super) struct Step {
    /// The lowest and the highest number of its actions.
    pub(super) numbers: (u32, u32),
    /// How each of its actions stands: a [`Standing`] after the other, compressed with zstd.
    pub(super) list: Vec<u8>,
}

/// Packs how actions stand; `None` if there are none.
pub(super) fn pack_step<'a>(
    entries: impl IntoIterator<Item = (impl Borrow<EntryRecord>, Option<&'a Inventory>)>,
) -> io::Result<Option<Step>> {
    let mut numbers: Option<(u32, u32)> = None;
    let mut plain = Vec::new();
    for (entry, list) in entries {
        let entry: &EntryRecord = entry.borrow();
        let number = entry.action.number;
        let (first, last) = numbers.unwrap_or((number, number));
        numbers = Some((first.min(number), last.max(number)));
        let action = match entry.action_changed {
            true => Some(serde_json::to_string(&entry.action)?),
            false => None,
        };
        let standing = Standing {
            number,
            state: entry.state.word(),
            progress: Progress::of(entry),
            action: action.as_deref(),
            list: list.map(|list| ByteString(list.kept())),
        };
        if !append(&standing, &mut plain) {
            return Err(io::Error::other("how an action stands has no compact form"));
        }
    }
    let Some(numbers) = numbers else { return Ok(None) };
    Ok(Some(Step { numbers, list: compress(&plain)? }))
}

/// What a step says of each of its actions.
fn each_standing(
    list: &[u8],
    mut with: impl FnMut(Standing<'_>) -> io::Result<()>,
) -> io::Result<()> {
    let mut plain = Vec::new();
    Decoder::new(list)?.read_to_end(&mut plain)?;
    let mut rest = plain.as_slice();
    while !rest.is_empty() {
        let damaged = || io::Error::other("a step is damaged");
        with(take(&mut rest).ok_or_else(damaged)?)?;
    }
    Ok(())
}

fn state_of(word: &str) -> io::Result<EntryState> {
    EntryState::of_word(word).ok_or_else(|| io::Error::other(format!("state `{word}`")))
}

/// Brings some actions of a run, the first of which has number `first`, to how they stood after a step, and `inventories`,
/// if they are asked for.
pub(super) fn apply(
    list: &[u8],
    first: u32,
    entries: &mut [EntryRecord],
    mut inventories: Option<&mut HashMap<u32, Inventory>>,
) -> io::Result<()> {
    each_standing(list, |standing| {
        let place = standing.number.checked_sub(first).map(|place| place as usize);
        let Some(entry) = place.and_then(|place| entries.get_mut(place)) else {
            return Ok(());
        };
        if let Some(inventories) = &mut inventories {
            apply_inventory(&standing, inventories)?;
        }
        if let Some(action) = standing.action {
            entry.action = serde_json::from_str(action)?;
        }
        entry.state = state_of(standing.state)?;
        standing.progress.bring(entry);
        Ok(())
    })
}

/// As [`apply`], for the states alone.
pub(super) fn apply_states(list: &[u8], states: &mut [EntryState]) -> io::Result<()> {
    each_standing(list, |standing| {
        if let Some(state) = states.get_mut((standing.number as usize).wrapping_sub(1)) {
            *state = state_of(standing.state)?;
        }
        Ok(())
    })
}

/// As [`apply`], for the lists of what may be removed of the actions from `first` to `last`. A list stays until the state
/// of its action says that it is of no use any more.
pub(super) fn apply_inventories(
    list: &[u8],
    (first, last): (u32, u32),
    inventories: &mut HashMap<u32, Inventory>,
) -> io::Result<()> {
    each_standing(list, |standing| {
        if !(first..=last).contains(&standing.number) {
            return Ok(());
        }
        apply_inventory(&standing, inventories)
    })
}

fn apply_inventory(
    standing: &Standing<'_>,
    inventories: &mut HashMap<u32, Inventory>,
) -> io::Result<()> {
    if !state_of(standing.state)?.keeps_inventory() {
        inventories.remove(&standing.number);
    } else if let Some(list) = standing.list {
        inventories.insert(standing.number, Inventory::from_kept(list.0.to_vec()));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::ffi::OsStr;
    use std::os::unix::ffi::OsStrExt;

    use crate::packed_list::Record;
    use crate::plan::{Deed, Draft, Planned, survey};
    use crate::units::{Bytes, Time};

    #[test]
    fn a_step_is_read_as_it_was_written_and_a_damaged_one_is_refused() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        let mut draft = Draft::default();
        for name in ["a", "b"] {
            let path = root.join(name);
            std::fs::write(&path, name).unwrap();
            let survey = survey(&path).unwrap();
            let (deed, volume) = (Deed::SetAside, root.clone());
            draft.put(Planned::of_survey(path, deed, "by hand".into(), volume, survey));
        }
        let plan = draft.to_plan(Vec::new(), Time::at(0)).unwrap();
        let waiting = || -> Vec<EntryRecord> {
            let waiting =
                |action: Record<Action>| EntryRecord::waiting(action.clone(), "then".into());
            plan.actions.iter().map(waiting).collect()
        };
        let mut written = waiting();
        written[1].state = EntryState::Held;
        written[1].area = Some(root.join(OsStr::from_bytes(b"\xff")));
        written[1].parent_before = Some((Time::at(-1), Time { sec: 2, nsec: 3 }));
        written[1].freed = Bytes::new(u64::MAX);
        written[1].message = "why".into();
        let list = Inventory::from_kept(vec![1, 2, 3]);
        let step = pack_step([(&written[1], Some(&list))]).unwrap().unwrap();
        assert_eq!(step.numbers, (2, 2));
        let mut read = waiting();
        apply(&step.list, 1, &mut read, None).unwrap();
        assert_eq!(read, written);
        let mut second = waiting().split_off(1);
        apply(&step.list, 2, &mut second, None).unwrap();
        assert_eq!(second, written[1..], "a part of the run");
        let mut lists = HashMap::new();
        apply_inventories(&step.list, (1, 9), &mut lists).unwrap();
        assert_eq!(lists, HashMap::from([(2, list)]));
        written[1].state = EntryState::PutBack;
        let later = pack_step([(&written[1], None)]).unwrap().unwrap();
        apply_inventories(&later.list, (1, 9), &mut lists).unwrap();
        assert!(lists.is_empty(), "of no use any more");

        for at in 0..step.list.len() {
            let mut damaged = step.list.clone();
            damaged[at] ^= 0x10;
            let mut read = waiting();
            // some bits of a frame's head mean nothing
            if apply(&damaged, 1, &mut read, None).is_ok() {
                assert_eq!(read[1].message, "why", "byte {at}");
            }
            let cut = apply(&step.list[..at], 1, &mut waiting(), None);
            assert!(cut.is_err() || at == 0, "cut at {at}");
        }
        let nothing: [(&EntryRecord, _); 0] = [];
        assert!(pack_step(nothing).unwrap().is_none());
    }
}
