//! Runs that nobody watches: one at a time, and what each came to.
//!
//! Takes nothing from the modules before it but what they found; the program goes through the [`Step`]s and fills the
//! [`UnattendedRecord`], which is kept in the state directory, so that it can be read in the morning and sent.

mod lock;
mod record;

use std::path::PathBuf;

pub use lock::UnattendedLock;
pub use record::{
    CarriedOut, Fill, Grade, MailState, Purged, RuleRecord, Step, Told, UnattendedRecord, Undone,
    UndoneList, VolumeRecord, keep_record, read_record, records,
};

use crate::kernel::CallError;
use crate::shown::Shown;

/// Why an unattended run cannot begin or be kept.
#[derive(Debug, thiserror::Error)]
pub enum UnattendedError {
    /// Another one is at work.
    #[error("another unattended run is at work ({0}); this one has done nothing")]
    Busy(String),
    /// The kernel refused.
    #[error(transparent)]
    Call(#[from] CallError),
    /// A record makes no sense.
    #[error("{} is no record of an unattended run: {source}", Shown(path))]
    Record {
        /// File that was to hold the record.
        path: PathBuf,
        /// What was expected where.
        source: serde_json::Error,
    },
}
