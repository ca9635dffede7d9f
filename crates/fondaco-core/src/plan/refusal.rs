//! Why a target is left alone.

use std::path::PathBuf;

use crate::kernel::{CallError, Holder};
use crate::shown::Shown;

/// A process in words.
fn who(holder: Option<&Holder>) -> String {
    match holder {
        Some(Holder { pid, command }) => format!("pid {pid} ({command})"),
        None => "a process that cannot be seen from here, or by the kernel itself".to_owned(),
    }
}

/// A guard that stopped an action. What it stopped on is untouched, or back in its place.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Refusal {
    /// A place that is never removed.
    #[error("{} is protected: {reason}", Shown(path))]
    Protected {
        /// The target, or what in it is protected.
        path: PathBuf,
        /// What protects it, and how.
        reason: String,
    },
    /// Whatever it is, its action cannot be done.
    #[error("{} is left alone: {reason}", Shown(path))]
    Hopeless {
        /// The target of the action.
        path: PathBuf,
        /// Why nothing can be done to it.
        reason: String,
    },
    /// It is not there any more.
    #[error("{} is gone", Shown(.0))]
    Gone(PathBuf),
    /// It is not what was reviewed.
    #[error("{} has changed since it was reviewed: {difference}", Shown(path))]
    Changed {
        /// The target, or what in it is different.
        path: PathBuf,
        /// What is different now.
        difference: String,
    },
    /// It is not what a scan found, or lies elsewhere.
    #[error("{} is not what was scanned: {difference}; scan again to plan it", Shown(path))]
    NotAsScanned {
        /// The entry that was chosen.
        path: PathBuf,
        /// What is different now.
        difference: String,
    },
    /// A process has it, or something below it, open.
    #[error("{} is in use by {}", Shown(path), who(holder.as_ref()))]
    InUse {
        /// The target, or what in it is open.
        path: PathBuf,
        /// By whom, if that can be seen from here.
        holder: Option<Holder>,
    },
    /// It was changed each time that it was looked at.
    #[error("{} is being changed all the time: plan it when that has ended", Shown(.0))]
    Unsettled(PathBuf),
    /// Something else is mounted on it or below it.
    #[error("{} has another volume mounted on it or below it", Shown(.0))]
    MountBelow(PathBuf),
    /// It carries the immutable or the append-only attribute.
    #[error("{} is marked immutable or append-only (see lsattr)", Shown(.0))]
    Immutable(PathBuf),
    /// It is a deleted file that a guard does not let go of.
    #[error("{} (deleted) is left as it is: {reason}", Shown(path))]
    NotReleased {
        /// Its path as it was.
        path: PathBuf,
        /// Why the guard stopped it.
        reason: String,
    },
    /// An archive cannot keep it.
    #[error("{} cannot be archived: {reason}", Shown(path))]
    NotArchivable {
        /// The target, or what in it is meant.
        path: PathBuf,
        /// Why no archive can hold it.
        reason: String,
    },
    /// Its archive could not be written or did not stand the comparison.
    #[error("it could not be archived: {0}")]
    Archive(String),
    /// The copy that was to stay is not there, or is not the same.
    #[error("{} stays: {} {reason}", Shown(path), Shown(copy))]
    NoCopy {
        /// The target, whose only copy it would be.
        path: PathBuf,
        /// The copy that was to stay.
        copy: PathBuf,
        /// What is wrong with it, as in "is gone".
        reason: String,
    },
    /// Its copy on another volume did not stand the comparison.
    #[error("{} cannot be moved: {reason}", Shown(path))]
    Copy {
        /// The copy, or what in it is wrong.
        path: PathBuf,
        /// What is wrong.
        reason: String,
    },
    /// There is something at the place to which it is to be moved.
    #[error("{} exists; nothing is ever replaced", Shown(.0))]
    Taken(PathBuf),
    /// There is something at the place to which it is to go back.
    #[error("{} exists; what was there before stays in the holding area", Shown(.0))]
    Occupied(PathBuf),
    /// It is neither in its place nor held: only the journal knows of it.
    #[error("{} cannot be put back: {reason}", Shown(path))]
    NotHeld {
        /// The target by its place.
        path: PathBuf,
        /// What stands in the way.
        reason: String,
    },
    /// It was taken away, did not stand the second comparison, and its place was taken meanwhile.
    #[error("{} could not be given its place back and is kept as {}", Shown(path), Shown(held))]
    Stranded {
        /// Where the target is.
        path: PathBuf,
        /// Where it is.
        held: PathBuf,
    },
    /// No directory could be made on its volume to move it into.
    #[error("no holding area can be made on the volume of {}: {reason}", Shown(path))]
    NoHoldingArea {
        /// The target that is refused.
        path: PathBuf,
        /// What was tried.
        reason: String,
    },
    /// What has to be remembered before it is taken cannot be.
    #[error(transparent)]
    State(#[from] crate::state::StateError),
    /// Its removal was ended before anything of it was gone.
    #[error(transparent)]
    Removal(crate::kernel::RemovalError),
    /// The kernel refused.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
}
