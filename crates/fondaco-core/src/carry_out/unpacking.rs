//! Unpacking what an archive holds, to put it back in its place.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::EntryRecord;
use super::EntryState;
use super::holding::clear_attempt;
use super::put_back::{Places, give, has_room, is_free};
use crate::archive::{DepotError, OpenArchive};
use crate::kernel::{Kind, PrivateDir};
use crate::plan::{Located, Refusal};
use crate::shown::shown;
use crate::units::Bytes;

/// So many files, or so many bytes of them, are unpacked before one sync makes all of them durable.
const MOST_AHEAD: usize = 512;
const MOST_BYTES_AHEAD: Bytes = Bytes::new(256 << 20);

impl Places<'_> {
    /// Unpacks the next files into their private directories, and makes them durable together: a sync for each takes far
    /// longer than the unpacking. What cannot be unpacked is left to [`Places::return_archived`], which says why.
    ///
    /// Only files with one name: another name of an inode is made a link to it, which has to be in its place by then.
    pub(super) fn unpack_ahead<'e>(&mut self, next: impl Iterator<Item = &'e EntryRecord>) {
        let is_alone = |entry: &EntryRecord| {
            let target = &entry.action.target;
            entry.state == EntryState::Archived && target.kind == Kind::File && target.links == 1
        };
        let mut bytes = Bytes::ZERO;
        let fits = |entry: &&EntryRecord| {
            bytes += entry.action.target.allocated;
            is_alone(entry) && bytes <= MOST_BYTES_AHEAD
        };
        let mut next = next.take(MOST_AHEAD).peekable();
        if next.peek().is_none_or(|entry| self.unpacked.contains_key(&entry.action.number)) {
            return; // those have not been put back yet
        }
        let next: Vec<&EntryRecord> = next.take_while(fits).collect();
        if next.len() < 2 {
            return; // one is as well unpacked when it is put back
        }
        let mut areas: BTreeMap<PathBuf, Arc<PrivateDir>> = BTreeMap::new();
        for entry in next {
            let Ok(area) = self.unpack_one(entry) else { break };
            areas.insert(area.path().to_owned(), Arc::clone(&area));
            self.unpacked.insert(entry.action.number, area);
        }
        let sync = |area: &Arc<PrivateDir>| !area.syncs_as_volume() || area.sync_volume().is_ok();
        if !areas.values().all(sync) {
            // what may not be durable is unpacked again, by itself
            self.clear_unpacked();
        }
    }

    /// Removes what was unpacked ahead and has not been put back: copies, which the archive has still.
    pub(super) fn clear_unpacked(&mut self) {
        for (number, area) in std::mem::take(&mut self.unpacked) {
            if let Err(refusal) = clear_attempt(&area, &held_name(number)) {
                let place = area.path().display().to_string();
                tracing::warn!(place = %shown(&place), "a copy is left: {refusal}");
            }
        }
    }

    fn unpack_one(&mut self, entry: &EntryRecord) -> Result<Arc<PrivateDir>, Refusal> {
        let path = &entry.action.target.path.0;
        let located = self.locator.locate(path)?;
        let (area, held) = self.place_for(entry, path, &located)?;
        let open = self.archive_of(entry, path)?;
        match open.unpack_unsynced(entry.action.number, &area, &held) {
            Ok(_) => Ok(area),
            Err(error) => {
                clear_attempt(&area, &held)?;
                Err(not_held(path, &error))
            }
        }
    }

    /// Puts the target of an action back out of its archive.
    ///
    /// # Errors
    ///
    /// [`Refusal`].
    pub(super) fn return_archived(
        &mut self,
        entry: &EntryRecord,
        path: &Path,
        located: &Located,
    ) -> Result<(), Refusal> {
        let number = entry.action.number;
        if let Some(area) = self.unpacked.remove(&number) {
            let held = held_name(number);
            match is_free(path, located).and_then(|()| give(&area, &held, path, located)) {
                Ok(()) => return Ok(()),
                // a copy: the archive has it still, and what is in its place is looked at below
                Err(_) => clear_attempt(&area, &held)?,
            }
        }
        if let Err(Refusal::Occupied(_)) = is_free(path, located) {
            // what cannot be told is refused below, as another file is
            let is_back = self.archive_of(entry, path).is_ok_and(|open| {
                open.has_as(number, &located.parent, &located.name).unwrap_or(false)
            });
            if is_back {
                return Ok(());
            }
        }
        let (area, held) = self.place_for(entry, path, located)?;
        let unpacked = self.archive_of(entry, path)?.unpack(number, &area, &held);
        if let Err(error) = unpacked {
            clear_attempt(&area, &held)?;
            return Err(not_held(path, &error));
        }
        give(&area, &held, path, located)
    }

    /// Where a target is unpacked, once it has been seen that it can be put back.
    fn place_for(
        &mut self,
        entry: &EntryRecord,
        path: &Path,
        located: &Located,
    ) -> Result<(Arc<PrivateDir>, OsString), Refusal> {
        is_free(path, located)?;
        has_room(path, entry.action.target.allocated)?;
        let area = self.areas.of(path, located)?;
        let held = held_name(entry.action.number);
        clear_attempt(&area, &held)?; // of a put back that was cut off
        Ok((area, held))
    }

    /// The archive of an action, open.
    fn archive_of(&mut self, entry: &EntryRecord, path: &Path) -> Result<&OpenArchive, Refusal> {
        let archive = entry.archive.clone().ok_or_else(|| Refusal::NotHeld {
            path: path.to_owned(),
            reason: "no archive is known".to_owned(),
        })?;
        if self.archives.as_ref().is_some_and(|open| open.path() != archive) {
            self.archives = None;
        }
        Ok(match &mut self.archives {
            Some(open) => open,
            none => {
                none.insert(OpenArchive::open(&archive).map_err(|error| not_held(path, &error))?)
            }
        })
    }
}

fn held_name(number: u32) -> OsString {
    OsString::from(format!("{number}.back"))
}

fn not_held(path: &Path, error: &DepotError) -> Refusal {
    Refusal::NotHeld { path: path.to_owned(), reason: error.to_string() }
}
