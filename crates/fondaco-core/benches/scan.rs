//! The scan beside its floor: the least that any program must do to know what a tree holds, which is to
//! read every directory and ask for the metadata of every entry, and to keep nothing but sums.
//!
//! `cargo bench --bench scan -- TREE` measures on an existing tree; without TREE one of 200 000 entries
//! is made in the temporary directory. Both are run in turn, after one run each that is not counted, and
//! the median of the ratios is what to quote: machines drift, pairs do not. `--cold` (as root) drops the
//! caches before every run and gives the floor the number of threads that is best for it.
#![allow(missing_docs, clippy::unwrap_used)]

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering::Relaxed};
use std::time::Instant;

use fondaco_core::catalog::Order;
use fondaco_core::kernel::DirReader;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::Time;
use rustix::fs::{AtFlags, OFlags};

const ROUNDS: usize = 9;

fn main() {
    let given = std::env::args().skip(1).find(|argument| !argument.starts_with('-'));
    let made = given.is_none().then(make_tree);
    let tree = given.map_or_else(|| made.as_ref().unwrap().path().to_owned(), PathBuf::from);
    let cold = std::env::args().any(|argument| argument == "--cold");
    let cores = std::thread::available_parallelism().map_or(2, std::num::NonZero::get);
    let before = || {
        if cold {
            drop_caches();
        }
    };
    let floor_with = |threads| {
        before();
        floor(&tree, threads)
    };
    let threads = match cold {
        false => cores,
        true => {
            let times = [2, 4, 8, 16].map(|threads| (floor_with(threads).1, threads));
            times.into_iter().min_by(|a, b| a.0.total_cmp(&b.0)).unwrap().1
        }
    };
    let (entries, _) = floor_with(threads);
    scan(&tree);
    let (mut floors, mut scans, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let (_, floor_seconds) = floor_with(threads);
        before();
        let scan_seconds = scan(&tree);
        floors.push(floor_seconds);
        scans.push(scan_seconds);
        ratios.push(scan_seconds / floor_seconds);
    }
    println!("{entries} entries, {ROUNDS} rounds, {}", if cold { "cold" } else { "warm" });
    println!("floor  {:.3} s with {threads} threads", median(&mut floors));
    println!("scan   {:.3} s, to the ranked result", median(&mut scans));
    println!("ratio  {:.3} ({:.3} to {:.3})", median(&mut ratios), ratios[0], ratios[ROUNDS - 1]);
}

fn drop_caches() {
    rustix::fs::sync();
    std::fs::write("/proc/sys/vm/drop_caches", "3").expect("--cold needs root");
}

fn median(numbers: &mut [f64]) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers[numbers.len() / 2]
}

fn scan(tree: &Path) -> f64 {
    let begun = Instant::now();
    let options = Options::new(Time::now());
    let mut scan = Scan::start(&[tree.to_owned()], &options).unwrap();
    scan.wait();
    let catalog = scan.catalog();
    let ranking = catalog.ranking(catalog.roots()[0].entry, Order::Allocated, 50);
    assert!(!ranking.rows.is_empty());
    begun.elapsed().as_secs_f64()
}

/// Entries found and seconds taken.
fn floor(tree: &Path, threads: usize) -> (u64, f64) {
    let begun = Instant::now();
    let work = Mutex::new(vec![tree.to_owned()]);
    let (pending, entries, sum) = (AtomicUsize::new(1), AtomicU64::new(1), AtomicU64::new(0));
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                let mut reader = DirReader::default();
                let mut own = Vec::new();
                while pending.load(Relaxed) > 0 {
                    let taken = own.pop().or_else(|| work.lock().unwrap().pop());
                    let Some(path) = taken else {
                        std::thread::yield_now();
                        continue;
                    };
                    let (count, bytes) = read_one(&path, &mut reader, &mut own, &pending);
                    entries.fetch_add(count, Relaxed);
                    sum.fetch_add(bytes, Relaxed);
                    if own.len() > 8 {
                        work.lock().unwrap().extend(own.drain(..4));
                    }
                    pending.fetch_sub(1, Relaxed);
                }
            });
        }
    });
    assert!(sum.into_inner() > 0);
    (entries.into_inner(), begun.elapsed().as_secs_f64())
}

fn read_one(
    path: &Path,
    reader: &mut DirReader,
    own: &mut Vec<PathBuf>,
    pending: &AtomicUsize,
) -> (u64, u64) {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let directory = rustix::fs::open(path, flags, 0.into()).unwrap();
    let (mut count, mut bytes) = (0, 0);
    reader
        .read(&directory, |entry| {
            let stat =
                rustix::fs::statat(&directory, entry.name, AtFlags::SYMLINK_NOFOLLOW).unwrap();
            count += 1;
            bytes += stat.st_blocks as u64 * 512;
            if stat.st_mode & 0o170_000 == 0o040_000 {
                pending.fetch_add(1, Relaxed);
                own.push(path.join(OsStr::from_bytes(entry.name.to_bytes())));
            }
            true
        })
        .unwrap();
    (count, bytes)
}

fn make_tree() -> tempfile::TempDir {
    let directory = tempfile::tempdir().unwrap();
    for area in 0..200 {
        for place in 0..100 {
            let at = directory.path().join(format!("area-{area:03}/{}/{place:03}", place % 7));
            std::fs::create_dir_all(&at).unwrap();
            for file in 0..9 {
                std::fs::write(at.join(format!("recording-{file}.wav")), [0; 16]).unwrap();
            }
        }
    }
    directory
}
