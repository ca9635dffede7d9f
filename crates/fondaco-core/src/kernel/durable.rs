//! Writing a file so that it is there whole, or not at all.

use std::fs::{File, OpenOptions};
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rustix::fs::{CWD, RenameFlags};
use rustix::io::Errno;
use rustix::process::{Pid, test_kill_process};

use super::beneath::{CallError, Op};

/// Writes a file aside, syncs it, gives it its name and syncs the directory. What had the name
/// before is replaced in one step. Only its owner may read it.
///
/// # Errors
///
/// [`CallError`]; then the old file is untouched, and nothing is left behind beside it.
pub fn write_whole(path: &Path, contents: &[u8]) -> Result<(), CallError> {
    let mut aside = Aside::create(path)?;
    aside.file.write_all(contents).map_err(CallError::on(Op::Write, path))?;
    aside.name(path, RenameFlags::empty())
}

/// As [`write_whole`], but everybody may read it: for what other programs collect.
///
/// # Errors
///
/// As [`write_whole`].
pub fn write_readable(path: &Path, contents: &[u8]) -> Result<(), CallError> {
    let mut aside = Aside::create(path)?;
    aside.file.write_all(contents).map_err(CallError::on(Op::Write, path))?;
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o644);
    aside.file.set_permissions(mode).map_err(CallError::on(Op::Write, path))?;
    aside.name(path, RenameFlags::empty())
}

/// A file that has no name yet but one of its own beside the wanted one. Dropped, it is gone.
#[derive(Debug)]
pub struct Aside {
    /// To be written to.
    pub file: File,
    path: PathBuf,
    named: bool,
}

impl Aside {
    /// A new file beside `path`, readable by its owner only. What somebody put in its place is never
    /// written to.
    ///
    /// # Errors
    ///
    /// [`CallError`].
    pub fn create(path: &Path) -> Result<Self, CallError> {
        let mut tries = 0;
        loop {
            let mut name = std::ffi::OsString::from(".");
            name.push(path.file_name().unwrap_or_default());
            name.push(format!(".{}-{tries}.part", std::process::id()));
            let aside = directory_of(path).join(name);
            match OpenOptions::new().write(true).create_new(true).mode(0o600).open(&aside) {
                Ok(file) => return Ok(Self { file, path: aside, named: false }),
                Err(error) if error.kind() == ErrorKind::AlreadyExists && tries < 100 => tries += 1,
                Err(error) => return Err(CallError::on(Op::Create, path)(error)),
            }
        }
    }

    /// Where it is until it has its name.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Syncs it, gives it its name and syncs the directory. Gives itself back, and leaves all as it was,
    /// if the name is taken already.
    ///
    /// # Errors
    ///
    /// [`CallError`]; then nothing is left behind.
    pub fn name_if_free(mut self, path: &Path) -> Result<Option<Self>, CallError> {
        match self.name(path, RenameFlags::NOREPLACE) {
            Err(error) if error.source.kind() == ErrorKind::AlreadyExists => Ok(Some(self)),
            named => named.map(|()| None),
        }
    }

    /// Syncs it, gives it its name in place of what has that, in one step, and syncs the directory.
    ///
    /// # Errors
    ///
    /// [`CallError`]; then the old file is untouched.
    pub fn replace(mut self, path: &Path) -> Result<(), CallError> {
        self.name(path, RenameFlags::empty())
    }

    fn name(&mut self, path: &Path, flags: RenameFlags) -> Result<(), CallError> {
        self.file.sync_all().map_err(CallError::on(Op::Sync, &self.path))?;
        rustix::fs::renameat_with(CWD, &self.path, CWD, path, flags)
            .map_err(CallError::on(Op::Rename, path))?;
        self.named = true;
        sync_directory(directory_of(path))
    }
}

impl Drop for Aside {
    fn drop(&mut self) {
        // once it has its name, another may have the one it had
        if !self.named {
            let _ = std::fs::remove_file(&self.path);
        }
    }
}

/// Removes what processes that have ended since left in a directory of ours in place of an [`Aside`]: they were
/// killed while they wrote. What has been written to within the hour stays, for its writer may be one that we
/// cannot see (`pid_namespaces(7)`), and so does what cannot be removed.
pub fn remove_abandoned(directory: &Path) {
    let writer = |name: &str| -> Option<Pid> {
        let (_, writer) = name.strip_prefix('.')?.strip_suffix(".part")?.rsplit_once('.')?;
        Pid::from_raw(writer.split_once('-')?.0.parse().ok()?)
    };
    for name in super::names_in(directory).unwrap_or_default() {
        let Some(writer) = name.to_str().and_then(writer) else { continue };
        let path = directory.join(&name);
        let written = path.symlink_metadata().and_then(|meta| meta.modified());
        let age = written.ok().and_then(|written| written.elapsed().ok()).unwrap_or_default();
        if age > Duration::from_secs(3600) && test_kill_process(writer) == Err(Errno::SRCH) {
            let _ = std::fs::remove_file(path);
        }
    }
}

fn directory_of(path: &Path) -> &Path {
    path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
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
