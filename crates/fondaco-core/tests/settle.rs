//! A run that was cut off, put together by hand in every state that it can be found in.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::ops::ControlFlow;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};

use common::{NOW, Place, picture, set_old};
use fondaco_core::carry_out::{
    EntryState, Journal, RunState, Settled, carry_out, put_back, remainder, settle,
};
use fondaco_core::plan::Deed;

/// A run that the journal has as running, with one action on a target.
struct CutOff {
    place: Place,
    target: PathBuf,
    area: PathBuf,
    run: i64,
}

impl CutOff {
    /// Intended, and nothing done yet.
    fn new(directory: bool, deed: fn(&Place) -> Deed) -> Self {
        let place = Place::new();
        let target = if directory {
            place.file("target/below/leaf.raw", 9000);
            place.file("target/log", 100);
            place.root.join("target")
        } else {
            place.file("target", 9000)
        };
        Self::of(place, target, deed)
    }

    fn of(place: Place, target: PathBuf, deed: fn(&Place) -> Deed) -> Self {
        let plan = place.plan(&[(&target, deed(&place))]);
        let area = place.root.join(format!(".fondaco-held-{}", uid())).join("token");
        let mut journal = Journal::open(&place.state.journal_file()).unwrap();
        let run = journal.begin(&plan, "token", NOW).unwrap();
        let mut entries = journal.entries(run).unwrap();
        entries[0].state = EntryState::Intended;
        entries[0].area = Some(area.clone());
        journal.write(run, &entries).unwrap();
        Self { place, target, area, run }
    }

    fn area(&self) -> &Path {
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.area).unwrap();
        &self.area
    }

    /// The rename into the private directory has been done.
    fn taken(self) -> Self {
        std::fs::rename(&self.target, self.area().join("1")).unwrap();
        self
    }

    /// It has been compared there and cleared for removal.
    fn cleared(self) -> Self {
        std::fs::rename(&self.target, self.area().join("1.cleared")).unwrap();
        self
    }

    fn settle(&self) -> (Settled, EntryState, String) {
        let settled = settle(&self.place.state, NOW).unwrap();
        assert_eq!(settled.len(), 1);
        let journal = Journal::open(&self.place.state.journal_file()).unwrap();
        assert_eq!(journal.run(self.run).unwrap().unwrap().state, RunState::CutOff);
        let entry = journal.entries(self.run).unwrap().remove(0);
        assert_eq!(settle(&self.place.state, NOW).unwrap(), [], "it is settled once");
        (settled[0].clone(), entry.state, entry.message)
    }

    /// Carries out what is left, and gives how its one action came to stand.
    fn finish(&self) -> EntryState {
        let journal = Journal::open(&self.place.state.journal_file()).unwrap();
        let run = journal.run(self.run).unwrap().unwrap();
        let rest = remainder(&run, &journal.entries(self.run).unwrap(), NOW).unwrap().unwrap();
        drop(journal);
        let go_on = |_: &_| ControlFlow::Continue(());
        carry_out(&rest, &self.place.state, &|| NOW, &go_on).unwrap().entries[0].state
    }

    fn no_area_is_left(&self) {
        let area = self.area.parent().unwrap();
        assert!(!area.exists(), "{:?}", std::fs::read_dir(area).map(|d| d.count()));
    }
}

fn uid() -> u32 {
    std::fs::metadata("/proc/self").unwrap().uid()
}

fn delete(_: &Place) -> Deed {
    Deed::Delete
}

fn set_aside(_: &Place) -> Deed {
    Deed::SetAside
}

#[test]
fn what_was_only_intended_is_in_its_place_and_can_be_finished() {
    for directory in [false, true] {
        for deed in [delete, set_aside, Place::archive] {
            let cut_off = CutOff::new(directory, deed);
            let before = picture(&cut_off.target);
            let (_, state, message) = cut_off.settle();
            assert_eq!((state, message.as_str()), (EntryState::Waiting, ""));
            assert_eq!(picture(&cut_off.target), before);
            let done = cut_off.finish();
            assert!(matches!(done, EntryState::Deleted | EntryState::Held | EntryState::Archived));
        }
    }
}

#[test]
fn what_was_taken_and_not_cleared_goes_back_and_can_be_finished() {
    for directory in [false, true] {
        let cut_off = CutOff::new(directory, delete);
        let before = picture(&cut_off.target);
        let cut_off = cut_off.taken();
        let (settled, state, message) = cut_off.settle();
        assert_eq!((state, settled.returned), (EntryState::Waiting, 1), "{message}");
        assert_eq!(picture(&cut_off.target), before);
        cut_off.no_area_is_left();
        assert_eq!(
            cut_off.finish(),
            EntryState::Deleted,
            "our own renames do not count as a change"
        );
        assert!(!cut_off.target.exists());
    }
}

#[test]
fn what_was_to_be_set_aside_and_was_taken_is_where_it_should_be() {
    for directory in [false, true] {
        let cut_off = CutOff::new(directory, set_aside);
        let before = picture(&cut_off.target);
        let cut_off = cut_off.taken();
        let (settled, state, _) = cut_off.settle();
        assert_eq!((state, settled.finished), (EntryState::Held, 1));
        assert!(!cut_off.target.exists());
        let returned = put_back(cut_off.run, None, &cut_off.place.state, NOW).unwrap();
        assert!(returned.refused.is_empty(), "{:?}", returned.refused);
        assert_eq!(picture(&cut_off.target), before);
        cut_off.no_area_is_left();
    }
}

#[test]
fn what_was_taken_but_is_not_what_was_reviewed_goes_back_and_is_refused() {
    for deed in [delete, set_aside] {
        let cut_off = CutOff::new(false, deed);
        std::fs::write(&cut_off.target, b"somebody wrote here between the review and the rename")
            .unwrap();
        let cut_off = cut_off.taken();
        let (_, state, message) = cut_off.settle();
        assert_eq!(state, EntryState::Refused, "{message}");
        assert!(message.contains("size was 9000"), "{message}");
        assert!(std::fs::read(&cut_off.target).unwrap().starts_with(b"somebody"));
    }
}

#[test]
fn what_was_cleared_is_removed_to_the_end_also_half_a_tree() {
    let cut_off = CutOff::new(true, delete).cleared();
    std::fs::remove_file(cut_off.area.join("1.cleared/below/leaf.raw")).unwrap();
    let (settled, state, _) = cut_off.settle();
    assert_eq!((state, settled.finished), (EntryState::Deleted, 1));
    assert!(!cut_off.target.exists());
    cut_off.no_area_is_left();
}

#[test]
fn what_is_gone_was_finished_and_what_was_to_be_held_and_is_not_needs_a_look() {
    for (deed, expected) in [
        (delete as fn(&Place) -> Deed, EntryState::Deleted),
        (Place::archive, EntryState::Archived),
        (set_aside, EntryState::Failed),
    ] {
        let cut_off = CutOff::new(false, deed);
        std::fs::remove_file(&cut_off.target).unwrap();
        let (settled, state, message) = cut_off.settle();
        assert_eq!(state, expected, "{message}");
        assert_eq!(settled.failed, u64::from(expected == EntryState::Failed));
        assert!(!message.is_empty());
    }
}

#[test]
fn what_cannot_be_seen_is_not_called_gone() {
    for deed in [delete as fn(&Place) -> Deed, Place::archive, set_aside] {
        let place = Place::new();
        let target = place.file("buoy/logs/jan.log", 9000);
        let cut_off = CutOff::of(place, target.clone(), deed);
        // the way there leads in a circle for now
        let (logs, aside) = (target.parent().unwrap(), cut_off.place.root.join("aside"));
        std::fs::rename(logs, &aside).unwrap();
        std::os::unix::fs::symlink("logs", logs).unwrap();
        let (settled, state, message) = cut_off.settle();
        assert_eq!((state, settled.failed), (EntryState::Failed, 1), "{message}");
        let named = message.contains("examine") && message.contains("jan.log");
        assert!(named && message.contains("symbolic links"), "{message}");
        assert_eq!(std::fs::read(aside.join("jan.log")).unwrap().len(), 9000);
    }
}

#[test]
fn a_place_that_was_taken_meanwhile_is_not_overwritten() {
    let cut_off = CutOff::new(false, delete).taken();
    std::fs::write(&cut_off.target, b"a newer file of that name").unwrap();
    let (settled, state, message) = cut_off.settle();
    assert_eq!((state, settled.failed), (EntryState::Failed, 1));
    assert!(message.contains("is kept as") && message.contains("token/1"), "{message}");
    assert_eq!(std::fs::read(&cut_off.target).unwrap(), b"a newer file of that name");
    assert_eq!(std::fs::read(cut_off.area.join("1")).unwrap().len(), 9000);
}

#[test]
fn an_area_that_is_not_ours_is_not_trusted() {
    use std::os::unix::fs::PermissionsExt;
    let cut_off = CutOff::new(false, delete).cleared();
    std::fs::set_permissions(&cut_off.area, PermissionsExt::from_mode(0o777)).unwrap();
    let (_, state, message) = cut_off.settle();
    assert_eq!(state, EntryState::Failed);
    assert!(message.contains("0700"), "{message}");
    assert!(cut_off.area.join("1.cleared").exists(), "nothing in it is removed");
}

#[test]
fn times_of_a_directory_are_left_alone_if_somebody_else_changed_it() {
    let place = Place::new();
    let target = place.file("logs/a.log", 500);
    let parent = place.root.join("logs");
    set_old(&parent, 5);
    let was = parent.metadata().unwrap().mtime();
    let plan = place.plan(&[(&target, Deed::SetAside)]);
    let go_on = |_: &_| ControlFlow::Continue(());
    let run = carry_out(&plan, &place.state, &|| NOW, &go_on).unwrap().run;
    std::fs::write(parent.join("newer.log"), b"x").unwrap();
    put_back(run, None, &place.state, NOW).unwrap();
    assert!(target.exists());
    assert_ne!(parent.metadata().unwrap().mtime(), was, "a change of somebody else's stays seen");
}

#[test]
fn a_journal_of_the_version_before_is_taken_over_with_all_its_runs() {
    let place = Place::new();
    let path = place.file("tide/a", 5000);
    let plan = place.plan(&[(&path, Deed::SetAside)]);
    let watch = |_: &_| std::ops::ControlFlow::Continue(());
    let summary = carry_out(&plan, &place.state, &|| NOW, &watch).unwrap();
    let before = Journal::open(&place.state.journal_file()).unwrap().runs().unwrap();
    // as the version before left it
    let database = rusqlite::Connection::open(place.state.journal_file()).unwrap();
    database
        .execute_batch("ALTER TABLE run DROP COLUMN reasons; PRAGMA user_version = 1;")
        .unwrap();
    drop(database);
    let journal = Journal::open(&place.state.journal_file()).unwrap();
    assert_eq!(journal.runs().unwrap(), before);
    drop(journal);
    let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
    assert!(returned.refused.is_empty() && path.exists());
    // one of a later version is left alone
    let database = rusqlite::Connection::open(place.state.journal_file()).unwrap();
    database.execute_batch("PRAGMA user_version = 99;").unwrap();
    drop(database);
    let error = Journal::open(&place.state.journal_file()).unwrap_err();
    assert!(error.to_string().contains("version 99"), "{error}");
}
