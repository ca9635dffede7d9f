//! Writing a file so that it is there whole, or not at all.

use std::fs::{File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use super::beneath::{CallError, Op};

/// Writes a file aside, syncs it, gives it its name and syncs the directory. What had the name
/// before is replaced in one step. Only its owner may read it.
///
/// # Errors
///
/// [`CallError`]; then the old file is untouched, and nothing is left behind beside it.
pub fn write_whole(path: &Path, contents: &[u8]) -> Result<(), CallError> {
    let directory = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut name = std::ffi::OsString::from(".");
    name.push(path.file_name().unwrap_or_default());
    name.push(format!(".{}.part", std::process::id()));
    let aside = directory.join(name);
    let written = write_new(&aside, contents)
        .and_then(|()| std::fs::rename(&aside, path).map_err(CallError::on(Op::Rename, path)))
        .and_then(|()| sync_directory(directory));
    if written.is_err() {
        let _ = std::fs::remove_file(&aside); // its own part file; there may be none
    }
    written
}

fn write_new(aside: &Path, contents: &[u8]) -> Result<(), CallError> {
    let mut file = OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .custom_flags(rustix::fs::OFlags::NOFOLLOW.bits() as i32)
        .open(aside)
        .map_err(CallError::on(Op::Create, aside))?;
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
