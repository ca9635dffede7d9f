//! Forecasts against what is really freed, on trees whose files share inodes in every way.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::path::PathBuf;

use common::{Mounted, NOW, Place, planned};
use fondaco_core::carry_out::{EntryRecord, EntryState, Journal, carry_out, purge, put_back};
use fondaco_core::packed_list::Record;
use fondaco_core::plan::{Choice, Deed, Draft, Plan, Planned, Put, Review, Reviewer, survey};
use fondaco_core::state::State;
use fondaco_core::units::Bytes;
use fondaco_core::volume::used_below;
use proptest::prelude::*;

/// Directories, and files with one or several names in them.
fn build(place: &Place, names: &[(u8, u8)]) -> Vec<PathBuf> {
    let mut made: BTreeSet<PathBuf> = BTreeSet::new();
    for directory in ["a", "b", "b/c"] {
        std::fs::create_dir_all(place.root.join(directory)).unwrap();
        made.insert(place.root.join(directory));
    }
    for (at, (directory, inode)) in names.iter().enumerate() {
        let directory = place.root.join(["", "a", "b", "b/c"][usize::from(directory % 4)]);
        let path = directory.join(format!("{inode}-{at}"));
        let first = made.iter().find(|path| {
            let name = path.file_name().unwrap().to_str().unwrap();
            name.starts_with(&format!("{inode}-"))
        });
        match first {
            Some(first) => std::fs::hard_link(first, &path).unwrap(),
            None => std::fs::write(&path, vec![1; 5000 * (usize::from(*inode) + 1)]).unwrap(),
        }
        made.insert(path);
    }
    made.into_iter().collect()
}

/// A plan of some of these things; what lies inside another goes with it.
fn plan(place: &Place, things: &[PathBuf], chosen: &[(u16, u8)]) -> Plan {
    let mut draft = Draft::default();
    for (at, deed) in chosen {
        let path = &things[usize::from(*at) % things.len()];
        if draft.planned().iter().any(|planned| planned.path == *path) {
            continue;
        }
        let deed = match deed % 3 {
            0 => Deed::Delete,
            1 => Deed::SetAside,
            _ => place.archive(),
        };
        let put = draft.put(planned(path, deed, &place.root));
        if !matches!(put, Put::InsideOf(_)) {
            draft.reviewed(path, survey(path));
        }
    }
    for (one, two) in draft.planned().iter().zip(draft.planned().iter().skip(1)) {
        assert!(!one.path.starts_with(&two.path) && !two.path.starts_with(&one.path));
    }
    draft.to_plan(Vec::new(), NOW).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn what_is_forecast_is_freed_and_what_is_put_back_is_in_use_again(
        names in proptest::collection::vec((any::<u8>(), 0..6u8), 1..24),
        chosen in proptest::collection::vec((any::<u16>(), any::<u8>()), 1..8),
    ) {
        let place = Place::new();
        let things = build(&place, &names);
        let plan = plan(&place, &things, &chosen);
        let forecast = plan.frees();
        let before = used_below(&place.root);
        let go_on = |_: &_| ControlFlow::Continue(());
        let summary = carry_out(&plan, &place.state, &|| NOW, &go_on).unwrap();
        for entry in &summary.entries {
            let done = matches!(
                entry.state,
                EntryState::Deleted | EntryState::Held | EntryState::Archived
            );
            let line = |e: Record<EntryRecord>| {
                let (number, deed) = (e.action.number, e.action.deed.word());
                let path = e.action.target.path.0.strip_prefix(&place.root).unwrap().to_owned();
                format!("{number} {deed} {} {}: {}", path.display(), e.state.word(), e.message)
            };
            let all: Vec<String> = summary.entries.iter().map(line).collect();
            prop_assert!(done, "{:#?}", all);
        }
        // names that one action takes must not make the next one look changed
        prop_assert_eq!(summary.freed, forecast.now);
        let held = summary.count(EntryState::Held) > 0;
        let areas = if held { Bytes::new(2 * 4096) } else { Bytes::ZERO };
        prop_assert_eq!(before + areas, used_below(&place.root) + forecast.now);
        let purged = purge(summary.run, None, &place.state, NOW).unwrap();
        prop_assert!(purged.refused.is_empty());
        let freed = before.less(used_below(&place.root));
        prop_assert_eq!(freed, forecast.now + forecast.later);
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        prop_assert!(returned.refused.is_empty(), "{:?}", returned.refused);
        prop_assert_eq!(returned.done.len(), summary.count(EntryState::Archived));
        for entry in &returned.done {
            prop_assert!(entry.action.target.path.0.exists());
        }
    }
}

/// Deletes these, each in a run of its own; forecast and what the volume says was freed.
fn delete_one_by_one(place: &Place, paths: &[PathBuf]) -> Vec<(u64, i64)> {
    let used = || {
        let root = std::fs::File::open(&place.root).unwrap();
        rustix::fs::syncfs(&root).unwrap();
        fondaco_core::kernel::capacity(&place.root).unwrap().used.get() as i64
    };
    let one = |path: &PathBuf| {
        let plan = place.plan(&[(path, Deed::Delete)]);
        let before = used();
        let watch = |_: &_| ControlFlow::Continue(());
        let summary = carry_out(&plan, &place.state, &|| NOW, &watch).unwrap();
        assert_eq!(summary.entries[0].state, EntryState::Deleted);
        assert_eq!(summary.freed, plan.frees().now);
        (plan.frees().now.get(), before - used())
    };
    paths.iter().map(one).collect()
}

#[test]
fn a_copy_that_shares_its_extents_frees_nothing_and_the_last_one_everything() {
    for (fs_type, option) in [("xfs", "rmapbt=0"), ("xfs", "rmapbt=1"), ("btrfs", "")] {
        let Some(mounted) = Mounted::new_with(fs_type, 400, &["-m", option]) else { return };
        // the state directory is elsewhere, so that the journal's own growth does not count
        let elsewhere = tempfile::tempdir().unwrap();
        let mut place = Place::at(&mounted.path());
        place.state =
            fondaco_core::state::State::open(&elsewhere.path().canonicalize().unwrap()).unwrap();
        const SIZE: u64 = 16 << 20;
        let original = place.root.join("survey.raw");
        let mut contents = vec![0; SIZE as usize];
        blake3::Hasher::new().finalize_xof().fill(&mut contents);
        std::fs::write(&original, contents).unwrap();
        let copy = place.root.join("again.raw");
        let (from, to) = (original.as_os_str(), copy.as_os_str());
        common::run("cp", &["--reflink=always".as_ref(), from, to]);
        let root = std::fs::File::open(&place.root).unwrap();
        rustix::fs::syncfs(&root).unwrap();

        // both at once: where the file system counts references, all of it is foretold
        let both = place.plan(&[(&original, Deed::Delete), (&copy, Deed::Delete)]);
        let foretold = both.frees().now.get();
        let notes = &both.actions[0].notes;
        assert!(notes.iter().any(|note| note.contains("other files share")), "{notes:?}");
        assert_eq!(foretold, if fs_type == "btrfs" { SIZE } else { 0 }, "{fs_type} {option}");

        const NOISE: i64 = 256 << 10; // tables shrink and grow
        for ((forecast, freed), wanted) in
            delete_one_by_one(&place, &[original, copy]).into_iter().zip([0, SIZE])
        {
            assert_eq!(forecast, wanted, "{fs_type} {option}");
            assert!((freed - forecast as i64).abs() <= NOISE, "{fs_type} {option}: {freed} freed");
        }
    }
}

/// A place on a file system, with its state directory on another one.
fn place_without_state(mounted: &Mounted) -> (Place, tempfile::TempDir) {
    let elsewhere = tempfile::tempdir().unwrap();
    let mut place = Place::at(&mounted.path());
    place.state = State::open(&elsewhere.path().canonicalize().unwrap()).unwrap();
    (place, elsewhere)
}

#[test]
fn what_keeps_the_measure_below_the_count_is_named() {
    let Some(mounted) = Mounted::new("ext4", 200) else { return };
    let (place, _elsewhere) = place_without_state(&mounted);
    let noise = |name: &str| {
        let path = place.root.join(name);
        let mut contents = vec![0; 4 << 20];
        blake3::Hasher::new().update(name.as_bytes()).finalize_xof().fill(&mut contents);
        std::fs::write(&path, contents).unwrap();
        path
    };
    // archived beside itself; moved; one of two names
    let (archived, aside, linked) = (noise("archived"), noise("aside"), noise("linked"));
    std::fs::hard_link(&linked, place.root.join("stays")).unwrap();
    let deeds = [
        (archived.as_path(), place.archive()),
        (aside.as_path(), Deed::SetAside),
        (linked.as_path(), Deed::Delete),
    ];
    let mut draft = Draft::default();
    for (path, deed) in deeds {
        draft.put(Planned {
            depot_on_volume: true,
            review: Review::Ready(Box::new(survey(path).unwrap())),
            purge_after: None,
            stays: None,
            together: None,
            differs: Vec::new(),
            emptied: false,
            ..planned(path, deed, &mounted.path())
        });
    }
    let plan = draft.to_plan(Vec::new(), NOW).unwrap();
    for (action, note) in plan.actions.iter().zip(["same volume", "purged", "another name"]) {
        assert!(action.notes.iter().any(|said| said.contains(note)), "{:?}", action.notes);
    }
    let watch = |_: &_| ControlFlow::Continue(());
    let summary = carry_out(&plan, &place.state, &|| NOW, &watch).unwrap();
    assert_eq!(summary.freed.get(), 4 << 20, "{:?}", summary.entries);
    assert!(summary.measured.unwrap().abs() < 1 << 20, "the archive took as much as was freed");
    assert!(summary.reasons[0].contains("archives on the same volume"), "{:?}", summary.reasons);
    assert!(summary.reasons.len() == 1, "nothing is left over: {:?}", summary.reasons);
    let journal = Journal::open(&place.state.journal_file()).unwrap();
    assert_eq!(journal.run(summary.run).unwrap().unwrap().reasons, summary.reasons);
}

#[test]
fn the_list_of_names_of_what_is_set_aside_is_counted_with_the_measure() {
    let Some(mounted) = Mounted::new("ext4", 100) else { return };
    let (place, _elsewhere) = place_without_state(&mounted);
    let paths = (0..12_000).map(|number| place.root.join(format!("{number}.log")));
    let paths: Vec<PathBuf> = paths.collect();
    paths.iter().for_each(|path| std::fs::write(path, b"").unwrap());
    let reviewer = Reviewer::new(&place.state, NOW);
    let mut draft = Draft::default();
    for path in paths {
        draft.put(reviewer.plan(&Choice::Path(path), &Deed::SetAside, "by hand").unwrap());
    }
    let plan = draft.to_plan(Vec::new(), NOW).unwrap();
    let watch = |_: &_| ControlFlow::Continue(());
    let summary = carry_out(&plan, &place.state, &|| NOW, &watch).unwrap();
    assert_eq!(summary.count(EntryState::Held), 12_000);
    assert!(summary.measured.unwrap() <= -(128 << 10), "{:?}", summary.measured);
    let [reason] = &summary.reasons[..] else { panic!("{:?}", summary.reasons) };
    assert!(reason.contains("list of names of the holding area"), "{reason}");
}
