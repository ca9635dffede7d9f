//! What real file systems have and trees in a temporary directory have not.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::ffi::OsStr;
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::MetadataExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use common::tree::{build, make, reference, totals};
use common::{Mounted, NOW, is_root, run};
use fondaco_core::analysis::Protection;
use fondaco_core::catalog::{Catalog, Reading};
use fondaco_core::kernel::Kind;
use fondaco_core::leftovers::{GroupName, look};
use fondaco_core::pattern::Pattern;
use fondaco_core::scan::{Filter, Options, Scan};
use fondaco_core::state::State;
use fondaco_core::units::Bytes;
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

fn scan(root: &Path) -> Catalog {
    scan_with(root, &Options::new(NOW))
}

fn scan_with(root: &Path, options: &Options) -> Catalog {
    Scan::start(&[root.to_owned()], options).unwrap().into_catalog()
}

fn others(catalog: &Catalog) -> Vec<PathBuf> {
    let mut others: Vec<_> =
        catalog.other_volumes().into_iter().map(|id| catalog.path(id)).collect();
    others.sort();
    others
}

fn o(text: &str) -> &OsStr {
    OsStr::new(text)
}

#[test]
fn totals_are_those_of_a_plain_walk_on_every_file_system() {
    let steps = proptest::collection::vec(make(), 120);
    let steps = steps.new_tree(&mut TestRunner::deterministic()).unwrap().current();
    for (fs_type, mebibytes) in [("ext4", 64), ("xfs", 320), ("btrfs", 256), ("tmpfs", 64)] {
        let Some(volume) = Mounted::new(fs_type, mebibytes) else { return };
        let root = volume.path();
        build(&root, &steps);
        // small enough to lie in the inode, preallocated beyond its end, and well compressible
        std::fs::write(root.join("inline"), b"x").unwrap();
        let allocated = std::fs::File::create(root.join("allocated")).unwrap();
        let keep_size = rustix::fs::FallocateFlags::KEEP_SIZE;
        rustix::fs::fallocate(&allocated, keep_size, 0, 1 << 20).unwrap();
        if fs_type == "btrfs" {
            run("mount", &[o("-o"), o("remount,compress-force=zstd"), root.as_os_str()]);
        }
        std::fs::write(root.join("zeros"), vec![7; 3 << 20]).unwrap();
        rustix::fs::syncfs(&allocated).unwrap();
        let catalog = scan(&root);
        assert_eq!(totals(&catalog), reference(&root), "{fs_type}");
        let preallocated = catalog.find(&root.join("allocated")).unwrap();
        assert_eq!(catalog.apparent(preallocated), Bytes::ZERO, "{fs_type}");
        assert!(catalog.allocated(preallocated) >= Bytes::new(1 << 20), "{fs_type}");
    }
}

#[test]
fn subvolumes_belong_to_the_volume_and_second_mounts_of_them_do_not() {
    let Some(volume) = Mounted::new("btrfs", 256) else { return };
    let root = volume.path();
    for name in ["sub", "other"] {
        run("btrfs", &[o("-q"), o("subvolume"), o("create"), root.join(name).as_os_str()]);
        std::fs::write(root.join(name).join("tide.csv"), vec![1; 100_000]).unwrap();
        let link = root.join(name).join("again.csv");
        std::fs::hard_link(root.join(name).join("tide.csv"), link).unwrap();
    }
    let inode = |name: &str| root.join(name).join("tide.csv").metadata().unwrap().ino();
    assert_eq!(inode("sub"), inode("other"), "the same number means two inodes");
    std::fs::create_dir(root.join("second")).unwrap();
    let device = run("findmnt", &[o("-no"), o("SOURCE"), root.as_os_str()]);
    let second = root.join("second");
    run("mount", &[o("-o"), o("subvol=sub"), o(device.trim()), second.as_os_str()]);
    rustix::fs::syncfs(std::fs::File::open(&root).unwrap()).unwrap();

    let catalog = scan(&root);
    assert_eq!(others(&catalog), [second]);
    for name in ["sub", "other"] {
        let id = catalog.find(&root.join(name)).unwrap();
        assert!(catalog.is_subvolume(id) && catalog.reading(id) == Some(Reading::Done));
        let file = catalog.find(&root.join(name).join("tide.csv")).unwrap();
        assert!(catalog.exclusive(id) >= catalog.allocated(file), "both of its names are in it");
    }
    let top = catalog.top().unwrap();
    assert!(!catalog.is_subvolume(top));
    assert!(catalog.allocated(top) >= Bytes::new(200_000), "two inodes count twice");
}

#[test]
fn an_overlay_shows_what_lies_elsewhere_and_is_entered_only_if_asked() {
    let Some(volume) = Mounted::new("ext4", 32) else { return };
    let root = volume.path();
    for name in ["lower", "upper", "work", "merged"] {
        std::fs::create_dir(root.join(name)).unwrap();
    }
    std::fs::write(root.join("lower/chart.png"), vec![1; 40_000]).unwrap();
    let at = |name: &str| root.join(name).display().to_string();
    let layers =
        format!("lowerdir={},upperdir={},workdir={}", at("lower"), at("upper"), at("work"));
    let merged = root.join("merged");
    run("mount", &[o("-t"), o("overlay"), o("-o"), o(&layers), o("overlay"), merged.as_os_str()]);
    let catalog = scan(&root);
    assert_eq!(others(&catalog), std::slice::from_ref(&merged));
    assert!(catalog.find(&merged.join("chart.png")).is_none());
    let crossing = Options { cross_volumes: true, ..Options::new(NOW) };
    let catalog = scan_with(&root, &crossing);
    assert!(catalog.find(&merged.join("chart.png")).is_some());
}

/// Mounts an automounter's directory that nobody serves, says "ready", and at the end whether somebody
/// has asked for what is to be mounted there.
const AUTOMOUNTER: &str = "
import os, sys, subprocess, select
r, w = os.pipe()
os.set_inheritable(w, True)
options = f'fd={w},pgrp={os.getpgrp()},minproto=5,maxproto=5,direct'
subprocess.run(['mount', '-t', 'autofs', '-o', options, 'auto', sys.argv[1]], pass_fds=[w], check=True)
print('ready', flush=True)
sys.stdin.readline()
print('asked' if select.select([r], [], [], 0)[0] else 'left alone', flush=True)
os.close(r); os.close(w)
subprocess.run(['umount', '-l', sys.argv[1]])
";

#[test]
fn an_automounter_is_not_set_off() {
    if !is_root("an automounter's directory") {
        return;
    }
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    std::fs::create_dir_all(root.join("net/auto")).unwrap();
    let mut daemon = Command::new("python3");
    let daemon = daemon.args(["-c", AUTOMOUNTER]).arg(root.join("net/auto")).process_group(0);
    let Ok(mut daemon) = daemon.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn() else {
        return common::skipped("an automounter's directory: there is no python3");
    };
    let mut answers = BufReader::new(daemon.stdout.take().unwrap()).lines();
    let Some(Ok(ready)) = answers.next() else {
        return common::skipped("an automounter's directory: the kernel mounts none");
    };
    assert_eq!(ready, "ready");
    // one link straight into it, one by way of another link, and one that is broken
    let links = [
        ("straight", "net/auto/tide.csv"),
        ("way", "net"),
        ("round", "way/auto/tide.csv"),
        ("broken", "nowhere"),
    ];
    for (name, target) in links {
        std::os::unix::fs::symlink(target, root.join(name)).unwrap();
    }
    let catalog = scan(&root);
    assert_eq!(others(&catalog), [root.join("net/auto")]);
    let state = State::open(&directory.path().join("state")).unwrap();
    let protection = Protection::of_system(&state);
    let found = look(catalog.whole(), &state, protection, false, &|| false).unwrap();
    let broken = found.group(GroupName::BrokenLinks).unwrap();
    let names = |stays: bool| {
        let items = broken.items.iter().filter(move |item| item.stays.is_some() == stays);
        let mut names: Vec<_> =
            items.filter_map(|item| Some(catalog.name(item.id()?).to_owned())).collect();
        names.sort();
        names
    };
    assert_eq!(names(false), ["broken"]);
    assert_eq!(names(true), ["round", "straight"], "where they lead is not known");
    daemon.stdin.take().unwrap().write_all(b"\n").unwrap();
    assert_eq!(answers.next().unwrap().unwrap(), "left alone");
    assert!(daemon.wait().unwrap().success());
}

#[test]
fn ten_thousand_levels_are_walked_ranked_and_named() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    let flags = rustix::fs::OFlags::DIRECTORY;
    let mut at = rustix::fs::open(&root, flags, 0.into()).unwrap();
    for _ in 0..10_000 {
        rustix::fs::mkdirat(&at, "fathom", 0o755.into()).unwrap();
        at = rustix::fs::openat(&at, "fathom", flags, 0.into()).unwrap();
    }
    let end = rustix::fs::OFlags::CREATE | rustix::fs::OFlags::WRONLY;
    let file = rustix::fs::openat(&at, "lead", end, 0o644.into()).unwrap();
    rustix::io::write(&file, &[1; 9000]).unwrap();
    let catalog = scan(&root);
    assert_eq!(catalog.unreadable(), []);
    let top = catalog.top().unwrap();
    assert_eq!(catalog.entries(top), 10_002);
    let lead = catalog.largest_below(top, 1)[0];
    assert_eq!(catalog.name(lead), "lead");
    assert_eq!(catalog.path(lead).components().count(), root.components().count() + 10_001);
    assert_eq!(catalog.find(&catalog.path(lead)), Some(lead));
    run("rm", &[o("-rf"), root.join("fathom").as_os_str()]);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn what_filters_list_and_what_they_keep_out_is_all_there_is(
        steps in proptest::collection::vec(make(), 1..80),
        exclude in proptest::option::of("[a-c]\\*?|[ab]/\\*\\*"),
        include in proptest::option::of("\\*[a-c]|\\?\\*"),
        larger in proptest::option::of(0..20_000u64),
        kind in proptest::option::of(prop_oneof![Just(Kind::File), Just(Kind::Link)]),
    ) {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        build(&root, &steps);
        let pattern = |text: &Option<String>| -> Vec<Pattern> {
            text.iter().map(|text| Pattern::parse(text).unwrap()).collect()
        };
        let filter = Filter {
            exclude: pattern(&exclude),
            include: pattern(&include),
            larger: larger.map(Bytes::new),
            kinds: kind.into_iter().collect(),
            ..Filter::default()
        };
        let part = scan_with(&root, &Options { filter, ..Options::new(NOW) });
        let whole = scan(&root);
        let (all, top) = (whole.top().unwrap(), part.top().unwrap());
        let out = part.excluded();
        prop_assert_eq!(part.entries(top) + out.entries, whole.entries(all));
        prop_assert_eq!(part.allocated(top) + out.allocated, whole.allocated(all));
        prop_assert_eq!(part.apparent(top) + out.apparent, whole.apparent(all));
        // the plainest way: every entry whose own facts and whose directories pass
        let excluded = |path: &Path| {
            let below = path.strip_prefix(&root).unwrap();
            let fails = |at: &Path| {
                let name = at.file_name().unwrap_or_default();
                pattern(&exclude).iter().any(|pattern| pattern.matches(name, at))
            };
            below.ancestors().filter(|at| !at.as_os_str().is_empty()).any(fails)
        };
        for id in whole.ids().skip(1) {
            let path = whole.path(id);
            let below = path.strip_prefix(&root).unwrap();
            let name = path.file_name().unwrap();
            let passes = whole.is_directory(id)
                || (include.is_none() || pattern(&include)[0].matches(name, below))
                    && larger.is_none_or(|least| whole.allocated(id) > Bytes::new(least))
                    && kind.is_none_or(|kind| whole.kind(id) == kind);
            let listed = passes && !excluded(&path);
            prop_assert_eq!(part.find(&path).is_some(), listed, "{:?}", path);
        }
    }
}
