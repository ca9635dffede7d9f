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
    simple: Simple,
}

/// What a name can be held against at less cost than the glob's.
#[derive(Clone, Debug)]
enum Simple {
    /// Names that end so match, and no others.
    Ending(Vec<u8>),
    /// Names that begin so match, and no others.
    Beginning(Vec<u8>),
    /// Every name that matches holds this.
    Part(Box<Finder<'static>>),
    Unknown,
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
        let simple = if whole_path { Simple::Unknown } else { Simple::of(text) };
        Ok(Self { glob: glob.compile_matcher(), whole_path, simple })
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
        let bytes = name.as_bytes();
        match &self.simple {
            Simple::Ending(ending) => bytes.ends_with(ending),
            Simple::Beginning(beginning) => bytes.starts_with(beginning),
            Simple::Part(part) => part.find(bytes).is_some() && self.glob.is_match(name),
            Simple::Unknown => self.glob.is_match(name),
        }
    }
}

impl Simple {
    /// What a pattern for names says; nothing if it has choices or escapes.
    fn of(text: &str) -> Self {
        if text.contains(['[', ']', '{', '}', '\\', '!']) {
            return Self::Unknown;
        }
        let is_plain = |text: &&str| !text.contains(['*', '?']);
        if let Some(ending) = text.strip_prefix('*').filter(is_plain) {
            return Self::Ending(ending.into());
        }
        if let Some(beginning) = text.strip_suffix('*').filter(is_plain) {
            return Self::Beginning(beginning.into());
        }
        let longest = text.split(['*', '?']).max_by_key(|part| part.len());
        longest
            .filter(|part| !part.is_empty())
            .map_or(Self::Unknown, |part| Self::Part(Box::new(Finder::new(part).into_owned())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_costs_less_says_the_same_as_the_glob() {
        let names =
            ["tide.log", "tide.log.1", "a.raw", "", "log", "{a}.log", "x[1].raw", "ébb.log"];
        let texts = [
            "*.log",
            "*",
            "?",
            "tide*",
            "*.{log,raw}",
            "*[1].raw",
            "t?de.*",
            "*\\{a\\}*",
            "é*",
            "*a*.log",
            "log",
            "**",
            "*?",
            "?*",
            "*.log*",
        ];
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
    }
}
