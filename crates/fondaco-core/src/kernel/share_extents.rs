//! Letting two files with the same bytes share their blocks (`ioctl_fideduperange(2)`).

use std::io;
use std::os::fd::{AsFd, AsRawFd};

use super::extents::{BlocksShared, blocks_shared};
use super::ioctl::{both_ways, call, put, u32_at, u64_at};

/// Length of `struct file_dedupe_range` without what follows it.
const HEAD: usize = 24;
/// Length of `struct file_dedupe_range_info`, which follows for each destination.
const INFO: usize = 32;
const FIDEDUPERANGE: u32 = both_ways(0x94, 54, HEAD);
/// `FILE_DEDUPE_RANGE_DIFFERS` of `linux/fs.h`.
const DIFFERS: u32 = 1;
/// At most so many bytes are asked for at once: some file systems take no more.
const STEP: u64 = 16 << 20;

/// What came of sharing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ShareOutcome {
    /// All bytes lie in blocks of the other file now.
    Shared,
    /// The kernel found the files different.
    Differs,
}

/// Makes `copy` use the blocks of `kept` for its first `size` bytes. The kernel locks both files and compares them itself;
/// what it has not found equal stays as it is. Contents, owners and times of both stay as they are in any case. `shared` tells
/// how many bytes share blocks, also if it ends with an error.
///
/// # Errors
///
/// As `ioctl_fideduperange(2)`: `EOPNOTSUPP` where files cannot share, `EXDEV` on different file systems, `EPERM` for a
/// file of another user, `EINVAL` for files that are too small to have blocks of their own.
pub fn share_extents(
    kept: impl AsFd,
    copy: impl AsFd,
    size: u64,
    shared: &mut u64,
) -> io::Result<ShareOutcome> {
    while *shared < size {
        let length = STEP.min(size - *shared);
        match share_range(&kept, &copy, *shared, length)? {
            None => return Ok(ShareOutcome::Differs),
            Some(0) => return Err(io::Error::other("the file system shares nothing of it")),
            Some(more) => *shared += more.min(length),
        }
    }
    Ok(ShareOutcome::Shared)
}

/// Asks whether the file system of two files can make them share blocks at all. Changes nothing.
///
/// # Errors
///
/// As [`share_extents`]. What keeps its contents in the inode is `EINVAL`.
pub fn can_share(kept: impl AsFd, copy: impl AsFd) -> io::Result<()> {
    share_range(&kept, &copy, 0, 0)?;
    // btrfs keeps small contents in its trees, where nothing can be shared; others give each file a block
    let is_btrfs = blocks_shared(&copy) == BlocksShared::Counted;
    let size = rustix::fs::fstat(&copy)?.st_size;
    if is_btrfs && size < 4096 && super::extents(&copy)?.is_empty() {
        return Err(rustix::io::Errno::INVAL.into());
    }
    Ok(())
}

/// How many bytes of a range are shared now; `None` if they differ.
fn share_range(kept: impl AsFd, copy: impl AsFd, at: u64, length: u64) -> io::Result<Option<u64>> {
    let mut buffer = [0u8; HEAD + INFO];
    put(&mut buffer, 0, at);
    put(&mut buffer, 8, length);
    // one destination, in 16 bits that are followed by zeros
    buffer[16..18].copy_from_slice(&1u16.to_ne_bytes());
    put(&mut buffer, HEAD, copy.as_fd().as_raw_fd() as u64);
    put(&mut buffer, HEAD + 8, at);
    call(&kept, FIDEDUPERANGE, &mut buffer, HEAD + INFO)?;
    match u32_at(&buffer, HEAD + 24) {
        0 => Ok(Some(u64_at(&buffer, HEAD + 16))),
        DIFFERS => Ok(None),
        error => Err(io::Error::from_raw_os_error((error as i32).wrapping_neg())),
    }
}
