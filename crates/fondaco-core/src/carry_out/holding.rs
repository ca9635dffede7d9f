//! Where a run keeps what it has taken away: a private directory on the target's own volume.

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::os::fd::{AsFd, BorrowedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD};

use super::batch::refusal_of;
use crate::analysis::HOLDING_AREA_PREFIX;
use crate::kernel::{
    self, CallError, Leases, Op, OwnChanges, PrivateDir, Removal, Stat, Strictness,
};
use crate::plan::{Located, Refusal, Touched, list_at, locate};
use crate::shown::Shown;
use crate::state::State;

/// The private directories of one run, at most one on each volume, opened as they are needed.
#[derive(Debug)]
pub(super) struct Areas<'a> {
    state: &'a State,
    token: &'a str,
    /// Whether directories of this token may be there already.
    may_exist: bool,
    open: HashMap<PathBuf, Arc<PrivateDir>>,
    /// The directory of the target that was asked for last, and where the area is for what lies in it.
    last: Option<(PathBuf, PathBuf)>,
}

impl<'a> Areas<'a> {
    /// The sets of a run that begins: nothing of its token may be there.
    pub(super) fn of_new_run(state: &'a State, token: &'a str) -> Self {
        Self { state, token, may_exist: false, open: HashMap::new(), last: None }
    }

    /// The sets of a run that was begun earlier.
    pub(super) fn of_run(state: &'a State, token: &'a str) -> Self {
        Self { state, token, may_exist: true, open: HashMap::new(), last: None }
    }

    /// Where the run's private directory on the volume of a target is, or will be.
    pub(super) fn path_for(&mut self, path: &Path, located: &Located) -> Result<PathBuf, Refusal> {
        let directory = path.parent().unwrap_or(path);
        if let Some((last, area)) = &self.last
            && last == directory
        {
            return Ok(area.clone());
        }
        let area = area_root(path, located, self.state)?.join(area_name()).join(self.token);
        self.last = Some((directory.to_owned(), area.clone()));
        Ok(area)
    }

    /// As [`Areas::at`], for the area of [`path_for`](Self::path_for).
    pub(super) fn of(
        &mut self,
        path: &Path,
        located: &Located,
    ) -> Result<Arc<PrivateDir>, Refusal> {
        let area = self.path_for(path, located)?;
        self.at(&area)
    }

    /// The run's private directory at a path that [`path_for`](Self::path_for) gave, made if it is missing.
    ///
    /// It is not looked for again: an answer that has changed meanwhile would leave the journal naming another place
    /// than the one that holds the entry.
    pub(super) fn at(&mut self, path: &Path) -> Result<Arc<PrivateDir>, Refusal> {
        if let Some(area) = self.open.get(path) {
            return Ok(Arc::clone(area));
        }
        let outer = path.parent().and_then(|outer| Some((outer, outer.parent()?)));
        let (Some((outer, root)), Some(token)) = (outer, path.file_name()) else {
            return Err(Refusal::Gone(path.to_owned()));
        };
        let parent = kernel::open_root(root).map_err(CallError::on(Op::OpenDirectory, root))?;
        let area = keeping_times(parent.as_fd(), || {
            PrivateDir::open(&parent, &area_name(), outer.to_owned())
        })?;
        self.state.remember(&[], &[outer.to_owned()])?;
        let make = if self.may_exist { PrivateDir::open } else { PrivateDir::create };
        let run = Arc::new(make(area.fd(), token, path.to_owned())?);
        self.open.insert(path.to_owned(), Arc::clone(&run));
        Ok(run)
    }

    /// All that have been opened.
    pub(super) fn all(&self) -> impl Iterator<Item = Arc<PrivateDir>> {
        self.open.values().cloned()
    }

    /// Makes what was moved in or removed durable.
    pub(super) fn sync(&self) -> Result<(), CallError> {
        self.open.values().try_for_each(|area| area.sync())
    }

    /// Removes the private directories that hold nothing.
    pub(super) fn remove_empty(&self) {
        for area in self.open.values() {
            remove_if_empty(area.path());
        }
    }
}

/// Private directories of earlier runs, each opened again once.
#[derive(Default)]
pub(super) struct Reopened(HashMap<PathBuf, Arc<PrivateDir>>);

impl Reopened {
    /// The private directory at a path: as [`reopen`], but only once for each path.
    pub(super) fn at(&mut self, path: &Path) -> Result<Arc<PrivateDir>, Refusal> {
        if let Some(area) = self.0.get(path) {
            return Ok(Arc::clone(area));
        }
        let area = Arc::new(reopen(path)?);
        self.0.insert(path.to_owned(), Arc::clone(&area));
        Ok(area)
    }

    /// Makes what was moved in or removed durable.
    pub(super) fn sync(&self) -> Result<(), CallError> {
        self.0.values().try_for_each(|area| area.sync())
    }
}

/// Removes what an attempt to unpack or copy has left in a private directory, if anything.
pub(super) fn clear_attempt(area: &PrivateDir, held: &OsStr) -> Result<(), Refusal> {
    if area.stat(held)?.is_none() {
        return Ok(());
    }
    let path = area.path().join(held);
    let here = area.fd().as_fd();
    let (_, inventory) = list_at(here, held, &path, &Touched::default(), &mut |_| Ok(()))?;
    let mut removal = Removal {
        inventory: &inventory,
        strictness: Strictness::Exact,
        leases: &Leases::default(),
        is_unused: false,
        path: &path,
        own: &mut OwnChanges::default(),
        gone: &mut |_, _| {},
    };
    area.remove(held, &mut removal).map_err(refusal_of)
}

/// Opens a run's private directory again, by the path that the journal has.
pub(super) fn reopen(path: &Path) -> Result<PrivateDir, Refusal> {
    let (Some(outer), Some(token)) = (path.parent(), path.file_name()) else {
        return Err(Refusal::Gone(path.to_owned()));
    };
    let gone = |error: CallError| match error.source.kind() {
        std::io::ErrorKind::NotFound => Refusal::Gone(path.to_owned()),
        _ => Refusal::Call(error),
    };
    let located = locate(outer)?;
    let area = PrivateDir::open_existing(&located.parent, &located.name, outer.to_owned());
    PrivateDir::open_existing(area.map_err(gone)?.fd(), token, path.to_owned()).map_err(gone)
}

/// Removes a run's private directory and the holding area around it, if nothing is in them.
pub(super) fn remove_if_empty(path: &Path) {
    let remove = |path: &Path| rustix::fs::unlinkat(CWD, path, AtFlags::REMOVEDIR).is_ok();
    let Some(outer) = path.parent() else { return };
    // not empty is the usual answer, and the right one
    if remove(path)
        && let Some(root) = outer.parent()
        && let Ok(root) = kernel::open_root(root)
    {
        keeping_times(root.as_fd(), || remove(outer));
    }
}

/// Makes or removes a holding area in a directory of the user's, whose times stay as they were: a
/// holding area is not a change of what the directory is for.
fn keeping_times<T>(directory: BorrowedFd<'_>, act: impl FnOnce() -> T) -> T {
    let before = directory_times(directory);
    let outcome = act();
    if let Some((read, written)) = before
        && directory_times(directory) != before
    {
        // a directory's times are not worth failing for
        let _ = rustix::fs::futimens(directory, &crate::archive::times(read, written));
    }
    outcome
}

/// The name of this user's holding area.
fn area_name() -> OsString {
    format!("{HOLDING_AREA_PREFIX}{}", kernel::effective_user()).into()
}

/// The directory in which a target's holding area is, or would be made.
///
/// In this order: the root of its simulated volume; the state directory, if it lies on the same
/// mount; the root of the mount; the topmost directory above the target that belongs to this user.
pub(super) fn area_root(path: &Path, located: &Located, state: &State) -> Result<PathBuf, Refusal> {
    let examine = |path: &Path| kernel::stat_path(path).map_err(CallError::on(Op::Examine, path));
    let parent = kernel::stat_descriptor(located.parent.as_fd());
    let parent = parent.map_err(CallError::on(Op::Examine, path))?;
    let simulated =
        state.settings.simulated.iter().find(|v| path.starts_with(&v.path)).map(|v| &v.path);
    let mut candidates: Vec<PathBuf> = Vec::new();
    if let Some(simulated) = simulated {
        candidates.push(simulated.canonicalize().map_err(CallError::on(Op::Open, simulated))?);
    }
    candidates.push(state.directory().to_owned());
    let mut above: Vec<PathBuf> = path.ancestors().skip(1).map(Path::to_owned).collect();
    above.retain(|path| path.starts_with(&located.mount_point));
    candidates.extend(above.into_iter().rev());
    let mut tried = Vec::new();
    for candidate in candidates {
        let stat = match examine(&candidate) {
            Ok(stat) => stat,
            Err(error) => {
                tried.push(error.whole());
                continue;
            }
        };
        if (stat.dev, stat.mount) != (parent.dev, parent.mount) {
            continue;
        }
        match what_speaks_against(&candidate, &stat) {
            None => return Ok(candidate),
            Some(reason) => tried.push(reason),
        }
    }
    let reason = if tried.is_empty() {
        "no directory above it is on its volume".to_owned()
    } else {
        tried.dedup();
        format!("no directory there is safe from others: {}", tried.join("; "))
    };
    Err(Refusal::NoHoldingArea { path: path.to_owned(), reason })
}

/// Why a holding area cannot be made in a directory: not by us, or somebody could rename it, such as the owner of the
/// directory, or who may write to it or to a directory on the way to it.
fn what_speaks_against(path: &Path, stat: &Stat) -> Option<String> {
    let rights = rustix::fs::Access::WRITE_OK | rustix::fs::Access::EXEC_OK;
    let writable = rustix::fs::accessat(CWD, path, rights, AtFlags::EACCESS);
    if let Err(error) = writable.map_err(CallError::on(Op::Write, path)) {
        return Some(error.whole());
    }
    if stat.immutable || stat.append_only {
        return Some(format!("{} is marked immutable or append-only", Shown(path)));
    }
    match kernel::exposed_at(path).map_err(CallError::on(Op::Examine, path)) {
        Ok(None) => None,
        Ok(Some(at)) => Some(format!("others may change {}", Shown(at))),
        Err(error) => Some(error.whole()),
    }
}

/// When a directory was last read and written.
pub(super) fn directory_times(
    directory: BorrowedFd<'_>,
) -> Option<(crate::units::Time, crate::units::Time)> {
    kernel::stat_descriptor(directory).ok().map(|stat| (stat.atime, stat.mtime))
}
