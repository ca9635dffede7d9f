//! Targets that are moved: within their volume, to file systems of other kinds, and back.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use common::{Mounted, NOW, Place, is_root, picture, run, set_old};
use fondaco_core::carry_out::{EntryState, RunSummary, carry_out, put_back, rehearse};
use fondaco_core::plan::{Deed, Plan};

fn do_it(plan: &Plan, place: &Place) -> RunSummary {
    carry_out(plan, &place.state, &|| NOW, &|_| ControlFlow::Continue(())).unwrap()
}

fn to(destination: &Path) -> Deed {
    Deed::Move { to: destination.to_owned(), same_volume: false }
}

/// Where a target is once it has been moved.
fn moved(destination: &Path, target: &Path) -> PathBuf {
    destination.join(target.strip_prefix("/").unwrap())
}

/// What a tree is, by the paths below it; blocks and attributes of file systems of their own are left out.
fn below(root: &Path) -> BTreeMap<PathBuf, String> {
    let plain = |line: String| {
        let words = line.split(' ').collect::<Vec<_>>();
        let blocks = words.iter().position(|word| *word == "blocks");
        let left_out = |at: usize| blocks.is_some_and(|blocks| (blocks..blocks + 2).contains(&at));
        let kept = words.iter().enumerate().filter(|(at, _)| !left_out(*at));
        let line = kept.map(|(_, word)| *word).collect::<Vec<_>>().join(" ");
        line.replace(&format!("{root:?}").replace('"', ""), "")
    };
    picture(root)
        .into_iter()
        .map(|(path, line)| (path.strip_prefix(root).unwrap().to_owned(), plain(line)))
        .collect()
}

/// A tree with a bit of everything that a copy can lose.
fn survey_tree(place: &Place) -> PathBuf {
    let tree = place.root.join("survey");
    let raw = place.file("survey/north basin/take-1.raw", 70_000);
    place.file("survey/empty", 0);
    std::fs::hard_link(&raw, tree.join("take-1 again.raw")).unwrap();
    std::os::unix::fs::symlink("north basin/take-1.raw", tree.join("latest")).unwrap();
    set_old(&tree.join("latest"), 5);
    run("mkfifo", &[tree.join("pipe").as_os_str()]);
    let sparse = std::fs::File::create(tree.join("sparse.img")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"tide", 3 << 20).unwrap();
    sparse.set_len(9 << 20).unwrap();
    std::fs::set_permissions(tree.join("empty"), PermissionsExt::from_mode(0o6751)).unwrap();
    if rustix::process::geteuid().is_root() {
        std::os::unix::fs::chown(tree.join("north basin"), Some(4711), Some(4712)).unwrap();
        std::os::unix::fs::lchown(tree.join("latest"), Some(4711), Some(1)).unwrap();
    }
    let set = rustix::fs::XattrFlags::empty();
    // not every file system of the machine has attributes of users
    let _ = rustix::fs::setxattr(&raw, "user.gauge", b"mar-\0-7", set);
    std::fs::set_permissions(tree.join("north basin"), PermissionsExt::from_mode(0o1750)).unwrap();
    set_old(&tree.join("north basin"), 3);
    set_old(&tree, 4);
    tree
}

fn goes_and_comes_back(place: &Place, destination: &Path) {
    let (tree, log) = (survey_tree(place), place.file("logs/tide.log", 5000));
    let before = below(&place.root);
    let (was_tree, was_log) = (below(&tree), below(&log));
    let plan = place.plan(&[(&tree, to(destination)), (&log, to(destination))]);
    let rehearsal = rehearse(&plan, &place.state, NOW, &|_| ControlFlow::Continue(())).unwrap();
    assert_eq!(rehearsal.refused(), 0, "{rehearsal:?}");
    let summary = do_it(&plan, place);
    assert_eq!(summary.count(EntryState::Moved), 2, "{:?}", summary.entries);
    assert_eq!(below(&moved(destination, &tree)), was_tree);
    assert_eq!(below(&moved(destination, &log)), was_log);
    assert!(tree.symlink_metadata().is_err() && log.symlink_metadata().is_err());
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!((returned.done.len(), returned.refused.len()), (2, 0), "{returned:?}");
    assert!(returned.done.iter().all(|entry| entry.message.is_empty()), "{:?}", returned.done);
    assert_eq!(below(&place.root), before);
    assert!(moved(destination, &tree).symlink_metadata().is_err());
    assert!(moved(destination, &log).symlink_metadata().is_err());
}

#[test]
fn what_is_moved_is_the_same_there_and_the_same_when_it_is_back_on_every_kind_of_volume() {
    let place = Place::new();
    goes_and_comes_back(&place, &place.depot.with_file_name("beside"));
    for kind in ["tmpfs", "ext4", "xfs", "btrfs"] {
        let megabytes = if kind == "xfs" { 320 } else { 128 };
        let Some(volume) = Mounted::new(kind, megabytes) else { return };
        let place = Place::new();
        let destination = volume.path().join("from seamark");
        goes_and_comes_back(&place, &destination);
        let left: Vec<_> = std::fs::read_dir(volume.path()).unwrap().flatten().collect();
        let held = left.iter().any(|e| e.file_name().to_string_lossy().contains("fondaco"));
        assert!(!held, "nothing is held on {kind}: {left:?}");
    }
}

#[test]
fn two_names_of_one_inode_are_one_inode_at_the_other_volume_and_back() {
    let Some(volume) = Mounted::new("ext4", 64) else { return };
    let place = Place::new();
    let first = place.file("a.raw", 20_000);
    let second = place.root.join("b/second.raw");
    std::fs::create_dir(place.root.join("b")).unwrap();
    std::fs::hard_link(&first, &second).unwrap();
    let destination = volume.path();
    let summary =
        do_it(&place.plan(&[(&first, to(&destination)), (&second, to(&destination))]), &place);
    assert_eq!(summary.count(EntryState::Moved), 2, "{:?}", summary.entries);
    let inode = |path: &Path| path.symlink_metadata().unwrap().ino();
    assert_eq!(inode(&moved(&destination, &first)), inode(&moved(&destination, &second)));
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!(returned.done.len(), 2, "{returned:?}");
    assert_eq!(inode(&first), inode(&second));
    assert_eq!(first.symlink_metadata().unwrap().nlink(), 2);
}

#[test]
fn what_stands_at_the_destination_stays_and_the_original_too() {
    let place = Place::new();
    let (log, other) = (place.file("logs/tide.log", 5000), place.file("logs/buoy.log", 700));
    let volume = Mounted::new("tmpfs", 32);
    let elsewhere = volume.as_ref().map(|volume| volume.path().join("seamark"));
    for destination in [Some(place.depot.with_file_name("beside")), elsewhere].into_iter().flatten()
    {
        let taken = moved(&destination, &log);
        std::fs::create_dir_all(taken.parent().unwrap()).unwrap();
        std::fs::write(&taken, "another").unwrap();
        std::fs::set_permissions(&destination, PermissionsExt::from_mode(0o700)).unwrap();
        let before = below(&place.root);
        let summary =
            do_it(&place.plan(&[(&log, to(&destination)), (&other, to(&destination))]), &place);
        let states: Vec<_> = summary.entries.iter().map(|entry| entry.state).collect();
        assert_eq!(states, [EntryState::Refused, EntryState::Moved]);
        assert!(summary.entries[0].message.contains("nothing is ever replaced"));
        assert_eq!(std::fs::read(&taken).unwrap(), b"another");
        put_back(summary.run, None, &place.state, NOW).unwrap();
        assert_eq!(below(&place.root), before);
    }
}

#[test]
fn a_destination_without_room_or_that_others_may_write_to_or_inside_a_target_is_refused_by_rehearsal_and_run()
 {
    if !is_root("a small volume") {
        return;
    }
    let Some(volume) = Mounted::new("tmpfs", 1) else { return };
    let place = Place::new();
    let (small, big) = (place.file("small.raw", 4000), place.file("big.raw", 3 << 20));
    let open = place.depot.with_file_name("open");
    std::fs::create_dir(&open).unwrap();
    std::fs::set_permissions(&open, PermissionsExt::from_mode(0o777)).unwrap();
    let inside = place.root.join("inside");
    place.file("inside/a", 10);
    let before = below(&place.root);
    for (target, destination, reason) in [
        (&big, volume.path().join("depot"), "are to be copied to"),
        (&small, open, "writable by nobody else"),
        (&inside, inside.join("deeper"), "what this plan moves things to"),
    ] {
        let plan = place.plan(&[(target, to(&destination))]);
        let rehearsal = rehearse(&plan, &place.state, NOW, &|_| ControlFlow::Continue(())).unwrap();
        let said = rehearsal.findings[0].refused.clone().unwrap_or_default();
        assert!(said.contains(reason), "{said}");
        let summary = do_it(&plan, &place);
        assert_eq!(summary.count(EntryState::Refused), 1, "{:?}", summary.entries);
        assert!(summary.entries[0].message.contains(reason), "{:?}", summary.entries);
        assert_eq!(below(&place.root), before);
    }
}

#[test]
fn a_moved_file_that_was_written_to_since_comes_back_as_it_is_now() {
    let Some(volume) = Mounted::new("tmpfs", 16) else { return };
    let place = Place::new();
    for destination in [place.depot.with_file_name("beside"), volume.path().join("x")] {
        let log = place.file("logs/tide.log", 5000);
        let summary = do_it(&place.plan(&[(&log, to(&destination))]), &place);
        std::fs::write(moved(&destination, &log), "written since").unwrap();
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        assert_eq!(returned.done.len(), 1, "{returned:?}");
        assert_eq!(std::fs::read(&log).unwrap(), b"written since");
        // another file in its place is not what was moved
        let summary = do_it(&place.plan(&[(&log, to(&destination))]), &place);
        let there = moved(&destination, &log);
        std::fs::rename(&there, there.with_extension("kept")).unwrap();
        std::fs::write(&there, "another").unwrap();
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        assert_eq!((returned.done.len(), returned.refused.len()), (0, 1), "{returned:?}");
        assert_eq!(std::fs::read(&there).unwrap(), b"another");
    }
}
