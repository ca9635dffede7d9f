//! Sets of equal files and containment, against plain comparisons of everything with everything.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::ops::ControlFlow;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::duplicates::{
    Candidates, Containment, Count, Found, Keep, Known, Relation, search,
};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::{Bytes, Time};
use proptest::prelude::*;

fn scan(root: &Path) -> Scan {
    let options = Options { threads: 1, ..Options::new(Time::now()) };
    let mut scan = Scan::start(&[root.to_owned()], &options).unwrap();
    scan.wait();
    scan
}

fn find(catalog: &Catalog, known: &Known) -> Found {
    let at = catalog.roots()[0].entry;
    let candidates = Candidates::of(catalog.whole(), &[at]);
    search(candidates, catalog, known, &mut |_, _| ControlFlow::Continue(()))
}

/// The sets as paths below the root.
fn paths(catalog: &Catalog, found: &Found) -> BTreeSet<Vec<PathBuf>> {
    let set = |copies: &Vec<EntryId>| {
        let mut paths: Vec<_> = copies.iter().map(|id| catalog.path_below_root(*id)).collect();
        paths.sort();
        paths
    };
    found.sets.iter().map(|set_of| set(&set_of.copies)).collect()
}

/// A small tree: for each file its directory, what it holds, and whether it is another name of the one before.
fn trees() -> impl Strategy<Value = Vec<(usize, u8, u16, bool)>> {
    let length = prop_oneof![Just(0u16), Just(1), Just(64), Just(65), Just(5000), Just(40_000)];
    prop::collection::vec((0..10usize, 0..4u8, length, prop::bool::weighted(0.15)), 1..28)
}

const DIRECTORIES: [&str; 10] =
    ["", "a", "a/x", "a/x/y", "b", "b/x", "b/x/y", "c", "c/deep/x", "c/deep/x/y"];

fn lay_out(root: &Path, files: &[(usize, u8, u16, bool)]) {
    for directory in DIRECTORIES {
        std::fs::create_dir_all(root.join(directory)).unwrap();
    }
    let mut last: Option<PathBuf> = None;
    for (number, (directory, content, length, linked)) in files.iter().enumerate() {
        // names come again in other directories, so that paths below them are the same
        let path = root.join(DIRECTORIES[*directory]).join(format!("f{}", number % 5));
        if path.symlink_metadata().is_ok() {
            continue;
        }
        match (&last, linked) {
            (Some(last), true) => std::fs::hard_link(last, &path).unwrap(),
            _ => {
                let mut bytes = vec![b'~'; usize::from(*length)];
                // contents differ at the beginning, in the middle or at the end
                let at =
                    [0, bytes.len() / 2, bytes.len().saturating_sub(1)][usize::from(*content) % 3];
                if let Some(byte) = bytes.get_mut(at) {
                    *byte = *content;
                }
                std::fs::write(&path, bytes).unwrap();
            }
        }
        last = Some(path);
    }
}

/// Every file below a directory: path below it, inode, contents.
fn files(directory: &Path) -> Vec<(PathBuf, u64, Vec<u8>)> {
    let mut found = Vec::new();
    let mut open = vec![directory.to_owned()];
    while let Some(path) = open.pop() {
        for entry in std::fs::read_dir(&path).unwrap().flatten() {
            let path = entry.path();
            if path.is_dir() {
                open.push(path);
            } else {
                let below = path.strip_prefix(directory).unwrap().to_owned();
                found.push((below, path.metadata().unwrap().ino(), std::fs::read(&path).unwrap()));
            }
        }
    }
    found.sort();
    found
}

/// What of a tree is in another, by comparing all pairs.
fn plainly(tree: &Path, within: &Path) -> (f64, [Count; 4]) {
    let (here, there) = (files(tree), files(within));
    let mut counts = [Count::default(); 4];
    // the bytes of an inode count once, where the first of these relations is that one of its names has
    let rank = [0, 1, 3, 2];
    let mut inodes: BTreeMap<u64, (usize, u64)> = BTreeMap::new();
    for (path, inode, bytes) in &here {
        let at_path = there.iter().find(|(other, ..)| other == path);
        let kind = if at_path.is_some_and(|(.., other)| other == bytes) {
            0
        } else if there.iter().any(|(.., other)| other == bytes) {
            1
        } else if at_path.is_some() {
            3
        } else {
            2
        };
        counts[kind].files += 1;
        let best = inodes.entry(*inode).or_insert((kind, bytes.len() as u64));
        if rank[kind] < rank[best.0] {
            best.0 = kind;
        }
    }
    for (kind, length) in inodes.into_values() {
        counts[kind].bytes += Bytes::new(length);
    }
    let whole: u64 = counts.iter().map(|count| count.bytes.get()).sum();
    let there = counts[0].bytes.get() + counts[1].bytes.get();
    (if whole == 0 { 0.0 } else { there as f64 / whole as f64 }, counts)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn sets_and_containment_are_those_of_a_plain_comparison(tree in trees()) {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        lay_out(&root, &tree);
        let scan = scan(&root);
        let catalog = scan.catalog();
        let found = find(&catalog, &Known::nothing());
        prop_assert!(found.not_read.is_empty(), "{:?}", found.not_read);
        let mut by_content: BTreeMap<Vec<u8>, BTreeMap<u64, PathBuf>> = BTreeMap::new();
        for (path, inode, bytes) in files(&root).into_iter().filter(|(.., bytes)| !bytes.is_empty()) {
            let of = by_content.entry(bytes).or_default();
            of.entry(inode).or_insert(path);
        }
        let expected: usize = by_content.values().filter(|inodes| inodes.len() > 1).count();
        prop_assert_eq!(found.sets.len(), expected);
        for set in &found.sets {
            let path = catalog.path(set.copies[0]);
            let bytes = std::fs::read(&path).unwrap();
            let inodes: BTreeSet<u64> =
                set.copies.iter().map(|id| catalog.path(*id).metadata().unwrap().ino()).collect();
            let wanted: BTreeSet<u64> = by_content[&bytes].keys().copied().collect();
            prop_assert_eq!(inodes, wanted);
        }
        // containment of every pair that lies apart
        let at = catalog.roots()[0].entry;
        let containment = Containment::new(catalog.whole(), &[at], &found.sets);
        let directories: Vec<EntryId> =
            catalog.ids().filter(|id| catalog.is_directory(*id) && *id != at).collect();
        let rows = containment.rows(0.5);
        for tree in &directories {
            for within in &directories {
                let nested = |a: EntryId, b: EntryId| a == b || catalog.is_below(a, b) || catalog.is_below(b, a);
                if nested(*tree, *within) {
                    continue;
                }
                let row = containment.compare(*tree, *within);
                let (share, counts) = plainly(&catalog.path(*tree), &catalog.path(*within));
                prop_assert_eq!([row.same, row.elsewhere, row.only_here, row.differs], counts);
                prop_assert!((row.share - share).abs() < 1e-9);
                let relations: Vec<Relation> =
                    containment.relations(*tree, *within).map(|(_, relation)| relation).collect();
                let only = relations.iter().filter(|relation| **relation == Relation::OnlyHere).count();
                prop_assert_eq!(only as u64, row.only_here.files);
                if share >= 0.5 {
                    let told = rows.iter().any(|row| {
                        (row.tree == *tree || catalog.is_below(*tree, row.tree))
                            && nested(row.within, *within)
                    });
                    prop_assert!(told, "{:?} in {:?}", catalog.path(*tree), catalog.path(*within));
                }
            }
        }
        for row in &rows {
            prop_assert!(row.share >= 0.5);
            // and no row says what one about the directories above says already
            let follows = rows.iter().any(|above| {
                row.tree != above.tree
                    && catalog.is_below(row.tree, above.tree)
                    && (row.within == above.within || catalog.is_below(row.within, above.within))
            });
            prop_assert!(!follows, "{:?}", row);
        }
    }
}

#[test]
fn a_second_search_reads_nothing_and_finds_what_has_changed() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap().join("seamark");
    std::fs::create_dir(&root).unwrap();
    let write = |name: &str, byte: u8, length: usize| {
        let path = root.join(name);
        std::fs::write(&path, vec![byte; length]).unwrap();
        common::set_old(&path, 0);
    };
    for name in ["a.raw", "b.raw", "c.raw"] {
        write(name, 1, 200_000);
    }
    write("other.raw", 2, 200_000);
    write("lonely.raw", 3, 1234);
    // what was changed a moment ago is not remembered
    std::thread::sleep(std::time::Duration::from_secs(5));
    let file = directory.path().join("hashes.db");
    let first = scan(&root);
    let found = find(&first.catalog(), &Known::open(&file, false, Time::now()).unwrap());
    let expected: BTreeSet<Vec<PathBuf>> =
        BTreeSet::from([["a.raw", "b.raw", "c.raw"].map(PathBuf::from).to_vec()]);
    assert_eq!(paths(&first.catalog(), &found), expected);
    assert_eq!(found.figures.read.get(), 3 * 200_000 + 4 * 12, "the other one differs at once");
    // all that is known in memory, and nothing but what is asked for
    let known = |most| Known::open_within(&file, false, Time::now(), most).unwrap();
    for most in [1 << 20, 0] {
        let again = find(&first.catalog(), &known(most));
        assert_eq!(paths(&first.catalog(), &again), expected);
        assert_eq!((again.figures.read, again.figures.known), (Bytes::ZERO, 4));
    }
    // a file that is written to with its size and time kept is read again
    let before = std::fs::metadata(root.join("b.raw")).unwrap();
    write("b.raw", 9, 200_000);
    assert_eq!(std::fs::metadata(root.join("b.raw")).unwrap().mtime(), before.mtime());
    let expected: BTreeSet<Vec<PathBuf>> =
        BTreeSet::from([["a.raw", "c.raw"].map(PathBuf::from).to_vec()]);
    for most in [1 << 20, 0] {
        let changed = find(&first.catalog(), &known(most));
        assert_eq!(paths(&first.catalog(), &changed), expected);
        // its first bytes had been taken for what was known, as it was scanned
        assert_eq!(changed.figures.read.get(), 128);
    }
    // what was scanned anew is known but for the one that was changed
    let second = scan(&root);
    for most in [1 << 20, 0] {
        let found = find(&second.catalog(), &known(most));
        assert_eq!(paths(&second.catalog(), &found), expected);
        assert_eq!(found.figures.read.get(), 12);
    }
    let fresh = find(&first.catalog(), &Known::open(&file, true, Time::now()).unwrap());
    assert_eq!(fresh.figures.read.get(), 2 * 200_000 + 4 * 12);
}

/// In each group of one length three files are equal and one is not. What is done to a group, by its number and the round, is
/// often nothing.
#[test]
fn what_earlier_searches_found_of_groups_holds_as_long_as_nothing_in_them_has_changed() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap().join("seamark");
    let place = |group: usize, name: &str| {
        root.join(format!("{}", group % 3)).join(format!("{name}-{group}.raw"))
    };
    let write = |path: &Path, group: usize, byte: u8| {
        let length = 3000 + group * 11;
        std::fs::write(path, [vec![1; length - 1], vec![byte]].concat()).unwrap();
        common::set_old(path, group as i64);
    };
    (0..3).for_each(|at| std::fs::create_dir_all(root.join(at.to_string())).unwrap());
    for group in 0..60 {
        for (name, byte) in [("a", 7), ("b", 7), ("c", 7), ("d", 9)] {
            write(&place(group, name), group, byte);
        }
    }
    let file = directory.path().join("hashes.db");
    let wait = || std::thread::sleep(std::time::Duration::from_secs(5));
    let known = || Known::open(&file, false, Time::now()).unwrap();
    wait();
    find(&scan(&root).catalog(), &known());
    for round in 0..2 {
        let mut changed = 0;
        for group in 0..60 {
            let [a, b, d] = ["a", "b", "d"].map(|name| place(group, name));
            let is_there = [&a, &b, &d].iter().all(|path| path.exists());
            match (group * 7 + round * 5) % 14 {
                // with its size and time of writing as they were
                0 => write(&a, group, 9),
                1 if is_there => write(&d, group, 7),
                2 if is_there => std::fs::remove_file(&b).unwrap(),
                3 => drop(std::fs::hard_link(&d, place(group, "another"))),
                4 => write(&place(group, "new"), group, 9),
                5 if is_there => std::fs::rename(&a, &d).unwrap(),
                // nothing that counts
                6 if is_there => std::fs::rename(&a, a.with_extension("moved")).unwrap(),
                _ => continue,
            }
            changed += 1;
        }
        wait();
        let scan = scan(&root);
        let (found, plainly) =
            (find(&scan.catalog(), &known()), find(&scan.catalog(), &Known::nothing()));
        assert!(found.not_read.is_empty() && plainly.not_read.is_empty());
        assert_eq!(
            paths(&scan.catalog(), &found),
            paths(&scan.catalog(), &plainly),
            "round {round}"
        );
        assert!(changed > 15 && found.figures.read.get() < plainly.figures.read.get() / 2);
        let again = find(&scan.catalog(), &known());
        assert_eq!(paths(&scan.catalog(), &again), paths(&scan.catalog(), &plainly));
        assert_eq!(
            (again.figures.read, again.figures.known),
            (Bytes::ZERO, again.figures.candidates)
        );
    }
    // the files of a damaged list are looked at
    let database = rusqlite::Connection::open(&file).unwrap();
    database.execute("UPDATE found_groups SET list = substr(list, 1, 20 + part % 30)", []).unwrap();
    let scan = scan(&root);
    let found = find(&scan.catalog(), &known());
    assert_eq!(
        paths(&scan.catalog(), &found),
        paths(&scan.catalog(), &find(&scan.catalog(), &Known::nothing()))
    );
    assert_eq!(found.figures.read, Bytes::ZERO, "what was read of each file is known");
}

#[test]
fn what_cannot_be_read_or_is_not_as_scanned_is_listed_and_the_search_goes_on() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    for name in ["a", "b", "gone", "longer", "fifo"] {
        std::fs::write(root.join(name), vec![7; 5000]).unwrap();
    }
    let scan = scan(&root);
    std::fs::remove_file(root.join("gone")).unwrap();
    std::fs::write(root.join("longer"), vec![7; 5001]).unwrap();
    std::fs::remove_file(root.join("fifo")).unwrap();
    common::run("mkfifo", &[root.join("fifo").as_os_str()]);
    let catalog = scan.catalog();
    let found = find(&catalog, &Known::nothing());
    let expected = BTreeSet::from([["a", "b"].map(PathBuf::from).to_vec()]);
    assert_eq!(paths(&catalog, &found), expected);
    let mut left_out: Vec<_> = found.not_read.iter().map(|(id, ..)| catalog.name(*id)).collect();
    left_out.sort();
    assert_eq!(left_out, ["fifo", "gone", "longer"]);
    assert!(!found.stopped);
}

/// Two files without an end, and two that differ at once.
#[test]
fn a_search_that_is_stopped_says_so_and_what_it_has_read_is_known_to_the_next_one() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap().join("seamark");
    std::fs::create_dir_all(root.join("short")).unwrap();
    for name in ["a", "b"] {
        std::fs::File::create(root.join(name)).unwrap().set_len(1 << 40).unwrap();
        std::fs::write(root.join("short").join(name), name.repeat(5000)).unwrap();
    }
    // what was changed a moment ago is not remembered
    std::thread::sleep(std::time::Duration::from_secs(5));
    let scan = scan(&root);
    let catalog = scan.catalog();
    let file = directory.path().join("hashes.db");
    let known = Known::open(&file, false, Time::now()).unwrap();
    let below = |path: &Path| Candidates::of(catalog.whole(), &[catalog.find(path).unwrap()]);
    let found = search(below(&root), &*catalog, &known, &mut |figures, _| {
        // all first bytes
        match figures.read.get() >= 4 * 12 {
            true => ControlFlow::Break(()),
            false => ControlFlow::Continue(()),
        }
    });
    assert!(found.stopped && found.sets.is_empty());
    drop(known);
    let known = Known::open(&file, false, Time::now()).unwrap();
    let go_on = &mut |_: &_, _: &_| ControlFlow::Continue(());
    let found = search(below(&root.join("short")), &*catalog, &known, go_on);
    assert!(!found.stopped && found.sets.is_empty() && found.not_remembered.is_none());
    assert_eq!((found.figures.read, found.figures.known), (Bytes::ZERO, 2));
}

#[test]
fn the_first_preference_that_tells_copies_apart_says_which_stays() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    let mut age = 0;
    for path in ["surveys/north/a.raw", "field-kits/kit-2041/a.raw", "a.raw"] {
        let path = root.join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, "tide").unwrap();
        age += 1000;
        common::set_age(&path, age);
    }
    let scan = scan(&root);
    let catalog = scan.catalog();
    let found = find(&catalog, &Known::nothing());
    for (words, stays, why) in [
        (vec![], "a.raw", "shortest path"),
        (vec!["surveys/"], "surveys/north/a.raw", "keep 1: surveys/"),
        (vec!["nothing-like-it", "*-2041"], "field-kits/kit-2041/a.raw", "keep 2: *-2041"),
        (vec!["newest"], "surveys/north/a.raw", "keep 1: newest"),
        (vec!["oldest"], "a.raw", "keep 1: oldest"),
        (vec!["deepest", "oldest"], "field-kits/kit-2041/a.raw", "keep 2: oldest"),
        (vec!["field-kits/*/a.raw"], "field-kits/kit-2041/a.raw", "keep 1: field-kits/*/a.raw"),
        (vec![root.join("surveys").to_str().unwrap()], "surveys/north/a.raw", "keep 1"),
    ] {
        let keep = Keep::parse(&words).unwrap();
        let mut copies = found.sets[0].copies.clone();
        keep.sort(&catalog, &mut copies);
        assert_eq!(catalog.path_below_root(copies[0]), Path::new(stays), "{words:?}");
        assert!(keep.why(&catalog, copies[0], copies[1]).starts_with(why), "{words:?}");
    }
    assert!(Keep::parse(&["[a"]).is_err());
    // what a person chose comes before all that
    for copy in &found.sets[0].copies {
        let keep = Keep::parse(&["newest"]).unwrap().with_chosen([*copy].into());
        let arranged = keep.arrange(&catalog, &found.sets[0]);
        assert_eq!((arranged.copies[0], &*arranged.why), (*copy, "chosen by hand"));
    }
}

/// Files that are alike for long and differ only at their end are not read whole for that.
#[test]
fn files_that_differ_at_their_end_are_not_read_whole() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    let contents: Vec<u8> = (0..4_000_000u32).map(|i| (i % 249) as u8).collect();
    for name in 0..6u8 {
        let mut contents = contents.clone();
        // the last three are equal
        let number = name.min(3);
        *contents.last_mut().unwrap() = number;
        contents.push(number / 2);
        std::fs::write(root.join(name.to_string()), contents).unwrap();
    }
    let scan = scan(&root);
    let found = find(&scan.catalog(), &Known::nothing());
    let sizes: Vec<usize> = found.sets.iter().map(|set| set.copies.len()).collect();
    assert_eq!(sizes, [3]);
    let read = found.figures.read.get();
    assert!(read < 3 * 4_000_001 + 6 * 50_000, "{read}");
}

/// Copies that have their blocks in common are equal without being read, and free nothing beside each other.
#[test]
fn files_that_share_their_blocks_are_not_read_and_free_nothing() {
    for kind in ["btrfs", "xfs"] {
        let Some(volume) = common::Mounted::new(kind, 320) else { return };
        let root = volume.path();
        for (name, length) in [("large.raw", 300_000u64), ("small.raw", 20_000)] {
            let first = root.join(name);
            let contents: Vec<u8> = (0..length).map(|i| (i % 251) as u8).collect();
            std::fs::write(&first, &contents).unwrap();
            let clone = root.join(format!("{name}.clone"));
            let (from, to) =
                (std::fs::File::open(&first).unwrap(), std::fs::File::create(&clone).unwrap());
            rustix::fs::ioctl_ficlone(&to, &from).unwrap();
            std::fs::write(root.join(format!("{name}.copy")), &contents).unwrap();
        }
        // one more pair that nothing else is equal to
        let alone = root.join("alone.raw");
        std::fs::write(&alone, vec![3; 500_000]).unwrap();
        let to = std::fs::File::create(root.join("alone.clone")).unwrap();
        rustix::fs::ioctl_ficlone(&to, std::fs::File::open(&alone).unwrap()).unwrap();
        drop(to);
        rustix::fs::sync();
        let scan = scan(&root);
        let catalog = scan.catalog();
        let found = find(&catalog, &Known::nothing());
        let keep = Keep::default();
        let told: BTreeSet<(u64, usize, usize, u64)> = found
            .sets
            .iter()
            .map(|set| {
                let arranged = keep.arrange(&catalog, set);
                let own = set.copies.iter().map(|copy| catalog.allocated(*copy).get()).max();
                let relief = arranged.relief.get() / own.unwrap().max(1);
                (set.length.get(), set.copies.len(), set.same_blocks.len(), relief)
            })
            .collect();
        let expected = [(20_000, 3, 1, 1), (300_000, 3, 1, 1), (500_000, 2, 1, 0)];
        assert_eq!(told, BTreeSet::from(expected), "{kind}");
        // of the large ones two are read, of those that are alone no more than their first bytes
        let read = found.figures.read.get();
        assert!(read < 2 * 300_000 + 3 * 20_000 + 2000, "{kind}: {read}");
    }
}
