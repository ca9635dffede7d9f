//! Files that have no name any more and yet take space, because a process has them open.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, CWD, StatxFlags};

use super::beneath::{CallError, Op};
use super::ioctl;
use super::process::{Process, other_processes};
use super::read_dir::names_in;
use super::stat::{Kind, Stat};
use super::{Mount, mounts};
use crate::units::{Bytes, Time};

/// How a process holds a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hold {
    /// The process that holds the file.
    pub process: Process,
    /// Numbers of its descriptors.
    pub descriptors: Vec<u32>,
    /// It is mapped into memory, or is the program that runs.
    pub mapped: bool,
    /// It is its working directory or root.
    pub directory: bool,
}

/// A file without a name that processes hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeletedFile {
    /// Device number of its file system as the mount table has it.
    pub volume: u64,
    /// Device number as `stat(2)` gives it; of a subvolume, another one.
    pub dev: u64,
    /// Its inode number.
    pub ino: u64,
    /// What it is.
    pub kind: Kind,
    /// Its path as it was, seen from the process.
    pub path: PathBuf,
    /// Length in bytes, holes included.
    pub size: u64,
    /// Its bytes on disk; nothing if this user may not know.
    pub allocated: Option<Bytes>,
    /// The last change of its inode: it was deleted then or before, if it is known.
    pub changed: Time,
    /// When the file was last written.
    pub written: Time,
    /// The processes that hold it, with their descriptors.
    pub holds: Vec<Hold>,
}

/// All such files that this user can see. Anonymous memory is left out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DeletedFiles {
    /// The largest first.
    pub files: Vec<DeletedFile>,
    /// Processes that this user may not look into: 0 for root.
    pub hidden: usize,
    /// What the kernel answered instead of telling: then no file may be taken for not being held.
    pub trouble: Option<String>,
    /// When this was collected.
    pub taken: Time,
}

impl DeletedFiles {
    /// Collects from `/proc` (`proc_pid_fd(5)`, `proc_pid_map_files(5)`, `proc_pid_maps(5)`). Processes
    /// that end meanwhile are left out; this one is too.
    pub fn collect(now: Time) -> Self {
        let mut collector =
            Collector { mounts: mounts().unwrap_or_default(), ..Collector::default() };
        let processes = other_processes().unwrap_or_else(|error| {
            collector.trouble = Some(error.whole());
            Vec::new()
        });
        for (pid, home) in processes {
            collector.look_into(pid, &home);
        }
        for (file, by) in kernel_held() {
            let known = collector.files.entry((file.dev, file.ino)).or_insert(file);
            known.holds.push(by);
        }
        let mut files: Vec<DeletedFile> = collector.files.into_values().collect();
        for file in &mut files {
            file.holds.sort_by_key(|hold| hold.process.pid);
        }
        files.sort_by(|a, b| (b.allocated, a.ino).cmp(&(a.allocated, b.ino)));
        Self { files, hidden: collector.hidden, trouble: collector.trouble, taken: now }
    }

    /// The deleted files of one file system.
    pub fn on_volume(&self, dev: u64) -> impl Iterator<Item = &DeletedFile> {
        self.files.iter().filter(move |file| file.volume == dev)
    }

    /// The deleted files whose path was below a directory.
    pub fn below<'a>(&'a self, root: &'a Path) -> impl Iterator<Item = &'a DeletedFile> {
        self.files.iter().filter(move |file| file.path.starts_with(root))
    }
}

/// How a link below `/proc` leads to a file.
#[derive(Clone, Copy)]
enum HoldVia {
    Descriptor(u32),
    Mapped,
    Directory,
}

#[derive(Default)]
struct Collector {
    mounts: Vec<Mount>,
    files: BTreeMap<(u64, u64), DeletedFile>,
    hidden: usize,
    trouble: Option<String>,
}

impl Collector {
    fn look_into(&mut self, pid: u32, home: &Path) {
        let descriptors = match names_in(&home.join("fd")) {
            Ok(descriptors) => descriptors,
            Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => {
                self.hidden += usize::from(!Process::is_of_kernel(pid));
                return;
            }
            // it has ended
            Err(error) if matches!(error.raw_os_error(), Some(libc::ENOENT | libc::ESRCH)) => {
                return;
            }
            Err(error) => {
                self.trouble = Some(CallError::on(Op::ReadDirectory, home)(error).whole());
                return;
            }
        };
        for fd in descriptors {
            if let Some(number) = fd.to_str().and_then(|name| name.parse().ok()) {
                self.follow(pid, &home.join("fd").join(fd), HoldVia::Descriptor(number));
            }
        }
        self.follow(pid, &home.join("exe"), HoldVia::Mapped);
        for link in ["cwd", "root"] {
            self.follow(pid, &home.join(link), HoldVia::Directory);
        }
        let mut refused = false;
        let maps = home.join("map_files");
        for map in names_in(&maps).unwrap_or_default() {
            refused |= !self.follow(pid, &maps.join(map), HoldVia::Mapped);
        }
        if refused {
            self.read_maps(pid, home);
        }
    }

    /// Looks where a link leads; says whether that was allowed.
    fn follow(&mut self, pid: u32, link: &Path, way: HoldVia) -> bool {
        // most are not deleted, and reading the link is all that they cost
        let Ok(target) = std::fs::read_link(link) else { return true };
        let Some(path) = target.as_os_str().as_bytes().strip_suffix(b" (deleted)") else {
            return true;
        };
        let wanted = StatxFlags::BASIC_STATS | StatxFlags::MNT_ID;
        // a server that is gone is not waited for
        let flags = AtFlags::STATX_DONT_SYNC;
        let Ok(found) = rustix::fs::statx(CWD, link, flags, wanted) else { return false };
        let stat = Stat::of_statx(&found);
        let volume = match self.mounts.iter().find(|mount| mount.id == stat.mount) {
            Some(mount) => mount.dev,
            None => stat.dev,
        };
        let path = PathBuf::from(OsStr::from_bytes(path));
        if stat.links == 0 && !is_memory(&path) {
            let file = DeletedFile {
                volume,
                dev: stat.dev,
                ino: stat.ino,
                kind: stat.kind,
                path,
                size: stat.size,
                allocated: Some(stat.allocated()),
                changed: stat.ctime,
                written: stat.mtime,
                holds: Vec::new(),
            };
            self.note(pid, file, way);
        }
        true
    }

    /// Mappings as text, for a user who may not follow them: that they are there, not how large.
    fn read_maps(&mut self, pid: u32, home: &Path) {
        let maps = std::fs::read(home.join("maps")).unwrap_or_default();
        for line in maps.split(|b| *b == b'\n') {
            let Some(file) = mapped_file(line) else { continue };
            if !is_memory(&file.path) {
                self.note(pid, file, HoldVia::Mapped);
            }
        }
    }

    fn note(&mut self, pid: u32, file: DeletedFile, way: HoldVia) {
        let known = self.files.entry((file.dev, file.ino)).or_insert(file);
        let at = match known.holds.iter().position(|hold| hold.process.pid == pid) {
            Some(at) => at,
            None => {
                let Some(process) = Process::look(pid) else { return };
                let descriptors = Vec::new();
                known.holds.push(Hold { process, descriptors, mapped: false, directory: false });
                known.holds.len() - 1
            }
        };
        let hold = &mut known.holds[at];
        match way {
            HoldVia::Descriptor(number) => hold.descriptors.push(number),
            HoldVia::Mapped => hold.mapped = true,
            HoldVia::Directory => hold.directory = true,
        }
    }
}

/// Deleted files that loop devices stand on (`loop(4)`): the kernel itself holds them. How much they
/// take it does not tell.
fn kernel_held() -> Vec<(DeletedFile, Hold)> {
    let mut found = Vec::new();
    let blocks = Path::new("/sys/block");
    for name in names_in(blocks).unwrap_or_default() {
        let backing = blocks.join(&name).join("loop/backing_file");
        let backing = std::fs::read(backing).unwrap_or_default();
        let Some(path) = backing.trim_ascii_end().strip_suffix(b" (deleted)") else { continue };
        let Some((dev, ino)) = loop_backing(&Path::new("/dev").join(&name)) else { continue };
        let command = format!("{} (kernel)", crate::shown::shown(&name));
        let process = Process { pid: 0, started: 0, user: 0, command };
        let file = unknown(dev, ino, path);
        let by = Hold { process, descriptors: Vec::new(), mapped: false, directory: false };
        found.push((file, by));
    }
    found
}

/// Device and inode of the file behind a loop device.
fn loop_backing(device: &Path) -> Option<(u64, u64)> {
    // linux/loop.h: struct loop_info64 begins with the two
    const GET_STATUS64: u32 = 0x4C05;
    const SIZE: usize = 232;
    let device = std::fs::File::open(device).ok()?;
    let mut status = [0u8; SIZE];
    ioctl::call(&device, GET_STATUS64, &mut status, SIZE).ok()?;
    Some((new_dev(ioctl::u64_at(&status, 0)), ioctl::u64_at(&status, 8)))
}

/// A device number as the kernel passes it in structures (`new_encode_dev`), made one of ours.
fn new_dev(dev: u64) -> u64 {
    let (major, minor) = (dev >> 8 & 0xFFF, dev & 0xFF | dev >> 12 & 0xFFF00);
    rustix::fs::makedev(major as u32, minor as u32)
}

/// A deleted file of which no more is known than where it is.
fn unknown(dev: u64, ino: u64, path: &[u8]) -> DeletedFile {
    DeletedFile {
        volume: dev,
        dev,
        ino,
        kind: Kind::File,
        path: PathBuf::from(OsStr::from_bytes(path)),
        size: 0,
        allocated: None,
        changed: Time::at(0),
        written: Time::at(0),
        holds: Vec::new(),
    }
}

/// Memory that only looks like a file: `memfd_create(2)`, `shmget(2)`, shared anonymous mappings.
fn is_memory(path: &Path) -> bool {
    let path = path.as_os_str().as_bytes();
    [&b"/memfd:"[..], b"/SYSV", b"/dev/zero", b"/[", b"/i915", b"/drm mm"]
        .iter()
        .any(|start| path.starts_with(start))
}

/// A line of `proc_pid_maps(5)` about a deleted file.
fn mapped_file(line: &[u8]) -> Option<DeletedFile> {
    let line = line.strip_suffix(b" (deleted)")?;
    let mut fields = line.splitn(6, |b| *b == b' ');
    let mut text = || fields.next().and_then(|field| std::str::from_utf8(field).ok());
    let (_range, _rights, _offset) = (text()?, text()?, text()?);
    let (major, minor) = text()?.split_once(':')?;
    let number = |text| u32::from_str_radix(text, 16).ok();
    let dev = rustix::fs::makedev(number(major)?, number(minor)?);
    let ino = text()?.parse().ok()?;
    let path = fields.next()?.trim_ascii_start();
    Some(unknown(dev, ino, path))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_a_mapping_is_read_and_only_of_a_deleted_file() {
        let line =
            b"7f0-7f1 r--s 00000000 fe:01 4711                 /srv/tide gauge/a b (deleted)";
        let file = mapped_file(line).unwrap();
        assert_eq!((file.ino, file.dev), (4711, rustix::fs::makedev(0xfe, 1)));
        assert_eq!(file.path, Path::new("/srv/tide gauge/a b"));
        assert_eq!(mapped_file(b"7f0-7f1 r--s 00000000 fe:01 4711   /srv/tide"), None);
    }
}
