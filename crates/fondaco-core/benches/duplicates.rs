//! How long a search for equal files takes, beside the least that any program must do which hashes all that could be
//! equal: two threads that read every candidate and hash it with BLAKE3.
//!
//! `cargo bench -p fondaco-core --bench duplicates -- DIR [ROUNDS] [cold|stop]`, with a tree whose files have contents. `cold` has
//! the page cache emptied before each part, for which it must be root. `stop` only stops searches after different times, before
//! and after all is known, and tells how long that takes.
#![allow(missing_docs, clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::io::Read;
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use fondaco_core::catalog::Catalog;
use fondaco_core::duplicates::{Candidates, Containment, Found, Known, search};
use fondaco_core::kernel::Kind;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::Time;

fn main() {
    let given: Vec<String> =
        std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let at =
        PathBuf::from(given.first().expect("say where: cargo bench --bench duplicates -- DIR"));
    let cold = given.iter().skip(1).any(|word| word == "cold");
    let rounds = given.iter().skip(1).find_map(|word| word.parse().ok()).unwrap_or(3);
    let mut scan = Scan::start(&[at.canonicalize().unwrap()], &Options::new(Time::now())).unwrap();
    scan.wait();
    let catalog = scan.catalog();
    let root = catalog.roots()[0].entry;
    let candidates = Candidates::of(catalog.whole(), &[root]);
    println!(
        "{} entries, {} candidates of {} bytes",
        catalog.len(),
        candidates.len(),
        candidates.bytes().get()
    );
    let directory = tempfile::tempdir().unwrap();
    let file = directory.path().join("hashes.db");
    if given.iter().skip(1).any(|word| word == "stop") {
        let known = || Known::open(&file, false, Time::now()).unwrap();
        (0..rounds as i32).for_each(|round| stop(&catalog, &candidates, &known(), round));
        println!("once all is known:");
        find(&catalog, &candidates, &known());
        (0..rounds as i32).for_each(|round| stop(&catalog, &candidates, &known(), round));
        return;
    }
    let paths = could_be_equal(&catalog);
    assert_eq!(paths.len(), candidates.len());
    let (mut floors, mut firsts, mut seconds) = (Vec::new(), Vec::new(), Vec::new());
    let ratio = |one: Duration, other: Duration| one.as_secs_f64() / other.as_secs_f64();
    for round in 0..rounds {
        let floor = timed(cold, || hash_all(&paths));
        let mut found = None;
        let first = timed(cold, || {
            found =
                Some(find(&catalog, &candidates, &Known::open(&file, true, Time::now()).unwrap()));
        });
        let second = timed(cold, || {
            let again =
                find(&catalog, &candidates, &Known::open(&file, false, Time::now()).unwrap());
            let why = "what was written in the last seconds is read again: wait a little";
            assert_eq!(again.figures.read.get(), 0, "{why}");
        });
        if round == 0 {
            tell(&found.unwrap());
        }
        println!("  hashing {floor:.2?}, search {first:.2?}, second search {second:.2?}");
        floors.push(floor.as_secs_f64());
        // the machine drifts: what stands beside each other in time is compared
        firsts.push(ratio(first, floor));
        seconds.push(ratio(second, first));
    }
    let median = |mut all: Vec<f64>| {
        all.sort_by(f64::total_cmp);
        (all[all.len() / 2], all[0], all[all.len() - 1])
    };
    let (middle, least, most) = median(floors);
    println!("hashing all candidates, two threads: {middle:.2} s ({least:.2} to {most:.2})");
    let (middle, least, most) = median(firsts);
    println!("search: {middle:.2} x that ({least:.2} to {most:.2})");
    let (middle, least, most) = median(seconds);
    println!("second search: {middle:.2} x the first ({least:.2} to {most:.2})");
    let found = find(&catalog, &candidates, &Known::nothing());
    let begun = Instant::now();
    let rows = Containment::new(catalog.whole(), &[root], &found.sets).rows(0.5);
    println!("containment: {:.2?}, {} pairs", begun.elapsed(), rows.len());
}

fn find(catalog: &Catalog, candidates: &Candidates, known: &Known) -> Found {
    search(candidates.clone(), catalog, known, &mut |_, _| ControlFlow::Continue(()))
}

/// Stops a search after a quarter of a second, the next one after half as long again, and so on.
fn stop(catalog: &Catalog, candidates: &Candidates, known: &Known, round: i32) {
    let after = Duration::from_millis(250).mul_f64(1.5f64.powi(round));
    let (begun, mut stopped) = (Instant::now(), None);
    let found = search(candidates.clone(), catalog, known, &mut |_, _| {
        if begun.elapsed() < after {
            return ControlFlow::Continue(());
        }
        stopped.get_or_insert_with(Instant::now);
        ControlFlow::Break(())
    });
    let took =
        stopped.map_or_else(|| "it had ended".to_owned(), |at| format!("{:.1?}", at.elapsed()));
    let figures = &found.figures;
    println!(
        "  after {after:.1?}, {} of {} done: stopped in {took}",
        figures.done, figures.candidates
    );
}

/// How much was read, beside the bytes of files that have an equal.
fn tell(found: &Found) {
    assert!(found.not_read.is_empty(), "{:?}", found.not_read.first());
    let equal: u64 = found.sets.iter().map(|set| set.length.get() * set.copies.len() as u64).sum();
    let read = found.figures.read.get();
    println!(
        "  {} sets in {:.2?} before all is remembered; read {read} bytes, {:.3} x those of files that have an \
         equal",
        found.sets.len(),
        found.figures.elapsed,
        read as f64 / equal as f64
    );
}

fn timed(cold: bool, act: impl FnOnce()) -> Duration {
    rustix::fs::sync();
    if cold {
        std::fs::write("/proc/sys/vm/drop_caches", "3").unwrap();
    }
    let begun = Instant::now();
    act();
    begun.elapsed()
}

/// The paths of all files whose length another inode has too.
fn could_be_equal(catalog: &Catalog) -> Vec<PathBuf> {
    let mut by_length: BTreeMap<u64, BTreeMap<(u64, u64), PathBuf>> = BTreeMap::new();
    for id in catalog.ids().filter(|id| catalog.kind(*id) == Kind::File) {
        let length = catalog.apparent(id).get();
        if length > 0 {
            let of = by_length.entry(length).or_default();
            of.entry(catalog.device_and_inode(id)).or_insert_with(|| catalog.path(id));
        }
    }
    by_length.into_values().filter(|of| of.len() > 1).flat_map(BTreeMap::into_values).collect()
}

fn hash_all(paths: &[PathBuf]) {
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                let mut buffer = vec![0; 1 << 20];
                while let Some(path) = paths.get(next.fetch_add(1, Ordering::Relaxed)) {
                    std::hint::black_box(hash(path, &mut buffer));
                }
            });
        }
    });
}

fn hash(path: &Path, buffer: &mut [u8]) -> blake3::Hash {
    let mut file = std::fs::File::open(path).unwrap();
    let mut hasher = blake3::Hasher::new();
    loop {
        match file.read(buffer).unwrap() {
            0 => return hasher.finalize(),
            got => hasher.update(&buffer[..got]),
        };
    }
}
