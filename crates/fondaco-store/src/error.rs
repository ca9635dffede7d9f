//! What can go wrong with a store.

use std::io;

/// Why a store did not do what was asked.
#[derive(Clone, Debug, thiserror::Error)]
pub enum StoreError {
    /// It is not said, or makes no sense, where it is or how to come in.
    #[error("{0}")]
    Access(String),
    /// No connection, or one that was cut or stood still.
    #[error("{host}: {reason}")]
    Connection {
        /// The host that was asked.
        host: String,
        /// Why there is no connection, or no whole answer.
        reason: String,
    },
    /// The store answered that it will not.
    #[error("{host} answers {status}{}{reason}", if reason.is_empty() { "" } else { ": " })]
    Refused {
        /// The host that was asked.
        host: String,
        /// Status of the answer (RFC 9110).
        status: u16,
        /// What it says about it, shortened.
        reason: String,
    },
    /// The answer makes no sense.
    #[error("{host} gives an answer that makes no sense: {reason}")]
    Answer {
        /// The host that was asked.
        host: String,
        /// What is wrong with it.
        reason: String,
    },
    /// There is no object of that name.
    #[error("there is no such object")]
    Absent,
    /// Something has that name.
    #[error("something has that name")]
    Taken,
}

impl StoreError {
    /// Whether the same may go well a moment later.
    pub fn is_passing(&self) -> bool {
        match self {
            Self::Connection { .. } | Self::Answer { .. } => true,
            Self::Refused { status, .. } => matches!(status, 408 | 409 | 425 | 429 | 500..=599),
            Self::Access(_) | Self::Absent | Self::Taken => false,
        }
    }
}

impl From<StoreError> for io::Error {
    fn from(error: StoreError) -> Self {
        let kind = match &error {
            StoreError::Absent => io::ErrorKind::NotFound,
            StoreError::Taken => io::ErrorKind::AlreadyExists,
            StoreError::Refused { status: 401 | 403, .. } | StoreError::Access(_) => {
                io::ErrorKind::PermissionDenied
            }
            StoreError::Refused { status: 507, .. } => io::ErrorKind::StorageFull,
            _ => io::ErrorKind::Other,
        };
        Self::new(kind, error)
    }
}
