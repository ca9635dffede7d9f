//! A run that is killed at any instant, or whose calls fail: nothing is lost, and the journal finishes or undoes it.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use common::disturbed::{disturbed, strace, to_disturb};
use common::{FONDACO, Ran, Seen, differences, picture};
use serde_json::Value;

/// A small tree with one target for each deed, and what each was before.
struct Place {
    _directory: tempfile::TempDir,
    root: PathBuf,
    state: PathBuf,
    plan: PathBuf,
    /// On another file system, where this machine has one.
    elsewhere: tempfile::TempDir,
    before: BTreeMap<PathBuf, Seen>,
}

/// One action as the journal tells it.
#[derive(Debug)]
struct JournalAction {
    path: PathBuf,
    state: String,
    held: PathBuf,
    archive: String,
    moved: PathBuf,
    message: String,
}

/// A directory on a file system in memory, if there is one: on another than the tree, as a rule.
fn elsewhere() -> tempfile::TempDir {
    let memory = Path::new("/dev/shm");
    match tempfile::tempdir_in(memory) {
        Ok(directory) => directory,
        Err(_) => tempfile::tempdir().unwrap(),
    }
}

/// Whether it is another name of the file that stays.
fn is_linked(path: &Path) -> bool {
    let stays = path.to_str().unwrap().replace("/link/", "/stays/");
    let inode = |path: &Path| path.symlink_metadata().unwrap().ino();
    stays != path.to_str().unwrap() && inode(path) == inode(Path::new(&stays))
}

impl JournalAction {
    fn is_archived(&self) -> bool {
        let listed = Command::new("tar").args(["--zstd", "-tf", &self.archive]).output().unwrap();
        let name = self.path.join("c.raw");
        let name = name.strip_prefix("/").unwrap().to_str().unwrap();
        String::from_utf8(listed.stdout).unwrap().contains(name)
    }
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
            write(format!("move/{copy}/d.raw"), 6000);
            write(format!("rename/{copy}.log"), 2000);
            write(format!("link/{copy}.raw"), 7000);
            write(format!("stays/{copy}.raw"), 7000);
            write(format!("bin/files/{copy}.png"), 3000);
            write(format!("bin/info/{copy}.png.trashinfo"), 60);
        }
        write("kept/precious".into(), 10);
        write("back/other.png".into(), 10);
        for copy in 0..copies {
            // linked to a file of another mode
            let mode = std::os::unix::fs::PermissionsExt::from_mode(0o640);
            std::fs::set_permissions(root.join(format!("link/{copy}.raw")), mode).unwrap();
        }
        let place = Self {
            state: home.join("state"),
            plan: home.join("plan.json"),
            before: picture(&root),
            elsewhere: elsewhere(),
            _directory: directory,
            root,
        };
        let (depot, mut arguments) = (home.join("depot"), vec!["plan".to_owned()]);
        arguments.push("--clear-emptied".to_owned());
        for copy in 0..copies {
            for (deed, target) in [
                ("--set-aside", format!("aside/{copy}.log")),
                ("--delete", format!("delete/{copy}")),
                ("--delete", format!("delete-file/{copy}.part")),
                ("--archive", format!("archive/{copy}")),
                ("--move", format!("move/{copy}")),
                ("--move", format!("rename/{copy}.log")),
                ("--set-aside", format!("link/{copy}.raw")),
                ("--set-aside", format!("stays/{copy}.raw")),
                ("--set-aside", format!("bin/files/{copy}.png")),
                ("--set-aside", format!("bin/info/{copy}.png.trashinfo")),
            ] {
                arguments.extend([deed.to_owned(), place.root.join(target).display().to_string()]);
            }
        }
        let (elsewhere, plan) = (place.elsewhere.path().join("moved"), &place.plan);
        for (option, path) in [("--depot", &depot), ("--to", &elsewhere), ("-o", plan)] {
            arguments.extend([option.to_owned(), path.to_str().unwrap().to_owned()]);
        }
        place.fondaco(&arguments.iter().map(String::as_str).collect::<Vec<_>>()).ok();
        place.edit_plan();
        place
    }

    /// What is below `rename` goes to a directory of its own volume, what is below `link` becomes another name of what is
    /// below `stays`, and what is in `bin/files` goes back to `back`.
    fn edit_plan(&self) {
        let mut plan: Value = serde_json::from_slice(&std::fs::read(&self.plan).unwrap()).unwrap();
        let path = |action: &Value| action["target"]["path"].as_str().unwrap().to_owned();
        let actions = plan["actions"].as_array_mut().unwrap();
        let target_of: BTreeMap<String, Value> =
            actions.iter().map(|action| (path(action), action["target"].clone())).collect();
        // their directories stay
        actions.retain(|action| {
            let path = path(action);
            let stay = ["/stays", "/link", "/bin", "/bin/files", "/bin/info"];
            !path.contains("/stays/")
                && !path.contains("/bin/info/")
                && !stay.iter().any(|end| path.ends_with(end))
        });
        for (number, action) in (1..).zip(actions) {
            let path = path(action);
            action["number"] = number.into();
            if path.contains("/rename/") {
                action["to"] = self.root.with_file_name("beside").to_str().unwrap().into();
            } else if path.contains("/link/") {
                action["do"] = "link".into();
                action["stays"] = target_of[&path.replace("/link/", "/stays/")].clone();
            } else if path.contains("/bin/files/") {
                action["do"] = "restore".into();
                action["place"] = path.replace("/bin/files/", "/back/").into();
                let info = format!("{}.trashinfo", path.replace("/bin/files/", "/bin/info/"));
                action["info"] = target_of[&info].clone();
            }
        }
        std::fs::write(&self.plan, plan.to_string()).unwrap();
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        let mut command = Command::new(FONDACO);
        Ran(command.arg("--state").arg(&self.state).args(arguments).output().unwrap())
    }

    /// After a kill: whatever was not to be deleted is in its place, held, or in a proved archive;
    /// what was to be deleted is there whole or gone whole. Then the rest is done, and undone.
    fn survives(&self, when: &str) {
        let Some(actions) = self.actions(when) else { return };
        let mut waiting = 0;
        for action in &actions {
            match action.state.as_str() {
                "not begun" => waiting += 1,
                "set aside" | "archived" | "moved" | "deleted" | "linked" | "restored" => {}
                other => panic!("{when}: {:?} is {other}: {}", action.path, action.message),
            }
            self.is_where_it_says(action, when);
        }
        if waiting > 0 {
            self.fondaco(&["journal", "1", "--finish"]).ok();
        }
        for run in ["2", "1"].iter().skip(usize::from(waiting == 0)) {
            self.fondaco(&["put-back", run]).ok();
        }
        self.is_as_before(&self.to_delete(), when);
        let elsewhere = self.elsewhere.path().to_owned();
        let held: Vec<_> = [&self.root, &self.state, &elsewhere, &elsewhere.join("moved")]
            .iter()
            .filter_map(|at| std::fs::read_dir(at).ok())
            .flatten()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .filter(|name| name.starts_with(".fondaco"))
            .collect();
        assert_eq!(held, [] as [String; 0], "{when}: nothing is left in a holding area");
    }

    /// After a call failed: as after a kill, but some actions may have been refused, or have failed and say where
    /// the rest is. Whatever can be put back is.
    fn stands(&self, when: &str) {
        let Some(actions) = self.actions(when) else { return };
        let mut except = Vec::new();
        for action in &actions {
            self.is_where_it_says(action, when);
            if self.is_to_delete(&action.path)
                || action.state == "failed" && !self.is_whole(&action.path)
            {
                except.push(action.path.clone());
            }
        }
        let back = self.fondaco(&["put-back", "1"]);
        assert!([0, 3].contains(&back.code()), "{when}: {}{}", back.out(), back.err());
        self.is_as_before(&except, when);
    }

    /// What the journal says of the run's actions; nothing if it was never begun, and then nothing has changed.
    fn actions(&self, when: &str) -> Option<Vec<JournalAction>> {
        let journal = self.fondaco(&["journal", "--json"]).ok().json();
        if journal["runs"].as_array().unwrap().is_empty() {
            assert_eq!(self.different(&[]), [] as [PathBuf; 0], "{when}: not begun");
            return None;
        }
        assert_ne!(journal["runs"][0]["state"], "running", "{when}: settled");
        let run = self.fondaco(&["journal", "1", "--json"]).ok().json();
        let text = |value: &Value| value.as_str().unwrap_or("").to_owned();
        let told = |action: &Value| JournalAction {
            path: text(&action["path"]).into(),
            state: text(&action["state"]),
            held: text(&action["held"]).into(),
            archive: text(&action["archive"]),
            moved: text(&action["moved"]).into(),
            message: text(&action["message"]),
        };
        Some(run["actions"].as_array().unwrap().iter().map(told).collect())
    }

    fn is_where_it_says(&self, action: &JournalAction, when: &str) {
        let path = &action.path;
        // a directory that the run empties: what was in it is told by itself
        let is_emptied = path.parent() == Some(&self.root);
        match action.state.as_str() {
            "not begun" | "refused" | "failed" if is_emptied => {
                assert!(path.is_dir(), "{when}: {path:?} is {}: {}", action.state, action.message);
            }
            "not begun" => assert!(self.is_whole(path), "{when}: {path:?} is not whole"),
            "refused" => {
                assert!(self.is_whole(path), "{when}: {path:?}: {}", action.message);
                assert_ne!(action.message, "", "{when}: {path:?} says why");
            }
            "set aside" => assert!(action.held.exists() && !path.exists(), "{when}: {path:?}"),
            "archived" => assert!(!path.exists() && action.is_archived(), "{when}: {path:?}"),
            "moved" => {
                assert!(!path.exists() && self.is_moved(action), "{when}: {path:?}");
            }
            "deleted" => assert!(!path.exists(), "{when}: {path:?} is half there"),
            "linked" => assert!(is_linked(path), "{when}: {path:?}"),
            "restored" => assert!(!path.exists(), "{when}: {path:?}"),
            "failed" => {
                let says_where = action.message.contains("what is left of it is");
                let is_kept = self.is_to_delete(path)
                    || !action.archive.is_empty() && action.is_archived()
                    || self.is_moved(action);
                let stands = self.is_whole(path) || says_where && is_kept;
                assert!(stands, "{when}: {path:?}: {}", action.message);
            }
            other => panic!("{when}: {path:?} is {other}: {}", action.message),
        }
    }

    /// Whether all of it lies where it was moved to.
    fn is_moved(&self, action: &JournalAction) -> bool {
        let there = if action.moved.exists() { picture(&action.moved) } else { BTreeMap::new() };
        let then = self.before.iter().filter(|(path, _)| path.starts_with(&action.path));
        let then: Vec<_> = then
            .map(|(path, seen)| (path.strip_prefix(&action.path).unwrap(), &seen.what))
            .collect();
        let there: Vec<_> = there
            .iter()
            .map(|(path, seen)| (path.strip_prefix(&action.moved).unwrap(), &seen.what))
            .collect();
        !then.is_empty() && then == there
    }

    fn to_delete(&self) -> [PathBuf; 2] {
        ["delete", "delete-file"].map(|name| self.root.join(name))
    }

    fn is_to_delete(&self, path: &Path) -> bool {
        self.to_delete().iter().any(|place| path.starts_with(place))
    }

    /// All names are as they were, but for the times of directories that things were taken from, and for what has gone from
    /// its bin back to its place.
    fn is_as_before(&self, except: &[PathBuf], when: &str) {
        let (bin, back) = (self.root.join("bin/files"), self.root.join("back"));
        for (path, seen) in self.before.iter().filter(|(path, _)| path.parent() == Some(&bin)) {
            let places = [path.clone(), back.join(path.file_name().unwrap())];
            let there: Vec<_> = places.iter().filter(|place| place.exists()).collect();
            assert_eq!(there.len(), 1, "{when}: {there:?}");
            assert_eq!(picture(there[0])[there[0]].what, seen.what, "{when}: {there:?}");
            let info = self.root.join("bin/info").join(path.file_name().unwrap());
            let is_said = info.with_extension("png.trashinfo").exists();
            assert!(
                is_said || there[0] != path,
                "{when}: {path:?} is in its bin, and nothing says whose it was"
            );
        }
        let except: Vec<PathBuf> =
            except.iter().cloned().chain([bin, back, self.root.join("bin/info")]).collect();
        let names: Vec<PathBuf> = self
            .different(&except)
            .into_iter()
            .filter(|path| self.before.get(path).is_none_or(|_| !path.is_dir()))
            .collect();
        assert_eq!(names, [] as [PathBuf; 0], "{when}: after put back");
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

/// Every change with `KILLS=all`, otherwise one in four of them.
#[test]
fn a_run_killed_at_any_change_it_makes_loses_nothing() {
    let mut kills = 0;
    for (kind, call) in
        ["renameat2", "linkat", "rename", "unlinkat", "mkdirat", "fsync", "fdatasync", "pwrite64"]
            .into_iter()
            .enumerate()
    {
        let step = if call == "pwrite64" { 5 } else { 1 };
        for when in to_disturb(kind, step) {
            let place = Place::new(1);
            let command = ["carry-out", place.plan.to_str().unwrap()];
            if disturbed(&place.state, &command, (call, "signal=SIGKILL"), when).1 == Some(0) {
                break;
            }
            kills += 1;
            place.survives(&format!("killed at {call} number {when}"));
        }
    }
    println!("{kills} kills");
    assert!(kills > 15, "only {kills} kills: the run makes more changes than that");
}

/// What each call can plausibly answer instead.
const FAULTS: &[(&str, &[&str])] = &[
    ("openat", &["EIO", "EMFILE", "EACCES", "ENOENT"]),
    ("openat2", &["EIO", "EACCES", "ENFILE", "EAGAIN"]),
    ("statx", &["EIO", "EACCES", "ESTALE", "ENOENT"]),
    ("newfstatat", &["EIO", "EACCES", "ENOENT"]),
    ("fstatfs", &["EIO"]),
    ("statfs", &["EIO"]),
    ("faccessat2", &["EIO", "EACCES"]),
    ("getdents64", &["EIO", "ENOENT"]),
    ("readlink", &["EIO", "ENOENT"]),
    ("readlinkat", &["EIO"]),
    ("fcntl", &["EINVAL", "EAGAIN", "ENOLCK"]),
    ("flock", &["EIO", "EAGAIN"]),
    ("renameat2", &["EIO", "ENOSPC", "EXDEV", "EINVAL"]),
    ("linkat", &["EIO", "EPERM"]),
    ("unlinkat", &["EIO", "EBUSY", "EROFS"]),
    ("unlink", &["EIO"]),
    ("mkdirat", &["ENOSPC", "EIO", "EEXIST"]),
    ("mkdir", &["ENOSPC", "EIO"]),
    ("fchmod", &["EIO", "EPERM"]),
    ("fchown", &["EIO"]),
    ("utimensat", &["EPERM", "EIO"]),
    ("fsync", &["EIO", "ENOSPC"]),
    ("syncfs", &["EIO", "ENOSPC"]),
    ("fdatasync", &["EIO", "ENOSPC"]),
    ("pwrite64", &["ENOSPC", "EIO", "EFBIG"]),
    ("write", &["ENOSPC", "EIO"]),
    ("pread64", &["EIO"]),
    ("read", &["EIO"]),
    ("lseek", &["EIO"]),
    ("ftruncate", &["EIO", "ENOSPC"]),
    ("flistxattr", &["EIO", "EOPNOTSUPP"]),
    ("close", &["EIO"]),
    ("getrandom", &["EIO"]),
    ("clone3", &["EAGAIN", "ENOMEM"]),
];

/// How often each call is made by the thread that makes it most.
fn calls_of_a_run() -> BTreeMap<String, usize> {
    let place = Place::new(1);
    let log = place.root.with_file_name("calls");
    let traced = strace()
        .args(["-f", "-qq", "-o", log.to_str().unwrap(), FONDACO, "--state"])
        .arg(&place.state)
        .args(["carry-out", place.plan.to_str().unwrap()])
        .output()
        .unwrap();
    assert!(traced.status.success(), "{}", String::from_utf8_lossy(&traced.stderr));
    let mut by_thread: BTreeMap<(String, String), usize> = BTreeMap::new();
    for line in String::from_utf8_lossy(&std::fs::read(log).unwrap()).lines() {
        if let Some((thread, call)) = line.split_once(' ')
            && let Some((call, _)) = call.trim_start().split_once('(')
        {
            *by_thread.entry((call.to_owned(), thread.to_owned())).or_default() += 1;
        }
    }
    let mut most = BTreeMap::new();
    for ((call, _), count) in by_thread {
        let known: &mut usize = most.entry(call).or_default();
        *known = count.max(*known);
    }
    most
}

/// Every call of a run fails once with every error that it can plausibly have: all of them with `FAULTS=all`, a part of
/// them with `FAULTS=1000-2000`; otherwise some of them spread over the run, and the last syncs, with which restores end.
#[test]
fn a_run_in_which_any_call_fails_loses_nothing_and_says_what_failed() {
    let calls = calls_of_a_run();
    let mut faults = Vec::new();
    for (call, errors) in FAULTS {
        for when in 1..=calls.get(*call).copied().unwrap_or(0) {
            faults.extend(errors.iter().map(|error| (*call, *error, when)));
        }
    }
    assert!(faults.len() > 500, "a run makes more calls than {calls:?}");
    let said = std::env::var("FAULTS").unwrap_or_default();
    let part = said.split_once('-').and_then(|(a, b)| Some((a.parse().ok()?, b.parse().ok()?)));
    let range: std::ops::Range<usize> = match (said.as_str(), part) {
        ("all", _) => 0..faults.len(),
        (_, Some((from, to))) => from..faults.len().min(to),
        _ => 0..40,
    };
    // the step has no divisor in common with any number of faults that is likely
    let mut chosen: Vec<_> = range.map(|at| faults[at * 7919 % faults.len()]).collect();
    if said.is_empty() {
        let syncs = calls["fsync"];
        chosen.extend((syncs.saturating_sub(11)..=syncs).map(|when| ("fsync", "ENOSPC", when)));
    }
    let wanted = chosen.len();
    let mut failed = 0;
    for (tried, (call, error, when)) in chosen.into_iter().enumerate() {
        if !said.is_empty() && tried % 100 == 0 {
            eprintln!("faults: {tried} of {wanted} have been tried, {failed} came");
        }
        let place = Place::new(1);
        let command = ["carry-out", place.plan.to_str().unwrap()];
        let instead = format!("error={error}");
        let (came, code) = disturbed(&place.state, &command, (call, &instead), when);
        failed += usize::from(came);
        let what = format!("{call} number {when} was {error}, exit {code:?}");
        // without the libraries it consists of it does not even begin
        let begun = code != Some(127);
        assert!(!begun || code.is_some_and(|code| [0, 1, 3].contains(&code)), "{what}");
        place.stands(&what);
    }
    if !said.is_empty() {
        eprintln!("faults: {failed} of {wanted} came, nothing lost");
    }
    assert!(failed * 2 > wanted, "only {failed} of {wanted} faults came");
}

/// A power cut must not take a new depot away with the archives in it, once the originals are gone.
#[test]
fn the_names_of_a_new_depot_are_synced_before_anything_is_taken() {
    let place = Place::new(1);
    let log = place.root.with_file_name("calls");
    let traced = Command::new("strace")
        .args(["-f", "-qq", "-y", "-o", log.to_str().unwrap()])
        .args(["-e", "trace=mkdirat,fsync,renameat2", FONDACO, "--state"])
        .arg(&place.state)
        .args(["carry-out", place.plan.to_str().unwrap()])
        .output()
        .unwrap();
    assert!(traced.status.success());
    let log = String::from_utf8_lossy(&std::fs::read(log).unwrap()).into_owned();
    let calls: Vec<&str> = log.lines().collect();
    let find = |from: usize, call: &str, word: &str| {
        let found =
            calls[from..].iter().position(|line| line.contains(call) && line.contains(word));
        from + found.unwrap_or_else(|| panic!("no {call} of {word} in {log}"))
    };
    let made = find(0, "mkdirat", "\"depot\"");
    let home = format!("<{}>", place.root.parent().unwrap().display());
    let synced = find(made, "fsync", &home);
    let depot = place.root.with_file_name("depot");
    let named = find(made, "renameat2", ".tar.zst\"");
    let depot_synced = find(named, "fsync", &format!("<{}>", depot.display()));
    let taken = find(0, "renameat2", "\"1\", RENAME_NOREPLACE");
    assert!(synced < taken && depot_synced < taken, "{log}");
}

/// Whatever stops putting back, a kill or an error: nothing is lost, and another try puts back all that was not deleted.
#[test]
fn putting_back_that_is_cut_short_is_done_by_another_try() {
    let mut cuts = 0;
    for (kind, (call, instead, step)) in [
        ("renameat2", "signal=SIGKILL", 1),
        ("unlinkat", "signal=SIGKILL", 1),
        ("fdatasync", "signal=SIGKILL", 2),
        ("renameat2", "error=EIO", 1),
        ("unlinkat", "error=EIO", 1),
        ("mkdirat", "error=ENOSPC", 1),
        ("fsync", "error=EIO", 1),
        ("pwrite64", "error=ENOSPC", 7),
        ("write", "error=ENOSPC", 2),
        ("openat2", "error=EACCES", 1),
        ("utimensat", "error=EPERM", 1),
        ("fchown", "error=EPERM", 1),
    ]
    .into_iter()
    .enumerate()
    {
        for when in to_disturb(kind, step) {
            let place = Place::new(1);
            place.fondaco(&["carry-out", place.plan.to_str().unwrap()]).ok();
            let (cut, code) = disturbed(&place.state, &["put-back", "1"], (call, instead), when);
            if !cut {
                break;
            }
            cuts += 1;
            let what = format!("{call} number {when}, {instead}, exit {code:?}");
            for action in place.actions(&what).unwrap() {
                let is_emptied = action.path.parent() == Some(&place.root);
                let kept = ["deleted", "restored"].contains(&action.state.as_str())
                    || is_emptied && action.path.is_dir()
                    || place.is_whole(&action.path)
                    || action.held.exists()
                    || is_linked(&action.path)
                    || place.is_moved(&action)
                    || !action.archive.is_empty() && action.is_archived();
                assert!(kept, "{what}: {:?} is lost: {}", action.path, action.message);
            }
            let again = place.fondaco(&["put-back", "1"]);
            assert!([0, 3].contains(&again.code()), "{what}: {}{}", again.out(), again.err());
            place.is_as_before(&place.to_delete(), &what);
        }
    }
    println!("{cuts} cuts");
    assert!(cuts > 10, "only {cuts} cuts: putting back makes more calls than that");
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
