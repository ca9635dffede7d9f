//! Files that hold secrets.

use std::fs::File;
use std::io::{self, Read};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Why a file with a secret is not read.
#[derive(Debug, thiserror::Error)]
pub enum SecretError {
    /// The kernel refused.
    #[error("it cannot be read: {0}")]
    Call(#[from] io::Error),
    /// Others may read it, or could have written it.
    #[error("it must be a file of this user with mode 600")]
    Exposed(PathBuf),
}

/// Longer files are cut: no list of logins is that long.
const LONGEST: u64 = 1 << 20;

/// Reads a file that only this user, or root, may read.
///
/// # Errors
///
/// [`SecretError`]. Nothing of what the file holds is in it.
pub fn read_secret(file: &Path) -> Result<String, SecretError> {
    let open = File::open(file)?;
    let meta = open.metadata()?;
    let us = rustix::process::geteuid().as_raw();
    if ![0, us].contains(&meta.uid()) || meta.mode() & 0o077 != 0 || !meta.is_file() {
        return Err(SecretError::Exposed(file.to_owned()));
    }
    let mut text = String::new();
    open.take(LONGEST).read_to_string(&mut text)?;
    Ok(text)
}
