//! Which directory nothing is protected about: asked once for all of its files.

use std::cell::RefCell;
use std::path::{Path, PathBuf};

use super::RuleProtection;
use crate::analysis::{Protection, is_holding_area};
use crate::kernel::directory_and_name;

/// The last directory about which nothing is protected.
#[derive(Debug, Default)]
pub(crate) struct FreeDirectory(RefCell<PathBuf>);

impl FreeDirectory {
    /// Whether nothing is protected about the directory that holds a path, which must not be a directory itself. Where
    /// the answer is no, the path has to be asked for by itself.
    pub(crate) fn holds(&self, path: &Path, system: &Protection, rules: &RuleProtection) -> bool {
        let Some((directory, name)) = directory_and_name(path) else { return false };
        if is_holding_area(name) {
            return false;
        }
        if self.0.borrow().as_os_str() == directory.as_os_str() {
            return true;
        }
        let is_free = system.leaves_alone(directory) && rules.leaves_alone(directory);
        if is_free {
            self.0.replace(directory.to_owned());
        }
        is_free
    }

    /// More is protected now, or less.
    pub(crate) fn forget(&self) {
        self.0.replace(PathBuf::new());
    }
}
