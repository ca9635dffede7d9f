//! Comparing what is about to go with the copy that stays, byte by byte. Both are held open, and kept still by leases where
//! those are to be had, until the target is gone.

use std::collections::hash_map::Entry;
use std::ffi::OsStr;
use std::fs::File;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::FileExt;
use std::path::Path;

use super::batch::TakenTarget;
use super::check::kept_copy;
use super::execute::Run;
use crate::kernel::{self, CallError, Lease, NoLease, Op};
use crate::plan::{Refusal, Target};

/// A copy that stays, open.
#[derive(Debug)]
pub(super) enum KeptCopy {
    /// Nobody writes to it as long as this is held.
    Leased(Lease),
    /// Leases are not to be had.
    Open(OwnedFd),
}

impl KeptCopy {
    pub(super) fn fd(&self) -> &OwnedFd {
        match self {
            Self::Leased(lease) => lease.file(),
            Self::Open(fd) => fd,
        }
    }
}

impl Run<'_> {
    /// Makes sure that a target, which lies in `directory` as `name`, and the copy that must stay hold the same bytes.
    pub(super) fn compare_with_copy(
        &mut self,
        one: &TakenTarget,
        directory: BorrowedFd<'_>,
        name: &OsStr,
    ) -> Result<(), Refusal> {
        let Some(copy) = self.entries[one.at].action.stays.clone() else { return Ok(()) };
        let path = self.entries[one.at].action.target.path.0.clone();
        let key = (copy.device, copy.inode);
        if let Entry::Vacant(place) = self.kept_copies.entry(key) {
            let file = kept_copy(&path, &copy)?;
            place.insert(match Lease::take_shared(file.into()) {
                Ok(lease) => KeptCopy::Leased(lease),
                Err((fd, NoLease::Unavailable(_))) => KeptCopy::Open(fd),
                Err((_, NoLease::InUse)) => {
                    return Err(no_copy(&path, &copy, "is being written to"));
                }
            });
        }
        let open = self.open_target(one, directory, name)?;
        let kept = &self.kept_copies[&key];
        if !are_equal(&open, kept.fd(), &path, &copy)? {
            return Err(no_copy(&path, &copy, "does not hold the same"));
        }
        self.copy_still_stands(one)
    }

    /// A descriptor of a target that lies in `directory` as `name`.
    pub(super) fn open_target(
        &self,
        one: &TakenTarget,
        directory: BorrowedFd<'_>,
        name: &OsStr,
    ) -> Result<File, Refusal> {
        let before = one.stat();
        let open = match self.leases.of(before.dev, before.ino) {
            // opening it once more would break the lease
            Some(lease) => lease.file().try_clone().map(File::from),
            None => kernel::open_file(directory, name),
        };
        let path = &self.entries[one.at].action.target.path.0;
        Ok(open.map_err(CallError::on(Op::Open, path))?)
    }

    /// Makes sure that nobody has written to the copy since it was compared, or waits to do so.
    pub(super) fn copy_still_stands(&self, one: &TakenTarget) -> Result<(), Refusal> {
        let action = &self.entries[one.at].action;
        let Some(copy) = &action.stays else { return Ok(()) };
        let path = &action.target.path.0;
        let Some(kept) = self.kept_copies.get(&(copy.device, copy.inode)) else {
            return Err(no_copy(path, copy, "has not been compared"));
        };
        let examine = CallError::on(Op::Examine, &copy.path.0);
        let stat = kernel::stat_descriptor(kept.fd()).map_err(examine)?;
        if stat.links == 0 {
            return Err(no_copy(path, copy, "has been removed"));
        }
        if let Some(difference) = copy.contents_difference(&stat) {
            return Err(no_copy(path, copy, &format!("has changed: {difference}")));
        }
        if let KeptCopy::Leased(lease) = kept
            && !lease.is_unbroken().map_err(CallError::on(Op::Examine, &copy.path.0))?
        {
            return Err(no_copy(path, copy, "is about to be written to"));
        }
        Ok(())
    }
}

fn no_copy(path: &Path, copy: &Target, reason: &str) -> Refusal {
    Refusal::NoCopy { path: path.to_owned(), copy: copy.path.0.clone(), reason: reason.to_owned() }
}

/// Whether two files hold the same bytes.
pub(super) fn are_equal(
    target: &File,
    kept: &OwnedFd,
    path: &Path,
    copy: &Target,
) -> Result<bool, CallError> {
    let kept = File::from(kept.try_clone().map_err(CallError::on(Op::Open, &copy.path.0))?);
    for file in [target.as_fd(), kept.as_fd()] {
        // only advice
        let _ = rustix::fs::fadvise(file, 0, None, rustix::fs::Advice::Sequential);
    }
    let (mut one, mut other) = (vec![0; 256 * 1024], vec![0; 256 * 1024]);
    let mut at = 0;
    loop {
        let got = target.read_at(&mut one, at).map_err(CallError::on(Op::Read, path))?;
        if got == 0 {
            // the lengths are those of the records, which are compared by themselves
            let more = kept.read_at(&mut other[..1], at);
            return Ok(more.map_err(CallError::on(Op::Read, &copy.path.0))? == 0);
        }
        match kept.read_exact_at(&mut other[..got], at) {
            Ok(()) if one[..got] == other[..got] => at += got as u64,
            Ok(()) => return Ok(false),
            Err(error) if error.kind() == std::io::ErrorKind::UnexpectedEof => return Ok(false),
            Err(error) => return Err(CallError::on(Op::Read, &copy.path.0)(error)),
        }
    }
}
