//! The kernel's mount table.

use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// One line of `/proc/self/mountinfo` (`proc_pid_mountinfo(5)`).
///
/// Parsed here and not by a library because the usual ones take the table for UTF-8; a mount
/// point is a file name and may hold any bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount {
    /// Id of the mount, as `statx(2)` reports it.
    pub id: u64,
    /// Id of the mount that it lies in.
    pub parent: u64,
    /// Device number of the file system.
    pub dev: u64,
    /// What part of the file system is mounted: `/`, or a directory of it for a bind mount.
    pub root: PathBuf,
    /// Where it is mounted.
    pub mount_point: PathBuf,
    /// Whether it is mounted read-only.
    pub read_only: bool,
    /// How it keeps times of reading.
    pub access_times: AccessTimes,
    /// Type of the file system: `ext4`, `nfs4` …
    pub fs_type: String,
    /// The device, export or pseudo name it comes from.
    pub source: PathBuf,
}

/// How a mount keeps times of reading (`mount(8)`).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum AccessTimes {
    /// At every reading (`strictatime`).
    Strict,
    /// Once a day, or when it was written since (`relatime`), which is usual.
    #[default]
    Relative,
    /// Never (`noatime`, or mounted read-only).
    Not,
}

/// All mounts that this process sees, in the kernel's order: a later one on the same mount point
/// covers an earlier one.
///
/// # Errors
///
/// If `/proc/self/mountinfo` cannot be read. Lines that make no sense are left out.
pub fn mounts() -> io::Result<Vec<Mount>> {
    // its length is not known before it is read: with room for the usual one, few calls do
    let mut table = Vec::with_capacity(16 * 1024);
    File::open("/proc/self/mountinfo")?.read_to_end(&mut table)?;
    Ok(table.split(|b| *b == b'\n').filter_map(parse_line).collect())
}

/// The mount that `path` lies on, by the longest mount point; the newest if several cover each other.
pub fn mount_of<'a>(path: &Path, mounts: &'a [Mount]) -> Option<&'a Mount> {
    // paths are compared by components, which is slow: most mount points are too long to be asked about
    let fits = |mount: &&Mount| mount.mount_point.as_os_str().len() <= path.as_os_str().len();
    mounts
        .iter()
        .filter(fits)
        .filter(|mount| path.starts_with(&mount.mount_point))
        .max_by_key(|mount| mount.mount_point.components().count())
}

fn parse_line(line: &[u8]) -> Option<Mount> {
    let mut fields = line.split(|b| *b == b' ');
    let mut next = || fields.next();
    let id = std::str::from_utf8(next()?).ok()?.parse().ok()?;
    let parent = std::str::from_utf8(next()?).ok()?.parse().ok()?;
    let (major, minor) = std::str::from_utf8(next()?).ok()?.split_once(':')?;
    let dev = rustix::fs::makedev(major.parse().ok()?, minor.parse().ok()?);
    let root = unescaped(next()?);
    let mount_point = unescaped(next()?);
    let options = next()?;
    while next()? != b"-" {} // optional fields end with a dash
    let fs_type = String::from_utf8_lossy(next()?).into_owned();
    let source = unescaped(next()?);
    let super_options = next().unwrap_or_default();
    let read_only =
        [options, super_options].iter().any(|list| list.split(|b| *b == b',').any(|o| o == b"ro"));
    let has = |option: &[u8]| options.split(|b| *b == b',').any(|o| o == option);
    let access_times = match (has(b"noatime") || read_only, has(b"relatime")) {
        (true, _) => AccessTimes::Not,
        (false, true) => AccessTimes::Relative,
        (false, false) => AccessTimes::Strict,
    };
    Some(Mount { id, parent, dev, root, mount_point, read_only, access_times, fs_type, source })
}

/// Undoes the octal escapes for space, tab, newline and backslash.
fn unescaped(field: &[u8]) -> PathBuf {
    let mut out = Vec::with_capacity(field.len());
    let mut rest = field;
    while let [first, tail @ ..] = rest {
        match (first, tail) {
            (b'\\', [a @ b'0'..=b'3', b @ b'0'..=b'7', c @ b'0'..=b'7', after @ ..]) => {
                out.push((a - b'0') * 64 + (b - b'0') * 8 + (c - b'0'));
                rest = after;
            }
            _ => {
                out.push(*first);
                rest = tail;
            }
        }
    }
    PathBuf::from(OsStr::from_bytes(&out))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mount_line_is_read_with_odd_names_and_optional_fields() {
        let line = b"36 35 98:7 /part\\040one /mnt/tide\\011gauge\\134\xff rw,noatime master:1 \
                     shared:3 - ext4 /dev/sd\\040a ro,errors=continue";
        let mount = parse_line(line).unwrap();
        assert_eq!((mount.id, mount.parent), (36, 35));
        assert_eq!(mount.dev, rustix::fs::makedev(98, 7));
        assert_eq!(mount.root, Path::new("/part one"));
        assert_eq!(mount.mount_point, Path::new(OsStr::from_bytes(b"/mnt/tide\tgauge\\\xff")));
        assert!(mount.read_only);
        assert_eq!(mount.access_times, AccessTimes::Not);
        assert_eq!(
            (mount.fs_type.as_str(), mount.source.as_path()),
            ("ext4", Path::new("/dev/sd a"))
        );
        assert_eq!(parse_line(b"36 35 98:7 / /mnt rw no dash"), None);
    }

    #[test]
    fn a_path_lies_on_the_deepest_mount() {
        let mount = |id, at: &str| Mount {
            id,
            parent: 0,
            dev: 1,
            root: "/".into(),
            mount_point: at.into(),
            read_only: false,
            access_times: AccessTimes::Relative,
            fs_type: "ext4".into(),
            source: "/dev/a".into(),
        };
        let table = [mount(1, "/"), mount(2, "/srv"), mount(3, "/srv/data"), mount(4, "/srv")];
        let on = |path: &str| mount_of(Path::new(path), &table).unwrap().id;
        assert_eq!((on("/srv/data/x"), on("/srv/database"), on("/etc")), (3, 4, 1));
    }
}
