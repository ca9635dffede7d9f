//! `ioctl(2)` on a buffer of bytes, and reading numbers out of what the kernel wrote there.

use std::io;
use std::os::fd::{AsFd, AsRawFd};

/// The number of a call that passes `size` bytes both ways (`linux/ioctl.h`, `_IOWR`).
pub(super) const fn both_ways(group: u8, number: u8, size: usize) -> u32 {
    3 << 30 | (size as u32) << 16 | (group as u32) << 8 | number as u32
}

/// The number of a call that gives `size` bytes (`_IOR`).
pub(super) const fn gives(group: u8, number: u8, size: usize) -> u32 {
    2 << 30 | (size as u32) << 16 | (group as u32) << 8 | number as u32
}

/// Passes a buffer to a call. `reach` is how many bytes of it the kernel may write at most: the size in
/// the call's number, and what the buffer itself says that follows it.
pub(super) fn call(fd: impl AsFd, number: u32, buffer: &mut [u8], reach: usize) -> io::Result<()> {
    assert!(buffer.len() >= reach, "the kernel is never told of more room than there is");
    // the number's type depends on the C library
    #[allow(clippy::cast_lossless)]
    let number = number as libc::Ioctl;
    // SAFETY: the kernel writes at most `reach` bytes, which lie within the buffer, and keeps no pointer.
    let result = unsafe { libc::ioctl(fd.as_fd().as_raw_fd(), number, buffer.as_mut_ptr()) };
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// The number at a place of a buffer, in the machine's order; 0 beyond its end.
pub(super) fn u64_at(buffer: &[u8], at: usize) -> u64 {
    let bytes = buffer.get(at..at + 8).and_then(|bytes| bytes.try_into().ok());
    u64::from_ne_bytes(bytes.unwrap_or_default())
}

/// As [`u64_at`], of four bytes.
pub(super) fn u32_at(buffer: &[u8], at: usize) -> u32 {
    let bytes = buffer.get(at..at + 4).and_then(|bytes| bytes.try_into().ok());
    u32::from_ne_bytes(bytes.unwrap_or_default())
}

/// Writes a number into a buffer.
pub(super) fn put(buffer: &mut [u8], at: usize, number: u64) {
    buffer[at..at + 8].copy_from_slice(&number.to_ne_bytes());
}

/// As [`put`], of four bytes.
pub(super) fn put_u32(buffer: &mut [u8], at: usize, number: u32) {
    buffer[at..at + 4].copy_from_slice(&number.to_ne_bytes());
}
