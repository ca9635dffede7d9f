//! Which process has which inode open.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, StatxFlags};

use crate::units::Time;

/// A process that holds an inode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// Process id.
    pub pid: u32,
    /// The name of its command, as the kernel has it (at most 15 bytes).
    pub command: String,
}

/// All inodes that are open, mapped, or somebody's working directory, root or program
/// (`proc_pid_fd(5)`, `proc_pid_map_files(5)`), as far as this process may see.
#[derive(Debug, Default)]
pub struct OpenFiles {
    by_inode: HashMap<(u64, u64), Vec<u32>>,
    commands: HashMap<u32, String>,
    /// Processes that this user may not look into: 0 for root.
    pub hidden: usize,
    /// When this was collected.
    pub taken: Time,
}

impl OpenFiles {
    /// Collects from `/proc`. Processes that end meanwhile are left out; `ourselves` is too.
    pub fn collect(now: Time) -> Self {
        let mut found = Self { taken: now, ..Self::default() };
        let ourselves = std::process::id();
        let Ok(processes) = std::fs::read_dir("/proc") else { return found };
        for process in processes.flatten() {
            let pid = process.file_name().to_str().and_then(|name| name.parse::<u32>().ok());
            if let Some(pid) = pid.filter(|pid| *pid != ourselves) {
                found.look_into(pid, &process.path());
            }
        }
        found
    }

    fn look_into(&mut self, pid: u32, process: &Path) {
        match std::fs::read_dir(process.join("fd")) {
            Ok(descriptors) => descriptors.flatten().for_each(|fd| self.note(pid, &fd.path())),
            Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => self.hidden += 1,
            Err(_) => return, // it has ended
        }
        for link in ["cwd", "root", "exe"] {
            self.note(pid, &process.join(link));
        }
        let maps: Vec<PathBuf> = match std::fs::read_dir(process.join("map_files")) {
            Ok(maps) => maps.flatten().map(|map| map.path()).collect(),
            Err(_) => Vec::new(),
        };
        maps.iter().for_each(|map| self.note(pid, map));
        if let Ok(command) = std::fs::read(process.join("comm")) {
            let name = String::from_utf8_lossy(&command).trim_end().to_owned();
            self.commands.insert(pid, crate::shown::shown(name));
        }
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
