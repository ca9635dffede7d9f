//! Saved scans: what is opened is what was saved, and nothing else is opened.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use common::NOW;
use common::tree::{build, make, totals};
use fondaco_core::catalog::{Catalog, EntryId, Reading};
use fondaco_core::kernel::Kind;
use fondaco_core::saved::{self, SavedError};
use fondaco_core::scan::{Options, Scan, reconcile};
use fondaco_core::state::State;
use proptest::prelude::*;

fn scan(roots: &[PathBuf]) -> Catalog {
    Scan::start(roots, &Options::new(NOW)).unwrap().into_catalog()
}

fn state_in(directory: &Path) -> State {
    State::open(&directory.join("state")).unwrap()
}

/// Everything about an entry that a saved scan keeps.
type Facts = (Kind, u64, u64, (u32, u32), i64, Option<Reading>, bool, Option<u64>, u64, u32, i64);

fn facts(catalog: &Catalog, id: EntryId) -> Facts {
    (
        catalog.kind(id),
        catalog.allocated(id).get(),
        catalog.apparent(id).get(),
        catalog.owner(id),
        catalog.modified(id).sec,
        catalog.reading(id),
        catalog.is_multi_linked(id),
        catalog.is_multi_linked(id).then(|| catalog.inode(id)),
        catalog.exclusive(id).get(),
        catalog.mode(id),
        catalog.changed(id).sec / 86_400,
    )
}

fn all(catalog: &Catalog) -> BTreeMap<PathBuf, Facts> {
    let rows = catalog.ids().skip(catalog.len() - catalog.rows());
    rows.map(|id| (catalog.path(id), facts(catalog, id))).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]
    #[test]
    fn a_scan_that_is_opened_again_is_the_one_that_was_saved(
        steps in proptest::collection::vec(make(), 1..80), split in any::<bool>()
    ) {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        let root = home.join("tree");
        std::fs::create_dir(&root).unwrap();
        std::fs::write(common::bytes_path(&root, b"\xff\xfe\n"), b"x").unwrap();
        build(&root, &steps);
        let inner = root.read_dir().unwrap().map(|entry| entry.unwrap());
        let inner: Vec<_> =
            inner.filter(|e| e.file_type().unwrap().is_dir()).map(|e| e.path()).collect();
        let roots = if split && inner.len() > 1 { inner } else { vec![root.clone()] };
        let (state, catalog) = (state_in(&home), scan(&roots));
        let number = saved::save(&state, &catalog, false).unwrap();
        let opened = saved::open(&state, number).unwrap();
        prop_assert_eq!(all(&opened), all(&catalog));
        prop_assert_eq!(totals(&opened), totals(&catalog));
        // names of owners are looked up as it is saved
        let mut kept = opened.scan_facts();
        (kept.origin.users, kept.origin.groups) = Default::default();
        prop_assert_eq!(kept, catalog.scan_facts());
        for id in catalog.ids().filter(|id| catalog.kind(*id) == Kind::File) {
            let same = opened.find(&catalog.path(id)).unwrap();
            prop_assert_eq!(opened.accessed(same).sec, catalog.accessed(id).sec / 86_400 * 86_400);
        }
        // an opened one is mended like any other
        let gone = catalog.ids().last().map(|id| catalog.path(id)).unwrap();
        if !roots.contains(&gone) {
            let _ = std::fs::remove_dir_all(&gone).or_else(|_| std::fs::remove_file(&gone));
            let touched = [gone];
            let mended = reconcile(&opened, &touched, &Options::new(NOW)).unwrap();
            prop_assert_eq!(totals(&mended), totals(&scan(&roots)));
        }
    }
}

#[test]
fn a_damaged_or_foreign_file_is_refused_and_said_to_be_one() {
    let directory = tempfile::tempdir().unwrap();
    let home = directory.path().canonicalize().unwrap();
    let root = home.join("tree");
    for i in 0..300 {
        let at = root.join(format!("buoy-{}", i % 7));
        std::fs::create_dir_all(&at).unwrap();
        std::fs::write(at.join(format!("tide-{i}.csv")), vec![1; i]).unwrap();
    }
    let (state, catalog) = (state_in(&home), scan(&[root]));
    let number = saved::save(&state, &catalog, false).unwrap();
    let file = state.scans_directory().join(format!("{number}.parquet"));
    let whole = std::fs::read(&file).unwrap();
    let bad = home.join("bad.parquet");
    let refused = |bytes: &[u8], what: &str| {
        std::fs::write(&bad, bytes).unwrap();
        let error = saved::open_file(&bad).map(|_| ()).expect_err(what);
        let message = error.to_string();
        assert!(message.contains("bad.parquet"), "{message}");
        error
    };
    // one bit anywhere: in the rows here and there, in the seal and the footer everywhere
    let end = whole.len() - 700;
    for place in (0..end).step_by(end / 97).chain(end..whole.len()) {
        let mut bytes = whole.clone();
        bytes[place] ^= 1 << (place % 8);
        refused(&bytes, "a bit that flipped");
    }
    for length in [0, 3, 4, 100, whole.len() / 2, whole.len() - 1] {
        refused(&whole[..length], "a cut file");
    }
    let foreign = refused(b"Station,Depth\nNorth Basin,41\n", "a table of another kind");
    assert!(matches!(foreign, SavedError::Foreign { .. }), "{foreign}");
    assert!(foreign.to_string().contains("is not a saved scan"), "{foreign}");
    assert!(matches!(saved::open(&state, 99), Err(SavedError::Missing(99))));
}

#[test]
fn numbers_are_never_used_twice_and_old_automatic_scans_are_forgotten() {
    let directory = tempfile::tempdir().unwrap();
    let home = directory.path().canonicalize().unwrap();
    std::fs::create_dir(home.join("tree")).unwrap();
    let mut state = state_in(&home);
    state.settings.scans_kept = 3;
    let catalog = scan(&[home.join("tree")]);
    let asked = saved::save(&state, &catalog, false).unwrap();
    // what a process that was killed left behind
    let left = |pid: u32| {
        let path = state.scans_directory().join(format!(".7.parquet.{pid}-0.part"));
        std::fs::write(&path, b"PAR1").unwrap();
        let long_ago = std::time::SystemTime::now() - std::time::Duration::from_secs(7200);
        std::fs::File::options().append(true).open(&path).unwrap().set_modified(long_ago).unwrap();
        path
    };
    let mut ended = std::process::Command::new("true").spawn().unwrap();
    ended.wait().unwrap();
    let (abandoned, being_written) = (left(ended.id()), left(std::process::id()));
    let numbers: Vec<u64> = std::thread::scope(|scope| {
        let save = || saved::save(&state, &catalog, true).unwrap();
        let savers: Vec<_> = (0..6).map(|_| scope.spawn(save)).collect();
        savers.into_iter().map(|saver| saver.join().unwrap()).collect()
    });
    assert!(!numbers.contains(&asked));
    let kept: Vec<_> = saved::list(&state).unwrap();
    assert!(kept.iter().any(|scan| scan.number == asked), "what was asked for is kept");
    let automatic = kept.iter().filter(|scan| scan.about.as_ref().unwrap().automatic).count();
    assert_eq!(automatic, 3);
    saved::forget(&state, asked).unwrap();
    assert!(matches!(saved::forget(&state, asked), Err(SavedError::Missing(_))));
    assert!(!abandoned.exists() && being_written.exists());
    std::fs::remove_file(being_written).unwrap();
    let left = state.scans_directory().read_dir().unwrap().count();
    assert_eq!(left, 3, "nothing is left beside the scans");
}

#[test]
fn a_scan_that_was_saved_in_the_first_form_is_still_opened() {
    let file =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/saved-scan-version-1.parquet");
    let catalog = saved::open_file(&file).unwrap();
    assert_eq!(catalog.rows(), 5);
    let root = Path::new("/srv/seamark-sample");
    let at = |path: &str| catalog.find(&root.join(path)).unwrap();
    let (log, link) = (at("logs/buoy.log"), at("link"));
    // what it did not keep is taken from what it did
    assert_eq!((catalog.mode(log), catalog.mode(link)), (0o100_000, 0o120_000));
    assert_eq!(catalog.changed(log), catalog.modified(log));
    assert!(catalog.is_multi_linked(log) && catalog.is_complete());
    let top = catalog.top().unwrap();
    assert_eq!((catalog.entries(top), catalog.allocated(top).get()), (5, 12_288));
}

/// Files from before there were seals: whatever is damaged in one is an error or does not matter, and never more.
#[test]
fn a_damaged_footer_without_a_seal_ends_in_an_error() {
    let file =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/saved-scan-version-1.parquet");
    let whole = std::fs::read(&file).unwrap();
    let directory = tempfile::tempdir().unwrap();
    let bad = directory.path().join("bad.parquet");
    let end = &whole[whole.len() - 8..];
    let footer = whole.len() - 8 - u32::from_le_bytes(end[..4].try_into().unwrap()) as usize;
    let good = all(&saved::open_file(&file).unwrap());
    let hook = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !fondaco_core::contained::is_contained() {
            hook(panic);
        }
    }));
    let mut refused = 0;
    for place in footer..whole.len() {
        for bit in 0..8 {
            let mut bytes = whole.clone();
            bytes[place] ^= 1 << bit;
            std::fs::write(&bad, bytes).unwrap();
            match saved::open_file(&bad) {
                Err(_) => refused += 1,
                Ok(opened) => assert_eq!(all(&opened), good, "byte {place}, bit {bit}"),
            }
        }
    }
    assert!(refused > 4 * (whole.len() - footer), "only {refused}");
}

#[test]
fn many_long_names_come_back_over_several_groups_and_pages() {
    let names = (1..300_000_usize).map(|row| {
        let mut name = format!("tide-{row:06}-").into_bytes();
        name.resize(13 + row % 80, b'a' + (row % 7) as u8);
        if row % 1000 == 999 {
            // some of them are cut within a letter
            name.extend_from_slice("\u{e6}\u{202e}".as_bytes());
            name.truncate(name.len() - row % 3);
        }
        name
    });
    let catalog = common::flat(names);
    let directory = tempfile::tempdir().unwrap();
    let state = state_in(&directory.path().canonicalize().unwrap());
    let opened = saved::open(&state, saved::save(&state, &catalog, false).unwrap()).unwrap();
    let rows = |catalog: &Catalog| {
        catalog.columns(0..catalog.rows(), &catalog.row_order(), &catalog.linked_table())
    };
    assert_eq!(rows(&opened), rows(&catalog));
    assert_eq!(rows(&opened).parent.len(), 300_000);
}
