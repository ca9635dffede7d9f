//! Leases on regular files: while one is held no other process has the file open, and one that opens it has to wait.
//!
//! Source: `fcntl(2)`, "Leases". The kernel grants a write lease only while no other descriptor and no
//! mapping refers to the inode, whoever holds it and whether or not `/proc` shows it, and makes a later
//! opener wait until the lease is given back. A lease outlives a rename.

use std::io;
use std::os::fd::{AsRawFd, OwnedFd};
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

use rustc_hash::FxHashMap;

use super::stat::Stat;

/// Why a file cannot be kept still.
#[derive(Debug)]
pub enum NoLease {
    /// Somebody else has it open or mapped.
    InUse,
    /// Leases are not to be had for this file: another's file without `CAP_LEASE`, a file system that
    /// knows none, or `fs.leases-enable` is off. Whether it is in use has to be found out otherwise.
    Unavailable(io::Error),
}

/// A write lease on an open file, given back when dropped.
#[derive(Debug)]
pub struct Lease {
    file: OwnedFd,
    /// `F_WRLCK` or `F_RDLCK`.
    kind: libc::c_int,
}

impl Lease {
    /// Takes a lease through a descriptor that is open for reading only.
    ///
    /// # Errors
    ///
    /// [`NoLease`]; the descriptor is given back with it.
    pub fn take(file: OwnedFd) -> Result<Self, (OwnedFd, NoLease)> {
        Self::of_kind(file, libc::F_WRLCK)
    }

    /// As [`Lease::take`], but others may have the file open for reading: nobody writes to it as long as the lease stands.
    ///
    /// # Errors
    ///
    /// [`NoLease`]: in use means open for writing.
    pub fn take_shared(file: OwnedFd) -> Result<Self, (OwnedFd, NoLease)> {
        Self::of_kind(file, libc::F_RDLCK)
    }

    fn of_kind(file: OwnedFd, kind: libc::c_int) -> Result<Self, (OwnedFd, NoLease)> {
        // A broken lease is told by a signal. SIGIO, the usual one, would end the process; SIGURG is ignored
        // unless somebody asks for it.
        let told = fcntl(&file, F_SETSIG, libc::SIGURG);
        match told.and_then(|_| fcntl(&file, libc::F_SETLEASE, kind)) {
            Ok(_) => Ok(Self { file, kind }),
            // a file that a server has not delegated to this machine gives the same answer, open or not
            Err(error) if error.raw_os_error() == Some(libc::EAGAIN) && !is_remote(&file) => {
                Err((file, NoLease::InUse))
            }
            Err(error) => Err((file, NoLease::Unavailable(error))),
        }
    }

    /// Whether no process has tried to open the file since the lease was taken. One that has tried is waiting now, for
    /// at most `fs.lease-break-time` seconds.
    ///
    /// # Errors
    ///
    /// As `fcntl(2)`.
    pub fn is_unbroken(&self) -> io::Result<bool> {
        Ok(fcntl(&self.file, libc::F_GETLEASE, 0)? == self.kind)
    }

    /// The leased file.
    pub fn file(&self) -> &OwnedFd {
        &self.file
    }
}

/// Leases that are held together, one for each inode: this program's own open files would refuse a second one.
#[derive(Debug, Default)]
pub struct Leases(FxHashMap<(u64, u64), Held>);

/// A lease, and how many names its file had when it was leased.
#[derive(Debug)]
struct Held {
    lease: Lease,
    links: u32,
}

impl Leases {
    /// The lease on an inode, if one is held.
    pub fn of(&self, dev: u64, ino: u64) -> Option<&Lease> {
        self.0.get(&(dev, ino)).map(|held| &held.lease)
    }

    /// Whether none is held.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Holds the lease on an inode from here on. `stat` are the facts about it.
    pub fn hold(&mut self, stat: &Stat, lease: Lease) {
        self.0.insert((stat.dev, stat.ino), Held { lease, links: stat.links });
    }
}

/// Gives leases back on a thread of its own: closing the last descriptor of a removed file frees its blocks, which takes as
/// long as removing its name did, and ending a lease takes as long as beginning it. At most the leases of one batch wait for it.
#[derive(Debug, Default)]
pub struct LeaseReturn {
    thread: Option<(SyncSender<Leases>, JoinHandle<()>)>,
}

/// With fewer leases a thread takes longer to begin than it saves.
const WORTH_A_THREAD: usize = 32;

impl LeaseReturn {
    /// Gives these leases back: those on files with one name soon, all others at once. Where no thread can be begun, at
    /// once too.
    pub fn give_back(&mut self, leases: &mut Leases) {
        let mut leases = std::mem::take(leases);
        // another name of the same file may be the next that is wanted
        leases.0.retain(|_, held| held.links == 1);
        if self.thread.is_none() {
            if leases.0.len() < WORTH_A_THREAD {
                return;
            }
            // handed over only when the thread has done with those before
            let (send, receive) = sync_channel::<Leases>(0);
            let work = move || receive.iter().for_each(drop);
            let thread = std::thread::Builder::new().name("leases".to_owned()).spawn(work);
            self.thread = thread.ok().map(|thread| (send, thread));
        }
        if let Some((send, _)) = &self.thread {
            // what a thread that has ended does not take is dropped here
            drop(send.send(leases));
        }
    }
}

impl Drop for LeaseReturn {
    fn drop(&mut self) {
        if let Some((send, thread)) = self.thread.take() {
            drop(send);
            // all are given back when this returns; a panic there would have nothing to say
            let _ = thread.join();
        }
    }
}

/// Whether the file lies on a server, by the file systems that give leases only for what the server has delegated.
/// What cannot be asked is taken for local, which leaves a file alone rather than not.
fn is_remote(file: &OwnedFd) -> bool {
    // linux/magic.h: NFS, SMB in its three forms, Ceph, AFS
    const REMOTE: [u32; 6] = [0x6969, 0x517B, 0xFF53_4D42, 0xFE53_4D42, 0x00C3_6400, 0x6B41_4653];
    rustix::fs::fstatfs(file).is_ok_and(|fs| REMOTE.contains(&(fs.f_type as u32)))
}

/// `F_SETSIG` of `linux/fcntl.h`.
const F_SETSIG: libc::c_int = 10;

fn fcntl(file: &OwnedFd, command: libc::c_int, argument: libc::c_int) -> io::Result<libc::c_int> {
    // SAFETY: the commands used here take an integer and touch no memory of ours; the descriptor is open.
    let answer = unsafe { libc::fcntl(file.as_raw_fd(), command, argument) };
    if answer < 0 { Err(io::Error::last_os_error()) } else { Ok(answer) }
}

#[cfg(test)]
mod tests {
    use std::fs::{File, OpenOptions};

    use super::*;

    fn is_in_use(taken: Result<Lease, (OwnedFd, NoLease)>) -> bool {
        matches!(taken, Err((_, NoLease::InUse)))
    }

    #[test]
    fn a_lease_is_had_only_while_nobody_else_has_the_file_open_and_is_broken_by_who_opens_it() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("tide.csv");
        std::fs::write(&path, b"07:00 1.2 m").unwrap();
        let open = || OwnedFd::from(File::open(&path).unwrap());
        for other in [OpenOptions::new().append(true).open(&path), File::open(&path)] {
            let other = other.unwrap();
            assert!(is_in_use(Lease::take(open())));
            drop(other);
        }
        let lease = Lease::take(open()).unwrap();
        std::fs::rename(&path, directory.path().join("moved")).unwrap();
        assert!(lease.is_unbroken().unwrap(), "a rename does not break it");
        let moved = directory.path().join("moved");
        let opener = std::thread::spawn(move || File::open(moved).map(drop));
        while lease.is_unbroken().unwrap() {
            std::thread::yield_now();
        }
        drop(lease);
        opener.join().unwrap().unwrap();
    }
}
