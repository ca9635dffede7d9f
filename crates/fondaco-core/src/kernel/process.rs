//! A process, told from a later one that got the same number.

use std::ffi::OsString;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open, pidfd_send_signal, test_kill_process};
use serde::{Deserialize, Serialize};

use super::beneath::{CallError, Op};
use super::read_dir::names_in;
use crate::units::Time;

/// What is known about a process.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Process {
    /// Its process number (`getpid(2)`).
    pub pid: u32,
    /// When it began, in ticks since the machine did (`proc_pid_stat(5)`): with the number this tells
    /// it from every other process since then.
    pub started: u64,
    /// Whose it is.
    pub user: u32,
    /// The name of its command, escaped.
    pub command: String,
}

/// The numbers of all other processes with their directories below `/proc`.
///
/// # Errors
///
/// [`CallError`] if the processes cannot be listed: then there may be any.
pub(super) fn other_processes() -> Result<Vec<(u32, PathBuf)>, CallError> {
    let (proc, ourselves) = (Path::new("/proc"), std::process::id());
    let names = names_in(proc).map_err(CallError::on(Op::ReadDirectory, proc))?;
    let process = |name: OsString| {
        let pid = name.to_str()?.parse::<u32>().ok().filter(|pid| *pid != ourselves)?;
        Some((pid, proc.join(name)))
    };
    Ok(names.into_iter().filter_map(process).collect())
}

impl Process {
    /// Asks about a process; `None` if there is none with this number.
    pub fn look(pid: u32) -> Option<Self> {
        let home = format!("/proc/{pid}");
        let stat = std::fs::read(format!("{home}/stat")).ok()?;
        // the command stands in brackets and may hold anything, brackets too
        let open = stat.iter().position(|b| *b == b'(')?;
        let close = stat.iter().rposition(|b| *b == b')')?;
        let command = String::from_utf8_lossy(stat.get(open + 1..close)?).into_owned();
        let rest = std::str::from_utf8(stat.get(close + 2..)?).ok()?;
        let started = rest.split(' ').nth(19)?.parse().ok()?;
        let user = std::fs::metadata(home).ok()?.uid();
        Some(Self { pid, started, user, command: crate::shown::shown(command) })
    }

    /// Whether the kernel says that no process has a number (`kill(2)`, signal 0). One that cannot be looked at has not
    /// ended.
    pub fn has_ended(pid: u32) -> bool {
        let known = i32::try_from(pid).ok().and_then(Pid::from_raw);
        known.is_none_or(|pid| test_kill_process(pid) == Err(rustix::io::Errno::SRCH))
    }

    /// Whether it is still there, and no other in its place.
    pub fn is_there(&self) -> bool {
        Self::look(self.pid).is_some_and(|found| found.started == self.started)
    }

    /// When it began.
    pub fn since(&self) -> Time {
        let ticks = rustix::param::clock_ticks_per_second().max(1);
        Time::at(boot_time().saturating_add((self.started / ticks) as i64))
    }

    /// The process that began it; 0 if there is none.
    pub fn parent(pid: u32) -> u32 {
        let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("PPid:"));
        line.and_then(|pid| pid.trim().parse().ok()).unwrap_or(0)
    }

    /// Whether it is a thread of the kernel, which has no files of its own.
    pub fn is_of_kernel(pid: u32) -> bool {
        const THREAD_DAEMON: u32 = 2;
        pid == THREAD_DAEMON || Self::parent(pid) == THREAD_DAEMON
    }

    /// Why it is never ended, if it is one of those: the first process, and those that this program hangs on.
    pub fn never_ended(&self) -> Option<String> {
        let mut above = vec![std::process::id()];
        while let Some(parent) = above.last().map(|pid| Self::parent(*pid)).filter(|pid| *pid > 0) {
            above.push(parent);
        }
        let Self { pid, command, .. } = self;
        match pid {
            0 | 1 => Some(format!("pid {pid} is never touched")),
            pid if above.contains(pid) => Some(format!(
                "pid {pid} ({command}) is this program or runs it: ending it would end this session"
            )),
            _ => None,
        }
    }

    /// Takes hold of it: what is done through the handle reaches this process or none.
    ///
    /// # Errors
    ///
    /// [`io::ErrorKind::NotFound`] if it has ended, or another has its number; else as `pidfd_open(2)`.
    pub fn handle(&self) -> io::Result<ProcessHandle> {
        let gone = || io::Error::from(io::ErrorKind::NotFound);
        let pid = Pid::from_raw(self.pid as i32).ok_or_else(gone)?;
        let fd = pidfd_open(pid, PidfdFlags::empty()).map_err(|error| match error {
            rustix::io::Errno::SRCH => gone(),
            other => other.into(),
        })?;
        // looked at after it was taken hold of: from here on the number cannot pass to another unseen
        if self.is_there() { Ok(ProcessHandle { fd }) } else { Err(gone()) }
    }
}

/// When the machine began, in seconds since 1970 (`proc_stat(5)`).
fn boot_time() -> i64 {
    static BOOT: std::sync::OnceLock<i64> = std::sync::OnceLock::new();
    *BOOT.get_or_init(|| {
        let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
        let line = stat.lines().find_map(|line| line.strip_prefix("btime "));
        line.and_then(|seconds| seconds.trim().parse().ok()).unwrap_or(0)
    })
}

/// A process that has been taken hold of.
#[derive(Debug)]
pub struct ProcessHandle {
    fd: OwnedFd,
}

impl ProcessHandle {
    /// Asks it to end (`SIGTERM`), or ends it (`SIGKILL`).
    ///
    /// # Errors
    ///
    /// As `pidfd_send_signal(2)`.
    pub fn end(&self, by_force: bool) -> io::Result<()> {
        let signal = if by_force { Signal::KILL } else { Signal::TERM };
        Ok(pidfd_send_signal(&self.fd, signal)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_is_told_from_a_later_one_with_its_number() {
        let mut child = std::process::Command::new("sleep").arg("100").spawn().unwrap();
        let process = Process::look(child.id()).unwrap();
        assert!(process.is_there() && process.since().sec > 1_000_000_000);
        assert!(!Process::has_ended(child.id()) && Process::has_ended(u32::MAX));
        let earlier = Process { started: process.started - 1, ..process.clone() };
        assert!(!earlier.is_there());
        assert_eq!(earlier.handle().unwrap_err().kind(), io::ErrorKind::NotFound);
        process.handle().unwrap().end(false).unwrap();
        assert!(!child.wait().unwrap().success());
        assert!(Process::has_ended(child.id()));
        assert_eq!(process.handle().unwrap_err().kind(), io::ErrorKind::NotFound);
        assert_eq!(Process::parent(std::process::id()), std::os::unix::process::parent_id());
    }
}
