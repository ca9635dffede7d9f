//! What other volumes, mounted on top, cover.

use std::collections::HashSet;
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::OFlags;

use super::Item;
use crate::catalog::Catalog;
use crate::kernel::{self, DirReader, Kind, Mount, Stat, open_beneath, private_mount};
use crate::shown::shown;
use crate::units::Bytes;
use crate::volume::{Class, Volume};

/// The places of a volume that something is mounted on, without those that lie in another of them.
pub(super) fn covered_places(volume: &Volume, mounts: &[Mount]) -> Vec<PathBuf> {
    let at = &volume.mount_point;
    if volume.class == Class::Simulated {
        return Vec::new();
    }
    let own = mounts.iter().rfind(|mount| mount.mount_point == *at && mount.dev == volume.dev);
    let Some(own) = own else { return Vec::new() };
    let mut places: Vec<PathBuf> = mounts
        .iter()
        .filter(|mount| mount.parent == own.id && mount.mount_point != *at)
        .map(|mount| mount.mount_point.clone())
        .collect();
    places.sort();
    // parts in order: what lies in a place comes behind it
    places.dedup_by(|inner, outer| inner.starts_with(outer));
    places
}

/// What lies there, through a private clone of the mount; nothing is unmounted or changed.
///
/// # Errors
///
/// `EPERM` for all but root. A single place that cannot be read is left out of the sum, and says so.
pub(super) fn look(
    volume: &Volume,
    places: &[PathBuf],
    catalog: Option<&Catalog>,
) -> io::Result<Vec<Item>> {
    if places.is_empty() {
        return Ok(Vec::new());
    }
    let clone = private_mount(&volume.mount_point)?;
    let mut count = Count { seen: HashSet::new(), catalog };
    let mut items = Vec::new();
    for place in places {
        let relative = place.strip_prefix(&volume.mount_point).unwrap_or(place);
        items.push(match count.place(&clone, relative) {
            Ok((bytes, entries)) => Item {
                what: match entries {
                    1 => format!("{}  nothing but the mount point itself", shown(place)),
                    _ => format!("{}  {entries} entries", shown(place)),
                },
                bytes: Some(bytes.get() as i64),
            },
            Err(error) => Item::words(format!("{}  cannot be seen: {error}", shown(place))),
        });
    }
    items.sort_by_key(|item| std::cmp::Reverse(item.bytes));
    Ok(items)
}

struct Count<'a> {
    /// Inodes with several names that have been counted.
    seen: HashSet<(u64, u64)>,
    catalog: Option<&'a Catalog>,
}

impl Count<'_> {
    /// Bytes on disk and names of what stands at a place: a directory with all below it, or a file.
    fn place(&mut self, clone: &OwnedFd, relative: &Path) -> io::Result<(Bytes, u64)> {
        let top = open_beneath(clone, relative, OFlags::PATH | OFlags::NOFOLLOW)?;
        let stat = kernel::stat_descriptor(&top)?;
        let mut sum = (self.bytes(&stat), 1);
        if stat.kind == Kind::Directory {
            walk(kernel::open_directory(&top, c".")?, &mut |_, _, stat| {
                sum.0 += self.bytes(stat);
                sum.1 += 1;
            })?;
        }
        Ok(sum)
    }

    /// What an inode adds: nothing if another name of it has been counted, here or in the scan.
    fn bytes(&mut self, stat: &Stat) -> Bytes {
        let key = (stat.dev, stat.ino);
        let known = stat.kind != Kind::Directory
            && stat.links > 1
            && (self.catalog.is_some_and(|catalog| catalog.has_linked(key.0, key.1))
                || !self.seen.insert(key));
        if known { Bytes::ZERO } else { stat.allocated() }
    }
}

/// Tells every entry below a directory: the directory that holds it, its name, the facts. Does not leave
/// the mount. What vanishes meanwhile is left out.
///
/// # Errors
///
/// As `openat(2)`, `statx(2)` and `getdents64(2)`.
pub(super) fn walk(top: OwnedFd, each: &mut dyn FnMut(&OwnedFd, &OsStr, &Stat)) -> io::Result<()> {
    let mount = kernel::stat_descriptor(&top)?.mount;
    let mut reader = DirReader::default();
    let mut names = |fd: &OwnedFd| -> io::Result<Vec<OsString>> {
        let mut names = Vec::new();
        reader.read(fd, |entry| {
            names.push(OsStr::from_bytes(entry.name.to_bytes()).to_owned());
            true
        })?;
        Ok(names)
    };
    let first = names(&top)?;
    let mut levels = vec![(top, first)];
    while let Some((fd, left)) = levels.last_mut() {
        let Some(name) = left.pop() else {
            levels.pop();
            continue;
        };
        let stat = match kernel::stat_at(&*fd, name.as_os_str()) {
            Ok(stat) => stat,
            Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
            Err(error) => return Err(error),
        };
        if stat.mount != mount {
            continue;
        }
        each(fd, &name, &stat);
        if stat.kind == Kind::Directory {
            match kernel::open_directory(&*fd, name.as_os_str()) {
                Ok(below) => {
                    let left = names(&below)?;
                    levels.push((below, left));
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => return Err(error),
            }
        }
    }
    Ok(())
}
