//! All that reads what others have written, on the fuzzers' corpus and on damaged forms of it: it ends, in an error or a
//! result, and never in a panic. The fuzzers themselves are in `fuzz/`.
#![allow(missing_docs, clippy::unwrap_used)]

use std::path::{Path, PathBuf};

use fondaco_core::archive::Index;
use fondaco_core::contained::is_contained;
use fondaco_core::lens::{Lens, SystemAccounts};
use fondaco_core::plan::Plan;
use fondaco_core::rule::RuleSet;
use fondaco_core::saved;
use fondaco_core::state::State;

fn corpus(of: &str) -> Vec<(PathBuf, Vec<u8>)> {
    let directory = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus").join(of);
    let files = std::fs::read_dir(&directory).unwrap().map(|entry| entry.unwrap().path());
    let found: Vec<_> = files.map(|path| (path.clone(), std::fs::read(path).unwrap())).collect();
    assert!(!found.is_empty(), "{}", directory.display());
    found
}

/// The same numbers on every run (xorshift).
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize
    }
}

/// Changes, takes out or doubles some bytes.
fn damage(bytes: &[u8], random: &mut Numbers) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    for _ in 0..=(random.next() % 4) {
        let at = random.next() % bytes.len().max(1);
        let to = (at + random.next() % 16).min(bytes.len());
        match random.next() % 4 {
            0 if !bytes.is_empty() => bytes[at] = random.next() as u8,
            1 if !bytes.is_empty() => bytes[at] ^= 1 << (random.next() % 8),
            2 => drop(bytes.drain(at..to)),
            _ => {
                let part = bytes[at..to].to_vec();
                bytes.splice(at..at, part);
            }
        }
    }
    bytes
}

/// Reads each file of a corpus, and damaged forms of it.
fn read_all(of: &str, damaged: usize, read: impl Fn(&[u8])) {
    let mut random = Numbers(0x5EA_3A2C);
    for (_, bytes) in corpus(of) {
        read(&bytes);
        for _ in 0..damaged {
            read(&damage(&bytes, &mut random));
        }
    }
}

#[test]
fn a_lens_rules_a_plan_an_index_and_settings_are_read_or_refused() {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    read_all("lens", 4000, |bytes| {
        let text = text(bytes);
        if let Err(error) = Lens::parse(&text, &SystemAccounts) {
            assert!(error.at.start <= text.len(), "{text:?}");
        }
    });
    read_all("rules", 2000, |bytes| {
        let _ = RuleSet::parse(Path::new("rules.toml"), &text(bytes), &SystemAccounts);
    });
    read_all("plan", 2000, |bytes| {
        let _ = Plan::read(bytes);
        // the same as the lines of a packed one
        let _ = Plan::read(zstd::encode_all(bytes, 1).unwrap().as_slice());
    });
    read_all("index", 2000, |bytes| {
        let _ = Index::parse(bytes);
    });
    let home = tempfile::tempdir().unwrap();
    State::open(home.path()).unwrap();
    read_all("settings", 500, |bytes| {
        std::fs::write(home.path().join("settings.toml"), bytes).unwrap();
        let _ = State::open(home.path());
    });
}

#[test]
fn a_saved_scan_is_opened_or_refused() {
    let hook = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !is_contained() {
            hook(panic);
        }
    }));
    let home = tempfile::tempdir().unwrap();
    let path = home.path().join("1.parquet");
    for (name, bytes) in corpus("saved") {
        std::fs::write(&path, &bytes).unwrap();
        let is_whole = !name.ends_with("counts-to-billions");
        assert_eq!(saved::open_file(&path).is_ok(), is_whole, "{}", name.display());
        let mut random = Numbers(0x5EA_3A2C);
        for _ in 0..if is_whole { 1500 } else { 0 } {
            std::fs::write(&path, damage(&bytes, &mut random)).unwrap();
            let _ = saved::open_file(&path);
            let _ = saved::about(&path);
        }
    }
}
