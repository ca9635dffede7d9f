//! The table of commands, the model under messages, and whole screens drawn without a terminal.

mod at_random;
mod evidence;
mod jobs;
mod names;
mod overlays;
mod screens;
mod troubles;

use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::time::Duration;

use fondaco_core::history::{Forecast, Outlook, Trend};
use fondaco_core::kernel::{DeletedFile, DeletedFiles, Hold, Kind, Process, Quota, QuotaOf};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::state::{SimulatedVolume, State};
use fondaco_core::units::{Bytes, Time};
use fondaco_core::volume::{Place, volumes};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::commands::{Key, OF_ALL_STATIONS, available, named};
use super::message::{Job, Message};
use super::model::{Model, Overlay};
use super::names::NameQuestion;
use super::questions::{Asked, answer};
use super::update::update;
use crate::frame::view::{self, Theme};
use crate::station::tests::{draw_up_books, watched, with_changes};
use crate::station::{Station, WAYS};

pub const NOW: Time = Time::at(2_000_000_000);

/// A model with a scanned tree on a simulated volume, on the Directories station.
pub struct Stage {
    _directory: tempfile::TempDir,
    pub scan: Scan,
    pub model: Model,
}

pub fn scan(root: &Path) -> Scan {
    let options = Options { threads: 1, ..Options::new(NOW) };
    let mut scan = Scan::start(&[root.to_owned()], &options).unwrap();
    scan.wait();
    scan
}

/// A deleted log of 64 KiB on the simulated volume, with a name that would drive the terminal.
fn held_file(model: &Model) -> DeletedFile {
    let process = Process { pid: 2464, started: 1, user: 0, command: "tide-logger".to_owned() };
    let hold = Hold { process, descriptors: vec![3], mapped: false, directory: false };
    DeletedFile {
        volume: 0,
        dev: 0,
        ino: 4711,
        kind: Kind::File,
        path: model.scan.roots[0].join("tide/\u{1b}[2Jlog"),
        size: 65_000,
        allocated: Some(Bytes::new(65_536)),
        changed: NOW,
        written: NOW,
        holds: vec![hold],
    }
}

impl Stage {
    pub fn new() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let home = directory.path().canonicalize().unwrap();
        let root = home.join("seamark");
        for (name, size) in [("tide/a.csv", 90_000), ("buoy/b.log", 50_000), ("chart.png", 9_000)] {
            std::fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
            std::fs::write(root.join(name), vec![1; size]).unwrap();
        }
        std::fs::write(root.join("\u{1b}[2Jshort\n"), b"x").unwrap();
        let mut state = State::open(&home.join("state")).unwrap();
        let capacity = Bytes::new(200_000);
        state.settings.simulated.push(SimulatedVolume { path: root.clone(), capacity });
        let listed = volumes(&state);
        let scan = scan(&root);
        let mut model = Model::new(state, NOW, (160, 50));
        model.scan.roots = vec![root];
        model.scan.running = true;
        model.station = Station::Directories;
        let held = DeletedFiles { files: vec![held_file(&model)], ..DeletedFiles::default() };
        let outlooks = listed.iter().map(|_| Outlook::NotYet).collect();
        update(&mut model, Message::Volumes { volumes: listed, outlooks, held, interfaces: 7 });
        let mut stage = Self { _directory: directory, scan, model };
        let catalog = stage.scan.shared_catalog();
        stage.send(Message::ScanBegun { number: 0, catalog });
        stage.progress();
        stage
    }

    pub fn send(&mut self, message: Message) -> Vec<Job> {
        let mut jobs = update(&mut self.model, message);
        jobs.extend(self.answer_names());
        jobs
    }

    /// Answers at once what is asked about accounts.
    fn answer_names(&mut self) -> Vec<Job> {
        let wanted = self.model.names.take_wanted();
        let answer = |question: NameQuestion| {
            let answer = question.ask(&self.model.state);
            update(&mut self.model, Message::Named { question, answer })
        };
        wanted.into_iter().flat_map(answer).collect()
    }

    pub fn keys(&mut self, keys: &[Key]) -> Vec<Job> {
        keys.iter().flat_map(|key| self.send(Message::Key(*key))).collect()
    }

    /// Presses keys and answers all that is asked of the scan, and what that asks in turn.
    pub fn look(&mut self, keys: &[Key]) {
        for key in keys {
            let mut jobs = self.keys(std::slice::from_ref(key));
            while let Some(job) = jobs.pop() {
                let Job::Ask(question) = job else { continue };
                jobs.extend(self.answer(*question));
            }
        }
    }

    /// Does work, answers questions, and what their news set off in turn.
    pub fn work(&mut self, mut jobs: Vec<Job>) {
        while let Some(job) = jobs.pop() {
            match job {
                Job::Work(work) => jobs.extend(work.run().take(&mut self.model)),
                Job::Ask(question) => jobs.extend(self.answer(*question)),
                _ => {}
            }
        }
    }

    /// Presses keys and does all that they set off.
    pub fn work_keys(&mut self, keys: &[Key]) {
        for key in keys {
            let jobs = self.send(Message::Key(*key));
            self.work(jobs);
        }
    }

    /// Answers a question about the scan.
    pub fn answer(&mut self, question: Asked) -> Vec<Job> {
        let (scan, number, took) = (question.scan, question.number, Duration::ZERO);
        let sort = question.about.sort();
        let stop = std::sync::atomic::AtomicBool::new(false);
        match answer(question, &|_| {}, &stop) {
            Some(answer) => self.send(Message::Answered { scan, sort, number, answer, took }),
            None => Vec::new(),
        }
    }

    pub fn progress(&mut self) {
        let progress = self.scan.progress();
        self.send(Message::ScanProgress { number: 0, progress, done: true });
    }

    pub fn screen(&mut self, width: u16, height: u16, theme: &Theme) -> String {
        self.send(Message::Resize(width, height));
        // names that are missed while it is drawn are there for the next frame
        let mut first = Terminal::new(TestBackend::new(width, height)).unwrap();
        first.draw(|frame| drop(view::draw(&self.model, frame, theme))).unwrap();
        self.answer_names();
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal
            .draw(|frame| {
                view::draw(&self.model, frame, theme);
            })
            .unwrap();
        terminal.backend().to_string()
    }

    /// Models in as many places as there are.
    pub fn places() -> Vec<Self> {
        let at = |station, overlay: Option<Overlay>, plans: bool| {
            let mut stage = Self::new();
            if plans {
                stage.keys(&[Key::Char(' '), Key::Char('d')]);
            }
            stage.model.station = station;
            stage.model.overlay = overlay;
            stage
        };
        let mut places: Vec<Self> =
            Station::ALL.iter().map(|station| at(*station, None, true)).collect();
        places.push(at(Station::Directories, Some(Overlay::Help { offset: 0 }), false));
        let palette = Overlay::Palette { typed: String::new(), cursor: 0 };
        places.push(at(Station::Volumes, Some(palette), false));
        let places_unread =
            vec!["cannot read directory /srv/\\x1b[2J: Permission denied".into(); 90];
        let title = "90 places could not be read".to_owned();
        let unread = Overlay::Listing { title, lines: places_unread, offset: 3 };
        places.push(at(Station::Directories, Some(unread), false));
        let mut choosing = at(Station::Directories, None, false);
        choosing.keys(&[Key::Char(' ')]);
        places.push(choosing);
        let mut scanning = at(Station::Directories, None, false);
        scanning.model.scan.running = true;
        places.push(scanning);
        let mut trail = at(Station::Directories, None, false);
        trail.keys(&[Key::Enter, Key::Tab]);
        places.push(trail);
        let mut letting_go = at(Station::Leftovers, None, true);
        letting_go.keys(&[Key::Enter, Key::Char(' ')]);
        places.push(letting_go);
        let mut in_books = at(Station::Volumes, None, true);
        draw_up_books(&mut in_books);
        in_books.keys(&[Key::Tab]);
        places.push(in_books);
        // looking at a scan: matrix, block, files below it, breakdown, map, list, lens
        let ways: [&[Key]; 9] = [
            &[Key::Char('3')],
            &[Key::Char('3'), Key::Up, Key::Char('x'), Key::Up, Key::Left],
            &[Key::Char('3'), Key::Char('t'), Key::Char('t'), Key::Char('t')],
            &[Key::Char('3'), Key::Tab],
            &[Key::Char('3'), Key::Char('A')],
            &[Key::Char('4'), Key::Right, Key::Right, Key::Right, Key::Right, Key::Down],
            &[Key::Char('m'), Key::Down],
            &[Key::Char('l'), Key::Char('o')],
            &[Key::Char('/'), Key::Char('k'), Key::Down],
        ];
        for way in ways {
            let mut looking = at(Station::Directories, None, true);
            looking.look(way);
            places.push(looking);
        }
        let mut grown = with_changes();
        grown.work_keys(&[Key::Char('2'), Key::Char('g')]);
        let mut sliced = with_changes();
        sliced.work_keys(&[Key::Char('y'), Key::Char('y')]);
        let mut changes = with_changes();
        changes.work_keys(&[Key::Tab]);
        places.extend(vec![with_changes(), grown, sliced, changes, watched()]);
        let mut lens = at(Station::Directories, None, false);
        lens.look(&[Key::Char('/'), Key::Char('x'), Key::Char(':'), Key::Char('y')]);
        places.push(lens);
        let mut narrowed = at(Station::Directories, None, false);
        narrowed.look(&[Key::Char('/'), Key::Char('z'), Key::Enter]);
        places.push(narrowed);
        places
    }
}

#[test]
fn no_key_means_two_things_in_one_place() {
    for stage in Stage::places() {
        let mut taken = HashSet::new();
        for row in available(&stage.model) {
            for key in row.keys {
                let place = stage.model.station;
                assert!(
                    taken.insert(key),
                    "{key} is taken in {place:?}, yet `{}` wants it",
                    row.name
                );
            }
        }
        assert!(taken.contains(&Key::Char('q')) && taken.contains(&Key::Escape));
    }
    // and a letter means the same on every station; Space is the one that takes and leaves
    let mut meanings: HashMap<Key, &str> = HashMap::new();
    for row in Station::ALL.iter().flat_map(|s| s.room().commands()).chain(OF_ALL_STATIONS) {
        for key in row.keys.iter().filter(|key| matches!(key, Key::Char(c) if *c != ' ')) {
            let meaning = *meanings.entry(*key).or_insert(row.name);
            // `v` looks into files, into one or into all of a kind; `S` stops what goes on
            let same = meaning == row.name || [Key::Char('v'), Key::Char('S')].contains(key);
            assert!(same, "{key} is `{meaning}` and `{}`", row.name);
        }
    }
    let of_stations = Station::ALL.iter().flat_map(|station| station.room().commands());
    let mut all = of_stations.chain(OF_ALL_STATIONS).chain(WAYS);
    assert!(all.all(|row| !row.keys.is_empty() && !row.help.is_empty() && !row.name.is_empty()));
}

#[test]
fn every_screen_is_whole_at_every_size_and_no_name_drives_the_terminal() {
    let themes = [
        Theme::new(view::Depth::True, false, false),
        Theme::new(view::Depth::Sixteen, false, true),
        Theme::new(view::Depth::None, true, false),
    ];
    for mut stage in Stage::places() {
        for (width, height) in
            [(160, 50), (120, 36), (80, 24), (72, 20), (40, 10), (1, 1), (300, 20)]
        {
            for (i, theme) in themes.iter().enumerate() {
                let screen = stage.screen(width, height, theme);
                assert!(!screen.contains('\u{1b}'), "{screen}");
                assert!(i != 1 || screen.is_ascii(), "not ASCII:\n{screen}");
                if (width, height) >= (72, 20) {
                    // the gauge is never hidden
                    assert!(screen.contains("level") && screen.contains("waterline"), "{screen}");
                    assert!(screen.contains("quit"), "{screen}");
                }
            }
        }
    }
}

#[test]
fn the_gauge_moves_at_once_and_the_close_look_confirms_it() {
    let mut stage = Stage::new();
    let root = stage.model.scan.roots[0].clone();
    let jobs = stage.keys(&[Key::Char(' '), Key::Char('d')]);
    let planned = stage.model.draft.relief(&root).now;
    assert!(planned >= Bytes::new(90_000), "{planned:?}");
    let surveys: Vec<_> = jobs.iter().filter(|job| matches!(job, Job::Survey(..))).collect();
    assert_eq!(surveys.len(), 1);
    let path = root.join("tide");
    let outcome = Box::new(fondaco_core::plan::survey(&path));
    stage.send(Message::Surveyed { path, outcome });
    assert_eq!(stage.model.draft.relief(&root).now, planned);
    // carrying out needs the very number
    stage.model.station = Station::Plan;
    stage.keys(&[Key::Char('C'), Key::Char('7')]);
    assert!(stage.keys(&[Key::Enter]).is_empty());
    let jobs = stage.keys(&[Key::Backspace, Key::Char('1'), Key::Enter]);
    assert!(matches!(&jobs[..], [Job::CarryOut(plan, _)] if plan.ready() == 1));
}

#[test]
fn typed_answers_are_checked_and_only_the_right_one_acts() {
    let mut stage = Stage::new();
    let type_in = |stage: &mut Stage, text: &str| -> Vec<Job> {
        let mut jobs = stage.send(Message::Paste(text.to_owned()));
        jobs.extend(stage.keys(&[Key::Enter]));
        jobs
    };
    let error = |stage: &Stage| match &stage.model.overlay {
        Some(Overlay::Ask { error, .. }) => error.clone().unwrap_or_default(),
        _ => String::new(),
    };
    stage.keys(&[Key::Char('w')]);
    assert!(type_in(&mut stage, "high").is_empty());
    assert!(error(&stage).contains("percent"), "{}", error(&stage));
    stage.keys(&[Key::Escape, Key::Char('w')]);
    let jobs = type_in(&mut stage, "62.5 %");
    assert!(matches!(&jobs[..], [Job::Save(_)]) && stage.model.overlay.is_none());
    assert_eq!(stage.model.gauge_volume().unwrap().waterline.to_string(), "62.5 %");
    stage.keys(&[Key::Char('p')]);
    assert!(type_in(&mut stage, "relative/path").is_empty());
    assert!(error(&stage).contains("begins with /"));
    stage.keys(&[Key::Escape, Key::Char('p')]);
    let jobs = type_in(&mut stage, "/srv");
    assert!(
        jobs.iter()
            .any(|job| matches!(job, Job::Scan(1, roots, _) if roots == &[Path::new("/srv")]))
    );
    // a refusal says what to do next, and costs nothing: what was there before is there again
    let selected = stage.model.before_scan.as_ref().unwrap().1.selected;
    stage.keys(&[Key::Char('p')]);
    type_in(&mut stage, "/srv/typed/again");
    assert_eq!(stage.model.scan.number, 2);
    let jobs = stage.send(Message::ScanRefused { number: 2, reason: "there is no /srv".into() });
    assert!(stage.model.notice.as_ref().unwrap().text.contains("Type another path with p"));
    assert_eq!((stage.model.scan.number, stage.model.place.selected), (0, selected));
    assert_eq!(stage.model.list_length(), 4);
    assert!(jobs.iter().any(|job| matches!(job, Job::Evidence { .. })), "{jobs:?}");
    // a scan that begins takes its place
    stage.keys(&[Key::Char('p')]);
    type_in(&mut stage, "/srv");
    let catalog = stage.scan.shared_catalog();
    let jobs = stage.send(Message::ScanBegun { number: 1, catalog });
    assert!(jobs.iter().any(|job| matches!(job, Job::DropLater(_))), "{jobs:?}");
    assert!(stage.model.before_scan.is_none());
}

#[test]
fn leaving_asks_only_when_something_would_be_forgotten() {
    let mut stage = Stage::new();
    stage.keys(&[Key::Escape, Key::Escape, Key::Escape]);
    assert!(!stage.model.quitting, "Esc never leaves");
    stage.keys(&[Key::Char('2'), Key::Char(' '), Key::Char('s'), Key::Char('q')]);
    assert!(!stage.model.quitting);
    stage.send(Message::Paste("no".into()));
    stage.keys(&[Key::Enter]);
    assert!(!stage.model.quitting && stage.model.draft.planned().len() == 1);
    stage.keys(&[Key::Backspace, Key::Backspace]);
    stage.send(Message::Paste("quit".into()));
    stage.keys(&[Key::Enter]);
    assert!(stage.model.quitting);
    let mut idle = Stage::new();
    idle.keys(&[Key::Char('q')]);
    assert!(idle.model.quitting);
}

#[test]
fn what_is_planned_is_protected_from_a_second_plan_and_says_so() {
    let mut stage = Stage::new();
    let root = stage.model.scan.roots[0].clone();
    let notice = |stage: &Stage| stage.model.notice.as_ref().map_or("", |n| &n.text).to_owned();
    stage.keys(&[Key::Char(' '), Key::Char('d'), Key::Up, Key::Enter, Key::Char(' ')]);
    assert!(notice(&stage).contains("Goes already with"), "{}", notice(&stage));
    assert!(stage.model.overlay.is_none());
    // every row inside carries the deed of what holds it
    let inside = stage.screen(160, 50, &Theme::new(view::Depth::None, false, false));
    let rows = inside.lines().filter(|line| line.contains(".csv")).collect::<Vec<_>>();
    assert!(!rows.is_empty() && rows.iter().all(|row| row.contains("D ")), "{inside}");
    let refused = fondaco_core::plan::Refusal::Gone(root.join("tide"));
    stage.send(Message::Surveyed { path: root.join("tide"), outcome: Box::new(Err(refused)) });
    assert!(notice(&stage).contains("is gone"));
    assert_eq!(stage.model.draft.relief(&root).now, Bytes::ZERO, "what cannot go relieves nothing");
    stage.model.station = Station::Plan;
    let screen = stage.screen(160, 50, &Theme::new(view::Depth::None, false, false));
    assert!(screen.contains("is gone"), "{screen}");
    assert!(named(&stage.model, "carry out").is_none());
    stage.keys(&[Key::Delete]);
    assert!(stage.model.draft.is_empty());
}

#[test]
fn volumes_tell_of_inodes_limits_other_places_and_where_they_are_going() {
    let mut stage = Stage::new();
    stage.keys(&[Key::Char('1')]);
    let place = |at: &str, root: &str| Place {
        mount_point: at.into(),
        root: root.into(),
        read_only: root == "/tide",
    };
    let quota = Quota {
        of: QuotaOf::Project,
        id: 7,
        used: Bytes::new(95 << 20),
        soft: Bytes::ZERO,
        hard: Bytes::new(100 << 20),
        inodes: 0,
        inodes_soft: 0,
        inodes_hard: 0,
    };
    let trend = Trend { low: 1e6, rise: 2e6, high: 4e6, days: 30.0, falls: 2 };
    let forecast = Forecast { soonest: 6.0, days: 12.0, latest: Some(25.0) };
    let volume = &mut stage.model.volumes[0];
    let capacity = volume.capacity.as_mut().unwrap();
    (capacity.inodes, capacity.inodes_free) = (1000, 40);
    volume.also = vec![place("/mnt/a", "/"), place("/mnt/b", "/tide"), place("/mnt/c", "/")];
    volume.also.extend([place("/mnt/d", "/"), place("/mnt/e", "/")]);
    volume.quotas = vec![quota, Quota { id: 8, used: Bytes::new(1), ..quota }];
    let at = volume.mount_point.clone();
    assert!(volume.short_of_inodes() && volume.tight_quotas().count() == 1);
    stage.model.outlooks.insert(at, Outlook::Full(trend, forecast));
    let theme = Theme::new(view::Depth::None, false, false);
    let wide = stage.screen(160, 50, &theme);
    for text in [
        "! 96 %",
        "! limit of project 7  95 % of 100.0 MiB",
        "the same space at /mnt/b (its /tide), read-only",
        "and at 2 more places",
        "12 d",
        "Short of inodes",
        "12 d, 6 d to 25 d",
        "2 clean-ups in 30 d",
    ] {
        assert!(wide.contains(text), "{text} in\n{wide}");
    }
    // the list stays short; evidence has all of them
    assert!(!wide.contains("same space at /mnt/e") && wide.contains("/mnt/e"), "{wide}");
    assert!(!wide.contains("! limit of project 8") && wide.contains("project 8"), "{wide}");
    let narrow = stage.screen(80, 24, &theme);
    for text in ["! 96 %", "! limit of project 7", "12 d", "Short of inodes"] {
        assert!(narrow.contains(text), "{text} in\n{narrow}");
    }
    // what has not been measured for long is said to have no forecast, never given one
    stage.model.outlooks.clear();
    assert!(stage.screen(160, 50, &theme).contains("no forecast yet"));
}
