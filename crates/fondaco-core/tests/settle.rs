//! A run that was cut off, put together by hand in every state that it can be found in.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::ffi::OsStr;
use std::ops::ControlFlow;
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};

use common::{NOW, Place, picture, set_old};
use fondaco_core::carry_out::{
    EntryState, Journal, Missing, RunState, Settled, carry_out, purge, put_back, remainder, settle,
};
use fondaco_core::kernel::Inventory;
use fondaco_core::plan::{Deed, Touched, list_at};

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

    /// It has been compared there, and the journal has it as cleared for removal, with the list of what may go.
    fn cleared(self) -> Self {
        let cut_off = self.taken();
        let area = std::fs::File::open(&cut_off.area).unwrap();
        let (name, target) = (OsStr::new("1"), &cut_off.target);
        let touched = Touched::default();
        let (_, list) = list_at(area.as_fd(), name, target, &touched, &mut |_| Ok(())).unwrap();
        cut_off.journal_says(EntryState::Cleared, Some(&list));
        cut_off
    }

    fn journal_says(&self, state: EntryState, list: Option<&Inventory>) {
        let mut journal = Journal::open(&self.place.state.journal_file()).unwrap();
        let mut entries = journal.entries(self.run).unwrap();
        entries[0].state = state;
        let entries = entries.iter().map(|entry| {
            let list = list.filter(|_| entry.action.number == 1);
            (entry, list)
        });
        journal.write_with(self.run, entries).unwrap();
    }

    fn held(&self) -> PathBuf {
        self.area.join("1")
    }

    /// Settles it for good.
    fn settle(&self) -> (Settled, EntryState, String) {
        let (settled, run, state, message) = self.try_to_settle();
        assert_eq!(run, RunState::CutOff, "{message}");
        (settled, state, message)
    }

    fn try_to_settle(&self) -> (Settled, RunState, EntryState, String) {
        let settled = settle(&self.place.state, NOW).unwrap();
        assert_eq!(settled.len(), 1);
        let journal = Journal::open(&self.place.state.journal_file()).unwrap();
        let run = journal.run(self.run).unwrap().unwrap().state;
        let entry = journal.entries(self.run).unwrap()[0].clone();
        assert_eq!(settle(&self.place.state, NOW).unwrap(), [], "it is told once");
        (settled[0].clone(), run, entry.state, entry.message)
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
        assert!(!area.exists(), "{:?}", std::fs::read_dir(area).map(std::iter::Iterator::count));
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

/// Settling lists what it finds to be held, so that a newcomer ends its purge.
#[test]
fn what_comes_into_a_tree_that_settling_found_to_be_held_is_not_purged_with_it() {
    let cut_off = CutOff::new(true, set_aside).taken();
    assert_eq!(cut_off.settle().1, EntryState::Held);
    let newcomer = cut_off.held().join("newcomer.raw");
    std::fs::write(&newcomer, "came later").unwrap();
    let purged = purge(cut_off.run, None, &cut_off.place.state, NOW).unwrap();
    assert_eq!((purged.done.len(), purged.refused.len()), (0, 1), "{purged:?}");
    assert_eq!(std::fs::read(&newcomer).unwrap(), b"came later");
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
    std::fs::remove_file(cut_off.held().join("below/leaf.raw")).unwrap();
    let (settled, state, _) = cut_off.settle();
    assert_eq!((state, settled.finished), (EntryState::Deleted, 1));
    assert!(!cut_off.target.exists());
    cut_off.no_area_is_left();
}

#[test]
fn what_came_into_a_tree_that_was_cleared_stays_and_is_told() {
    type Spoil = fn(&Path);
    let cases: [(&str, Spoil); 4] = [
        ("newcomer", |held| std::fs::write(held.join("below/newcomer"), b"mine").unwrap()),
        ("directory", |held| std::fs::create_dir(held.join("directory")).unwrap()),
        ("log", |held| {
            std::fs::remove_file(held.join("log")).unwrap();
            std::fs::write(held.join("log"), b"another one of that name").unwrap();
        }),
        ("below/leaf.raw", |held| {
            let leaf = held.join("below/leaf.raw");
            let written = leaf.metadata().unwrap().modified().unwrap();
            std::fs::write(&leaf, vec![7; 9000]).unwrap();
            std::fs::File::open(leaf).unwrap().set_modified(written).unwrap();
        }),
    ];
    for (what, spoil) in cases {
        let cut_off = CutOff::new(true, delete).cleared();
        spoil(&cut_off.held());
        let spoilt = picture(&cut_off.held());
        let (settled, state, message) = cut_off.settle();
        assert_eq!((state, settled.failed), (EntryState::Failed, 1), "{what}: {message}");
        assert!(message.contains(what) && message.contains("token/1"), "{what}: {message}");
        let left = picture(&cut_off.held());
        let path = cut_off.held().join(if what == "newcomer" { "below/newcomer" } else { what });
        assert_eq!(left.get(&path), spoilt.get(&path), "{what} is whole");
        // what is left is put back, and what is missing is named
        let returned = put_back(cut_off.run, None, &cut_off.place.state, NOW).unwrap();
        if what == "below/leaf.raw" {
            assert_eq!(returned.done.len(), 1, "it is the first: nothing is missing yet");
            continue;
        }
        let (entry, missing) = &returned.in_part[0];
        assert_eq!(entry.state, EntryState::PutBackInPart, "{what}: {returned:?}");
        let Missing::Paths(missing) = missing else { panic!("{what}: the list is kept") };
        for path in ["log", "below", "below/leaf.raw"].map(Path::new) {
            let is_there = cut_off.target.join(path).exists();
            assert_eq!(missing.iter().any(|m| m == path), !is_there, "{what}: {missing:?}");
        }
        cut_off.no_area_is_left();
    }
}

/// The journal claims only what is proved: what was never taken was not removed by the run.
#[test]
fn what_is_gone_was_finished_only_if_it_was_cleared() {
    for (deed, expected) in [
        (delete as fn(&Place) -> Deed, EntryState::Deleted),
        (Place::archive, EntryState::Archived),
    ] {
        let cut_off = CutOff::new(false, deed).cleared();
        std::fs::remove_file(cut_off.held()).unwrap();
        let (settled, state, message) = cut_off.settle();
        assert_eq!((state, settled.finished), (expected, 1), "{message}");
    }
    for deed in [delete as fn(&Place) -> Deed, Place::archive, set_aside] {
        let cut_off = CutOff::new(false, deed);
        cut_off.area();
        // its owner gave it another name before it was taken
        let renamed = cut_off.target.with_extension("renamed");
        std::fs::rename(&cut_off.target, &renamed).unwrap();
        let (_, state, message) = cut_off.settle();
        assert_eq!(state, EntryState::Refused, "{message}");
        assert!(message.contains("is gone"), "{message}");
        assert!(renamed.exists());
        cut_off.no_area_is_left();
    }
}

#[test]
fn what_cannot_be_seen_is_not_called_gone_and_is_asked_for_again() {
    for deed in [delete as fn(&Place) -> Deed, Place::archive, set_aside] {
        let place = Place::new();
        let target = place.file("buoy/logs/jan.log", 9000);
        let cut_off = CutOff::of(place, target.clone(), deed);
        cut_off.area();
        // the way there leads in a circle for now
        let (logs, aside) = (target.parent().unwrap(), cut_off.place.root.join("aside"));
        std::fs::rename(logs, &aside).unwrap();
        std::os::unix::fs::symlink("logs", logs).unwrap();
        let (settled, run, state, message) = cut_off.try_to_settle();
        let stands = (run, state, settled.failed);
        assert_eq!(stands, (RunState::Running, EntryState::Intended, 1), "{message}");
        let named = message.contains("examine") && message.contains("jan.log");
        assert!(named && message.contains("symbolic links"), "{message}");
        std::fs::remove_file(logs).unwrap();
        std::fs::rename(&aside, logs).unwrap();
        let (_, state, message) = cut_off.settle();
        assert_eq!((state, message.as_str()), (EntryState::Waiting, ""));
    }
}

/// A removal was ended, the rest was given back, and the outcome did not come to be written.
#[test]
fn what_is_back_in_its_place_in_part_is_not_called_whole() {
    for whole in [true, false] {
        let cut_off = CutOff::new(true, delete).cleared();
        if !whole {
            std::fs::remove_file(cut_off.held().join("log")).unwrap();
        }
        std::fs::rename(cut_off.held(), &cut_off.target).unwrap();
        let (_, state, message) = cut_off.settle();
        let expected = if whole { EntryState::Waiting } else { EntryState::Failed };
        assert_eq!(state, expected, "{message}");
        assert_eq!(message.contains("what is left of it is back in its place"), !whole);
    }
}

#[test]
fn a_holding_area_that_is_not_there_proves_nothing() {
    // of a volume that is not mounted: nothing is decided before it is
    let cut_off = CutOff::new(false, delete).cleared();
    let away = cut_off.place.root.with_extension("away");
    std::fs::rename(&cut_off.place.root, &away).unwrap();
    let (_, run, state, message) = cut_off.try_to_settle();
    assert_eq!((run, state), (RunState::Running, EntryState::Cleared), "{message}");
    assert!(message.contains("is its volume mounted?"), "{message}");
    std::fs::rename(&away, &cut_off.place.root).unwrap();
    assert_eq!(cut_off.settle().1, EntryState::Deleted);
    // one that somebody has removed from the volume it was on: only a person can tell
    let cut_off = CutOff::new(false, delete).cleared();
    std::fs::remove_dir_all(cut_off.area.parent().unwrap()).unwrap();
    let (_, state, message) = cut_off.settle();
    assert_eq!(state, EntryState::Failed);
    assert!(message.contains("has been removed"), "{message}");
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
    let (_, run, state, message) = cut_off.try_to_settle();
    assert_eq!((run, state), (RunState::Running, EntryState::Cleared));
    assert!(message.contains("0700"), "{message}");
    assert!(cut_off.held().exists(), "nothing in it is removed");
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

/// Makes the journal's tables those of an earlier version: a row for every action.
fn downgrade(file: &Path, version: u32) {
    let journal = Journal::open(file).unwrap();
    let entries = journal.entries(1).unwrap();
    let lists = journal.inventories(1, 1, 9).unwrap();
    drop(journal);
    let mut database = rusqlite::Connection::open(file).unwrap();
    if version == 5 {
        // it has today's tables, and lists of actions in JSON
        let lines = entries.iter().map(|e| serde_json::to_string(&e.action).unwrap() + "\n");
        let list = zstd::bulk::compress(lines.collect::<String>().as_bytes(), 1).unwrap();
        database.execute("UPDATE actions SET list = ?1 WHERE run = 1", [list]).unwrap();
        database.execute_batch("DROP INDEX open_run; PRAGMA user_version = 5;").unwrap();
        return;
    }
    let transaction = database.transaction().unwrap();
    let old = "
        CREATE TABLE entry (run INTEGER NOT NULL, number INTEGER NOT NULL, path BLOB NOT NULL, action TEXT NOT NULL,
            state TEXT NOT NULL, area BLOB, archive BLOB, parent_before TEXT, parent_after TEXT,
            freed INTEGER NOT NULL DEFAULT 0, message TEXT NOT NULL DEFAULT '', at TEXT NOT NULL,
            PRIMARY KEY (run, number)) STRICT, WITHOUT ROWID;
        CREATE TABLE inventory (run INTEGER NOT NULL, number INTEGER NOT NULL, list BLOB NOT NULL,
            PRIMARY KEY (run, number)) STRICT, WITHOUT ROWID;
        DROP INDEX open_run; DROP TABLE step; DROP TABLE actions; DROP TABLE done_by_reason;
        ALTER TABLE run DROP COLUMN actions; ALTER TABLE run DROP COLUMN counts; ALTER TABLE run DROP COLUMN half_done;";
    transaction.execute_batch(old).unwrap();
    for entry in entries {
        let insert = "INSERT INTO entry VALUES (1, ?1, x'', ?2, ?3, ?4, NULL, ?5, ?6, ?7, ?8, ?9)";
        let area = entry.area.map(|area| area.as_os_str().as_bytes().to_vec());
        let before = entry.parent_before.map(|(read, written)| format!("{read} {written}"));
        let after = entry.parent_after.map(|time| time.to_string());
        let values = (
            entry.action.number,
            serde_json::to_string(&entry.action).unwrap(),
            entry.state.word(),
            area,
            before,
            after,
            entry.freed.get() as i64,
            entry.message,
            entry.at,
        );
        transaction.execute(insert, values).unwrap();
    }
    for (number, list) in lists {
        let insert = "INSERT INTO inventory VALUES (1, ?1, ?2)";
        transaction.execute(insert, (number, list.kept())).unwrap();
    }
    if version < 3 {
        transaction.execute_batch("DROP TABLE inventory;").unwrap();
    }
    if version < 2 {
        transaction.execute_batch("ALTER TABLE run DROP COLUMN reasons;").unwrap();
    }
    transaction.execute_batch(&format!("PRAGMA user_version = {version};")).unwrap();
    transaction.commit().unwrap();
}

#[test]
fn a_journal_of_an_earlier_version_is_taken_over_with_all_its_runs() {
    let mut place = Place::new();
    for version in [1, 2, 3, 5] {
        place = Place::new();
        let paths = ["tide/a", "tide/b"].map(|path| place.file(path, 5000));
        let plan = place.plan(&[(&paths[0], Deed::SetAside), (&paths[1], Deed::Delete)]);
        let watch = |_: &_| std::ops::ControlFlow::Continue(());
        let summary = carry_out(&plan, &place.state, &|| NOW, &watch).unwrap();
        let file = place.state.journal_file();
        let before = Journal::open(&file).unwrap();
        let before = (
            before.runs().unwrap(),
            before.entries(1).unwrap(),
            before.last_of_reasons(9).unwrap(),
        );
        downgrade(&file, version);
        let journal = Journal::open(&file).unwrap();
        let after = (
            journal.runs().unwrap(),
            journal.entries(1).unwrap(),
            journal.last_of_reasons(9).unwrap(),
        );
        assert_eq!(after, before, "version {version}");
        drop(journal);
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        assert!(returned.refused.is_empty() && paths[0].exists() && !paths[1].exists());
        let states = Journal::open(&file).unwrap().entries(1).unwrap();
        let states: Vec<_> = states.iter().map(|entry| entry.state).collect();
        assert_eq!(states, [EntryState::PutBack, EntryState::Deleted]);
    }
    // one of a later version is left alone
    let database = rusqlite::Connection::open(place.state.journal_file()).unwrap();
    database.execute_batch("PRAGMA user_version = 99;").unwrap();
    drop(database);
    let error = Journal::open(&place.state.journal_file()).unwrap_err();
    assert!(error.to_string().contains("version 99"), "{error}");
}
