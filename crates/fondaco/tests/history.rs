//! What grew, what changed between two moments, and who writes now: by commands, and on the real screen.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::process::{Child, Command};

use common::{Demo, Terminal};
use serde_json::Value;

/// The demo's own story: a log that has been growing for three weeks, a clean-up, a field kit that was moved.
#[test]
fn the_story_of_sixty_days_is_told_by_comparing_charting_and_reporting() {
    let demo = Demo::with_kept_scans();
    let root = demo.root().to_str().unwrap().to_owned();
    let found = demo.fondaco(&["compare", "31", &root, "--json"]).ok().json();
    let sum = |part: &str| found[part]["bytes"].as_i64().unwrap();
    let net = found["changes"]["net"].as_i64().unwrap();
    assert_eq!(sum("was") + net, sum("is"));
    let rows = found["rows"].as_array().unwrap();
    let nets: i64 = rows.iter().map(|row| row["changes"]["net"].as_i64().unwrap()).sum();
    assert_eq!(nets, net, "the rows add up");
    let row = |name: &str| rows.iter().find(|row| row["path"] == demo.path(name)).unwrap();
    assert_eq!(row("telemetry")["what"], "grown");
    assert!(row("telemetry")["changes"]["net"].as_i64().unwrap() > 10 << 20);
    assert!(row("model-runs")["changes"]["gone"]["bytes"].as_i64().unwrap() > 10 << 20);
    let telling = found["telling"].as_array().unwrap();
    let moved = telling.iter().find(|row| row["what"] == "moved here").unwrap();
    assert_eq!(moved["path"], demo.path("field-kits/kit-b (old)"));
    assert_eq!(moved["from"], demo.path("incoming/kit-b"));
    // told once, where it is now
    assert!(!telling.iter().any(|row| row["what"] == "moved away"));

    let text = demo.fondaco(&["compare", "31", "60", "--by", "family"]).ok().out();
    assert!(text.lines().any(|line| line.ends_with("telemetry.log")), "{text}");
    let inside = demo.fondaco(&["compare", "31", "60", "--in", "incoming", "--csv"]).ok().out();
    assert!(inside.contains("moved away") && inside.contains("kit-b"), "{inside}");
    let narrowed = demo.fondaco(&["compare", "31", "60", "--lens", "kind:audio", "--json"]).ok();
    let narrowed = narrowed.json();
    let paths: Vec<_> = narrowed["rows"].as_array().unwrap().iter().map(|r| &r["path"]).collect();
    assert_eq!(paths, [&Value::from(demo.path("hydrophone"))]);
    // a place alone is compared with its last kept scan
    let since = demo.fondaco(&["compare", &root, "--top", "1"]).ok();
    assert!(since.err().contains("compared with kept scan 60"), "{}", since.err());
    assert!(since.out().contains("more: --top"), "{}", since.out());
    // two trees, as a snapshot that is mounted elsewhere
    let copy = demo.at.join("snapshot");
    let copied = Command::new("cp").args(["-a", &demo.path("tide-gauges")]).arg(&copy).status();
    assert!(copied.unwrap().success());
    std::fs::remove_file(copy.join("skerry/2041/tide-2041-12-28.csv")).unwrap();
    let copy = copy.to_str().unwrap();
    let trees = demo.fondaco(&["compare", copy, &demo.path("tide-gauges"), "--json"]).ok().json();
    assert_eq!(trees["changes"]["new"]["entries"], 1, "{trees}");
    assert_eq!(trees["changes"]["gone"]["entries"], 0);

    let history = demo.fondaco(&["history", &root, "--json"]).ok().json();
    assert_eq!(history["sizes"].as_array().unwrap().len(), 60);
    let marks = history["marks"].as_array().unwrap();
    let count = |what: &str| marks.iter().filter(|mark| mark["what"] == what).count();
    assert_eq!((count("clean-up"), count("kept-scan")), (2, 60));
    assert!(history["samples"].as_array().unwrap().len() > 200);
    let growing: Vec<_> = history["growing"].as_array().unwrap().iter().collect();
    assert!(growing.iter().any(|one| one["path"] == demo.path("telemetry")), "{growing:?}");
    let text = demo.fondaco(&["history", &demo.path("telemetry")]).ok().out();
    assert!(
        text.contains("clean-up") && text.contains("its size is known at 60 moments"),
        "{text}"
    );
    // too small for a summary: it is looked for in kept scans
    let small = demo.fondaco(&["history", &demo.path("home/buoyops"), "--csv"]).ok().out();
    assert!(small.lines().next().unwrap().contains("allocated"), "{small}");
    let all = demo.fondaco(&["history"]).ok().out();
    assert!(all.lines().any(|line| line.contains(&root)), "{all}");

    for (chart, arguments) in [
        ("tide.svg", vec!["chart", "tide", root.as_str(), "-o"]),
        ("changes.svg", vec!["compare", "31", "60", "-o"]),
        ("tide.pdf", vec!["chart", "tide", root.as_str(), "-o"]),
    ] {
        let file = demo.at.join(chart);
        demo.fondaco(&[&arguments[..], &[file.to_str().unwrap()]].concat()).ok();
        let drawn = std::fs::read(&file).unwrap();
        assert!(drawn.starts_with(b"<?xml") || drawn.starts_with(b"%PDF"), "{chart}");
        // a second time it would replace the first
        let again = demo.fondaco(&[&arguments[..], &[file.to_str().unwrap()]].concat());
        assert_ne!(again.code(), 0);
    }
    let report = demo.at.join("report.html");
    demo.fondaco(&["report", &root, "--since", "31", "-o", report.to_str().unwrap()]).ok();
    let report = std::fs::read_to_string(report).unwrap();
    assert!(report.contains("What changed") && report.contains("How the level moved"));
}

#[test]
fn what_is_wrong_with_a_comparison_is_said_before_or_after_it() {
    let demo = Demo::with_kept_scans();
    let root = demo.root().to_str().unwrap().to_owned();
    let said = |arguments: &[&str], expected: &str| {
        let run = demo.fondaco(arguments);
        assert_ne!(run.code(), 0, "{arguments:?}");
        assert!(run.err().contains(expected), "{arguments:?}: {}", run.err());
    };
    said(&["compare", "777", &root], "there is no saved scan 777");
    said(&["compare", &demo.path("nowhere"), &root], "nowhere");
    said(&["compare", "1", "2", "--in", "nowhere"], "there is no directory nowhere below");
    said(&["compare", "1", "2", "--lens", "larger:x"], "the lens cannot be read");
    said(&["compare", "1", "2", "-o", "changes.png"], "must end in .svg or .pdf");
    said(&["compare", &demo.path("tide-gauges")], "no whole scan of");
    said(&["history", "/srv", "--since", "yesterday"], "expected a day or a moment");
    said(&["now", &demo.path("nowhere")], "cannot open");
    let plain = demo.path("home/acoustics/notes.txt");
    said(&["compare", &plain, &root], "is not a saved scan");
    said(&["now", "s3://seamark/logs"], "is not seen from here");
    said(&["now", &root, "--for", "0s"], "a second or more");
    let gone = demo.fondaco(&["history", &demo.path("nowhere")]).ok();
    assert!(gone.err().contains("there is no"), "{}", gone.err());
    // a tree in another one, as a snapshot may be, is compared with all of it
    let inner = demo.path("telemetry");
    let trees = demo.fondaco(&["compare", &inner, &root]).ok();
    assert!(trees.out().contains(&format!("{inner} → {root}\n")), "{}", trees.out());
    let trees = demo.fondaco(&["compare", &inner, &root, "--json"]).ok().json();
    assert!(trees["changes"]["new"]["entries"].as_u64() > Some(1_000), "{trees}");
    // the other way round is said, not refused
    let turned = demo.fondaco(&["compare", "60", "31"]).ok();
    assert!(turned.err().contains("was scanned after the second"), "{}", turned.err());
}

struct Writing(Child);

impl Drop for Writing {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Writes on and on into the demo's volume.
fn writing(demo: &Demo) -> Writing {
    let script = format!(
        "exec 3>>'{}'; while :; do printf '%8192s' '' >&3; sleep 0.05 3>&-; done",
        demo.path("telemetry/buoy-03/telemetry.log")
    );
    Writing(Command::new("sh").arg("-c").arg(script).spawn().unwrap())
}

#[test]
fn who_writes_is_told_and_watched_on_the_screen_and_asked_to_end() {
    let demo = Demo::new();
    let root = demo.root().to_str().unwrap().to_owned();
    let mut writer = writing(&demo);
    let now = demo.fondaco(&["now", &root, "--for", "3s", "--json"]).ok().json();
    let first = &now["writers"][0];
    assert_eq!((&first["command"], &first["pid"]), (&"sh".into(), &writer.0.id().into()));
    let rate = first["rate"].as_f64().unwrap();
    assert!((60_000.0..200_000.0).contains(&rate), "{now}");
    assert_eq!(now["directories"][0]["directory"], demo.path("telemetry/buoy-03"));
    let text = demo.fondaco(&["now", &root, "--for", "2s"]).ok().out();
    assert!(text.contains("at this rate") && text.contains("telemetry.log"), "{text}");

    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["0"]).shows(&["It rises by", "Scan ", "what changed since an earlier scan"]);
    terminal.keys(&["n"]).shows(&["watching …"]);
    terminal.shows(&["The volume fills by", "at this rate", "sh", "telemetry/buoy-03"]);
    terminal.keys(&["X"]).shows(&["is asked to end (SIGTERM)", "Type its number"]);
    terminal.keys(&["1", "Enter"]).shows(&["Nothing has been done"]);
    assert!(writer.0.try_wait().unwrap().is_none());
    terminal.keys(&["BSpace"]);
    terminal.type_text(&writer.0.id().to_string());
    terminal.keys(&["Enter"]).shows(&["has been asked to end"]);
    writer.0.wait().unwrap();
    terminal.keys(&["Escape"]).shows(&["It rises by"]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}

#[test]
fn the_tide_and_what_changed_are_gone_through_and_planned_from() {
    let demo = Demo::with_kept_scans();
    let terminal = Terminal::on_demo(&demo, 160, 50);
    terminal.keys(&["1", "Enter"]).shows(&["hydrophone/", "4 248 entries"]);
    terminal.keys(&["0"]).shows(&["It rises by", "< scan 60 of", "> the scan at hand", "▽"]);
    let lefts = ["Left"; 32];
    terminal.keys(&lefts);
    terminal.keys(&["<"]).shows(&["telemetry/", "moved within", "field-kits/"]);
    terminal.keys(&["Enter"]).shows(&["buoy-01/", "/telemetry"]);
    terminal.keys(&["Enter"]).shows(&["telemetry.log.1", "new"]);
    // what is new and large is planned here
    terminal.keys(&["Space"]).shows(&["Do what with"]);
    terminal.keys(&["s"]).shows(&["Planned: set aside"]);
    terminal.keys(&["BSpace", "BSpace"]).shows(&["model-runs/"]);
    terminal.keys(&["y"]).shows(&["kind", "log"]);
    terminal.keys(&["y", "y"]).shows(&["family", "trial-#.nc"]);
    terminal.keys(&["y"]).shows(&["field-kits/"]);
    terminal.keys(&["+"]).shows(&["level"]);
    // the column of growth, ordered by it
    terminal.keys(&["2", "g"]).shows(&["Compared with scan", "in 3", "="]);
    terminal.keys(&["o", "o", "o", "o", "o"]).shows(&["Ordered by what grew"]);
    terminal.keys(&["4"]).shows(&["broken down by", "in 3"]);
    // another tree, which lies in the one at hand
    terminal.keys(&["0", "D"]).shows(&["Type its path"]);
    terminal.type_text(&demo.path("telemetry"));
    terminal.keys(&["Enter"]).shows(&["telemetry > the scan at hand", "new"]);
    terminal.keys(&["q"]).shows(&["Type"]);
    terminal.type_text("quit");
    terminal.keys(&["Enter"]).shows(&["ENDED 0"]);
    // at 80 by 24 the two halves are shown one at a time
    let terminal = Terminal::on_demo(&demo, 80, 24);
    terminal.keys(&["1", "Enter"]).shows(&["hydrophone/"]);
    terminal.keys(&["0"]).shows(&["It rises by", "▽"]);
    terminal.keys(&["Tab"]).shows(&["change ↓", "telemetry/"]);
    terminal.keys(&["q"]).shows(&["ENDED 0"]);
}
