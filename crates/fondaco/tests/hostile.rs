//! Bytes that could drive a terminal, in everything that the program reads: none of them comes out raw.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use common::{FONDACO, Ran};

/// What a terminal would act on: an escape sequence, C1, DEL, a bidirectional override, a zero-width sign, a bell.
const EVIL: &str = "\u{1b}]0;evil\u{7}\u{9b}31m\u{7f}\u{202e}\u{200b}";

struct Place {
    _directory: tempfile::TempDir,
    home: PathBuf,
}

impl Place {
    fn new() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        std::fs::create_dir(home.join("tree")).unwrap();
        std::fs::write(home.join("tree/a.log"), b"x").unwrap();
        std::fs::write(home.join(format!("tree/{EVIL}")), b"x").unwrap();
        Self { _directory: directory, home }
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        let mut command = Command::new(FONDACO);
        command.arg("--state").arg(self.home.join("state")).args(arguments);
        Ran(command.current_dir(&self.home).output().unwrap())
    }

    fn write(&self, name: &str, text: &str) -> String {
        let path = self.home.join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
        std::fs::set_permissions(&path, PermissionsExt::from_mode(0o600)).unwrap();
        path.to_str().unwrap().to_owned()
    }
}

fn is_clean(text: &str) -> bool {
    !text
        .chars()
        .any(|c| c != '\n' && (c.is_control() || fondaco_core::shown::drives_a_terminal(c)))
}

fn clean(ran: &Ran, what: &str) {
    for text in [ran.out(), ran.err()] {
        assert!(is_clean(&text), "{what}: {text:?}");
    }
    assert!(!String::from_utf8_lossy(&ran.0.stderr).contains("panicked"), "{what}: {}", ran.err());
}

#[test]
fn nothing_that_others_wrote_reaches_the_terminal_or_a_file_as_it_is() {
    let place = Place::new();
    let state = place.home.join("state");
    // names, in every document and table
    let tree = place.home.join("tree");
    let tree = tree.to_str().unwrap();
    let evil = place.home.join(format!("tree/{EVIL}"));
    let evil = evil.to_str().unwrap();
    let (plan, depot) = (place.home.join("plan.json"), place.home.join("depot"));
    let (plan, depot) = (plan.to_str().unwrap(), depot.to_str().unwrap());
    for arguments in [
        &["directories", tree][..],
        &["directories", tree, "--json"],
        &["files", tree, "--csv"],
        &["scan", tree, "--save", "--json"],
        &["plan", "--archive", evil, "--depot", depot, "-o", plan],
        &["plan", "--archive", evil, "--json"],
        &["carry-out", plan, "--rehearse"],
        &["carry-out", plan],
        &["journal", "1"],
        &["journal", "1", "--json"],
        &["put-back", "1"],
        &["scans", "export", "1", "out.jsonl"],
        &["scans", "export", "1", "out.csv"],
    ] {
        let ran = place.fondaco(arguments);
        clean(&ran, &format!("{arguments:?}"));
        assert_eq!(ran.code(), 0, "{arguments:?}: {}", ran.err());
    }
    let index = std::fs::read_dir(depot).unwrap().map(|entry| entry.unwrap().path());
    let index = index.filter(|path| path.extension().is_some_and(|ending| ending == "json"));
    let written = ["plan.json", "out.jsonl", "out.csv"].map(|name| place.home.join(name));
    for file in written.into_iter().chain(index) {
        let text = std::fs::read_to_string(&file).unwrap();
        assert!(text.contains("202e") && is_clean(&text), "{file:?}: {text:?}");
    }

    // arguments, and what is wrong with them
    for arguments in [
        &["scan", EVIL][..],
        &["scan", tree, EVIL],
        &[EVIL],
        &["plan", "--delete", EVIL],
        &["plan", "--rules", EVIL, tree],
        &["directories", tree, "--columns", EVIL],
        &["directories", tree, "--lens", EVIL],
        &["directories", tree, "--lens", &format!("kind:{EVIL}")],
        &["scans", "export", "1", &format!("{EVIL}.nonsense")],
        &["--saved", EVIL],
        &["scan", tree, "--larger", EVIL],
        &["scan", tree, "--exclude", &format!("[{EVIL}")],
    ] {
        let ran = place.fondaco(arguments);
        clean(&ran, &format!("{arguments:?}"));
        assert_ne!(ran.code(), 101, "{arguments:?}");
    }

    // documents: plans, rule files, settings, saved scans, the journal
    let escaped = EVIL.chars().map(|c| format!("\\u{:04x}", c as u32)).collect::<String>();
    for text in [
        format!(r#"{{"fondaco":1,"kind":"{escaped}"}}"#),
        format!(r#"{{"fondaco":1,"kind":"plan","{escaped}":1}}"#),
        format!(
            r#"{{"fondaco":1,"kind":"plan","id":"x","machine":"{escaped}","created":"x","actions":[]}}"#
        ),
        format!(r#"{{"fondaco":1,"kind":"plan{EVIL}"#),
    ] {
        let file = place.write("evil.json", &text);
        clean(&place.fondaco(&["carry-out", &file]), &text);
        clean(&place.fondaco(&["carry-out", &file, "--rehearse"]), &text);
    }
    for text in [
        format!("[[rule]]\ntitle = \"{escaped}\"\naction = \"{escaped}\"\n"),
        format!("[[rule]]\n\"{escaped}\" = 1\n"),
        format!("[[rule]]\ntitle = \"x\"\naction = \"delete\"\nlens = \"kind:{escaped}\"\n"),
        format!("[[rule]]\ntitle = \"x{EVIL}\n"),
        format!("[[rule]]\ntitle = \"{escaped}\"\naction = \"delete\"\nname = [\"*\"]\n"),
    ] {
        let file = place.write("evil.toml", &text);
        clean(&place.fondaco(&["plan", "--rules", &file, tree]), &text);
    }
    let saved = place.write("evil.parquet", &format!("PAR1{EVIL}PAR1"));
    clean(&place.fondaco(&["directories", "--saved", &saved]), "a saved scan");
    std::fs::write(state.join("settings.toml"), format!("\"{escaped}\" = 1\n# {EVIL}\n")).unwrap();
    clean(&place.fondaco(&["volumes"]), "settings");
    clean(&place.fondaco(&["journal"]), "settings");
    std::fs::remove_file(state.join("settings.toml")).unwrap();
    let run = place.fondaco(&["journal", "1", "--json"]).ok().json();
    damage_the_journal(&state.join("journal.db"), run["begun"].as_str().unwrap());
    clean(&place.fondaco(&["journal"]), "the journal");
    clean(&place.fondaco(&["journal", "1"]), "an entry of the journal");
}

/// Makes texts in the journal what a damaged device, or somebody who can write to it, could make of them: when the run was
/// begun, and how its actions stand where that is not compressed.
fn damage_the_journal(path: &Path, begun: &str) {
    let mut database = std::fs::read(path).unwrap();
    let evil = "\u{1b}]0;x\u{7}".as_bytes();
    let mut damage = |word: &[u8]| {
        let windows = database.windows(word.len()).enumerate();
        let places: Vec<usize> =
            windows.filter(|(_, window)| *window == word).map(|(at, _)| at).collect();
        for at in &places {
            database[*at..at + evil.len()].copy_from_slice(evil);
        }
        places.len()
    };
    assert!(damage(begun.as_bytes()) > 0, "when the run was begun is in it");
    damage(b"put back");
    std::fs::write(path, database).unwrap();
}

/// Failing output, no random numbers, a limit of file sizes: an error with a message, and the journal settles the rest.
#[test]
fn what_the_system_refuses_the_program_itself_is_an_error_with_a_message() {
    let place = Place::new();
    let a = place.home.join("tree/a.log");
    let plan = place.home.join("plan.json");
    let (a, plan) = (a.to_str().unwrap(), plan.to_str().unwrap());
    place.fondaco(&["plan", "--set-aside", a, "-o", plan]).ok();
    let shell = |script: &str| {
        let state = place.home.join("state");
        let script = script.replace("FONDACO", &format!("{FONDACO} --state {}", state.display()));
        Ran(Command::new("sh").args(["-c", &script]).current_dir(&place.home).output().unwrap())
    };
    // cut off, then told of to nobody
    let killed = shell(&format!(
        "strace -f -qq -o /dev/null -e trace=fsync -e inject=fsync:signal=SIGKILL:when=4 FONDACO carry-out {plan}"
    ));
    assert_ne!(killed.code(), 0);
    let told = shell("FONDACO journal 2>/dev/full");
    assert_eq!(told.code(), 0, "{}", told.out());
    let told = shell("FONDACO journal >/dev/full");
    assert_eq!(told.code(), 1);
    assert!(told.err().contains("No space left"), "{}", told.err());
    // the loader closes the libraries first
    for inject in ["getrandom:error=EIO", "close:error=EIO:when=9+", "clone3:error=ENOMEM"] {
        let call = inject.split(':').next().unwrap();
        let ran = shell(&format!(
            "strace -f -qq -o /dev/null -e trace={call} -e inject={inject} FONDACO plan --delete {a}"
        ));
        assert!([0, 1].contains(&ran.code()), "{inject}: {} {}", ran.code(), ran.err());
        assert!(ran.code() == 0 || ran.err().contains("fondaco: "), "{inject}: {}", ran.err());
    }
    // a block of 512 bytes is less than any plan has
    let limited = shell(&format!("ulimit -f 1; FONDACO plan --delete {a} -o small.json"));
    assert_eq!(limited.code(), 1, "{}", limited.err());
    assert!(limited.err().contains("File too large"), "{}", limited.err());
    assert!(Path::new(a).exists() && !place.home.join("small.json").exists());
}
