//! Name patterns, as rules and scans take them.

use std::ffi::OsStr;
use std::path::Path;

use globset::{GlobBuilder, GlobMatcher};

/// What is wrong with a pattern.
#[derive(Debug, thiserror::Error)]
#[error("expected a name pattern such as `*.raw`{reason}")]
pub struct PatternError {
    /// The library's words, after a colon; empty if there is no pattern at all.
    reason: String,
}

/// A glob, and what it is to be held against: without a slash the name, with one the path from the
/// scanned root.
#[derive(Clone, Debug)]
pub struct Pattern {
    glob: GlobMatcher,
    whole_path: bool,
}

impl Pattern {
    /// Reads a pattern: `*`, `?`, `[…]`, `{…}`, and `**` across directories.
    ///
    /// # Errors
    ///
    /// [`PatternError`].
    pub fn parse(text: &str) -> Result<Self, PatternError> {
        if text.is_empty() {
            return Err(PatternError { reason: String::new() });
        }
        let glob = GlobBuilder::new(text).literal_separator(true).build();
        let glob = glob.map_err(|error| PatternError { reason: format!(": {}", error.kind()) })?;
        Ok(Self { glob: glob.compile_matcher(), whole_path: text.contains('/') })
    }

    /// Whether it is held against the path and not just the name.
    pub fn wants_path(&self) -> bool {
        self.whole_path
    }

    /// Whether it matches an entry.
    pub fn matches(&self, name: &OsStr, below_root: &Path) -> bool {
        if self.whole_path { self.glob.is_match(below_root) } else { self.glob.is_match(name) }
    }
}
