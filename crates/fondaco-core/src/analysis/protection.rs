//! Places that Fondaco does not remove, whatever it is told.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use crate::kernel;
use crate::shown::Shown;
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

/// See the [module](self). Made once and asked often.
#[derive(Clone, Debug, Default)]
pub struct Protection {
    whole: Vec<(PathBuf, &'static str)>,
    itself: Vec<(PathBuf, &'static str)>,
}

impl Protection {
    /// What is protected on this machine: system directories, mount points, simulated volumes,
    /// Fondaco's state, its depot and the running program.
    pub fn of_system(state: &State) -> Self {
        let mut protection = Self::default();
        let system = |list: &[&str]| list.iter().map(PathBuf::from).collect::<Vec<_>>();
        for path in system(WHOLE) {
            // where `/bin` is a link to `/usr/bin`, both names are kept
            if let Ok(real) = path.canonicalize() {
                protection.whole.push((real, "a system directory"));
            }
            protection.whole.push((path, "a system directory"));
        }
        for path in system(ITSELF) {
            protection.itself.push((path, "a system directory"));
        }
        for mount in kernel::mounts().unwrap_or_default() {
            protection.itself.push((mount.mount_point, "a mount point"));
        }
        for volume in &state.settings.simulated {
            protection.itself.push((volume.path.clone(), "the root of a simulated volume"));
        }
        let own = state.directory().to_owned();
        protection.whole.push((own, "Fondaco's own state directory"));
        protection.whole.push((state.depot(), "the depot that archives go to"));
        if let Ok(program) = std::env::current_exe() {
            protection.whole.push((program, "the running program"));
        }
        protection
    }

    /// Protects one more place with all that is in it.
    pub fn add(&mut self, path: PathBuf, what: &'static str) {
        self.whole.push((path, what));
    }

    /// Why this entry must not go, if it must not: it is a protected place, lies in one, or has one
    /// below it.
    pub fn reason(&self, path: &Path) -> Option<String> {
        let is_held = |name: &OsStr| name.as_bytes().starts_with(HOLDING_AREA_PREFIX.as_bytes());
        if path.iter().any(is_held) {
            return Some("holds what Fondaco has set aside; purge it in the journal".to_owned());
        }
        if path.parent().is_none() {
            return Some("the root of the system".to_owned());
        }
        if let Some((place, what)) = self.whole.iter().find(|(place, _)| path.starts_with(place)) {
            return Some(if path == place {
                format!("it is {what}")
            } else {
                format!("it lies in {}, {what}", Shown(place))
            });
        }
        if let Some((_, what)) = self.itself.iter().find(|(place, _)| path == place) {
            return Some(format!("it is {what}"));
        }
        let below =
            self.whole.iter().chain(&self.itself).find(|(place, _)| place.starts_with(path));
        below.map(|(place, what)| format!("it contains {}, {what}", Shown(place)))
    }
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
        let program = std::env::current_exe().unwrap();
        assert!(protection.reason(&program).is_some());
        assert!(protection.reason(program.parent().unwrap()).is_some());
    }
}
