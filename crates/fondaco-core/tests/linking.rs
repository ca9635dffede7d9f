//! Copies that become another name of the file that stays, or share its blocks, and are files of their own again.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::cell::Cell;
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use common::equal::{do_it, plan, two};
use common::{Mounted, NOW, Place, picture, set_old};
use fondaco_core::carry_out::{EntryState, Figures, carry_out, finish, put_back, rehearse, settle};
use fondaco_core::kernel::{extents, first_place};
use fondaco_core::plan::Deed;
use fondaco_core::state::State;

/// Three equal files, each with an owner, a mode, a time and attributes of its own, and one that differs.
fn three(place: &Place) -> [PathBuf; 3] {
    let paths = ["stays/a.raw", "goes/b.raw", "goes/deep/c.raw"].map(|path| place.root.join(path));
    for (number, path) in (0u32..).zip(&paths) {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        let mut contents = vec![7; 150_000];
        contents.extend(vec![9; 70_001]);
        std::fs::write(path, contents).unwrap();
        let own = format!("buoy {number}");
        let set = rustix::fs::XattrFlags::empty();
        // not every file system of the machine has attributes of users
        let _ = rustix::fs::setxattr(path, "user.gauge", own.as_bytes(), set);
        std::fs::set_permissions(path, PermissionsExt::from_mode(0o600 + number)).unwrap();
        if rustix::process::geteuid().is_root() {
            std::os::unix::fs::chown(path, Some(1000 + number), Some(2000)).unwrap();
        }
        set_old(path, i64::from(number));
    }
    place.file("goes/other.raw", 220_001);
    set_old(&place.root.join("goes/deep"), 8);
    set_old(&place.root.join("goes"), 9);
    paths
}

/// All that is there, but the root itself, which holds the holding area, and how blocks are counted.
fn below(place: &Place) -> BTreeMap<PathBuf, String> {
    let mut found = picture(&place.root);
    found.remove(&place.root);
    found.retain(|path, _| !path.to_string_lossy().contains(".fondaco-held-"));
    found
}

fn inode(path: &Path) -> u64 {
    path.symlink_metadata().unwrap().ino()
}

fn all_shared(path: &Path) -> bool {
    let found = extents(std::fs::File::open(path).unwrap()).unwrap();
    !found.is_empty() && found.iter().all(|extent| extent.shared)
}

#[test]
fn linked_copies_are_one_file_and_come_back_as_their_own_with_all_that_they_had() {
    for kind in ["", "tmpfs", "ext4", "xfs", "btrfs"] {
        let volume = match kind {
            "" => None,
            kind => match Mounted::new(kind, if kind == "xfs" { 320 } else { 128 }) {
                Some(volume) => Some(volume),
                None => return,
            },
        };
        let place = volume.as_ref().map_or_else(Place::new, |volume| Place::at(&volume.path()));
        let [stays, one, other] = three(&place);
        rustix::fs::sync();
        let before = below(&place);
        let plan = plan(&place, &["stays/"], &Deed::Link);
        assert_eq!(plan.actions.len(), 2);
        let notes = plan.actions[0].notes.join("\n");
        assert!(notes.contains("mode 0600, not 0601"), "{notes}");
        assert_eq!(plan.actions[0].frees.now, plan.actions[0].target.allocated, "{kind}");
        let go_on = |_: &Figures| ControlFlow::Continue(());
        assert_eq!(rehearse(&plan, &place.state, NOW, &go_on).unwrap().refused(), 0, "{kind}");
        // whoever opens a copy finds a file, at any time
        let ended = AtomicBool::new(false);
        let summary = std::thread::scope(|scope| {
            let look = scope.spawn(|| {
                while !ended.load(Ordering::Relaxed) {
                    assert!(one.symlink_metadata().is_ok() && other.symlink_metadata().is_ok());
                }
            });
            let summary = do_it(&plan, &place);
            let returned = summary.run;
            assert_eq!(summary.count(EntryState::Linked), 2, "{kind}: {:?}", summary.entries);
            assert_eq!([inode(&one), inode(&other)], [inode(&stays); 2]);
            let returned = put_back(returned, None, &place.state, NOW).unwrap();
            assert_eq!((returned.done.len(), returned.refused.len()), (2, 0), "{returned:?}");
            ended.store(true, Ordering::Relaxed);
            look.join().unwrap();
            summary
        });
        assert_eq!(summary.freed, summary.forecast.now, "{kind}");
        assert_eq!(below(&place), before, "{kind}");
        assert_ne!(inode(&one), inode(&stays));
    }
}

#[test]
fn shared_copies_stay_files_of_their_own_and_get_their_own_blocks_back() {
    for kind in ["btrfs", "xfs"] {
        let Some(volume) = Mounted::new(kind, 320) else { return };
        let mut place = Place::at(&volume.path());
        // measured by the file system, on which no journal is written meanwhile
        let elsewhere = tempfile::tempdir().unwrap();
        place.state = State::open(elsewhere.path()).unwrap();
        let [stays, one, other] = three(&place);
        rustix::fs::sync();
        let (before, inodes) = (below(&place), [inode(&one), inode(&other)]);
        let plan = plan(&place, &["stays/"], &Deed::Share);
        let go_on = |_: &Figures| ControlFlow::Continue(());
        assert_eq!(rehearse(&plan, &place.state, NOW, &go_on).unwrap().refused(), 0, "{kind}");
        let summary = do_it(&plan, &place);
        assert_eq!(summary.count(EntryState::Shared), 2, "{kind}: {:?}", summary.entries);
        assert_eq!(below(&place), before, "{kind}: nothing but the blocks is different");
        assert_eq!([inode(&one), inode(&other)], inodes);
        assert!(all_shared(&stays) && all_shared(&one) && all_shared(&other), "{kind}");
        let begins = |path: &Path| first_place(std::fs::File::open(path).unwrap()).unwrap();
        assert_eq!([begins(&one), begins(&other)], [begins(&stays); 2], "{kind}");
        assert!(begins(&stays).is_some(), "{kind}");
        assert_eq!(summary.measured, Some(summary.freed.get() as i64), "{kind}");
        assert_eq!(summary.freed, summary.forecast.now);
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        assert_eq!((returned.done.len(), returned.refused.len()), (2, 0), "{returned:?}");
        rustix::fs::sync();
        assert_eq!(below(&place), before, "{kind}");
        assert!(!all_shared(&one) && !all_shared(&other), "{kind}");
        // a file system lets go of what was removed a moment later
        let wait = |_: u32| std::thread::sleep(std::time::Duration::from_millis(50));
        let is_own = (0..100).any(|round| {
            wait(round);
            !all_shared(&stays)
        });
        assert!(is_own, "{kind}");
    }
}

#[test]
fn what_cannot_be_linked_or_shared_is_refused_by_rehearsal_and_run_alike() {
    let Some(volume) = Mounted::new("ext4", 64) else { return };
    let place = Place::at(&volume.path());
    let (stays, goes) = two(&place);
    let go_on = |_: &Figures| ControlFlow::Continue(());
    let sharing = plan(&place, &["stays/"], &Deed::Share);
    assert_eq!(rehearse(&sharing, &place.state, NOW, &go_on).unwrap().refused(), 1);
    let summary = do_it(&sharing, &place);
    assert!(summary.entries[0].message.contains("cannot share blocks"), "{:?}", summary.entries);
    let linking = plan(&place, &["stays/"], &Deed::Link);
    common::run("chattr", &["+i".as_ref(), stays.as_os_str()]);
    let rehearsal = rehearse(&linking, &place.state, NOW, &go_on).unwrap();
    let summary = do_it(&linking, &place);
    common::run("chattr", &["-i".as_ref(), stays.as_os_str()]);
    assert_eq!(rehearsal.refused(), 1);
    assert!(summary.entries[0].message.contains("immutable"), "{:?}", summary.entries);
    assert_ne!(inode(&stays), inode(&goes));
}

#[test]
fn what_was_written_since_it_was_linked_comes_along_and_what_replaced_it_stays() {
    let place = Place::new();
    let [stays, one, other] = three(&place);
    let summary = do_it(&plan(&place, &["stays/"], &Deed::Link), &place);
    std::fs::write(&stays, "written through the other name").unwrap();
    std::fs::remove_file(&other).unwrap();
    std::fs::write(&other, "another file").unwrap();
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!((returned.done.len(), returned.refused.len()), (1, 1), "{returned:?}");
    assert!(returned.done[0].message.contains("changed since"), "{:?}", returned.done);
    assert!(returned.refused[0].1.contains("another file is in its place"), "{returned:?}");
    assert_eq!(std::fs::read(&one).unwrap(), b"written through the other name");
    assert_eq!(std::fs::read(&other).unwrap(), b"another file");
    let meta = one.metadata().unwrap();
    assert_eq!(meta.mode() & 0o7777, 0o601);
    assert_ne!(meta.ino(), inode(&stays));
}

#[test]
fn a_stop_between_two_leaves_each_either_linked_or_as_it_was() {
    for stop in 0..6 {
        let place = Place::new();
        let [stays, one, other] = three(&place);
        let before = below(&place);
        let plan = plan(&place, &["stays/"], &Deed::Link);
        let met = Cell::new(0);
        let watch = |_: &Figures| match met.replace(met.get() + 1) == stop {
            true => ControlFlow::Break(()),
            false => ControlFlow::Continue(()),
        };
        let summary = carry_out(&plan, &place.state, &|| NOW, &watch).unwrap();
        assert!(settle(&place.state, NOW).unwrap().is_empty());
        for (path, entry) in [&one, &other].into_iter().zip(&summary.entries) {
            let is_linked = entry.state == EntryState::Linked;
            assert_eq!(inode(path) == inode(&stays), is_linked, "stop {stop}: {entry:?}");
            assert!(is_linked || entry.state == EntryState::Waiting, "stop {stop}: {entry:?}");
        }
        if summary.count(EntryState::Waiting) > 0 {
            let rest = finish(summary.run, &place.state, &|| NOW, &|_| ControlFlow::Continue(()));
            let rest = rest.unwrap();
            assert_eq!(rest.entries.iter().filter(|e| !e.state.is_done()).count(), 0, "{rest:?}");
            put_back(rest.run, None, &place.state, NOW).unwrap();
        }
        put_back(summary.run, None, &place.state, NOW).unwrap();
        let now = below(&place);
        for path in [&one, &other] {
            assert_eq!(now[path], before[path], "stop {stop}");
        }
    }
}
