//! Lens, matrix and breakdown over trees by chance, against the plainest way to count.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::Metadata;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use common::tree::{Make, Totals, build, make};
use common::{Mounted, NOW, run};
use fondaco_core::analysis::{
    AgeBy, Block, BreakdownBy, Classes, FileOrder, SLICES, SliceKey, breakdown, first_files, matrix,
};
use fondaco_core::catalog::{Catalog, EntryId, Order, Seen};
use fondaco_core::lens::{Lens, SystemAccounts};
use fondaco_core::scan::{Options, Scan, look_closer};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time};
use proptest::prelude::*;

const DAY: i64 = 86_400;

/// A term, and what it means, said again in the plainest way.
type Meaning = fn(&Path, &Metadata) -> bool;

fn name(path: &Path) -> &[u8] {
    path.file_name().map_or(b"", OsStrExt::as_bytes)
}

/// Terms that look at the entry only; a path is as seen from the root.
const TERMS: &[(&str, Meaning)] = &[
    ("larger:4k", |_, meta| meta.blocks() * 512 >= 4096),
    ("smaller:8k", |_, meta| meta.blocks() * 512 < 8192),
    ("older:1y", |_, meta| NOW.sec - meta.mtime() >= 365 * DAY),
    ("newer:90d", |_, meta| NOW.sec - meta.mtime() < 90 * DAY),
    ("unread:2y", |_, meta| NOW.sec - meta.atime() >= 730 * DAY),
    ("kind:directory,link", |_, meta| !meta.is_file()),
    ("kind:audio", |path, meta| meta.is_file() && name(path).ends_with(b".wav")),
    ("ext:wav,csv", |path, meta| {
        meta.is_file() && (name(path).ends_with(b".wav") || name(path).ends_with(b".csv"))
    }),
    ("is:empty", |path, meta| match meta.is_dir() {
        true => meta.len() == 0 || path.read_dir().unwrap().next().is_none(),
        false => meta.is_file() && meta.len() == 0,
    }),
    ("is:multi-linked", |_, meta| !meta.is_dir() && meta.nlink() > 1),
    ("links:2", |_, meta| !meta.is_dir() && meta.nlink() > 1),
    ("is:hidden", |path, _| name(path).starts_with(b".")),
    ("is:executable", |_, meta| meta.is_file() && meta.mode() & 0o111 != 0),
    ("is:sparse", |_, meta| meta.is_file() && meta.blocks() * 512 < meta.len()),
    ("name:*a*", |path, _| name(path).contains(&b'a')),
    ("B", |path, _| name(path).to_ascii_lowercase().contains(&b'b')),
    ("length:2-6", |path, _| (2..=6).contains(&name(path).len())),
    ("owner:0,root", |_, meta| meta.uid() == 0),
    ("group:0", |_, meta| meta.gid() == 0),
    ("group:root,nogroup", |_, meta| [0, 65_534].contains(&meta.gid())),
    ("owner:unknown", |_, meta| meta.uid() == 60_104),
];

fn looked_at() -> impl Strategy<Value = Vec<Make>> {
    let ending = |size: u32| [".wav", ".log", ".log.1", "-2041-03.csv", ""][size as usize % 5];
    let named = move |step| match step {
        Make::File(at, name, size) => {
            let dot = if size.is_multiple_of(7) { "." } else { "" };
            Make::File(at, format!("{dot}{name}{}", ending(size)), size)
        }
        other => other,
    };
    proptest::collection::vec(make().prop_map(named), 1..80)
}

struct Tree {
    _directory: tempfile::TempDir,
    root: PathBuf,
    scan: Scan,
    state: State,
}

/// A tree with ages, owners and modes by chance.
fn tree(steps: &[Make], ages: &[i64]) -> Tree {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap().join("tree");
    std::fs::create_dir(&root).unwrap();
    build(&root, steps);
    let scan = || {
        let mut scan =
            Scan::start(std::slice::from_ref(&root), &Options { threads: 2, ..Options::new(NOW) })
                .unwrap();
        scan.wait();
        scan
    };
    let is_root = rustix::process::geteuid().is_root();
    let first = scan();
    let catalog = first.catalog();
    // what changes a directory comes before its time is set
    for (number, id) in catalog.ids().enumerate() {
        let path = catalog.path(id);
        let is_file = path.symlink_metadata().unwrap().is_file();
        if is_file && number % 3 == 0 {
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
        }
        if is_file && is_root && number % 4 == 0 {
            std::os::unix::fs::lchown(&path, Some(60_104), None).unwrap();
        }
    }
    for (id, days) in catalog.ids().zip(ages) {
        common::set_age(&catalog.path(id), *days * DAY + i64::from(id.0));
    }
    drop(catalog);
    let mut state = State::open(&directory.path().join("state")).unwrap();
    state.settings.accounts.clear();
    Tree { _directory: directory, scan: scan(), root, state }
}

/// Every path below the root, the root first, with whether it passes.
fn passing(root: &Path, terms: &[(usize, bool)]) -> Vec<(PathBuf, Metadata, bool)> {
    let mut all = Vec::new();
    let mut open = vec![root.to_owned()];
    while let Some(path) = open.pop() {
        let meta = path.symlink_metadata().unwrap();
        if meta.is_dir() {
            open.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
        let passes = terms.iter().all(|(term, negated)| {
            let (text, meaning) = TERMS[*term];
            // the root has a path, not a name
            let nameless = path == root && text != "is:empty";
            meaning(if nameless { Path::new("/") } else { &path }, &meta) != *negated
        });
        all.push((path, meta, passes));
    }
    all
}

/// Totals of every directory over what passes.
fn reference(all: &[(PathBuf, Metadata, bool)]) -> BTreeMap<PathBuf, (Totals, i64)> {
    let mut totals = BTreeMap::new();
    for (directory, ..) in all.iter().filter(|(_, meta, _)| meta.is_dir()) {
        let (mut sum, mut newest) = (Totals::default(), 0);
        let (mut seen, mut names) = (HashSet::new(), HashMap::<u64, u64>::new());
        let inside = all.iter().filter(|(path, _, passes)| *passes && path.starts_with(directory));
        for (_, meta, _) in inside {
            sum.entries += 1;
            newest = newest.max(meta.mtime());
            let names = names.entry(meta.ino()).or_default();
            *names += 1;
            if seen.insert(meta.ino()) {
                sum.allocated += meta.blocks() * 512;
                sum.apparent += meta.size();
            }
            if meta.is_dir() || *names == meta.nlink() {
                sum.exclusive += meta.blocks() * 512;
            }
        }
        totals.insert(directory.clone(), (sum, newest));
    }
    totals
}

fn totals(seen: Seen<'_>) -> BTreeMap<PathBuf, (Totals, i64)> {
    let catalog = seen.catalog();
    let directories = catalog.ids().filter(|id| catalog.is_directory(*id));
    let sums = |id| {
        let sums = Totals {
            allocated: seen.allocated(id).get(),
            apparent: seen.apparent(id).get(),
            exclusive: seen.exclusive(id).get(),
            entries: seen.entries(id),
        };
        (sums, seen.newest(id).sec)
    };
    directories.map(|id| (catalog.path(id), sums(id))).collect()
}

/// Inodes that are shown below a directory, by their first name.
fn inodes(seen: Seen<'_>, at: EntryId) -> Vec<EntryId> {
    let catalog = seen.catalog();
    let root = catalog.path(at);
    let mut known = HashSet::new();
    let inside = |id: &EntryId| seen.has(*id) && catalog.path(*id).starts_with(&root);
    let all: Vec<EntryId> = catalog.ids().filter(inside).collect();
    all.into_iter().filter(|id| known.insert(catalog.device_and_inode(*id))).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn under_any_lens_all_that_is_shown_adds_up(
        steps in looked_at(),
        ages in proptest::collection::vec(0..3000i64, 80),
        terms in proptest::collection::vec((0..TERMS.len(), any::<bool>()), 0..4),
    ) {
        let tree = tree(&steps, &ages);
        let catalog = tree.scan.catalog();
        let text: Vec<String> = terms.iter().map(|(term, negated)| {
            format!("{}{}", if *negated { "not " } else { "" }, TERMS[*term].0)
        }).collect();
        let text = text.join(" ");
        let all = passing(&tree.root, &terms);
        let lens = Lens::parse(&text, &tree.state).unwrap();
        let selection = lens.select(&catalog, &tree.state);
        let seen = catalog.seen(Some(&selection));
        prop_assert_eq!(totals(seen), reference(&all), "{}", &text);
        let count = all.iter().filter(|(.., passes)| *passes).count() as u64;
        prop_assert_eq!(selection.len(), count);
        if terms.is_empty() {
            // an open lens shows what there is
            prop_assert_eq!(totals(seen), totals(catalog.whole()));
        }
        for at in catalog.ids().filter(|id| catalog.is_directory(*id)) {
            adds_up(seen, at)?;
        }
        let top = catalog.top().unwrap();
        slices_are_what_their_terms_choose(seen, &lens, &catalog, top, &tree.state)?;
        files_are_in_order(seen, top)?;
    }
}

/// Ranking, matrix and breakdowns of one directory beside its total.
fn adds_up(seen: Seen<'_>, at: EntryId) -> Result<(), TestCaseError> {
    let all = inodes(seen, at);
    let whole = seen.allocated(at);
    let ranking = seen.ranking(at, Order::Allocated, 3);
    let mut shown: Vec<EntryId> = seen.children(at).collect();
    prop_assert_eq!(ranking.rows.len() as u64 + ranking.tail.children, shown.len() as u64);
    let sum = |ids: &[EntryId]| ids.iter().map(|id| seen.allocated(*id)).sum::<Bytes>();
    prop_assert_eq!(sum(&ranking.rows) + ranking.tail.allocated, sum(&shown));
    shown.sort_by_key(|id| std::cmp::Reverse(seen.allocated(*id)));
    let sizes = |ids: &[EntryId]| ids.iter().map(|id| seen.allocated(*id)).collect::<Vec<_>>();
    prop_assert_eq!(sizes(&ranking.rows), sizes(&shown[..ranking.rows.len()]));
    for by in AgeBy::ALL {
        let found = matrix(seen, at, by, Classes::default());
        prop_assert_eq!(found.whole().allocated, whole);
        prop_assert_eq!(found.whole().entries, all.len() as u64);
        let rows: Bytes = (0..found.cells.len()).map(|n| found.of_size(n).allocated).sum();
        let columns: Bytes = (0..found.cells[0].len()).map(|n| found.of_age(n).allocated).sum();
        prop_assert_eq!((rows, columns + found.of_no_age().allocated), (whole, whole));
        // without a closer look nobody knows when anything was made
        prop_assert_eq!(
            by == AgeBy::Born && whole > Bytes::ZERO,
            found.of_no_age().allocated > Bytes::ZERO
        );
    }
    for by in BreakdownBy::ALL {
        let found = breakdown(seen, at, by);
        prop_assert_eq!((found.whole.allocated, found.whole.entries), (whole, all.len() as u64));
        prop_assert_eq!(found.rest.0, 0);
        let sum: Bytes = found.slices.iter().map(|slice| slice.sum.allocated).sum();
        let entries: u64 = found.slices.iter().map(|slice| slice.sum.entries).sum();
        if found.overlaps() {
            prop_assert!(sum >= whole);
        } else {
            prop_assert_eq!((sum, entries), (whole, all.len() as u64), "{:?}", by);
        }
        for slice in &found.slices {
            let profile: f32 = slice.profile.iter().sum();
            prop_assert_eq!(profile as u64, slice.sum.allocated.get());
            let largest = seen.catalog().own_allocated(slice.largest);
            prop_assert_eq!(largest, slice.largest_allocated);
            prop_assert!(largest <= slice.sum.allocated && seen.has(slice.largest));
        }
    }
    Ok(())
}

/// Putting a slice's term into the lens leaves the slice.
fn slices_are_what_their_terms_choose(
    seen: Seen<'_>,
    lens: &Lens,
    catalog: &Catalog,
    top: EntryId,
    state: &State,
) -> Result<(), TestCaseError> {
    for by in BreakdownBy::ALL {
        let found = breakdown(seen, top, by);
        for slice in &found.slices {
            let term = found.term(slice);
            let narrowed = lens.clone().and(Lens::parse(&term, state).unwrap());
            let selection = narrowed.select(catalog, state);
            let chosen = catalog.seen(Some(&selection));
            prop_assert_eq!(inodes(chosen, top).len() as u64, slice.sum.entries, "{}", term);
            prop_assert_eq!(chosen.allocated(top), slice.sum.allocated, "{}", term);
        }
    }
    Ok(())
}

/// The first files, of all and of a block, are those of a plain sort.
fn files_are_in_order(seen: Seen<'_>, top: EntryId) -> Result<(), TestCaseError> {
    let catalog = seen.catalog();
    let age = |id| AgeBy::Written.age(catalog, id).unwrap().secs();
    let classes = Classes::default();
    let block = Block { classes: classes.clone(), sizes: 0..=1, ages: 5..=6 };
    let in_block = |id: &EntryId| {
        let years = age(*id) / (365 * DAY as u64);
        catalog.allocated(*id) < Bytes::new(1 << 20) && (1..4).contains(&years)
    };
    for order in [FileOrder::Allocated, FileOrder::Age, FileOrder::ByteYears] {
        let rank = |id: EntryId| match order {
            FileOrder::Allocated => u128::from(catalog.allocated(id).get()),
            FileOrder::Age => u128::from(age(id)),
            FileOrder::ByteYears => u128::from(catalog.allocated(id).get()) * u128::from(age(id)),
        };
        for block in [None, Some(&block)] {
            let mut plain = inodes(seen, top);
            plain.retain(|id| !catalog.is_directory(*id) && (block.is_none() || in_block(id)));
            let bytes: Bytes = plain.iter().map(|id| catalog.allocated(*id)).sum();
            let count = plain.len() as u64;
            plain.sort_by_key(|id| std::cmp::Reverse(rank(*id)));
            plain.truncate(7);
            let found = first_files(seen, top, order, AgeBy::Written, block, 7);
            prop_assert_eq!((found.whole.entries, found.whole.allocated), (count, bytes));
            let ranks = |ids: Vec<EntryId>| ids.into_iter().map(rank).collect::<Vec<_>>();
            prop_assert_eq!(ranks(found.first), ranks(plain), "{:?}", order);
        }
    }
    Ok(())
}

#[test]
fn places_families_and_depths_are_chosen_over_several_roots() {
    let directory = tempfile::tempdir().unwrap();
    let base = directory.path().canonicalize().unwrap();
    let files = [
        "north/logs/buoy.log",
        "north/logs/buoy.log.1",
        "north/logs/deep/tide-2041-01.csv",
        "south/logs/tide-2041-02.csv",
        "south/tide.csv",
    ];
    for file in files {
        std::fs::create_dir_all(base.join(file).parent().unwrap()).unwrap();
        std::fs::write(base.join(file), [1; 5000]).unwrap();
    }
    let roots = [base.join("north"), base.join("south")];
    let mut scan = Scan::start(&roots, &Options::new(NOW)).unwrap();
    scan.wait();
    let catalog = scan.catalog();
    let state = State::open(&base.join("state")).unwrap();
    let under = format!("under:{} kind:log,table,other", base.join("north/logs").display());
    let cases: &[(&str, &[usize])] = &[
        ("family:buoy.log kind:log,other", &[0, 1]),
        ("family:tide-#.csv", &[2, 3]),
        ("under:logs not kind:directory", &[0, 1, 2, 3]),
        (&under, &[0, 1, 2]),
        ("depth:1 not kind:directory", &[4]),
        ("name:logs/** not kind:directory", &[0, 1, 2, 3]),
        ("name:logs/*.csv", &[3]),
        ("not under:logs not kind:directory", &[4]),
        ("tide not 2041", &[4]),
    ];
    for (text, expected) in cases {
        let selection = Lens::parse(text, &state).unwrap().select(&catalog, &state);
        let seen = catalog.seen(Some(&selection));
        let found: Vec<PathBuf> = catalog
            .ids()
            .filter(|id| seen.is_narrowed() && seen.has(*id))
            .map(|id| catalog.path(id))
            .collect();
        let expected: Vec<PathBuf> = expected.iter().map(|at| base.join(files[*at])).collect();
        let (found, expected) =
            (HashSet::<PathBuf>::from_iter(found), HashSet::from_iter(expected));
        assert_eq!(found, expected, "{text}");
    }
    // what stands above the roots is no entry, and slices tell the roots' own levels
    let top = catalog.top().unwrap();
    let by_depth = breakdown(catalog.whole(), top, BreakdownBy::Depth);
    let roots = by_depth.slices.iter().find(|slice| slice.key == SliceKey::Depth(0)).unwrap();
    assert_eq!(roots.sum.entries, 2);
}

#[test]
fn a_closer_look_tells_births_and_attributes_on_a_real_volume() {
    let Some(volume) = Mounted::new("ext4", 64) else { return };
    let names = ["plain", "fixed", "grows"];
    rustix::fs::mknodat(
        rustix::fs::CWD,
        volume.path().join("pipe"),
        rustix::fs::FileType::Fifo,
        rustix::fs::Mode::from(0o644),
        0,
    )
    .unwrap();
    for name in names {
        std::fs::write(volume.path().join(name), b"tide").unwrap();
    }
    let chattr = |what: &str, name: &str| {
        run("chattr", &[what.as_ref(), volume.path().join(name).as_os_str()]);
    };
    chattr("+i", "fixed");
    chattr("+a", "grows");
    let now = fondaco_core::units::Time::now();
    let mut scan = Scan::start(&[volume.path().clone()], &Options::new(now)).unwrap();
    scan.wait();
    let mut catalog = scan.into_catalog();
    let state_directory = tempfile::tempdir().unwrap();
    let state = State::open(state_directory.path()).unwrap();
    let lens = Lens::parse("is:immutable,append-only", &state).unwrap();
    assert!(lens.wants_closer_look());
    assert_eq!(lens.select(&catalog, &state).len(), 0, "nothing is known before");
    let closer = look_closer(&catalog, true, &|_| std::ops::ControlFlow::Continue(())).unwrap();
    catalog.set_closer(closer);
    for name in names {
        let id = catalog.find(&volume.path().join(name)).unwrap();
        let expected = usize::from(name != "plain");
        let found = lens.select(&catalog, &state);
        assert_eq!(usize::from(catalog.seen(Some(&found)).has(id)), expected, "{name}");
        let born = AgeBy::Born.of(&catalog, id).unwrap();
        assert!((born.sec - now.sec).abs() < 300, "{name} was made just now");
    }
    let texts = Lens::parse("kind:text", &state).unwrap().select(&catalog, &state);
    assert_eq!(texts.len(), 3, "by contents, and the pipe was not waited for");
    for name in ["fixed", "grows"] {
        chattr("-ia", name);
    }
}

#[test]
fn of_more_families_than_are_listed_the_largest_are_and_the_rest_is_summed() {
    // first those that are of no family, then pairs that are of one
    let word = |number: usize| {
        (0..4).map(|place| b'a' + (number / 26_usize.pow(place) % 26) as u8).collect::<Vec<_>>()
    };
    let alone = (0..12_000).map(|number| [&word(number)[..], b".wav"].concat());
    let pairs = (0..24_000)
        .map(|number| [&word(number / 2)[..], format!("-{}.wav", number % 2).as_bytes()].concat());
    let catalog = common::flat(alone.chain(pairs));
    let top = catalog.top().unwrap();
    let found = breakdown(catalog.whole(), top, BreakdownBy::Family);
    // and the directory itself
    assert_eq!((found.slices.len(), found.rest.0), (SLICES, 24_001 - SLICES));
    // the nth file has n blocks: the last pair is the largest, and holds the last two
    for (place, slice) in found.slices.iter().enumerate() {
        assert_eq!(slice.sum.allocated, Bytes::from_blocks(71_999 - 4 * place as u64), "{place}");
        assert_eq!(slice.sum.entries, 2);
        let profile: f32 = slice.profile.iter().sum();
        assert_eq!(profile as u64, slice.sum.allocated.get());
        let SliceKey::Family(family) = &slice.key else { panic!("{:?}", slice.key) };
        assert_eq!(family[4..], *b"-#.wav");
    }
    let listed: u64 = found.slices.iter().map(|slice| slice.sum.allocated.get()).sum();
    assert_eq!(listed + found.rest.1.allocated.get(), found.whole.allocated.get());
    assert_eq!(found.whole.allocated, catalog.allocated(top));
    assert_eq!((found.whole.entries, found.rest.1.entries), (36_001, 36_001 - 2 * SLICES as u64));
    // asked again, what was worked out once gives the same
    assert_eq!(breakdown(catalog.whole(), top, BreakdownBy::Family), found);
}

#[test]
fn a_directory_of_very_many_is_ranked_as_the_plainest_sort_would() {
    // names that begin alike and part late, in no order; sizes are all different, numbers of entries all one
    let names = (0..70_000_u64).map(|number| {
        let mixed = number.wrapping_mul(0x9e37_79b9_7f4a_7c15);
        format!("tide-gauge-{}-{mixed:016x}", mixed % 5).into_bytes()
    });
    let catalog = common::flat(names);
    let top = catalog.top().unwrap();
    let lens = Lens::parse("name:*3-*", &SystemAccounts).unwrap();
    let selection = lens.select(&catalog, &SystemAccounts);
    for seen in [catalog.whole(), catalog.seen(Some(&selection))] {
        for order in [Order::Allocated, Order::Entries, Order::Newest, Order::Name] {
            let mut plain: Vec<EntryId> = seen.children(top).collect();
            plain.sort_by_key(|id| {
                let rank = match order {
                    Order::Allocated => seen.allocated(*id).get() as i64,
                    Order::Newest => seen.newest(*id).sec,
                    _ => 0,
                };
                (std::cmp::Reverse(rank), catalog.own_name(*id).to_vec())
            });
            assert!(seen.is_narrowed() == (plain.len() < 70_000) && plain.len() > 5_000);
            let whole = seen.ranking(top, order, usize::MAX);
            assert!(whole.rows == plain && whole.tail.children == 0, "{order:?}");
            let first = seen.ranking(top, order, 50);
            assert_eq!(
                (&first.rows[..], first.tail.children),
                (&plain[..50], plain.len() as u64 - 50)
            );
        }
    }
}

/// A tree large enough for several threads: what is found of it is what is found of its parts, which are not, and of
/// the directory that holds them.
#[test]
fn what_several_threads_find_is_what_one_finds_in_every_part() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    let endings = ["wav", "csv", "log", "part", "", "tar.gz"];
    for (number, station) in ["north", "south", "harbour", "skerry"].into_iter().enumerate() {
        let at = root.join(station);
        std::fs::create_dir(&at).unwrap();
        for n in 0..9_000usize {
            let name =
                format!("{}gauge-{n}.{}", if n % 11 == 0 { "." } else { "" }, endings[n % 6]);
            let file = std::fs::File::create(at.join(name)).unwrap();
            // most have nothing but a length: they are made in no time
            if n % 97 == 0 {
                std::io::Write::write_all(&mut &file, &vec![1; 3000 * (number + 1)]).unwrap();
            } else {
                file.set_len(n as u64).unwrap();
            }
        }
    }
    let mut scan = Scan::start(std::slice::from_ref(&root), &Options::new(Time::now())).unwrap();
    scan.wait();
    let catalog = scan.catalog();
    let top = catalog.top().unwrap();
    let own = catalog.own_allocated(top);
    let lens = Lens::parse("larger:1 not ext:part", &SystemAccounts).unwrap();
    let selection = lens.select(&catalog, &SystemAccounts);
    for seen in [catalog.whole(), catalog.seen(Some(&selection))] {
        let parts: Vec<EntryId> = seen.children(top).collect();
        assert_eq!(parts.len(), 4);
        // the directory itself is one entry more, if it is shown
        let one = u64::from(seen.has(top));
        let whole = parts.iter().map(|part| seen.allocated(*part)).sum::<Bytes>();
        assert_eq!(seen.allocated(top), whole + if one == 1 { own } else { Bytes::ZERO });
        for by in BreakdownBy::ALL {
            let mut sums: HashMap<SliceKey, (u64, Bytes, Bytes)> = HashMap::new();
            for slice in parts.iter().flat_map(|part| breakdown(seen, *part, by).slices) {
                let sum = sums.entry(slice.key).or_default();
                sum.0 += slice.sum.entries;
                sum.1 += slice.sum.allocated;
                sum.2 = sum.2.max(slice.largest_allocated);
            }
            let (mut entries, mut bytes) = (0, Bytes::ZERO);
            for slice in breakdown(seen, top, by).slices {
                let (count, sum, largest) = sums.remove(&slice.key).unwrap_or_default();
                entries += slice.sum.entries - count;
                bytes += slice.sum.allocated.less(sum);
                let own = if slice.sum.entries > count { own } else { Bytes::ZERO };
                assert_eq!(slice.largest_allocated, largest.max(own), "{by:?} {:?}", slice.key);
            }
            assert!(sums.is_empty(), "{by:?}: slices are missing: {sums:?}");
            assert!(by == BreakdownBy::Attribute || entries == one, "{by:?}: {entries}");
            assert!(one == 1 || bytes == Bytes::ZERO, "{by:?}: {bytes:?}");
        }
        let found = matrix(seen, top, AgeBy::Changed, Classes::default());
        let parts: Vec<_> =
            parts.iter().map(|at| matrix(seen, *at, AgeBy::Changed, Classes::default())).collect();
        let entries = |of: &fondaco_core::analysis::Matrix| of.whole().entries;
        assert_eq!(entries(&found), parts.iter().map(entries).sum::<u64>() + one);
    }
    let first =
        |at| first_files(catalog.whole(), at, FileOrder::Allocated, AgeBy::Written, None, 40);
    let mut merged: Vec<Bytes> = catalog
        .children(top)
        .flat_map(|part| first(part).first)
        .map(|id| catalog.allocated(id))
        .collect();
    merged.sort_by_key(|bytes| std::cmp::Reverse(*bytes));
    let found: Vec<Bytes> = first(top).first.into_iter().map(|id| catalog.allocated(id)).collect();
    assert_eq!(found, merged[..40]);
}

#[test]
fn every_scan_of_a_tree_gives_the_same_breakdowns() {
    let place = common::Place::new();
    for directory in 0..40 {
        for file in 0..8 {
            place.file(&format!("d{directory}/{file}.log"), 5000);
        }
    }
    // names of other endings, families, depths and lengths in other directories
    for directory in 0..20 {
        let from = place.root.join(format!("d{directory}/1.log"));
        let to = place.root.join(format!("d{}", 39 - directory));
        std::fs::create_dir_all(to.join("deep")).unwrap();
        std::fs::hard_link(&from, to.join("a.txt")).unwrap();
        std::fs::hard_link(&from, to.join("deep/a-much-longer-name.csv")).unwrap();
    }
    // a name that is the beginning of another, and sorts before the slash
    for odd in ["d1-", "d1-/x.log", "d1 a.log", "d1.log"] {
        match odd.contains(".log") {
            true => drop(place.file(odd, 5000)),
            false => std::fs::create_dir(place.root.join(odd)).unwrap(),
        }
    }
    let mut first: Option<Vec<String>> = None;
    for round in 0..6 {
        let options = Options { threads: 1 + round % 4, ..Options::new(common::NOW) };
        let catalog =
            Scan::start(std::slice::from_ref(&place.root), &options).unwrap().into_catalog();
        let top = catalog.top().unwrap();
        let mut in_order: Vec<EntryId> = catalog.ids().collect();
        in_order.sort_by(|a, b| catalog.compare_paths(*a, *b));
        let paths: Vec<_> = in_order.iter().map(|id| catalog.path(*id).into_os_string()).collect();
        assert!(paths.is_sorted(), "{paths:?}");
        let mut all = Vec::new();
        for by in BreakdownBy::ALL {
            let found = breakdown(catalog.whole(), top, by);
            for slice in &found.slices {
                let largest = catalog.path(slice.largest);
                let (sum, term) = (slice.sum, found.term(slice));
                all.push(format!("{by:?} {sum:?} {:?} {largest:?} {term}", slice.profile));
                let lens = Lens::parse(&term, &place.state).unwrap();
                let selection = lens.select(&catalog, &place.state);
                let chosen = catalog.seen(Some(&selection));
                assert_eq!(chosen.allocated(top), slice.sum.allocated, "{term}");
            }
        }
        assert_eq!(*first.get_or_insert_with(|| all.clone()), all);
    }
}
