//! What a scan lists, and what it only counts.

use std::ffi::OsStr;
use std::path::Path;

use crate::kernel::{Kind, Stat};
use crate::pattern::Pattern;
use crate::units::Bytes;

/// What a scan lists. All conditions must hold; what fails one is counted and not listed.
///
/// Directories are listed for what they may hold: only an excluding pattern keeps one out, and then
/// all that is below it.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    /// One of them must match, if there is any.
    pub include: Vec<Pattern>,
    /// None of them may match.
    pub exclude: Vec<Pattern>,
    /// It must be one of these, if any is given.
    pub kinds: Vec<Kind>,
    /// It must have so many bytes on disk or more.
    pub larger: Option<Bytes>,
    /// It must have fewer bytes on disk than this.
    pub smaller: Option<Bytes>,
}

impl Filter {
    /// Whether everything is listed.
    pub fn is_open(&self) -> bool {
        self.include.is_empty()
            && self.exclude.is_empty()
            && self.kinds.is_empty()
            && self.larger.is_none()
            && self.smaller.is_none()
    }

    /// Whether a pattern looks at paths and not just at names.
    pub(super) fn wants_paths(&self) -> bool {
        self.include.iter().chain(&self.exclude).any(Pattern::wants_path)
    }

    /// Whether a directory is listed.
    pub(super) fn lists_directory(&self, name: &OsStr, below_root: &Path) -> bool {
        !self.exclude.iter().any(|pattern| pattern.matches(name, below_root))
    }

    /// Whether something that is no directory is listed.
    pub(super) fn lists(&self, name: &OsStr, below_root: &Path, stat: &Stat) -> bool {
        let matches = |pattern: &Pattern| pattern.matches(name, below_root);
        (self.include.is_empty() || self.include.iter().any(matches))
            && !self.exclude.iter().any(matches)
            && (self.kinds.is_empty() || self.kinds.contains(&stat.kind))
            && self.larger.is_none_or(|least| stat.allocated() >= least)
            && self.smaller.is_none_or(|most| stat.allocated() < most)
    }
}
