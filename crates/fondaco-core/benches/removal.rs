//! How long a run takes that deletes a directory, beside the least that any program must do: a loop of `unlinkat`
//! over the same tree. Both in turn, each on a tree made anew.
//!
//! `cargo bench -p fondaco-core --bench removal -- DIR [ENTRIES] [ROUNDS]`, with a directory on the file system that is
//! meant; 200 000 entries and 5 rounds if nothing is said
#![allow(missing_docs, clippy::unwrap_used)]

use std::ops::ControlFlow;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use fondaco_core::carry_out::carry_out;
use fondaco_core::kernel::{DirReader, Listed, open_directory};
use fondaco_core::plan::{Deed, Draft, Plan, Planned, Review, survey};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time};
use rustix::fs::{AtFlags, CWD};

fn main() {
    let given: Vec<String> =
        std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let at = PathBuf::from(given.first().expect("say where: cargo bench --bench removal -- DIR"));
    let at = at.canonicalize().unwrap();
    let number =
        |which: usize, usual: usize| given.get(which).map_or(usual, |n| n.parse().unwrap());
    let (entries, rounds) = (number(1, 200_000), number(2, 5));
    let mut ratios = Vec::new();
    for round in 0..rounds {
        let floor = timed(&at, entries, Path::to_owned, |tree| unlink_all(tree));
        let run = timed(&at, entries, |tree| plan(&at, tree), |plan| delete(&at, plan));
        let ratio = run.as_secs_f64() / floor.as_secs_f64();
        println!("{round}: loop of unlinkat {floor:.2?}, run {run:.2?}, {ratio:.2} x");
        ratios.push(ratio);
    }
    ratios.sort_by(f64::total_cmp);
    println!("{entries} entries, median of {rounds}: {:.2} x", ratios[rounds / 2]);
    let mut single: Vec<Duration> = (0..101)
        .map(|_| timed(&at, 1, |tree| plan(&at, &tree.join("0")), |plan| delete(&at, plan)))
        .collect();
    single.sort();
    println!("a single small file, median of 101: {:.2?} with its syncs", single[50]);
    unlink_all(&at.join("tree"));
}

/// Makes a tree, about nine files in each directory, and times what is done to it.
fn timed<P>(
    at: &Path,
    entries: usize,
    prepare: impl FnOnce(&Path) -> P,
    act: impl FnOnce(&P),
) -> Duration {
    // the time between two trees is not the business of either
    if at.join("tree").exists() {
        unlink_all(&at.join("tree"));
    }
    let tree = at.join("tree");
    std::fs::create_dir(&tree).unwrap();
    let mut directory = tree.clone();
    for n in 0..entries {
        if n % 10 == 9 {
            // some directories lie beside each other, some below
            directory = if n % 70 == 9 { tree.clone() } else { directory };
            directory.push(format!("d{n}"));
            std::fs::create_dir(&directory).unwrap();
        } else {
            std::fs::write(directory.join(n.to_string()), b"").unwrap();
        }
    }
    let prepared = prepare(&tree);
    rustix::fs::sync();
    let begun = Instant::now();
    act(&prepared);
    begun.elapsed()
}

fn unlink_all(tree: &Path) {
    fn below(directory: impl AsFd) {
        let mut all = Vec::new();
        DirReader::default()
            .read(&directory, |entry| {
                all.push((entry.name.to_owned(), entry.listed));
                true
            })
            .unwrap();
        for (name, listed) in all {
            if listed == Listed::Directory {
                below(open_directory(&directory, name.as_c_str()).unwrap());
                rustix::fs::unlinkat(&directory, &name, AtFlags::REMOVEDIR).unwrap();
            } else {
                rustix::fs::unlinkat(&directory, &name, AtFlags::empty()).unwrap();
            }
        }
    }
    below(open_directory(CWD, tree).unwrap());
    std::fs::remove_dir(tree).unwrap();
}

fn plan(at: &Path, target: &Path) -> Plan {
    let mut draft = Draft::default();
    draft.put(Planned {
        path: target.to_owned(),
        deed: Deed::Delete,
        reason: "by hand".into(),
        volume: at.to_owned(),
        depot_on_volume: false,
        estimate: Bytes::ZERO,
        entries: 1,
        review: Review::Ready(Box::new(survey(target).unwrap())),
        purge_after: None,
        stays: None,
        together: None,
        differs: Vec::new(),
        emptied: false,
    });
    draft.to_plan(Vec::new(), Time::now()).unwrap()
}

fn delete(at: &Path, plan: &Plan) {
    let state = State::open(&at.join("state")).unwrap();
    let summary = carry_out(plan, &state, &Time::now, &|_| ControlFlow::Continue(())).unwrap();
    assert!(summary.entries.iter().all(|entry| entry.state.is_done()), "{:?}", summary.entries);
}
