//! The program without the screen.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::HashMap;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::process::{Command, Stdio};

use common::{Demo, FONDACO, Ran, differences, picture};
use serde_json::Value;

const RULES: &str = r#"
protect = ["surveys/survey-2040.raw"]

[[rule]]
title = "crash dumps and partial downloads"
under = "incoming"
name = ["core.*", "*.part"]
older = "30 d"
action = "delete"

[[rule]]
title = "old surveys"
under = ["surveys"]
name = "*.raw"
older = "1 y"
larger = "1 MiB"
action = "archive"

[[rule]]
title = "old recordings"
name = "hydrophone/*/*/*.wav"
older = "4 y"
action = "set-aside"
protect = ["hydrophone/calibration"]
"#;

fn plan_by_rules(demo: &Demo, rules: &str) -> (Ran, String) {
    let (file, plan) = (demo.at.join("rules.toml"), demo.at.join("plan.json"));
    std::fs::write(&file, rules).unwrap();
    let (file, plan) = (file.to_str().unwrap().to_owned(), plan.to_str().unwrap().to_owned());
    let ran = demo.fondaco(&["plan", "--rules", &file, &demo.path(""), "-o", &plan]);
    (ran, plan)
}

#[test]
fn a_rule_is_tried_rehearsed_and_carried_out_and_put_back_without_the_screen() {
    let demo = Demo::new();
    let before = picture(&demo.root());
    assert!(demo.level() > 0.9);
    let (planned, plan) = plan_by_rules(&demo, RULES);
    let text = planned.ok().out();
    assert!(text.contains("rule: old surveys") && text.contains("set aside"), "{text}");

    let rehearsed = demo.fondaco(&["carry-out", &plan, "--rehearse"]).ok();
    assert!(rehearsed.out().contains("nothing changed"), "{}", rehearsed.out());
    assert_eq!(differences(&before, &picture(&demo.root()), &[]), [] as [&Path; 0]);

    let run = demo.fondaco(&["carry-out", &plan, "--json"]).ok().json();
    let actions = run["actions"].as_array().unwrap();
    let count = |state: &str| actions.iter().filter(|action| action["state"] == state).count();
    assert_eq!((count("deleted"), count("archived")), (2, 2));
    assert_eq!(count("set aside") + 4, actions.len());
    assert!(demo.root().join("surveys/survey-2040.raw").exists(), "it is protected");
    assert!(!demo.root().join("surveys/survey-2038.raw").exists());
    assert_eq!(run["freed"], run["forecast"]["now"]);
    // the holding area's own directories take room on the volume
    let missing = run["freed"].as_i64().unwrap() - run["measured"].as_i64().unwrap();
    assert!((0..=64 << 10).contains(&missing), "{missing}");

    let again = demo.fondaco(&["carry-out", &plan]);
    assert_eq!(again.code(), 1);
    assert!(again.err().contains("already been carried out, as run 1"), "{}", again.err());

    let journal = demo.fondaco(&["journal", "--json"]).ok().json();
    assert_eq!(journal["runs"][0]["counts"]["archived"], 2);
    let purged_later = demo.fondaco(&["put-back", "1", "--json"]).ok().json();
    assert_eq!(purged_later["actions"].as_array().unwrap().len(), actions.len() - 2);
    let gone = ["incoming/core.2464", "incoming/bathymetry.zip.part"].map(|p| demo.root().join(p));
    let different = differences(&before, &picture(&demo.root()), &gone);
    assert_eq!(different, [demo.root().join("incoming")], "only what held the deleted differs");
    demo.fondaco(&["put-back", "1"]).ok();
}

#[test]
fn set_aside_frees_nothing_until_it_is_purged() {
    let demo = Demo::new();
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let backups = demo.path("backups");
    demo.fondaco(&["plan", "--set-aside", &backups, "-o", &plan]).ok();
    let before = demo.level();
    let run = demo.fondaco(&["carry-out", &plan, "--json"]).ok().json();
    assert_eq!(run["freed"], 0);
    assert!(demo.level() >= before && !demo.root().join("backups").exists());
    let purged = demo.fondaco(&["journal", "1", "--purge", "--json"]).ok().json();
    assert_eq!(purged["freed"], run["forecast"]["later"]);
    assert!(demo.level() < before - 0.04);
    let late = demo.fondaco(&["put-back", "1", "1"]);
    assert_eq!(late.code(), 3);
    assert!(late.out().contains("it is purged"), "{}", late.out());
}

#[test]
fn scan_and_directories_say_what_a_plain_walk_says() {
    let demo = Demo::new();
    std::fs::write(demo.root().join(std::ffi::OsStr::from_bytes(b"bad\xff")), b"x").unwrap();
    let mut kinds: HashMap<&str, u64> = HashMap::new();
    let (mut blocks, mut apparent) = (HashMap::new(), HashMap::new());
    let mut open = vec![demo.root()];
    while let Some(path) = open.pop() {
        let meta = path.symlink_metadata().unwrap();
        let kind = match meta.file_type() {
            t if t.is_dir() => "directories",
            t if t.is_file() => "files",
            _ => "links",
        };
        *kinds.entry(kind).or_default() += 1;
        blocks.insert(meta.ino(), meta.blocks() * 512);
        apparent.insert(meta.ino(), meta.size());
        if meta.is_dir() {
            open.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
    }
    let scan = demo.fondaco(&["scan", &demo.path(""), "--json"]).ok().json();
    let root = &scan["roots"][0];
    for kind in ["files", "directories", "links"] {
        assert_eq!(root[kind], kinds[kind], "{kind}");
    }
    assert_eq!(root["entries"], kinds.values().sum::<u64>());
    assert_eq!(root["allocated"], blocks.values().sum::<u64>());
    assert_eq!(root["apparent"], apparent.values().sum::<u64>());
    assert_eq!(scan["kind"], "scan");

    let all = demo.fondaco(&["directories", &demo.path(""), "--json"]).ok().json();
    let sizes = |of: &Value| -> Vec<u64> {
        let children = of["children"].as_array().unwrap();
        children.iter().map(|child| child["allocated"].as_u64().unwrap()).collect()
    };
    assert!(sizes(&all).is_sorted_by(|a, b| a >= b) && all.get("tail").is_none());
    let top = demo.fondaco(&["directories", &demo.path(""), "--top", "3", "--json"]).ok().json();
    let rest: u64 = sizes(&all)[3..].iter().sum();
    assert_eq!((&top["tail"]["allocated"], sizes(&top).len()), (&Value::from(rest), 3));
    let children = all["children"].as_array().unwrap();
    let odd = children.iter().find(|c| c["name"] == "bad\\xff").unwrap();
    assert_eq!(odd["path"], format!("{}\\xff", demo.path("bad")));
    assert!(odd["path_bytes"].is_string());

    let below = demo.fondaco(&["directories", &demo.path(""), "--in", "incoming"]).ok();
    assert!(below.out().contains("\\x1b[31mred") && !below.out().contains('\x1b'));
}

#[test]
fn bad_input_is_told_clearly_and_exit_codes_tell_it_apart() {
    let demo = Demo::new();
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let cases: [(&[&str], i32, &str); 9] = [
        (&["scan"], 2, "required"),
        (&["scan", "/no/such/place"], 1, "there is no /no/such/place"),
        (&["scan", "/etc/passwd"], 1, "is not a directory"),
        (&["carry-out", "/no/plan"], 1, "cannot read the plan /no/plan"),
        (&["carry-out", "/etc/passwd"], 1, "not a plan"),
        (&["plan"], 1, "nothing to plan"),
        (&["plan", "--delete", "/etc/passwd"], 3, "protected"),
        (&["put-back", "7"], 1, "the journal has no run 7"),
        (&["--state", "/dev/null", "journal"], 1, "state directory /dev/null cannot be used"),
    ];
    for (arguments, code, words) in cases {
        let ran = demo.fondaco(arguments);
        assert_eq!(ran.code(), code, "{arguments:?}: {}", ran.err());
        assert!(ran.err().contains(words), "{arguments:?}: {}", ran.err());
        assert!(!ran.err().contains("panicked"), "{}", ran.err());
    }
    let (bad, _) = plan_by_rules(&demo, &RULES.replace("1 MiB", "1 herring"));
    assert_eq!(bad.code(), 1);
    assert!(
        bad.err().contains("line 16, column 10") && bad.err().contains("a size"),
        "{}",
        bad.err()
    );

    demo.fondaco(&["plan", "--delete", &demo.path("incoming/READY"), "-o", &plan]).ok();
    std::fs::write(demo.root().join("incoming/READY"), "not empty any more").unwrap();
    for arguments in [&["carry-out", &plan, "--rehearse"][..], &["carry-out", &plan]] {
        let refused = demo.fondaco(arguments);
        assert_eq!(refused.code(), 3, "{}", refused.err());
        assert!(refused.out().contains("changed since it was reviewed"), "{}", refused.out());
    }
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(&plan, PermissionsExt::from_mode(0o666)).unwrap();
    let exposed = demo.fondaco(&["carry-out", &plan]);
    assert_eq!(exposed.code(), 1);
    assert!(exposed.err().contains("others could have written it"), "{}", exposed.err());
    std::fs::set_permissions(&plan, PermissionsExt::from_mode(0o600)).unwrap();
    let other = std::fs::read_to_string(&plan).unwrap().replace("\"fondaco\": 1", "\"fondaco\": 9");
    std::fs::write(&plan, other).unwrap();
    let version = demo.fondaco(&["carry-out", &plan]);
    assert_eq!(version.code(), 1);
    assert!(version.err().contains("version 9"), "{}", version.err());
}

#[test]
fn a_demo_is_laid_out_the_same_every_time_and_only_in_its_own_directory() {
    let (one, two) = (Demo::new(), Demo::new());
    let names = |demo: &Demo| -> Vec<_> {
        let picture = picture(&demo.root());
        let below = |path: &Path| path.strip_prefix(demo.root()).unwrap().to_owned();
        // times move with the clock: everything else must be the same
        let plain = |what: &str| {
            what.split(' ')
                .enumerate()
                .filter(|(i, _)| *i != 3)
                .map(|(_, part)| part.to_owned())
                .collect::<Vec<_>>()
        };
        picture.iter().map(|(path, seen)| (below(path), plain(&seen.what), seen.blocks)).collect()
    };
    assert_eq!(names(&one), names(&two));
    let allocated = one.level() * 284.0;
    assert!((240.0..270.0).contains(&allocated), "{allocated} MiB");
    std::fs::remove_dir_all(one.root().join("backups")).unwrap();
    one.fondaco(&["demo", "--lay-out", "--reset", "--at", one.at.to_str().unwrap()]).ok();
    assert_eq!(names(&one), names(&two));

    let foreign = tempfile::tempdir().unwrap();
    std::fs::write(foreign.path().join("precious"), b"x").unwrap();
    for reset in [&[][..], &["--reset"]] {
        let mut arguments = vec!["demo", "--lay-out", "--at", foreign.path().to_str().unwrap()];
        arguments.extend(reset);
        let refused = one.fondaco(&arguments);
        assert_eq!(refused.code(), 1);
        assert!(refused.err().contains("holds no demo"), "{}", refused.err());
    }
    assert_eq!(std::fs::read_dir(foreign.path()).unwrap().count(), 1);
}

#[test]
fn manual_completions_and_a_reader_that_leaves_early() {
    let demo = Demo::new();
    let manual = demo.fondaco(&["manual"]).ok().out();
    assert!(manual.contains("fondaco carry-out") && manual.contains("scan again"), "{manual}");
    assert!(manual.contains("Exit codes"));
    for shell in ["bash", "zsh", "fish"] {
        assert!(demo.fondaco(&["completions", shell]).ok().out().contains("put-back"));
    }
    let mut many = Command::new(FONDACO)
        .args(["directories", "/usr/bin"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(many.stdout.take());
    let words = many.wait_with_output().unwrap();
    assert!(!String::from_utf8_lossy(&words.stderr).contains("panicked"));
}

#[test]
fn every_json_document_has_the_keys_that_are_promised() {
    let demo = Demo::new();
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let (cameras, notes) = (demo.path("cameras"), demo.path("home/acoustics/notes.txt"));
    let keys = |value: &Value| -> Vec<String> {
        value.as_object().unwrap_or_else(|| panic!("{value}")).keys().cloned().collect()
    };
    let made = demo
        .fondaco(&["plan", "--archive", &cameras, "--delete", &notes, "-o", &plan, "--json"])
        .ok()
        .json();
    assert_eq!(keys(&made), ["fondaco", "kind", "id", "machine", "created", "protect", "actions"]);
    let written: Value = serde_json::from_slice(&std::fs::read(&plan).unwrap()).unwrap();
    assert_eq!(written, made, "what is shown is what is kept");
    let [delete, archive] = &made["actions"].as_array().unwrap()[..] else { panic!("{made}") };
    assert_eq!((&delete["do"], &archive["do"]), (&"delete".into(), &"archive".into()));
    assert!(archive["depot"].is_string() && archive["target"]["digest"].is_string());
    assert_eq!(
        keys(&delete["target"]),
        [
            "path",
            "device",
            "inode",
            "kind",
            "size",
            "mtime",
            "ctime",
            "links",
            "entries",
            "allocated"
        ]
    );
    assert_eq!(delete["volume"], demo.root().to_str().unwrap());

    let rehearsal = demo.fondaco(&["carry-out", &plan, "--rehearse", "--json"]).ok().json();
    assert_eq!(keys(&rehearsal), ["fondaco", "kind", "plan", "findings", "frees", "warnings"]);
    assert_eq!(rehearsal["plan"], made["id"]);
    let run = demo.fondaco(&["carry-out", &plan, "--json"]).ok().json();
    let expected =
        ["fondaco", "kind", "run", "plan", "state", "forecast", "freed", "measured", "actions"];
    assert_eq!(keys(&run), expected);
    let journal = demo.fondaco(&["journal", "--json"]).ok().json();
    let expected = ["run", "plan", "state", "begun", "ended", "forecast", "measured", "counts"];
    assert_eq!(keys(&journal["runs"][0]), expected);
    let one = demo.fondaco(&["journal", "1", "--json"]).ok().json();
    assert_eq!((&one["kind"], &one["actions"]), (&"journal-run".into(), &run["actions"]));
    assert!(one["actions"][1]["archive"].is_string());
    let back = demo.fondaco(&["put-back", "1", "--json"]).ok().json();
    assert_eq!(keys(&back), ["fondaco", "kind", "run", "freed", "actions"]);
    assert_eq!(back["actions"][0]["state"], "put back");
    let late = demo.fondaco(&["put-back", "1", "1", "--json"]);
    assert_eq!((late.code(), &late.json()["actions"][0]["refused"]), (3, &"it is deleted".into()));
}

#[test]
fn a_signal_stops_a_run_at_a_safe_point_and_the_journal_finishes_it() {
    let demo = Demo::new();
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let mut arguments = vec!["plan".to_owned(), "-o".into(), plan.clone()];
    for day in std::fs::read_dir(demo.root().join("tide-gauges/skerry/2041")).unwrap() {
        let path = day.unwrap().path().to_str().unwrap().to_owned();
        arguments.extend(["--delete".to_owned(), path]);
    }
    demo.fondaco(&arguments.iter().map(String::as_str).collect::<Vec<_>>()).ok();
    let count = || std::fs::read_dir(demo.root().join("tide-gauges/skerry/2041")).unwrap().count();
    let all = count();
    assert!(all > 300);
    let mut run = Command::new(FONDACO)
        .env("FONDACO_STATE", demo.at.join("state"))
        .args(["carry-out", &plan])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    while count() == all {
        std::thread::sleep(std::time::Duration::from_millis(1));
    }
    Command::new("kill").args(["-INT", &run.id().to_string()]).status().unwrap();
    let code = run.wait().unwrap().code();
    let journal = demo.fondaco(&["journal", "--json"]).ok().json();
    let counts = &journal["runs"][0]["counts"];
    let left = counts["not begun"].as_u64().unwrap_or(0);
    assert_eq!(counts["deleted"].as_u64().unwrap() + left, all as u64);
    assert_eq!(count() as u64, left, "the journal and the directory agree");
    if left > 0 {
        assert_eq!((code, journal["runs"][0]["state"].as_str()), (Some(1), Some("stopped")));
        let finished = demo.fondaco(&["journal", "1", "--finish"]).ok();
        assert!(finished.out().contains("Run 2 done"), "{}", finished.out());
    }
    assert_eq!(count(), 0);
    let again = demo.fondaco(&["journal", "1", "--finish"]);
    assert_eq!(again.code(), 1);
    assert!(again.err().contains("has nothing left to begin"), "{}", again.err());
}

#[test]
fn given_twice_nested_or_protected_targets_are_resolved_and_said() {
    let demo = Demo::new();
    let (kit, manuals) = (demo.path("field-kits/kit-a"), demo.path("field-kits/kit-a/manuals"));
    let linked = demo.path("field-kits/kit-a linked");
    let nested = demo.fondaco(&["plan", "--delete", &manuals, "--delete", &kit]).ok();
    assert!(nested.err().contains("takes in 1 planned below it"), "{}", nested.err());
    assert!(nested.out().contains("1 action"), "{}", nested.out());
    let inside = demo.fondaco(&["plan", "--delete", &kit, "--archive", &manuals]).ok();
    assert!(inside.err().contains("goes with"), "{}", inside.err());
    // two directories that share all their inodes: one alone frees next to nothing, both free all
    let frees = |arguments: &[&str]| {
        let plan = demo.fondaco(&[&["plan", "--json"], arguments].concat()).ok().json();
        let actions = plan["actions"].as_array().unwrap().clone();
        actions.iter().map(|a| a["frees"]["now"].as_u64().unwrap()).sum::<u64>()
    };
    let (one, both) =
        (frees(&["--delete", &linked]), frees(&["--delete", &linked, "--delete", &kit]));
    assert!(one < 64 << 10 && both > 8 << 20, "{one} {both}");
    let root = demo.path("");
    let depot = demo.at.join("depot");
    for protected in
        [root.trim_end_matches('/'), depot.to_str().unwrap(), demo.at.to_str().unwrap()]
    {
        let refused = demo.fondaco(&["plan", "--delete", protected]);
        assert_eq!(refused.code(), 3, "{protected}");
        assert!(refused.err().contains("protected"), "{}", refused.err());
    }
}
