//! Removing what lies in a private directory: exactly what an [`Inventory`] lists, bottom up and by descriptor.

use std::collections::HashMap;
use std::ffi::{CStr, CString, OsStr};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::atomic::{
    AtomicBool, AtomicUsize,
    Ordering::{AcqRel, Relaxed},
};
use std::sync::mpsc::{Receiver, TrySendError, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rustix::fs::{AtFlags, Gid, Mode, OFlags, Uid};
use rustix::io::Errno;

use super::beneath::{CallError, Op, PrivateDir, open_directory};
use super::inventory::{Facts, Inventory, Listed, Strictness};
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
        /// The entry by its place.
        path: PathBuf,
        /// What was found to be different.
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

/// Is told an inode as it was before one of its names went, and if it has others, as it is after.
pub type Gone<'a> = dyn FnMut(&Stat, Option<&Stat>) + Send + 'a;

/// What is to be removed, and how it is told.
pub struct Removal<'a> {
    /// All that may go.
    pub inventory: &'a Inventory,
    /// How exactly it must fit.
    pub strictness: Strictness,
    /// Leases that are held already.
    pub leases: &'a Leases,
    /// The target is a regular file with one name, lies where only root could open it, and no process has it open: it is
    /// looked at right before it goes, and not leased.
    pub is_unused: bool,
    /// The name that the target goes by in messages.
    pub path: &'a Path,
    /// What this program itself has made of inodes with several names; is kept up to date.
    pub own: &'a mut OwnChanges,
    /// Is told of every name that went.
    pub gone: &'a mut Gone<'a>,
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
    /// Every entry is opened, held against the list and then unlinked, by several threads where there is much. A
    /// regular file is kept still by a lease meanwhile where leases are to be had. Directories are closed to other
    /// users before they are emptied. Names that are gone already are passed over; other mounts are never entered and
    /// no link is followed.
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
        if removal.is_unused {
            let mut listed = removal.inventory.entries().map_err(RemovalError::List)?;
            let first = listed.next().transpose().map_err(RemovalError::List)?;
            if let Some(one) =
                first.filter(|one| one.facts.kind == Kind::File && one.facts.links == 1)
                && listed.next().is_none()
            {
                return self.remove_unused(&held, &one.facts, removal);
            }
        }
        let work = Work {
            private: self.fd(),
            strictness: removal.strictness,
            leases: removal.leases,
            path: removal.path,
            own: Mutex::new(&mut *removal.own),
            gone: Mutex::new(&mut *removal.gone),
            failed: Mutex::new(None),
            stopped: AtomicBool::new(false),
        };
        let threads = match removal.inventory.kept().len() < SMALL {
            true => 0,
            false => {
                std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(4) - 1
            }
        };
        let (send, receive) = sync_channel::<Batch>(4);
        let receive = Mutex::new(receive);
        let (receive, work) = (&receive, &work);
        let outcome = std::thread::scope(|scope| {
            // dropped at the end, which ends the helpers
            let send = send;
            // where no thread can be begun, this one does all
            let helpers = (0..threads)
                .map_while(|_| {
                    let help = || {
                        while let Some(batch) = next_batch(receive) {
                            work.remove(batch);
                        }
                    };
                    std::thread::Builder::new().spawn_scoped(scope, help).ok()
                })
                .count();
            let hand_out = |batch: Batch| match helpers {
                0 => work.remove(batch),
                // a free thread takes it; if all are busy, this one does it
                _ => match send.try_send(batch) {
                    Ok(()) => {}
                    Err(TrySendError::Full(batch) | TrySendError::Disconnected(batch)) => {
                        work.remove(batch);
                    }
                },
            };
            let outcome = work.go_through(removal.inventory, &held, &hand_out);
            if outcome.is_err() {
                work.stopped.store(true, Relaxed);
            }
            outcome
        });
        // what failed first says more than what stopped because of it
        match hold(&work.failed).take() {
            Some(error) => Err(error),
            None => outcome,
        }
    }

    /// Removes a file that no process has open, once it has been looked at in its place.
    fn remove_unused(
        &self,
        held: &CStr,
        then: &Facts,
        removal: &mut Removal<'_>,
    ) -> Result<(), RemovalError> {
        let found = match stat_at(self.fd(), held) {
            Ok(found) => found,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(CallError::on(Op::Examine, removal.path)(error).into()),
        };
        if let Some(difference) = then.difference(&found, removal.strictness) {
            return Err(RemovalError::Changed { path: removal.path.to_owned(), difference });
        }
        rustix::fs::unlinkat(self.fd(), held, AtFlags::empty())
            .map_err(|error| CallError::on(Op::Remove, removal.path)(error))?;
        (removal.gone)(&found, None);
        Ok(())
    }

    /// Gives what is left of a target the owners and modes of its directories again.
    ///
    /// # Errors
    ///
    /// [`RemovalError`] for the first that cannot be given them.
    fn open_up(&self, held: &OsStr, inventory: &Inventory) -> Result<(), RemovalError> {
        let held = c_name(held)?;
        let mut levels: Vec<OwnedFd> = Vec::new();
        for listed in inventory.entries().map_err(RemovalError::List)? {
            let listed = listed.map_err(RemovalError::List)?;
            levels.truncate(listed.depth as usize);
            if listed.facts.kind != Kind::Directory || levels.len() != listed.depth as usize {
                continue;
            }
            let (parent, name) = match levels.last() {
                Some(level) => (level.as_fd(), listed.c_name()),
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
            levels.push(fd);
        }
        Ok(())
    }
}

/// Lists shorter than this, some hundreds of entries, are not worth a thread.
const SMALL: usize = 16 * 1024;
/// How many files of a directory are handed out together.
const BATCH: usize = 64;

/// A directory that is being emptied.
struct Level {
    fd: OwnedFd,
    name: CString,
    stat: Stat,
    parent: Option<Arc<Level>>,
    /// What is still to be done before it can go: its own listing, files that were handed out, directories in it.
    pending: AtomicUsize,
}

impl Level {
    /// The path of an entry in it, for messages. The first level is the target itself.
    fn place(&self, target: &Path, name: &CStr) -> PathBuf {
        let mut names = vec![name];
        let mut at = self;
        while let Some(parent) = &at.parent {
            names.push(&at.name);
            at = parent;
        }
        let names = names.iter().rev().map(|name| OsStr::from_bytes(name.to_bytes()));
        names.fold(target.to_owned(), |path, name| path.join(name))
    }
}

/// Files of one directory, to be removed by one of the threads.
struct Batch {
    level: Arc<Level>,
    files: Vec<Listed>,
}

/// A removal that several threads are at.
struct Work<'a> {
    private: &'a OwnedFd,
    strictness: Strictness,
    leases: &'a Leases,
    path: &'a Path,
    own: Mutex<&'a mut OwnChanges>,
    gone: Mutex<&'a mut Gone<'a>>,
    failed: Mutex<Option<RemovalError>>,
    stopped: AtomicBool,
}

fn next_batch(receive: &Mutex<Receiver<Batch>>) -> Option<Batch> {
    receive.lock().unwrap_or_else(PoisonError::into_inner).recv().ok()
}

fn hold<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Work<'_> {
    /// Goes through the list from its beginning: enters directories, and hands out what lies in them.
    fn go_through(
        &self,
        inventory: &Inventory,
        held: &CString,
        hand_out: &dyn Fn(Batch),
    ) -> Result<(), RemovalError> {
        let mut levels: Vec<(Arc<Level>, Vec<Listed>)> = Vec::new();
        // of a directory that is gone already all that it held is gone too
        let mut skipped = u32::MAX;
        for listed in inventory.entries().map_err(RemovalError::List)? {
            let listed = listed.map_err(RemovalError::List)?;
            if self.stopped.load(Relaxed) {
                return Ok(());
            }
            if listed.depth > skipped {
                continue;
            }
            skipped = u32::MAX;
            let depth = listed.depth as usize;
            self.leave(&mut levels, depth, hand_out)?;
            if levels.len() != depth {
                let damage = io::Error::new(io::ErrorKind::InvalidData, "it has gaps");
                return Err(RemovalError::List(damage));
            }
            let above = levels.last().map(|(level, _)| Arc::clone(level));
            let name = if above.is_none() { held.as_c_str() } else { listed.c_name() };
            if listed.facts.kind == Kind::Directory {
                match self.enter(above, name, &listed.facts)? {
                    Some(level) => levels.push((Arc::new(level), Vec::new())),
                    None => skipped = listed.depth,
                }
                continue;
            }
            // of an inode with several names each changes what the others show: one after the other
            let by_itself = listed.facts.links > 1;
            match levels.last_mut() {
                Some((level, files)) if !by_itself => {
                    files.push(listed);
                    if files.len() >= BATCH {
                        level.pending.fetch_add(1, Relaxed);
                        hand_out(Batch { level: Arc::clone(level), files: std::mem::take(files) });
                    }
                }
                _ => self.remove_one(above.as_deref(), name, &listed.facts)?,
            }
        }
        self.leave(&mut levels, 0, hand_out)
    }

    /// Leaves the directories on the way up to `depth`: all that is listed of them has been handed out.
    fn leave(
        &self,
        levels: &mut Vec<(Arc<Level>, Vec<Listed>)>,
        depth: usize,
        hand_out: &dyn Fn(Batch),
    ) -> Result<(), RemovalError> {
        while levels.len() > depth {
            let Some((level, files)) = levels.pop() else { return Ok(()) };
            if !files.is_empty() {
                level.pending.fetch_add(1, Relaxed);
                hand_out(Batch { level: Arc::clone(&level), files });
            }
            self.done_with_part(level)?;
        }
        Ok(())
    }

    /// Removes handed out files; remembers what stopped it.
    fn remove(&self, batch: Batch) {
        let Batch { level, files } = batch;
        for file in &files {
            if self.stopped.load(Relaxed) {
                return;
            }
            if let Err(error) = self.remove_one(Some(&level), file.c_name(), &file.facts) {
                return self.stop(error);
            }
        }
        if let Err(error) = self.done_with_part(level) {
            self.stop(error);
        }
    }

    fn stop(&self, error: RemovalError) {
        hold(&self.failed).get_or_insert(error);
        self.stopped.store(true, Relaxed);
    }

    /// One of the things is done that a directory waited for. If that was the last, it goes, and its parent waits for
    /// one thing less.
    fn done_with_part(&self, level: Arc<Level>) -> Result<(), RemovalError> {
        let mut level = level;
        // the thread that does the last part must see what the others did
        while level.pending.fetch_sub(1, AcqRel) == 1 {
            let parent = level.parent.as_ref().map_or(self.private, |parent| &parent.fd);
            match rustix::fs::unlinkat(parent, &level.name, AtFlags::REMOVEDIR) {
                Ok(()) => (hold(&self.gone))(&level.stat, None),
                Err(Errno::NOENT) => {}
                Err(Errno::NOTEMPTY | Errno::EXIST) => {
                    let at = self.place_of(level.parent.as_deref(), &level.name);
                    let name =
                        first_name(&level.fd).map_err(CallError::on(Op::ReadDirectory, &at))?;
                    return Err(RemovalError::Unlisted(at.join(name)));
                }
                Err(error) => {
                    let at = self.place_of(level.parent.as_deref(), &level.name);
                    return Err(CallError::on(Op::Remove, at)(error).into());
                }
            }
            match &level.parent {
                Some(parent) => level = Arc::clone(parent),
                None => return Ok(()),
            }
        }
        Ok(())
    }

    fn place_of(&self, above: Option<&Level>, name: &CStr) -> PathBuf {
        above.map_or_else(|| self.path.to_owned(), |level| level.place(self.path, name))
    }

    /// Opens a listed directory, makes sure that it is the one, and closes it to others. `None` if it is gone.
    fn enter(
        &self,
        above: Option<Arc<Level>>,
        name: &CStr,
        then: &Facts,
    ) -> Result<Option<Level>, RemovalError> {
        let at = || self.place_of(above.as_deref(), name);
        let parent = above.as_ref().map_or(self.private, |level| &level.fd);
        let fd = match open_directory(parent, name) {
            Ok(fd) => fd,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(CallError::on(Op::OpenDirectory, at())(error).into()),
        };
        let call = |op| move |error: io::Error| CallError::on(op, at())(error);
        let stat = stat_descriptor(&fd).map_err(call(Op::Examine))?;
        let mount = match &above {
            Some(level) => level.stat.mount,
            None => stat_descriptor(self.private).map_err(call(Op::Examine))?.mount,
        };
        if stat.mount != mount {
            return Err(call(Op::OpenDirectory)(Errno::XDEV.into()).into());
        }
        if let Some(difference) = then.difference(&stat, self.strictness) {
            return Err(RemovalError::Changed { path: at(), difference });
        }
        close_to_others(&fd, &stat).map_err(call(Op::SetMode))?;
        if let Some(parent) = &above {
            parent.pending.fetch_add(1, Relaxed);
        }
        let (name, pending) = (name.to_owned(), AtomicUsize::new(1));
        Ok(Some(Level { fd, name, stat, parent: above, pending }))
    }

    fn remove_one(
        &self,
        above: Option<&Level>,
        name: &CStr,
        then: &Facts,
    ) -> Result<(), RemovalError> {
        let at = || self.place_of(above, name);
        let parent = above.map_or(self.private, |level| &level.fd).as_fd();
        let still = match self.leases.of(then.dev, then.ino) {
            Some(lease) => OpenEntry::Borrowed(lease),
            None => match keep_still(parent, name, then.kind) {
                Ok(still) => still,
                Err(Errno::NOENT) => return Ok(()),
                Err(Errno::TXTBSY) => return Err(RemovalError::InUse(at())),
                Err(error) => return Err(CallError::on(Op::Open, at())(error).into()),
            },
        };
        let before = match &still {
            // what is leased is known by its inode: what the name leads to now is looked at once
            OpenEntry::Borrowed(_) => stat_at(parent, name),
            _ => stat_descriptor(still.fd()),
        };
        let before = match before {
            Ok(before) => before,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(CallError::on(Op::Examine, at())(error).into()),
        };
        if let Some(difference) = then.difference(&before, self.strictness)
            && !hold(&self.own).explain(&before)
        {
            return Err(RemovalError::Changed { path: at(), difference });
        }
        if let OpenEntry::Borrowed(lease) = still
            && !lease.is_unbroken().map_err(CallError::on(Op::Examine, at()))?
        {
            return Err(RemovalError::InUse(at()));
        }
        rustix::fs::unlinkat(parent, name, AtFlags::empty())
            .map_err(|error| CallError::on(Op::Remove, at())(error))?;
        if before.links < 2 {
            (hold(&self.gone))(&before, None);
            return Ok(());
        }
        let after = stat_descriptor(still.fd()).map_err(CallError::on(Op::Examine, at()))?;
        hold(&self.own).note(&after);
        (hold(&self.gone))(&before, Some(&after));
        Ok(())
    }
}

fn c_name(name: &OsStr) -> Result<CString, RemovalError> {
    CString::new(name.as_bytes()).map_err(|error| RemovalError::List(error.into()))
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

/// An entry that is open while it is removed.
enum OpenEntry<'a> {
    /// A regular file that nobody else has open.
    Leased(Lease),
    /// The same, by a lease of the caller's.
    Borrowed(&'a Lease),
    /// Nothing that could be opened, or where there are no leases.
    Plain(OwnedFd),
}

impl OpenEntry<'_> {
    fn fd(&self) -> &OwnedFd {
        match self {
            OpenEntry::Leased(lease) => lease.file(),
            OpenEntry::Borrowed(lease) => lease.file(),
            OpenEntry::Plain(fd) => fd,
        }
    }
}

/// Opens an entry; `ETXTBSY` stands for a file that somebody else has open.
fn keep_still<'a>(parent: BorrowedFd<'_>, name: &CStr, kind: Kind) -> Result<OpenEntry<'a>, Errno> {
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
                    Ok(lease) => Ok(OpenEntry::Leased(lease)),
                    Err((_, NoLease::InUse)) => Err(Errno::TXTBSY),
                    Err((fd, NoLease::Unavailable(_))) => Ok(OpenEntry::Plain(fd)),
                };
            }
            // a file that may not be read can still be looked at; a link in its place is told by the comparison
            Err(Errno::ACCESS | Errno::LOOP | Errno::NXIO) => {}
            // somebody else's lease
            Err(Errno::WOULDBLOCK) => return Err(Errno::TXTBSY),
            Err(error) => return Err(error),
        }
    }
    Ok(OpenEntry::Plain(plain(OFlags::PATH)?))
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
