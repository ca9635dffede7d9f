//! A run and its actions, as the journal has them.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::sums::Standings;
use crate::compact_form::{
    ByteString, Moment, append, moment, path_bytes, path_of_bytes, take, time_of,
};
use crate::packed_list::Packable;
use crate::plan::{Action, CompactAction, Deed, Forecast, moved_place};
use crate::units::{Bytes, Time};

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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum EntryState {
    /// The action has not been begun.
    Waiting,
    /// About to be taken, or taken and not yet compared.
    Intended,
    /// In the private directory, found to be what was reviewed, and being removed from there.
    Cleared,
    /// In the holding area.
    Held,
    /// At its destination.
    Moved,
    /// The target has been removed for good.
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
    /// Another name of the file that stays.
    Linked,
    /// Its blocks are those of the file that stays.
    Shared,
    /// Some of it had been removed; the rest is back in its place.
    PutBackInPart,
    /// Of a deleted file: its holders have ended.
    Ended,
    /// Of a deleted file: cut to nothing.
    Cut,
    /// Of a deleted file: saved under a name, and cut to nothing.
    Saved,
    /// Taken out of its bin, and back where it was.
    Restored,
    /// A program of the system has removed it.
    ByTool,
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
            pub(super) fn of_word(word: &str) -> Option<Self> {
                match word { $($word => Some(Self::$variant),)+ _ => None }
            }
        }
    };
}
words!(RunState, Running => "running", Done => "done", Stopped => "stopped", CutOff => "cut off");
words!(EntryState, Waiting => "not begun", Intended => "intended", Held => "set aside",
    Moved => "moved", Linked => "linked", Shared => "shared", Deleted => "deleted", Archived => "archived", Refused => "refused", Failed => "failed",
    PutBack => "put back", Ended => "ended", Cut => "cut", ByTool => "removed by its program", Restored => "restored", Saved => "saved and cut", Purged => "purged",
    Cleared => "being removed", Purging => "being purged", PutBackInPart => "partly back", CarriedOn => "carried on");

impl EntryState {
    /// How an action stands that has been done, and can be undone.
    pub const RETURNABLE: [Self; 5] =
        [Self::Held, Self::Archived, Self::Moved, Self::Linked, Self::Shared];

    /// Whether what was planned has been done.
    pub fn is_done(self) -> bool {
        use EntryState::{
            Archived, ByTool, Cut, Deleted, Ended, Held, Linked, Moved, Restored, Saved, Shared,
        };
        matches!(
            self,
            Deleted
                | Held
                | Archived
                | Moved
                | Linked
                | Shared
                | Ended
                | Cut
                | Saved
                | ByTool
                | Restored
        )
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
    pub(super) fn keeps_inventory(self) -> bool {
        self.is_half_done() || matches!(self, Self::Intended | Self::Held | Self::Failed)
    }
}

/// One run, as the journal has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunRecord {
    /// Number of the run, from 1.
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
    /// How many actions it has.
    pub actions: u64,
}

impl RunRecord {
    /// How many of its actions stand so.
    pub fn count(&self, state: EntryState) -> u64 {
        self.counts.iter().find(|(s, _)| *s == state).map_or(0, |(_, count)| *count)
    }

    /// How many of its actions were being removed or purged when they were last written down.
    pub(super) fn half_done(&self) -> u64 {
        let half_done = self.counts.iter().filter(|(state, _)| state.is_half_done());
        half_done.map(|(_, count)| count).sum()
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
    /// Device and inode of what was moved, or is about to be: of the copy, or of the target itself if it is renamed.
    pub copy: Option<(u64, u64)>,
    /// When its directory was last read and written, before it was moved.
    pub parent_before: Option<(Time, Time)>,
    /// When its directory was last written, just after it was moved.
    pub parent_after: Option<Time>,
    /// Bytes that the action has freed so far.
    pub freed: Bytes,
    /// What a person should know.
    pub message: String,
    /// When its state last changed, RFC 3339.
    pub at: String,
    /// The record of its target is another than the journal has, since this program itself has changed the target.
    pub(in crate::carry_out) action_changed: bool,
}

impl EntryRecord {
    /// Its message in a line; further lines are what a program said that did it.
    pub fn summary(&self) -> &str {
        self.message.lines().next().unwrap_or_default()
    }

    /// An action that has not been begun.
    pub(in crate::carry_out) fn waiting(action: Action, at: String) -> Self {
        Self {
            action,
            state: EntryState::Waiting,
            area: None,
            archive: None,
            copy: None,
            parent_before: None,
            parent_after: None,
            freed: Bytes::ZERO,
            message: String::new(),
            at,
            action_changed: false,
        }
    }

    /// Whether there may be something to put back.
    pub fn can_be_put_back(&self) -> bool {
        match self.state {
            state if EntryState::RETURNABLE.contains(&state) => true,
            EntryState::Purging => true,
            EntryState::Failed => self.area.is_some() || self.archive.is_some(),
            _ => false,
        }
    }

    /// Where it goes, or has gone, if it is moved.
    pub fn destination(&self) -> Option<PathBuf> {
        match &self.action.deed {
            Deed::Move { to, .. } => Some(moved_place(to, &self.action.target.path.0)),
            _ => None,
        }
    }

    /// Where it has been moved to, or some of it may have been.
    pub fn moved_to(&self) -> Option<PathBuf> {
        let is_there = matches!(self.state, EntryState::Moved | EntryState::Failed);
        self.destination().filter(|_| is_there && self.copy.is_some())
    }

    /// Its name in the private directory.
    pub fn held_name(&self) -> String {
        self.action.number.to_string()
    }
}

/// How far an action has come, in the compact form: of an [`EntryRecord`] all but its action and state. The steps of the
/// journal have it so: new fields would need another version of the journal.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Progress<'a> {
    #[serde(borrow)]
    area: Option<ByteString<'a>>,
    #[serde(borrow)]
    archive: Option<ByteString<'a>>,
    copy: Option<(u64, u64)>,
    parent_before: Option<(Moment, Moment)>,
    parent_after: Option<Moment>,
    freed: u64,
    message: &'a str,
    at: &'a str,
}

impl<'a> Progress<'a> {
    pub(super) fn of(entry: &'a EntryRecord) -> Self {
        let both = |(read, written)| (moment(read), moment(written));
        Self {
            area: entry.area.as_deref().map(path_bytes),
            archive: entry.archive.as_deref().map(path_bytes),
            copy: entry.copy,
            parent_before: entry.parent_before.map(both),
            parent_after: entry.parent_after.map(moment),
            freed: entry.freed.get(),
            message: &entry.message,
            at: &entry.at,
        }
    }

    /// Brings an entry so far.
    pub(super) fn bring(&self, entry: &mut EntryRecord) {
        let both = |(read, written)| (time_of(read), time_of(written));
        entry.area = self.area.map(path_of_bytes);
        entry.archive = self.archive.map(path_of_bytes);
        entry.copy = self.copy;
        entry.parent_before = self.parent_before.map(both);
        entry.parent_after = self.parent_after.map(time_of);
        entry.freed = Bytes::new(self.freed);
        self.message.clone_into(&mut entry.message);
        self.at.clone_into(&mut entry.at);
    }
}

/// An [`EntryRecord`] as many of them lie in memory; never outside of it.
#[derive(Serialize, Deserialize)]
struct CompactEntry<'a> {
    #[serde(borrow)]
    action: CompactAction<'a>,
    state: EntryState,
    #[serde(borrow)]
    progress: Progress<'a>,
    action_changed: bool,
}

impl Packable for EntryRecord {
    type Sum = Standings;

    fn pack(&self, out: &mut Vec<u8>) -> bool {
        let Some(action) = CompactAction::of(&self.action) else { return false };
        let (state, action_changed) = (self.state, self.action_changed);
        append(&CompactEntry { action, state, progress: Progress::of(self), action_changed }, out)
    }

    fn unpack(bytes: &mut &[u8]) -> Option<Self> {
        let CompactEntry { action, state, progress, action_changed } = take(bytes)?;
        let waiting = Self::waiting(action.action()?, String::new());
        let mut entry = Self { state, action_changed, ..waiting };
        progress.bring(&mut entry);
        Some(entry)
    }
}
