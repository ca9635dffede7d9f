//! Symbolic links that lead to nothing: asked of the kernel, and not guessed.

use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{AtFlags, CWD, StatxFlags};
use rustix::io::Errno;

use super::found::Leftover;
use super::group::GroupName;
use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, Kind, Mount};

/// What may be there at another time.
pub(super) struct Places {
    /// Mount points of `/etc/fstab` (`fstab(5)`) where nothing is mounted now.
    unmounted: Vec<PathBuf>,
    /// Why that table cannot be read: then anything may be unmounted.
    table_trouble: Option<String>,
    /// Where something is mounted as soon as it is asked for (`autofs(5)`): that is not done.
    automounted: Vec<PathBuf>,
}

/// Where volumes are mounted that come and go (`hier(7)`, file-hierarchy(7)).
const REMOVABLE: [&str; 3] = ["/media", "/run/media", "/mnt"];
/// What is made while the machine runs.
const RUNTIME: [&str; 5] = ["/run", "/var/run", "/proc", "/dev", "/sys"];

/// What a link came to.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Led {
    Somewhere,
    Nowhere,
    InCircles,
    /// It is not known, and why.
    NotKnown(String),
}

impl Places {
    pub(super) fn of_system(mounts: &[Mount], root: &Path) -> Self {
        let (table, table_trouble) = match std::fs::read(root.join("etc/fstab")) {
            Ok(table) => (table, None),
            Err(error) if error.kind() == io::ErrorKind::NotFound => (Vec::new(), None),
            Err(error) => (Vec::new(), Some(format!("/etc/fstab cannot be read: {error}"))),
        };
        let lines = table.split(|byte| *byte == b'\n');
        let point = |line: &[u8]| {
            let mut fields = line.split(u8::is_ascii_whitespace).filter(|field| !field.is_empty());
            let first = fields.next()?;
            let point = fields.next().filter(|_| !first.starts_with(b"#"))?;
            point.starts_with(b"/").then(|| PathBuf::from(OsStr::from_bytes(point)))
        };
        let is_mounted = |point: &PathBuf| mounts.iter().any(|mount| mount.mount_point == *point);
        let unmounted = lines.filter_map(point).filter(|point| !is_mounted(point)).collect();
        let automounted = mounts.iter().filter(|mount| mount.fs_type == "autofs");
        Self {
            unmounted,
            table_trouble,
            automounted: automounted.map(|mount| mount.mount_point.clone()).collect(),
        }
    }

    /// Follows a link, without having anything mounted.
    fn follow(&self, link: &Path) -> Led {
        let target = match std::fs::read_link(link) {
            Ok(target) => target,
            Err(error) => return Led::NotKnown(format!("it cannot be read: {error}")),
        };
        let place = place_of(link, &target);
        let shown = crate::shown::Shown(&target);
        if self.leads_through_automount(&place) {
            return Led::NotKnown(format!(
                "leads to {shown}, where something is mounted on demand"
            ));
        }
        let flags = AtFlags::NO_AUTOMOUNT | AtFlags::STATX_DONT_SYNC;
        match rustix::fs::statx(CWD, link, flags, StatxFlags::TYPE) {
            Ok(_) => Led::Somewhere,
            Err(Errno::NOENT | Errno::NOTDIR) => self.nowhere(&place, &shown.to_string()),
            Err(Errno::LOOP) => Led::InCircles,
            Err(error) => Led::NotKnown(format!("leads to {shown}: {}", io::Error::from(error))),
        }
    }

    /// Whether the way to a place goes through a directory in which something is mounted on demand, also by way of other
    /// links: asking for what lies behind it would have it mounted. What cannot be looked at ends the way.
    fn leads_through_automount(&self, place: &Path) -> bool {
        if self.automounted.is_empty() {
            return false;
        }
        // as many links as the kernel follows (path_resolution(7))
        let mut links_left = 40;
        let mut way = PathBuf::new();
        let mut ahead: Vec<PathBuf> = place.components().rev().map(as_path).collect();
        while let Some(part) = ahead.pop() {
            match part.components().next() {
                Some(Component::ParentDir) => {
                    way.pop();
                    continue;
                }
                Some(Component::RootDir) => way = PathBuf::from("/"),
                _ => way.push(&part),
            }
            if self.automounted.contains(&way) {
                return true;
            }
            let Ok(stat) = kernel::stat_path(&way) else { return false };
            if stat.kind != Kind::Link {
                continue;
            }
            let Ok(target) = std::fs::read_link(&way) else { return false };
            way.pop();
            ahead.extend(target.components().rev().map(as_path));
            links_left -= 1;
            if links_left == 0 {
                return false;
            }
        }
        false
    }

    fn nowhere(&self, place: &Path, shown: &str) -> Led {
        if let Some(point) = self.unmounted.iter().find(|point| place.starts_with(point)) {
            let point = crate::shown::Shown(point);
            return Led::NotKnown(format!("leads to {shown}: {point} is not mounted"));
        }
        if let Some(trouble) = &self.table_trouble {
            return Led::NotKnown(format!("leads to {shown}: {trouble}"));
        }
        if REMOVABLE.iter().any(|above| place.starts_with(above)) {
            return Led::NotKnown(format!("leads to {shown}, which may not be mounted now"));
        }
        if RUNTIME.iter().any(|above| place.starts_with(above)) {
            return Led::NotKnown(format!("leads to {shown}, which is made while a program runs"));
        }
        if place.as_os_str().as_bytes().windows(12).any(|part| part == b"/annex/objec") {
            return Led::NotKnown(format!("leads to {shown}: its contents may be kept elsewhere"));
        }
        Led::Nowhere
    }
}

fn as_path(part: Component<'_>) -> PathBuf {
    PathBuf::from(part.as_os_str())
}

/// Where a link leads, by its text alone.
fn place_of(link: &Path, target: &Path) -> PathBuf {
    let mut place = PathBuf::new();
    let from = link.parent().unwrap_or(Path::new("/"));
    for part in from.join(target).components() {
        match part {
            Component::ParentDir => {
                place.pop();
            }
            Component::CurDir => {}
            part => place.push(part),
        }
    }
    place
}

/// A link that a program makes as a lock, with who holds it as its text: it never leads anywhere.
fn is_lock(name: &[u8]) -> bool {
    name.starts_with(b".#")
        || matches!(
            name,
            b"lock" | b".lock" | b"SingletonLock" | b"SingletonCookie" | b"SingletonSocket"
        )
}

/// Looks at every link; gives what leads to nothing, or may.
pub(super) fn broken(
    catalog: &Catalog,
    links: &[EntryId],
    places: &Places,
) -> Vec<(GroupName, Leftover)> {
    let mut found = Vec::new();
    for id in links {
        let path = catalog.path(*id);
        if is_lock(catalog.own_name(*id)) || kernel::stat_path(&path).is_err() {
            continue;
        }
        let item = |note: &str| Leftover::entry(catalog, *id, Arc::from(note));
        match places.follow(&path) {
            Led::Somewhere => {}
            Led::Nowhere => {
                let target = std::fs::read_link(&path).unwrap_or_default();
                let note = format!("leads to {}, which is not there", crate::shown::Shown(&target));
                found.push((GroupName::BrokenLinks, item(&note)));
            }
            Led::InCircles => found.push((GroupName::LinkCircles, item("leads back to itself"))),
            Led::NotKnown(why) => {
                let item = item(&why).that_stays("it is not known whether it is broken");
                found.push((GroupName::BrokenLinks, item));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn only_what_the_kernel_does_not_find_is_broken() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        std::fs::create_dir(root.join("etc")).unwrap();
        let fstab =
            format!("# comment {0}/gone\nUUID=1 {0}/later ext4 noauto 0 0\n", root.display());
        std::fs::write(root.join("etc/fstab"), fstab).unwrap();
        let mut places = Places::of_system(&[], &root);
        places.automounted.push(root.join("net"));
        let not_known = Led::NotKnown(String::new());
        let cases = [
            ("etc/fstab", Led::Somewhere),
            ("gone", Led::Nowhere),
            ("etc/fstab/x", Led::Nowhere),
            ("etc/../gone/x", Led::Nowhere),
            ("later/x", not_known.clone()),
            ("net/host/x", not_known.clone()),
            ("/mnt/none/x", not_known.clone()),
            ("/run/none.sock", not_known.clone()),
            ("circle", Led::InCircles),
        ];
        symlink("circle", root.join("circle")).unwrap();
        for (number, (target, led)) in cases.iter().enumerate() {
            let link = root.join(number.to_string());
            symlink(target, &link).unwrap();
            let found = match places.follow(&link) {
                Led::NotKnown(_) => not_known.clone(),
                led => led,
            };
            assert_eq!(found, *led, "{target}");
        }
        // a table that cannot be read may name any place
        std::fs::remove_file(root.join("etc/fstab")).unwrap();
        std::fs::create_dir(root.join("etc/fstab")).unwrap();
        let places = Places::of_system(&[], &root);
        assert!(matches!(places.follow(&root.join("1")), Led::NotKnown(_)));
    }
}
