//! Copying one file that is open into a private directory, with metadata of its own.

use std::ffi::OsStr;
use std::fs::File;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::FileExt;

use rustix::fs::{Mode, OFlags};

use super::Metadata;
use super::copy::hash_of;
use super::original::{ContentHash, stretches};
use crate::kernel::{self, CallError, Op, PrivateDir, open_beneath};
use crate::plan::Refusal;

/// Copies the contents of an open file, with their holes, to the new name `held` of a private directory, gives the copy
/// its metadata, brings it to the device, reads it back from there and compares. What the caller holds must keep the file
/// still meanwhile. What an error leaves at the name can be removed.
///
/// # Errors
///
/// [`Refusal::Call`], [`Refusal::Copy`].
pub(crate) fn copy_open_file(
    from: &OwnedFd,
    area: &PrivateDir,
    held: &OsStr,
    metadata: &Metadata,
) -> Result<(), Refusal> {
    let path = area.path().join(held);
    let read_error = |error: std::io::Error| CallError::on(Op::Read, &path)(error);
    let write_error = |error: std::io::Error| CallError::on(Op::Write, &path)(error);
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let copy = rustix::fs::openat(area.fd(), held, flags, Mode::RUSR | Mode::WUSR);
    let copy = File::from(copy.map_err(CallError::on(Op::Create, &path))?);
    let from = File::from(from.try_clone().map_err(CallError::on(Op::Open, &path))?);
    let size = kernel::stat_descriptor(&from).map_err(CallError::on(Op::Examine, &path))?.size;
    let mut hash = ContentHash::default();
    let mut buffer = vec![0; 256 * 1024];
    for (offset, length) in stretches(&from, size).map_err(read_error)? {
        hash.zeros_up_to(offset);
        let (mut at, end) = (offset, offset + length);
        while at < end {
            let most = (buffer.len() as u64).min(end - at) as usize;
            let got = from.read_at(&mut buffer[..most], at).map_err(read_error)?;
            if got == 0 {
                let difference = "it became shorter while it was read".to_owned();
                return Err(Refusal::Changed { path, difference });
            }
            hash.update(&buffer[..got]);
            copy.write_all_at(&buffer[..got], at).map_err(write_error)?;
            at += got as u64;
        }
    }
    hash.zeros_up_to(size);
    copy.set_len(size).map_err(write_error)?;
    let copy = OwnedFd::from(copy);
    metadata.give_to(&copy, &path)?;
    rustix::fs::fsync(copy.as_fd()).map_err(CallError::on(Op::Sync, &path))?;
    let again = open_beneath(area.fd(), held.as_ref(), OFlags::RDONLY | OFlags::NOATIME);
    let again = again.map_err(CallError::on(Op::Open, &path))?;
    if hash_of(File::from(again)).map_err(read_error)? != hash.finish() {
        let reason = "its copy does not hold the same".to_owned();
        return Err(Refusal::Copy { path, reason });
    }
    Ok(())
}
