//! Guards of removal and of putting back: what stands in the way is told, and everything stays where it is.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::cell::Cell;
use std::ffi::OsStr;
use std::ops::ControlFlow;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::{Path, PathBuf};

use common::{Mounted, NOW, Place, is_root, picture, run};
use fondaco_core::carry_out::{
    CarryOutError, EntryState, Journal, RunSummary, carry_out, purge, put_back, rehearse,
};
use fondaco_core::kernel;
use fondaco_core::plan::{Deed, Plan, Refusal, survey};
use fondaco_core::state::{SimulatedVolume, State};
use fondaco_core::units::Bytes;

fn go_on(_: &fondaco_core::carry_out::Figures) -> ControlFlow<()> {
    ControlFlow::Continue(())
}

fn do_it(plan: &Plan, state: &State) -> RunSummary {
    carry_out(plan, state, &|| NOW, &go_on).unwrap()
}

/// Why a run that has only this to put back does not.
fn not_back(run: i64, state: &State) -> String {
    let returned = put_back(run, None, state, NOW).unwrap();
    assert_eq!((returned.done.len(), returned.refused.len()), (0, 1), "{returned:?}");
    returned.refused[0].1.clone()
}

fn mount(over: &Path) -> Over {
    let o = OsStr::new;
    run("mount", &[o("-t"), o("tmpfs"), o("-o"), o("size=1m"), o("tide"), over.as_os_str()]);
    Over(over.to_owned())
}

/// Something mounted over a directory, until dropped.
struct Over(PathBuf);

impl Drop for Over {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg(&self.0).status();
    }
}

#[test]
fn nothing_is_planned_that_has_another_volume_in_it_or_is_one() {
    if !is_root("mounts below a target") {
        return;
    }
    let place = Place::new();
    let deep = place.file("buoy/logs/jan.log", 1000);
    for at in [place.root.join("buoy"), place.root.join("buoy/logs")] {
        let over = mount(&at);
        for target in [place.root.join("buoy"), at.clone()] {
            let refusal = survey(&target).unwrap_err();
            assert!(matches!(&refusal, Refusal::MountBelow(path) if *path == at), "{refusal}");
        }
        drop(over);
        survey(&at).unwrap();
    }
    // of the same volume, another place of it: it is no less another mount
    let elsewhere = place.file("elsewhere/precious", 10);
    let into = place.root.join("buoy/logs");
    let o = OsStr::new;
    run("mount", &[o("--bind"), elsewhere.parent().unwrap().as_os_str(), into.as_os_str()]);
    let over = Over(into);
    assert!(matches!(survey(&place.root.join("buoy")), Err(Refusal::MountBelow(_))));
    drop(over);
    assert!(deep.exists() && elsewhere.exists());
}

#[test]
fn what_is_mounted_after_the_review_is_met_by_every_deed_and_left_alone() {
    if !is_root("mounts below a target") {
        return;
    }
    let place = Place::new();
    let logs = place.file("buoy/logs/jan.log", 1000);
    let target = place.root.join("buoy");
    let before = picture(&place.root);
    for deed in [Deed::Delete, Deed::SetAside, place.archive()] {
        let plan = place.plan(&[(&target, deed)]);
        let over = mount(logs.parent().unwrap());
        std::fs::write(over.0.join("precious"), b"x").unwrap();
        let rehearsal = rehearse(&plan, &place.state, NOW, &go_on).unwrap();
        assert!(rehearsal.findings[0].refused.as_ref().unwrap().contains("mount point"));
        let summary = do_it(&plan, &place.state);
        assert_eq!(summary.entries[0].state, EntryState::Refused, "{:?}", summary.entries);
        assert!(over.0.join("precious").exists());
        drop(over);
        assert_eq!(picture(&place.root), before);
    }
}

#[test]
fn a_socket_is_not_archived_but_can_be_set_aside() {
    let place = Place::new();
    place.file("run/notes", 100);
    let target = place.root.join("run");
    let _socket = std::os::unix::net::UnixListener::bind(target.join("gauge")).unwrap();
    let plan = place.plan(&[(&target, place.archive())]);
    let rehearsal = rehearse(&plan, &place.state, NOW, &go_on).unwrap();
    assert!(rehearsal.findings[0].refused.as_ref().unwrap().contains("it is a socket"));
    let summary = do_it(&plan, &place.state);
    assert_eq!(summary.entries[0].state, EntryState::Refused, "{:?}", summary.entries);
    assert!(summary.entries[0].message.contains("run/gauge"), "{:?}", summary.entries);
    assert!(target.join("notes").exists());
    assert!(!place.depot.exists() || place.depot.read_dir().unwrap().next().is_none());
    let aside = do_it(&place.plan(&[(&target, Deed::SetAside)]), &place.state);
    assert_eq!(aside.entries[0].state, EntryState::Held, "{:?}", aside.entries);
    assert_eq!(put_back(aside.run, None, &place.state, NOW).unwrap().done.len(), 1);
}

#[test]
fn one_run_at_a_time_and_none_of_nothing() {
    let place = Place::new();
    let path = place.file("one", 1000);
    let plan = place.plan(&[(&path, Deed::SetAside)]);
    let busy = Cell::new(0);
    let inner = |_: &fondaco_core::carry_out::Figures| {
        // another run, while the first holds the lock
        if busy.get() == 0 {
            let other = place.plan(&[(&place.file("two", 10), Deed::Delete)]);
            let refused = carry_out(&other, &place.state, &|| NOW, &go_on).unwrap_err();
            assert!(matches!(refused, CarryOutError::Busy(_)), "{refused}");
            assert!(matches!(put_back(1, None, &place.state, NOW), Err(CarryOutError::Busy(_))));
            assert!(matches!(purge(1, None, &place.state, NOW), Err(CarryOutError::Busy(_))));
        }
        busy.set(busy.get() + 1);
        ControlFlow::Continue(())
    };
    let summary = carry_out(&plan, &place.state, &|| NOW, &inner).unwrap();
    assert!(busy.get() > 0 && summary.entries[0].state == EntryState::Held);
    assert!(place.root.join("two").exists());
    let nothing = Plan::new(Vec::new(), Vec::new(), NOW).unwrap();
    let refused = carry_out(&nothing, &place.state, &|| NOW, &go_on);
    assert!(matches!(refused, Err(CarryOutError::Empty)));
    assert!(matches!(rehearse(&nothing, &place.state, NOW, &go_on), Err(CarryOutError::Empty)));
    let journal = Journal::open(&place.state.journal_file()).unwrap();
    assert_eq!(journal.runs().unwrap().len(), 1, "what was refused is no run");
}

#[test]
fn what_was_taken_out_of_the_holding_area_or_has_no_place_any_more_is_told() {
    let place = Place::new();
    let path = place.file("buoy/logs/jan.log", 1000);
    let directory = path.parent().unwrap().to_owned();
    let summary = do_it(&place.plan(&[(&path, Deed::SetAside)]), &place.state);
    // its directory is gone: made again, it takes the file
    std::fs::remove_dir(&directory).unwrap();
    assert!(not_back(summary.run, &place.state).contains("make it and try again"));
    std::fs::create_dir(&directory).unwrap();
    assert_eq!(put_back(summary.run, None, &place.state, NOW).unwrap().done.len(), 1);
    assert_eq!(std::fs::read(&path).unwrap().len(), 1000);

    // somebody emptied the holding area by hand
    let summary = do_it(&place.plan(&[(&path, Deed::SetAside)]), &place.state);
    let area = summary.entries[0].area.clone().unwrap();
    let held = area.join(summary.entries[0].action.number.to_string());
    std::fs::rename(&held, place.root.join("by-hand")).unwrap();
    assert!(not_back(summary.run, &place.state).contains("does not have it"));
    std::fs::remove_dir_all(area.parent().unwrap()).unwrap();
    assert!(not_back(summary.run, &place.state).contains("holding area is gone"));
    assert!(!path.exists());

    // an archive that somebody has moved away
    let other = place.file("buoy/logs/feb.log", 1000);
    let summary = do_it(&place.plan(&[(&other, place.archive())]), &place.state);
    let archive = summary.entries[0].archive.clone().unwrap();
    std::fs::rename(&archive, archive.with_extension("away")).unwrap();
    let words = not_back(summary.run, &place.state);
    assert!(words.contains("No such file") && words.contains(archive.to_str().unwrap()), "{words}");
    std::fs::rename(archive.with_extension("away"), &archive).unwrap();
    assert_eq!(put_back(summary.run, None, &place.state, NOW).unwrap().done.len(), 1);
}

#[test]
fn an_archive_is_not_unpacked_where_there_is_no_room_for_it() {
    let Some(small) = Mounted::new("tmpfs", 2) else { return };
    let mut place = Place::at(&small.path());
    let depot = tempfile::tempdir().unwrap();
    place.depot = depot.path().canonicalize().unwrap().join("depot");
    let path = place.file("a.raw", 1_200_000);
    let before = picture(&place.root);
    let summary = do_it(&place.plan(&[(&path, place.archive())]), &place.state);
    assert_eq!(summary.entries[0].state, EntryState::Archived, "{:?}", summary.entries);
    let fill = small.path().join("fill");
    std::fs::write(&fill, vec![1; 1_200_000]).unwrap();
    let words = not_back(summary.run, &place.state);
    assert!(words.contains("it needs 1.1 MiB") && words.contains("free"), "{words}");
    assert!(!path.exists(), "half of it would be worse than none");
    std::fs::remove_file(fill).unwrap();
    assert_eq!(put_back(summary.run, None, &place.state, NOW).unwrap().done.len(), 1);
    assert_eq!(picture(&place.root), before);
}

/// As after a put back that was cut off: some files are in their places already, and the journal has them in the archive.
#[test]
fn what_is_back_already_is_known_by_what_it_is_and_anything_else_stays() {
    let place = Place::new();
    let files: Vec<_> =
        (0..6).map(|n| place.file(&format!("gauge/{n}.csv"), 2000 + n * 10)).collect();
    let before = picture(&place.root);
    let actions: Vec<_> = files.iter().map(|file| (file.as_path(), place.archive())).collect();
    let summary = do_it(&place.plan(&actions), &place.state);
    let archive = summary.entries[0].archive.clone().unwrap();
    let open = fondaco_core::archive::OpenArchive::open(&archive).unwrap();
    for (number, original) in open.targets().into_iter().take(3) {
        let directory = original.parent().unwrap();
        fondaco_core::carry_out::restore_into(&open, number, &original, directory).unwrap();
    }
    // one of them is written since, and one is a directory
    std::fs::write(&files[2], b"high water").unwrap();
    std::fs::create_dir(&files[3]).unwrap();
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    let refused: Vec<_> =
        returned.refused.iter().map(|(entry, _)| entry.action.target.path.0.clone()).collect();
    assert_eq!(refused, [files[3].clone(), files[2].clone()], "{:?}", returned.refused);
    assert_eq!(returned.done.len(), 4);
    assert_eq!(std::fs::read(&files[2]).unwrap(), b"high water");
    std::fs::remove_file(&files[2]).unwrap();
    std::fs::remove_dir(&files[3]).unwrap();
    assert_eq!(put_back(summary.run, None, &place.state, NOW).unwrap().done.len(), 2);
    let after = picture(&place.root);
    let is_file = |path: &&std::path::PathBuf| path.is_file();
    for path in before.keys().filter(is_file) {
        assert_eq!(before[path], after[path], "{}", path.display());
    }
}

#[test]
fn nothing_is_held_where_others_could_swap_it() {
    let Some(volume) = Mounted::new("tmpfs", 2) else { return };
    let state = tempfile::tempdir().unwrap();
    let mut place = Place::at(&volume.path());
    // the state directory lies on another volume, and all of this one is somebody else's
    place.state = State::open(&state.path().canonicalize().unwrap().join("state")).unwrap();
    let path = place.file("a.raw", 1000);
    for directory in [&volume.path(), &place.root] {
        chown(directory, Some(60_101), None).unwrap();
        std::fs::set_permissions(directory, PermissionsExt::from_mode(0o755)).unwrap();
    }
    let plan = place.plan(&[(&path, Deed::Delete)]);
    let rehearsal = rehearse(&plan, &place.state, NOW, &go_on).unwrap();
    let words = rehearsal.findings[0].refused.clone().unwrap();
    assert!(words.contains("no directory there is safe from others"), "{words}");
    let summary = do_it(&plan, &place.state);
    assert_eq!(summary.entries[0].state, EntryState::Refused, "{:?}", summary.entries);
    assert!(path.exists());
    let capacity = Bytes::new(1 << 20);
    place.state.settings.simulated = vec![SimulatedVolume { path: place.root.clone(), capacity }];
    // in a sticky directory what lies there is renamed by its owner only, and by the owner of the directory
    let sticky = |owner: u32| {
        chown(volume.path(), Some(0), None).unwrap();
        chown(&place.root, Some(owner), None).unwrap();
        std::fs::set_permissions(volume.path(), PermissionsExt::from_mode(0o755)).unwrap();
        std::fs::set_permissions(&place.root, PermissionsExt::from_mode(0o1777)).unwrap();
        do_it(&place.plan(&[(&path, Deed::SetAside)]), &place.state).entries
    };
    let entries = sticky(60_101);
    let elsewhere = entries[0].area.clone().unwrap();
    assert!(!elsewhere.starts_with(&place.root), "{elsewhere:?}");
    assert_eq!(put_back(2, None, &place.state, NOW).unwrap().done.len(), 1);
    let entries = sticky(0);
    assert_eq!(entries[0].state, EntryState::Held, "{entries:?}");
    let area = entries[0].area.clone().unwrap();
    assert!(area.starts_with(&place.root), "{area:?}");
    let mode = area.metadata().unwrap().permissions().mode() & 0o7777;
    assert_eq!((mode, kernel::stat_path(&area).unwrap().uid), (0o700, 0));
}

#[test]
fn a_rehearsal_that_is_stopped_or_meets_a_closed_depot_says_so() {
    let mut place = Place::new();
    let paths: Vec<PathBuf> = (0..3).map(|n| place.file(&format!("f{n}"), 1000)).collect();
    let deeds: Vec<_> = paths.iter().map(|path| (path.as_path(), Deed::Delete)).collect();
    let seen = Cell::new(0);
    let stop = |_: &fondaco_core::carry_out::Figures| {
        seen.set(seen.get() + 1);
        if seen.get() < 3 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    };
    let rehearsal = rehearse(&place.plan(&deeds), &place.state, NOW, &stop).unwrap();
    assert_eq!(rehearsal.findings.len(), 2);
    assert!(rehearsal.warnings[0].contains("was stopped"), "{:?}", rehearsal.warnings);
    let Some(closed) = Mounted::new("tmpfs", 1) else { return };
    let at = closed.path();
    run("mount", &[OsStr::new("-o"), OsStr::new("remount,ro"), at.as_os_str()]);
    place.depot = at.join("depot/not/there/yet");
    let plan = place.plan(&[(&paths[0], place.archive())]);
    let rehearsal = rehearse(&plan, &place.state, NOW, &go_on).unwrap();
    let refused = rehearsal.findings[0].refused.clone().unwrap();
    assert!(refused.contains("Read-only"), "{refused}");
}

#[test]
fn what_is_freed_is_measured_when_the_file_system_has_freed_it() {
    if !is_root("file systems that free later") {
        return;
    }
    for fs_type in ["ext4", "xfs", "btrfs", "tmpfs"] {
        let Some(mounted) = Mounted::new(fs_type, 320) else { continue };
        let mut place = Place::at(&mounted.path());
        place.state.settings.simulated.clear();
        let contents: Vec<u8> =
            (0..24 << 20).map(|n: u32| (n.wrapping_mul(n) >> 7) as u8).collect();
        let path = place.root.join("survey.raw");
        std::fs::write(&path, contents).unwrap();
        rustix::fs::sync();
        let summary = do_it(&place.plan(&[(&path, Deed::Delete)]), &place.state);
        let (freed, measured) = (summary.freed.get() as i64, summary.measured.unwrap());
        assert!(freed >= 24 << 20, "{fs_type}: {freed}");
        assert!((freed - measured).abs() < 1 << 20, "{fs_type}: {freed} and {measured}");
        let said = summary.reasons.join("; ");
        assert!(!said.contains("others"), "{fs_type}: {said}");
    }
}
