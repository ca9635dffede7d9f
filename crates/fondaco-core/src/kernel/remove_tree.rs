//! Removing what lies in a private directory, bottom up and by descriptor.

use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use rustix::fs::{AtFlags, Mode, OFlags};
use rustix::io::Errno;

use super::beneath::{CallError, Op, PrivateDir, open_directory};
use super::read_dir::DirReader;
use super::stat::{Kind, Stat, stat_at, stat_descriptor};

impl PrivateDir {
    /// Removes one entry with all that is below it, bottom up, by descriptor, without recursion.
    ///
    /// Calls `gone` with the facts about every inode whose name goes, as they were before, and for
    /// one that has other names, as they are after. Meant only for what has been checked after it
    /// was moved in here: nothing below is compared again, since nobody else can reach it, but
    /// other mounts are never entered and no link is followed.
    ///
    /// # Errors
    ///
    /// [`CallError`]; what was removed before stays removed, the rest is still there.
    pub fn remove(
        &self,
        held: &OsStr,
        gone: &mut dyn FnMut(&Stat, Option<&Stat>),
    ) -> Result<(), CallError> {
        let mut levels: Vec<Level> = Vec::new();
        let failed = |levels: &[Level], op, name: &OsStr, error: io::Error| {
            let mut path = levels.iter().fold(self.path().to_owned(), |p, l| p.join(&l.name));
            path.push(name);
            CallError::on(op, path)(error)
        };
        let top =
            stat_at(self.fd(), held).map_err(|error| failed(&levels, Op::Examine, held, error))?;
        if top.kind != Kind::Directory {
            return unlink_file(self.fd(), held, &top, gone)
                .map_err(|error| failed(&levels, Op::Remove, held, error));
        }
        let first = Level::open(self.fd(), held.to_owned(), top)
            .map_err(|error| failed(&levels, Op::OpenDirectory, held, error))?;
        levels.push(first);
        loop {
            let Some(level) = levels.last_mut() else { return Ok(()) };
            if let Some((name, stat)) = level.directories.pop() {
                let below = Level::open(&level.fd, name.clone(), stat)
                    .map_err(|error| failed(&levels, Op::OpenDirectory, &name, error))?;
                levels.push(below);
                continue;
            }
            while let Some((name, stat)) = level.files.pop() {
                if let Err(error) = unlink_file(&level.fd, &name, &stat, gone) {
                    return Err(failed(&levels, Op::Remove, &name, error));
                }
            }
            let Some(done) = levels.pop() else { return Ok(()) };
            let parent = levels.last().map_or(self.fd(), |up| &up.fd);
            unlink(parent, &done.name, AtFlags::REMOVEDIR)
                .map_err(|error| failed(&levels, Op::Remove, &done.name, error))?;
            gone(&done.stat, None);
        }
    }
}

/// One directory on the way down, with what is still to be removed in it.
struct Level {
    fd: OwnedFd,
    name: OsString,
    stat: Stat,
    directories: Vec<(OsString, Stat)>,
    files: Vec<(OsString, Stat)>,
}

impl Level {
    fn open(parent: impl AsFd, name: OsString, stat: Stat) -> io::Result<Self> {
        let fd = open_directory(parent, Path::new(&name))?;
        let here = stat_descriptor(&fd)?;
        if (here.dev, here.ino, here.mount) != (stat.dev, stat.ino, stat.mount) {
            return Err(Errno::XDEV.into());
        }
        let mut level = Self { fd, name, stat, directories: Vec::new(), files: Vec::new() };
        let mut trouble = None;
        DirReader::default().read(&level.fd, |entry| {
            let name = OsStr::from_bytes(entry.name.to_bytes()).to_owned();
            match stat_at(&level.fd, name.as_os_str()) {
                Ok(stat) if stat.mount != here.mount => trouble = Some(Errno::XDEV.into()),
                Ok(stat) if stat.kind == Kind::Directory => level.directories.push((name, stat)),
                Ok(stat) => level.files.push((name, stat)),
                Err(error) => trouble = Some(error),
            }
            trouble.is_none()
        })?;
        trouble.map_or(Ok(level), Err)
    }
}

fn unlink_file(
    parent: impl AsFd,
    name: &OsStr,
    stat: &Stat,
    gone: &mut dyn FnMut(&Stat, Option<&Stat>),
) -> io::Result<()> {
    if stat.links < 2 {
        unlink(parent, name, AtFlags::empty())?;
        gone(stat, None);
        return Ok(());
    }
    let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let kept = rustix::fs::openat(&parent, name, flags, Mode::empty())?;
    // another of its names may have gone since the directory was read
    let before = stat_descriptor(&kept)?;
    unlink(parent, name, AtFlags::empty())?;
    gone(&before, stat_descriptor(&kept).ok().as_ref());
    Ok(())
}

fn unlink(parent: impl AsFd, name: &OsStr, flags: AtFlags) -> io::Result<()> {
    Ok(rustix::fs::unlinkat(parent, name, flags)?)
}
