//! Charts of a tree with long and hostile names: whole, readable, and harmless.
#![allow(missing_docs, clippy::unwrap_used)]

use std::os::unix::ffi::OsStrExt;
use std::process::Command;

use fondaco_chart::{
    ChangeLine, Chart, Context, FileLine, Level, Look, Report, SliceLine, TideMark, TidePoint,
    Trouble, ages, breakdown, cascade, changes, levels, map, text, tide,
};
use fondaco_core::analysis::{AgeBy, BreakdownBy, Classes, matrix};
use fondaco_core::catalog::Catalog;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::shown::shown;
use fondaco_core::units::{Bytes, Time, UnitStyle};
use quick_xml::Reader;
use quick_xml::events::Event;

const HOSTILE: [&[u8]; 6] = [
    b"plain.wav",
    b"<script>alert(1)<script>.html",
    b"two & \"three\" 'four'.csv",
    b"\x1b[2J\xff\n.log",
    "潮位表\u{202e}gpj.png".as_bytes(),
    &[b'n'; 240],
];

fn station() -> (tempfile::TempDir, Catalog) {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    for (number, name) in HOSTILE.iter().enumerate() {
        let at = root.join(["north", "south & <b>"][number % 2]);
        std::fs::create_dir_all(&at).unwrap();
        let file = at.join(std::ffi::OsStr::from_bytes(name));
        std::fs::write(file, vec![1; 9000 * (number + 1)]).unwrap();
    }
    let mut scan = Scan::start(&[root], &Options::new(Time::now())).unwrap();
    scan.wait();
    (directory, scan.into_catalog())
}

fn context(look: Look, catalog: &Catalog) -> Context {
    Context {
        of: shown(catalog.path(catalog.top().unwrap())),
        date: "2041-03-07 02:10".into(),
        lens: Some("name:\"<i>\" not owner:root".into()),
        units: UnitStyle::Binary,
        look,
        size: (842.0, 595.0),
    }
}

/// A text with where it begins and ends, and its base line.
type Placed = (String, f64, f64, f64);

/// Every text of a chart, and the size of the drawing.
fn texts(svg: &str) -> (Vec<Placed>, (f64, f64)) {
    let mut reader = Reader::from_str(svg);
    let (mut found, mut size) = (Vec::new(), (0.0, 0.0));
    let mut now: Option<(f64, f64, f64, String)> = None;
    let mut words = String::new();
    loop {
        match reader.read_event().unwrap() {
            Event::Start(start) | Event::Empty(start) => {
                let number = |name: &str| -> f64 {
                    let found = start.try_get_attribute(name).unwrap();
                    found.map_or(0.0, |a| a.unescape_value().unwrap().parse().unwrap())
                };
                match start.name().as_ref() {
                    b"svg" => size = (number("width"), number("height")),
                    b"text" => {
                        let anchor = start.try_get_attribute("text-anchor").unwrap().unwrap();
                        let anchor = anchor.unescape_value().unwrap().into_owned();
                        now = Some((number("x"), number("y"), number("font-size"), anchor));
                        words.clear();
                    }
                    b"rect" => {
                        let (right, below) =
                            (number("x") + number("width"), number("y") + number("height"));
                        assert!(
                            right <= size.0 + 0.1 || size.0 == 0.0,
                            "a field runs out at the right"
                        );
                        assert!(below <= size.1 + 0.1 || size.1 == 0.0, "a field runs out below");
                    }
                    _ => {}
                }
            }
            Event::Text(text) => words.push_str(&text.decode().unwrap()),
            Event::GeneralRef(reference) => {
                let name = reference.decode().unwrap().into_owned();
                words.push_str(match name.as_str() {
                    "lt" => "<",
                    "gt" => ">",
                    "amp" => "&",
                    "quot" => "\"",
                    "apos" => "'",
                    other => panic!("&{other};"),
                });
            }
            Event::End(_) => {
                if let Some((x, y, font, anchor)) = now.take() {
                    let width = text::width(&words, font);
                    let begin = match anchor.as_str() {
                        "start" => x,
                        "middle" => x - width / 2.0,
                        _ => x - width,
                    };
                    found.push((words.clone(), begin, begin + width, y));
                }
            }
            Event::Eof => return (found, size),
            _ => {}
        }
    }
}

#[test]
fn every_chart_keeps_its_text_whole_within_the_page_and_harmless() {
    let (_directory, catalog) = station();
    let (seen, top) = (catalog.whole(), catalog.top().unwrap());
    let found = fondaco_core::analysis::breakdown(seen, top, BreakdownBy::Family);
    let line = |slice: &fondaco_core::analysis::Slice| SliceLine {
        name: shown(catalog.path(slice.largest)),
        allocated: slice.sum.allocated,
        entries: slice.sum.entries,
        profile: slice.profile,
    };
    let lines: Vec<SliceLine> = found.slices.iter().map(line).collect();
    let cells = matrix(seen, top, AgeBy::Written, Classes::default());
    let volume = Level {
        name: "/srv/a mount point with a very long name indeed/below another one".into(),
        used: Bytes::new(95),
        capacity: Bytes::new(100),
        level: 0.95,
        waterline: 0.8,
    };
    let point = |day: i64| TidePoint {
        at: 2_246_000_000 + day * 86_400,
        level: 0.5 + (day % 20) as f64 / 45.0,
        inodes: (day > 3).then_some(0.1),
    };
    let points: Vec<TidePoint> = (0..60).map(point).collect();
    let mark = |day: i64| TideMark { at: point(day).at, is_run: day > 30, words: "run 4".into() };
    // two that lie close together, and one at the very end
    let marks = [mark(20), mark(40), mark(41), mark(59)];
    let change = |(number, name): (usize, &&[u8])| ChangeLine {
        name: shown(std::ffi::OsStr::from_bytes(name)),
        what: "moved here".into(),
        net: if number % 2 == 0 { i64::MAX / 3 } else { -5 },
    };
    let changed: Vec<ChangeLine> = HOSTILE.iter().enumerate().map(change).collect();
    for look in [Look::Paper, Look::Screen] {
        let context = context(look, &catalog);
        let note =
            "Fastest: a directory with a name so long that it does not fit, & <b>it</b>, by far";
        let forecast = Some((15.0, [0.92, 0.95, 1.0]));
        let charts: [(&str, Chart); 8] = [
            ("tide", tide(&points, &marks, forecast, 0.8, note, &context)),
            ("tide of a moment", tide(&points[..1], &[], None, 0.8, note, &context)),
            ("changes", changes(&changed, 7, note, &context)),
            ("cascade", cascade(seen, top, 20, &context)),
            ("map", map(seen, top, &context)),
            ("ages", ages(&cells, AgeBy::Written, &context)),
            ("breakdown", breakdown(&found, &lines, Some((3, Bytes::new(9))), &context)),
            ("levels", levels(std::slice::from_ref(&volume), &context)),
        ];
        for (name, chart) in charts {
            let (texts, (width, height)) = texts(chart.to_svg());
            assert!(texts.len() > 5, "{name}");
            for (words, begin, end, y) in &texts {
                assert!(*begin >= 0.0 && *end <= width + 0.1, "{name}: {words} runs out");
                assert!(*y > 0.0 && *y < height, "{name}: {words}");
                assert!(!words.chars().any(char::is_control), "{name}: {words}");
            }
            let all: Vec<&str> = texts.iter().map(|(words, ..)| words.as_str()).collect();
            let all = all.join("\n");
            assert!(all.contains("2041-03-07") && all.contains("KiB = 1024 B"), "{name}: {all}");
            assert!(all.contains("lens: name:"), "{name}: {all}");
            assert!(chart.to_pdf().unwrap().starts_with(b"%PDF-"), "{name}");
        }
    }
}

#[test]
fn a_report_stands_alone_runs_nothing_and_becomes_pages_of_text() {
    let (directory, catalog) = station();
    let (seen, top) = (catalog.whole(), catalog.top().unwrap());
    let context = context(Look::Paper, &catalog);
    let slices = |by| (fondaco_core::analysis::breakdown(seen, top, by), Vec::new());
    let file = |id: &fondaco_core::catalog::EntryId| FileLine {
        path: shown(catalog.path(*id)),
        allocated: catalog.allocated(*id),
        written: "2041-03-07".into(),
        weight: "1 MiB y".into(),
        owner: "60104 (no such account)".into(),
    };
    let files: Vec<FileLine> = catalog.largest_below(top, 10).iter().map(file).collect();
    let report = Report {
        title: "Seamark & <co>".into(),
        facts: vec![("on disk".into(), "1 MiB".into())],
        kinds: slices(BreakdownBy::Kind),
        owners: slices(BreakdownBy::Owner),
        matrix: matrix(seen, top, AgeBy::Written, Classes::default()),
        cascade: cascade(seen, top, 9, &context),
        map: map(seen, top, &context),
        copies: None,
        changes: Some(changes(&[], 0, "nothing", &context)),
        tide: None,
        largest: files.clone(),
        stalest: files,
        troubles: vec![Trouble { path: "/srv/<closed>".into(), reason: "cannot open".into() }],
        context,
    };
    let html = report.to_html().unwrap();
    assert!(!html.contains("<script") && html.contains("&#60;script&#62;"));
    assert!(html.contains("Seamark &#38; &#60;co&#62;") && html.contains("/srv/&#60;closed&#62;"));
    assert_eq!(html.matches("<svg").count(), 6);
    // nothing is fetched from anywhere
    assert!(!html.contains("src=") && !html.contains("href="));
    let pdf = report.to_pdf().unwrap();
    let path = directory.path().join("report.pdf");
    std::fs::write(&path, pdf).unwrap();
    let Ok(output) = Command::new("pdftotext").arg(&path).arg("-").output() else {
        eprintln!("SKIPPED: text in PDF: there is no pdftotext");
        return;
    };
    let text = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success());
    assert!(text.contains("Seamark & <co>") && text.contains("plain.wav"), "{text}");
}
