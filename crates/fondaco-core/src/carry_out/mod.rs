//! Carries out a plan, or rehearses it; keeps the journal; puts back.
//!
//! Takes a [`Plan`](crate::plan::Plan) and the [`State`](crate::state::State). One action goes like
//! this, and every step can be the last before the power goes:
//!
//! 1. its intent is in the journal, synced (in batches);
//! 2. the target is looked at again and compared with its record: anything different, protected or
//!    in use is refused, untouched. A file is kept still by a lease from here on, where leases are to be had;
//! 3. it is renamed into the run's private directory on the same volume, where nobody can swap it;
//! 4. it is compared again there, after a look at who has what open; if it is not what was reviewed, or somebody has
//!    it open, it is renamed back. All that it consists of is listed;
//! 5. set aside: it stays there. Move: it gets its place at its destination, or its copy does ([`moving`]). Delete, archive: the journal has it as cleared, with the list, synced; then exactly
//!    what is listed is removed, bottom up;
//! 6. its outcome is in the journal, after the directories have been synced.
//!
//! Deleted files that processes hold come last ([`release`]): they have no place to be moved from, so
//! their guards are the processes. Archives are written, read back and compared before step 2 of the first target
//! that they hold, and so are copies for other volumes. A run that was cut off is *settled* at the next start ([`settle`]): what lies in the private
//! directory and is not cleared goes back to its place, what is cleared is removed to the end.

mod ahead;
mod batch;
mod check;
mod copies;
mod destination;
mod due;
mod elsewhere;
mod exchange;
mod execute;
mod holding;
mod journal;
mod linking;
mod measured;
mod measured_volumes;
mod moving;
mod overlaps;
mod own_file;
mod purge;
mod put_back;
mod rehearse;
mod release;
mod restoring;
mod settle;
mod sharing;
mod together;
mod tools;
mod unpacking;

use std::ops::ControlFlow;
use std::path::PathBuf;

pub use due::{Due, NextDue, due, due_at, next_due};
pub use elsewhere::restore_into;
pub use execute::{RunSummary, carry_out, finish};
pub use journal::{
    EntryRecord, EntryState, Journal, JournalError, LastOfReason, RunRecord, RunState,
};
pub use purge::{purge, purge_while};
pub use put_back::{Missing, Returned, put_back};
pub use rehearse::{Finding, Rehearsal, rehearse};
pub use settle::{Settled, remainder, settle};

use crate::kernel::CallError;
use crate::units::Bytes;

/// How far a run is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Figures {
    /// What is being done, as in "packing".
    pub phase: &'static str,
    /// Actions that have come to their end, one way or the other.
    pub done: usize,
    /// Actions in all.
    pub total: usize,
    /// Bytes freed so far, by the count of the inodes that went.
    pub freed: Bytes,
    /// The target at hand.
    pub current: PathBuf,
}

/// Is told the newest figures, often; answers whether to go on. What is half done is brought to its
/// end before a stop is obeyed.
pub type Watch<'a> = dyn Fn(&Figures) -> ControlFlow<()> + 'a;

/// Why a run could not begin, or had to end.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CarryOutError {
    /// Only one at a time.
    #[error("another run is going on (it holds {})", crate::shown::Shown(.0))]
    Busy(PathBuf),
    /// Its id is in the journal.
    #[error("this plan has already been carried out, as run {0}; see `fondaco journal {0}`")]
    AlreadyCarriedOut(i64),
    /// There is nothing in it.
    #[error("this plan has no actions")]
    Empty,
    /// There is no such run.
    #[error("the journal has no run {0}")]
    NoSuchRun(i64),
    /// Everything in it was begun.
    #[error("run {0} has nothing left to begin")]
    NothingLeft(i64),
    /// A plan of what was left could not be made.
    #[error(transparent)]
    Plan(#[from] crate::plan::PlanError),
    /// The journal cannot be read or written; nothing is done without it.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// What has to be remembered cannot be.
    #[error(transparent)]
    State(#[from] crate::state::StateError),
    /// The kernel refused.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
}
