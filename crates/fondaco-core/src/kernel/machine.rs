//! The identity of this process: its user, machine and directory.

use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Duration;

use rustix::process::{Resource, Rlimit};

use crate::units::Time;

/// A text that tells this machine from another: its `machine-id(5)`, or else its node name. Read once: it is asked for
/// each name of an owner.
pub fn machine_id() -> String {
    static ID: OnceLock<String> = OnceLock::new();
    let read = || {
        let id = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
        let id = id.trim();
        if id.is_empty() { node_name() } else { id.to_owned() }
    };
    ID.get_or_init(read).clone()
}

/// The name of this machine (`uname(2)`).
pub fn node_name() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

/// Has this process and all threads that it begins later stand back for others: the lowest priority for processors, and
/// for devices only the time that nobody else wants (`setpriority(2)`, `ioprio_set(2)`).
///
/// # Errors
///
/// As the calls.
pub fn take_lowest_priority() -> std::io::Result<()> {
    const LEAST: i32 = 19;
    const OF_PROCESS: libc::c_long = 1;
    // class 3 is idle; it has no levels
    const IDLE: libc::c_long = 3 << 13;
    rustix::process::setpriority_process(None, LEAST)?;
    // SAFETY: the call takes three integers and touches no memory of ours.
    let answer =
        unsafe { libc::syscall(libc::SYS_ioprio_set, OF_PROCESS, 0 as libc::c_long, IDLE) };
    if answer < 0 { Err(std::io::Error::last_os_error()) } else { Ok(()) }
}

/// The release of the kernel that runs (`uname(2)`).
pub fn running_release() -> String {
    rustix::system::uname().release().to_string_lossy().into_owned()
}

/// Has freed memory given back to the system at once if it came in pieces of a megabyte or more
/// (`mallopt(3)`). Left to itself the allocator keeps what each thread has freed once, and
/// a program that looks at millions of entries on changing threads grows by the hour.
pub fn give_back_freed_memory() {
    #[cfg(target_env = "gnu")]
    let threads = std::thread::available_parallelism().map_or(1, |n| n.get() as libc::c_int);
    #[cfg(target_env = "gnu")]
    // SAFETY: mallopt only sets numbers of the allocator, before other threads are begun
    unsafe {
        libc::mallopt(libc::M_MMAP_THRESHOLD, 1 << 20);
        libc::mallopt(libc::M_TRIM_THRESHOLD, 4 << 20);
        // one for each thread that is at work; where threads share one, a scan takes 1.05 times as long
        libc::mallopt(libc::M_ARENA_MAX, 2 * threads + 4);
    }
}

/// Has a write beyond the limit of file sizes (`RLIMIT_FSIZE`) fail with an error instead of ending the program
/// by `SIGXFSZ` (`setrlimit(2)`).
pub fn outlive_file_size_limit() {
    // SAFETY: no handler of ours is run: the signal is ignored
    unsafe {
        libc::signal(libc::SIGXFSZ, libc::SIG_IGN);
    }
}

/// The user that the kernel takes us for.
pub fn effective_user() -> u32 {
    rustix::process::geteuid().as_raw()
}

/// The first directory on the way to `path`, itself included, in which somebody else could put
/// another thing in its place: owned by neither root nor us, or writable by others and not sticky.
///
/// # Errors
///
/// As `stat(2)`. `path` must exist and hold no links.
pub fn exposed_at(path: &Path) -> io::Result<Option<PathBuf>> {
    for directory in path.ancestors() {
        let meta = std::fs::metadata(directory)?;
        let ours = meta.uid() == 0 || meta.uid() == effective_user();
        let open = meta.mode() & 0o022 != 0 && meta.mode() & 0o1000 == 0;
        if !ours || open {
            return Ok(Some(directory.to_owned()));
        }
    }
    Ok(None)
}

/// 128 random bits in hexadecimal (`getrandom(2)`).
///
/// # Errors
///
/// As `getrandom(2)`.
pub fn random_id() -> io::Result<String> {
    let mut bytes = [0u8; 16];
    let got = rustix::rand::getrandom(&mut bytes, rustix::rand::GetRandomFlags::empty())?;
    debug_assert_eq!(got, bytes.len(), "requests of up to 256 bytes are never cut short");
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// Gives the calling thread a descriptor table of its own, a copy of the one it shared until now
/// (`unshare(2)`, `CLONE_FILES`). It has a say over none of the others' descriptors from then on, nor
/// they over its own, so it must not be handed any, and must end without leaving any to others.
///
/// # Errors
///
/// As `unshare(2)`; then the thread goes on with the shared table.
pub fn own_descriptor_table() -> io::Result<()> {
    // SAFETY: memory is not affected. What is unsafe is to use or close a descriptor number of one table
    // in another; the one caller keeps descriptors to the thread that opened them (`scan::held`), and
    // returns those of others to them.
    Ok(unsafe { rustix::thread::unshare_unsafe(rustix::thread::UnshareFlags::FILES) }?)
}

/// Has the calling thread leave the processor to others sooner (`setpriority(2)`, which on Linux is about one
/// thread). Alone it is as fast as before.
pub fn stand_back() {
    // refused, it is as it was
    let _ = rustix::process::nice(5);
}

/// The clock by which the kernel stamps inodes: the real time, in steps of some milliseconds (`clock_gettime(2)`,
/// `CLOCK_REALTIME_COARSE`).
pub fn inode_clock() -> Time {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::RealtimeCoarse);
    Time { sec: time.tv_sec, nsec: time.tv_nsec as u32 }
}

/// Time that all threads of this process together have computed (`clock_gettime(2)`).
pub fn processor_time() -> Duration {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    Duration::new(time.tv_sec.max(0) as u64, time.tv_nsec as u32)
}

/// How often threads of this process have left their processor because they waited for something
/// (`ru_nvcsw` in `getrusage(2)`): for a device, for each other, or asleep.
pub fn times_waited() -> u64 {
    let mut usage = std::mem::MaybeUninit::<libc::rusage>::zeroed();
    // SAFETY: the call writes no more than one rusage there, and all zeros are one too
    let usage = unsafe {
        libc::getrusage(libc::RUSAGE_SELF, usage.as_mut_ptr());
        usage.assume_init()
    };
    usage.ru_nvcsw.max(0) as u64
}

/// Time that all threads of this process together have stood in line for a processor
/// (`/proc/PID/task/TID/schedstat`, sched-stats in the kernel's documentation); nothing where the kernel does not
/// tell. Of threads that have ended nothing is counted.
pub fn processor_wait() -> Duration {
    let tasks = Path::new("/proc/self/task");
    let names = super::names_in(tasks).unwrap_or_default();
    let nanoseconds = names.iter().filter_map(|task| {
        let text = std::fs::read_to_string(tasks.join(task).join("schedstat")).ok()?;
        text.split_ascii_whitespace().nth(1)?.parse::<u64>().ok()
    });
    Duration::from_nanos(nanoseconds.sum())
}

/// Whether addresses count although no memory stands behind them: this process may only have so many
/// (`RLIMIT_AS` in `getrlimit(2)`), or the system promises no more than it has (`vm.overcommit_memory` in `proc(5)`).
pub fn addresses_are_scarce() -> bool {
    let strict = || {
        let how = std::fs::read_to_string("/proc/sys/vm/overcommit_memory");
        how.map_or(true, |how| how.trim() == "2")
    };
    rustix::process::getrlimit(Resource::As).current.is_some() || strict()
}

/// Raises the soft limit of open descriptors to the hard one; returns what it is then.
pub fn raise_descriptor_limit() -> u64 {
    let Rlimit { current, maximum } = rustix::process::getrlimit(Resource::Nofile);
    let wanted = maximum.unwrap_or(1 << 20);
    let raised = Rlimit { current: Some(wanted), maximum };
    match rustix::process::setrlimit(Resource::Nofile, raised) {
        Ok(()) => wanted,
        Err(_) => current.unwrap_or(wanted),
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
    use std::time::Instant;

    use super::*;

    #[test]
    fn who_sleeps_has_waited_each_time() {
        let before = times_waited();
        (0..200).for_each(|_| std::thread::sleep(Duration::from_micros(50)));
        let after = times_waited();
        assert!(after >= before + 200, "{before} and then {after}");
    }

    #[test]
    fn more_threads_than_processors_stand_in_line_for_them() {
        if !std::path::Path::new("/proc/self/schedstat").exists() {
            eprintln!("SKIPPED: this kernel does not tell how long threads stand in line");
            return;
        }
        let threads = 2 * std::thread::available_parallelism().map_or(2, std::num::NonZero::get);
        let (before, begun, stop) = (processor_wait(), Instant::now(), AtomicBool::new(false));
        let stood = std::thread::scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|| {
                    while !stop.load(Relaxed) {
                        std::hint::spin_loop();
                    }
                });
            }
            let stood = loop {
                let stood = processor_wait().saturating_sub(before);
                if stood > Duration::from_millis(10) || begun.elapsed() > Duration::from_secs(20) {
                    break stood;
                }
                std::thread::sleep(Duration::from_millis(5));
            };
            stop.store(true, Relaxed);
            stood
        });
        assert!(stood > Duration::from_millis(10), "{stood:?}");
    }
}
