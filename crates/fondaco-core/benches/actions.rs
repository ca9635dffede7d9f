//! How long many small actions take: a rule that takes every file is tried and planned, the plan carried out, put back
//! and purged. Beside each the least that any program must do: loops of `renameat2` and `unlinkat` over the same files.
//! Every part is done on files that are made anew.
//!
//! `cargo bench -p fondaco-core --bench actions -- DIR [FILES [ROUNDS [PART]]]`, with a directory on the file system that is
//! meant; 100 000 files and one round if nothing is said. `PART` is `delete`, `set-aside` or `purge`, for a profile of one,
//! or `plan`, which tries and plans over and over and carries nothing out.
#![allow(missing_docs, clippy::unwrap_used)]

use std::ops::ControlFlow;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use fondaco_core::carry_out::{EntryState, Journal, carry_out, purge, put_back};
use fondaco_core::catalog::Catalog;
use fondaco_core::kernel::{DirReader, Listed, open_directory};
use fondaco_core::plan::{Draft, Plan, Proposal, Reviewer};
use fondaco_core::rule::{Circumstances, RuleSet};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::state::State;
use fondaco_core::units::Time;
use rustix::fs::{AtFlags, CWD, RenameFlags};

/// Files in each directory.
const IN_ONE: usize = 100;

fn main() {
    let given: Vec<String> =
        std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let at = PathBuf::from(given.first().expect("say where: cargo bench --bench actions -- DIR"));
    let at = at.canonicalize().unwrap();
    let number = |at: usize, usual: usize| given.get(at).map_or(usual, |n| n.parse().unwrap());
    let (files, rounds) = (number(1, 100_000), number(2, 1));
    let place = Place { at: at.clone(), tree: at.join("tree"), files };
    let _ = std::fs::remove_dir_all(at.join("state"));
    let state = State::open(&at.join("state")).unwrap();

    if given.get(3).is_some_and(|part| part == "plan") {
        place.make();
        (0..rounds).for_each(|_| drop(place.plan(&state, "set-aside")));
        return place.clear();
    }
    let mut ratios: [Vec<f64>; 4] = Default::default();
    // the machine drifts: each part stands between two measures of its floor
    let mut floors = place.floors();
    let is_wanted = |part: &str| given.get(3).is_none_or(|wanted| wanted == part);
    let mut between = |of: fn(&Floors) -> Duration| {
        let before = std::mem::replace(&mut floors, place.floors());
        (of(&before) + of(&floors)) / 2
    };
    let newest =
        |state: &State| Journal::open(&state.journal_file()).unwrap().runs().unwrap()[0].id;
    for round in 0..rounds {
        if rounds > 1 {
            println!("round {}", round + 1);
        }
        if is_wanted("delete") {
            place.make();
            let (plan, bytes) = place.plan(&state, "delete");
            println!("the plan as a file: {:.0} bytes an action", bytes as f64 / files as f64);
            let deleted = place.timed("delete", || self::run(&plan, &state));
            let floor = between(|floor| floor.moving + floor.removing);
            ratios[0].push(ratio("delete", deleted, floor));
        }
        if is_wanted("set-aside") {
            place.make();
            let (plan, _) = place.plan(&state, "set-aside");
            let held = place.timed("set aside", || self::run(&plan, &state));
            let back = place.timed("put back", || {
                let back = put_back(newest(&state), None, &state, Time::now()).unwrap();
                assert_eq!(back.done.len(), files);
            });
            let floor = between(|floor| floor.moving);
            ratios[1].push(ratio("set aside", held, floor));
            ratios[2].push(ratio("put back", back, floor));
        }
        if is_wanted("purge") {
            place.make();
            let (plan, _) = place.plan(&state, "set-aside");
            self::run(&plan, &state);
            let run = newest(&state);
            let purged = place.timed("purge", || {
                assert_eq!(purge(run, None, &state, Time::now()).unwrap().done.len(), files);
            });
            ratios[3].push(ratio("purge", purged, between(|floor| floor.removing)));
        }
    }
    for (what, ratios) in ["delete", "set aside", "put back", "purge"].iter().zip(&mut ratios) {
        ratios.sort_by(f64::total_cmp);
        let [least, .., most] = ratios[..] else { continue };
        let median = ratios[ratios.len() / 2];
        println!("{what}, {rounds} rounds: {median:.2} x ({least:.2} to {most:.2})");
    }
    place.clear();
}

/// What any program must spend at least.
struct Floors {
    moving: Duration,
    removing: Duration,
}

fn run(plan: &Plan, state: &State) {
    let summary = carry_out(plan, state, &Time::now, &|_| ControlFlow::Continue(())).unwrap();
    let done = summary.count(EntryState::Deleted) + summary.count(EntryState::Held);
    assert_eq!(
        done,
        plan.actions.len(),
        "{:?}",
        summary.entries.iter().find(|e| !e.state.is_done())
    );
}

fn ratio(what: &str, took: Duration, floor: Duration) -> f64 {
    let ratio = took.as_secs_f64() / floor.as_secs_f64();
    println!("{what}: {ratio:.2} x its floor");
    ratio
}

/// What all threads have computed so far, in the kernel too, in steps of a clock tick (`proc_pid_stat(5)`).
fn processor_time() -> Duration {
    let usage = std::fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<&str> = usage.rsplit_once(')').unwrap().1.split_whitespace().collect();
    let ticks: u64 = fields[11..13].iter().map(|ticks| ticks.parse::<u64>().unwrap()).sum();
    Duration::from_millis(ticks * 10)
}

/// Bytes of memory that the process has had at most (`getrusage(2)`).
fn peak() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmHWM")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() << 10
}

/// Begins to count [`peak`] anew (`proc_pid_clear_refs(5)`).
fn forget_peak() {
    std::fs::write("/proc/self/clear_refs", "5").unwrap();
}

/// Counts bytes and keeps none.
struct Written(usize);

impl std::io::Write for Written {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0 += bytes.len();
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

struct Place {
    at: PathBuf,
    tree: PathBuf,
    files: usize,
}

impl Place {
    fn clear(&self) {
        for name in ["tree", "aside"] {
            let _ = std::fs::remove_dir_all(self.at.join(name));
        }
    }

    fn make(&self) {
        self.clear();
        std::fs::create_dir(&self.tree).unwrap();
        std::fs::create_dir(self.at.join("aside")).unwrap();
        for number in 0..self.files {
            let directory = self.tree.join(format!("d{}", number / IN_ONE));
            if number % IN_ONE == 0 {
                std::fs::create_dir(&directory).unwrap();
            }
            std::fs::write(directory.join(format!("tide-{number}.log")), b"x").unwrap();
        }
        rustix::fs::sync();
    }

    fn timed(&self, what: &str, act: impl FnOnce()) -> Duration {
        rustix::fs::sync();
        forget_peak();
        let (begun, computed) = (Instant::now(), processor_time());
        act();
        let (took, computed) = (begun.elapsed(), processor_time().saturating_sub(computed));
        let each = |time: Duration| time.as_secs_f64() * 1e6 / self.files as f64;
        let (wall, processor) = (each(took), each(computed));
        println!(
            "{what}: {took:.2?}, {wall:.1} µs a file, of these {processor:.1} µs of a processor; \
             at most {} MiB",
            peak() >> 20
        );
        took
    }

    /// Loops of the bare calls over files that are made for them.
    fn floors(&self) -> Floors {
        self.make();
        let moving = self.timed("loop of renameat2", || {
            self.each(&|directory, name, number| {
                let to = self.at.join("aside").join(number.to_string());
                let flags = RenameFlags::NOREPLACE;
                rustix::fs::renameat_with(directory, name, CWD, &to, flags).unwrap();
            });
        });
        let aside = open_directory(CWD, self.at.join("aside").as_path()).unwrap();
        let removing = self.timed("loop of unlinkat over what was moved", || {
            for number in 0..self.files {
                rustix::fs::unlinkat(&aside, number.to_string(), AtFlags::empty()).unwrap();
            }
        });
        Floors { moving, removing }
    }

    /// Does something to every file, directory by directory.
    fn each(&self, act: &dyn Fn(&std::os::fd::OwnedFd, &std::ffi::CStr, usize)) {
        let mut number = 0;
        for directory in 0..self.files.div_ceil(IN_ONE) {
            let open =
                open_directory(CWD, self.tree.join(format!("d{directory}")).as_path()).unwrap();
            let mut all = Vec::new();
            DirReader::default()
                .read(&open, |entry| {
                    all.push((entry.name.to_owned(), entry.listed));
                    true
                })
                .unwrap();
            for (name, listed) in all {
                if listed != Listed::Directory {
                    act(&open, &name, number);
                    number += 1;
                }
            }
            let _ = open.as_fd();
        }
        assert_eq!(number, self.files);
    }

    /// Scans, tries the rule and plans what it takes.
    fn plan(&self, state: &State, action: &str) -> (Plan, usize) {
        let text = format!("[[rule]]\ntitle = \"all\"\naction = \"{action}\"\nname = \"*.log\"\n");
        let rules = RuleSet::parse(Path::new("rules.toml"), &text, state).unwrap();
        let mut scan =
            Scan::start(std::slice::from_ref(&self.tree), &Options::new(Time::now())).unwrap();
        scan.wait();
        let catalog: std::sync::RwLockReadGuard<'_, Catalog> = scan.catalog();
        let begun = Instant::now();
        let facts = Circumstances::now(state, catalog.origin(), catalog.roots()).unwrap();
        let known = begun.elapsed();
        let tried = rules.try_on(&catalog, &facts);
        println!(
            "trying the rule: {:.2?} (asking for what is open and protected: {known:.2?})",
            begun.elapsed().saturating_sub(known)
        );
        assert_eq!(tried.matches.len(), self.files);
        let mut plan = None;
        let begun = Instant::now();
        let reviewer = Reviewer::of_scan(state, catalog.origin(), catalog.roots(), Time::now());
        let mut draft = Draft::default();
        let depot = state.depot();
        let proposal = |found| Proposal::of_rule(&catalog, &rules.rules[0], found, &depot);
        reviewer.plan_all(&tried.matches, proposal, |_, came_of| {
            draft.put(came_of.unwrap());
        });
        plan.replace(draft.to_plan(Vec::new(), Time::now()).unwrap());
        let plan = plan.unwrap();
        let took = begun.elapsed();
        println!("plan: {took:.2?}, {:.1} µs a file", took.as_secs_f64() * 1e6 / self.files as f64);
        let mut written = Written(0);
        plan.write_packed(&mut written).unwrap();
        println!("planning: at most {} MiB", peak() >> 20);
        forget_peak();
        (plan, written.0)
    }
}
