//! Letting a copy share the blocks of the file that stays. The kernel compares both itself and changes neither contents
//! nor names, owners or times, so nothing can be lost at any point: a copy of which only some blocks are shared yet is
//! whole.

use std::os::fd::AsFd;

use super::batch::lease;
use super::check::{cannot_share, kept_copy};
use super::execute::Run;
use super::holding::directory_times;
use super::settle::{Unsettled, is_in_place};
use super::{CarryOutError, EntryRecord, EntryState};
use crate::kernel::{self, CallError, Op, ShareOutcome};
use crate::plan::{Deed, Refusal};
use crate::units::Bytes;

/// Actions whose intents and outcomes are written down together.
const BATCH: usize = 256;

impl Run<'_> {
    /// Does all sharing of the run.
    pub(super) fn share_all(&mut self) -> Result<(), CarryOutError> {
        let waiting = self.waiting_for(|deed| *deed == Deed::Share);
        for batch in waiting.chunks(BATCH) {
            for at in batch {
                self.entries[*at].state = EntryState::Intended;
            }
            self.journal.write(self.id, batch.iter().map(|at| &self.entries[*at]))?;
            self.checks.forget_place();
            for at in batch {
                if !self.goes_on("sharing", *at) {
                    self.entries[*at].state = EntryState::Waiting;
                    continue;
                }
                match self.share(*at) {
                    Ok(freed) => {
                        self.figures.freed += freed;
                        self.entries[*at].freed = freed;
                        self.conclude(*at, EntryState::Shared, String::new());
                    }
                    Err(NotShared::Before(refusal)) => self.refuse(*at, refusal),
                    Err(NotShared::Begun(refusal)) => {
                        let message = format!(
                            "{refusal}; its contents are as they were, and some of its blocks may be shared"
                        );
                        self.conclude(*at, EntryState::Failed, message);
                    }
                }
            }
            self.journal.write(self.id, batch.iter().map(|at| &self.entries[*at]))?;
        }
        Ok(())
    }

    /// Shares the blocks of one copy; tells the bytes that this frees as far as its forecast knew.
    fn share(&mut self, at: usize) -> Result<Bytes, NotShared> {
        let action = self.entries[at].action.clone();
        let path = &action.target.path.0;
        let (located, _) = self.checks.target(&action, &self.touched)?;
        let Some(copy) = &action.stays else { return Err(Refusal::Gone(path.clone()).into()) };
        let no_copy = |reason: &str| Refusal::NoCopy {
            path: path.clone(),
            copy: copy.path.0.clone(),
            reason: reason.to_owned(),
        };
        let kept = kept_copy(path, copy)?;
        // nobody writes to it or waits to do so; what is open for reading elsewhere is not disturbed by sharing, but is
        // left alone as everywhere
        let lease = lease(&located, path)?;
        let file = match &lease {
            Some(lease) => lease.file().try_clone().map(Into::into),
            None => kernel::open_file(&located.parent, located.name.as_os_str()),
        };
        let before = |op| move |error| Refusal::from(CallError::on(op, path)(error));
        let file = file.map_err(before(Op::Open))?;
        let stat = kernel::stat_descriptor(&file).map_err(before(Op::Examine))?;
        if let Some(difference) = action.target.inode_difference(path, &stat) {
            return Err(Refusal::Changed { path: path.clone(), difference }.into());
        }
        self.entries[at].parent_before = directory_times(located.parent.as_fd());
        self.entries[at].parent_after = self.entries[at].parent_before.map(|(_, written)| written);
        let mut shared = 0;
        let refusal = match kernel::share_extents(&kept, &file, stat.size, &mut shared) {
            // what the device does not know yet is only how the blocks lie
            Ok(ShareOutcome::Shared) => match rustix::fs::fsync(&file) {
                Ok(()) => return Ok(action.frees.now),
                Err(error) => CallError::on(Op::Sync, path)(error).into(),
            },
            Ok(ShareOutcome::Differs) => no_copy("does not hold the same"),
            Err(error) => cannot_share(error, path),
        };
        // a call that fails may have shared a part of its range
        let is_begun = shared > 0 || matches!(refusal, Refusal::Call(_));
        Err(if is_begun { NotShared::Begun(refusal) } else { NotShared::Before(refusal) })
    }
}

/// Why a copy does not share its blocks.
enum NotShared {
    /// Before any of them was shared.
    Before(Refusal),
    /// Some of them may be shared.
    Begun(Refusal),
}

impl From<Refusal> for NotShared {
    fn from(refusal: Refusal) -> Self {
        Self::Before(refusal)
    }
}

/// How a copy stands of which some or all blocks may be shared: it is whole, and the rest can be shared later.
pub(super) fn settle_share(entry: &EntryRecord) -> Result<(EntryState, String), Unsettled> {
    match is_in_place(entry)? {
        true => {
            let message = "cut off; as many of its blocks as were shared by then stay so";
            Ok((EntryState::Waiting, message.to_owned()))
        }
        false => {
            let path = entry.action.target.path.0.clone();
            Ok((EntryState::Refused, Refusal::Gone(path).to_string()))
        }
    }
}
