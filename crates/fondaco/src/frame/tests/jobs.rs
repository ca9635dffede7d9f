//! Jobs on real trees: what each reports, in which order, and what it leaves behind.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, RwLock};
use std::time::{Duration, Instant};

use fondaco_core::analysis::{AgeBy, BreakdownBy, Classes, FileOrder};
use fondaco_core::catalog::{Catalog, EntryId, Order, Seen, Selection};
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::lens::Lens;
use fondaco_core::plan::{Choice, Deed, Refusal};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, UnitStyle};
use fondaco_core::volume::volumes;

use crate::frame::export::{Done, Export, Exported, OfScan, To, destination, export};
use crate::frame::input::Event;
use crate::frame::job::Jobs;
use crate::frame::message::{Job, ManyFiles, Message, News};
use crate::frame::model::Model;
use crate::frame::questions::{About, Answer, Asked, Question};
use crate::query::{Ages, Breakdown, Directories, Files, Held, Map, Query, Runs, Volumes};

/// Jobs, what they report, and a tree of hostile and ordinary names.
struct Office {
    _directory: tempfile::TempDir,
    home: PathBuf,
    root: PathBuf,
    state: State,
    jobs: Jobs,
    reports: Receiver<Event>,
}

/// A name that would drive a terminal, split a table and begin a formula.
const HOSTILE: &str = "=cmd|'C'!A1\u{1b}[2J\n\",;x.csv";

impl Office {
    fn new() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        let root = home.join("seamark");
        let files =
            [("tide/a.csv", 90_000), ("tide/b.log", 4_000), ("buoy/b.log", 50_000), (HOSTILE, 10)];
        for (name, size) in files {
            std::fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
            std::fs::write(root.join(name), vec![1; size]).unwrap();
        }
        std::fs::hard_link(root.join("tide/a.csv"), root.join("buoy/a-too.csv")).unwrap();
        let state = State::open(&home.join("state")).unwrap();
        let (messages, reports) = channel();
        Self {
            _directory: directory,
            home,
            root,
            state,
            jobs: Jobs::new(messages).unwrap(),
            reports,
        }
    }

    /// The next message that is wanted; others are passed over.
    fn until<T>(&self, what: &str, wanted: impl Fn(Message) -> Option<T>) -> T {
        let end = Instant::now() + Duration::from_secs(30);
        loop {
            let left = end.saturating_duration_since(Instant::now());
            let Ok(Event::Job(message)) = self.reports.recv_timeout(left) else {
                panic!("waited for {what}");
            };
            if let Some(found) = wanted(message) {
                return found;
            }
        }
    }

    fn scan(&self) -> Arc<RwLock<Catalog>> {
        self.jobs.start(Job::Scan(1, vec![self.root.clone()], Time::now()));
        let begun = self.until("the scan to begin", |message| match message {
            Message::ScanBegun { number: 1, catalog } => Some(catalog),
            _ => None,
        });
        self.until("the scan to end", |message| match message {
            Message::ScanProgress { number: 1, done, .. } => done.then_some(()),
            _ => None,
        });
        begun
    }

    fn ask(&self, number: u64, catalog: &Arc<RwLock<Catalog>>, about: About) {
        let (catalog, state) = (Arc::clone(catalog), self.state.clone());
        let question = Asked { scan: 1, number, catalog, selection: None, state, about };
        self.jobs.start(Job::Ask(Box::new(question)));
    }

    /// What a station shows of a scan, under a lens.
    fn shown(&self, catalog: &Arc<RwLock<Catalog>>, query: Box<dyn Query>, lens: &str) -> Exported {
        Exported::Scan(Box::new(OfScan {
            catalog: Arc::clone(catalog),
            selection: (!lens.is_empty()).then(|| self.choose(catalog, lens)),
            lens: lens.to_owned(),
            at: catalog.read().unwrap().top().unwrap(),
            state: self.state.clone(),
            query,
        }))
    }

    fn choose(&self, catalog: &RwLock<Catalog>, lens: &str) -> Arc<Selection> {
        let lens = Lens::parse(lens, &self.state).unwrap();
        Arc::new(lens.select(&catalog.read().unwrap(), &self.state))
    }
}

#[test]
fn a_scan_reports_its_end_once_and_what_cannot_be_scanned_is_said() {
    let office = Office::new();
    let catalog = office.scan();
    {
        let catalog = catalog.read().unwrap();
        assert!(catalog.is_complete());
        // the root, two directories, the files with their names
        assert_eq!(catalog.entries(catalog.top().unwrap()), 8);
    }
    office.jobs.start(Job::Scan(2, vec![office.root.join("nowhere")], Time::now()));
    let reason = office.until("a refusal", |message| match message {
        Message::ScanRefused { number: 2, reason } => Some(reason),
        _ => None,
    });
    assert!(reason.to_string().contains("seamark/nowhere"), "{reason}");
}

/// Counts the entries of the scan.
#[derive(Debug)]
struct Count {
    sort: &'static str,
    top: EntryId,
}

#[derive(Debug)]
struct Counted(#[allow(dead_code)] u64); // read by its debug form

impl Question for Count {
    fn sort(&self) -> &'static str {
        self.sort
    }

    fn answer(&self, seen: Seen<'_>) -> Box<dyn News> {
        Box::new(Counted(seen.entries(self.top)))
    }
}

impl News for Counted {
    fn take(self: Box<Self>, _: &mut Model) -> Vec<Job> {
        Vec::new()
    }
}

#[test]
fn of_many_questions_the_last_is_answered_and_the_lens_before_the_others() {
    let office = Office::new();
    let catalog = office.scan();
    let top = catalog.read().unwrap().top().unwrap();
    let lens = |text: &str| About::Lens(Box::new(Lens::parse(text, &office.state).unwrap()));
    for number in 1..=40 {
        office.ask(number, &catalog, About::Own(Box::new(Count { sort: "slices", top })));
        office.ask(number, &catalog, lens(&"abcdefgh"[..=(number as usize % 8)]));
    }
    office.ask(41, &catalog, About::Own(Box::new(Count { sort: "ages", top })));
    office.ask(41, &catalog, lens("ext:log"));
    let (mut lenses, mut slices, mut ages) = (vec![0], vec![0], false);
    let mut passed = 0;
    while *lenses.last().unwrap() < 41 || *slices.last().unwrap() < 40 || !ages {
        let (sort, number, answer) = office.until("an answer", |message| match message {
            Message::Answered { scan: 1, sort, number, answer, .. } => Some((sort, number, answer)),
            _ => None,
        });
        match answer {
            Answer::Lens(selection) => {
                lenses.push(number);
                passed = selection.len();
            }
            Answer::Own(news) => {
                assert_eq!(format!("{news:?}"), "Counted(8)");
                match sort {
                    "slices" => slices.push(number),
                    _ => ages = true,
                }
            }
            other => panic!("nobody asked for {other:?}"),
        }
    }
    assert_eq!(passed, 2);
    for numbers in [lenses, slices] {
        assert!(numbers.is_sorted_by(|a, b| a < b), "an old one after a newer: {numbers:?}");
    }
}

#[test]
fn evidence_is_told_in_two_steps_and_of_the_newest_entry_only() {
    let office = Office::new();
    let catalog = office.scan();
    let find = |name: &str| catalog.read().unwrap().find(&office.root.join(name)).unwrap();
    let (linked, tide) = (find("tide/a.csv"), find("tide"));
    let ask = |id| {
        let (catalog, state, now) = (Arc::clone(&catalog), office.state.clone(), Time::now());
        office.jobs.start(Job::Evidence { number: 1, id, catalog, state, now });
    };
    (0..20).for_each(|_| ask(linked));
    ask(tide);
    let next = || {
        office.until("evidence", |message| match message {
            Message::Evidence { number: 1, id, evidence } => Some((id, evidence)),
            _ => None,
        })
    };
    let (mut first, mut steps) = (true, Vec::new());
    while steps.last() != Some(&true) {
        let (id, evidence) = next();
        assert!(id == tide || first || steps.is_empty(), "an old one after a newer");
        first = false;
        if id == tide {
            steps.push(evidence.is_complete());
        }
    }
    assert_eq!(steps, [false, true], "what is known at once, then what others were asked for");
    ask(linked);
    let (_, evidence) = next();
    assert_eq!(evidence.other_names, [office.root.join("buoy/a-too.csv")]);
    ask(tide);
    let evidence = loop {
        let (id, evidence) = next();
        if id == tide {
            break evidence;
        }
    };
    assert_eq!(evidence.path, office.root.join("tide"));
    let below: Vec<&Path> = evidence.largest.iter().map(|(below, _)| below.as_path()).collect();
    assert_eq!(below, [Path::new("a.csv"), Path::new("b.log")]);
    assert!(evidence.totals.exclusive.unwrap() < evidence.totals.allocated, "a name is elsewhere");
}

#[test]
fn a_scan_is_saved_listed_opened_and_forgotten() {
    let office = Office::new();
    let catalog = office.scan();
    office.jobs.start(Job::SaveScan(Arc::clone(&catalog), office.state.clone()));
    office.until("it to be saved", |message| match message {
        Message::ScanSaved(outcome) => Some(outcome.unwrap()),
        _ => None,
    });
    let listed = || {
        office.until("the list", |message| match message {
            Message::SavedScans(rows) => Some(rows.unwrap()),
            _ => None,
        })
    };
    office.jobs.start(Job::LoadSaved(office.state.clone()));
    let rows = listed();
    assert!(rows.len() == 1 && rows[0].about.is_ok());
    let open = |which| {
        let state = office.state.clone();
        office.jobs.start(Job::OpenSaved { number: 1, which, state });
        office.until("it to be opened", |message| match message {
            Message::Opened { number: 1, outcome } => Some(outcome),
            _ => None,
        })
    };
    let opened = open(rows[0].number).unwrap();
    let (live, top) = (catalog.read().unwrap(), opened.top().unwrap());
    assert_eq!(opened.allocated(top), live.allocated(live.top().unwrap()));
    assert!(opened.find(&office.root.join(HOSTILE)).is_some(), "whatever its name is");
    let damaged = office.state.scans_directory().join(format!("{}.parquet", rows[0].number));
    let whole = std::fs::read(&damaged).unwrap();
    std::fs::write(&damaged, &whole[..whole.len() / 2]).unwrap();
    office.jobs.start(Job::LoadSaved(office.state.clone()));
    assert!(listed()[0].about.is_err(), "a damaged one is listed, with what is wrong");
    assert!(open(rows[0].number).is_err() && open(99).is_err());
    office.jobs.start(Job::Forget(rows[0].number, office.state.clone()));
    assert!(listed().is_empty() && !damaged.exists());
}

#[test]
fn a_part_is_scanned_again_and_places_that_changed_are_looked_at_again() {
    let office = Office::new();
    let catalog = office.scan();
    let (tide, buoy) = (office.root.join("tide"), office.root.join("buoy"));
    let mended = || {
        let mended = office.until("the mended scan", |message| match message {
            Message::Mended { number: 1, outcome } => Some(outcome.unwrap()),
            _ => None,
        });
        Arc::new(RwLock::new(*mended))
    };
    let entries = |catalog: &RwLock<Catalog>| {
        let catalog = catalog.read().unwrap();
        catalog.entries(catalog.top().unwrap())
    };
    std::fs::write(tide.join("new"), [1; 9000]).unwrap();
    std::fs::write(buoy.join("new-too"), [1; 9000]).unwrap();
    let (number, now) = (1, Time::now());
    office.jobs.start(Job::Rescan { number, catalog, path: tide.clone(), now });
    let once = mended();
    assert_eq!(entries(&once), 9, "of that directory alone");
    std::fs::remove_dir_all(&tide).unwrap();
    let touched = vec![tide.clone(), buoy.join("new-too")];
    office.jobs.start(Job::Reconcile { number, catalog: Arc::clone(&once), touched, now });
    let twice = mended();
    assert_eq!(entries(&twice), 6, "without the one directory, with the new file of the other");
    // scanned again when it is gone, it is taken off
    std::fs::remove_dir_all(&buoy).unwrap();
    office.jobs.start(Job::Rescan { number, catalog: twice, path: buoy, now });
    assert_eq!(entries(&mended()), 2);
}

#[test]
fn many_files_are_planned_with_all_names_of_their_inodes_or_not_at_all() {
    let office = Office::new();
    let catalog = office.scan();
    let top = catalog.read().unwrap().top().unwrap();
    let survey = |lens: &str, count| {
        office.jobs.start(Job::SurveyMany(Box::new(ManyFiles {
            scan: 1,
            catalog: Arc::clone(&catalog),
            selection: Some(office.choose(&catalog, lens)),
            at: top,
            by: AgeBy::Written,
            block: None,
            count,
            deed: Deed::SetAside,
            lens: lens.to_owned(),
            lens_asks_for_reading: false,
            state: office.state.clone(),
        })));
        office.until("the survey", |message| match message {
            Message::SurveyedMany { scan: 1, surveyed, .. } => Some(surveyed),
            _ => None,
        })
    };
    let surveyed = survey("larger:80k", 1).unwrap();
    assert_eq!((surveyed.refused, surveyed.twice), (0, 0));
    let paths = surveyed.draft.planned().iter().map(|planned| {
        assert_eq!(planned.reason, "by hand, lens larger:80k");
        planned.path.clone()
    });
    let both = ["buoy/a-too.csv", "tide/a.csv"].map(|name| office.root.join(name));
    assert_eq!(paths.collect::<BTreeSet<_>>(), BTreeSet::from(both));
    let surveyed = survey("larger:80k", 2);
    assert!(surveyed.is_none(), "what was listed is not what would be planned");
}

#[test]
fn what_is_refused_is_said_before_it_is_planned() {
    let office = Office::new();
    let catalog = office.scan();
    let survey = |path: &Path| {
        let choice = Box::new(Choice::Path(path.to_owned()));
        office.jobs.start(Job::Survey(choice, Arc::clone(&catalog), office.state.clone()));
        office.until("the survey", |message| match message {
            Message::Surveyed { outcome, .. } => Some(*outcome),
            _ => None,
        })
    };
    assert!(survey(&office.root.join("tide")).is_ok());
    assert!(survey(&office.root.join("nowhere")).is_err());
    for protected in [Path::new("/usr/bin"), &office.home.join("state")] {
        let outcome = survey(protected);
        assert!(matches!(outcome, Err(Refusal::Protected { .. })), "{outcome:?}");
    }
    let place = |to: PathBuf| {
        office.jobs.start(Job::FindPlace((1, 2), to, false));
        office.until("the place", |message| match message {
            Message::Place { inode: (1, 2), outcome, .. } => Some(outcome),
            _ => None,
        })
    };
    assert!(place(office.root.join("copy")).is_ok());
    assert!(
        place(office.root.join("tide/a.csv")).unwrap_err().to_string().contains("ever overwritten")
    );
    assert!(place(office.root.join("no/where")).unwrap_err().to_string().contains("no"));
    let pipe = office.root.join("pipe");
    let made = std::process::Command::new("mkfifo").arg(&pipe).status().unwrap();
    assert!(made.success());
    // opened, it would hang for ever
    office.jobs.start(Job::Peek(pipe.clone()));
    office.until("the peek", |message| match message {
        Message::Peeked { path, outcome } => (path == pipe).then(|| outcome.unwrap_err()),
        _ => None,
    });
}

fn directories() -> Box<dyn Query> {
    Box::new(Directories { order: Order::Allocated, top: usize::MAX })
}

fn map() -> Box<dyn Query> {
    Box::new(Map(Directories { order: Order::Allocated, top: usize::MAX }))
}

fn files() -> Box<dyn Query> {
    Box::new(Files { order: FileOrder::Allocated, by: AgeBy::Written, top: 100 })
}

fn ages() -> Box<dyn Query> {
    Box::new(Ages { by: AgeBy::Written, classes: Classes::default() })
}

fn slices(by: BreakdownBy) -> Box<dyn Query> {
    Box::new(Breakdown { by, top: None })
}

#[test]
fn what_is_drawn_on_the_screen_is_exported_as_a_chart_or_told_to_have_none() {
    let office = Office::new();
    let catalog = office.scan();
    let of_scan = |query, lens: &str| office.shown(&catalog, query, lens);
    let outlook = fondaco_core::history::Outlook::NotYet;
    let known = volumes(&office.state).into_iter().map(|volume| (volume, outlook)).collect();
    let listed =
        Volumes { known, drives: Vec::new(), asked: Time::now(), state: office.state.clone() };
    let held = || {
        let (found, state) = (DeletedFiles::default(), office.state.clone());
        Exported::Known(Box::new(Held { found, state }))
    };
    let write = |what, name: String| {
        let file = office.home.join(name);
        let to = To::File(file.clone());
        let done = export(&Export { to, what, units: UnitStyle::default() });
        match done {
            Ok(Done::Written(written)) => Ok(std::fs::read(written).unwrap()),
            Ok(Done::Copied(..)) => panic!("not asked for"),
            Err(error) => {
                assert!(!file.exists(), "{file:?}: {error:#}");
                Err(format!("{error:#}"))
            }
        }
    };
    let charts: [(Exported, &str); 6] = [
        (of_scan(directories(), ""), "What fills this directory"),
        (of_scan(directories(), "ext:log"), "lens: ext:log"),
        (of_scan(map(), ""), "Where it lies"),
        (of_scan(ages(), ""), "How old against how large"),
        (of_scan(slices(BreakdownBy::Extension), ""), "What it is, by extension"),
        (Exported::Known(Box::new(listed)), "How full the volumes are"),
    ];
    for (number, (what, title)) in charts.into_iter().enumerate() {
        let svg = String::from_utf8(write(what, format!("{number}.svg")).unwrap()).unwrap();
        assert!(svg.contains(title) && !svg.contains(['\u{1b}', '\r']), "{title}: {svg}");
    }
    let pdf = write(of_scan(map(), ""), "map.pdf".into()).unwrap();
    assert!(pdf.starts_with(b"%PDF-"));
    let html = write(of_scan(ages(), "ext:log"), "report.html".into()).unwrap();
    let html = String::from_utf8(html).unwrap();
    assert!(html.contains("lens: ext:log") && html.contains("</html>"), "{html}");
    for (what, name, reason) in [
        (of_scan(files(), ""), "files.svg", "there is no chart"),
        (Exported::Known(Box::new(Runs(Vec::new()))), "journal.pdf", "there is no chart"),
        (held(), "held.html", "a report is of a scan"),
        (of_scan(map(), ""), "map.png", "must end in .svg, .pdf"),
        (of_scan(map(), ""), "no/such/place.svg", "No such file or directory"),
    ] {
        let error = write(what, name.into()).unwrap_err();
        assert!(error.contains(reason) && error.contains(name), "{error}");
    }
    assert_eq!(destination("c"), Ok(To::Clipboard));
    assert!(destination("").unwrap_err().to_string().contains("a name is missing"));
}

#[test]
fn every_table_is_written_as_csv_and_json_whatever_the_names_are() {
    let office = Office::new();
    let catalog = office.scan();
    let of_scan = |query, lens: &str| office.shown(&catalog, query, lens);
    let listed = volumes(&office.state);
    let outlook = |_: &_| fondaco_core::history::Outlook::NotYet;
    let outlooks: Vec<_> = listed.iter().map(outlook).collect();
    let held = DeletedFiles::collect(Time::now());
    let count = held.files.len();
    let state = office.state.clone();
    let known = listed.iter().cloned().zip(outlooks).collect();
    // what is shown, and how many rows that is if it is known
    let mut tables = vec![
        (
            Exported::Known(Box::new(Volumes {
                known,
                drives: Vec::new(),
                asked: Time::now(),
                state: state.clone(),
            })),
            Some(listed.len()),
        ),
        (Exported::Known(Box::new(Held { found: held, state })), Some(count)),
        (Exported::Known(Box::new(Runs(Vec::new()))), Some(0)),
        (of_scan(directories(), ""), Some(3)),
        (of_scan(files(), ""), Some(4)),
        (of_scan(files(), "ext:log"), Some(2)),
    ];
    let matrix = Classes::default();
    // and a column for what has no known age
    let cells = (matrix.sizes.len() + 1) * (matrix.ages.len() + 2);
    tables.push((of_scan(ages(), ""), Some(cells)));
    tables.extend(BreakdownBy::ALL.map(|by| (of_scan(slices(by), ""), None)));
    for (number, (what, rows)) in tables.into_iter().enumerate() {
        let shown = match &what {
            Exported::Scan(of) => format!("{:?}, {}", of.query, of.lens),
            other => format!("{other:?}").chars().take(20).collect(),
        };
        let file = |ending: &str| office.home.join(format!("{number}.{ending}"));
        let units = UnitStyle::default();
        let mut one = Export { to: To::File(file("csv")), what, units };
        export(&one).unwrap();
        let mut csv = csv::ReaderBuilder::new().from_path(file("csv")).unwrap();
        let columns = csv.headers().unwrap().len();
        let records: Vec<_> = csv.records().map(Result::unwrap).collect();
        assert!(columns > 2, "{shown}");
        assert_eq!(records.len(), rows.unwrap_or(records.len()), "{shown}");
        for cell in records.iter().flatten() {
            // a spreadsheet takes these for formulas; and nothing drives a terminal
            assert!(!cell.starts_with(['=', '+', '@', '\t', '\r']), "{shown}: {cell:?}");
            assert!(!cell.contains(['\u{1b}', '\n']), "{shown}: {cell:?}");
        }
        one.to = To::File(file("json"));
        export(&one).unwrap();
        let document: serde_json::Value =
            serde_json::from_slice(&std::fs::read(file("json")).unwrap()).unwrap();
        // the same documents as the commands write
        let lists = ["children", "files", "slices", "volumes", "runs"];
        let list = lists.iter().find_map(|list| document[*list].as_array());
        assert_eq!(list.map_or(records.len(), Vec::len), records.len(), "{shown}");
        assert!(list.is_some() || document["cells"].is_array(), "{shown}: {document}");
        assert!(export(&one).is_err(), "nothing is overwritten");
        one.to = To::Clipboard;
        let Done::Copied(text, _) = export(&one).unwrap() else { panic!("{shown}") };
        assert_eq!(text.as_bytes(), std::fs::read(file("csv")).unwrap(), "{shown}");
    }
    let bytes = |lens: &str| {
        let what = of_scan(directories(), lens);
        let to = To::File(office.home.join(format!("{}.json", lens.len() + 100)));
        let Done::Written(file) =
            export(&Export { to, what, units: UnitStyle::default() }).unwrap()
        else {
            panic!("not written")
        };
        let text = std::fs::read(file).unwrap();
        let document: serde_json::Value = serde_json::from_slice(&text).unwrap();
        let rows = document["children"].as_array().unwrap().iter();
        rows.map(|row| row["allocated"].as_u64().unwrap()).sum::<u64>()
    };
    let narrowed = office.choose(&catalog, "ext:csv");
    let seen = catalog.read().unwrap();
    let top = seen.top().unwrap();
    assert_eq!(Bytes::new(bytes("ext:csv")), {
        let seen = seen.seen(Some(&narrowed));
        seen.children(top).map(|child| seen.allocated(child)).sum()
    });
}
