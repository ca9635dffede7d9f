//! Holding rules against a catalog.

use std::path::{Path, PathBuf};

use super::RuleSet;
use crate::catalog::{Catalog, EntryId, Selection};
use crate::kernel::Kind;
use crate::lens::Accounts;

/// A file that a rule takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Match {
    /// Which file.
    pub entry: EntryId,
    /// Where it is.
    pub path: PathBuf,
    /// Place of the rule in its file, from 0.
    pub rule: usize,
}

/// What a rule file would take from a catalog.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TryOut {
    /// In the order of paths.
    pub matches: Vec<Match>,
    /// For each rule: files that it matches too, but an earlier rule takes.
    pub taken_before: Vec<u64>,
    /// Files that a rule matches and a protected place keeps.
    pub protected: u64,
}

impl RuleSet {
    /// The protected places as absolute paths below a scanned root.
    pub fn protected_below(&self, root: &Path) -> Vec<PathBuf> {
        self.protect.iter().map(|path| root.join(path)).collect()
    }

    /// What the rules take below one root of a catalog. Ages count from the catalog's moment.
    pub fn matches(&self, catalog: &Catalog, root: EntryId, accounts: &dyn Accounts) -> TryOut {
        let at = catalog.path(root);
        let protect = self.protected_below(&at);
        let selections: Vec<Selection> =
            self.rules.iter().map(|rule| rule.lens.select(catalog, accounts)).collect();
        let mut found = TryOut { taken_before: vec![0; self.rules.len()], ..TryOut::default() };
        let mut open = vec![root];
        while let Some(id) = open.pop() {
            open.extend(catalog.children(id));
            if catalog.kind(id) != Kind::File {
                continue;
            }
            let takes = |rule: &usize| catalog.seen(Some(&selections[*rule])).has(id);
            let mut taken_by = (0..self.rules.len()).filter(takes);
            let Some(rule) = taken_by.next() else { continue };
            let path = catalog.path(id);
            if protect.iter().any(|place| path.starts_with(place)) {
                found.protected += 1;
                continue;
            }
            taken_by.for_each(|later| found.taken_before[later] += 1);
            found.matches.push(Match { entry: id, path, rule });
        }
        found.matches.sort_by(|a, b| a.path.cmp(&b.path));
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lens::tests::Few;
    use crate::scan::{Options, Scan};
    use crate::units::Time;

    const NOW: Time = Time::at(2_000_000_000);

    /// A small station: path, bytes, days since it was written.
    const STATION: &[(&str, usize, i64)] = &[
        ("hydrophone/north/2035.wav", 40_000, 900),
        ("hydrophone/north/2041.wav", 40_000, 2),
        ("hydrophone/calibration/tone.wav", 40_000, 900),
        ("logs/buoy.log", 9_000, 1),
        ("logs/buoy.log.1", 9_000, 40),
        ("logs/buoy.log.2", 9_000, 80),
        ("incoming/core.2464", 90_000, 61),
        ("incoming/empty", 0, 400),
    ];

    fn station() -> (tempfile::TempDir, Scan) {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        for (path, size, days) in STATION {
            let path = root.join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(&path, vec![1; *size]).unwrap();
            let written = rustix::fs::Timespec { tv_sec: NOW.sec - days * 86_400, tv_nsec: 0 };
            let times = rustix::fs::Timestamps { last_access: written, last_modification: written };
            let flags = rustix::fs::AtFlags::empty();
            rustix::fs::utimensat(rustix::fs::CWD, &path, &times, flags).unwrap();
        }
        std::os::unix::fs::symlink("north", root.join("hydrophone/link.wav")).unwrap();
        let options = Options { threads: 1, ..Options::new(NOW) };
        let mut scan = Scan::start(std::slice::from_ref(&root), &options).unwrap();
        scan.wait();
        (directory, scan)
    }

    /// Which file each rule takes, as `rule path`.
    fn taken(scan: &Scan, text: &str) -> (Vec<String>, TryOut) {
        let rules = RuleSet::parse(Path::new("rules.toml"), text, &Few).unwrap();
        let catalog = scan.catalog();
        let root = &catalog.roots()[0];
        let tried = rules.matches(&catalog, root.entry, &Few);
        let line = |found: &Match| {
            let below = found.path.strip_prefix(&root.path).unwrap();
            format!("{} {}", rules.rules[found.rule].title, below.display())
        };
        (tried.matches.iter().map(line).collect(), tried)
    }

    #[test]
    fn rules_take_what_they_say_and_nothing_else() {
        let (_directory, scan) = station();
        let cases: &[(&str, &[&str])] = &[
            (
                "name = \"*.wav\"",
                &[
                    "r hydrophone/calibration/tone.wav",
                    "r hydrophone/north/2035.wav",
                    "r hydrophone/north/2041.wav",
                ],
            ),
            (
                "name = \"*.wav\"\nolder = \"1 y\"\nunder = \"hydrophone/north\"",
                &["r hydrophone/north/2035.wav"],
            ),
            (
                "name = \"hydrophone/*/20*.wav\"",
                &["r hydrophone/north/2035.wav", "r hydrophone/north/2041.wav"],
            ),
            ("name = \"hydrophone/*.wav\"", &[]),
            ("name = \"**/*.{1,2}\"", &["r logs/buoy.log.1", "r logs/buoy.log.2"]),
            ("name = [\"core.*\", \"*.log\"]", &["r incoming/core.2464", "r logs/buoy.log"]),
            (
                "older = \"60 d\"\nlarger = \"40 kB\"",
                &[
                    "r hydrophone/calibration/tone.wav",
                    "r hydrophone/north/2035.wav",
                    "r incoming/core.2464",
                ],
            ),
            ("older = \"62 d\"\nunder = \"incoming\"", &["r incoming/empty"]),
            ("larger = \"0\"\nunder = \"nowhere\"", &[]),
            ("older = \"1 y\"\nprotect = [\"hydrophone\"]", &["r incoming/empty"]),
            ("is = \"empty\"", &["r incoming/empty"]),
            ("kind = [\"audio\"]\nnewer = \"7 d\"", &["r hydrophone/north/2041.wav"]),
            (
                "family = \"buoy.log\"\nlens = \"not newer:30d\"",
                &["r logs/buoy.log.1", "r logs/buoy.log.2"],
            ),
            ("lens = \"under:incoming not is:empty\"", &["r incoming/core.2464"]),
        ];
        for (body, expected) in cases {
            let text = format!("[[rule]]\ntitle = \"r\"\naction = \"delete\"\n{body}\n");
            assert_eq!(taken(&scan, &text).0, *expected, "{body}");
        }
    }

    #[test]
    fn the_first_rule_that_matches_takes_and_the_others_are_counted() {
        let (_directory, scan) = station();
        let text = r#"
            protect = ["hydrophone/calibration/tone.wav"]
            [[rule]]
            title = "rotated"
            action = "archive"
            name = "buoy.log.*"
            [[rule]]
            title = "old"
            action = "set-aside"
            older = "70 d"
        "#;
        let (lines, tried) = taken(&scan, text);
        let expected = [
            "old hydrophone/north/2035.wav",
            "old incoming/empty",
            "rotated logs/buoy.log.1",
            "rotated logs/buoy.log.2",
        ];
        assert_eq!(lines, expected);
        assert_eq!((tried.taken_before, tried.protected), (vec![0, 1], 1));
    }
}
