//! What rules take: tables of a tree, a rule file and what is taken, and what holds for any of them.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use fondaco_core::analysis::Protection;
use fondaco_core::kernel::{Capacity, LevelFor};
use fondaco_core::leftovers::{Homes, Table, find};
use fondaco_core::lens::SystemAccounts;
use fondaco_core::rule::{
    Circumstances, Keeper, RuleError, RuleSet, RuleState, TryOut, VolumeFacts, WORDS, WordOf,
    schema,
};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::{Bytes, Level, Time};
use jiff::tz::TimeZone;
use proptest::prelude::*;

/// 2041-03-10 12:00 UTC.
const NOW: Time = Time::at(2_246_529_600);
const KIB: usize = 1024;

/// A tree of files: path, KiB, days since it was written. `= PATH` instead of KiB is another name of that file.
struct Tree {
    _directory: tempfile::TempDir,
    scan: Scan,
}

impl Tree {
    fn new(files: &[(&str, usize, i64)], links: &[(&str, &str)]) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        for (path, kib, _) in files {
            let path = root.join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            match path.to_str().unwrap().ends_with('/') {
                true => std::fs::create_dir_all(path).unwrap(),
                false => std::fs::write(path, vec![1; *kib * KIB]).unwrap(),
            }
        }
        for (name, of) in links {
            std::fs::hard_link(root.join(of), root.join(name)).unwrap();
        }
        // directories after what is in them
        for (path, _, days) in files.iter().rev() {
            let written = rustix::fs::Timespec { tv_sec: NOW.sec - days * 86_400, tv_nsec: 0 };
            let times = rustix::fs::Timestamps { last_access: written, last_modification: written };
            let flags = rustix::fs::AtFlags::empty();
            rustix::fs::utimensat(rustix::fs::CWD, root.join(path), &times, flags).unwrap();
        }
        let options = Options { threads: 1, ..Options::new(NOW) };
        let mut scan = Scan::start(std::slice::from_ref(&root), &options).unwrap();
        scan.wait();
        Self { _directory: directory, scan }
    }

    fn circumstances(&self, used: u64, free: u64) -> Circumstances<'static> {
        let catalog = self.scan.catalog();
        let capacity = Capacity {
            total: Bytes::new(used + free),
            used: Bytes::new(used),
            free_root: Bytes::new(free),
            free_users: Bytes::new(free),
            inodes: 1000,
            inodes_free: 400,
            block: 4096,
        };
        Circumstances {
            accounts: &SystemAccounts,
            volumes: vec![VolumeFacts {
                device: catalog.device_and_inode(catalog.roots()[0].entry).0,
                mount_point: "/srv/seamark".into(),
                capacity,
                level_for: LevelFor::Users,
                waterline: Level::from_permille(800),
            }],
            protection: Protection::default(),
            open: None,
            leftovers: None,
            confirmed: None,
            volume_root: Box::new(|path| match path.starts_with("/mnt/spare") {
                true => "/mnt/spare".into(),
                false => "/srv/seamark".into(),
            }),
            zone: TimeZone::UTC,
        }
    }

    /// On a volume that is full to 90 % of 100 MiB.
    fn try_out(&self, rules: &str) -> Result<TryOut, RuleError> {
        let rules = RuleSet::parse(Path::new("rules.toml"), rules, &SystemAccounts)?;
        let mib = 1 << 20;
        Ok(rules.try_on(&self.scan.catalog(), &self.circumstances(90 * mib, 10 * mib)))
    }

    /// What is taken, as the path, with the number of its rule if there are several.
    fn taken(&self, out: &TryOut) -> Vec<String> {
        let catalog = self.scan.catalog();
        let line = |entry, rule: u16| {
            let path = catalog.path_below_root(entry).display().to_string();
            if out.rules.len() > 1 { format!("{rule} {path}") } else { path }
        };
        out.matches.iter().map(|found| line(found.entry, found.rule)).collect()
    }
}

/// The words of a rule `r` that deletes, and after a line `--` those of the next.
fn rules(words: &str) -> String {
    let (head, words) = words.split_once("##").unwrap_or(("", words));
    let rule = |(number, words): (usize, &str)| {
        let action = if words.contains("action") { "" } else { "action = \"delete\"\n" };
        let words = words.replace(';', "\n");
        format!("[[rule]]\ntitle = \"r{number}\"\n{action}{words}\n")
    };
    let rules: String = words.split("--").enumerate().map(rule).collect();
    format!("{}\n{rules}", head.replace(';', "\n"))
}

fn check(tree: &Tree, cases: &[(&str, &[&str])]) {
    for (words, expected) in cases {
        let out = tree.try_out(&rules(words)).unwrap_or_else(|error| panic!("{words}: {error}"));
        assert_eq!(tree.taken(&out), *expected, "{words}: {:?}", out.rules);
    }
}

#[test]
fn words_of_the_lens_choose_files() {
    let tree = Tree::new(
        &[
            ("hydrophone/north/2035.wav", 40, 900),
            ("hydrophone/north/2041.wav", 40, 2),
            ("hydrophone/calibration/tone.wav", 40, 900),
            ("logs/buoy.log", 12, 1),
            ("logs/buoy.log.1", 12, 40),
            ("logs/buoy.log.2", 12, 80),
            ("incoming/core.2464", 88, 61),
            ("incoming/empty", 0, 400),
        ],
        &[],
    );
    check(
        &tree,
        &[
            (
                "name = '*.wav'",
                &[
                    "hydrophone/calibration/tone.wav",
                    "hydrophone/north/2035.wav",
                    "hydrophone/north/2041.wav",
                ],
            ),
            (
                "name = '*.wav'; older = '1 y'; under = 'hydrophone/north'",
                &["hydrophone/north/2035.wav"],
            ),
            (
                "name = 'hydrophone/*/20*.wav'",
                &["hydrophone/north/2035.wav", "hydrophone/north/2041.wav"],
            ),
            ("name = 'hydrophone/*.wav'", &[]),
            ("name = '**/*.{1,2}'", &["logs/buoy.log.1", "logs/buoy.log.2"]),
            ("name = ['core.*', '*.log']", &["incoming/core.2464", "logs/buoy.log"]),
            (
                "older = '60 d'; larger = '40 kB'",
                &[
                    "hydrophone/calibration/tone.wav",
                    "hydrophone/north/2035.wav",
                    "incoming/core.2464",
                ],
            ),
            ("older = '62 d'; under = 'incoming'", &["incoming/empty"]),
            ("larger = '0'; under = 'nowhere'", &[]),
            ("older = '1 y'; protect = ['hydrophone']", &["incoming/empty"]),
            ("is = 'empty'", &["incoming/empty"]),
            ("kind = ['audio']; newer = '7 d'", &["hydrophone/north/2041.wav"]),
            (
                "family = 'buoy.log'; lens = 'not newer:30d'",
                &["logs/buoy.log.1", "logs/buoy.log.2"],
            ),
            ("lens = 'under:incoming not is:empty'", &["incoming/core.2464"]),
            // the first that takes an entry has it, and one that is off takes nothing
            (
                "protect = ['hydrophone']## name = 'buoy.log.*'; action = 'archive' -- older = '70 d'",
                &["1 incoming/empty", "0 logs/buoy.log.1", "0 logs/buoy.log.2"],
            ),
            (
                "name = 'buoy.log.*'; on = false -- older = '300 d'; under = 'incoming'",
                &["1 incoming/empty"],
            ),
        ],
    );
}

#[test]
fn what_is_left_over_is_taken_by_its_groups_whole_and_by_how_long_it_has_been_so() {
    let bin = "bin/.local/share/Trash";
    let tree = Tree::new(
        &[
            ("a/field.tmp", 12, 12),
            ("a/grid.tmp", 40, 90),
            ("a/chart.zip.part", 40, 90),
            ("a/kept.csv", 40, 900),
            (&format!("{bin}/files/sheet.png"), 40, 900),
            (&format!("{bin}/info/sheet.png.trashinfo"), 1, 50),
            (&format!("{bin}/files/young.png"), 40, 900),
            (&format!("{bin}/info/young.png.trashinfo"), 1, 20),
        ],
        &[],
    );
    let pair = [format!("{bin}/files/sheet.png"), format!("{bin}/info/sheet.png.trashinfo")];
    let found = {
        let catalog = tree.scan.catalog();
        let table = Table::with(None, None, &Homes::of("")).0;
        Arc::new(find(catalog.whole(), &table, &SystemAccounts, None, &|| false))
    };
    let try_out = |words: &str| {
        let parsed =
            RuleSet::parse(Path::new("rules.toml"), &rules(words), &SystemAccounts).unwrap();
        let mut facts = tree.circumstances(90 << 20, 10 << 20);
        facts.leftovers = Some(Arc::clone(&found));
        tree.taken(&parsed.try_on(&tree.scan.catalog(), &facts))
    };
    let cases: [(&str, &[&str]); 7] = [
        ("leftovers = ['temporaries']", &["a/field.tmp", "a/grid.tmp"]),
        (
            "leftovers = ['temporaries', 'partial-downloads']; older = '30 d'",
            &["a/chart.zip.part", "a/grid.tmp"],
        ),
        ("leftovers = ['temporaries']; smaller = '20 kB'", &["a/field.tmp"]),
        ("leftovers = ['temporaries']; under = 'b'", &[]),
        // since it was thrown away, and not since it was written; it goes with what says so
        ("leftovers = ['bins']; older = '30 d'", &[&pair[0], &pair[1]]),
        ("name = 'grid.tmp' -- leftovers = ['temporaries']", &["1 a/field.tmp", "0 a/grid.tmp"]),
        ("protect = ['a/grid.tmp']## leftovers = ['temporaries']", &["a/field.tmp"]),
    ];
    for (words, expected) in cases {
        assert_eq!(try_out(words), *expected, "{words}");
    }
    // a rule does nothing as long as it is not known what is left over, and says so
    let out = tree.try_out(&rules("leftovers = ['temporaries']")).unwrap();
    assert!(matches!(&out.rules[0].state, RuleState::Rests(why) if why.contains("left over")));
    for (words, message) in [
        ("leftovers = ['temporarys']", "did you mean temporaries?"),
        ("leftovers = ['held']", "expected one of"),
        ("leftovers = []", "say which"),
        ("leftovers = ['bins']; takes = 'directories'", "leave `takes` out"),
        ("leftovers = ['bins']; keep = 3", "no generations"),
    ] {
        let error = tree.try_out(&rules(words)).err().map(|error| error.to_string());
        assert!(error.as_ref().is_some_and(|error| error.contains(message)), "{words}: {error:?}");
    }
}

#[test]
fn generations_stay_by_number_by_period_and_by_name() {
    let tree = Tree::new(
        &[
            // dates in names disagree with the times of writing
            ("a/tide-2041-03-07.csv", 4, 500),
            ("a/tide-2041-03-06.csv", 4, 1),
            ("a/tide-2041-02-28.csv", 4, 2),
            ("a/tide-2040-02-29.csv", 4, 3),
            ("a/tide-2040-02-28.csv", 4, 4),
            ("b/tide-2039-01-01.csv", 4, 800),
            ("b/tide-2039-01-02.csv", 4, 800),
            // no date in the name: by writing
            ("logs/buoy.log", 8, 0),
            ("logs/buoy.log.1", 8, 10),
            ("logs/buoy.log.2", 8, 20),
            ("logs/buoy.log.3.gz", 8, 30),
            // equal dates: the later name is the newer
            ("same/run-1.bin", 4, 50),
            ("same/run-2.bin", 4, 50),
            ("same/run-3.bin", 4, 50),
            // two dates: the later counts
            ("span/2041-01-01_2041-01-31.csv", 4, 1),
            ("span/2041-02-01_2041-02-05.csv", 4, 9),
            ("alone/readme", 4, 900),
        ],
        &[],
    );
    check(
        &tree,
        &[
            (
                "keep = 2; under = 'a'",
                &["a/tide-2040-02-28.csv", "a/tide-2040-02-29.csv", "a/tide-2041-02-28.csv"],
            ),
            // a family in two directories is two
            (
                "keep = 1; name = 'tide-*'",
                &[
                    "a/tide-2040-02-28.csv",
                    "a/tide-2040-02-29.csv",
                    "a/tide-2041-02-28.csv",
                    "a/tide-2041-03-06.csv",
                    "b/tide-2039-01-01.csv",
                ],
            ),
            // ages say what may go and not what counts: the two newest are younger than that
            ("keep = 2; under = 'logs'; older = '25 d'", &["logs/buoy.log.3.gz"]),
            ("keep = 3; under = 'logs'; lens = 'older:5d'", &["logs/buoy.log.3.gz"]),
            ("keep = 1; under = 'logs'; older = '35 d'", &[]),
            // by the date in the name, which is no time of writing
            (
                "keep = 1; age = 'named'; older = '1 y'; name = 'tide-2040*'",
                &["a/tide-2040-02-28.csv"],
            ),
            (
                "age = 'named'; older = '1 y'; name = 'tide-*'",
                &[
                    "a/tide-2040-02-28.csv",
                    "a/tide-2040-02-29.csv",
                    "b/tide-2039-01-01.csv",
                    "b/tide-2039-01-02.csv",
                ],
            ),
            // what has no date is of no age, whichever way it is asked
            ("age = 'named'; older = '1 d'; under = 'logs'", &[]),
            ("age = 'named'; newer = '90 y'; under = 'logs'", &[]),
            ("age = 'named'; lens = 'not newer:1d'; under = 'logs'", &[]),
            ("keep = 2; under = 'same'", &["same/run-1.bin"]),
            ("keep = 1; under = 'span'", &["span/2041-01-01_2041-01-31.csv"]),
            // a family of one, and one that does not reach the number
            ("keep = 1; under = 'alone'", &[]),
            ("keep = 9; under = 'same'", &[]),
            // all of a directory, of an owner, of the rule
            ("keep = 3; of = 'directory'; under = 'logs'", &["logs/buoy.log.3.gz"]),
            ("keep = 2; of = 'all'; name = 'tide-*'; under = 'b'", &[]),
            (
                "keep = 1; of = 'owner'; under = ['b', 'same']",
                &[
                    "b/tide-2039-01-01.csv",
                    "b/tide-2039-01-02.csv",
                    "same/run-1.bin",
                    "same/run-2.bin",
                ],
            ),
            // what is named stays and is not counted
            (
                "keep = 1; keep_named = ['*-02-29*']; under = 'a'",
                &["a/tide-2040-02-28.csv", "a/tide-2041-02-28.csv", "a/tide-2041-03-06.csv"],
            ),
            (
                "keep = 1; keep_named = ['logs/*.gz']; under = 'logs'",
                &["logs/buoy.log.1", "logs/buoy.log.2"],
            ),
            // one for each period that has one
            (
                "thin = { monthly = 2 }; under = 'a'",
                &["a/tide-2040-02-28.csv", "a/tide-2040-02-29.csv", "a/tide-2041-03-06.csv"],
            ),
            (
                "thin = { daily = 2, yearly = 2 }; under = 'a'",
                &["a/tide-2040-02-28.csv", "a/tide-2041-02-28.csv"],
            ),
            (
                "thin = { weekly = 1 }; under = 'a'",
                &[
                    "a/tide-2040-02-28.csv",
                    "a/tide-2040-02-29.csv",
                    "a/tide-2041-02-28.csv",
                    "a/tide-2041-03-06.csv",
                ],
            ),
            // both: what either keeps stays
            (
                "keep = 2; thin = { yearly = 9 }; under = 'a'",
                &["a/tide-2040-02-28.csv", "a/tide-2041-02-28.csv"],
            ),
            // what a rule keeps no later rule takes, but an earlier one does, and then others are the newest
            ("keep = 2; under = 'same' -- older = '40 d'; under = 'same'", &["0 same/run-1.bin"]),
            (
                "name = 'run-3*' -- keep = 1; under = 'same'",
                &["1 same/run-1.bin", "0 same/run-3.bin"],
            ),
            // what is protected is a generation like others
            (
                "keep = 1; under = 'same'; protect = ['same/run-3.bin']",
                &["same/run-1.bin", "same/run-2.bin"],
            ),
            ("keep = 1; under = 'same'; protect = ['same/run-1.bin']", &["same/run-2.bin"]),
        ],
    );
}

#[test]
fn a_cap_lets_the_oldest_go_until_the_rest_fits() {
    let tree = Tree::new(
        &[
            ("logs/buoy.log", 20, 0),
            ("logs/buoy.log.1", 20, 10),
            ("logs/buoy.log.2", 20, 20),
            ("logs/buoy.log.3", 20, 30),
            ("core/core.1", 100, 5),
            ("links/x-2041-01-01", 20, 10),
            ("links/x-2041-01-03", 20, 10),
            ("other/y-2041-01-02", 20, 10),
        ],
        &[
            ("links/x-2041-01-02", "links/x-2041-01-01"),
            ("other/y-2041-01-01", "other/y-2041-01-02"),
        ],
    );
    check(
        &tree,
        &[
            ("total = '40 KiB'; under = 'logs'", &["logs/buoy.log.2", "logs/buoy.log.3"]),
            ("total = '41 KiB'; under = 'logs'", &["logs/buoy.log.2", "logs/buoy.log.3"]),
            ("total = '80 KiB'; under = 'logs'", &[]),
            ("total = '79 KiB'; under = 'logs'", &["logs/buoy.log.3"]),
            // the newest stays, however little fits
            (
                "total = 1; under = 'logs'",
                &["logs/buoy.log.1", "logs/buoy.log.2", "logs/buoy.log.3"],
            ),
            ("total = '20 KiB'; under = 'core'", &[]),
            // the old ones alone
            (
                "total = '20 KiB'; under = 'logs'; older = '15 d'",
                &["logs/buoy.log.2", "logs/buoy.log.3"],
            ),
            // generations first, then only as many as do not fit
            ("total = '60 KiB'; keep = 2; under = 'logs'", &["logs/buoy.log.3"]),
            ("total = '20 KiB'; keep = 2; under = 'logs'", &["logs/buoy.log.2", "logs/buoy.log.3"]),
            // of a directory, of all
            (
                "total = '140 KiB'; of = 'all'; under = ['logs', 'core']",
                &["logs/buoy.log.2", "logs/buoy.log.3"],
            ),
            // two names of one inode count once, and only the last of them frees
            ("total = '20 KiB'; under = 'links'", &["links/x-2041-01-01", "links/x-2041-01-02"]),
            ("total = '20 KiB'; under = 'other'", &[]),
        ],
    );
    let out = tree.try_out(&rules("total = '20 KiB'; under = 'core'")).unwrap();
    assert_eq!(out.rules[0].still_over, Bytes::new(80 * 1024), "it is told what does not fit");
}

#[test]
fn a_rule_stops_as_soon_as_there_is_enough_and_begins_when_its_time_has_come() {
    let mib = 1024;
    let files: Vec<(String, usize, i64)> =
        (0..12).map(|n| (format!("data/{n:02}.raw"), 2 * mib, 10 + n)).collect();
    let mut files: Vec<(&str, usize, i64)> =
        files.iter().map(|(path, kib, days)| (path.as_str(), *kib, *days)).collect();
    files.push(("data/large.raw", 5 * mib, 1));
    files.push(("data/heavy.raw", mib, 900));
    let tree = Tree::new(&files, &[]);
    // the volume has 100 MiB, 90 of them in use; its waterline is at 80 %
    check(
        &tree,
        &[
            (
                "ext = 'raw'; until = 'waterline'",
                &[
                    "data/07.raw",
                    "data/08.raw",
                    "data/09.raw",
                    "data/10.raw",
                    "data/11.raw",
                    "data/heavy.raw",
                ],
            ),
            ("ext = 'raw'; until = '88 %'", &["data/11.raw", "data/heavy.raw"]),
            ("ext = 'raw'; until = '91 %'", &[]),
            ("ext = 'raw'; free = '12 MiB'; order = 'largest'", &["data/large.raw"]),
            ("ext = 'raw'; free = '16 MiB'; order = 'largest'", &["data/11.raw", "data/large.raw"]),
            ("ext = 'raw'; until = '89 %'; order = 'byte-years'", &["data/heavy.raw"]),
            ("ext = 'raw'; older = '1 y'; until = 'waterline'", &["data/heavy.raw"]),
            // what an earlier rule frees counts
            (
                "name = 'large*' -- ext = 'raw'; free = '16 MiB'",
                &["1 data/heavy.raw", "0 data/large.raw"],
            ),
            // what is moved to another volume counts, what is moved within its own does not
            (
                "name = 'large*'; action = 'move'; to = '/mnt/spare' -- ext = 'raw'; free = '16 MiB'",
                &["1 data/heavy.raw", "0 data/large.raw"],
            ),
            (
                "name = 'large*'; action = 'move'; to = 'old' -- ext = 'raw'; free = '11 MiB'",
                &["1 data/heavy.raw", "0 data/large.raw"],
            ),
            ("name = 'large*'; action = 'move'; to = 'old'; until = 'waterline'", &[]),
            ("name = 'large*'; above = '90 %'", &[]),
            ("name = 'large*'; above = '89 %'", &["data/large.raw"]),
            ("name = 'large*'; inodes_above = '60 %'", &[]),
            ("name = 'large*'; inodes_above = '59 %'", &["data/large.raw"]),
        ],
    );
    let out = tree.try_out(&rules("name = 'large*'; above = '95 %'")).unwrap();
    assert!(
        matches!(&out.rules[0].state, RuleState::Rests(why) if why.contains("is at 90 %, and not above 95 %")),
        "{out:?}"
    );
}

/// Each of two volumes is relieved as far as it needs that, and what one frees is not counted for the other.
#[test]
fn enough_is_reckoned_for_each_volume_by_itself() {
    let Some(other) = common::Mounted::new("tmpfs", 16) else { return };
    let place = tempfile::tempdir().unwrap();
    let roots = [place.path().canonicalize().unwrap(), other.path()];
    for (at, root) in roots.iter().enumerate() {
        for number in 0..4 {
            let path = root.join(format!("{at}-{number}.raw"));
            std::fs::write(&path, vec![1; 1 << 20]).unwrap();
            common::set_old(&path, number);
        }
    }
    let mut scan = Scan::start(&roots, &Options { threads: 1, ..Options::new(NOW) }).unwrap();
    scan.wait();
    let catalog = scan.catalog();
    let mib = 1 << 20;
    let tree = Tree::new(&[("a", 1, 1)], &[]);
    let mut facts = tree.circumstances(90 * mib, 10 * mib);
    let device = |at: usize| catalog.device_and_inode(catalog.roots()[at].entry).0;
    facts.volumes[0].device = device(0);
    let (mut second, first) = (facts.volumes[0].clone(), &mut facts.volumes[0]);
    // the first needs two of its files, the second three
    (first.waterline, second.waterline) = (Level::from_permille(880), Level::from_permille(870));
    (second.device, second.mount_point) = (device(1), roots[1].clone());
    facts.volumes.push(second);
    let words = rules("ext = 'raw'; until = 'waterline'");
    let rules = RuleSet::parse(Path::new("rules.toml"), &words, &SystemAccounts).unwrap();
    let out = rules.try_on(&catalog, &facts);
    let name = |id| catalog.name(id).to_str().unwrap().to_owned();
    let mut taken: Vec<_> = out.matches.iter().map(|found| name(found.entry)).collect();
    taken.sort();
    assert_eq!(taken, ["0-0.raw", "0-1.raw", "1-0.raw", "1-1.raw", "1-2.raw"]);
}

#[test]
fn a_rule_over_a_limit_does_nothing_and_leaves_nothing_to_later_ones() {
    let tree = Tree::new(
        &[("a/1.tmp", 40, 90), ("a/2.tmp", 40, 80), ("a/3.tmp", 40, 1), ("b/4.dat", 40, 90)],
        &[],
    );
    check(
        &tree,
        &[
            ("ext = 'tmp'; at_most = { entries = 3 }", &["a/1.tmp", "a/2.tmp", "a/3.tmp"]),
            ("ext = 'tmp'; at_most = { entries = 2 }", &[]),
            ("ext = 'tmp'; at_most = { size = '120 KiB' }", &["a/1.tmp", "a/2.tmp", "a/3.tmp"]),
            ("ext = 'tmp'; at_most = { size = '119 KiB' }", &[]),
            // of what it looks at, whatever its age
            ("ext = 'tmp'; older = '30 d'; at_most = { share = '67 %' }", &["a/1.tmp", "a/2.tmp"]),
            ("ext = 'tmp'; older = '30 d'; at_most = { share = '66 %' }", &[]),
            // the limit is asked after generations have been left out
            ("ext = 'tmp'; keep = 2; of = 'all'; at_most = { entries = 1 }", &["a/1.tmp"]),
            // what is to be archived first is not deleted instead, because there is too much of it
            (
                "ext = 'tmp'; action = 'archive'; at_most = { entries = 1 } -- older = '1 d'",
                &["1 b/4.dat"],
            ),
        ],
    );
    let out = tree.try_out(&rules("ext = 'tmp'; at_most = { entries = 2 }")).unwrap();
    let RuleState::OverLimit(why) = &out.rules[0].state else { panic!("{out:?}") };
    assert_eq!(why, "it would take 3 entries, and may take 2");
    assert_eq!((out.rules[0].takes.entries, out.frees()), (3, Bytes::ZERO));
    assert!(out.held_back.iter().all(|held| held.by == Keeper::Limit));
}

#[test]
fn whole_directories_go_if_all_in_them_may() {
    let tree = Tree::new(
        &[
            ("backup-2041-03-07/", 0, 0),
            ("backup-2041-03-07/db.sql", 4, 3),
            ("backup-2041-02-07/", 0, 0),
            ("backup-2041-02-07/db.sql", 4, 31),
            ("backup-2041-01-07/", 0, 0),
            ("backup-2041-01-07/db.sql", 4, 62),
            ("work/build/", 0, 0),
            ("work/build/a.o", 40, 100),
            ("work/build/deep/b.o", 40, 90),
            ("work/fresh/build/a.o", 40, 1),
            ("work/fresh/build/old.o", 40, 100),
            ("void/hollow/inner/", 0, 200),
            ("void/hollow/", 0, 200),
            ("void/new/", 0, 0),
        ],
        &[],
    );
    check(
        &tree,
        &[
            ("takes = 'directories'; name = 'build'; older = '30 d'", &["work/build"]),
            ("takes = 'directories'; name = 'build'; older = '95 d'", &[]),
            (
                "takes = 'directories'; name = 'build'; ext = 'o'",
                &["work/build", "work/fresh/build"],
            ),
            ("takes = 'directories'; name = 'build'; kind = 'log'", &[]),
            (
                "takes = 'directories'; name = 'build'; larger = '60 KiB'; older = '30 d'",
                &["work/build"],
            ),
            ("takes = 'directories'; name = 'build'; larger = '1 MiB'", &[]),
            // the topmost of those that hold
            ("takes = 'directories'; under = 'work'; older = '80 d'", &["work/build"]),
            // dated directories are generations
            ("takes = 'directories'; name = 'backup-*'; keep = 2", &["backup-2041-01-07"]),
            (
                "takes = 'directories'; name = 'backup-*'; keep = 1; older = '40 d'",
                &["backup-2041-01-07"],
            ),
            (
                "takes = 'directories'; name = 'backup-*'; age = 'named'; older = '30 d'",
                &["backup-2041-01-07", "backup-2041-02-07"],
            ),
            ("takes = 'directories'; is = 'empty'; older = '30 d'", &["void/hollow/inner"]),
            ("takes = 'directories'; under = 'void'; older = '30 d'", &["void/hollow"]),
            // one file that is protected, or taken, keeps all of it
            (
                "takes = 'directories'; name = 'build'; older = '30 d'; protect = ['work/build/deep/b.o']",
                &[],
            ),
            (
                "name = 'b.o' -- takes = 'directories'; name = 'build'; older = '30 d'",
                &["0 work/build/deep/b.o"],
            ),
            // and what lies in a directory that goes is not taken once more
            (
                "takes = 'directories'; name = 'build'; older = '30 d' -- name = 'b.o'",
                &["0 work/build"],
            ),
        ],
    );
}

#[test]
fn mistakes_are_told_with_place_and_what_would_be_right() {
    let cases = [
        ("keep = 0; name = 'x'", 4, 8, "keeps nothing"),
        ("keep = 'all'; name = 'x'", 4, 8, "expected a whole number"),
        ("kep = 3; name = 'x'", 4, 1, "did you mean `keep`"),
        ("oldr = '1 y'", 4, 1, "did you mean `older`"),
        ("colour = 1; name = 'x'", 4, 1, "unknown field `colour`"),
        ("keep = 3; of = 'famly'", 5, 6, "did you mean `family`"),
        ("name = 'x'; of = 'family'", 5, 6, "say one of them"),
        ("name = 'x'; keep_named = ['y']", 5, 15, "beside `keep`"),
        ("name = 'x'; thin = { daily = 0 }", 5, 8, "how many periods"),
        ("name = 'x'; thin = { hourly = 3 }", 5, 10, "unknown field `hourly`"),
        ("name = 'x'; until = 'waterlin'", 5, 9, "expected `waterline` or a level"),
        ("name = 'x'; until = '120 %'", 5, 9, "expected `waterline` or a level"),
        ("name = 'x'; until = '80 %'; free = '1 GiB'", 6, 8, "leave one of them out"),
        ("name = 'x'; order = 'oldest'", 5, 9, "means nothing without"),
        ("name = 'x'; total = '2 parsecs'", 5, 9, "a size such as"),
        ("name = 'x'; above = 'much'", 5, 9, "a level"),
        ("name = 'x'; at_most = { entrys = 1 }", 5, 13, "did you mean `entries`"),
        ("name = 'x'; depot = '/d'", 5, 9, "only what is archived"),
        ("name = 'x'; takes = 'folders'", 5, 9, "unknown variant `folders`"),
        ("name = 'x'; age = 'birth'", 5, 7, "unknown variant `birth`"),
        ("kind = 'directory'", 4, 8, "takes = \"directories\""),
    ];
    let mut wrong = Vec::new();
    for (words, line, column, told) in cases {
        // each word on a line of its own, from the fourth on
        let words: Vec<&str> = words.split("; ").collect();
        let text = format!("[[rule]]\ntitle = \"r\"\naction = \"delete\"\n{}\n", words.join("\n"));
        let error = RuleSet::parse(Path::new("r.toml"), &text, &SystemAccounts).unwrap_err();
        let is_right = (error.line, error.column) == (line, column);
        if !is_right || !error.message.contains(told) {
            wrong.push(format!("{words:?}: {error}"));
        }
    }
    assert_eq!(wrong, [] as [String; 0]);
}

/// Some generations of some families: for each a day and KiB.
fn families() -> impl Strategy<Value = Vec<Vec<(u16, u8)>>> {
    let family = prop::collection::vec((0u16..900, 1u8..9), 0..9);
    prop::collection::vec(family, 1..4)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// Whatever there is: as many as are to be kept stay, no more goes than is needed, and no limit is passed.
    #[test]
    fn never_more_goes_than_must(
        families in families(),
        keep in 1u32..5,
        percent in 60u32..95,
        most in 1u64..12,
        older in 0u16..400,
    ) {
        let mut files: BTreeMap<String, (usize, i64)> = BTreeMap::new();
        for (number, family) in families.iter().enumerate() {
            let letter = char::from(b'a' + number as u8);
            for (day, kib) in family {
                files.insert(format!("d/{letter}-{day}.x"), (usize::from(*kib) * 4, i64::from(*day)));
            }
        }
        let list: Vec<_> = files.iter().map(|(path, (kib, day))| (path.as_str(), *kib, *day)).collect();
        let tree = Tree::new(&list, &[]);
        let catalog = tree.scan.catalog();
        let try_on = |text: &str, used: u64, free: u64| {
            let rules = RuleSet::parse(Path::new("r"), &rules(text), &SystemAccounts).unwrap();
            rules.try_on(&catalog, &tree.circumstances(used, free))
        };
        let family = |path: &str| path.split('-').next().unwrap().to_owned();
        let count = |paths: &[String]| {
            let mut counts: BTreeMap<String, usize> = BTreeMap::new();
            paths.iter().for_each(|path| *counts.entry(family(path)).or_default() += 1);
            counts
        };
        let all: Vec<String> = files.keys().cloned().collect();
        let there = count(&all);

        // a second rule would take everything
        let text = format!("keep = {keep}; older = '{older} d' -- older = '0 d'; under = 'd'");
        let out = try_on(&text, 1000, 1000);
        let gone: Vec<String> = out.matches.iter().map(|m| catalog.path_below_root(m.entry).display().to_string()).collect();
        let went = count(&gone);
        for (family, count) in &there {
            let stay = count - went.get(family).copied().unwrap_or(0);
            prop_assert!(stay >= (*count).min(keep as usize), "{family}: {stay} of {count} stay");
        }

        // the volume holds these files and nothing else, and as much is free
        let used: u64 = list.iter().map(|(_, kib, _)| *kib as u64 * 1024).sum();
        let out = try_on(&format!("ext = 'x'; until = '{percent} %'"), used, used / 8);
        let needed = used.saturating_sub((used + used / 8) * u64::from(percent) / 100);
        let freed: u64 = out.matches.iter().map(|m| catalog.allocated(m.entry).get()).sum();
        prop_assert!(freed >= needed.saturating_sub(1).min(used), "{freed} of {needed}");
        let largest = out.matches.iter().map(|m| catalog.allocated(m.entry).get()).max().unwrap_or(0);
        prop_assert!(freed <= needed + largest, "{freed} goes and {needed} is needed");
        prop_assert_eq!(out.frees().get(), freed);

        let out = try_on(&format!("ext = 'x'; at_most = {{ entries = {most} }}"), used, used);
        prop_assert!(out.matches.len() as u64 <= most);
        prop_assert_eq!(out.matches.is_empty(), all.len() as u64 > most || all.is_empty());
    }
}

/// What the page about rules says is true: its examples are rules, its table has every word, and the schema beside it is
/// that of this version.
#[test]
fn the_page_about_rules_and_the_schema_are_those_of_the_parser() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let page = std::fs::read_to_string(docs.join("rules.md")).unwrap();
    let parse = |text: &str| RuleSet::parse(Path::new("rules.md"), text, &SystemAccounts);
    let mut all = String::new();
    let mut count = 0;
    for example in page.split("```toml\n").skip(1).map(|rest| rest.split("```").next().unwrap()) {
        let rules = parse(example).unwrap_or_else(|error| panic!("{error}\n{example}"));
        count += rules.rules.len();
        all.push_str(example);
    }
    assert!(count >= 10, "{count} examples");
    assert_eq!(parse(&all).unwrap().rules.len(), count);
    for word in WORDS.iter().filter(|word| word.of != WordOf::File) {
        let table = match word.of {
            WordOf::Thin => "thin.",
            WordOf::AtMost => "at_most.",
            WordOf::Store => "store.",
            _ => "",
        };
        let row = format!("| `{table}{}` | `{}` | {} |", word.name, word.example, word.meaning);
        assert!(page.contains(&row), "not in the table of rules.md: {row}");
    }
    let kept = std::fs::read_to_string(docs.join("rules.schema.json")).unwrap();
    let kept: serde_json::Value = serde_json::from_str(&kept).unwrap();
    assert_eq!(kept, schema(), "fondaco rules schema > docs/rules.schema.json");
}
