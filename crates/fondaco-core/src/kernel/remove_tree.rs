//! Removing what lies in a private directory: exactly what an [`Inventory`] lists, bottom up and by descriptor.

use std::collections::HashMap;
use std::ffi::{CStr, CString, OsStr};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, Gid, Mode, OFlags, Uid};
use rustix::io::Errno;

use super::beneath::{CallError, Op, PrivateDir, open_directory};
use super::inventory::{Facts, Inventory, Strictness};
use super::lease::{Lease, Leases, NoLease};
use super::read_dir::DirReader;
use super::stat::{Kind, Stat, stat_at, stat_descriptor};
use crate::shown::Shown;

/// Why a removal was ended before all was gone. What is left is whole.
#[derive(Debug, thiserror::Error)]
pub enum RemovalError {
    /// Something lies in a directory that was not there when it was looked at.
    #[error("{} came in after it was reviewed", Shown(.0))]
    Unlisted(PathBuf),
    /// An entry is not what it was when it was looked at.
    #[error("{}: {difference} after it was reviewed", Shown(path))]
    Changed {
        /// Which.
        path: PathBuf,
        /// What is different.
        difference: &'static str,
    },
    /// A file has been opened.
    #[error("{} is in use", Shown(.0))]
    InUse(PathBuf),
    /// The kernel refused.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
    /// The list of what may go cannot be read.
    #[error("the list of what was reviewed cannot be read: {0}")]
    List(io::Error),
}

/// What is to be removed, and how it is told.
pub struct Removal<'a> {
    /// All that may go.
    pub inventory: &'a Inventory,
    /// How exactly it must fit.
    pub strictness: Strictness,
    /// Leases that are held already.
    pub leases: &'a Leases,
    /// The name that the target goes by in messages.
    pub path: &'a Path,
    /// What this program itself has made of inodes with several names; is kept up to date.
    pub own: &'a mut OwnChanges,
    /// Is told every inode whose name went, as it was before, and if it has other names, as it is after.
    pub gone: &'a mut dyn FnMut(&Stat, Option<&Stat>),
}

/// What inodes with several names are after this program has removed one of the names, which changes what the
/// others show.
#[derive(Debug, Default)]
pub struct OwnChanges(HashMap<(u64, u64), Facts>);

impl OwnChanges {
    fn note(&mut self, after: &Stat) {
        self.0.insert((after.dev, after.ino), Facts::of(after));
    }

    fn explain(&self, found: &Stat) -> bool {
        self.0.get(&(found.dev, found.ino)) == Some(&Facts::of(found))
    }
}

impl PrivateDir {
    /// Removes the entry `held` with all that the list has of it, and nothing else.
    ///
    /// Every entry is opened, held against the list and then unlinked. A regular file is kept still by a lease
    /// meanwhile where leases are to be had. Directories are closed to other users before they are emptied. Names
    /// that are gone already are passed over; other mounts are never entered and no link is followed.
    ///
    /// # Errors
    ///
    /// [`RemovalError`]; what was removed before stays removed, the rest is still there, and directories have
    /// their owners and modes again.
    pub fn remove(&self, held: &OsStr, removal: &mut Removal<'_>) -> Result<(), RemovalError> {
        let outcome = self.remove_listed(held, removal);
        if outcome.is_err() {
            // an error of its own would hide the one that matters
            let _ = self.open_up(held, removal.inventory);
        }
        outcome
    }

    fn remove_listed(&self, held: &OsStr, removal: &mut Removal<'_>) -> Result<(), RemovalError> {
        let held = c_name(held)?;
        let mut levels: Vec<Level> = Vec::new();
        // of a directory that is gone already all that it held is gone too
        let mut skipped = u32::MAX;
        for listed in removal.inventory.entries().map_err(RemovalError::List)? {
            let listed = listed.map_err(RemovalError::List)?;
            if listed.depth > skipped {
                continue;
            }
            skipped = u32::MAX;
            self.leave(&mut levels, listed.depth as usize, removal)?;
            if levels.len() != listed.depth as usize {
                let damage = io::Error::new(io::ErrorKind::InvalidData, "it has gaps");
                return Err(RemovalError::List(damage));
            }
            let (parent, name) = match levels.last() {
                Some(level) => (level.fd.as_fd(), listed.c_name()),
                None => (self.fd().as_fd(), held.as_c_str()),
            };
            if listed.facts.kind == Kind::Directory {
                match enter(parent, name, &listed.facts, removal, &levels)? {
                    Some(level) => levels.push(level),
                    None => skipped = listed.depth,
                }
            } else {
                remove_one(parent, name, &listed.facts, removal, &levels)?;
            }
        }
        self.leave(&mut levels, 0, removal)
    }

    /// Removes the directories on the way up to `depth`, of which all that was listed is gone.
    fn leave(
        &self,
        levels: &mut Vec<Level>,
        depth: usize,
        removal: &mut Removal<'_>,
    ) -> Result<(), RemovalError> {
        while levels.len() > depth {
            let Some(done) = levels.pop() else { return Ok(()) };
            let parent = levels.last().map_or(self.fd(), |up| &up.fd);
            match rustix::fs::unlinkat(parent, &done.name, AtFlags::REMOVEDIR) {
                Ok(()) => (removal.gone)(&done.stat, None),
                Err(Errno::NOENT) => {}
                Err(Errno::NOTEMPTY | Errno::EXIST) => {
                    let at = place(removal.path, levels, &done.name);
                    let name =
                        first_name(&done.fd).map_err(CallError::on(Op::ReadDirectory, &at))?;
                    return Err(RemovalError::Unlisted(at.join(name)));
                }
                Err(error) => {
                    let at = place(removal.path, levels, &done.name);
                    return Err(CallError::on(Op::Remove, at)(error).into());
                }
            }
        }
        Ok(())
    }

    /// Gives what is left of a target the owners and modes of its directories again.
    ///
    /// # Errors
    ///
    /// [`RemovalError`] for the first that cannot be given them.
    fn open_up(&self, held: &OsStr, inventory: &Inventory) -> Result<(), RemovalError> {
        let held = c_name(held)?;
        let mut levels: Vec<Level> = Vec::new();
        for listed in inventory.entries().map_err(RemovalError::List)? {
            let listed = listed.map_err(RemovalError::List)?;
            levels.truncate(listed.depth as usize);
            if listed.facts.kind != Kind::Directory || levels.len() != listed.depth as usize {
                continue;
            }
            let (parent, name) = match levels.last() {
                Some(level) => (level.fd.as_fd(), listed.c_name()),
                None => (self.fd().as_fd(), held.as_c_str()),
            };
            let call = |op| move |error: io::Error| CallError::on(op, self.path())(error);
            let fd = match open_directory(parent, name) {
                Ok(fd) => fd,
                Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
                Err(error) => return Err(call(Op::OpenDirectory)(error).into()),
            };
            let stat = stat_descriptor(&fd).map_err(call(Op::Examine))?;
            let then = &listed.facts;
            if (stat.dev, stat.ino) != (then.dev, then.ino) {
                continue;
            }
            if (stat.uid, stat.gid) != (then.uid, then.gid) {
                let (uid, gid) = (Uid::from_raw(then.uid), Gid::from_raw(then.gid));
                rustix::fs::fchown(&fd, Some(uid), Some(gid))
                    .map_err(|error| call(Op::SetOwner)(error.into()))?;
            }
            if stat.mode != then.mode {
                rustix::fs::fchmod(&fd, Mode::from_raw_mode(then.mode & 0o7777))
                    .map_err(|error| call(Op::SetMode)(error.into()))?;
            }
            levels.push(Level { fd, name: name.to_owned(), stat });
        }
        Ok(())
    }
}

/// One directory on the way down.
struct Level {
    fd: OwnedFd,
    name: CString,
    stat: Stat,
}

fn c_name(name: &OsStr) -> Result<CString, RemovalError> {
    CString::new(name.as_bytes()).map_err(|error| RemovalError::List(error.into()))
}

/// The path of an entry, for messages. The first level is the target itself.
fn place(target: &Path, levels: &[Level], name: &CStr) -> PathBuf {
    if levels.is_empty() {
        return target.to_owned();
    }
    let names = levels.iter().skip(1).map(|level| level.name.as_c_str()).chain([name]);
    names.fold(target.to_owned(), |path, name| path.join(OsStr::from_bytes(name.to_bytes())))
}

/// Opens a listed directory, makes sure that it is the one, and closes it to others. `None` if it is gone.
fn enter(
    parent: BorrowedFd<'_>,
    name: &CStr,
    then: &Facts,
    removal: &Removal<'_>,
    levels: &[Level],
) -> Result<Option<Level>, RemovalError> {
    let at = || place(removal.path, levels, name);
    let fd = match open_directory(parent, name) {
        Ok(fd) => fd,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(CallError::on(Op::OpenDirectory, at())(error).into()),
    };
    let call = |op| move |error: io::Error| CallError::on(op, at())(error);
    let stat = stat_descriptor(&fd).map_err(call(Op::Examine))?;
    let above = stat_descriptor(parent).map_err(call(Op::Examine))?;
    if stat.mount != above.mount {
        return Err(call(Op::OpenDirectory)(Errno::XDEV.into()).into());
    }
    if let Some(difference) = then.difference(&stat, removal.strictness) {
        return Err(RemovalError::Changed { path: at(), difference });
    }
    close_to_others(&fd, &stat).map_err(call(Op::SetMode))?;
    Ok(Some(Level { fd, name: name.to_owned(), stat }))
}

/// Takes the right to change a directory from all but this user, so that nobody who still has it open can put
/// something under a name that is about to be unlinked. What only its owner could do, and we are not that, is
/// left undone.
fn close_to_others(directory: &OwnedFd, stat: &Stat) -> io::Result<()> {
    let us = super::effective_user();
    let allowed = |done: Result<(), Errno>| match done {
        Err(Errno::PERM) => Ok(()),
        done => done,
    };
    if stat.mode & 0o077 != 0 {
        allowed(rustix::fs::fchmod(directory, Mode::RWXU))?;
    }
    if stat.uid != us && us == 0 {
        allowed(rustix::fs::fchown(directory, Some(Uid::ROOT), None))?;
    }
    Ok(())
}

fn remove_one(
    parent: BorrowedFd<'_>,
    name: &CStr,
    then: &Facts,
    removal: &mut Removal<'_>,
    levels: &[Level],
) -> Result<(), RemovalError> {
    let at = || place(removal.path, levels, name);
    let still = match removal.leases.of(then.dev, then.ino) {
        Some(lease) => Still::Borrowed(lease),
        None => match keep_still(parent, name, then.kind) {
            Ok(still) => still,
            Err(Errno::NOENT) => return Ok(()),
            Err(Errno::TXTBSY) => return Err(RemovalError::InUse(at())),
            Err(error) => return Err(CallError::on(Op::Open, at())(error).into()),
        },
    };
    let before = stat_descriptor(still.fd()).map_err(CallError::on(Op::Examine, at()))?;
    if let Some(difference) = then.difference(&before, removal.strictness)
        && !removal.own.explain(&before)
    {
        return Err(RemovalError::Changed { path: at(), difference });
    }
    if let Still::Borrowed(lease) = still {
        let here = match stat_at(parent, name) {
            Ok(here) => here,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(CallError::on(Op::Examine, at())(error).into()),
        };
        if (here.dev, here.ino) != (before.dev, before.ino) {
            let difference = "another entry has its name";
            return Err(RemovalError::Changed { path: at(), difference });
        }
        if !lease.is_unbroken().map_err(CallError::on(Op::Examine, at()))? {
            return Err(RemovalError::InUse(at()));
        }
    }
    rustix::fs::unlinkat(parent, name, AtFlags::empty())
        .map_err(CallError::on(Op::Remove, at()))?;
    if before.links < 2 {
        (removal.gone)(&before, None);
        return Ok(());
    }
    let after = stat_descriptor(still.fd()).map_err(CallError::on(Op::Examine, at()))?;
    removal.own.note(&after);
    (removal.gone)(&before, Some(&after));
    Ok(())
}

/// An entry that is open while it is removed.
enum Still<'a> {
    /// A regular file that nobody else has open.
    Leased(Lease),
    /// The same, by a lease of the caller's.
    Borrowed(&'a Lease),
    /// Nothing that could be opened, or where there are no leases.
    Plain(OwnedFd),
}

impl Still<'_> {
    fn fd(&self) -> &OwnedFd {
        match self {
            Still::Leased(lease) => lease.file(),
            Still::Borrowed(lease) => lease.file(),
            Still::Plain(fd) => fd,
        }
    }
}

/// Opens an entry; `ETXTBSY` stands for a file that somebody else has open.
fn keep_still<'a>(parent: BorrowedFd<'_>, name: &CStr, kind: Kind) -> Result<Still<'a>, Errno> {
    let plain = |flags| {
        rustix::fs::openat(parent, name, flags | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())
    };
    if kind == Kind::File {
        let flags = OFlags::RDONLY | OFlags::NONBLOCK;
        let opened = match plain(flags | OFlags::NOATIME) {
            Err(Errno::PERM) => plain(flags),
            opened => opened,
        };
        match opened {
            Ok(fd) => {
                return match Lease::take(fd) {
                    Ok(lease) => Ok(Still::Leased(lease)),
                    Err((_, NoLease::InUse)) => Err(Errno::TXTBSY),
                    Err((fd, NoLease::Unavailable(_))) => Ok(Still::Plain(fd)),
                };
            }
            // a file that may not be read can still be looked at; a link in its place is told by the comparison
            Err(Errno::ACCESS | Errno::LOOP | Errno::NXIO) => {}
            // somebody else's lease
            Err(Errno::WOULDBLOCK) => return Err(Errno::TXTBSY),
            Err(error) => return Err(error),
        }
    }
    Ok(Still::Plain(plain(OFlags::PATH)?))
}

/// The first name in a directory in the order of bytes.
fn first_name(directory: &OwnedFd) -> io::Result<std::ffi::OsString> {
    // the descriptor stands at its end: it has been read before
    let again = open_directory(directory, c".")?;
    let mut first: Option<Vec<u8>> = None;
    DirReader::default().read(&again, |entry| {
        let name = entry.name.to_bytes();
        if first.as_deref().is_none_or(|first| name < first) {
            first = Some(name.to_vec());
        }
        true
    })?;
    Ok(OsStr::from_bytes(&first.unwrap_or_default()).to_owned())
}
