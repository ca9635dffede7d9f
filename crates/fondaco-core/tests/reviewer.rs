//! What is planned is what was seen: whatever was chosen in a scan must still be that when it is planned.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::fs::{self, File, OpenOptions};
use std::io::{Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use common::{Mounted, NOW, Place, is_root, run, set_age};
use fondaco_core::analysis::{Protection, Regenerables, Sources, gather};
use fondaco_core::catalog::{Catalog, Finder, Origin};
use fondaco_core::kernel::{OpenFiles, effective_user, machine_id};
use fondaco_core::lens::{Accounts, AccountsOf, SystemAccounts};
use fondaco_core::plan::{Choice, Deed, Refusal, Reviewer};
use fondaco_core::saved;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::state::State;

fn scan(root: &Path) -> Catalog {
    let options = Options { threads: 1, ..Options::new(NOW) };
    Scan::start(&[root.to_owned()], &options).unwrap().into_catalog()
}

/// The scan itself, and the same after it was saved and opened again.
fn also_saved(state: &State, catalog: Catalog) -> [Catalog; 2] {
    let opened = saved::open(state, saved::save(state, &catalog, false).unwrap()).unwrap();
    [catalog, opened]
}

fn review(state: &State, catalog: &Catalog, path: &Path, by_reading: bool) -> Result<(), Refusal> {
    let entry = catalog.scanned_entry(Finder::new(catalog).find(path).unwrap());
    let reviewer = Reviewer::of_scan(state, catalog.origin(), catalog.roots(), NOW);
    let planned = reviewer.plan(&Choice::Scanned { entry, by_reading }, &Deed::Delete, "by hand");
    planned.map(drop)
}

fn refused(outcome: Result<(), Refusal>) -> String {
    outcome.unwrap_err().to_string()
}

/// What happens to a file or directory between the scan and the plan.
type Change = fn(&Path);

/// With the words that the refusal must have.
const CHANGES: &[(&str, Change, &str)] = &[
    ("a longer one", |path| fs::write(path, [1; 9999]).unwrap(), "its length was 5000"),
    ("rewritten", |path| fs::write(path, [2; 5000]).unwrap(), "last writing"),
    ("touched", |path| set_age(path, 7), "last writing"),
    (
        "another of the same looks",
        |path| {
            let aside = path.with_extension("aside");
            fs::copy(path, &aside).unwrap();
            set_age(&aside, 900 * 86_400);
            fs::rename(&aside, path).unwrap();
        },
        "another one of the same name",
    ),
    (
        "a directory",
        |path| {
            fs::remove_file(path).unwrap();
            fs::create_dir(path).unwrap();
        },
        "its kind was file and is directory",
    ),
    (
        "others may read it",
        |path| fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap(),
        "mode was",
    ),
    ("gone", |path| fs::remove_file(path).unwrap(), "is gone"),
];

#[test]
fn nothing_is_planned_that_is_no_longer_what_was_chosen() {
    for (what, change, words) in CHANGES {
        let place = Place::new();
        let path = place.file("logs/a.log", 5000);
        fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
        set_age(&path, 900 * 86_400);
        let still = place.file("logs/still.log", 5000);
        let catalogs = also_saved(&place.state, scan(&place.root));
        for catalog in &catalogs {
            review(&place.state, catalog, &path, true).unwrap();
        }
        change(&path);
        for catalog in &catalogs {
            let reason = refused(review(&place.state, catalog, &path, false));
            // a scan that was saved knows the day of a change only
            let by_day = reason.contains("last change") || reason.contains(words);
            assert!(by_day, "{what}: {reason}");
            review(&place.state, catalog, &still, false).unwrap();
        }
    }
}

#[test]
fn rewritten_with_its_old_time_is_noticed_by_the_change_of_its_inode() {
    let place = Place::new();
    let path = place.file("logs/a.log", 5000);
    set_age(&path, 900 * 86_400);
    let catalog = scan(&place.root);
    // a catalog keeps whole seconds
    std::thread::sleep(std::time::Duration::from_millis(1100));
    OpenOptions::new().write(true).open(&path).unwrap().write_all(b"new").unwrap();
    set_age(&path, 900 * 86_400);
    let reason = refused(review(&place.state, &catalog, &path, false));
    assert!(reason.contains("last change"), "{reason}");
}

#[test]
fn what_was_chosen_by_its_last_reading_must_not_have_been_read_since() {
    let place = Place::new();
    let path = place.file("logs/a.log", 5000);
    let [live, opened] = also_saved(&place.state, scan(&place.root));
    let mut contents = Vec::new();
    File::open(&path).unwrap().read_to_end(&mut contents).unwrap();
    for catalog in [&live, &opened] {
        review(&place.state, catalog, &path, false).unwrap();
        let reason = refused(review(&place.state, catalog, &path, true));
        assert!(reason.contains("last reading"), "{reason}");
    }
}

#[test]
fn a_directory_is_planned_with_what_was_seen_in_it() {
    let place = Place::new();
    let directory = place.root.join("runs");
    place.file("runs/deep/below/1.nc", 5000);
    let catalogs = also_saved(&place.state, scan(&place.root));
    for catalog in &catalogs {
        review(&place.state, catalog, &directory, false).unwrap();
    }
    place.file("runs/deep/below/2.nc", 5000);
    for catalog in &catalogs {
        let reason = refused(review(&place.state, catalog, &directory, false));
        assert!(reason.contains("it had 4 entries and has 5"), "{reason}");
    }
}

#[test]
fn a_scan_of_another_machine_makes_no_plan() {
    let place = Place::new();
    let path = place.file("logs/a.log", 5000);
    let mut catalog = scan(&place.root);
    assert_eq!(catalog.origin().machine, machine_id());
    let own = catalog.origin().clone();
    let [_, opened] = also_saved(&place.state, scan(&place.root));
    let us = opened.origin().users.get(&effective_user());
    assert_eq!(us, SystemAccounts.user_name(effective_user()).as_ref());
    let ids = |origin: &Origin| origin.volumes.iter().map(|v| v.id.clone()).collect::<Vec<_>>();
    assert_eq!(ids(opened.origin()), ids(&own));
    // names of another machine are those that its scan has kept
    let users = [(0, "harbourmaster".to_owned())].into();
    let foreign = Origin { machine: "another".into(), users, ..own.clone() };
    let names = |origin| AccountsOf { origin, system: &SystemAccounts }.user_name(0);
    assert_eq!(names(&foreign).as_deref(), Some("harbourmaster"));
    assert_eq!(names(&own).as_deref(), Some("root"));
    for (machine, words) in
        [("0123456789abcdef", "another machine, tidehouse"), ("", "does not say of which machine")]
    {
        let origin = Origin { machine: machine.into(), host: "tidehouse".into(), ..own.clone() };
        catalog.set_origin(origin);
        let [live, opened] = also_saved(&place.state, catalog);
        for foreign in [&live, &opened] {
            let reason = refused(review(&place.state, foreign, &path, false));
            assert!(reason.contains(words), "{reason}");
            // the file of that name on this machine is no evidence
            let sources = Sources {
                state: &place.state,
                protection: &Protection::of_system(&place.state),
                open: &OpenFiles::default(),
                regenerables: &Regenerables::with(None).0,
                rules: Ok(None),
                now: NOW,
            };
            let evidence = gather(foreign, Finder::new(foreign).find(&path).unwrap(), &sources);
            assert!(evidence.verdict.to_string().contains(words), "{}", evidence.verdict);
            assert!(evidence.stat.is_none() && evidence.is_complete());
        }
        catalog = live;
    }
}

#[test]
fn what_lay_on_a_file_system_that_is_not_mounted_any_more_is_not_planned() {
    if !is_root("two file systems, one after the other in one place") {
        return;
    }
    for fs_type in ["ext4", "xfs", "btrfs", "tmpfs"] {
        let (Some(first), Some(second)) = (Mounted::new(fs_type, 320), Mounted::new(fs_type, 320))
        else {
            continue;
        };
        let state = State::open(&tempfile::tempdir().unwrap().keep()).unwrap();
        let at = tempfile::tempdir().unwrap();
        let (path, bind) = (at.path().canonicalize().unwrap(), |from: &Mounted| {
            run("mount", &["--bind".as_ref(), from.path().as_os_str(), at.path().as_os_str()]);
        });
        let unmount = || run("umount", &[at.path().as_os_str()]);
        let file = |on: &Mounted| -> PathBuf {
            fs::write(on.path().join("a.log"), [1; 5000]).unwrap();
            set_age(&on.path().join("a.log"), 900 * 86_400);
            path.join("a.log")
        };
        file(&first);
        let target = file(&second);
        bind(&first);
        let catalogs = also_saved(&state, scan(&path));
        catalogs.iter().for_each(|catalog| review(&state, catalog, &target, false).unwrap());
        unmount();
        bind(&second);
        for catalog in &catalogs {
            let reason = refused(review(&state, catalog, &target, false));
            assert!(reason.contains("another file system"), "{fs_type}: {reason}");
        }
        unmount();
        bind(&first);
        catalogs.iter().for_each(|catalog| review(&state, catalog, &target, false).unwrap());
        unmount();
        fs::remove_dir_all(state.directory()).unwrap();
    }
}

#[test]
fn what_the_rules_protect_is_protected_from_every_way_into_a_plan() {
    let place = Place::new();
    let (kept, other) = (place.file("calibration/tone.wav", 5000), place.file("north/1.wav", 5000));
    let catalog = scan(&place.root);
    let by_path = |path: &Path| {
        let choice = Choice::Path(path.to_owned());
        Reviewer::new(&place.state, NOW).plan(&choice, &Deed::Delete, "by hand").map(drop)
    };
    let ways = |path: &Path| [by_path(path), review(&place.state, &catalog, path, false)];
    ways(&kept).into_iter().for_each(Result::unwrap);
    let absolute = place.root.join("calibration");
    for protect in ["calibration", absolute.to_str().unwrap()] {
        fs::write(place.state.rules_file(), format!("protect = [\"{protect}\"]\n")).unwrap();
        for target in [&kept, &place.root.join("calibration")] {
            for outcome in ways(target) {
                let reason = refused(outcome);
                assert!(reason.contains("rules"), "{}: {reason}", target.display());
            }
        }
        ways(&other).into_iter().for_each(Result::unwrap);
    }
    // nobody knows what a file with a mistake protects
    fs::write(place.state.rules_file(), "protect = [\"calibration\"\n").unwrap();
    for outcome in ways(&other) {
        let reason = refused(outcome);
        assert!(reason.contains("what the rules protect is not known"), "{reason}");
    }
}

#[test]
fn files_that_show_the_number_of_their_layer_are_of_the_file_system_that_was_scanned() {
    if !is_root("an overlay") {
        return;
    }
    let directory = tempfile::tempdir().unwrap();
    let base = directory.path().canonicalize().unwrap();
    let state = State::open(&base.join("state")).unwrap();
    let (lower, space, seen) = (base.join("lower"), base.join("space"), base.join("seen"));
    for place in [&lower, &space, &seen] {
        fs::create_dir(place).unwrap();
    }
    let mount = |arguments: &[&str]| {
        let output = std::process::Command::new("mount").args(arguments).output().unwrap();
        output.status.success()
    };
    assert!(mount(&["-t", "tmpfs", "none", space.to_str().unwrap()]));
    for name in ["upper", "work"] {
        fs::create_dir(space.join(name)).unwrap();
    }
    let (lower, upper, work) = (lower.display(), space.join("upper"), space.join("work"));
    let options = format!(
        "xino=off,lowerdir={lower},upperdir={},workdir={}",
        upper.display(),
        work.display()
    );
    if mount(&["-t", "overlay", "-o", &options, "none", seen.to_str().unwrap()]) {
        fs::create_dir(seen.join("logs")).unwrap();
        let file = seen.join("logs/tide.log");
        fs::write(&file, [1; 5000]).unwrap();
        let catalog = scan(&seen);
        let reviewed = review(&state, &catalog, &file, false);
        assert!(reviewed.is_ok(), "{reviewed:?}");
        // what is mounted over it since is another file system all the same
        assert!(mount(&["-t", "tmpfs", "none", seen.join("logs").to_str().unwrap()]));
        fs::write(&file, [1; 5000]).unwrap();
        assert!(review(&state, &catalog, &file, false).is_err());
        run("umount", &[seen.join("logs").as_os_str()]);
        run("umount", &[seen.as_os_str()]);
    } else {
        common::skipped("layers: an overlay cannot be mounted here");
    }
    run("umount", &[space.as_os_str()]);
}
