//! Name patterns, as rules and scans take them.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use globset::{GlobBuilder, GlobMatcher};
use memchr::memmem::Finder;

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
    /// What every name that matches holds, if that is known: looked for first, since it costs less.
    part: Option<Finder<'static>>,
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
        let whole_path = text.contains('/');
        let part = longest_part(text).filter(|_| !whole_path);
        let part = part.map(|part| Finder::new(part).into_owned());
        Ok(Self { glob: glob.compile_matcher(), whole_path, part })
    }

    /// Whether it is held against the path and not just the name.
    pub fn wants_path(&self) -> bool {
        self.whole_path
    }

    /// Whether it matches an entry.
    pub fn matches(&self, name: &OsStr, below_root: &Path) -> bool {
        if self.whole_path {
            return self.glob.is_match(below_root);
        }
        let may = self.part.as_ref().is_none_or(|part| part.find(name.as_bytes()).is_some());
        may && self.glob.is_match(name)
    }
}

/// The longest text between the wildcards of a simple pattern; nothing if it has choices or escapes.
fn longest_part(text: &str) -> Option<&str> {
    if text.contains(['[', ']', '{', '}', '\\', '!']) {
        return None;
    }
    text.split(['*', '?']).max_by_key(|part| part.len()).filter(|part| !part.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_looked_for_first_changes_nothing() {
        let names =
            ["tide.log", "tide.log.1", "a.raw", "", "log", "{a}.log", "x[1].raw", "ébb.log"];
        let texts =
            ["*.log", "*", "?", "tide*", "*.{log,raw}", "*[1].raw", "t?de.*", "*\\{a\\}*", "é*"];
        for text in texts {
            let pattern = Pattern::parse(text).unwrap();
            for name in names {
                let plain = pattern.glob.is_match(name);
                assert_eq!(
                    pattern.matches(OsStr::new(name), Path::new("")),
                    plain,
                    "{text} {name}"
                );
            }
        }
        assert_eq!(longest_part("*a*.log"), Some(".log"));
    }
}
