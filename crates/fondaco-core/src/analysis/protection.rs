//! Places that Fondaco does not remove, whatever it is told.

use std::collections::{BTreeSet, HashMap};
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use crate::kernel::{self, Mount, mount_of};
use crate::shown::{DocPath, Shown};
use crate::state::State;

/// How the names of holding areas begin.
pub const HOLDING_AREA_PREFIX: &str = ".fondaco-held-";

/// System directories that are protected with all that is in them (`hier(7)`).
const WHOLE: &[&str] = &[
    "/bin",
    "/boot",
    "/dev",
    "/etc",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/proc",
    "/run",
    "/sbin",
    "/sys",
    "/usr/bin",
    "/usr/include",
    "/usr/lib",
    "/usr/lib32",
    "/usr/lib64",
    "/usr/libexec",
    "/usr/sbin",
    "/usr/share",
    "/var/lib/dpkg",
    "/var/lib/rpm",
    "/var/lib/systemd",
];

/// System directories that must stay, while what is in them may go.
const ITSELF: &[&str] = &[
    "/home",
    "/media",
    "/mnt",
    "/opt",
    "/root",
    "/srv",
    "/tmp",
    "/usr",
    "/usr/local",
    "/usr/src",
    "/var",
    "/var/backups",
    "/var/cache",
    "/var/lib",
    "/var/local",
    "/var/log",
    "/var/mail",
    "/var/opt",
    "/var/spool",
    "/var/tmp",
];

/// What is said of places that belong to the system.
const SYSTEM: &str = "a system directory";

/// Where something lies on its file system, however it is reached: bind mounts and their sources agree.
#[derive(Clone, Debug, PartialEq, Eq)]
struct OnFileSystem {
    device: u64,
    path: PathBuf,
}

/// A place that is protected with all that is in it.
#[derive(Clone, Debug)]
struct Place {
    path: PathBuf,
    what: &'static str,
    within: Option<OnFileSystem>,
    /// It holds what runs have taken away: it may go if it is given up by name.
    holds_our_own: bool,
}

/// See the [module](self). Made once and asked often.
#[derive(Clone, Debug, Default)]
pub struct Protection {
    whole: Vec<Place>,
    itself: Vec<(PathBuf, &'static str)>,
    given_up: Vec<PathBuf>,
    mounts: Vec<Mount>,
    /// Why it is not known what is protected: then everything is.
    unknown: Option<String>,
}

/// A path without links in it; `None` if it leads to nothing. What is known of directories above is not asked again.
fn without_links(path: &Path, known: &mut HashMap<PathBuf, Option<PathBuf>>) -> Option<PathBuf> {
    if let Some(known) = known.get(path) {
        return known.clone();
    }
    let real = match (path.parent(), path.file_name()) {
        (Some(parent), Some(name)) => without_links(parent, known).and_then(|parent| {
            let path = parent.join(name);
            match path.symlink_metadata() {
                Ok(found) if found.is_symlink() => path.canonicalize().ok(),
                Ok(_) => Some(path),
                Err(_) => None,
            }
        }),
        _ => Some(path.to_owned()),
    };
    known.insert(path.to_owned(), real.clone());
    real
}

impl Protection {
    /// What is mounted, as far as that could be read.
    pub(crate) fn mounts(&self) -> &[Mount] {
        &self.mounts
    }

    /// What is protected on this machine: system directories, mount points, simulated volumes,
    /// Fondaco's state, its depots and holding areas, and the running program.
    pub fn of_system(state: &State) -> Self {
        let mut protection = Self::default();
        match kernel::mounts() {
            Ok(mounts) => protection.mounts = mounts,
            Err(error) => protection.unknown = Some(format!("the mounts cannot be read: {error}")),
        }
        let system = |list: &[&str]| list.iter().map(PathBuf::from).collect::<Vec<_>>();
        let mut known = HashMap::new();
        for path in system(WHOLE) {
            // where `/bin` is a link to `/usr/bin`, both names are kept
            if let Some(real) = without_links(&path, &mut known).filter(|real| *real != path) {
                protection.add(real, SYSTEM);
            }
            protection.add(path, SYSTEM);
        }
        for path in system(ITSELF) {
            protection.itself.push((path, SYSTEM));
        }
        for mount in &protection.mounts {
            protection.itself.push((mount.mount_point.clone(), "a mount point"));
        }
        for volume in &state.settings.simulated {
            protection.itself.push((volume.path.clone(), "the root of a simulated volume"));
        }
        protection.add(state.directory().to_owned(), "Fondaco's own state directory");
        protection.add_own(&state.depot(), "the depot that archives go to");
        match state.places() {
            Ok(places) => {
                for DocPath(depot) in &places.depots {
                    protection.add_own(depot, "a depot that holds archives");
                }
                for DocPath(area) in &places.holding_areas {
                    protection.add_own(area, "a holding area");
                }
            }
            Err(error) => protection.unknown = Some(error.to_string()),
        }
        if let Ok(program) = std::env::current_exe() {
            protection.add(program, "the running program");
        }
        protection
    }

    /// Protects one more place with all that is in it.
    pub fn add(&mut self, path: PathBuf, what: &'static str) {
        let within = self.within(&path);
        self.whole.push(Place { path, what, within, holds_our_own: false });
    }

    /// As [`Protection::add`], for a place that holds what runs have taken away, by every name that it has.
    fn add_own(&mut self, path: &Path, what: &'static str) {
        let real = path.canonicalize().unwrap_or_else(|_| path.to_owned());
        for path in BTreeSet::from([path.to_owned(), real]) {
            let within = self.within(&path);
            self.whole.push(Place { path, what, within, holds_our_own: true });
        }
    }

    /// Takes the protection from a depot or holding area that its owner has named as one to be removed, or from a part of a
    /// kernel that does not run ([`is_kernel_part`]).
    pub fn give_up(&mut self, path: &Path) {
        let within = self.within(path);
        let is_same = |place: &Place| place.path == path || place.within == within;
        self.whole.retain(|place| !(place.holds_our_own && is_same(place)));
        self.given_up.push(path.to_owned());
    }

    /// Where a path lies on its file system.
    fn within(&self, path: &Path) -> Option<OnFileSystem> {
        let mount = mount_of(path, &self.mounts)?;
        let below = path.strip_prefix(&mount.mount_point).ok()?;
        Some(OnFileSystem { device: mount.dev, path: mount.root.join(below) })
    }

    /// The device of a path's file system and its path there, which are the same however it is reached.
    pub fn on_file_system(&self, path: &Path) -> Option<(u64, PathBuf)> {
        self.within(path).map(|within| (within.device, within.path))
    }

    /// Why this entry must not go, if it must not: it is a protected place, lies in one, or has one
    /// below it.
    pub fn reason(&self, path: &Path) -> Option<String> {
        if let Some(unknown) = &self.unknown {
            return Some(format!("it is not known what is: {unknown}"));
        }
        let within = self.within(path);
        let is_given_up = self.given_up.iter().any(|given_up| path.starts_with(given_up));
        let held = path.iter().chain(within.iter().flat_map(|within| within.path.iter()));
        if !is_given_up && held.into_iter().any(is_holding_area) {
            return Some("holds what Fondaco has set aside; purge it in the journal".to_owned());
        }
        if path.parent().is_none() {
            return Some("the root of the system".to_owned());
        }
        let lies_in = |place: &&Place| {
            path.starts_with(&place.path) || is_inside(within.as_ref(), place.within.as_ref())
        };
        let is_kernel =
            self.given_up.iter().any(|place| path.starts_with(place) && is_kernel_part(place));
        let counts = |place: &&Place| !(is_kernel && place.what == SYSTEM);
        if let Some(found) = self.whole.iter().filter(counts).find(lies_in) {
            let Place { path: place, what, holds_our_own, .. } = found;
            let way =
                if *holds_our_own { ", which goes only if it is given up by name" } else { "" };
            return Some(match path == place {
                true => format!("it is {what}{way}"),
                false => format!("it lies in {}, {what}{way}", Shown(place)),
            });
        }
        if let Some((_, what)) = self.itself.iter().find(|(place, _)| path == place) {
            return Some(format!("it is {what}"));
        }
        let contains = |place: &&Place| {
            place.path.starts_with(path) || is_inside(place.within.as_ref(), within.as_ref())
        };
        let below = self.whole.iter().find(contains).map(|place| (&place.path, place.what));
        let below = below.or_else(|| {
            let found = self.itself.iter().find(|(place, _)| place.starts_with(path));
            found.map(|(place, what)| (place, *what))
        });
        below.map(|(place, what)| format!("it contains {}, {what}", Shown(place)))
    }

    /// Whether nothing is protected about a directory and anything below it, but for holding areas by their names. For
    /// entries of it that are no directories [`Protection::reason`] then says nothing either.
    pub fn leaves_alone(&self, directory: &Path) -> bool {
        let within = self.within(directory);
        let concerns = |place: &Place| {
            let there = place.within.as_ref();
            place.path.starts_with(directory)
                || directory.starts_with(&place.path)
                || is_inside(within.as_ref(), there)
                || is_inside(there, within.as_ref())
        };
        let mut held = directory.iter().chain(within.iter().flat_map(|within| within.path.iter()));
        self.unknown.is_none()
            && !held.any(is_holding_area)
            && !self.whole.iter().any(concerns)
            && !self.itself.iter().any(|(place, _)| place.starts_with(directory))
    }

    /// The places below a directory that are protected, as they are named from there: first those that are protected
    /// with all in them, then those of which only the place itself is. `None` if all of the directory is protected.
    pub fn places_below(&self, directory: &Path) -> Option<(Vec<PathBuf>, Vec<PathBuf>)> {
        let here = self.within(directory);
        let lies_in = |place: &Place| {
            directory.starts_with(&place.path) || is_inside(here.as_ref(), place.within.as_ref())
        };
        if self.unknown.is_some() || self.whole.iter().any(lies_in) {
            return None;
        }
        let named = |place: &Place| {
            if place.path.starts_with(directory) {
                return Some(place.path.clone());
            }
            let (here, there) = here.as_ref().zip(place.within.as_ref())?;
            let is_below = here.device == there.device;
            let below = is_below.then(|| there.path.strip_prefix(&here.path).ok()).flatten()?;
            Some(directory.join(below))
        };
        let itself = self.itself.iter().map(|(place, _)| place);
        let itself = itself.filter(|place| place.starts_with(directory)).cloned().collect();
        Some((self.whole.iter().filter_map(named).collect(), itself))
    }

    /// Why an entry below a target must not go with it: it is a holding area, of whichever user or run.
    pub fn reason_below(&self, target: &Path, name: &OsStr) -> Option<&'static str> {
        let is_given_up = self.given_up.iter().any(|given_up| target.starts_with(given_up));
        (!is_given_up && is_holding_area(name)).then_some("it holds what Fondaco has set aside")
    }
}

/// What a name below `/boot` is of: the release, and whether it is the image of the kernel.
pub(crate) fn release_in_boot(name: &str) -> Option<(&str, bool)> {
    for prefix in ["vmlinuz-", "vmlinux-", "kernel-"] {
        if let Some(release) = name.strip_prefix(prefix) {
            return Some((release, true));
        }
    }
    for prefix in ["initrd.img-", "System.map-", "config-"] {
        if let Some(release) = name.strip_prefix(prefix) {
            return Some((release, false));
        }
    }
    let release = name.strip_prefix("initramfs-")?.strip_suffix(".img")?;
    Some((release.strip_suffix("-fallback").unwrap_or(release), false))
}

/// Whether a path is a part of a kernel that does not run: an image and what belongs to it below `/boot`, or a directory
/// of modules. Such a part goes only with its kernel, and only if it is given up.
pub fn is_kernel_part(path: &Path) -> bool {
    let Some((above, name)) = kernel::directory_and_name(path) else { return false };
    let is_modules =
        ["/lib/modules", "/usr/lib/modules"].iter().any(|place| above.as_os_str() == *place);
    let is_boot = above.as_os_str() == "/boot";
    let Some(name) = name.to_str().filter(|_| is_modules || is_boot) else { return false };
    let release = match is_boot {
        true => release_in_boot(name).map(|(release, _)| release),
        false => Some(name).filter(|name| name.starts_with(|c: char| c.is_ascii_digit())),
    };
    release.is_some_and(|release| !release.is_empty() && release != kernel::running_release())
}

/// Whether a name is that of a holding area, of whichever user or run.
pub(crate) fn is_holding_area(name: &OsStr) -> bool {
    name.as_bytes().starts_with(HOLDING_AREA_PREFIX.as_bytes())
}

fn is_inside(inner: Option<&OnFileSystem>, outer: Option<&OnFileSystem>) -> bool {
    inner.zip(outer).is_some_and(|(inner, outer)| {
        inner.device == outer.device && inner.path.starts_with(&outer.path)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn protected_places_their_contents_and_what_contains_them_are_refused() {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        let state = State::open(&home.join("var/state")).unwrap();
        let mut protection = Protection::of_system(&state);
        protection.add(home.join("keep"), "protected by a rule");
        let refused = |path: &str| protection.reason(&home.join(path)).is_some();
        for path in ["/", "/etc", "/etc/passwd", "/usr", "/usr/bin/env", "/home", "/proc/1", "/var"]
        {
            assert!(protection.reason(Path::new(path)).is_some(), "{path}");
        }
        assert!(refused("var") && refused("var/state") && refused("var/state/journal.db"));
        assert!(refused("keep/a") && refused("keep") && refused(".fondaco-held-0/3/1"));
        assert!(!refused("keepsake") && !refused("var/other"));
        assert_eq!(protection.reason(Path::new("/var/log/tide.log")), None);
        // what is said of a directory holds for each of its files
        for directory in ["", "keep", "keep/a", "var", "var/other", "else", ".fondaco-held-0/3"] {
            let directory = home.join(directory);
            let files = ["keep", "var", "x", ".fondaco-held-7", "keepsake"]
                .map(|name| directory.join(name));
            let are_free = files.iter().filter(|file| !is_holding_area(file.file_name().unwrap()));
            let are_free = are_free.clone().all(|file| protection.reason(file).is_none());
            assert!(are_free || !protection.leaves_alone(&directory), "{directory:?}");
        }
        assert!(protection.leaves_alone(&home.join("else")));
        // a part of a kernel goes only if it is given up, and never one of the running kernel
        let running = format!("/boot/vmlinuz-{}", kernel::running_release());
        for (place, can_go) in [
            ("/boot/vmlinuz-0.1.2", true),
            ("/boot/initramfs-0.1.2.img", true),
            ("/lib/modules/0.1.2", true),
            ("/boot/grub", false),
            ("/lib/modules", false),
            (&running, false),
        ] {
            assert!(protection.reason(Path::new(place)).is_some(), "{place}");
            let mut given_up = protection.clone();
            given_up.give_up(Path::new(place));
            assert_eq!(given_up.reason(Path::new(place)).is_none(), can_go, "{place}");
            assert!(given_up.reason(Path::new("/boot/vmlinuz-0.1")).is_some(), "{place}");
        }
        let program = std::env::current_exe().unwrap();
        assert!(protection.reason(&program).is_some());
        assert!(protection.reason(program.parent().unwrap()).is_some());
    }
}
