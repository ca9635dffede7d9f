//! The program without the screen.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::HashMap;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::os::unix::fs::PermissionsExt;
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
fn the_journal_reads_the_same_for_people_and_programs_and_undoes_what_it_can() {
    let demo = Demo::new();
    assert_eq!(demo.fondaco(&["journal"]).ok().out(), "No run yet: the journal is empty.\n");
    let before = picture(&demo.root());
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let [aside, gone, archived, changed] =
        ["backups/weekly-4", "incoming/core.2464", "chart-tiles/6", "surveys"]
            .map(|p| demo.path(p));
    let depot = demo.at.join("depot").to_str().unwrap().to_owned();
    let deeds = ["--set-aside", &aside, "--delete", &gone, "--archive", &archived, "--archive"];
    demo.fondaco(&[&["plan", "-o", &plan, "--depot", &depot], &deeds[..], &[&changed]].concat())
        .ok();
    std::fs::write(demo.root().join("surveys/new.raw"), "came after the review").unwrap();
    assert_eq!(demo.fondaco(&["carry-out", &plan]).code(), 3);

    let run = demo.fondaco(&["journal", "1", "--json"]).ok().json();
    let read = demo.fondaco(&["journal", "1"]).ok().out();
    let actions = run["actions"].as_array().unwrap();
    assert_eq!(actions.len(), 4);
    for action in actions {
        let told = ["state", "path", "message"].map(|key| action[key].as_str().unwrap());
        let begins = format!("{:>5}  {}", action["number"].as_u64().unwrap(), told[0]);
        let at = read.lines().position(|line| line.starts_with(&begins)).unwrap();
        let lines: String = read.lines().skip(at).take(2).collect();
        assert!(told.iter().all(|part| lines.contains(part)), "{told:?} in {read}");
        let in_archive = action["archive"].as_str().is_none_or(|file| lines.contains(file));
        assert!(in_archive, "{action} in {read}");
    }
    let list = demo.fondaco(&["journal"]).ok().out();
    let counts = "1 archived, 1 deleted, 1 refused, 1 set aside";
    assert!(list.lines().nth(1).unwrap().ends_with(counts), "{list}");
    let columns = ["journal", "--csv", "--columns", "run,state"];
    assert_eq!(demo.fondaco(&columns).ok().out(), "run,state\n1,done\n");

    assert_eq!(
        demo.fondaco(&["journal", "1", "--undo"]).ok().out().lines().last(),
        Some("2 done, 0 refused")
    );
    // what was deleted is gone, and that is a change of its directory
    let kept = [demo.path("incoming").into(), changed.into()];
    assert_eq!(differences(&before, &picture(&demo.root()), &kept), [] as [&Path; 0]);
    let again = demo.fondaco(&["journal", "1", "--undo"]).ok().out();
    assert!(again.contains("nothing of run 1 can be put back"), "{again}");
    let purged = demo.fondaco(&["journal", "1", "--purge"]).ok().out();
    assert!(purged.contains("run 1 holds nothing that could be purged"), "{purged}");
    for (arguments, reason) in
        [(["1", "--finish"], "nothing left to begin"), (["7", "--undo"], "has no run 7")]
    {
        let ran = demo.fondaco(&[&["journal"], &arguments[..]].concat());
        assert!(ran.code() == 1 && ran.err().contains(reason), "{}", ran.err());
    }
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
    let cases: [(&[&str], i32, &str); 11] = [
        (&["scan"], 2, "required"),
        (&["scan", "/no/such/place"], 1, "there is no /no/such/place"),
        (&["scan", "/etc/passwd"], 1, "is not a directory"),
        (&["carry-out", "/no/plan"], 1, "cannot read the plan /no/plan"),
        (&["carry-out", "/etc/passwd"], 1, "not a plan"),
        (&["plan"], 2, "nothing to plan"),
        (&["journal", "--csv", "--columns", "colour"], 2, "there is no column colour; there are"),
        (&["files", "/etc", "--lens", "owner:rot"], 2, "did you mean root?"),
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
    assert_eq!(bad.code(), 2);
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
    assert!(manual.contains("fondaco carry\\-out") && manual.contains("scan again"), "{manual}");
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
    let expected = [
        "fondaco", "kind", "run", "plan", "state", "forecast", "freed", "measured", "reasons",
        "actions",
    ];
    assert_eq!(keys(&run), expected);
    let journal = demo.fondaco(&["journal", "--json"]).ok().json();
    let expected =
        ["run", "plan", "state", "begun", "ended", "forecast", "measured", "reasons", "counts"];
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
    assert_eq!(counts["deleted"].as_u64().unwrap_or(0) + left, all as u64);
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

#[test]
fn volumes_are_listed_with_what_is_missing_to_their_waterlines() {
    let demo = Demo::new();
    let listed: Value =
        serde_json::from_str(&demo.fondaco(&["volumes", "--json"]).ok().out()).unwrap();
    let listed = listed["volumes"].as_array().unwrap();
    let of = |path: &str| listed.iter().find(|volume| volume["path"] == path).unwrap();
    let root = demo.root().to_str().unwrap().to_owned();
    let sea = of(&root);
    assert_eq!((&sea["class"], &sea["waterline"]), (&"simulated".into(), &80.0.into()));
    assert_eq!(sea["level"], 91.6);
    let [used, free] = ["used", "free_root"].map(|key| sea["capacity"][key].as_u64().unwrap());
    let missing = used - (used + free) * 8 / 10;
    assert!(sea["to_find"].as_u64().unwrap().abs_diff(missing) <= 1, "{sea}");
    // what the system's own tool says of a real one
    let temporary = demo.at.to_str().unwrap();
    let said = Command::new("df").args(["-B1", "--output=target,used,iused", temporary]).output();
    let said = String::from_utf8(said.unwrap().stdout).unwrap();
    let fields: Vec<&str> = said.lines().nth(1).unwrap().split_whitespace().collect();
    let used = of(fields[0])["capacity"]["used"].as_u64().unwrap();
    let near = fields[1].parse::<u64>().unwrap();
    assert!(used.abs_diff(near) < 64 << 20, "{used} beside {near}: others write meanwhile");
    let text = demo.fondaco(&["volumes"]).ok().out();
    let line = text.lines().find(|line| line.ends_with(&root)).unwrap();
    assert!(line.contains("91.6 %") && line.contains("33.0 MiB"), "{line}");
}

#[test]
fn what_rules_try_is_what_is_planned_and_done_and_what_is_due_is_purged() {
    let demo = Demo::new();
    let rules = "[[rule]]\ntitle = \"telemetry, four of each\"\naction = \"delete\"\nkind = \"log\"\nkeep = 4\n\n\
                 [[rule]]\ntitle = \"old runs\"\naction = \"set-aside\"\ntakes = \"directories\"\n\
                 under = \"model-runs\"\nolder = \"120 d\"\npurge_after = \"1 s\"\n\n\
                 [[rule]]\ntitle = \"old recordings\"\naction = \"archive\"\nkind = \"audio\"\nolder = \"1 y\"\n\
                 until = \"waterline\"\nprotect = [\"hydrophone/north-basin/2035\"]\n";
    let (planned, plan) = plan_by_rules(&demo, rules);
    planned.ok();
    let file = demo.at.join("rules.toml").to_str().unwrap().to_owned();
    let tried = demo.fondaco(&["rules", "try", &file, &demo.path(""), "--json"]).ok().json();
    let set = |rows: &Value, path: &str, word: &str| {
        let row = |row: &Value| {
            let word = row[word].as_str().unwrap().replace(' ', "-");
            (row.pointer(path).unwrap().clone().to_string(), word)
        };
        rows.as_array().unwrap().iter().map(row).collect::<std::collections::BTreeSet<_>>()
    };
    let of_trial = set(&tried["entries"], "/path", "action");
    assert!(of_trial.len() > 100 && of_trial.iter().all(|(path, _)| !path.contains("basin/2035")));
    assert!(of_trial.iter().any(|(_, action)| action == "set-aside"), "{of_trial:?}");
    let document: Value = serde_json::from_str(&std::fs::read_to_string(&plan).unwrap()).unwrap();
    assert_eq!(set(&document["actions"], "/target/path", "do"), of_trial);
    let run = demo.fondaco(&["carry-out", &plan, "--json"]).ok().json();
    let done = run["actions"].as_array().unwrap();
    assert!(done.iter().all(|action| {
        ["deleted", "set aside", "archived"].contains(&action["state"].as_str().unwrap())
    }));
    assert_eq!(done.len(), of_trial.len());
    // the directories of the holding area come on top of what was reckoned with
    let held = f64::from(16 << 10) / f64::from(284 << 20);
    assert!(demo.level() <= 0.8 + held, "the last rule stops at the waterline: {}", demo.level());
    let left = std::fs::read_dir(demo.root().join("telemetry/buoy-03")).unwrap().count();
    assert_eq!(left, 4, "generations that stay");

    // a second later what was set aside is due, and nothing else is
    std::thread::sleep(std::time::Duration::from_millis(2100));
    let told = demo.fondaco(&["journal"]).ok();
    assert!(told.err().contains("due to be purged"), "{}", told.err());
    let purged = demo.fondaco(&["journal", "--purge-due"]).ok();
    assert!(purged.out().contains("freed"), "{}", purged.out());
    let run = demo.fondaco(&["journal", "1", "--json"]).ok().json();
    let states: std::collections::BTreeSet<&str> =
        run["actions"].as_array().unwrap().iter().map(|a| a["state"].as_str().unwrap()).collect();
    assert_eq!(states.into_iter().collect::<Vec<_>>(), ["archived", "deleted", "purged"]);
    assert!(
        demo.fondaco(&["journal", "--purge-due"])
            .ok()
            .err()
            .contains("nothing that is held is due")
    );

    // a rule over its limit does nothing until the number is said
    let limited = "[[rule]]\ntitle = \"tables\"\naction = \"delete\"\next = \"csv\"\nat_most = { entries = 9 }\n";
    std::fs::write(&file, limited).unwrap();
    let tried = demo.fondaco(&["rules", "try", &file, &demo.path(""), "--json"]);
    assert_eq!(tried.code(), 3);
    let takes = tried.json()["rules"][0]["takes"]["entries"].to_string();
    let (refused, _) = plan_by_rules(&demo, limited);
    assert_eq!(refused.code(), 2, "an older plan is there");
    let again = |more: &[&str]| {
        let plan = demo.at.join("second").to_str().unwrap().to_owned();
        let root = demo.path("");
        demo.fondaco(&[&["plan", "--rules", &file, &root, "--force", "-o", &plan], more].concat())
    };
    let stopped = again(&[]);
    assert!(stopped.code() == 3 && stopped.err().contains(&format!("--confirm {takes}")));
    let confirmed = again(&["--confirm", &takes]).ok();
    assert!(
        confirmed.out().contains(&format!("{} actions", common::grouped(takes.parse().unwrap())))
    );
    // as many actions are kept packed
    let packed = std::fs::read(demo.at.join("second")).unwrap();
    let count: usize = takes.parse().unwrap();
    assert!(count > 1000 && packed.len() < 150 * count, "{} bytes for {count}", packed.len());
    let rehearsed =
        demo.fondaco(&["carry-out", demo.at.join("second").to_str().unwrap(), "--rehearse"]);
    assert!(rehearsed.ok().out().contains("nothing changed"));
}

#[test]
fn rules_are_checked_shown_and_tried_on_sixty_days() {
    let demo = Demo::with_kept_scans();
    let file = demo.at.join("rules.toml").to_str().unwrap().to_owned();
    let rules = "[[rule]]\ntitle = \"trials\"\naction = \"delete\"\nname = \"trial-*\"\nkeep = 2\n";
    std::fs::write(&file, rules.replace("keep", "kepp")).unwrap();
    let bad = demo.fondaco(&["rules", "check", &file]);
    assert!(bad.code() == 2 && bad.err().contains("line 5, column 1"), "{}", bad.err());
    assert!(bad.err().contains("did you mean `keep`?"));
    std::fs::write(&file, rules).unwrap();
    assert!(demo.fondaco(&["rules", "check", &file]).ok().out().contains("1 rule"));
    let shown = demo.fondaco(&["rules", "show", &file]).ok().out();
    assert!(shown.contains("the 2 newest of each family in its directory stay"), "{shown}");
    let past = demo.fondaco(&["rules", "past", &file, &demo.path(""), "--json"]).ok().json();
    let days = past["days"].as_array().unwrap();
    assert_eq!(days.len(), 60);
    // trials pile up until somebody clears them by hand: all but two of them would have gone
    let most = days.iter().map(|day| day["entries"].as_u64().unwrap()).max().unwrap();
    assert!((10..60).contains(&most), "{most}");
    for day in days {
        let level = |key: &str| day[key].as_f64().unwrap();
        let freed = day["frees"].as_f64().unwrap() / f64::from(284 << 20);
        assert!((level("level") - level("level_with") - freed).abs() < 0.0015, "{day}");
        assert_eq!(day["holds"].as_bool().unwrap(), level("level_with") <= level("waterline"));
    }
    let svg = demo.at.join("past.svg").to_str().unwrap().to_owned();
    demo.fondaco(&["rules", "past", &file, &demo.path(""), "-o", &svg]).ok();
    assert!(std::fs::read_to_string(&svg).unwrap().contains("with the rules"));
    let twice = demo.fondaco(&["rules", "past", &file, &demo.path(""), "-o", &svg]);
    assert_ne!(twice.code(), 0, "nothing is overwritten");
    let none = demo.fondaco(&["rules", "past", &file, &demo.path("surveys")]);
    assert!(none.code() == 1 && none.err().contains("--save keeps one"), "{}", none.err());
}

#[test]
fn a_saved_scan_is_listed_asked_exported_and_forgotten() {
    let demo = Demo::new();
    let json = |arguments: &[&str]| -> Value {
        serde_json::from_str(&demo.fondaco(arguments).ok().out()).unwrap()
    };
    let scanned = json(&["scan", &demo.path(""), "--save", "--json"]);
    assert_eq!(scanned["saved"], 1);
    let before = json(&["directories", &demo.path(""), "--in", "hydrophone", "--json"]);
    std::fs::remove_dir_all(demo.root().join("hydrophone")).unwrap();
    // what was saved still answers, and says from when it is
    let ran = demo.fondaco(&["directories", "--saved", "1", "--in", "hydrophone", "--json"]).ok();
    let after: Value = serde_json::from_str(&ran.out()).unwrap();
    assert_eq!(after["children"], before["children"]);
    assert_eq!(after["scanned"], scanned["scanned"]);
    assert!(ran.err().contains("as scanned 20"), "{}", ran.err());
    let again = json(&["scan", "--saved", "1", "--json"]);
    assert_eq!(again["roots"], scanned["roots"]);

    let list = json(&["scans", "--json"]);
    assert_eq!(list["scans"][0]["entries"], 4248);
    let file = list["scans"][0]["file"].as_str().unwrap().to_owned();
    assert!(demo.fondaco(&["scans"]).ok().out().contains("4 248"));
    assert!(demo.fondaco(&["scan", "--saved", &file]).ok().out().contains("4 248"), "by its file");

    let out = |name: &str| demo.at.join(name).to_str().unwrap().to_owned();
    for name in ["all.csv", "all.jsonl", "all.parquet"] {
        demo.fondaco(&["scans", "export", "1", &out(name)]).ok();
        let twice = demo.fondaco(&["scans", "export", "1", &out(name)]);
        assert_eq!(twice.code(), 1, "what is there is not overwritten");
    }
    let csv = std::fs::read_to_string(out("all.csv")).unwrap();
    assert_eq!(csv.lines().count(), 1 + 4248);
    assert!(csv.contains("\\x1b[31mred") && !csv.contains('\u{1b}'), "names are escaped");
    let lines = std::fs::read_to_string(out("all.jsonl")).unwrap();
    let first: Value = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
    assert_eq!(first["allocated"], scanned["roots"][0]["allocated"]);
    assert_eq!(demo.fondaco(&["scans", "export", "1", &out("all.doc")]).code(), 1);

    let kept = demo.fondaco(&["files", "--saved", "1", "--lens", "is:immutable"]);
    assert!(kept.code() == 2 && kept.err().contains("not kept in a saved scan"), "{}", kept.err());
    demo.fondaco(&["files", "--saved", "1", "--lens", "owner:root"]).ok();

    demo.fondaco(&["scans", "forget", "1"]).ok();
    let gone = demo.fondaco(&["scan", "--saved", "1"]);
    assert!(gone.code() == 1 && gone.err().contains("no saved scan 1"), "{}", gone.err());
    let foreign = demo.fondaco(&["scan", "--saved", &out("all.csv")]);
    assert!(foreign.err().contains("is not a saved scan"), "{}", foreign.err());
}

#[test]
fn another_reader_of_the_format_gets_the_same_numbers_from_a_saved_scan() {
    let readers = Path::new(env!("CARGO_TARGET_TMPDIR")).with_file_name("readers");
    let python = |script: &str| {
        let run = Command::new("python3").env("PYTHONPATH", &readers).args(["-c", script]).output();
        run.map(|output| {
            let text = if output.status.success() { output.stdout } else { output.stderr };
            (output.status.success(), String::from_utf8(text).unwrap())
        })
    };
    if !python("import duckdb").is_ok_and(|(fine, _)| fine) {
        eprintln!("SKIPPED: reading by another implementation: scripts/test installs duckdb");
        return;
    }
    let demo = Demo::new();
    let scanned = demo.fondaco(&["scan", &demo.path(""), "--save", "--json"]).ok().out();
    let scanned: Value = serde_json::from_str(&scanned).unwrap();
    let file = demo.at.join("state/scans/1.parquet");
    let script = format!(
        "import duckdb; q = lambda text: print(*duckdb.sql(text).fetchall()[0])\n\
         scan = \"read_parquet('{}', file_row_number = true)\"\n\
         q(f'select count(*), sum(apparent) filter (links = 1) from {{scan}}')\n\
         q(f\"select count(*) from {{scan}} where kind = 'directory'\")\n\
         q(f\"select count(*) from {{scan}} where name_bytes is not null\")\n\
         q(f\"\"\"with recursive whole as (select file_row_number as row, '' as path from {{scan}}\n\
           where parent is null union all select s.file_row_number, path || '/' || name from\n\
           {{scan}} s join whole on s.parent = whole.row)\n\
           select count(*), max(len(path)) from whole\"\"\")\n",
        file.display()
    );
    let (fine, text) = python(&script).unwrap();
    assert!(fine, "{text}");
    let lines: Vec<&str> = text.lines().collect();
    let root = &scanned["roots"][0];
    let paths: Vec<_> = walk(&demo.root());
    let longest = paths.iter().map(|path| path.to_str().map_or(0, |path| path.chars().count()));
    let above = demo.root().to_str().unwrap().chars().count();
    let single = paths.iter().map(|path| path.symlink_metadata().unwrap());
    let single: u64 = single.filter(|m| m.is_dir() || m.nlink() == 1).map(|m| m.size()).sum();
    assert_eq!(lines[0], format!("4248 {single}"));
    assert_eq!(lines[1], root["directories"].to_string());
    let odd = paths.iter().filter(|path| path.file_name().unwrap().to_str().is_none()).count();
    assert_eq!(lines[2], odd.to_string());
    assert_eq!(lines[3], format!("4248 {}", longest.max().unwrap() - above));
}

/// Everything below a directory, itself included.
fn walk(root: &Path) -> Vec<std::path::PathBuf> {
    let (mut all, mut open) = (Vec::new(), vec![root.to_owned()]);
    while let Some(path) = open.pop() {
        if path.symlink_metadata().unwrap().is_dir() {
            open.extend(path.read_dir().unwrap().map(|entry| entry.unwrap().path()));
        }
        all.push(path);
    }
    all
}

#[test]
fn what_filters_keep_out_is_counted_and_what_is_wrong_with_one_is_told() {
    let demo = Demo::new();
    let json = |arguments: &[&str]| -> Value {
        let root = demo.path("");
        let all = [&["scan", &root, "--json"], arguments].concat();
        serde_json::from_str(&demo.fondaco(&all).ok().out()).unwrap()
    };
    let number = |value: &Value| value.as_u64().unwrap();
    let whole = json(&[]);
    assert!(whole.get("excluded").is_none());
    let all = (number(&whole["roots"][0]["entries"]), number(&whole["roots"][0]["allocated"]));
    for arguments in [
        &["--exclude", "hydrophone"][..],
        &["--exclude", "hydrophone/**", "--exclude", "*.csv"],
        &["--include", "*.wav", "--include", "*.raw"],
        &["--kind", "link"],
        &["--larger", "1MiB"],
        &["--larger", "8 KiB", "--smaller", "1 MiB", "--exclude", "backups"],
    ] {
        let part = json(arguments);
        let (listed, out) = (&part["roots"][0], &part["excluded"]);
        let sum = |key: &str| number(&listed[key]) + number(&out[key]);
        assert_eq!((sum("entries"), sum("allocated")), all, "{arguments:?}");
        assert!(number(&out["entries"]) > 0);
    }
    let text = demo.fondaco(&["directories", &demo.path(""), "--exclude", "hydrophone"]).ok().out();
    assert!(text.contains("not listed: 160 entries") && !text.contains("hydrophone"), "{text}");
    for (option, wrong, words) in
        [("--exclude", "[", "a name pattern"), ("--larger", "much", "a size such as")]
    {
        let ran = demo.fondaco(&["scan", &demo.path(""), option, wrong]);
        assert!(ran.code() == 2 && ran.err().contains(words), "{}", ran.err());
    }
}

#[test]
fn errors_of_the_device_are_listed_and_the_scan_goes_on() {
    let demo = Demo::new();
    // counted for each thread; not the calls by which the program itself is loaded
    for (call, error, words) in [
        ("newfstatat", "ESTALE:when=90+70", "tale file handle"),
        ("getdents64", "EIO", "nput/output error"),
        ("openat", "EIO:when=8+3", "nput/output error"),
    ] {
        let mut strace = Command::new("strace");
        strace.args(["-f", "-qq", "-o", "/dev/null", "-e"]);
        strace.arg(format!("inject={call}:error={error}"));
        if call == "getdents64" {
            // the program itself must be able to list what it saves into
            strace.args(["-P", &demo.path("hydrophone"), "-P", &demo.path("telemetry")]);
        }
        let output = strace
            .args([FONDACO, "scan", &demo.path(""), "--json", "--state"])
            .arg(demo.at.join("state"))
            // the others would keep it from being saved
            .args((call == "getdents64").then_some("--save"))
            .output()
            .unwrap();
        let text = String::from_utf8(output.stdout).unwrap();
        let scanned: Value = serde_json::from_str(&text).unwrap_or_default();
        if call == "getdents64" {
            let saved = demo.fondaco(&["scan", "--saved", "1", "--json"]);
            let saved = saved.with_unreadable().json();
            assert_eq!(saved["roots"], scanned["roots"], "what could not be read is saved too");
        }
        let unreadable = scanned["roots"][0]["unreadable"].as_array();
        let told = unreadable.is_some_and(|places| {
            places.iter().any(|place| place["error"].as_str().unwrap().contains(words))
        });
        assert!(output.status.code() == Some(4) && told, "{call}: {text}");
    }
}

#[test]
fn a_stop_is_answered_while_the_device_hangs() {
    let demo = Demo::new();
    // every directory in the first one takes a minute to be listed
    let mut strace = Command::new("strace");
    strace.args(["-f", "-qq", "-o", "/dev/null", "-e", "inject=getdents64:delay_enter=60s"]);
    for entry in std::fs::read_dir(demo.root()).unwrap() {
        strace.arg("-P").arg(entry.unwrap().path());
    }
    strace.args([FONDACO, "scan", &demo.path(""), "--json"]);
    let mut scan = strace.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let hangs = |task: std::io::Result<std::fs::DirEntry>| {
        let stat = std::fs::read_to_string(task.unwrap().path().join("stat"));
        stat.is_ok_and(|stat| stat.contains(") t "))
    };
    let pid = loop {
        let children = format!("/proc/{0}/task/{0}/children", scan.id());
        let text = std::fs::read_to_string(children).unwrap();
        if let Some(pid) = text.split_whitespace().next()
            && std::fs::read_link(format!("/proc/{pid}/exe"))
                .is_ok_and(|exe| exe == Path::new(FONDACO))
            && let Ok(tasks) = std::fs::read_dir(format!("/proc/{pid}/task"))
            && tasks.map(hangs).filter(|hangs| *hangs).count() >= 2
        {
            break pid.to_owned();
        }
        std::thread::sleep(std::time::Duration::from_millis(5));
    };
    let asked = std::time::Instant::now();
    assert!(Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    let (mut text, stdout) = (String::new(), scan.stdout.take().unwrap());
    std::io::BufRead::read_line(&mut std::io::BufReader::new(stdout), &mut text).unwrap();
    assert!(asked.elapsed().as_secs() < 30, "it did not wait for the device");
    assert!(text.contains("\"kind\":\"scan\""), "what was known is told: {text}");
    scan.kill().unwrap();
    scan.wait().unwrap();
}

/// A process that has a deleted file of the demo open for writing; ended when dropped.
struct Holder(std::process::Child);

impl Holder {
    fn of(demo: &Demo, below: &str, length: usize) -> Self {
        let path = demo.root().join(below);
        std::fs::write(&path, vec![7; length]).unwrap();
        let file = std::fs::File::options().append(true).open(&path).unwrap();
        let child = Command::new("sleep").arg("600").stdout(file).spawn().unwrap();
        std::fs::remove_file(&path).unwrap();
        Self(child)
    }
}

impl Drop for Holder {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn what_a_process_holds_is_listed_booked_planned_and_freed_without_the_screen() {
    let demo = Demo::new();
    let mut holder = Holder::of(&demo, "telemetry/\u{1b}[2Jgauge.log", 3 << 20);
    let pid = holder.0.id().to_string();
    let json = |arguments: &[&str]| demo.fondaco(arguments).ok().json();
    let held = json(&["held", "--json", &demo.path("")]);
    // others' processes may hold more that only root sees
    let sure = if common::is_root() { "exact" } else { "at-least" };
    assert_eq!((&held["allocated"], &held["sure"]), (&(3 << 20).into(), &sure.into()));
    let file = &held["files"][0];
    assert!(file["path"].as_str().unwrap().ends_with("telemetry/\u{1b}[2Jgauge.log"));
    assert_eq!(file["holders"][0]["pid"].to_string(), pid);
    assert_eq!(file["holders"][0]["descriptors"], serde_json::json!([1]));
    let text = demo.fondaco(&["held"]).ok().out();
    assert!(text.contains("3.0 MiB") && text.contains(&format!("{pid}:1")), "{text}");
    assert!(text.contains("\\x1b[2Jgauge.log") && !text.contains('\u{1b}'), "{text}");

    let line = |books: &Value, name: &str| -> Value {
        let lines = books["lines"].as_array().unwrap();
        lines.iter().find(|line| line["line"] == name).unwrap().clone()
    };
    let books = json(&["books", &demo.path("hydrophone"), "--json"]);
    assert_eq!(line(&books, "held")["bytes"], 3 << 20);
    assert_eq!(line(&books, "visible")["count"], 4248);
    let unexplained = line(&books, "unexplained");
    let sure = if common::is_root() { "exact" } else { "at-most" };
    assert_eq!((&unexplained["bytes"], &unexplained["sure"]), (&0.into(), &sure.into()));

    let read = demo.fondaco(&["books", &demo.path("hydrophone"), "--open"]).ok().out();
    let line_of = |words: &str| read.lines().find(|line| line.contains(words)).unwrap().to_owned();
    assert!(line_of("deleted but open").contains("3 145 728"), "{read}");
    assert!(line_of("gauge.log").contains(&pid) && line_of("gauge.log").contains("3 145 728"));
    assert!(line_of("visible entries").contains("4 248 entries"), "{read}");
    let used = books["used"].as_u64().unwrap();
    assert!(line_of("used, as the volume says").ends_with(&common::grouped(used)), "{read}");
    assert!(!read.contains('\u{1b}'), "{read}");

    // ending needs the number of a process that holds something
    let nobody = demo.fondaco(&["plan", "--end", "1"]);
    assert_eq!(nobody.code(), 3);
    assert!(nobody.err().contains("pid 1 holds no deleted file"), "{}", nobody.err());
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let kept = demo.at.join("kept.log").to_str().unwrap().to_owned();
    let which = format!("{pid}:1={kept}");
    let planned = demo.fondaco(&["plan", "--save-and-cut", &which, "-o", &plan]).ok();
    assert!(planned.out().contains("save and cut"), "{}", planned.out());
    let done = demo.fondaco(&["carry-out", &plan, "--json"]).ok().json();
    assert_eq!(done["actions"][0]["state"], "saved and cut", "{done}");
    assert_eq!(std::fs::read(&kept).unwrap(), vec![7; 3 << 20]);
    assert_eq!(json(&["held", "--json", &demo.path("")])["allocated"], 0);
    assert!(holder.0.try_wait().unwrap().is_none(), "the process goes on");

    demo.fondaco(&["plan", "--end", &pid, "--force", "-o", &plan]).ok();
    let rehearsed = demo.fondaco(&["carry-out", &plan, "--rehearse"]).ok();
    assert!(rehearsed.out().contains("nothing changed"), "{}", rehearsed.out());
    demo.fondaco(&["carry-out", &plan]).ok();
    assert!(!holder.0.wait().unwrap().success());
    let again = demo.fondaco(&["put-back", "2"]).ok().out();
    assert!(again.contains("nothing of run 2 can be put back"), "a process that ended: {again}");
}

#[test]
fn what_a_plan_leaves_out_is_said_and_a_file_that_is_no_plan_is_not_overwritten() {
    let demo = Demo::new();
    let first = Holder::of(&demo, "telemetry/gauge.log", 1 << 20);
    // somebody else holds the same file
    let pid = first.0.id();
    let file = std::fs::File::open(format!("/proc/{pid}/fd/1")).unwrap();
    let second = Holder(Command::new("sleep").arg("600").stdin(file).spawn().unwrap());
    let (pid, other) = (pid.to_string(), second.0.id().to_string());
    let (wrong, plan) = (format!("{pid}:77"), demo.at.join("plan.json").display().to_string());
    for (arguments, left_out) in [
        (&["--end", &pid][..], format!("is held by pid {other} (sleep) too: name it as well")),
        (&["--cut", &wrong], format!("descriptor 77 of pid {pid} leads to no deleted file")),
    ] {
        let ran = demo.fondaco(&[&["plan", "--force", "-o", &plan], arguments].concat());
        assert_eq!(ran.code(), 3, "{}", ran.out());
        assert!(ran.err().contains("left out: ") && ran.err().contains(&left_out));
        assert!(ran.out().contains("0 actions"), "{}", ran.out());
    }
    // named both, they are one action; an older plan is overwritten if that is wanted, and nothing else is
    let both = &["plan", "-o", &plan, "--end", &pid, "--end", &other];
    let exists = demo.fondaco(both);
    assert!(exists.code() == 2 && exists.err().contains("--force"), "{}", exists.err());
    let both = demo.fondaco(&[both, &["--force"][..]].concat()).ok().out();
    assert!(both.contains("1 action: 1.0 MiB freed now"), "{both}");
    let notes = demo.path("incoming/notes.txt");
    let pipe = demo.at.join("pipe").display().to_string();
    assert!(Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let before = std::fs::read(&notes).unwrap_or_else(|_| {
        std::fs::write(&notes, "tide tables of the harbour").unwrap();
        b"tide tables of the harbour".to_vec()
    });
    for (file, reason) in [
        (notes.clone(), "exists and is no plan"),
        (demo.path("incoming"), "Is a directory"),
        (pipe.clone(), "exists and is no plan"),
        (demo.path("nowhere/plan.json"), "No such file or directory"),
    ] {
        let ran = demo.fondaco(&["plan", "--end", &pid, "--end", &other, "--force", "-o", &file]);
        assert!(ran.code() == 1 && ran.err().contains(reason), "{}", ran.err());
        assert!(ran.err().contains(&file), "{}", ran.err());
    }
    assert_eq!(std::fs::read(&notes).unwrap(), before);
    let rules = demo.at.join("rules.toml");
    std::fs::write(&rules, RULES).unwrap();
    let nothing = demo.fondaco(&["plan", "--rules", rules.to_str().unwrap()]);
    assert!(nothing.err().contains("say what the rules are tried on"), "{}", nothing.err());
}

#[test]
fn levels_are_sampled_and_a_forecast_comes_from_them_or_not_at_all() {
    let demo = Demo::new();
    let sea = |ran: Ran| -> Value {
        let listed = ran.ok().json()["volumes"].clone();
        let root = demo.root().to_str().unwrap().to_owned();
        listed.as_array().unwrap().iter().find(|v| v["path"] == root).unwrap().clone()
    };
    // the demo comes with sixty days: 864 KiB a day, and two clean-ups that do not hide it
    let found = sea(demo.fondaco(&["volumes", "--json"]));
    let rise = found["trend"]["rise"].as_f64().unwrap() / 1024.0;
    assert!((rise - 864.0).abs() < 20.0 && found["trend"]["falls"] == 2, "{found}");
    let free = found["capacity"]["free_root"].as_f64().unwrap() / 1024.0;
    let days = found["full_in_days"]["days"].as_f64().unwrap();
    assert!((days - free / rise).abs() < 0.5, "{found}");
    let text = demo.fondaco(&["volumes"]).ok().out();
    assert!(text.contains("full in 2") && text.contains("no forecast yet"), "{text}");
    // without a history there is none, and one sample makes none
    std::fs::remove_file(demo.at.join("state/history.db")).unwrap();
    assert_eq!(demo.fondaco(&["volumes", "--sample"]).ok().out(), "");
    let found = sea(demo.fondaco(&["volumes", "--json"]));
    assert!(found["trend"].is_null() && found["full_in_days"].is_null(), "{found}");
    // a history that cannot be used is said for a timer, and only noted for people
    std::fs::write(demo.at.join("state/history.db"), "tide").unwrap();
    let failed = demo.fondaco(&["volumes", "--sample"]);
    assert_eq!(failed.code(), 1);
    assert!(failed.err().contains("history.db cannot be used"), "{}", failed.err());
    assert!(demo.fondaco(&["volumes"]).ok().err().contains("history.db"));
}

#[test]
fn the_largest_and_stalest_of_several_places_are_listed_and_sorted_by_size_and_age() {
    let demo = Demo::new();
    let json = |arguments: &[&str]| demo.fondaco(arguments).ok().json();
    let (surveys, hydrophone) = (demo.path("surveys"), demo.path("hydrophone"));
    let largest = json(&["files", &surveys, &hydrophone, "--top", "5", "--json"]);
    let files = largest["files"].as_array().unwrap();
    let sizes: Vec<u64> = files.iter().map(|f| f["allocated"].as_u64().unwrap()).collect();
    assert_eq!(sizes.len(), 5);
    assert!(sizes.is_sorted_by(|a, b| a >= b), "{sizes:?}");
    assert!(files[0]["path"].as_str().unwrap().contains("/surveys/"), "{}", files[0]);
    let stale = json(&["files", &hydrophone, "--order", "byte-years", "--top", "3", "--json"]);
    let first = &stale["files"][0];
    assert!(first["path"].as_str().unwrap().contains("2035"), "{first}");
    let years = first["byte_years"].as_f64().unwrap() / first["allocated"].as_f64().unwrap();
    assert!((5.9..7.5).contains(&years), "{first}");
    let text = demo.fondaco(&["files", &surveys, "--order", "age"]).ok().out();
    assert!(text.contains("byte-years") && text.contains("survey-2038.raw"), "{text}");

    let ages = json(&["ages", &surveys, &hydrophone, "--json"]);
    let scanned = json(&["scan", &surveys, &hydrophone, "--json"]);
    let roots = scanned["roots"].as_array().unwrap();
    let whole: u64 = roots.iter().map(|root| root["allocated"].as_u64().unwrap()).sum();
    assert_eq!(ages["whole"]["allocated"], whole);
    let cells = ages["cells"].as_array().unwrap();
    assert_eq!(cells.len(), ages["sizes"].as_array().unwrap().len() + 1);
    let row = cells[0].as_array().unwrap();
    assert_eq!(row.len(), ages["ages"].as_array().unwrap().len() + 1);
    let text = demo.fondaco(&["ages", &hydrophone]).ok().out();
    assert!(text.contains("< 1 MiB") && text.contains("older"), "{text}");
    let own =
        json(&["ages", &surveys, "--by", "born", "--sizes", "1M", "--ages", "1h,1d", "--json"]);
    assert_eq!(own["cells"].as_array().unwrap().len(), 2);
    assert_eq!(own["cells"][1][0]["entries"], 3, "all were made within the hour: {own}");
}

#[test]
fn what_a_table_cuts_off_is_summed_and_said_for_people_and_programs() {
    let demo = Demo::new();
    // which of equal ones is met first differs from scan to scan
    demo.fondaco(&["scan", &demo.path(""), "--save"]).ok();
    let json = |arguments: &[&str]| demo.fondaco(&[arguments, &["--json"]].concat()).ok().json();
    let read = |arguments: &[&str]| demo.fondaco(arguments).ok().out();
    let sum =
        |rows: &[Value], key: &str| rows.iter().map(|row| row[key].as_u64().unwrap()).sum::<u64>();
    let number = common::grouped;

    let all = json(&["directories", "--saved", "1"])["children"].as_array().unwrap().clone();
    let cut = ["directories", "--saved", "1", "--top", "3"];
    let few = json(&cut);
    assert_eq!(few["children"].as_array().unwrap()[..], all[..3]);
    let left = &all[3..];
    let tail = (left.len() as u64, sum(left, "entries"), sum(left, "allocated"));
    let told = ["children", "entries", "allocated"].map(|key| few["tail"][key].as_u64().unwrap());
    assert_eq!(told, [tail.0, tail.1, tail.2]);
    let text = read(&cut);
    let line = format!("tail: {} more, {} entries, ", tail.0, number(tail.1));
    assert!(text.lines().any(|row| row.starts_with(&line)), "{text}");
    assert!(!read(&["directories", "--saved", "1"]).contains("tail:"), "nothing is cut off");

    for by in ["kind", "extension", "family", "name-length"] {
        let all = json(&["breakdown", "--saved", "1", "--by", by, "--top", "100000"]);
        let cut = ["breakdown", "--saved", "1", "--by", by, "--top", "2"];
        let few = json(&cut);
        let slices = |of: &Value| of["slices"].as_array().unwrap().clone();
        assert_eq!(slices(&few)[..], slices(&all)[..2], "{by}");
        let left = slices(&all)[2..].to_vec();
        let (entries, allocated) = (sum(&left, "entries"), sum(&left, "allocated"));
        assert_eq!(few["rest"]["slices"], left.len(), "{by}");
        assert_eq!(few["rest"]["sum"]["entries"], entries, "{by}");
        assert_eq!(few["rest"]["sum"]["allocated"], allocated, "{by}");
        let line = format!("and {} more: {} entries, ", left.len(), number(entries));
        let text = read(&cut);
        assert!(text.lines().any(|row| row.starts_with(&line)), "{by}: {line}: {text}");
    }
    let attributes = read(&["breakdown", "--saved", "1", "--by", "attribute"]);
    assert!(attributes.contains("these do not add up"), "{attributes}");
    for (below, reason) in
        [("surveys/survey-2040.raw", "is not a directory"), ("nowhere", "the scan met no")]
    {
        let ran = demo.fondaco(&["directories", "--saved", "1", "--in", below]);
        assert!(ran.code() == 1 && ran.err().contains(reason), "{}", ran.err());
    }
}

#[test]
fn a_lens_narrows_every_table_and_says_the_part_and_the_whole() {
    let demo = Demo::new();
    let json = |arguments: &[&str]| demo.fondaco(arguments).ok().json();
    let root = demo.path("");
    for by in ["kind", "extension", "owner", "group", "family", "depth", "name-length"] {
        let found = json(&["breakdown", &root, "--by", by, "--top", "9999", "--json"]);
        let slices = found["slices"].as_array().unwrap();
        let sum: u64 = slices.iter().map(|slice| slice["allocated"].as_u64().unwrap()).sum();
        assert_eq!(sum, found["whole"]["allocated"].as_u64().unwrap(), "{by}");
        // the term that stands beside a slice chooses it
        let slice = &slices[slices.len() / 2];
        let (lens, entries) = (slice["lens"].as_str().unwrap(), &slice["entries"]);
        let narrowed = json(&["breakdown", &root, "--lens", lens, "--json"]);
        assert_eq!(&narrowed["whole"]["entries"], entries, "{by}: {lens}");
        assert_eq!(narrowed["whole_allocated"], found["whole"]["allocated"]);
    }
    let audio = ["--lens", "kind:audio older:2y"];
    let text = demo.fondaco(&["files", &root, audio[0], audio[1], "--top", "2"]).ok().out();
    assert!(text.contains("lens: ") && text.contains(" of 4 248 entries"), "{text}");
    let csv = ["directories", &root, audio[0], audio[1], "--csv", "--columns", "name,allocated"];
    let text = demo.fondaco(&csv).ok().out();
    let lines: Vec<&str> = text.lines().collect();
    assert!(
        matches!(lines[..], ["name,allocated", row] if row.starts_with("hydrophone,")),
        "{text}"
    );
    let rows = json(&["files", &root, audio[0], audio[1], "--json", "--columns", "allocated"]);
    assert_eq!(rows["rows"][0].as_object().unwrap().len(), 1);
    let wrong = demo.fondaco(&["ages", &root, "--lens", "kind:audio older:soon"]);
    assert_eq!(wrong.code(), 2);
    let wrong = wrong.err();
    assert!(wrong.contains("          ^^^^\n") || wrong.ends_with("^^^^\n"), "{wrong}");
    let wrong = demo.fondaco(&["files", &root, "--csv", "--columns", "colour"]).err();
    assert!(wrong.contains("there are allocated, written"), "{wrong}");
    // so do the tables that are not of a scan
    for (table, columns, heading) in [
        ("volumes", "mounted_at,level", "mounted_at,level\n"),
        ("held", "path", "path\n"),
        ("journal", "run,state", "run,state\n"),
    ] {
        let text = demo.fondaco(&[table, "--csv", "--columns", columns]).ok().out();
        assert!(text.starts_with(heading), "{table}: {text}");
        let rows = json(&[table, "--json", "--columns", columns]);
        assert!(rows["rows"].is_array(), "{rows}");
    }
    let delete = demo.path("home");
    let plan = ["plan", "--delete", &delete, "--csv", "--columns", "action,frees_now"];
    let text = demo.fondaco(&plan).ok().out();
    assert!(text.starts_with("action,frees_now\ndelete,"), "{text}");
    // the contents of what has no ending
    let by_name = demo.fondaco(&["breakdown", &root]).ok().out();
    let into = demo.fondaco(&["breakdown", &root, "--content"]).ok().out();
    let other = |text: &str| text.lines().find(|line| line.ends_with("  other")).map(str::to_owned);
    assert_ne!(other(&by_name), other(&into));
}

#[test]
fn the_log_tells_of_runs_and_no_name_forges_a_line_of_it() {
    let demo = Demo::new();
    let forged = demo.root().join("x\n2041-03-07T04:00:00Z  INFO run ended run=1\u{1b}[2J");
    std::fs::write(&forged, b"measured").unwrap();
    let plan = demo.at.join("plan.json").to_str().unwrap().to_owned();
    let path = forged.to_str().unwrap();
    demo.fondaco(&["plan", "--set-aside", path, "--set-aside", &demo.path("backups/weekly-4")]);
    demo.fondaco(&["plan", "--delete", path, "-o", &plan]).ok();
    std::fs::write(&forged, b"measured once more").unwrap();
    assert_eq!(demo.fondaco(&["carry-out", &plan]).code(), 3);
    let log = demo.at.join("state/log");
    assert_eq!(log.metadata().unwrap().permissions().mode() & 0o777, 0o700);
    let files: Vec<_> = std::fs::read_dir(&log).unwrap().map(|file| file.unwrap().path()).collect();
    let text = files.iter().map(|file| std::fs::read_to_string(file).unwrap()).collect::<String>();
    let begins = text.lines().next().unwrap().chars().take(4).collect::<String>();
    assert!(text.lines().all(|line| line.starts_with(&begins)), "{text}");
    let ended: Vec<&str> = text.lines().filter(|line| line.contains("run ended")).collect();
    assert_eq!(ended.iter().filter(|line| line.contains("done=0")).count(), 1, "{text}");
    let refused: Vec<&str> = text.lines().filter(|line| line.contains("WARN not done")).collect();
    assert_eq!(refused.len(), 1, "{text}");
    assert!(refused[0].contains(r"x\n2041-03-07") && !text.contains('\u{1b}'), "{text}");
}

#[test]
fn equal_files_and_contained_trees_are_found_told_and_planned() {
    let demo = Demo::new();
    let root = demo.root().display().to_string();
    let found = demo.fondaco(&["duplicates", &root, "--keep", "kit-b", "--json"]).ok().json();
    assert_eq!(
        (found["kind"].as_str(), found["relief"].as_u64()),
        (Some("duplicates"), Some(8_605_696))
    );
    let sets = found["sets"].as_array().unwrap();
    assert_eq!(sets.len(), 20, "--top");
    let first = &sets[0]["copies"][0];
    assert_eq!(first["stays"], true);
    assert_eq!(first["why"], "keep 1: kit-b");
    assert!(first["path"].as_str().unwrap().contains("/kit-b/"), "{first}");
    assert_eq!(found["searched"]["candidates"], 3966);
    let read = found["searched"]["read"].as_u64().unwrap();
    // the demo is a moment old: nothing of it is remembered yet, and nothing is read twice
    assert!(read < 27_000_000, "{read}");
    let lines = demo.fondaco(&["duplicates", &root, "--top", "1"]).ok().out();
    assert!(
        lines.contains("and 60 more sets") && lines.contains("if one of each stays"),
        "{lines}"
    );
    let bad = demo.fondaco(&["duplicates", &root, "--keep", "[x"]);
    assert!(
        bad.code() == 2 && bad.err().contains("--keep: expected a name pattern"),
        "{}",
        bad.err()
    );

    let pairs = demo.fondaco(&["containment", &root, "--json"]).ok().json();
    let pairs = pairs["pairs"].as_array().unwrap();
    let (kit, old) =
        (demo.root().join("field-kits/kit-b"), demo.root().join("field-kits/kit-b (old)"));
    let of = |tree: &Path, within: &Path| {
        let is = |pair: &&Value| {
            pair["tree"] == tree.to_str().unwrap() && pair["in"] == within.to_str().unwrap()
        };
        pairs.iter().find(is).unwrap_or_else(|| panic!("{tree:?} in {within:?}: {pairs:?}"))
    };
    assert_eq!(of(&old, &kit)["share"], 1.0);
    let almost = of(&kit, &demo.root().join("field-kits/kit-a"));
    assert_eq!(
        (&almost["same"]["files"], &almost["differs"]["newer_here"]),
        (&56.into(), &5.into())
    );
    let (tree, within) =
        (kit.display().to_string(), demo.root().join("field-kits/kit-a").display().to_string());
    let not_there =
        demo.fondaco(&["containment", &root, "--of", &tree, "--in", &within, "--csv"]).ok().out();
    assert_eq!(not_there.lines().count(), 6, "{not_there}");
    assert!(not_there.contains("differs, newer here") && not_there.contains("checklist.txt"));

    // names say nothing of contents: other versions of a name are told apart, and never planned
    let named = demo.fondaco(&["duplicates", &root, "--by", "name", "--json"]).ok().json();
    let first = &named["names"][0];
    assert_eq!((&named["kind"], &first["name"]), (&"same-names".into(), &"catalogue.db".into()));
    assert_eq!(first["versions"].as_array().unwrap().len(), 4, "{first}");
    let written = |at: usize| first["versions"][at]["copies"][0]["written"].as_str().unwrap();
    assert!(written(0) > written(1), "the newest version first: {first}");
    let of_names = demo.root().with_file_name("names.json");
    let of_names = of_names.to_str().unwrap();
    let by_name = ["--by", "name", "--plan", "delete", "--clear-emptied", "-o", of_names];
    demo.fondaco(&[&["duplicates", &root][..], &by_name].concat()).ok();
    let plan: Value = serde_json::from_slice(&std::fs::read(of_names).unwrap()).unwrap();
    let actions = plan["actions"].as_array().unwrap();
    assert!(actions.iter().all(|action| action["stays"].is_object() || action["emptied"] == true));
    assert!(
        actions.iter().all(|action| !action["target"]["path"].as_str().unwrap().contains(".db"))
    );

    let report = demo.root().with_file_name("twice.html");
    let report = report.to_str().unwrap();
    demo.fondaco(&["report", &root, "--duplicates", "-o", report]).ok();
    assert!(std::fs::read_to_string(report).unwrap().contains("What is there twice"));
    let plan = demo.root().with_file_name("copies.json");
    let plan = plan.to_str().unwrap();
    let kept = ["--keep", "kit-b (old)", "--plan", "delete", "-o", plan];
    demo.fondaco(&[&["duplicates", &root][..], &kept].concat()).ok();
    let again = demo.fondaco(&[&["duplicates", &root][..], &kept].concat());
    assert!(again.code() == 2 && again.err().contains("--force"), "{}", again.err());
    let done = demo.fondaco(&["carry-out", plan]).ok().out();
    assert!(done.contains("0 refused, 0 failed"), "{done}");
    assert!(
        old.join("manuals/sheet-059.pdf").exists() && !kit.join("manuals/sheet-059.pdf").exists()
    );
    let after = demo.fondaco(&["duplicates", &root, "--json"]).ok().json();
    assert_eq!(after["sets"], Value::Array(Vec::new()));
}

#[test]
fn a_scan_saved_for_good_is_not_thinned_with_the_others() {
    let demo = Demo::new();
    let settings = demo.at.join("state/settings.toml");
    let before = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, before.replace("scans_kept = 200", "scans_kept = 1")).unwrap();
    let saved = |how: &str| {
        let scanned = demo.fondaco(&["scan", &demo.path("telemetry"), how, "--json"]).ok().json();
        scanned["saved"].as_u64().unwrap()
    };
    let numbers = ["--save", "--save=for-good", "--save=thinned", "--save"].map(saved);
    let list = demo.fondaco(&["scans", "--json"]).ok().json();
    let there = |number| list["scans"].as_array().unwrap().iter().any(|one| one["scan"] == number);
    assert_eq!(numbers.map(there), [false, true, false, true], "{list}");
}

#[test]
fn a_scan_that_cannot_be_saved_is_told_all_the_same() {
    let demo = Demo::new();
    std::fs::write(demo.at.join("state/scans"), "no directory").unwrap();
    let ran = demo.fondaco(&["scan", &demo.path(""), "--save", "--json"]);
    assert!(ran.code() == 1 && ran.err().contains("the scan was not saved"), "{}", ran.err());
    assert_eq!(ran.err().matches("state/scans").count(), 1, "told once: {}", ran.err());
    let scanned: Value = serde_json::from_str(&ran.out()).unwrap();
    assert!(scanned["roots"][0]["entries"].as_u64() > Some(3_000), "{scanned}");
    assert_eq!(scanned.get("saved"), None);
}
