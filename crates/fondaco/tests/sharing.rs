//! Sharing that is cut short at any of its calls, on real file systems: every file keeps its contents and all else that it
//! had, and the journal finishes or undoes the rest.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use common::disturbed::{disturbed, to_disturb};
use common::mounted::Mounted;
use common::{FONDACO, Ran, Seen, differences, picture};
use fondaco_core::kernel::extents;

/// Three equal files on a file system of its own, of which two are to share the blocks of the third.
struct Place {
    root: PathBuf,
    before: BTreeMap<PathBuf, Seen>,
    /// With the state directory and the plan, on another file system.
    beside: tempfile::TempDir,
}

impl Place {
    fn new(volume: &Mounted) -> Self {
        let root = volume.path().join("seamark");
        let _ = std::fs::remove_dir_all(&root);
        std::fs::create_dir(&root).unwrap();
        for (mode, name) in [(0o600, "stays.raw"), (0o640, "one.raw"), (0o644, "other.raw")] {
            let path = root.join(name);
            let mut contents = vec![7; 150_000];
            contents.extend(vec![9; 70_001]);
            std::fs::write(&path, contents).unwrap();
            std::fs::set_permissions(&path, PermissionsExt::from_mode(mode)).unwrap();
        }
        rustix::fs::sync();
        let place = Self { before: picture(&root), root, beside: tempfile::tempdir().unwrap() };
        let (root, plan) = (place.root.to_str().unwrap(), place.plan());
        let keep = ["--keep", "stays.raw", "--plan", "share", "-o", plan.to_str().unwrap()];
        place.fondaco(&[&["duplicates", root], &keep[..]].concat()).ok();
        place
    }

    fn state(&self) -> PathBuf {
        self.beside.path().join("state")
    }

    fn plan(&self) -> PathBuf {
        self.beside.path().join("plan.json")
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        let mut command = Command::new(FONDACO);
        Ran(command.arg("--state").arg(self.state()).args(arguments).output().unwrap())
    }

    fn is_as_before(&self, when: &str) {
        let mut different = differences(&self.before, &picture(&self.root), &[]);
        // a put back changes its directory, and gives it back only times that could be read before
        different.retain(|path| *path != self.root);
        assert_eq!(different, [] as [PathBuf; 0], "{when}");
    }

    /// What the journal says of each copy, which must be true; those that failed and may share blocks are not put back.
    fn states(&self, when: &str) -> Vec<String> {
        let journal = self.fondaco(&["journal", "--json"]).ok().json();
        if journal["runs"].as_array().unwrap().is_empty() {
            return Vec::new();
        }
        let run = self.fondaco(&["journal", "1", "--json"]).ok().json();
        let mut states = Vec::new();
        for action in run["actions"].as_array().unwrap() {
            let path = Path::new(action["path"].as_str().unwrap());
            let (state, message) = (action["state"].as_str().unwrap(), &action["message"]);
            match state {
                "shared" => assert!(is_shared(path), "{when}: {path:?} is not shared"),
                "refused" => assert_ne!(message, "", "{when}: {path:?} says why"),
                "failed" => {
                    let message = message.as_str().unwrap();
                    assert!(message.contains("may be shared"), "{when}: {path:?}: {message}");
                }
                "not begun" => {}
                other => panic!("{when}: {path:?} is {other}: {message}"),
            }
            states.push(state.to_owned());
        }
        states
    }
}

fn is_shared(path: &Path) -> bool {
    let found = extents(std::fs::File::open(path).unwrap()).unwrap();
    !found.is_empty() && found.iter().all(|extent| extent.shared)
}

/// Every call with `KILLS=all`, otherwise one in four of them.
#[test]
fn sharing_that_is_cut_short_at_any_call_changes_no_file_and_is_finished_or_undone() {
    let mut cuts = 0;
    for fs_type in ["btrfs", "xfs"] {
        let Some(volume) = Mounted::new(fs_type, 320) else { return };
        for (kind, (call, instead)) in [
            ("ioctl", "signal=SIGKILL"),
            ("fsync", "signal=SIGKILL"),
            ("fdatasync", "signal=SIGKILL"),
            ("pwrite64", "signal=SIGKILL"),
            ("fcntl", "signal=SIGKILL"),
            ("openat2", "signal=SIGKILL"),
            ("ioctl", "error=EIO"),
            ("ioctl", "error=EOPNOTSUPP"),
            ("fsync", "error=EIO"),
            ("pwrite64", "error=ENOSPC"),
            ("statx", "error=EIO"),
            ("openat2", "error=EACCES"),
        ]
        .into_iter()
        .enumerate()
        {
            let step = if ["pwrite64", "statx", "fcntl"].contains(&call) { 5 } else { 1 };
            for when in to_disturb(kind, step) {
                let place = Place::new(&volume);
                let plan = place.plan();
                let command = ["carry-out", plan.to_str().unwrap()];
                let (cut, code) = disturbed(&place.state(), &command, (call, instead), when);
                if !cut {
                    break;
                }
                cuts += 1;
                let when = format!("{fs_type}: {call} number {when}, {instead}, exit {code:?}");
                let states = place.states(&when);
                place.is_as_before(&when);
                let mut last = 1;
                if states.iter().any(|state| state == "not begun") {
                    place.fondaco(&["journal", "1", "--finish"]).ok();
                    place.is_as_before(&when);
                    last = 2;
                }
                for run in (1..=last).rev().filter(|_| !states.is_empty()) {
                    let back = place.fondaco(&["put-back", &run.to_string()]);
                    assert!([0, 3].contains(&back.code()), "{when}: {}{}", back.out(), back.err());
                }
                place.is_as_before(&when);
                let failed = states.iter().any(|state| state == "failed");
                for copy in ["one.raw", "other.raw"].iter().filter(|_| !failed) {
                    assert!(!is_shared(&place.root.join(copy)), "{when}: {copy} is put back");
                }
            }
        }
    }
    println!("{cuts} cuts");
    assert!(cuts > 20, "only {cuts} cuts: sharing makes more calls than that");
}
