//! A run that is killed at any instant: nothing is lost, and the journal finishes or undoes it.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use common::{FONDACO, Ran, Seen, differences, picture};

/// A small tree with one target for each deed, and what each was before.
struct Place {
    _directory: tempfile::TempDir,
    root: PathBuf,
    state: PathBuf,
    plan: PathBuf,
    before: BTreeMap<PathBuf, Seen>,
}

impl Place {
    fn new(copies: usize) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        let root = home.join("seamark");
        let write = |path: String, size: usize| {
            let path = root.join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, vec![b'~'; size]).unwrap();
        };
        for copy in 0..copies {
            write(format!("aside/{copy}.log"), 5000);
            write(format!("delete/{copy}/below/a.csv"), 3000);
            write(format!("delete/{copy}/b.csv"), 100);
            write(format!("delete-file/{copy}.part"), 4000);
            write(format!("archive/{copy}/c.raw"), 9000);
        }
        write("kept/precious".into(), 10);
        let place = Self {
            state: home.join("state"),
            plan: home.join("plan.json"),
            before: picture(&root),
            _directory: directory,
            root,
        };
        let (depot, mut arguments) = (home.join("depot"), vec!["plan".to_owned()]);
        for copy in 0..copies {
            for (deed, target) in [
                ("--set-aside", format!("aside/{copy}.log")),
                ("--delete", format!("delete/{copy}")),
                ("--delete", format!("delete-file/{copy}.part")),
                ("--archive", format!("archive/{copy}")),
            ] {
                arguments.extend([deed.to_owned(), place.root.join(target).display().to_string()]);
            }
        }
        let last = ["--depot", depot.to_str().unwrap(), "-o", place.plan.to_str().unwrap()];
        arguments.extend(last.map(str::to_owned));
        place.fondaco(&arguments.iter().map(String::as_str).collect::<Vec<_>>()).ok();
        place
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        let mut command = Command::new(FONDACO);
        Ran(command.arg("--state").arg(&self.state).args(arguments).output().unwrap())
    }

    /// After a kill: whatever was not to be deleted is in its place, held, or in a proved archive;
    /// what was to be deleted is there whole or gone whole. Then the rest is done, and undone.
    fn survives(&self, when: &str) {
        let journal = self.fondaco(&["journal", "--json"]).ok().json();
        if journal["runs"].as_array().unwrap().is_empty() {
            assert_eq!(self.different(&[]), [] as [PathBuf; 0], "{when}: not begun");
            return;
        }
        assert_ne!(journal["runs"][0]["state"], "running", "{when}: settled");
        let run = self.fondaco(&["journal", "1", "--json"]).ok().json();
        let mut waiting = 0;
        for action in run["actions"].as_array().unwrap() {
            let path = PathBuf::from(action["path"].as_str().unwrap());
            let whole = self.is_whole(&path);
            match action["state"].as_str().unwrap() {
                "not begun" => {
                    assert!(whole, "{when}: {path:?} is not whole");
                    waiting += 1;
                }
                "set aside" => {
                    let held = PathBuf::from(action["held"].as_str().unwrap());
                    assert!(held.exists() && !path.exists(), "{when}: {path:?}");
                }
                "archived" => {
                    let archive = action["archive"].as_str().unwrap();
                    let listed = Command::new("tar").args(["--zstd", "-tf", archive]).output();
                    let listed = String::from_utf8(listed.unwrap().stdout).unwrap();
                    let name = path.join("c.raw");
                    let name = name.strip_prefix("/").unwrap().to_str().unwrap();
                    assert!(listed.contains(name) && !path.exists(), "{when}: {listed}");
                }
                "deleted" => assert!(!path.exists(), "{when}: {path:?} is half there"),
                other => panic!("{when}: {path:?} is {other}: {}", action["message"]),
            }
        }
        if waiting > 0 {
            self.fondaco(&["journal", "1", "--finish"]).ok();
        }
        for run in ["2", "1"].iter().skip(usize::from(waiting == 0)) {
            self.fondaco(&["put-back", run]).ok();
        }
        let deleted = ["delete", "delete-file"].map(|name| self.root.join(name));
        let names: Vec<PathBuf> = self
            .different(&deleted)
            .into_iter()
            .filter(|path| self.before.get(path).is_none_or(|_| !path.is_dir()))
            .collect();
        assert_eq!(names, [] as [PathBuf; 0], "{when}: after put back");
        let held: Vec<_> = [&self.root, &self.state]
            .iter()
            .flat_map(|at| std::fs::read_dir(at).unwrap())
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .filter(|name| name.starts_with(".fondaco"))
            .collect();
        assert_eq!(held, [] as [String; 0], "{when}: nothing is left in a holding area");
    }

    fn different(&self, except: &[PathBuf]) -> Vec<PathBuf> {
        differences(&self.before, &picture(&self.root), except)
    }

    fn is_whole(&self, target: &Path) -> bool {
        let now = if target.exists() { picture(target) } else { BTreeMap::new() };
        let then = self.before.iter().filter(|(path, _)| path.starts_with(target));
        then.clone().count() == now.len()
            && then
                .into_iter()
                .all(|(path, seen)| now.get(path).map(|s| &s.what) == Some(&seen.what))
    }
}

#[test]
fn a_run_killed_at_every_change_it_makes_loses_nothing() {
    let mut kills = 0;
    for call in ["renameat2", "rename", "unlinkat", "mkdirat", "fsync", "fdatasync", "pwrite64"] {
        let step = if call == "pwrite64" { 5 } else { 1 };
        for when in (1..200).step_by(step) {
            let place = Place::new(1);
            let inject = format!("inject={call}:signal=SIGKILL:when={when}");
            let status = Command::new("strace")
                .args([
                    "-f",
                    "-qq",
                    "-o",
                    "/dev/null",
                    "-e",
                    &format!("trace={call}"),
                    "-e",
                    &inject,
                ])
                .args([FONDACO, "--state"])
                .arg(&place.state)
                .args(["carry-out", place.plan.to_str().unwrap()])
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .status()
                .unwrap();
            if status.success() {
                break;
            }
            kills += 1;
            place.survives(&format!("killed at {call} number {when}"));
        }
    }
    assert!(kills > 25, "only {kills} kills: the run makes more changes than that");
}

#[test]
fn a_run_killed_at_any_time_loses_nothing() {
    for round in 0..8u64 {
        let place = Place::new(12);
        let mut run = Command::new(FONDACO)
            .arg("--state")
            .arg(&place.state)
            .args(["carry-out", place.plan.to_str().unwrap()])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(15 + 12 * round));
        // it may have come to its end already, which must be as good
        let _ = run.kill();
        run.wait().unwrap();
        place.survives(&format!("killed in round {round}"));
    }
}
