//! A directory that archives go to.

use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};

use crate::kernel::{self, CallError, Op};
use crate::shown::Shown;

/// Why a depot cannot be used, or an archive in it not be trusted.
#[derive(Debug, thiserror::Error)]
pub enum DepotError {
    /// The kernel refused: full, read-only, no rights …
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
    /// Somebody else could change archives in it.
    #[error("the depot {} must belong to this user and be writable by nobody else", Shown(.0))]
    NotOurs(PathBuf),
    /// Somebody else could put another directory in its place.
    #[error("the depot {} is not safe: others may write to {}", Shown(path), Shown(at))]
    Exposed {
        /// The depot.
        path: PathBuf,
        /// The directory on the way to it.
        at: PathBuf,
    },
    /// What was read back is not what was written.
    #[error("the archive {} is not what was written: {reason}", Shown(path))]
    Differs {
        /// Which archive.
        path: PathBuf,
        /// Where it differs.
        reason: String,
    },
}

/// See the [module](self).
#[derive(Clone, Debug)]
pub struct Depot {
    path: PathBuf,
}

impl Depot {
    /// Opens a depot, making its directory (mode 0700) if it is missing.
    ///
    /// # Errors
    ///
    /// [`DepotError`].
    pub fn open(path: &Path) -> Result<Self, DepotError> {
        std::fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(path)
            .map_err(CallError::on(Op::Create, path))?;
        let path = path.canonicalize().map_err(CallError::on(Op::Open, path))?;
        let meta = std::fs::metadata(&path).map_err(CallError::on(Op::Examine, &path))?;
        if meta.uid() != kernel::effective_user() || meta.mode() & 0o022 != 0 {
            return Err(DepotError::NotOurs(path));
        }
        if let Some(at) = kernel::exposed_at(&path).map_err(CallError::on(Op::Examine, &path))? {
            return Err(DepotError::Exposed { path, at });
        }
        Ok(Self { path })
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The path of one of its files.
    pub fn file(&self, name: &str) -> PathBuf {
        self.path.join(name)
    }

    /// Removes what an unfinished packing has left, of which nothing can be missed: originals are
    /// removed only after an archive has its name. One that has it is left alone, with its index.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    pub fn clear_unfinished(&self, name: &str) -> Result<(), CallError> {
        let mut left = vec![unfinished(name)];
        if !self.file(&format!("{name}.tar.zst")).exists() {
            left.extend([format!("{name}.json"), format!("{name}.sha256")]);
        }
        for path in left.iter().map(|file| self.file(file)) {
            match std::fs::remove_file(&path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => {
                    return Err(CallError::on(Op::Remove, path)(error));
                }
                _ => {}
            }
        }
        Ok(())
    }
}

/// What the archive NAME is called until it is proved.
pub(super) fn unfinished(name: &str) -> String {
    format!(".{name}.tar.zst.part")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_unfinished_is_cleared_and_what_has_its_name_is_kept() {
        let directory = tempfile::tempdir().unwrap();
        let depot = Depot::open(&directory.path().join("depot")).unwrap();
        let write = |files: &[&str]| {
            files.iter().for_each(|file| std::fs::write(depot.file(file), b"x").unwrap());
        };
        let names = || {
            let names = std::fs::read_dir(depot.path()).unwrap();
            let mut names: Vec<_> =
                names.map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
            names.sort();
            names
        };
        write(&[".run.tar.zst.part", "run.json", "run.sha256", "other.tar.zst", "other.json"]);
        depot.clear_unfinished("run").unwrap();
        assert_eq!(names(), ["other.json", "other.tar.zst"]);
        depot.clear_unfinished("run").unwrap();
        write(&[".other.tar.zst.part"]);
        depot.clear_unfinished("other").unwrap();
        assert_eq!(names(), ["other.json", "other.tar.zst"]);
    }
}
