//! What tells one file system from another, by what it carries itself: its device number is another one after the
//! next start.

use std::io;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::ioctl;

/// Identity of a file system that stays the same over a new mount.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileSystemId {
    /// Its UUID, in hexadecimal (`FS_IOC_GETFSUUID` of `linux/fs.h`).
    Uuid(String),
    /// What it says of itself where no UUID is to be had (`f_fsid` in `statfs(2)`), in hexadecimal.
    Fsid(String),
    /// It says nothing: nothing but its type and its place is known.
    Unknown,
}

/// Length of `struct fsuuid2`: how many bytes the UUID has, and room for 16.
const UUID_BUFFER: usize = 17;

/// Which file system holds a directory.
///
/// # Errors
///
/// As `open(2)` and `fstatfs(2)`.
pub fn file_system_id(directory: &Path) -> io::Result<FileSystemId> {
    let open = super::open_root(directory)?;
    let mut buffer = [0u8; UUID_BUFFER];
    let number = ioctl::gives(0x15, 0, UUID_BUFFER);
    if ioctl::call(&open, number, &mut buffer, UUID_BUFFER).is_ok() {
        let length = usize::from(buffer[0]).min(UUID_BUFFER - 1);
        // images that were made without one have zeros
        if buffer[1..=length].iter().any(|byte| *byte != 0) {
            return Ok(FileSystemId::Uuid(hexadecimal(&buffer[1..=length])));
        }
    }
    // kernels before 6.9 do not know the call, and some file systems have no UUID
    let fsid = fsid(&open)?;
    Ok(match fsid {
        0 => FileSystemId::Unknown,
        fsid => FileSystemId::Fsid(format!("{fsid:016x}")),
    })
}

fn fsid(open: &std::os::fd::OwnedFd) -> io::Result<u64> {
    Ok(rustix::fs::fstatvfs(open)?.f_fsid)
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
