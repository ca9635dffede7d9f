//! What others do while a run goes on: contents that were not reviewed stay, and archives are never replaced.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::cell::RefCell;
use std::io::Write;
use std::ops::ControlFlow;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use common::{Mounted, NOW, Place, is_root, picture, run};
use fondaco_core::carry_out::{
    EntryState, Figures, RunSummary, carry_out, purge, put_back, rehearse,
};
use fondaco_core::kernel;
use fondaco_core::plan::{Action, Deed, Plan, survey};
use fondaco_core::shown::DocPath;
use fondaco_core::state::State;
use proptest::prelude::*;

fn go_on(_: &Figures) -> ControlFlow<()> {
    ControlFlow::Continue(())
}

fn do_it(plan: &Plan, state: &State) -> RunSummary {
    carry_out(plan, state, &|| NOW, &go_on).unwrap()
}

/// Carries out, and does something each time that an action is about to be taken or removed.
fn while_removing(plan: &Plan, state: &State, act: impl FnMut(&Path)) -> RunSummary {
    let act = RefCell::new(act);
    let watch = |figures: &Figures| {
        if figures.phase == "removing" {
            act.borrow_mut()(&figures.current);
        }
        ControlFlow::Continue(())
    };
    carry_out(plan, state, &|| NOW, &watch).unwrap()
}

/// The one private directory of runs in a place.
fn private(root: &Path) -> PathBuf {
    let area = root.join(format!(".fondaco-held-{}", kernel::effective_user()));
    let mut runs = std::fs::read_dir(area).unwrap();
    runs.next().unwrap().unwrap().path()
}

#[test]
fn two_names_of_one_depot_are_one_depot() {
    let place = Place::new();
    let home = place.root.parent().unwrap().to_owned();
    std::fs::create_dir(home.join("depot")).unwrap();
    std::fs::set_permissions(home.join("depot"), PermissionsExt::from_mode(0o700)).unwrap();
    symlink("depot", home.join("linked")).unwrap();
    symlink(".", home.join("here")).unwrap();
    let mut depots: Vec<PathBuf> =
        ["depot", "linked", "here/depot", "depot/../depot"].iter().map(|d| home.join(d)).collect();
    let bound = is_root("a bind mount").then(|| {
        std::fs::create_dir(home.join("bound")).unwrap();
        run("mount", &["--bind".as_ref(), depots[0].as_os_str(), home.join("bound").as_os_str()]);
        home.join("bound")
    });
    depots.extend(bound.clone());
    let paths: Vec<PathBuf> =
        (0..depots.len()).map(|n| place.file(&format!("{n}.raw"), 5000 + n)).collect();
    let before = picture(&place.root);
    let deeds: Vec<(&Path, Deed)> = paths
        .iter()
        .zip(&depots)
        .map(|(path, depot)| (path.as_path(), Deed::Archive { depot: depot.clone() }))
        .collect();
    let summary = do_it(&place.plan(&deeds), &place.state);
    assert_eq!(summary.count(EntryState::Archived), paths.len(), "{:?}", summary.entries);
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    if let Some(bound) = bound {
        run("umount", &[bound.as_os_str()]);
    }
    assert_eq!(returned.done.len(), paths.len(), "{:?}", returned.refused);
    for path in &paths {
        assert_eq!(picture(&place.root).get(path), before.get(path), "{path:?}");
    }
}

#[test]
fn the_same_plan_carried_out_with_another_state_directory_replaces_no_archive() {
    let place = Place::new();
    let (a, b) = (place.file("a.raw", 5000), place.file("b.raw", 6000));
    let mut plan = place.plan(&[(&a, place.archive()), (&b, place.archive())]);
    let before = picture(&place.root);
    // the first run cannot have b, the second one has lost its journal, the third has another id as well
    let hold = std::process::Command::new("sleep")
        .arg("60")
        .stdin(std::fs::File::open(&b).unwrap())
        .spawn();
    let mut hold = hold.unwrap();
    let first = do_it(&plan, &place.state);
    hold.kill().unwrap();
    hold.wait().unwrap();
    assert_eq!(first.count(EntryState::Archived), 1, "{:?}", first.entries);
    let other = State::open(&place.root.with_file_name("other-state")).unwrap();
    let second = do_it(&plan, &other);
    assert_eq!(second.count(EntryState::Archived), 1, "{:?}", second.entries);
    plan.id = plan.id.chars().rev().collect();
    assert_eq!(do_it(&plan, &place.state).count(EntryState::Refused), 2);
    assert_eq!(put_back(first.run, None, &place.state, NOW).unwrap().done.len(), 1);
    assert_eq!(put_back(second.run, None, &other, NOW).unwrap().done.len(), 1);
    let after = picture(&place.root);
    assert_eq!((after.get(&a), after.get(&b)), (before.get(&a), before.get(&b)));
}

/// Opened for writing seconds before its turn, in the middle of a batch.
#[test]
fn what_is_opened_before_its_turn_is_left_to_who_opened_it() {
    for directory in [false, true] {
        for deed in ["delete", "set aside", "archive"] {
            let place = Place::new();
            let deed = match deed {
                "delete" => Deed::Delete,
                "set aside" => Deed::SetAside,
                _ => place.archive(),
            };
            let first = place.file("first", 1000);
            let log = place.file(if directory { "logs/buoy.log" } else { "buoy.log" }, 1000);
            let target = if directory { place.root.join("logs") } else { log.clone() };
            let plan = place.plan(&[(&first, deed.clone()), (&target, deed.clone())]);
            // a process of its own: what this one has open is its own affair
            let mut writer: Option<std::process::Child> = None;
            let summary = while_removing(&plan, &place.state, |_| {
                writer.get_or_insert_with(|| {
                    let script =
                        format!("exec 3>>'{}'; echo open; read x; echo late >&3", log.display());
                    let mut shell = std::process::Command::new("sh");
                    shell.args(["-c", &script]).stdin(std::process::Stdio::piped());
                    let mut writer = shell.stdout(std::process::Stdio::piped()).spawn().unwrap();
                    let mut said = [0; 5];
                    std::io::Read::read_exact(writer.stdout.as_mut().unwrap(), &mut said).unwrap();
                    writer
                });
            });
            let mut writer = writer.unwrap();
            writer.stdin.take().unwrap().write_all(b"\n").unwrap();
            writer.wait().unwrap();
            assert_eq!(summary.entries[1].state, EntryState::Refused, "{:?}", summary.entries);
            let message = &summary.entries[1].message;
            assert!(message.contains("in use by pid"), "{message}");
            assert!(std::fs::read(&log).unwrap().ends_with(b"late\n"));
        }
    }
}

#[test]
fn what_comes_into_a_directory_before_it_is_emptied_is_given_back_with_all_of_it() {
    for deed in ["delete", "archive"] {
        let place = Place::new();
        let deed = if deed == "delete" { Deed::Delete } else { place.archive() };
        for n in 0..5 {
            place.file(&format!("logs/below/{n}.log"), 1000);
        }
        let target = place.root.join("logs");
        let plan = place.plan(&[(&target, deed)]);
        let summary = while_removing(&plan, &place.state, |_| {
            // as somebody does who has had the directory open since before it was moved
            if !target.exists() {
                std::fs::write(private(&place.root).join("1/below/newcomer"), b"mine").unwrap();
            }
        });
        let entry = &summary.entries[0];
        assert_eq!(entry.state, EntryState::Refused, "{entry:?}");
        assert!(entry.message.contains("logs/below: something was put in"), "{}", entry.message);
        assert_eq!(std::fs::read(target.join("below/newcomer")).unwrap(), b"mine");
        assert_eq!(std::fs::read_dir(target.join("below")).unwrap().count(), 6);
        assert!(!place.root.join(format!(".fondaco-held-{}", kernel::effective_user())).exists());
    }
}

#[test]
fn what_came_into_what_is_held_keeps_it_from_being_purged() {
    let place = Place::new();
    place.file("logs/a.log", 1000);
    let target = place.root.join("logs");
    let summary = do_it(&place.plan(&[(&target, Deed::SetAside)]), &place.state);
    let held = private(&place.root).join("1");
    std::fs::write(held.join("newcomer"), b"mine").unwrap();
    let purged = purge(summary.run, None, &place.state, NOW).unwrap();
    let reason = &purged.refused[0].1;
    assert!(reason.contains("logs/newcomer") || reason.contains("put in"), "{reason}");
    assert!(held.join("newcomer").exists() && held.join("a.log").exists());
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert_eq!(returned.done.len(), 1, "{:?}", returned.refused);
    assert_eq!(std::fs::read(target.join("newcomer")).unwrap(), b"mine");
}

/// Depots, holding areas and the state directory, by whatever name.
#[test]
fn what_holds_our_own_is_protected_however_it_is_reached() {
    let Some(mounted) = Mounted::new("ext4", 64) else { return };
    let place = Place::at(&mounted.path());
    let home = mounted.path();
    let target = place.file("a.raw", 5000);
    let kept = place.file("kept.raw", 5000);
    let plan = place.plan(&[(&target, place.archive()), (&kept, Deed::SetAside)]);
    let summary = do_it(&plan, &place.state);
    assert!(summary.entries.iter().all(|entry| entry.state.is_done()), "{:?}", summary.entries);
    std::fs::create_dir(home.join("elsewhere")).unwrap();
    run("mount", &["--bind".as_ref(), home.as_os_str(), home.join("elsewhere").as_os_str()]);
    let area = format!(".fondaco-held-{}", kernel::effective_user());
    let held = [
        home.join("depot"),
        home.join("elsewhere/depot"),
        summary.entries[0].archive.clone().unwrap(),
        place.root.join(&area),
        home.join("elsewhere/seamark").join(&area),
        home.join("state"),
        home.join("elsewhere/state/journal.db"),
        home.join("elsewhere/seamark"),
    ];
    // another state directory knows nothing of the depot, but whose it is the plan says
    for path in &held {
        let mut plan = place.plan(&[(path, Deed::Delete)]);
        let summary = do_it(&plan, &place.state);
        let message = &summary.entries[0].message;
        assert_eq!(summary.entries[0].state, EntryState::Refused, "{path:?}: {message}");
        assert!(message.contains("protected"), "{path:?}: {message}");
        // named in so many words, a depot goes; the state directory does not
        plan.id.push('x');
        plan.give_up = vec![DocPath(home.join("state"))];
        assert_eq!(do_it(&plan, &place.state).entries[0].state, EntryState::Refused, "{path:?}");
    }
    let mut plan = place.plan(&[(&home.join("depot"), Deed::Delete)]);
    plan.give_up = vec![DocPath(home.join("depot"))];
    let summary = do_it(&plan, &place.state);
    assert_eq!(summary.entries[0].state, EntryState::Deleted, "{:?}", summary.entries);
    assert!(!home.join("depot").exists());
    // a holding area below a target is met by the walk, also one of another user
    std::fs::create_dir_all(place.root.join("deep/.fondaco-held-60101/run")).unwrap();
    let plan = place.plan(&[(&place.root.join("deep"), Deed::Delete)]);
    let message = do_it(&plan, &place.state).entries[0].message.clone();
    assert!(message.contains("set aside"), "{message}");
}

/// What a depot of the property below is.
#[derive(Clone, Copy, Debug)]
enum DepotIs {
    Missing,
    There,
    AFile,
    BelowAFile,
    OpenToOthers,
    InATargetByALink,
}

const DEPOTS: [DepotIs; 6] = [
    DepotIs::Missing,
    DepotIs::There,
    DepotIs::AFile,
    DepotIs::BelowAFile,
    DepotIs::OpenToOthers,
    DepotIs::InATargetByALink,
];

fn depot(home: &Path, is: DepotIs) -> PathBuf {
    let at = home.join(format!("{is:?}"));
    match is {
        DepotIs::Missing => return at.join("below"),
        DepotIs::There | DepotIs::OpenToOthers => std::fs::create_dir(&at).unwrap(),
        DepotIs::AFile => std::fs::write(&at, b"x").unwrap(),
        DepotIs::BelowAFile => {
            std::fs::write(&at, b"x").unwrap();
            return at.join("below");
        }
        DepotIs::InATargetByALink => {
            symlink("seamark/a", &at).unwrap();
            return at.join("depot");
        }
    }
    if matches!(is, DepotIs::OpenToOthers) {
        std::fs::set_permissions(&at, PermissionsExt::from_mode(0o777)).unwrap();
    }
    at
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn on_a_quiet_tree_what_is_rehearsed_as_done_is_done_and_what_is_not_is_refused(
        chosen in proptest::collection::vec((0..9usize, 0..8usize), 1..7),
    ) {
        let place = Place::new();
        let home = place.root.parent().unwrap().to_owned();
        for file in ["a/1", "a/b/2", "a/b/3", "c/4", "5", "6"] {
            place.file(file, 3000);
        }
        std::fs::hard_link(place.root.join("5"), place.root.join("c/again")).unwrap();
        let things = ["a", "a/1", "a/b", "a/b/3", "c", "c/4", "c/again", "5", "6"];
        let depots: Vec<PathBuf> = DEPOTS.iter().map(|is| depot(&home, *is)).collect();
        let mut actions: Vec<Action> = Vec::new();
        for (thing, deed) in chosen {
            let path = place.root.join(things[thing]);
            let deed = match deed {
                0 => Deed::Delete,
                1 => Deed::SetAside,
                n => Deed::Archive { depot: depots[n - 2].clone() },
            };
            let one = place.plan(&[(&path, deed)]);
            actions.extend(one.actions);
        }
        let plan = Plan::new(actions, Vec::new(), NOW).unwrap();
        let before = picture(&home);
        let rehearsal = rehearse(&plan, &place.state, NOW, &go_on).unwrap();
        prop_assert_eq!(&picture(&home), &before, "a rehearsal changes nothing");
        let summary = do_it(&plan, &place.state);
        for (finding, entry) in rehearsal.findings.iter().zip(&summary.entries) {
            let refused = (entry.state == EntryState::Refused).then(|| entry.message.clone());
            prop_assert!(refused.is_some() || entry.state.is_done(), "{:?}", entry);
            prop_assert_eq!(&finding.refused, &refused, "{:?}", entry.action);
        }
    }
}

/// What was written in the same step of the clock as the review is written later all the same.
#[test]
fn a_review_waits_until_a_later_change_would_be_seen() {
    let place = Place::new();
    for round in 0..40 {
        let path = place.file("tide.csv", 100);
        let reviewed = survey(&path).unwrap();
        std::fs::write(&path, vec![round; 100]).unwrap();
        let now = survey(&path).unwrap();
        assert_ne!(reviewed.target.ctime, now.target.ctime, "round {round}");
    }
}
