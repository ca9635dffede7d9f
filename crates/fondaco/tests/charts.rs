//! Charts and reports by command: they say what the tables say, and a file is written whole or not at all.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::path::Path;
use std::process::Command;

use common::Demo;
use quick_xml::Reader;
use quick_xml::events::Event;

const WHATS: [&str; 4] = ["cascade", "map", "ages", "breakdown"];

/// All words of a chart, as a person reads them; `None` where the reader of PDF is missing.
fn words(file: &Path) -> Option<String> {
    let bytes = std::fs::read(file).unwrap();
    let text = if file.extension().unwrap() == "pdf" {
        assert!(bytes.starts_with(b"%PDF-"));
        let Ok(output) = Command::new("pdftotext").arg("-layout").arg(file).arg("-").output()
        else {
            eprintln!("SKIPPED: text in PDF: there is no pdftotext");
            return None;
        };
        assert!(output.status.success());
        String::from_utf8(output.stdout).unwrap()
    } else {
        let text = String::from_utf8(bytes).unwrap();
        // a report is HTML, whose head is no XML; what stands in its body is
        let body = text.find("<body").map_or(&*text, |at| &text[at..text.find("</html>").unwrap()]);
        let mut reader = Reader::from_str(body);
        let mut words = String::new();
        loop {
            match reader.read_event().unwrap() {
                Event::Text(text) => words.push_str(&text.decode().unwrap()),
                Event::GeneralRef(reference) if &*reference == b"lt" => words.push('<'),
                Event::End(_) => words.push(' '),
                Event::Eof => break words,
                _ => {}
            }
        }
    };
    Some(text.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// The rows of a table below the head that begins so, each cell as it is printed.
fn rows(demo: &Demo, arguments: &[&str], head: &str) -> Vec<Vec<String>> {
    let text = demo.fondaco(arguments).ok().out();
    let cells = |line: &str| -> Vec<String> {
        line.split("  ").map(str::trim).filter(|cell| !cell.is_empty()).map(str::to_owned).collect()
    };
    let rows = text.lines().map(cells).skip_while(|row| row.first().is_none_or(|c| c != head));
    rows.skip(1).collect()
}

#[test]
fn charts_say_what_the_tables_say() {
    let demo = Demo::new();
    let root = demo.path("");
    let root = root.trim_end_matches('/');
    for lens in ["kind:audio,document older:30d", ""] {
        let look: &[&str] = if lens.is_empty() { &[] } else { &["--lens", lens] };
        let table = |command: &[&str], head: &str| rows(&demo, &[command, look].concat(), head);
        let cascade = table(&["directories", root, "--columns", "allocated,name"], "allocated");
        let kinds = table(&["breakdown", root, "--columns", "slice,allocated"], "slice");
        let ages = table(&["ages", root], "size");
        let sums = &ages.iter().find(|row| row[0] == "all").unwrap()[1..];
        let total = sums.last().unwrap();
        for what in WHATS {
            let (asked, expected): (&str, Vec<&String>) = match what {
                "cascade" => ("--top=24", cascade[..2].iter().flatten().collect()),
                "map" => ("--top=24", cascade[..2].iter().flatten().collect()),
                "ages" => ("--time=written", sums.iter().filter(|sum| *sum != "·").collect()),
                _ => ("--by=kind", kinds[..2].iter().flatten().collect()),
            };
            for (ending, screen) in [("svg", "--screen"), ("pdf", "--size=1000x700")] {
                let file = demo.at.join(format!("{what}{}.{ending}", lens.len()));
                let name = file.to_str().unwrap();
                let command = ["chart", what, root, "-o", name, asked, screen];
                let said = demo.fondaco(&[&command, look].concat()).ok().out();
                assert_eq!(said, format!("written: {name}\n"));
                let Some(text) = words(&file) else { continue };
                for part in expected.iter().copied().chain([total]) {
                    assert!(text.contains(part.as_str()), "{name}: {part} is missing: {text}");
                }
                assert!(text.contains(root) && text.contains("KiB = 1024 B"), "{name}: {text}");
                assert_eq!(text.contains("lens: kind:audio,document"), !lens.is_empty(), "{name}");
            }
        }
    }
}

#[test]
fn a_report_has_what_kinds_whose_and_the_largest_and_stalest() {
    let demo = Demo::new();
    let root = demo.path("");
    let first = |arguments: &[&str], head: &str| {
        let all = rows(&demo, &[arguments, &[&root]].concat(), head);
        all.into_iter().take(3).map(|row| row[0].clone()).collect::<Vec<_>>()
    };
    let mut expected = first(&["files", "--columns", "path,allocated"], "path");
    expected
        .extend(first(&["files", "--order", "byte-years", "--columns", "path,allocated"], "path"));
    expected
        .extend(first(&["breakdown", "--by", "owner", "--columns", "slice,allocated"], "slice"));
    expected.extend(first(&["breakdown", "--by", "kind", "--columns", "slice,allocated"], "slice"));
    // only root can give the demo to several owners
    assert_eq!(expected.len(), if common::is_root() { 12 } else { 10 });
    expected.push("Storage of the station".to_owned());
    for ending in ["html", "pdf"] {
        let file = demo.at.join(format!("report.{ending}"));
        let name = file.to_str().unwrap();
        let title = "Storage of the station";
        demo.fondaco(&["report", &root, "-o", name, "--title", title, "--top", "5"]).ok();
        let Some(text) = words(&file) else { continue };
        for part in &expected {
            assert!(text.contains(part.as_str()), "{name}: {part} is missing: {text}");
        }
    }
    let html = std::fs::read_to_string(demo.at.join("report.html")).unwrap();
    assert!(["<script", "src=", "href=", "url("].iter().all(|part| !html.contains(part)));
}

#[test]
fn the_level_of_every_volume_is_drawn_with_its_waterline() {
    let demo = Demo::new();
    let file = demo.at.join("volumes.svg");
    demo.fondaco(&["chart", "volumes", "-o", file.to_str().unwrap()]).ok();
    let text = words(&file).unwrap();
    let level = rows(&demo, &["volumes", "--columns", "mounted_at,level"], "mounted at");
    let simulated = level.iter().find(|row| row[0].ends_with("seamark")).unwrap();
    assert!(text.contains(&simulated[0]) && text.contains(&simulated[1]), "{simulated:?}: {text}");
    assert!(text.contains("above the waterline"), "{text}");
}

#[test]
fn what_cannot_be_written_is_said_before_a_scan_and_leaves_nothing() {
    let demo = Demo::new();
    let root = demo.path("");
    let there = demo.at.join("there.svg");
    std::fs::write(&there, "as it was").unwrap();
    let at = |name: &str| demo.at.join(name).to_str().unwrap().to_owned();
    for (file, reason) in [
        (at("there.svg"), "nothing is overwritten"),
        (at("chart.png"), "must end in .svg or .pdf"),
        (at("nowhere/chart.svg"), "No such file or directory"),
        (at("there.svg/chart.svg"), "is no directory"),
    ] {
        // a scan of a place that is missing would say so
        for scanned in [&*root, "/nonexistent"] {
            let ran = demo.fondaco(&["chart", "map", scanned, "-o", &file]);
            let said = ran.err();
            assert!(ran.code() == 1 && said.contains(reason) && said.contains(&file), "{said}");
        }
    }
    assert_eq!(std::fs::read(&there).unwrap(), b"as it was");
    for (arguments, reason) in [
        (&["--in", "hydrophone/nowhere"][..], "the scan met no directory"),
        (&["--in", "surveys/survey-2040.raw"], "is not a directory"),
        (&["--lens", "kind:adio"], "the lens cannot be read: no such kind; did you mean audio?"),
    ] {
        let file = at("new.svg");
        let ran = demo.fondaco(&[&["chart", "map", &root, "-o", &file], arguments].concat());
        assert!([1, 2].contains(&ran.code()) && ran.err().contains(reason), "{}", ran.err());
        assert!(!Path::new(&file).exists());
    }
    let report = demo.fondaco(&["report", &root, "-o", &at("there.txt")]);
    assert!(report.err().contains("must end in .html or .pdf"), "{}", report.err());
    if !common::is_root() {
        eprintln!("SKIPPED: a full volume: only root can mount one");
        return;
    }
    let small = demo.at.join("small");
    std::fs::create_dir(&small).unwrap();
    let mut mount = Command::new("mount");
    mount.args(["-t", "tmpfs", "-o", "size=8k", "tide"]).arg(&small);
    assert!(mount.status().unwrap().success());
    let file = at("small/report.html");
    let full = demo.fondaco(&["report", &root, "-o", &file]);
    let left = Path::new(&file).exists();
    assert!(Command::new("umount").arg(&small).status().unwrap().success());
    assert!(full.code() == 1 && full.err().contains("No space left on device"), "{}", full.err());
    assert!(full.err().contains(&file) && !left, "half a file helps nobody");
}

#[test]
fn classes_of_the_settings_hold_for_tables_charts_and_reports() {
    let demo = Demo::new();
    let root = demo.path("");
    let settings = demo.at.join("state/settings.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    let text = text
        .replace("size_classes = []", r#"size_classes = ["48 KiB", "3 MiB"]"#)
        .replace("age_classes = []", r#"age_classes = ["77 d", "5 y"]"#);
    std::fs::write(&settings, text).unwrap();
    let classes = |arguments: &[&str]| {
        let ages = demo.fondaco(&[&["ages", &root, "--json"], arguments].concat()).ok().json();
        (ages["sizes"].clone(), ages["ages"].clone())
    };
    let day = 86_400;
    let own = serde_json::json!([48 << 10, 3 << 20]);
    assert_eq!(classes(&[]), (own.clone(), serde_json::json!([77 * day, 5 * 365 * day])));
    let said = classes(&["--ages", "10d"]);
    assert_eq!(said, (own, serde_json::json!([10 * day])), "what is said goes before");
    for (command, file) in [(&["chart", "ages"][..], "ages.svg"), (&["report"], "report.html")] {
        let file = demo.at.join(file);
        demo.fondaco(&[command, &[&root, "-o", file.to_str().unwrap()]].concat()).ok();
        let text = words(&file).unwrap();
        assert!(text.contains("< 48 KiB") && text.contains("< 77 d"), "{text}");
    }
    let bad = std::fs::read_to_string(&settings).unwrap().replace("48 KiB", "tide");
    std::fs::write(&settings, bad).unwrap();
    let refused = demo.fondaco(&["ages", "/nonexistent"]);
    assert!(refused.code() == 1 && refused.err().contains("tide"), "{}", refused.err());
}
