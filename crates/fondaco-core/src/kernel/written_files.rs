//! Files that processes have open for writing, and how much a process has written.
//!
//! Source: `proc_pid_fd(5)`, `proc_pid_fdinfo(5)`, `proc_pid_io(5)`; `statx(2)`.

use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, StatxFlags};

use super::beneath::CallError;
use super::process::other_processes;
use super::read_dir::names_in;
use crate::units::Time;

/// A file that may be growing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GrowingFile {
    /// Number of its device.
    pub dev: u64,
    /// Number of its inode on that device.
    pub ino: u64,
    /// Its length in bytes.
    pub size: u64,
    /// Bytes on disk.
    pub allocated: u64,
    /// When it was made, if the file system knows.
    pub born: Option<Time>,
}

/// A file that a process has open for writing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrittenFile {
    /// The process that has it open.
    pub pid: u32,
    /// What the file is and how large it is.
    pub file: GrowingFile,
    /// Its path as the process sees it; with ` (deleted)` behind it if it has no name any more.
    pub path: PathBuf,
}

/// All files of a device that other processes have open for writing, and how many processes this user may not look into.
///
/// # Errors
///
/// [`CallError`] if the processes cannot be listed.
pub fn written_files(
    on_device: impl Fn(u64) -> bool,
) -> Result<(Vec<WrittenFile>, usize), CallError> {
    let (mut found, mut hidden) = (Vec::new(), 0);
    for (pid, home) in other_processes()? {
        match names_in(&home.join("fd")) {
            Ok(names) => {
                for name in names {
                    let link = home.join("fd").join(&name);
                    // a process or descriptor that has ended meanwhile writes nothing any more
                    let Ok(Some(file)) = growing_file(&link) else { continue };
                    let info = home.join("fdinfo").join(&name);
                    if on_device(file.dev) && is_for_writing(&info) {
                        let path = std::fs::read_link(&link).unwrap_or_default();
                        // meanwhile the number may have been given to another file, as shells do all the time
                        let is_it = |now: &GrowingFile| (now.dev, now.ino) == (file.dev, file.ino);
                        if growing_file(&link).ok().flatten().is_some_and(|now| is_it(&now)) {
                            found.push(WrittenFile { pid, file, path });
                        }
                    }
                }
            }
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => hidden += 1,
            Err(_) => {}
        }
    }
    Ok((found, hidden))
}

/// What `flags` of a descriptor say about how it was opened.
fn is_for_writing(info: &Path) -> bool {
    let text = std::fs::read_to_string(info).unwrap_or_default();
    let flags = text.lines().find_map(|line| line.strip_prefix("flags:"));
    let flags = flags.and_then(|flags| u32::from_str_radix(flags.trim(), 8).ok()).unwrap_or(0);
    flags & libc::O_ACCMODE as u32 != libc::O_RDONLY as u32
}

/// A regular file as it is now; nothing if it is something else.
///
/// # Errors
///
/// As `statx(2)`.
pub fn growing_file(path: &Path) -> io::Result<Option<GrowingFile>> {
    facts(CWD, path, AtFlags::STATX_DONT_SYNC)
}

/// As [`growing_file`], of an entry of an open directory; a link is not followed.
///
/// # Errors
///
/// As `statx(2)`.
pub fn growing_file_in(directory: impl AsFd, name: &Path) -> io::Result<Option<GrowingFile>> {
    facts(directory, name, AtFlags::STATX_DONT_SYNC | AtFlags::SYMLINK_NOFOLLOW)
}

fn facts(at: impl AsFd, path: &Path, flags: AtFlags) -> io::Result<Option<GrowingFile>> {
    let wanted = StatxFlags::TYPE
        | StatxFlags::INO
        | StatxFlags::SIZE
        | StatxFlags::BLOCKS
        | StatxFlags::BTIME;
    let found = rustix::fs::statx(at, path, flags, wanted)?;
    let is_file = u32::from(found.stx_mode) & libc::S_IFMT == libc::S_IFREG;
    let knows_birth = found.stx_mask & StatxFlags::BTIME.bits() != 0;
    Ok(is_file.then(|| GrowingFile {
        dev: rustix::fs::makedev(found.stx_dev_major, found.stx_dev_minor),
        ino: found.stx_ino,
        size: found.stx_size,
        allocated: found.stx_blocks.saturating_mul(512),
        born: knows_birth
            .then_some(Time { sec: found.stx_btime.tv_sec, nsec: found.stx_btime.tv_nsec }),
    }))
}

/// Bytes that a process has caused to be written, on all devices, without what was taken back before it was; nothing if this
/// user may not know.
pub fn written_by(pid: u32) -> Option<u64> {
    let text = std::fs::read_to_string(format!("/proc/{pid}/io")).ok()?;
    let number = |key: &str| {
        let line = text.lines().find_map(|line| line.strip_prefix(key))?;
        line.trim().parse::<u64>().ok()
    };
    Some(number("write_bytes:")?.saturating_sub(number("cancelled_write_bytes:")?))
}
