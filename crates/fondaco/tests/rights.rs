//! The program as an ordinary user, and where the system gives it little.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use common::{FONDACO, Ran, Terminal, picture};
use serde_json::Value;

/// Somebody who is not root, with a place of his own where he also finds the program: it may lie where he may not look.
struct User {
    _directory: tempfile::TempDir,
    number: u32,
    at: PathBuf,
}

impl User {
    /// `None` if not root: then every other test is of an ordinary user.
    fn new(number: u32) -> Option<Self> {
        if !common::is_root() {
            eprintln!("SKIPPED: only root can become somebody else");
            return None;
        }
        let directory = tempfile::tempdir().unwrap();
        let at = directory.path().canonicalize().unwrap();
        std::fs::set_permissions(&at, PermissionsExt::from_mode(0o755)).unwrap();
        // copied by another process: a descriptor that is open for writing in this one goes to every child that is
        // begun meanwhile, and then the program would be busy
        let copied = Command::new("cp").arg(FONDACO).arg(at.join("fondaco")).status();
        assert!(copied.unwrap().success());
        let user = Self { _directory: directory, number, at };
        user.owns("state");
        Some(user)
    }

    /// Makes a directory that is his.
    fn owns(&self, name: &str) -> PathBuf {
        let path = self.at.join(name);
        std::fs::create_dir(&path).unwrap();
        chown(&path, Some(self.number), Some(self.number)).unwrap();
        path
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        self.run(&self.at.join("fondaco"), arguments)
    }

    /// With at most so many threads.
    fn fondaco_within(&self, threads: u32, arguments: &[&str]) -> Ran {
        let program = self.at.join("fondaco");
        let limit = format!("--nproc={threads}");
        let mut all = vec![limit.as_str(), program.to_str().unwrap()];
        all.extend(arguments);
        self.run("prlimit".as_ref(), &all)
    }

    fn run(&self, program: &Path, arguments: &[&str]) -> Ran {
        self.run_in(program, arguments, &[("FONDACO_STATE", self.at.join("state"))])
    }

    /// With nothing in its environment but this.
    fn run_in(&self, program: &Path, arguments: &[&str], variables: &[(&str, PathBuf)]) -> Ran {
        let mut command = Command::new(program);
        let path = std::env::var_os("PATH").unwrap_or_default();
        command.args(arguments).env_clear().env("PATH", path).current_dir("/");
        command.envs(variables.iter().cloned());
        Ran(command.uid(self.number).gid(self.number).output().unwrap())
    }
}

#[test]
fn an_ordinary_user_is_told_once_what_more_rights_would_tell() {
    let Some(user) = User::new(65_534) else { return };
    let held = user.fondaco(&["held", "--json"]).ok().json();
    assert_eq!(held["sure"], "at-least");
    let hidden = held["processes_not_seen"].as_u64().unwrap();
    assert!(hidden >= 1, "pid 1 at least is somebody else's");
    let words = user.fondaco(&["held"]).ok().out();
    assert_eq!(words.matches("could not be looked into").count(), 1, "{words}");
    // of a small volume of its own, so that the scan of it is short
    let mount = user.at.join("mnt");
    std::fs::create_dir(&mount).unwrap();
    let mounted = Command::new("mount").args(["-t", "tmpfs", "tide"]).arg(&mount).status().unwrap();
    assert!(mounted.success());
    std::fs::create_dir(mount.join("closed")).unwrap();
    std::fs::write(mount.join("closed/gauge"), vec![1; 50_000]).unwrap();
    let below = mount.join("below");
    std::fs::create_dir(&below).unwrap();
    std::fs::set_permissions(mount.join("closed"), PermissionsExt::from_mode(0o700)).unwrap();
    Command::new("mount").args(["-t", "tmpfs", "over"]).arg(&below).status().unwrap();
    let books = user.fondaco(&["books", mount.to_str().unwrap(), "--json"]);
    let text = user.fondaco(&["books", mount.to_str().unwrap()]);
    Command::new("umount").arg("-R").arg(&mount).status().unwrap();
    let books = books.ok().json();
    let sure = |name: &str| -> Value {
        let lines = books["lines"].as_array().unwrap();
        lines.iter().find(|line| line["line"] == name).unwrap().clone()
    };
    assert_eq!(sure("beneath")["sure"], "unknown");
    assert_eq!(sure("held")["sure"], "at-least");
    let unreadable = sure("unreadable");
    assert_eq!((&unreadable["sure"], &unreadable["count"]), (&"at-most".into(), &1.into()));
    assert!(unreadable["bytes"].as_u64().unwrap() >= 50_000, "{unreadable}");
    let text = text.ok().out();
    assert_eq!(text.matches("by root only").count(), 1, "each is said once: {text}");
}

/// Takes out of a document what differs from run to run: when it was, and which of equal ones was met first.
fn settle(document: &mut Value) {
    match document {
        Value::Object(members) => {
            members.retain(|key, _| !["scanned", "largest"].contains(&&**key));
            members.values_mut().for_each(settle);
        }
        Value::Array(values) => {
            values.iter_mut().for_each(settle);
            values.sort_by_key(Value::to_string);
        }
        _ => {}
    }
}

/// A service's TasksMax and a user's limit of processes can leave no room for threads.
#[test]
fn where_few_threads_can_be_begun_work_is_done_on_fewer_and_comes_to_the_same() {
    // nobody else may have this number: the limit is on all that a user runs
    let Some(user) = User::new(64_911) else { return };
    let tree = user.owns("tide");
    for directory in 0..40 {
        let directory = tree.join(format!("gauge-{directory}"));
        std::fs::create_dir(&directory).unwrap();
        (0..450).for_each(|n| std::fs::write(directory.join(format!("{n}.log")), "tide").unwrap());
    }
    for n in 1..=3 {
        std::fs::write(tree.join(format!("gauge-{n}/largest-{n}.raw")), vec![1; n * 50_000])
            .unwrap();
    }
    let target = user.owns("tide/gauge-x").join("old.log");
    std::fs::write(&target, "tide").unwrap();
    let (tree, target) = (tree.to_str().unwrap(), target.to_str().unwrap());
    let plan = user.at.join("state/plan.json");
    let plan = plan.to_str().unwrap();
    let before = picture(user.at.join("tide").as_ref());
    let asked: [&[&str]; 4] = [
        &["directories", tree, "--json"],
        &["breakdown", tree, "--by", "family", "--json"],
        &["files", tree, "--top", "3", "--json"],
        &["ages", tree, "--lens", "name:*.log", "--json"],
    ];
    let answers = |ran: Ran| {
        let mut answer = ran.ok().json();
        settle(&mut answer);
        answer
    };
    let wanted: Vec<Value> = asked.iter().map(|asked| answers(user.fondaco(asked))).collect();
    assert!(wanted[0].to_string().contains("gauge-39"), "{}", wanted[0]);
    for threads in 1..=3 {
        for (asked, wanted) in asked.iter().zip(&wanted) {
            let answer = answers(user.fondaco_within(threads, asked));
            assert_eq!(answer, *wanted, "{threads} threads: {asked:?}");
        }
        user.fondaco_within(threads, &["scan", tree, "--save"]).ok();
        user.fondaco_within(threads, &["plan", "--set-aside", target, "-o", plan]).ok();
        user.fondaco_within(threads, &["carry-out", plan]).ok();
        assert!(!std::path::Path::new(target).exists());
        user.fondaco_within(threads, &["put-back", &threads.to_string()]).ok();
        assert_eq!(picture(user.at.join("tide").as_ref()), before);
        std::fs::remove_file(plan).unwrap();
    }
    let (number, program) = (user.number, user.at.join("fondaco"));
    let become_user = format!("setpriv --reuid={number} --regid={number} --clear-groups");
    let state = user.at.join("state");
    let screen = Terminal::run(
        100,
        20,
        &format!(
            "FONDACO_STATE={} prlimit --nproc=1 {become_user} {}",
            state.display(),
            program.display()
        ),
    );
    screen.shows(&["cannot begin a thread", "ulimit -u", "ENDED 1"]);
}

#[test]
fn state_lies_where_the_environment_says_or_nowhere_and_never_where_others_write() {
    let Some(user) = User::new(64_912) else { return };
    let tree = user.owns("tide");
    let (open, shut) = (tree.join("open"), tree.join("shut"));
    std::fs::create_dir(&open).unwrap();
    std::fs::create_dir(&shut).unwrap();
    std::fs::write(open.join("gauge.log"), vec![1; 9000]).unwrap();
    std::fs::set_permissions(&shut, PermissionsExt::from_mode(0o700)).unwrap();
    let (program, tree) = (user.at.join("fondaco"), tree.to_str().unwrap());
    let home = user.owns("home");
    let (xdg, relative) = (user.owns("xdg"), PathBuf::from("not/from/here"));
    let scan = ["scan", tree, "--save"];
    for (variables, expected) in [
        (vec![("XDG_STATE_HOME", xdg.clone()), ("HOME", home.clone())], xdg.join("fondaco")),
        (
            vec![("XDG_STATE_HOME", relative), ("HOME", home.clone())],
            home.join(".local/state/fondaco"),
        ),
        (vec![("HOME", user.owns("other"))], user.at.join("other/.local/state/fondaco")),
        (vec![("HOME", home.clone()), ("FONDACO_STATE", user.owns("said"))], user.at.join("said")),
    ] {
        assert!(!expected.join("scans").exists());
        let said = user.run_in(&program, &scan, &variables).with_unreadable().out();
        assert!(said.contains("saved as scan 1"), "{said}");
        assert!(expected.join("scans").is_dir(), "{expected:?}");
        // what could not be read is told, here and where it is ranked
        let place = format!("cannot open directory {}: Permission denied", shut.display());
        assert!(said.contains("1 place could not be read") && said.contains(&place), "{said}");
        for command in ["directories", "files", "breakdown", "ages", "duplicates"] {
            let looked = user.run_in(&program, &[command, tree], &variables).with_unreadable();
            let told = looked.err();
            assert!(told.contains("1 place could not be read") && told.contains(&place), "{told}");
        }
    }
    let nowhere = user.run_in(&program, &scan, &[]);
    assert_eq!(nowhere.code(), 1);
    assert!(nowhere.err().contains("say where with --state DIR"), "{}", nowhere.err());
    // what needs no state works without, and says once that what is there cannot be used
    let said = user.run_in(&program, &["ages", tree], &[]).with_unreadable();
    assert!(!said.err().contains("settings are not used"), "{}", said.err());
    let state = home.join(".local/state/fondaco");
    let variables = [("HOME", home)];
    std::fs::write(state.join("settings.toml"), "waterline = high").unwrap();
    let said = user.run_in(&program, &["ages", tree, "--lens", "owner:root"], &variables);
    assert_eq!(said.err().matches("settings are not used").count(), 1, "{}", said.err());
    assert!(said.err().contains("settings.toml"), "{}", said.err());
    std::fs::set_permissions(&state, PermissionsExt::from_mode(0o777)).unwrap();
    let refused = user.run_in(&program, &scan, &variables);
    assert_eq!(refused.code(), 1);
    assert!(refused.err().contains("choose another with --state DIR"), "{}", refused.err());
}

/// What an ordinary user cannot link, or could not make again, is refused by the rehearsal and the run alike.
#[test]
fn a_user_links_only_what_he_could_make_again() {
    let Some(user) = User::new(60_104) else { return };
    for (keep, refused) in [("own/", 1), ("other/", 2)] {
        let tree = user.owns(&format!("tree of {}", keep.trim_end_matches('/')));
        for name in ["own", "again", "other"] {
            let directory = tree.join(name);
            std::fs::create_dir(&directory).unwrap();
            std::fs::write(directory.join("tide.raw"), vec![5; 40_000]).unwrap();
            for path in [&directory, &directory.join("tide.raw")] {
                chown(path, Some(user.number), Some(user.number)).unwrap();
            }
        }
        chown(tree.join("other/tide.raw"), Some(0), Some(0)).unwrap();
        let (tree, plan) = (tree.to_str().unwrap(), user.at.join("state").join("plan.json"));
        let plan = plan.to_str().unwrap();
        let said = ["--keep", keep, "--plan", "link", "--force", "-o", plan];
        user.fondaco(&[&["duplicates", tree][..], &said].concat()).ok();
        for arguments in
            [&["carry-out", plan, "--rehearse", "--json"][..], &["carry-out", plan, "--json"]]
        {
            let ran = user.fondaco(arguments).out();
            let words = ["could not be given back", "lets only its owner link"];
            let count: usize = words.iter().map(|words| ran.matches(words).count()).sum();
            assert_eq!(count, refused, "{keep} {arguments:?}: {ran}");
        }
    }
}
