//! Restoring what an archive holds into another place than the one that it came from: also where journal and originals are
//! lost, or on another machine.

use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

use rustix::fs::AtFlags;

use super::holding::clear_attempt;
use crate::archive::{DepotError, OpenArchive};
use crate::kernel::{self, CallError, Op, PrivateDir};
use crate::plan::Refusal;
use crate::shown::Shown;

/// Restores the target of one action of an archive into a directory, under the name that it had; only its part of the
/// archive is read. Whatever has the name stays. Gives where it is now.
///
/// # Errors
///
/// [`Refusal`]: something has the name, the archive is not what its index says, or the kernel refused. Nothing of the target
/// is left in the directory then, or it is said where.
pub fn restore_into(
    archive: &OpenArchive,
    action: u32,
    original: &Path,
    directory: &Path,
) -> Result<PathBuf, Refusal> {
    let name = original.file_name().unwrap_or(OsStr::new("root"));
    let wanted = directory.join(name);
    let open = kernel::open_root(directory).map_err(CallError::on(Op::OpenDirectory, directory))?;
    match kernel::stat_at(&open, name) {
        Ok(_) => return Err(Refusal::Occupied(wanted)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
        Err(error) => return Err(CallError::on(Op::Examine, wanted)(error).into()),
    }
    let id = kernel::random_id().map_err(CallError::on(Op::Read, "getrandom(2)"))?;
    let private = OsString::from(format!(".fondaco-restore-{}", id.get(..16).unwrap_or(&id)));
    let place = directory.join(&private);
    let area = PrivateDir::create(&open, &private, place.clone())?;
    let held = OsStr::new("restored");
    let not_held = |error: DepotError| Refusal::NotHeld {
        path: original.to_owned(),
        reason: error.to_string(),
    };
    let restored = archive.unpack(action, &area, held).map_err(not_held).and_then(|_| {
        area.give(held, &open, name).map_err(|error| match error.kind() {
            std::io::ErrorKind::AlreadyExists => Refusal::Occupied(wanted.clone()),
            _ => CallError::on(Op::Rename, &wanted)(error).into(),
        })
    });
    // what was unpacked of a target that was not given its place is a copy: the archive has it still
    let cleared = if restored.is_err() { clear_attempt(&area, held) } else { Ok(()) };
    let removed = cleared.and_then(|()| {
        let removed = rustix::fs::unlinkat(&open, &private, AtFlags::REMOVEDIR);
        Ok(removed.map_err(CallError::on(Op::Remove, &place))?)
    });
    match (restored, removed) {
        (Ok(()), Ok(())) => {
            rustix::fs::fsync(&open).map_err(CallError::on(Op::Sync, directory))?;
            Ok(wanted)
        }
        (Err(refusal), Ok(())) => Err(refusal),
        (Ok(()), Err(left)) => {
            let reason = format!("it is restored, but {} is left: {left}", Shown(&place));
            Err(Refusal::Hopeless { path: wanted, reason })
        }
        (Err(refusal), Err(left)) => {
            let reason =
                format!("{refusal}; what was restored by then is in {}: {left}", Shown(&place));
            Err(Refusal::Hopeless { path: wanted, reason })
        }
    }
}
