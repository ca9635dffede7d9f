//! Two moments of a place compared: trees by chance, changed by chance, against what was really done to them.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::fs::{File, Metadata};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use common::tree::{build, make};
use common::{NOW, set_age};
use fondaco_core::analysis::BreakdownBy;
use fondaco_core::catalog::Catalog;
use fondaco_core::history::{
    Amount, ChangedRow, Changes, Comparison, Fate, Measure, PlaceId, Side, compare,
};
use fondaco_core::lens::{Lens, SystemAccounts};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::Bytes;
use proptest::prelude::*;

/// What somebody does to a tree.
#[derive(Clone, Debug)]
enum Act {
    Write(usize, u32),
    Remove(usize),
    Add(usize, u32),
    Move(usize, usize),
    MoveDirectory(usize, usize),
    Link(usize, usize),
}

fn act() -> impl Strategy<Value = Act> {
    let any = 0..1000usize;
    prop_oneof![
        (any.clone(), 0..40_000u32).prop_map(|(file, size)| Act::Write(file, size)),
        any.clone().prop_map(Act::Remove),
        (any.clone(), 1..40_000u32).prop_map(|(at, size)| Act::Add(at, size)),
        (any.clone(), any.clone()).prop_map(|(file, to)| Act::Move(file, to)),
        (any.clone(), any.clone()).prop_map(|(from, to)| Act::MoveDirectory(from, to)),
        (any.clone(), any).prop_map(|(file, to)| Act::Link(file, to)),
    ]
}

/// Everything below a directory, itself first.
fn all_below(root: &Path) -> BTreeMap<PathBuf, Metadata> {
    let mut all = BTreeMap::new();
    let mut open = vec![root.to_owned()];
    while let Some(path) = open.pop() {
        let meta = path.symlink_metadata().unwrap();
        if meta.is_dir() {
            open.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
        all.insert(path, meta);
    }
    all
}

/// Does what can be done.
fn do_acts(root: &Path, acts: &[Act]) {
    for (number, act) in acts.iter().enumerate() {
        let all = all_below(root);
        let directories: Vec<_> = all.iter().filter(|(_, m)| m.is_dir()).map(|(p, _)| p).collect();
        let files: Vec<_> = all.iter().filter(|(_, m)| m.is_file()).map(|(p, _)| p).collect();
        let name = format!("act-{number}");
        // a tree may have no file
        let file = |n: &usize| files.get(n % files.len().max(1)).map(|path| path.as_path());
        let directory = |n: &usize| directories[n % directories.len()];
        match act {
            Act::Write(n, size) => {
                let write = |path| std::fs::write(path, vec![2; *size as usize]);
                file(n).map_or(Ok(()), write).unwrap();
            }
            Act::Remove(n) => file(n).map_or(Ok(()), std::fs::remove_file).unwrap(),
            Act::Add(at, size) => {
                std::fs::write(directory(at).join(name), vec![3; *size as usize]).unwrap();
            }
            Act::Move(n, to) => {
                let to = directory(to).join(name);
                file(n).map_or(Ok(()), |path| std::fs::rename(path, to)).unwrap();
            }
            Act::MoveDirectory(from, to) => {
                // into itself it does not go
                let _ = std::fs::rename(directory(from), directory(to).join(name));
            }
            Act::Link(n, to) => {
                let to = directory(to).join(name);
                file(n).map_or(Ok(()), |path| std::fs::hard_link(path, to)).unwrap();
            }
        }
    }
}

fn scanned(root: &Path) -> Scan {
    let options = Options { threads: 2, ..Options::new(NOW) };
    let mut scan = Scan::start(std::slice::from_ref(&root.to_owned()), &options).unwrap();
    scan.wait();
    scan
}

fn sides<'a>(before: &'a Catalog, after: &'a Catalog) -> [Side<'a>; 2] {
    [before, after].map(|catalog| Side { seen: catalog.whole(), at: catalog.top().unwrap() })
}

/// The relative path of a row, and of the two halves of it.
fn path_of(found: &Comparison, row: ChangedRow, before: &Catalog, after: &Catalog) -> PathBuf {
    let (was, is) = match row {
        ChangedRow::Place(id) => (found.place(id).before(), found.place(id).after()),
        ChangedRow::Entry(n) => (found.entry(n).before(), found.entry(n).after()),
    };
    match (is, was) {
        (Some(id), _) => after.path_below_root(id),
        (None, id) => before.path_below_root(id.unwrap()),
    }
}

/// Holds the sums of every place against those of what is in it, and gives all rows by path.
fn proved(
    found: &Comparison,
    before: &Catalog,
    after: &Catalog,
) -> BTreeMap<PathBuf, Vec<(Fate, Changes)>> {
    let mut rows: BTreeMap<PathBuf, Vec<(Fate, Changes)>> = BTreeMap::new();
    let mut open = vec![found.root()];
    while let Some(id) = open.pop() {
        let place = found.place(id);
        let (was, is) = (place.was.bytes.get() as i64, place.is.bytes.get() as i64);
        assert_eq!(was + place.changes.net(), is);
        let (was, is) = (place.was.entries as i64, place.is.entries as i64);
        assert_eq!(was + place.changes.net_entries(), is);
        let mut sum = Changes::default();
        for row in found.rows(id) {
            let changes = found.changes_of(row, before, after);
            sum.add(&changes);
            if let ChangedRow::Entry(number) = row {
                let entry = found.entry(number);
                // the directory itself is told by its place
                if (entry.before(), entry.after()) != (place.before(), place.after()) {
                    let path = path_of(found, row, before, after);
                    rows.entry(path).or_default().push((entry.fate(), changes));
                }
            } else if let ChangedRow::Place(inside) = row {
                assert_eq!(found.parent(inside), Some(id));
                open.push(inside);
            }
        }
        // what moved from one child to another came to nothing here
        let within = |a: Amount, b: Amount| (a.entries - b.entries, a.bytes.less(b.bytes));
        let all = place.changes;
        assert_eq!(
            (sum.grown, sum.shrunk, sum.new, sum.gone),
            (all.grown, all.shrunk, all.new, all.gone)
        );
        assert_eq!((sum.net(), sum.net_entries()), (all.net(), all.net_entries()));
        let moved = within(sum.moved_in, all.moved_in);
        assert_eq!(moved, within(sum.moved_out, all.moved_out));
        assert_eq!(moved, within(all.moved_within, sum.moved_within));
    }
    rows
}

/// What the plainest look says of every path that is not on both sides, as far as it is sure.
fn what_happened(
    before: &BTreeMap<PathBuf, Metadata>,
    after: &BTreeMap<PathBuf, Metadata>,
    rows: &BTreeMap<PathBuf, Vec<(Fate, Changes)>>,
    root: &Path,
) {
    let fates = |path: &Path| -> Vec<Fate> {
        let rows = rows.get(path.strip_prefix(root).unwrap());
        rows.into_iter().flatten().map(|(fate, _)| *fate).collect()
    };
    let alone = |meta: &Metadata| meta.is_file() && meta.nlink() == 1;
    for (path, is) in after.iter().filter(|(path, meta)| alone(meta) && !before.contains_key(*path))
    {
        // all files of the beginning are held open, so that no inode is given away again
        let was = before.iter().find(|(_, was)| was.ino() == is.ino());
        match was {
            None => assert_eq!(fates(path), [Fate::New], "{path:?}"),
            Some((old, was)) if alone(was) && !after.contains_key(old) => {
                if (was.len(), was.mtime()) == (is.len(), is.mtime()) {
                    assert_eq!(fates(path), [Fate::MovedHere], "{path:?}");
                    assert_eq!(fates(old), [Fate::MovedAway], "{old:?}");
                }
            }
            Some(_) => {}
        }
    }
    for (path, was) in
        before.iter().filter(|(path, meta)| alone(meta) && !after.contains_key(*path))
    {
        if !after.values().any(|is| is.ino() == was.ino()) {
            assert_eq!(fates(path), [Fate::Gone], "{path:?}");
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn a_comparison_says_what_was_done_and_adds_up(
        steps in proptest::collection::vec(make(), 1..60),
        acts in proptest::collection::vec(act(), 0..24),
    ) {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap().join("tree");
        std::fs::create_dir(&root).unwrap();
        build(&root, &steps);
        let mut held = Vec::new();
        for (number, (path, meta)) in all_below(&root).iter().enumerate() {
            if meta.is_file() {
                held.push(File::open(path).unwrap());
                set_age(path, 1_000_000 + number as i64);
            }
        }
        let (before, first) = (all_below(&root), scanned(&root));
        do_acts(&root, &acts);
        let (after, second) = (all_below(&root), scanned(&root));
        let (old, new) = (first.catalog(), second.catalog());
        let [was, is] = sides(&old, &new);
        for measure in [Measure::Allocated, Measure::Apparent] {
            let found = compare(was, is, measure);
            let rows = proved(&found, &old, &new);
            let place = found.place(found.root());
            let whole = |catalog: &Catalog| {
                let top = catalog.top().unwrap();
                let bytes = match measure {
                    Measure::Allocated => catalog.allocated(top),
                    Measure::Apparent => catalog.apparent(top),
                };
                Amount { entries: catalog.entries(top), bytes }
            };
            prop_assert_eq!((place.was, place.is), (whole(&old), whole(&new)));
            what_happened(&before, &after, &rows, &root);
            for by in [BreakdownBy::Kind, BreakdownBy::Owner, BreakdownBy::Family] {
                let slices = found.by(by, &old, &new);
                let net: i64 = slices.slices.iter().map(|slice| slice.changes.net()).sum();
                prop_assert_eq!(net, place.changes.net());
            }
            // what is looked for by its place is what is found by going down
            for id in (0..found.places() as u32).map(PlaceId) {
                if let Some(there) = found.place(id).after() {
                    prop_assert_eq!(found.place_after(there, &new), Some(id));
                }
                if let Some(there) = found.place(id).before() {
                    prop_assert_eq!(found.place_before(there, &old), Some(id));
                }
            }
        }
        // nothing but what passes, and of that all
        let lens = Lens::parse("larger:8k not name:*b*", &SystemAccounts).unwrap();
        let chosen = [&old, &new].map(|catalog| lens.select(catalog, &SystemAccounts));
        let seen = Side { seen: new.seen(Some(&chosen[1])), ..is };
        let found = compare(Side { seen: old.seen(Some(&chosen[0])), ..was }, seen, Measure::Allocated);
        proved(&found, &old, &new);
        prop_assert_eq!(found.place(found.root()).is.entries, seen.seen.entries(is.at));
        prop_assert_eq!(found.place(found.root()).is.bytes, seen.seen.allocated(is.at));
    }
}

proptest! {
    #[test]
    fn entries_are_found_by_their_names_in_whatever_order_they_were_listed(
        names in proptest::collection::hash_set("[a-z]{1,2}", 0..60),
        order in proptest::collection::vec(any::<prop::sample::Index>(), 60),
        (gone, come) in (0..20usize, 0..20usize),
    ) {
        let before: Vec<String> = names.into_iter().collect();
        let mut after: Vec<String> = before.iter().skip(gone).cloned().collect();
        after.extend((0..come).map(|number| format!("come-{number}")));
        for (number, other) in order.iter().enumerate().take(after.len()) {
            let other = other.index(after.len());
            after.swap(number, other);
        }
        let flat = |names: &[String]| common::flat(names.iter().map(|name| name.clone().into_bytes()));
        let (old, new) = (flat(&before), flat(&after));
        let [was, is] = sides(&old, &new);
        let found = compare(was, is, Measure::Allocated);
        for (path, rows) in proved(&found, &old, &new) {
            let name = path.to_str().unwrap().to_owned();
            let there = (before.contains(&name), after.contains(&name));
            for (fate, _) in rows {
                let expected = match fate {
                    Fate::Stayed => (true, true),
                    Fate::New | Fate::MovedHere => (false, true),
                    Fate::Gone | Fate::MovedAway => (true, false),
                };
                prop_assert_eq!(there, expected, "{} {:?}", name, fate);
            }
        }
        let count = |fates: [Fate; 2]| {
            let in_root = found.rows(found.root()).filter(|row| {
                matches!(row, ChangedRow::Entry(n) if fates.contains(&found.entry(*n).fate()))
            });
            in_root.count()
        };
        prop_assert_eq!(count([Fate::Gone, Fate::MovedAway]), gone.min(before.len()));
        prop_assert_eq!(count([Fate::New, Fate::MovedHere]), come);
    }
}

#[test]
fn a_tree_that_moved_and_a_log_that_was_rotated_are_told_as_such() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap().join("tree");
    let file = |name: &str, size: usize| {
        let path = root.join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, vec![1; size]).unwrap();
    };
    for number in 0..9 {
        file(&format!("surveys/harbour/sounding-{number}.raw"), 9000 + number);
    }
    std::fs::create_dir(root.join("surveys/harbour/empty")).unwrap();
    file("logs/buoy.log", 50_000);
    file("logs/buoy.log.1", 70_000);
    std::fs::create_dir_all(root.join("archive")).unwrap();
    let first = scanned(&root);
    // moved with a file written anew on the way, and one removed
    std::fs::rename(root.join("surveys/harbour"), root.join("archive/harbour-2040")).unwrap();
    file("archive/harbour-2040/sounding-3.raw", 60_000);
    std::fs::remove_file(root.join("archive/harbour-2040/sounding-4.raw")).unwrap();
    std::fs::rename(root.join("logs/buoy.log.1"), root.join("logs/buoy.log.2")).unwrap();
    std::fs::rename(root.join("logs/buoy.log"), root.join("logs/buoy.log.1")).unwrap();
    file("logs/buoy.log", 3000);
    let second = scanned(&root);
    let (old, new) = (first.catalog(), second.catalog());
    let [was, is] = sides(&old, &new);
    let found = compare(was, is, Measure::Allocated);
    let rows = proved(&found, &old, &new);
    let changes = found.place(found.root()).changes;
    // the log that was begun anew, and the one that was removed
    assert_eq!((changes.new.entries, changes.gone.entries), (1, 1), "{rows:?}");
    let place = |path: &str| {
        let id = new.find(&root.join(path)).unwrap();
        found.place_after(id, &new).map(|id| *found.place(id)).unwrap()
    };
    let moved = place("archive/harbour-2040");
    assert_eq!(moved.fate(), Fate::MovedHere);
    let from = found.place(moved.twin().unwrap());
    assert_eq!(from.fate(), Fate::MovedAway);
    assert_eq!(old.path(from.before().unwrap()), root.join("surveys/harbour"));
    // eight of the nine files, the directory and the empty one in it
    assert_eq!(moved.changes.moved_in.entries, 10, "{rows:?}");
    assert!(moved.changes.grown.bytes >= Bytes::new(49_152));
    let fate = |path: &str| rows[Path::new(path)][0].0;
    assert_eq!(fate("logs/buoy.log.2"), Fate::MovedHere);
    assert_eq!(fate("logs/buoy.log"), Fate::MovedAway);
    assert_eq!(rows[Path::new("logs/buoy.log")][1].0, Fate::New);
}

#[test]
fn an_inode_that_was_given_away_again_is_no_sign_and_a_copy_elsewhere_is() {
    let directory = tempfile::tempdir().unwrap();
    let tree = |name: &str| {
        let root = directory.path().canonicalize().unwrap().join(name);
        std::fs::create_dir_all(root.join("deep")).unwrap();
        root
    };
    let (one, other) = (tree("one"), tree("other"));
    let write = |path: PathBuf, size: usize, age: i64| {
        std::fs::write(&path, vec![1; size]).unwrap();
        set_age(&path, age);
    };
    // as a copy on another file system has them: other inodes, the same names, lengths and times
    write(one.join("tide.csv"), 9000, 500);
    write(other.join("deep/tide.csv"), 9000, 500);
    // renamed as well, and the only one of that length and time
    write(one.join("b.raw"), 12_000, 700);
    write(other.join("deep/c.raw"), 12_000, 700);
    // two of one length and time: nobody can say which is which
    for (root, names) in [(&one, ["p", "q"]), (&other, ["r", "s"])] {
        names.iter().for_each(|name| write(root.join(name), 8000, 900));
    }
    let (first, second) = (scanned(&one), scanned(&other));
    let (old, new) = (first.catalog(), second.catalog());
    let [was, is] = sides(&old, &new);
    let found = compare(was, is, Measure::Apparent);
    let rows = proved(&found, &old, &new);
    let fate = |path: &str| rows[Path::new(path)][0].0;
    assert_eq!((fate("tide.csv"), fate("deep/tide.csv")), (Fate::MovedAway, Fate::MovedHere));
    assert_eq!((fate("b.raw"), fate("deep/c.raw")), (Fate::MovedAway, Fate::MovedHere));
    assert_eq!((fate("p"), fate("r")), (Fate::Gone, Fate::New));
    drop((old, new));
    // the number of a removed file is given to the next one that is made
    let root = tree("again");
    let make_one = |name: &str| {
        std::fs::write(root.join(name), vec![1; 9000]).unwrap();
        root.join(name).metadata().unwrap().ino()
    };
    let number = make_one("first");
    set_age(&root.join("first"), 4000);
    let first = scanned(&root);
    std::fs::remove_file(root.join("first")).unwrap();
    if make_one("second") != number {
        common::skipped("a file system that gives inodes away again");
        return;
    }
    let second = scanned(&root);
    let (old, new) = (first.catalog(), second.catalog());
    let [was, is] = sides(&old, &new);
    let found = compare(was, is, Measure::Allocated);
    let rows = proved(&found, &old, &new);
    let fate = |path: &str| rows[Path::new(path)][0].0;
    assert_eq!((fate("first"), fate("second")), (Fate::Gone, Fate::New));
}
