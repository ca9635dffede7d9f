//! Exchanging a file with one in the private directory, in one step and with a look at both sides afterwards.

use std::ffi::OsStr;
use std::path::Path;

use crate::kernel::{CallError, Kind, Op, PrivateDir, Stat};
use crate::plan::{Located, Refusal};

/// Exchanges what lies in the private directory under `held` with what stands in a place, which must be the inode
/// `expected`. If it is another one by then, the exchange is undone.
///
/// # Errors
///
/// [`Refusal`]; [`Refusal::Stranded`] if it could not be undone.
pub(super) fn exchange(
    area: &PrivateDir,
    held: &OsStr,
    path: &Path,
    located: &Located,
    expected: &Stat,
) -> Result<(), Refusal> {
    let rename_error = |error| match error {
        // EINVAL: the file system cannot do it
        error if std::io::Error::kind(&error) == std::io::ErrorKind::InvalidInput => {
            let reason = "its file system cannot exchange two names in one step".to_owned();
            Refusal::Hopeless { path: path.to_owned(), reason }
        }
        error => CallError::on(Op::Rename, path)(error).into(),
    };
    area.exchange(held, &located.parent, &located.name).map_err(rename_error)?;
    let taken = area.stat(held);
    let is_expected = |taken: &Stat| (taken.dev, taken.ino) == (expected.dev, expected.ino);
    if taken.as_ref().is_ok_and(|taken| taken.as_ref().is_some_and(is_expected)) {
        return Ok(());
    }
    // what cannot be looked at is not taken either
    if area.exchange(held, &located.parent, &located.name).is_err() {
        return Err(Refusal::Stranded { path: path.to_owned(), held: area.path().join(held) });
    }
    taken?;
    let difference = "another entry came to its place".to_owned();
    Err(Refusal::Changed { path: path.to_owned(), difference })
}

/// Removes a name in the private directory that is one more name of an inode which stays elsewhere. Any other inode is
/// left where it is.
///
/// # Errors
///
/// [`Refusal`].
pub(super) fn drop_other_name(area: &PrivateDir, held: &OsStr, inode: u64) -> Result<(), Refusal> {
    let path = area.path().join(held);
    match area.stat(held)? {
        None => Ok(()),
        Some(stat) if stat.ino == inode && stat.kind == Kind::File && stat.links > 1 => {
            let flags = rustix::fs::AtFlags::empty();
            rustix::fs::unlinkat(area.fd(), held, flags)
                .map_err(CallError::on(Op::Remove, &path))?;
            Ok(())
        }
        Some(_) => Err(Refusal::Stranded { path: path.clone(), held: path }),
    }
}
