//! Runs of very many small actions, killed again and again: nothing is lost, and memory stays within its bounds.
//!
//! `ACTIONS=1000000 cargo test --release -p fondaco --test many_actions -- --nocapture` tries it with a million.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::{FONDACO, Ran};

/// Files in each directory.
const IN_ONE: usize = 200;

/// Bytes of memory that a command may take, however many actions it has.
const MOST_MEMORY: u64 = 200 << 20;

fn actions() -> usize {
    std::env::var("ACTIONS").map_or(9_000, |count| count.parse().unwrap())
}

struct Place {
    _directory: tempfile::TempDir,
    home: PathBuf,
    tree: PathBuf,
    state: PathBuf,
    files: usize,
}

impl Place {
    /// Files in a tree, each with its own name for contents.
    fn new(files: usize) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        let (tree, state) = (home.join("telemetry"), home.join("state"));
        let place = Self { _directory: directory, home, tree, state, files };
        for number in 0..files {
            let path = place.path(number);
            if number % IN_ONE == 0 {
                std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            }
            std::fs::write(path, number.to_string()).unwrap();
        }
        place
    }

    fn path(&self, number: usize) -> PathBuf {
        self.tree.join(format!("buoy-{}/{number}.log", number / IN_ONE))
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(FONDACO);
        command.arg("--state").arg(&self.state).args(arguments);
        command
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        Ran(self.command(arguments).output().unwrap())
    }

    /// Runs a command, and kills it after some time if one is said. Gives whether it came to its end; its memory is
    /// watched meanwhile.
    fn within_memory(&self, arguments: &[&str], kill_after: Option<Duration>) -> bool {
        let mut command = self.command(arguments);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let begun = Instant::now();
        let mut most = 0;
        loop {
            most = memory_of(child.id()).unwrap_or(0).max(most);
            assert!(most <= MOST_MEMORY, "{arguments:?} takes {} MiB", most >> 20);
            if let Some(status) = child.try_wait().unwrap() {
                assert!(status.success(), "{arguments:?} ends with {status}");
                if self.files >= 1_000_000 {
                    eprintln!("{arguments:?}: {:.1?}, {} MiB", begun.elapsed(), most >> 20);
                }
                return true;
            }
            if kill_after.is_some_and(|after| begun.elapsed() > after) {
                child.kill().unwrap();
                child.wait().unwrap();
                return false;
            }
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    /// Plans one deed for all files.
    fn plan(&self, action: &str) -> String {
        let (rules, plan) = (self.home.join("rules.toml"), self.home.join("plan"));
        let text = format!("[[rule]]\ntitle = \"all\"\naction = \"{action}\"\nname = \"*.log\"\n");
        std::fs::write(&rules, text).unwrap();
        let [rules, tree, plan] = [&rules, &self.tree, &plan].map(|path| path.to_str().unwrap());
        assert!(self.within_memory(&["plan", "--rules", rules, tree, "--force", "-o", plan], None));
        plan.to_owned()
    }

    /// Carries a plan out, killed again and again and finished after that, until `is_done` says so of how its actions
    /// stand. Gives the number of kills.
    fn carry_out_killed(
        &self,
        plan: &str,
        is_done: impl Fn(&BTreeMap<String, usize>) -> bool,
    ) -> usize {
        let mut kills = 0;
        for kill_after in times(self.files).map(Some).chain([None, None]) {
            let (_, newest) = self.stand();
            let newest = newest.to_string();
            let act: &[&str] = match newest.as_str() {
                "0" => &["carry-out", plan],
                _ => &["journal", &newest, "--finish"],
            };
            kills += usize::from(!self.within_memory(act, kill_after));
            if is_done(&self.stand().0) {
                break;
            }
        }
        kills
    }

    /// How many actions of all runs stand how, once what was cut off has been settled; and the newest run.
    fn stand(&self) -> (BTreeMap<String, usize>, i64) {
        let journal = self.fondaco(&["journal", "--json"]).ok().json();
        let runs = journal["runs"].as_array().unwrap();
        let mut counts = BTreeMap::new();
        for run in runs {
            for (state, count) in run["counts"].as_object().unwrap() {
                *counts.entry(state.clone()).or_default() += count.as_u64().unwrap() as usize;
            }
        }
        counts.remove("carried on");
        (counts, runs.first().map_or(0, |run| run["run"].as_i64().unwrap()))
    }

    /// All files that are in their place, each of which must be what it was.
    fn in_place(&self) -> usize {
        let mut found = 0;
        for number in 0..self.files {
            match std::fs::read_to_string(self.path(number)) {
                Ok(contents) => {
                    assert_eq!(contents, number.to_string());
                    found += 1;
                }
                Err(error) => assert_eq!(error.kind(), std::io::ErrorKind::NotFound, "{error}"),
            }
        }
        found
    }

    /// Files in the holding areas that the state directory knows.
    fn held(&self) -> usize {
        fn below(path: &Path) -> usize {
            let Ok(entries) = std::fs::read_dir(path) else { return 0 };
            let count = |entry: std::fs::DirEntry| match entry.file_type().unwrap().is_dir() {
                true => below(&entry.path()),
                false => 1,
            };
            entries.map(|entry| count(entry.unwrap())).sum()
        }
        let places = std::fs::read_to_string(self.state.join("places.json")).unwrap_or_default();
        let places: serde_json::Value = serde_json::from_str(&places).unwrap_or_default();
        let areas = places["holding_areas"].as_array().cloned().unwrap_or_default();
        areas.iter().map(|area| below(Path::new(area.as_str().unwrap()))).sum()
    }
}

/// The most memory that a process has had (`proc_pid_status(5)`), as long as it is there.
fn memory_of(pid: u32) -> Option<u64> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    let line = status.lines().find(|line| line.starts_with("VmHWM"))?;
    Some(line.split_whitespace().nth(1)?.parse::<u64>().ok()? << 10)
}

/// Times at which to kill, spread over what a command for so many files may take.
fn times(files: usize) -> impl Iterator<Item = Duration> {
    let whole = Duration::from_micros(40) * files as u32;
    [0.05, 0.3, 0.5, 0.12, 0.4, 0.8].into_iter().map(move |part| whole.mul_f64(part))
}

#[test]
fn very_many_actions_killed_at_any_time_lose_nothing_and_stay_within_their_memory() {
    let place = Place::new(actions());
    let count = |counts: &BTreeMap<String, usize>, state: &str| {
        counts.get(state).copied().unwrap_or_default()
    };
    // set aside, with kills
    let plan = place.plan("set-aside");
    let mut kills = place.carry_out_killed(&plan, |counts| {
        let (held, rest) = (place.held(), place.in_place());
        assert_eq!(held + rest, place.files, "{counts:?}");
        assert_eq!(count(counts, "set aside"), held, "{counts:?}");
        held == place.files
    });
    assert!(place.in_place() == 0 && kills > 0, "{kills} kills");
    // put back, with kills
    let (_, newest) = place.stand();
    let mut times = times(place.files);
    for run in 1..=newest {
        let run = run.to_string();
        while !place.within_memory(&["put-back", &run], times.next()) {
            let (held, rest) = (place.held(), place.in_place());
            assert_eq!(held + rest, place.files);
            kills += 1;
        }
    }
    assert_eq!((place.held(), place.in_place()), (0, place.files));
    // set aside again and purge, with kills
    let plan = place.plan("set-aside");
    assert!(place.within_memory(&["carry-out", &plan], None));
    let run = (newest + 1).to_string();
    let mut times = self::times(place.files);
    while !place.within_memory(&["journal", &run, "--purge"], times.next()) {
        let (counts, _) = place.stand();
        let (held, purged) = (place.held(), count(&counts, "purged"));
        assert_eq!((held + purged, place.in_place()), (place.files, 0), "{counts:?}");
        kills += 1;
    }
    assert_eq!((place.held(), place.in_place()), (0, 0));
    eprintln!("{} actions, {kills} kills, nothing lost", place.files);
}

#[test]
fn very_many_deletions_killed_at_any_time_delete_what_the_journal_says() {
    let place = Place::new(actions());
    let plan = place.plan("delete");
    let kills = place.carry_out_killed(&plan, |counts| {
        let deleted = counts.get("deleted").copied().unwrap_or_default();
        assert_eq!(place.in_place() + deleted, place.files, "{counts:?}");
        assert_eq!(place.held(), 0, "{counts:?}");
        deleted == place.files
    });
    assert!(place.in_place() == 0 && kills > 0, "{kills} kills");
    eprintln!("{} deletions, {kills} kills, nothing lost", place.files);
}
