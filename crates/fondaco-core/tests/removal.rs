//! Delete, set aside, archive, put back: what goes, what is refused, and that nothing is lost.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::ffi::OsStr;
use std::ops::ControlFlow;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt};
use std::path::Path;

use common::{Mounted, NOW, Place, bytes_path, is_root, picture, run, set_old};
use fondaco_core::carry_out::{
    self, CarryOutError, EntryState, Journal, RunSummary, carry_out, purge, put_back, rehearse,
};
use fondaco_core::plan::{Deed, Plan, PlanError, survey};
use fondaco_core::state::State;
use fondaco_core::units::Bytes;
use fondaco_core::volume::used_below;

fn do_it(plan: &Plan, state: &State) -> RunSummary {
    carry_out(plan, state, &|| NOW, &|_| ControlFlow::Continue(())).unwrap()
}

fn states(summary: &RunSummary) -> Vec<EntryState> {
    summary.entries.iter().map(|entry| entry.state).collect()
}

/// A tree with all that a tree can have.
fn odd_tree(place: &Place) {
    place.file("recordings/north/a.raw", 300_000);
    place.file("recordings/north/empty", 0);
    place.file("recordings/south/b.raw", 70_000);
    let root = &place.root.join("recordings");
    std::fs::hard_link(root.join("north/a.raw"), root.join("south/again.raw")).unwrap();
    std::os::unix::fs::symlink("../north/nowhere", root.join("south/broken")).unwrap();
    set_old(&root.join("south/broken"), 99);
    for name in [&b"new\nline"[..], b"\xff\xfe\x1b[2J", &[b'n'; 255]] {
        let path = bytes_path(root, name);
        std::fs::write(&path, b"tide").unwrap();
        set_old(&path, 5);
    }
    let mut deep = root.clone();
    (0..30).for_each(|_| deep.push("a-rather-long-name-to-come-to-long-paths"));
    std::fs::create_dir_all(&deep).unwrap();
    std::fs::write(deep.join("bottom"), b"mud").unwrap();
    let sparse = std::fs::File::create(root.join("sparse")).unwrap();
    sparse.write_all_at(b"in the middle", 3 << 20).unwrap();
    sparse.set_len(8 << 20).unwrap();
    rustix::fs::mknodat(
        rustix::fs::CWD,
        root.join("pipe"),
        rustix::fs::FileType::Fifo,
        0o640.into(),
        0,
    )
    .unwrap();
    for (name, again) in [("south/broken", "broken again"), ("pipe", "south/pipe again")] {
        std::fs::hard_link(root.join(name), root.join(again)).unwrap();
    }
    let set = |name: &str| {
        let flags = rustix::fs::XattrFlags::empty();
        rustix::fs::setxattr(root.join("north/a.raw"), name, b"north\nbasin=\xff", flags)
    };
    if ["user.station", "user.a=b%25", "user.100%"].iter().any(|name| set(name).is_err()) {
        eprintln!("SKIPPED: this file system keeps no extended attributes");
    }
    std::fs::set_permissions(root.join("south"), PermissionsExt::from_mode(0o2750)).unwrap();
    if is_root("other owners") {
        std::os::unix::fs::chown(root.join("south/b.raw"), Some(60_101), Some(60_102)).unwrap();
        let set_id = PermissionsExt::from_mode(0o4711);
        std::fs::set_permissions(root.join("south/b.raw"), set_id).unwrap();
    }
    for path in ["recordings/south", "recordings/north", "recordings"] {
        set_old(&place.root.join(path), 77);
    }
    set_old(&place.root, 1234);
}

fn everything_comes_back(place: &Place) {
    odd_tree(place);
    place.file("charts/sheet.tif", 50_000);
    set_old(&place.root.join("charts"), 3);
    set_old(&place.root, 1234);
    let before = picture(&place.root);
    let recordings = place.root.join("recordings");
    let sheet = place.root.join("charts/sheet.tif");
    for deed in [Deed::SetAside, place.archive()] {
        let plan = place.plan(&[(&recordings, deed.clone()), (&sheet, deed.clone())]);
        let rehearsal = rehearse(&plan, &place.state, NOW, &|_| ControlFlow::Continue(())).unwrap();
        let warned = rehearsal.warnings.iter().any(|words| !words.contains("lies in memory"));
        assert!(rehearsal.refused() == 0 && !warned, "{rehearsal:?}");
        assert_eq!(picture(&place.root), before, "a rehearsal changes nothing");
        let summary = do_it(&plan, &place.state);
        let expected = if deed == Deed::SetAside { EntryState::Held } else { EntryState::Archived };
        assert_eq!(states(&summary), [expected; 2], "{:?}", summary.entries);
        assert!(!recordings.exists() && !sheet.exists());
        if deed != Deed::SetAside {
            check_with_plain_tools(place, &summary);
        }
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        assert!(returned.refused.is_empty(), "{:?}", returned.refused);
        let after = picture(&place.root);
        for (path, line) in &before {
            assert_eq!(after.get(path), Some(line), "{path:?} after {deed:?}");
        }
        assert_eq!(after.len(), before.len());
    }
}

/// The archive, its checksum and contents, without Fondaco.
fn check_with_plain_tools(place: &Place, summary: &RunSummary) {
    let archive = summary.entries[0].archive.clone().unwrap();
    let name = archive.file_name().unwrap().to_str().unwrap().replace(".tar.zst", ".sha256");
    let check = format!("cd '{}' && sha256sum -c '{name}'", place.depot.display());
    assert!(run("sh", &[OsStr::new("-c"), OsStr::new(&check)]).contains("OK"));
    let out = tempfile::tempdir().unwrap();
    let (into, file) = (out.path().as_os_str(), archive.as_os_str());
    let o = OsStr::new;
    let unpack = [o("--zstd"), o("--xattrs"), o("-xpf"), file, o("-C"), into];
    run("tar", &unpack);
    let unpacked = out.path().join(place.root.strip_prefix("/").unwrap());
    let sparse = unpacked.join("recordings/sparse");
    assert_eq!(sparse.metadata().unwrap().size(), 8 << 20);
    let linked = unpacked.join("recordings/south/again.raw").metadata().unwrap();
    assert_eq!((linked.nlink(), linked.size(), linked.mtime_nsec()), (2, 300_000, 123_456_789));
    let inode =
        |name: &str| unpacked.join("recordings").join(name).symlink_metadata().unwrap().ino();
    assert_eq!(inode("south/broken"), inode("broken again"));
    assert_eq!(inode("pipe"), inode("south/pipe again"));
    let found = common::attributes(&unpacked.join("recordings/north/a.raw"));
    let names: Vec<&str> = found.keys().map(String::as_str).collect();
    // tar, too, unpacks them only where the file system keeps them
    assert!(names.is_empty() || names == ["user.100%", "user.a=b%25", "user.station"], "{names:?}");
    assert!(found.values().all(|value| value == b"north\nbasin=\xff"));
}

#[test]
fn what_is_set_aside_or_archived_comes_back_byte_for_byte() {
    everything_comes_back(&Place::new());
}

#[test]
fn it_does_on_real_file_systems_too() {
    for fs_type in ["ext4", "xfs", "btrfs", "tmpfs"] {
        let Some(mounted) = Mounted::new(fs_type, 320) else { continue };
        eprintln!("on {fs_type}");
        everything_comes_back(&Place::at(&mounted.path()));
    }
}

#[test]
fn a_run_frees_what_its_forecast_says_also_with_shared_inodes() {
    let place = Place::new();
    let a = place.file("kit-a/manual.pdf", 200_000);
    let b = place.root.join("kit-b");
    std::fs::create_dir(&b).unwrap();
    std::fs::hard_link(&a, b.join("manual.pdf")).unwrap();
    place.file("kit-b/own.pdf", 30_000);
    let c = place.file("kit-c", 10_000);
    let kept = place.file("kept", 40_000);
    std::fs::hard_link(&kept, place.root.join("kept-too")).unwrap();
    let plan = place.plan(&[
        (&a, Deed::Delete),
        (&b, Deed::Delete),
        (&kept, Deed::Delete),
        (&c, Deed::SetAside),
    ]);
    let before = used_below(&place.root);
    let summary = do_it(&plan, &place.state);
    use EntryState::{Deleted, Held};
    assert_eq!(states(&summary), [Deleted, Deleted, Deleted, Held], "{:?}", summary.entries);
    assert_eq!(summary.freed, plan.frees().now);
    // the holding area's own two directories are there as long as something is held
    let areas = Bytes::new(2 * 4096);
    assert!(before.less(used_below(&place.root)) + areas >= plan.frees().now);
    let purged = purge(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!(purged.freed, plan.frees().later);
    assert_eq!(before.less(used_below(&place.root)), plan.frees().now + plan.frees().later);
    assert_eq!(summary.measured.map(|m| m + 8192 >= summary.freed.get() as i64), Some(true));
}

#[test]
fn what_changed_vanished_or_was_replaced_is_left_alone_and_the_rest_is_done() {
    type Spoil = fn(&Path);
    let cases: [(&str, Spoil, &str); 7] = [
        ("written", |p| std::fs::write(p, b"new contents").unwrap(), "size was"),
        ("touched", |p| set_old(p, 1), "last written was"),
        (
            "moded",
            |p| std::fs::set_permissions(p, PermissionsExt::from_mode(0o777)).unwrap(),
            "inode changed was",
        ),
        ("linked", |p| std::fs::hard_link(p, p.with_extension("too")).unwrap(), "links was"),
        ("gone", |p| std::fs::remove_file(p).unwrap(), "is gone"),
        (
            "replaced",
            |p| {
                std::fs::rename(p, p.with_extension("old")).unwrap();
                std::fs::write(p, vec![0; 5000]).unwrap();
            },
            "inode was",
        ),
        (
            "symlinked",
            |p| {
                std::fs::rename(p, p.with_extension("old")).unwrap();
                std::os::unix::fs::symlink(p.with_extension("old"), p).unwrap();
            },
            "kind was file and is link",
        ),
    ];
    for deed in ["delete", "set aside", "archive"] {
        let place = Place::new();
        let deed = match deed {
            "delete" => Deed::Delete,
            "set aside" => Deed::SetAside,
            _ => place.archive(),
        };
        let mut paths: Vec<_> = cases.iter().map(|(name, ..)| place.file(name, 5000)).collect();
        place.file("tree/below/leaf", 9000);
        paths.push(place.root.join("tree"));
        paths.push(place.file("untouched", 4000));
        let deeds: Vec<_> = paths.iter().map(|path| (path.as_path(), deed.clone())).collect();
        let plan = place.plan(&deeds);
        for ((_, spoil, _), path) in cases.iter().zip(&paths) {
            spoil(path);
        }
        std::fs::write(place.root.join("tree/below/one-more"), b"x").unwrap();
        let spoilt = picture(&place.root);
        let summary = do_it(&plan, &place.state);
        for (entry, (name, _, words)) in summary.entries.iter().zip(&cases) {
            assert_eq!(entry.state, EntryState::Refused, "{name}: {entry:?}");
            assert!(entry.message.contains(words), "{name}: {}", entry.message);
        }
        assert_eq!(summary.entries[7].state, EntryState::Refused, "a file came into the tree");
        assert_eq!(summary.count(EntryState::Refused), 8);
        assert!(!paths[8].exists(), "what fits its record is done");
        let now = picture(&place.root);
        for (path, line) in spoilt.iter().filter(|(path, _)| **path != paths[8]) {
            let directory_of_all = *path == place.root;
            assert!(directory_of_all || now.get(path) == Some(line), "{path:?} was touched");
        }
    }
}

#[test]
fn a_link_in_the_way_is_not_followed() {
    let place = Place::new();
    let inside = place.file("buoy/logs/jan.log", 4000);
    let outside = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(outside.path().join("logs")).unwrap();
    std::fs::write(outside.path().join("logs/jan.log"), vec![0; 4000]).unwrap();
    let plan = place.plan(&[(&inside, Deed::Delete)]);
    std::fs::rename(place.root.join("buoy"), place.root.join("buoy.real")).unwrap();
    std::os::unix::fs::symlink(outside.path(), place.root.join("buoy")).unwrap();
    let summary = do_it(&plan, &place.state);
    assert_eq!(summary.entries[0].state, EntryState::Refused, "{:?}", summary.entries);
    assert!(outside.path().join("logs/jan.log").exists());
    assert!(place.root.join("buoy.real/logs/jan.log").exists());
}

#[test]
fn open_protected_immutable_and_mounted_over_targets_are_refused() {
    let place = Place::new();
    let open = place.file("live.log", 1000);
    let directory = place.root.join("work");
    place.file("work/held.log", 1000);
    let plan = place.plan(&[(&open, Deed::Delete), (&directory, Deed::SetAside)]);
    let mut sleepers: Vec<_> = [&open, &place.root.join("work/held.log")]
        .map(|path| {
            let file = std::fs::File::open(path).unwrap();
            std::process::Command::new("sleep").arg("60").stdin(file).spawn().unwrap()
        })
        .into_iter()
        .collect();
    let summary = do_it(&plan, &place.state);
    for sleeper in &mut sleepers {
        sleeper.kill().unwrap();
        sleeper.wait().unwrap();
    }
    assert_eq!(summary.count(EntryState::Refused), 2, "{:?}", summary.entries);
    for entry in &summary.entries {
        assert!(entry.message.contains("in use by pid"), "{}", entry.message);
        assert!(entry.message.contains("sleep"), "{}", entry.message);
    }
    let mut protected = place.plan(&[(&open, Deed::Delete)]);
    protected.protect.push(fondaco_core::shown::DocPath(place.root.clone()));
    let summary = do_it(&protected, &place.state);
    assert!(summary.entries[0].message.contains("protected"), "{:?}", summary.entries);
    assert!(open.exists());

    let Some(mounted) = Mounted::new("ext4", 32) else { return };
    let place = Place::at(&mounted.path());
    let fixed = place.file("fixed", 100);
    let o = OsStr::new;
    run("chattr", &[o("+i"), fixed.as_os_str()]);
    let refusal = survey(&fixed).unwrap_err().to_string();
    run("chattr", &[o("-i"), fixed.as_os_str()]);
    assert!(refusal.contains("immutable"), "{refusal}");
    let over = place.root.join("over");
    std::fs::create_dir_all(over.join("mnt")).unwrap();
    let plan = place.plan(&[(&over, Deed::Delete)]);
    run("mount", &[o("-t"), o("tmpfs"), o("tmpfs"), over.join("mnt").as_os_str()]);
    std::fs::write(over.join("mnt/precious"), b"x").unwrap();
    let summary = do_it(&plan, &place.state);
    assert!(summary.entries[0].message.contains("a mount point"), "{:?}", summary.entries);
    assert!(over.join("mnt/precious").exists());
}

#[test]
fn a_depot_that_is_full_or_read_only_costs_nothing() {
    let Some(small) = Mounted::new("tmpfs", 1) else { return };
    let place = Place::new();
    let noise: Vec<u8> = (0..4_000_000u32)
        .scan(1u32, |state, _| {
            *state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            Some((*state >> 24) as u8)
        })
        .collect();
    let path = place.root.join("noise.raw");
    std::fs::write(&path, noise).unwrap();
    let other = place.file("other", 1000);
    let before = picture(&place.root);
    let depot = small.path().join("depot");
    let to = || Deed::Archive { depot: depot.clone() };
    let plan = place.plan(&[(&path, to()), (&other, to())]);
    let rehearsal = rehearse(&plan, &place.state, NOW, &|_| ControlFlow::Continue(())).unwrap();
    assert!(rehearsal.warnings[0].contains("free"), "{rehearsal:?}");
    let summary = do_it(&plan, &place.state);
    assert_eq!(summary.count(EntryState::Failed), 2, "{:?}", summary.entries);
    assert!(summary.entries[0].message.contains("No space left"), "{:?}", summary.entries[0]);
    assert_eq!(picture(&place.root), before);
    assert_eq!(std::fs::read_dir(&depot).unwrap().count(), 0, "no half archive is left");
    let at = small.path();
    run("mount", &[OsStr::new("-o"), OsStr::new("remount,ro"), at.as_os_str()]);
    let again = place.plan(&[(&other, to())]);
    let summary = do_it(&again, &place.state);
    assert!(summary.entries[0].message.contains("Read-only"), "{:?}", summary.entries[0]);
    assert_eq!(picture(&place.root), before);
}

#[test]
fn a_journal_that_cannot_be_written_stops_everything_before_it_begins() {
    let Some(small) = Mounted::new("tmpfs", 1) else { return };
    let mut place = Place::new();
    let path = place.file("a.raw", 50_000);
    let plan = place.plan(&[(&path, Deed::Delete)]);
    let state = State::open(&small.path().join("state")).unwrap();
    let full = std::fs::write(small.path().join("fill"), vec![1; 2 << 20]);
    assert!(full.is_err(), "the volume of the journal is full");
    place.state = state;
    let refused = carry_out(&plan, &place.state, &|| NOW, &|_| ControlFlow::Continue(()));
    let words = refused.unwrap_err().to_string();
    assert!(words.contains("full") || words.contains("No space left"), "{words}");
    assert!(path.exists());
}

#[test]
fn a_depot_that_others_could_swap_is_not_used() {
    let mut place = Place::new();
    let path = place.file("a.raw", 1000);
    let shared = place.root.parent().unwrap().join("shared");
    std::fs::create_dir(&shared).unwrap();
    std::fs::set_permissions(&shared, PermissionsExt::from_mode(0o777)).unwrap();
    place.depot = shared.join("depot");
    let summary = do_it(&place.plan(&[(&path, place.archive())]), &place.state);
    assert_eq!(summary.entries[0].state, EntryState::Refused);
    assert!(summary.entries[0].message.contains("others may write to"), "{:?}", summary.entries);
    assert!(path.exists());
}

#[test]
fn an_archive_that_was_damaged_is_not_unpacked() {
    let place = Place::new();
    let path = place.file("a.raw", 100_000);
    let summary = do_it(&place.plan(&[(&path, place.archive())]), &place.state);
    let archive = summary.entries[0].archive.clone().unwrap();
    let mut bytes = std::fs::read(&archive).unwrap();
    let middle = bytes.len() / 3;
    bytes[middle] ^= 0x55;
    std::fs::write(&archive, bytes).unwrap();
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert!(returned.done.is_empty() && returned.refused.len() == 1);
    assert!(!path.exists(), "nothing that is not the original takes its place");
    assert!(archive.exists());
}

#[test]
fn put_back_never_overwrites_and_takes_one_some_or_all() {
    let place = Place::new();
    let paths: Vec<_> = (0..4).map(|i| place.file(&format!("f{i}"), 1000)).collect();
    let deeds: Vec<_> = paths.iter().map(|path| (path.as_path(), Deed::SetAside)).collect();
    let summary = do_it(&place.plan(&deeds), &place.state);
    std::fs::write(&paths[0], b"somebody was faster").unwrap();
    let returned = put_back(summary.run, Some(&[1, 2]), &place.state, NOW).unwrap();
    assert_eq!((returned.done.len(), returned.refused.len()), (1, 1));
    assert!(returned.refused[0].1.contains("exists"), "{:?}", returned.refused);
    assert_eq!(std::fs::read(&paths[0]).unwrap(), b"somebody was faster");
    assert!(paths[1].exists() && !paths[2].exists());
    std::fs::remove_file(&paths[0]).unwrap();
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!((returned.done.len(), returned.refused.len()), (3, 0));
    assert!(paths.iter().all(|path| path.exists()));
    let again = put_back(summary.run, Some(&[3]), &place.state, NOW).unwrap();
    assert!(again.refused[0].1.contains("put back"), "{:?}", again.refused);
    assert!(matches!(put_back(99, None, &place.state, NOW), Err(CarryOutError::NoSuchRun(99))));
    let left = std::fs::read_dir(&place.root).unwrap().count();
    assert_eq!(left, 4, "the holding area is gone with the last thing held");
}

#[test]
fn a_plan_is_carried_out_once_here_and_in_this_version_only() {
    let place = Place::new();
    let path = place.file("once", 10);
    let plan = place.plan(&[(&path, Deed::Delete)]);
    let text = serde_json::to_string(&plan).unwrap();
    assert_eq!(Plan::parse(&text).unwrap(), plan);
    let change = |from: &str, to: &str| Plan::parse(&text.replace(from, to)).unwrap_err();
    let machine = fondaco_core::kernel::machine_id();
    assert!(matches!(change(&machine, "elsewhere"), PlanError::OtherMachine(_)));
    assert!(matches!(change("\"fondaco\":1", "\"fondaco\":2"), PlanError::OtherVersion(2)));
    assert!(matches!(change("\"kind\":\"plan\"", "\"kind\":\"scan\""), PlanError::OtherKind(_)));
    assert!(matches!(change("/once", "/../once"), PlanError::Damaged(_)));
    assert!(matches!(Plan::parse("{"), Err(PlanError::Syntax(_))));
    do_it(&plan, &place.state);
    let again = carry_out(&plan, &place.state, &|| NOW, &|_| ControlFlow::Continue(()));
    assert!(matches!(again, Err(CarryOutError::AlreadyCarriedOut(1))));
}

#[test]
fn a_thread_with_copies_of_all_descriptors_does_not_keep_the_lock_of_a_run() {
    let place = Place::new();
    let path = place.file("one", 1000);
    let plan = place.plan(&[(&path, Deed::SetAside)]);
    let (ready, wait_ready) = std::sync::mpsc::channel();
    let (end, wait_end) = std::sync::mpsc::channel::<()>();
    let wait_end = std::cell::Cell::new(Some(wait_end));
    let summary = carry_out(&plan, &place.state, &|| NOW, &|_| {
        // as the threads of a scan that begins while the lock is held
        if let Some(wait_end) = wait_end.take() {
            let ready = ready.clone();
            std::thread::spawn(move || {
                fondaco_core::kernel::own_descriptor_table().unwrap();
                ready.send(()).unwrap();
                let _ = wait_end.recv();
            });
            wait_ready.recv().unwrap();
        }
        ControlFlow::Continue(())
    })
    .unwrap();
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!(returned.done.len(), 1);
    drop(end);
}

#[test]
fn a_stopped_run_leaves_the_rest_for_later() {
    let place = Place::new();
    let paths: Vec<_> = (0..6).map(|i| place.file(&format!("f{i}"), 1000)).collect();
    let deeds: Vec<_> = paths.iter().map(|path| (path.as_path(), Deed::Delete)).collect();
    let plan = place.plan(&deeds);
    let summary = carry_out(&plan, &place.state, &|| NOW, &|figures| {
        if figures.done < 2 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    })
    .unwrap();
    assert_eq!(summary.count(EntryState::Deleted), 2);
    assert_eq!(summary.count(EntryState::Waiting), 4);
    assert_eq!(paths.iter().filter(|path| path.exists()).count(), 4);
    let journal = Journal::open(&place.state.journal_file()).unwrap();
    let run = journal.run(summary.run).unwrap().unwrap();
    let rest = carry_out::remainder(&run, &summary.entries, NOW).unwrap().unwrap();
    let summary = do_it(&rest, &place.state);
    assert_eq!(summary.count(EntryState::Deleted), 4);
    assert!(paths.iter().all(|path| !path.exists()));
}

#[test]
fn an_inode_with_names_in_several_targets_is_stored_once_and_comes_back_as_one() {
    for order in [[1, 2], [2, 1]] {
        let place = Place::new();
        let first = place.file("tide/mar.csv", 200_000);
        let second = place.root.join("copy/mar.csv");
        std::fs::create_dir(place.root.join("copy")).unwrap();
        std::fs::hard_link(&first, &second).unwrap();
        let before = picture(&place.root);
        let plan = place.plan(&[(&first, place.archive()), (&second, place.archive())]);
        let notes = |at: usize| plan.actions[at].notes.join("; ");
        assert!(notes(0).contains("freed with the last of its names in this plan"), "{}", notes(0));
        assert!(!notes(1).contains("name"), "{}", notes(1));
        let freed = [0, 1].map(|at| plan.actions[at].frees.now.get() > 0);
        assert_eq!(freed, [false, true]);
        let summary = do_it(&plan, &place.state);
        assert_eq!(summary.count(EntryState::Archived), 2);
        // contents of this kind do not become smaller: stored twice they would take twice the room
        let archive = summary.entries[0].archive.clone().unwrap();
        let index = std::fs::read(archive.with_extension("").with_extension("json")).unwrap();
        let index: serde_json::Value = serde_json::from_slice(&index).unwrap();
        assert!(index["targets"][0]["entries"][0]["sha256"].is_string());
        assert_eq!(
            index["targets"][1]["entries"][0]["same_as"],
            index["targets"][0]["entries"][0]["name"]
        );
        for number in order {
            let returned = put_back(summary.run, Some(&[number]), &place.state, NOW).unwrap();
            assert_eq!(returned.done.len(), 1, "{returned:?}");
        }
        assert_eq!(picture(&place.root), before, "put back in the order {order:?}");
    }
}

#[test]
fn a_name_that_comes_back_is_no_link_to_what_was_put_in_the_others_place() {
    let place = Place::new();
    let first = place.file("tide/mar.csv", 50_000);
    let second = place.root.join("mar.csv");
    std::fs::hard_link(&first, &second).unwrap();
    let plan = place.plan(&[(&first, place.archive()), (&second, place.archive())]);
    let contents = std::fs::read(&first).unwrap();
    let summary = do_it(&plan, &place.state);
    std::fs::write(&first, b"a new one").unwrap();
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!((returned.done.len(), returned.refused.len()), (1, 1), "{returned:?}");
    assert_eq!(std::fs::read(&first).unwrap(), b"a new one");
    assert_eq!(std::fs::read(&second).unwrap(), contents);
}
