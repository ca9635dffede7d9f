//! Opening the directory that holds a target, without following links; for many targets of one directory once.

use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use super::Refusal;
use super::shared_extents::Sharing;
use crate::kernel::{self, CallError, Mount, Op, Stat};

/// A target's parent directory, opened safely.
#[derive(Clone, Debug)]
pub struct Located {
    /// The directory that holds it.
    pub parent: Arc<OwnedFd>,
    /// Its name there.
    pub name: OsString,
    /// The root of the mount that it lies on.
    pub mount_point: Arc<Path>,
}

/// Opens the directory that holds a target: from the root of its mount, beneath it, no links.
///
/// # Errors
///
/// [`Refusal::Gone`], [`Refusal::MountBelow`] for a mount's root, [`Refusal::Call`].
pub fn locate(path: &Path) -> Result<Located, Refusal> {
    Locator::default().locate(path)
}

/// Locates one target after the other. The directory of the last one stays open, and is used again as long as its path
/// still leads to it.
#[derive(Debug, Default)]
pub struct Locator {
    mounts: Vec<Mount>,
    last: Option<Last>,
    is_used: bool,
    /// For so long after it was asked where the path of a directory leads, that is not asked again.
    believes: Duration,
}

/// The directory of the target that was located last.
#[derive(Debug)]
struct Last {
    path: PathBuf,
    stat: Stat,
    parent: Arc<OwnedFd>,
    mount_point: Arc<Path>,
    /// When it was asked last whether the path leads there.
    asked: Instant,
    /// Once they were asked for.
    facts: Option<DirectoryFacts>,
}

impl Last {
    fn located(&self, name: &OsStr) -> Located {
        Located {
            parent: Arc::clone(&self.parent),
            name: name.to_owned(),
            mount_point: Arc::clone(&self.mount_point),
        }
    }
}

/// For so long a directory is believed to have its path, if many targets are looked at one after the other.
const MOMENT: Duration = Duration::from_millis(5);

/// What is asked of an open directory once for all targets in it.
#[derive(Clone, Copy, Debug)]
pub(super) struct DirectoryFacts {
    /// The number of the mount that it is on.
    pub(super) mount: u64,
    pub(super) sharing: Sharing,
}

impl Locator {
    /// One that knows what is mounted. What is not in this table is looked for anew.
    pub(crate) fn knowing(mounts: Vec<Mount>) -> Self {
        Self { mounts, ..Self::default() }
    }

    /// One for many targets that are looked at and left as they are: within a moment it is not asked again where the path
    /// of a directory leads.
    pub(super) fn for_a_look() -> Self {
        Self { believes: MOMENT, ..Self::default() }
    }

    /// As [`locate`].
    ///
    /// # Errors
    ///
    /// As [`locate`].
    pub fn locate(&mut self, path: &Path) -> Result<Located, Refusal> {
        self.is_used = true;
        let gone = |error: CallError| match error.source.kind() {
            io::ErrorKind::NotFound => Refusal::Gone(path.to_owned()),
            _ => Refusal::Call(error),
        };
        let split = kernel::directory_and_name(path);
        let directory = split.map_or(path, |(directory, _)| directory);
        if let (Some(last), Some((_, name))) = (&self.last, split)
            && last.path.as_os_str() == directory.as_os_str()
            && last.asked.elapsed() < self.believes
        {
            return Ok(last.located(name));
        }
        let now = kernel::stat_path(directory)
            .map_err(CallError::on(Op::Examine, directory))
            .map_err(gone)?;
        let is_last = |last: &&mut Last| {
            last.path.as_os_str() == directory.as_os_str()
                && (last.stat.dev, last.stat.ino, last.stat.mount) == (now.dev, now.ino, now.mount)
        };
        if let (Some(last), Some((_, name))) = (self.last.as_mut().filter(is_last), split) {
            last.asked = Instant::now();
            return Ok(last.located(name));
        }
        let is_on = |mount: &Mount| mount.id == now.mount && path.starts_with(&mount.mount_point);
        if !self.mounts.iter().any(is_on) {
            self.mounts =
                kernel::mounts().map_err(CallError::on(Op::Read, "/proc/self/mountinfo"))?;
        }
        let mount = self
            .mounts
            .iter()
            .find(|mount| is_on(mount))
            .or_else(|| kernel::mount_of(directory, &self.mounts))
            .ok_or_else(|| Refusal::Gone(path.to_owned()))?;
        if mount.mount_point == path {
            return Err(Refusal::MountBelow(path.to_owned()));
        }
        let (parent, name) = kernel::parent_of(&mount.mount_point, path).map_err(gone)?;
        let located = Located {
            parent: Arc::new(parent),
            name: name.to_owned(),
            mount_point: Arc::from(mount.mount_point.as_path()),
        };
        self.last = Some(Last {
            path: directory.to_owned(),
            stat: now,
            parent: Arc::clone(&located.parent),
            mount_point: Arc::clone(&located.mount_point),
            asked: Instant::now(),
            facts: None,
        });
        Ok(located)
    }

    /// What is to be known of the directory of a target that has just been located.
    ///
    /// # Errors
    ///
    /// As `statx(2)`.
    pub(super) fn directory_facts(&mut self, located: &Located) -> io::Result<DirectoryFacts> {
        let last = self.last.as_mut().filter(|last| Arc::ptr_eq(&last.parent, &located.parent));
        if let Some(Last { facts: Some(known), .. }) = &last {
            return Ok(*known);
        }
        let mount = kernel::stat_descriptor(&located.parent)?.mount;
        let facts = DirectoryFacts { mount, sharing: Sharing::of(&located.parent) };
        if let Some(last) = last {
            last.facts = Some(facts);
        }
        Ok(facts)
    }

    /// Forgets the directory of the last target and what is mounted, unless nothing has been located with it yet.
    pub fn forget(&mut self) {
        if self.is_used {
            *self = Self { believes: self.believes, ..Self::default() };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_directory_is_opened_again_when_another_one_has_its_path() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        let (tide, buoy) = (root.join("tide"), root.join("buoy"));
        for at in [&tide, &buoy] {
            std::fs::create_dir(at).unwrap();
            std::fs::write(at.join("a"), b"").unwrap();
        }
        let mut locator = Locator::default();
        let ino = |located: &Located| kernel::stat_descriptor(&located.parent).unwrap().ino;
        let first = locator.locate(&tide.join("a")).unwrap();
        let again = locator.locate(&tide.join("b")).unwrap();
        assert!(Arc::ptr_eq(&first.parent, &again.parent), "the same one");
        assert_eq!((first.name.as_os_str(), again.name.as_os_str()), ("a".as_ref(), "b".as_ref()));
        let mut looks = Locator::for_a_look();
        looks.locate(&tide.join("a")).unwrap();
        let moved = root.join("moved");
        std::fs::rename(&tide, &moved).unwrap();
        std::thread::sleep(MOMENT);
        assert!(matches!(looks.locate(&tide.join("a")), Err(Refusal::Gone(_))));
        assert!(matches!(locator.locate(&tide.join("a")), Err(Refusal::Gone(_))));
        std::fs::rename(&buoy, &tide).unwrap();
        let other = locator.locate(&tide.join("a")).unwrap();
        assert_ne!(ino(&other), ino(&first), "what has the path now");
        std::fs::remove_dir_all(&tide).unwrap();
        std::os::unix::fs::symlink(&moved, &tide).unwrap();
        assert!(locator.locate(&tide.join("a")).is_err(), "no link is followed");
    }
}
