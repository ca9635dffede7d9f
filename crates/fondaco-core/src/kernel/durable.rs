//! Writing a file so that it is there whole, or not at all.

use std::fs::{File, OpenOptions};
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use super::beneath::{CallError, Op};

/// Writes a file aside, syncs it, gives it its name and syncs the directory. What had the name
/// before is replaced in one step. Only its owner may read it.
///
/// # Errors
///
/// [`CallError`]; then the old file is untouched, and nothing is left behind beside it.
pub fn write_whole(path: &Path, contents: &[u8]) -> Result<(), CallError> {
    let directory = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let (aside, file) = create_beside(directory, path)?;
    let written = write_and_sync(file, contents, &aside)
        .and_then(|()| std::fs::rename(&aside, path).map_err(CallError::on(Op::Rename, path)))
        .and_then(|()| sync_directory(directory));
    if written.is_err() {
        let _ = std::fs::remove_file(&aside); // our own part file, unless it has its name already
    }
    written
}

/// A new file that was not there before: what somebody put in its place is never written to.
fn create_beside(directory: &Path, path: &Path) -> Result<(PathBuf, File), CallError> {
    let mut tries = 0;
    loop {
        let mut name = std::ffi::OsString::from(".");
        name.push(path.file_name().unwrap_or_default());
        name.push(format!(".{}-{tries}.part", std::process::id()));
        let aside = directory.join(name);
        match OpenOptions::new().write(true).create_new(true).mode(0o600).open(&aside) {
            Ok(file) => return Ok((aside, file)),
            Err(error) if error.kind() == ErrorKind::AlreadyExists && tries < 100 => tries += 1,
            Err(error) => return Err(CallError::on(Op::Create, path)(error)),
        }
    }
}

fn write_and_sync(mut file: File, contents: &[u8], aside: &Path) -> Result<(), CallError> {
    file.write_all(contents).map_err(CallError::on(Op::Write, aside))?;
    file.sync_all().map_err(CallError::on(Op::Sync, aside))
}

/// Makes the names in a directory durable.
///
/// # Errors
///
/// As `fsync(2)`.
pub fn sync_directory(directory: &Path) -> Result<(), CallError> {
    File::open(directory)
        .and_then(|file| file.sync_all())
        .map_err(CallError::on(Op::Sync, directory))
}
