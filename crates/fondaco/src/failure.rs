//! Why something did not work, in words for the person at the terminal.

use std::error::Error;
use std::fmt;

/// What is said of an error: its message with those of its causes, in one line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure(String);

impl Failure {
    /// Of an error.
    pub fn of(error: impl Error) -> Self {
        Self::with_causes(&error)
    }

    /// As [`of`](Self::of), of an error that is only borrowed. A cause that the message has told
    /// already is not told again.
    pub fn with_causes(error: &dyn Error) -> Self {
        let mut text = error.to_string();
        let mut cause = error.source();
        while let Some(error) = cause {
            let more = error.to_string();
            if !text.contains(&more) {
                text = format!("{text}: {more}");
            }
            cause = error.source();
        }
        Self(text)
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl From<&str> for Failure {
    fn from(text: &str) -> Self {
        Self(text.to_owned())
    }
}

impl From<String> for Failure {
    fn from(text: String) -> Self {
        Self(text)
    }
}

impl From<Failure> for String {
    fn from(failure: Failure) -> Self {
        failure.0
    }
}
