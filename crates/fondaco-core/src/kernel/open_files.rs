//! The inodes that processes have open.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, StatxFlags};

use super::beneath::{CallError, Op};
use super::process::other_processes;
use super::read_dir::names_in;
use crate::units::Time;

/// A process that holds an inode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// Number of the process (pid).
    pub pid: u32,
    /// The name of its command, as the kernel has it (at most 15 bytes).
    pub command: String,
}

/// What a directory of a process below `/proc` says.
enum Names {
    Here(Vec<PathBuf>),
    /// This user may not look.
    Refused,
    /// The process has ended.
    Ended,
}

fn names_of(process: &Path, what: &str) -> io::Result<Names> {
    let directory = process.join(what);
    match names_in(&directory) {
        Ok(names) => Ok(Names::Here(names.iter().map(|name| directory.join(name)).collect())),
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => Ok(Names::Refused),
        Err(error) if matches!(error.raw_os_error(), Some(libc::ENOENT | libc::ESRCH)) => {
            Ok(Names::Ended)
        }
        Err(error) => Err(error),
    }
}

/// All inodes that are open, mapped, or somebody's working directory, root or program
/// (`proc_pid_fd(5)`, `proc_pid_map_files(5)`), as far as this process may see.
#[derive(Debug, Default)]
pub struct OpenFiles {
    by_inode: HashMap<(u64, u64), Vec<u32>, ahash::RandomState>,
    commands: HashMap<u32, String>,
    /// Processes that this user may not look into: 0 for root.
    pub hidden: usize,
    /// The error with which the kernel answered: then it is not known that a process does not have something open.
    pub trouble: Option<String>,
    /// When this was collected.
    pub taken: Time,
}

impl OpenFiles {
    /// Collects from `/proc`. Processes that end meanwhile are left out; `ourselves` is too.
    pub fn collect(now: Time) -> Self {
        let mut found = Self { taken: now, ..Self::default() };
        let processes = other_processes().unwrap_or_else(|error| {
            found.trouble = Some(error.whole());
            Vec::new()
        });
        for (pid, home) in processes {
            if let Err(error) = found.look_into(pid, &home) {
                found.trouble = Some(CallError::on(Op::ReadDirectory, home)(error).whole());
            }
        }
        found
    }

    fn look_into(&mut self, pid: u32, process: &Path) -> io::Result<()> {
        let mut links = match names_of(process, "fd")? {
            Names::Here(descriptors) => descriptors,
            Names::Refused => {
                self.hidden += 1;
                Vec::new()
            }
            Names::Ended => return Ok(()),
        };
        links.extend(["cwd", "root", "exe"].map(|link| process.join(link)));
        if let Names::Here(maps) = names_of(process, "map_files")? {
            links.extend(maps);
        }
        links.iter().for_each(|link| self.note(pid, link));
        if let Ok(command) = std::fs::read(process.join("comm")) {
            let name = String::from_utf8_lossy(&command).trim_end().to_owned();
            self.commands.insert(pid, crate::shown::shown(name));
        }
        Ok(())
    }

    /// `stat(2)` on a link below `/proc` reaches the very inode, even if its name is gone.
    /// What is known already is enough: a server that is gone is not waited for.
    fn note(&mut self, pid: u32, link: &Path) {
        let flags = AtFlags::STATX_DONT_SYNC;
        if let Ok(found) = rustix::fs::statx(CWD, link, flags, StatxFlags::INO) {
            let dev = rustix::fs::makedev(found.stx_dev_major, found.stx_dev_minor);
            let holders = self.by_inode.entry((dev, found.stx_ino)).or_default();
            if holders.last() != Some(&pid) {
                holders.push(pid);
            }
        }
    }

    /// Whether anybody at all has the inode open.
    pub fn is_open(&self, dev: u64, ino: u64) -> bool {
        self.by_inode.contains_key(&(dev, ino))
    }

    /// The processes that have the inode open.
    pub fn holders(&self, dev: u64, ino: u64) -> Vec<Holder> {
        let mut pids = self.by_inode.get(&(dev, ino)).cloned().unwrap_or_default();
        pids.sort_unstable();
        pids.dedup();
        let named = |pid| Holder {
            pid,
            command: self.commands.get(&pid).cloned().unwrap_or_else(|| "?".to_owned()),
        };
        pids.into_iter().map(named).collect()
    }
}
