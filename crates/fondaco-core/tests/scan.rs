//! The parallel scan against a plain serial walk, and the oddities of real trees.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::HashSet;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use common::tree::{build, make, reference, totals};
use common::{Mounted, NOW, bytes_path, run};
use fondaco_core::catalog::{Order, Reading};
use fondaco_core::scan::{Options, Scan, ScanError};
use fondaco_core::units::Bytes;
use proptest::prelude::*;

fn scan(roots: &[PathBuf], threads: usize) -> Scan {
    let mut scan = Scan::start(roots, &Options { threads, ..Options::new(NOW) }).unwrap();
    scan.wait();
    scan
}

fn scan_one(root: &Path) -> Scan {
    scan(&[root.to_owned()], 2)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn every_total_is_that_of_a_plain_walk_however_many_threads_there_are(
        steps in proptest::collection::vec(make(), 1..80), threads in 1..5usize
    ) {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        build(&root, &steps);
        let scan = scan(std::slice::from_ref(&root), threads);
        let catalog = scan.catalog();
        prop_assert!(catalog.is_complete() && catalog.unreadable().is_empty());
        prop_assert_eq!(totals(&catalog), reference(&root));
        for id in catalog.ids() {
            prop_assert_eq!(catalog.find(&catalog.path(id)), Some(id));
            let profile: f32 = catalog.age_profile(id).iter().sum();
            let allocated = catalog.allocated(id).get() as f32;
            prop_assert!((profile - allocated).abs() <= allocated * 1e-4);
        }
        // what a cut ranking shows and what it folds away are the whole
        let whole = catalog.roots()[0].entry;
        let children: u64 = catalog.children(whole).map(|id| catalog.allocated(id).get()).sum();
        for order in [Order::Allocated, Order::Apparent, Order::Entries, Order::Newest, Order::Name] {
            let cut = catalog.ranking(whole, order, 3);
            let shown: Bytes = cut.rows.iter().map(|id| catalog.allocated(*id)).sum();
            prop_assert_eq!((shown + cut.tail.allocated).get(), children);
            let all = catalog.ranking(whole, order, usize::MAX);
            prop_assert_eq!(&all.rows[..cut.rows.len()], &cut.rows[..]);
        }
    }
}

#[test]
fn a_linked_file_counts_in_each_directory_but_is_exclusive_to_neither() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    for name in ["tide", "copy"] {
        std::fs::create_dir(root.join(name)).unwrap();
    }
    std::fs::write(root.join("tide/mar.csv"), [1; 8192]).unwrap();
    std::fs::hard_link(root.join("tide/mar.csv"), root.join("copy/mar.csv")).unwrap();
    let scan = scan_one(&root);
    let catalog = scan.catalog();
    let own = catalog.exclusive(catalog.find(&root.join("tide")).unwrap());
    for name in ["tide", "copy"] {
        let id = catalog.find(&root.join(name)).unwrap();
        assert_eq!(catalog.allocated(id), own + Bytes::new(8192));
        assert_eq!(catalog.exclusive(id), own);
    }
    let whole = catalog.roots()[0].entry;
    assert_eq!(catalog.exclusive(whole), catalog.allocated(whole));
    assert_eq!(catalog.largest_below(whole, 5).len(), 2);
}

#[test]
fn any_name_is_read() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    let long = [b'n'; 255];
    for name in [&b"new\nline"[..], b"\x1b[2J", b"\xff\xfe", &long] {
        std::fs::write(bytes_path(&root, name), b"x").unwrap();
    }
    let scan = scan_one(&root);
    let catalog = scan.catalog();
    assert_eq!(catalog.unreadable(), []);
    assert_eq!(catalog.len(), 1 + 4);
    assert!(catalog.find(&bytes_path(&root, b"\xff\xfe")).is_some());
}

#[test]
fn bad_roots_are_told_apart_and_nested_ones_count_once() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    std::fs::create_dir(root.join("a")).unwrap();
    std::fs::write(root.join("a/file"), b"x").unwrap();
    let options = Options { threads: 1, ..Options::new(NOW) };
    let start = |path: &str| Scan::start(&[root.join(path)], &options).map(|_| ());
    assert!(matches!(start("nowhere"), Err(ScanError::Missing(_))));
    assert!(matches!(start("a/file"), Err(ScanError::NotADirectory(_))));
    assert!(matches!(start("a/file/x"), Err(ScanError::NotADirectory(_))));
    let nested = scan(&[root.join("a"), root.clone(), root.join("a/../a")], 2);
    assert_eq!(nested.catalog().roots().len(), 1);
    assert_eq!(nested.catalog().len(), 3);
}

#[test]
fn other_volumes_are_named_and_not_entered_unless_asked() {
    let Some(outer) = Mounted::new("ext4", 16) else { return };
    let root = outer.path();
    for name in ["tmpfs", "bind", "data", "proc"] {
        std::fs::create_dir(root.join(name)).unwrap();
    }
    std::fs::write(root.join("data/file"), vec![1u8; 40_960]).unwrap();
    let at = |name: &str| root.join(name).into_os_string();
    run("mount", &["-t".as_ref(), "tmpfs".as_ref(), "tmpfs".as_ref(), &at("tmpfs")]);
    run("mount", &["--bind".as_ref(), &at("data"), &at("bind")]);
    run("mount", &["-t".as_ref(), "proc".as_ref(), "proc".as_ref(), &at("proc")]);
    std::fs::write(root.join("tmpfs/inside"), vec![1u8; 8192]).unwrap();
    std::fs::create_dir(root.join("etc")).unwrap();
    std::fs::write(root.join("etc/hosts"), b"").unwrap();
    run("mount", &["--bind".as_ref(), &at("data/file"), &at("etc/hosts")]);

    let plain = scan_one(&root);
    let catalog = plain.catalog();
    let others: HashSet<_> =
        catalog.other_volumes().into_iter().map(|id| catalog.path(id)).collect();
    let expected = ["tmpfs", "bind", "proc"].map(|name| root.join(name));
    assert_eq!(others, HashSet::from(expected));
    assert!(catalog.find(&root.join("tmpfs/inside")).is_none());
    let [over, data] =
        ["etc/hosts", "data/file"].map(|name| catalog.find(&root.join(name)).unwrap());
    assert_eq!(catalog.allocated(over), Bytes::ZERO, "a file mounted over another counts once");
    assert_eq!(catalog.allocated(data), Bytes::new(40_960));

    let options = Options { cross_volumes: true, threads: 2, ..Options::new(NOW) };
    let mut crossing = Scan::start(std::slice::from_ref(&root), &options).unwrap();
    crossing.wait();
    let catalog = crossing.catalog();
    assert!(catalog.find(&root.join("tmpfs/inside")).is_some());
    let proc = catalog.find(&root.join("proc")).unwrap();
    assert_eq!(catalog.reading(proc), Some(Reading::OtherVolume), "the kernel's are never entered");
}

#[test]
fn what_may_not_be_read_is_listed_and_the_scan_goes_on() {
    if rustix::process::geteuid().is_root() {
        common::skipped("closed places: root may read everything");
        return;
    }
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    std::fs::create_dir(root.join("closed")).unwrap();
    std::fs::write(root.join("open"), b"x").unwrap();
    let closed = std::os::unix::fs::PermissionsExt::from_mode(0o000);
    std::fs::set_permissions(root.join("closed"), closed).unwrap();
    let scan = scan_one(&root);
    let catalog = scan.catalog();
    assert_eq!(catalog.len(), 3);
    assert_eq!(catalog.unreadable()[0].path, root.join("closed"));
    assert!(catalog.unreadable()[0].error.contains("denied"));
}

#[test]
fn a_scan_changes_no_access_time() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    std::fs::create_dir(root.join("a")).unwrap();
    std::fs::write(root.join("a/file"), b"x").unwrap();
    let paths = [root.join("a/file"), root.join("a"), root.clone()];
    paths.iter().for_each(|path| common::set_old(path, 1));
    let times = || paths.iter().map(|p| p.metadata().unwrap().atime()).collect::<Vec<_>>();
    let before = times();
    scan_one(&root);
    fondaco_core::volume::used_below(&root);
    assert_eq!(times(), before);
}

#[test]
fn a_ranking_of_many_children_sorts_only_what_is_shown_and_sums_the_rest() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    for i in 0..60_000u32 {
        let file = std::fs::File::create(root.join(format!("tide-{i:05}"))).unwrap();
        file.set_len(u64::from(i.wrapping_mul(2_654_435_761) % 50_000)).unwrap();
    }
    let scan = scan_one(&root);
    let catalog = scan.catalog();
    let whole = catalog.roots()[0].entry;
    let mut sizes: Vec<u64> =
        catalog.children(whole).map(|id| catalog.apparent(id).get()).collect();
    sizes.sort_unstable_by(|a, b| b.cmp(a));
    for limit in [0, 1, 50, 2999, 59_999, 60_000, 99_999] {
        let ranking = catalog.ranking(whole, Order::Apparent, limit);
        let shown: Vec<u64> = ranking.rows.iter().map(|id| catalog.apparent(*id).get()).collect();
        assert_eq!(shown, sizes[..limit.min(60_000)]);
        assert_eq!(ranking.tail.children, 60_000u64.saturating_sub(limit as u64));
        assert_eq!(ranking.tail.entries, ranking.tail.children);
    }
}

#[test]
fn a_scan_can_be_stopped_and_keeps_what_it_knows() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    for i in 0..400 {
        let at = root.join(format!("{}/{i}", i % 20));
        std::fs::create_dir_all(&at).unwrap();
        (0..20).for_each(|f| std::fs::write(at.join(f.to_string()), b"x").unwrap());
    }
    let options = Options { threads: 2, ..Options::new(NOW) };
    let mut scan = Scan::start(std::slice::from_ref(&root), &options).unwrap();
    scan.stop();
    assert!(scan.wait_for(std::time::Duration::from_secs(10)), "a stop is obeyed");
    scan.wait();
    let catalog = scan.catalog();
    assert!(!catalog.is_complete());
    let counted: u64 = catalog.entries(catalog.roots()[0].entry);
    assert_eq!(counted, catalog.len() as u64, "the totals are those of what is known");
}

#[test]
fn a_tree_that_changes_under_the_scan_does_no_harm() {
    use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    let (still, busy) = (root.join("still"), root.join("busy"));
    for i in 0..200 {
        let at = still.join(i.to_string());
        std::fs::create_dir_all(&at).unwrap();
        std::fs::write(at.join("file"), [1; 4096]).unwrap();
    }
    std::fs::create_dir(&busy).unwrap();
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        for worker in 0..2 {
            let (busy, stop) = (&busy, &stop);
            scope.spawn(move || {
                for i in (0u64..).take_while(|_| !stop.load(Relaxed)) {
                    let name = |n: u64| busy.join(format!("{worker}-{}", n % 50));
                    // whatever of this fails because the other was faster is what is wanted
                    let _ = std::fs::create_dir(name(i));
                    let _ = std::fs::write(name(i).join("file"), [1; 100]);
                    let _ = std::fs::rename(name(i), name(i + 7));
                    let _ = std::fs::remove_dir_all(name(i + 3));
                }
            });
        }
        for _ in 0..60 {
            let scan = scan_one(&root);
            let catalog = scan.catalog();
            let id = catalog.find(&still).unwrap();
            assert_eq!(catalog.entries(id), 401, "what does not change is counted exactly");
            assert!(catalog.unreadable().iter().all(|place| place.path.starts_with(&busy)));
            let sum: u64 = catalog.children(id).map(|c| catalog.allocated(c).get()).sum();
            let own = still.metadata().unwrap().blocks() * 512;
            assert_eq!(catalog.allocated(id).get(), sum + own);
        }
        stop.store(true, Relaxed);
    });
}
