//! The table of commands, the model under messages, and whole screens drawn without a terminal.

mod ages;
mod at_random;
mod evidence;
mod jobs;
mod overlays;
mod screens;
mod troubles;

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use fondaco_core::analysis::breakdown;
use fondaco_core::books::{Figure, Matter, books};
use fondaco_core::carry_out::{Journal, RunState};
use fondaco_core::history::{Forecast, Outlook, Trend};
use fondaco_core::kernel::{DeletedFile, DeletedFiles, Hold, Kind, Process, Quota, QuotaOf};
use fondaco_core::plan::Deed;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::state::{SimulatedVolume, State};
use fondaco_core::units::{Bytes, Time};
use fondaco_core::volume::{Place, volumes};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::command_table::{COMMANDS, Command, Key, available};
use super::look_job::{Answer, Question, answer};
use super::looking::Manner;
use super::message::{Job, Message};
use super::model::{Model, Overlay, Selected, Station};
use super::update::update;
use crate::view::{self, Theme};

const NOW: Time = Time::at(2_000_000_000);

/// A model with a scanned tree on a simulated volume, on the Directories station.
struct Stage {
    _directory: tempfile::TempDir,
    scan: Scan,
    model: Model,
}

fn scan(root: &Path) -> Scan {
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
    fn new() -> Self {
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

    fn send(&mut self, message: Message) -> Vec<Job> {
        update(&mut self.model, message)
    }

    fn keys(&mut self, keys: &[Key]) -> Vec<Job> {
        keys.iter().flat_map(|key| update(&mut self.model, Message::Key(*key))).collect()
    }

    /// Presses keys and answers all that is asked of the scan, and what that asks in turn.
    fn look(&mut self, keys: &[Key]) {
        for key in keys {
            let mut jobs = self.keys(std::slice::from_ref(key));
            while let Some(job) = jobs.pop() {
                let Job::Ask(question) = job else { continue };
                jobs.extend(self.answer(*question));
            }
        }
    }

    /// Answers a question about the scan.
    fn answer(&mut self, question: Question) -> Vec<Job> {
        let (scan, number, took) = (question.scan, question.number, Duration::ZERO);
        let stop = std::sync::atomic::AtomicBool::new(false);
        match answer(question, &|_| {}, &stop) {
            Some(answer) => self.send(Message::Answered { scan, number, answer, took }),
            None => Vec::new(),
        }
    }

    /// The books of the simulated volume, with an entry that could not be read made up for them.
    fn draw_up_books(&mut self) {
        let volume = self.model.volumes[0].clone();
        let catalog = self.scan.shared_catalog();
        let catalog = catalog.read().unwrap();
        let drawn = books(&volume, Some(&catalog), &self.model.held, NOW).unwrap();
        self.model.books.of = Some(volume.mount_point.clone());
        let (number, outcome) = (self.model.books.number, Box::new(Ok(drawn)));
        self.send(Message::Books { number, outcome });
    }

    fn progress(&mut self) {
        let progress = self.scan.progress();
        self.send(Message::ScanProgress { number: 0, progress, done: true });
    }

    fn screen(&mut self, width: u16, height: u16, theme: &Theme) -> String {
        self.send(Message::Resize(width, height));
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal
            .draw(|frame| {
                view::draw(&self.model, frame, theme);
            })
            .unwrap();
        terminal.backend().to_string()
    }

    /// Models in as many places as there are.
    fn places() -> Vec<Self> {
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
            Station::ALL.into_iter().map(|station| at(station, None, true)).collect();
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
        letting_go.keys(&[Key::Char(' ')]);
        places.push(letting_go);
        let mut in_books = at(Station::Volumes, None, true);
        in_books.draw_up_books();
        in_books.keys(&[Key::Tab]);
        places.push(in_books);
        // looking at a scan: matrix, block, files below it, breakdown, map, list, lens
        let ways: [&[Key]; 9] = [
            &[Key::Char('3')],
            &[Key::Char('3'), Key::Up, Key::Char('b'), Key::Up, Key::Left],
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
    let commands: HashSet<Command> = COMMANDS.iter().map(|row| row.command).collect();
    assert_eq!(commands.len(), COMMANDS.len(), "each command has one row");
    assert!(COMMANDS.iter().all(|row| !row.keys.is_empty() && !row.help.is_empty()));
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
    assert!(matches!(&jobs[..], [Job::CarryOut(plan, _)] if plan.actions.len() == 1));
}

#[test]
fn the_cursor_follows_the_entry_and_levels_remember_it() {
    let mut stage = Stage::new();
    stage.keys(&[Key::Down]);
    let chosen = stage.model.directories.selected;
    stage.keys(&[Key::Char('o'), Key::Char('o'), Key::Char('o'), Key::Char('o')]);
    assert_eq!(stage.model.directories.selected, chosen, "another order keeps it");
    stage.progress();
    assert_eq!(stage.model.directories.selected, chosen, "a newer view keeps it");
    stage.keys(&[Key::Enter]);
    assert!(stage.model.directories.path.ends_with("buoy"));
    assert!(matches!(stage.model.directories.selected, Some(Selected::Entry(_))));
    stage.keys(&[Key::Escape]);
    assert_eq!(stage.model.directories.selected, chosen);
    // news of an earlier scan is not believed
    let entries = stage.model.scan.progress.entries;
    let progress = fondaco_core::scan::Progress { entries: 99, ..Default::default() };
    stage.send(Message::ScanProgress { number: 7, progress, done: false });
    assert_eq!(stage.model.scan.progress.entries, entries);
}

#[test]
fn a_tail_opens_a_name_is_found_and_ancestors_are_gone_to() {
    let mut stage = Stage::new();
    let root = stage.model.scan.roots[0].clone();
    for i in 0..40 {
        std::fs::write(root.join(format!("tile-{i:02}")), vec![1; 100 + i]).unwrap();
    }
    stage.scan = scan(&root);
    let catalog = stage.scan.shared_catalog();
    stage.model.scan.running = true;
    stage.send(Message::ScanBegun { number: 0, catalog });
    stage.progress();
    stage.send(Message::Resize(80, 24));
    let listed = stage.model.directories.ids.len();
    assert!(listed < 44 && stage.model.directories.tail.children == 44 - listed as u64);
    stage.keys(&[Key::End]);
    assert_eq!(stage.model.directories.selected, Some(Selected::Tail));
    stage.keys(&[Key::Enter]);
    assert_eq!((stage.model.directories.ids.len(), stage.model.directories.tail.children), (44, 0));
    assert_eq!(stage.model.directories.cursor(), Some(listed), "the first of the tail is selected");
    stage.keys(&[Key::PageDown, Key::End]);
    assert_eq!(stage.model.directories.cursor(), Some(43));
    assert!(stage.model.directories.offset > 0 && stage.model.directories.selected_row().is_some());
    // Esc closes the tail before it leaves the station
    stage.keys(&[Key::Escape]);
    assert!(!stage.model.directories.tail_open && stage.model.station == Station::Directories);
    // typing jumps, also to what lies in the tail
    stage.keys(&[Key::Char('f'), Key::Char('T'), Key::Char('i'), Key::Char('l'), Key::Char('e')]);
    stage.keys(&[Key::Char('-'), Key::Char('0'), Key::Char('3')]);
    assert_eq!(stage.model.directories.selected_row().unwrap().name, "tile-03");
    stage.keys(&[Key::Char('x')]);
    assert!(stage.model.notice.as_ref().unwrap().text.contains("No name here begins with"));
    stage.keys(&[Key::Enter, Key::Home, Key::Enter]);
    assert!(stage.model.directories.path.ends_with("tide"));
    stage.keys(&[Key::Tab, Key::Home, Key::Enter]);
    assert_eq!(stage.model.directories.path, root);
    assert!(stage.model.directories.selected_row().unwrap().name.starts_with("tide"));
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
    assert_eq!((stage.model.scan.number, stage.model.directories.selected), (0, selected));
    assert_eq!(stage.model.directories.rows.len(), 4);
    assert!(jobs.iter().any(|job| matches!(job, Job::Evidence { .. })), "{jobs:?}");
    // a scan that begins takes its place
    stage.keys(&[Key::Char('p')]);
    type_in(&mut stage, "/srv");
    let catalog = stage.scan.shared_catalog();
    let jobs = stage.send(Message::ScanBegun { number: 1, catalog });
    assert!(jobs.iter().any(|job| matches!(job, Job::LetGo(_))), "{jobs:?}");
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
    assert!(stage.model.directories.rows.iter().all(|row| row.planned == Some('D')));
    let refused = fondaco_core::plan::Refusal::Gone(root.join("tide"));
    stage.send(Message::Surveyed { path: root.join("tide"), outcome: Box::new(Err(refused)) });
    assert!(notice(&stage).contains("is gone"));
    assert_eq!(stage.model.draft.relief(&root).now, Bytes::ZERO, "what cannot go relieves nothing");
    stage.model.station = Station::Plan;
    let screen = stage.screen(160, 50, &Theme::new(view::Depth::None, false, false));
    assert!(screen.contains("is gone"), "{screen}");
    assert!(!available(&stage.model).any(|row| row.command == Command::CarryOut));
    stage.keys(&[Key::Delete]);
    assert!(stage.model.draft.is_empty());
}

#[test]
fn a_cut_off_run_is_announced_and_the_journal_offers_what_can_be_done() {
    let mut stage = Stage::new();
    let settled = fondaco_core::carry_out::Settled {
        run: 4,
        finished: 1,
        returned: 2,
        not_begun: 3,
        failed: 0,
    };
    let jobs = stage.send(Message::Settled(Ok(vec![settled])));
    assert!(matches!(&jobs[..], [Job::LoadJournal(_)]));
    assert!(stage.model.notice.as_ref().unwrap().text.contains("Run 4 had been cut off"));
    let path = stage.model.scan.roots[0].join("chart.png");
    let survey = fondaco_core::plan::survey(&path).unwrap();
    let mut journal = Journal::open(&stage.model.state.journal_file()).unwrap();
    let mut draft = fondaco_core::plan::Draft::default();
    draft.put(fondaco_core::plan::Planned {
        path: path.clone(),
        deed: fondaco_core::plan::Deed::SetAside,
        reason: "by hand".into(),
        volume: "/".into(),
        depot_on_volume: false,
        estimate: Bytes::ZERO,
        entries: 1,
        review: fondaco_core::plan::Review::Ready(Box::new(survey)),
    });
    let plan = draft.to_plan(Vec::new(), NOW).unwrap();
    let run = journal.begin(&plan, "token", NOW).unwrap();
    journal.end(run, RunState::CutOff, None, &[], NOW).unwrap();
    stage.keys(&[Key::Char('9')]);
    stage.send(Message::Journal(journal.runs().map_err(|e| e.to_string())));
    let offered = |stage: &Stage, command| available(&stage.model).any(|r| r.command == command);
    assert!(offered(&stage, Command::FinishRun) && !offered(&stage, Command::PutBackAll));
    stage.keys(&[Key::Enter]);
    let entries = journal.entries(run).map_err(|e| e.to_string());
    stage.send(Message::JournalRun { run, entries });
    let screen = stage.screen(160, 50, &Theme::new(view::Depth::True, false, false));
    assert!(screen.contains("not begun") && screen.contains("chart.png"), "{screen}");
    stage.keys(&[Key::Char(' ')]);
    assert!(stage.model.notice.as_ref().unwrap().text.contains("Nothing to put back"));
    stage.keys(&[Key::Escape]);
    assert!(stage.model.journal.open.is_none());
    // carrying out the rest takes us to the plan while it runs
    let jobs = stage.keys(&[Key::Char('F')]);
    assert!(matches!(&jobs[..], [Job::Finish(1, _)]));
    assert!(stage.model.station == Station::Plan && stage.model.run.is_active());
    assert!(offered(&stage, Command::StopRun) && !offered(&stage, Command::PlanIt));
    assert!(matches!(&stage.keys(&[Key::Char('S')])[..], [Job::StopRun]));
    stage.send(Message::CarriedOut(Box::new(Err("the journal is full".into()))));
    assert!(!stage.model.run.is_active());
    assert!(stage.model.notice.as_ref().unwrap().text.contains("the journal is full"));
}

#[test]
fn held_files_are_planned_with_a_warning_of_their_own_and_the_books_lead_there() {
    let mut stage = Stage::new();
    stage.keys(&[Key::Char('1')]);
    let theme = Theme::new(view::Depth::True, false, false);
    let screen = stage.screen(160, 50, &theme);
    assert!(screen.contains("64.0 KiB are held by deleted files"), "{screen}");
    // books of a volume that is scanned need no second scan
    let jobs = stage.keys(&[Key::Char('b')]);
    assert!(matches!(&jobs[..], [Job::Books { catalog: Some(_), .. }]), "{jobs:?}");
    stage.draw_up_books();
    // what an earlier request still says is not believed
    let number = stage.model.books.number - 1;
    stage.send(Message::Books { number, outcome: Box::new(Err("late".into())) });
    let drawn = stage.model.shown_books().unwrap();
    assert_eq!(drawn.line(Matter::Held).unwrap().figure, Figure::exact(65_536));
    // the made-up file is not really there: that is what is unexplained
    assert_eq!(drawn.unexplained(), Figure::exact(-65_536));
    stage.keys(&[Key::Tab, Key::Down, Key::Down]);
    let screen = stage.screen(160, 50, &theme);
    assert!(screen.contains("-65 536") && screen.contains("▸  deleted but open"), "{screen}");
    stage.keys(&[Key::Enter]);
    assert_eq!(stage.model.station, Station::Leftovers);
    // asked to end is offered first; killing only once that was in vain
    stage.keys(&[Key::Char(' ')]);
    let screen = stage.screen(80, 24, &theme);
    assert!(screen.contains("▸ e  end process") && !screen.contains("kill process"), "{screen}");
    stage.keys(&[Key::Escape]);
    stage.model.asked_in_vain.insert((0, 4711));
    stage.keys(&[Key::Char(' ')]);
    let screen = stage.screen(80, 24, &theme);
    assert!(screen.contains("▸ e  end process") && screen.contains("k  kill process"), "{screen}");
    stage.keys(&[Key::Enter]);
    let planned = &stage.model.draft.planned()[0];
    assert_eq!(planned.deed, Deed::End { by_force: false });
    assert_eq!(stage.model.planned_now(), Bytes::new(65_536));
    assert!(stage.screen(160, 50, &theme).contains("▸E     64.0 KiB"));
    stage.keys(&[Key::Char('8'), Key::Char('C')]);
    let screen = stage.screen(160, 50, &theme);
    assert!(screen.contains("tide-logger (pid 2464)") && screen.contains("asked"), "{screen}");
    assert!(screen.contains("None of it can be put back"), "{screen}");
    // changed to saving, it wants a new name first
    stage.keys(&[Key::Escape, Key::Char('c'), Key::Char('s')]);
    for c in "/no/such/place".chars() {
        stage.keys(&[Key::Char(c)]);
    }
    let jobs = stage.keys(&[Key::Enter]);
    let [Job::FindPlace(inode, to, true)] = &jobs[..] else { panic!("{jobs:?}") };
    let outcome = super::job::find_place(to);
    stage.send(Message::Place { inode: *inode, to: to.clone(), changes: true, outcome });
    let screen = stage.screen(160, 50, &theme);
    assert!(screen.contains("! /no/such: No such file"), "{screen}");
    assert!(screen.contains("▸ /no/such/place"), "what was typed can be mended: {screen}");
    assert_eq!(stage.model.draft.planned()[0].deed.word(), "end process");
    let to: std::path::PathBuf = "/kept.log".into();
    stage.keys(&[Key::Escape]);
    stage.send(Message::Place { inode: (0, 4711), to, changes: true, outcome: Ok(1) });
    assert_eq!(stage.model.draft.planned()[0].deed.word(), "save and cut");
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

#[test]
fn a_lens_narrows_at_once_and_old_answers_are_not_believed() {
    let mut stage = Stage::new();
    stage.look(&[Key::Char('/')]);
    for c in "ext:csv".chars() {
        stage.look(&[Key::Char(c)]);
    }
    stage.look(&[Key::Enter]);
    let shown = |stage: &Stage| {
        stage.model.directories.rows.iter().map(|row| row.name.clone()).collect::<Vec<_>>()
    };
    assert_eq!(shown(&stage), ["tide/"]);
    assert_eq!(stage.model.directories.entries, 1);
    assert!(stage.model.directories.all.1 > 5);
    // what was asked before the lens was taken off comes too late
    let late = stage.keys(&[Key::Char('/'), Key::Char('x')]);
    stage.look(&[Key::Escape, Key::Char('a')]);
    for job in late {
        let Job::Ask(question) = job else { continue };
        let (scan, number) = (question.scan, question.number);
        let stop = std::sync::atomic::AtomicBool::new(false);
        let answer = answer(*question, &|_| {}, &stop).unwrap();
        stage.send(Message::Answered { scan, number, answer, took: Duration::ZERO });
    }
    assert!(stage.model.looking.lens.selection.is_none() && shown(&stage).len() > 2);
    // a slice goes into the lens, and the list of files shows just it
    stage.look(&[Key::Char('4'), Key::Right, Key::Enter]);
    assert_eq!(stage.model.looking.lens.text, "ext:csv");
    stage.look(&[Key::Char('2'), Key::Char('l')]);
    assert_eq!(stage.model.looking.manner, Manner::Files);
    assert_eq!(stage.model.looking.files.files.list.whole.entries, 1);
    // as long as it is not known what passes, nothing is planned by the list of what passed before
    stage.model.looking.lens.waiting = true;
    assert!(stage.keys(&[Key::Char('A'), Key::Char('d')]).is_empty());
    assert!(stage.model.overlay.is_none());
    stage.model.looking.lens.waiting = false;
    let jobs = stage.keys(&[Key::Char('A'), Key::Char('d')]);
    assert!(matches!(&jobs[..], [Job::SurveyMany(m)] if m.lens == "ext:csv" && m.count == 1));
    let (deed, reason) = (Deed::Delete, String::new());
    stage.send(Message::SurveyedMany { scan: 0, deed, reason, surveyed: None });
    assert_eq!(stage.model.ready_actions(), 0, "others than were listed");
    let path = stage.model.scan.roots[0].join("tide/a.csv");
    let survey = fondaco_core::plan::survey(&path);
    let (deed, reason) = (Deed::Delete, "by hand".to_owned());
    let surveyed = vec![(path.clone(), survey), (path.clone(), fondaco_core::plan::survey(&path))];
    stage.send(Message::SurveyedMany { scan: 0, deed, reason, surveyed: Some(surveyed) });
    assert_eq!(stage.model.ready_actions(), 1, "nothing is planned twice");
}

#[test]
fn a_click_on_the_map_selects_what_lies_there_and_two_go_in() {
    let mut stage = Stage::new();
    stage.send(Message::Resize(160, 50));
    stage.look(&[Key::Char('m')]);
    let mut terminal = Terminal::new(TestBackend::new(160, 50)).unwrap();
    let theme = Theme::new(view::Depth::True, false, false);
    let mut hits = view::Hits::default();
    terminal.draw(|frame| hits = view::draw(&stage.model, frame, &theme)).unwrap();
    let mut on_map: Vec<_> = (0..50u16)
        .flat_map(|row| (0..160u16).map(move |column| (column, row)))
        .filter_map(|(column, row)| match hits.at(column, row)? {
            view::Target::Entry(id) => Some(id),
            _ => None,
        })
        .collect();
    on_map.sort();
    on_map.dedup();
    assert_eq!(on_map.len(), 4, "each of the four has a place");
    for id in on_map {
        stage.send(Message::ClickEntry { id, double: false });
        assert_eq!(stage.model.directories.selected, Some(Selected::Entry(id)));
    }
    let tide = stage.model.directories.rows.iter().find(|row| row.name == "tide/").unwrap().id;
    stage.send(Message::ClickEntry { id: tide, double: true });
    assert!(stage.model.directories.path.ends_with("tide"));
}

#[test]
fn while_a_scan_runs_questions_leave_it_sixty_times_as_long_as_they_take() {
    let mut stage = Stage::new();
    stage.model.scan.running = true;
    let grown = |stage: &mut Stage, elapsed: u64| {
        let mut progress = stage.scan.progress();
        progress.elapsed = Duration::from_millis(elapsed);
        let grows = Message::ScanProgress { number: 0, progress, done: false };
        let asked = |job: Job| if let Job::Ask(question) = job { Some(*question) } else { None };
        stage.send(grows).into_iter().filter_map(asked).collect::<Vec<_>>()
    };
    assert_eq!(grown(&mut stage, 1000).len(), 0, "without a lens the cascade asks nothing");
    stage.keys(&[Key::Char('4')]);
    let first = grown(&mut stage, 1050);
    assert_eq!(first.len(), 0, "the question of the station is still on its way");
    let asked = stage.model.looking.asked;
    let found = stage.scan.catalog();
    let top = found.top().unwrap();
    let slices = breakdown(found.whole(), top, Default::default());
    drop(found);
    let answer = Answer::Breakdown(Arc::new(slices));
    let (number, took) = (asked[3], Duration::from_millis(25));
    stage.send(Message::Answered { scan: 0, number, answer, took });
    assert!(stage.model.looking.breakdown.largest.is_some());
    assert_eq!(grown(&mut stage, 2500).len(), 0);
    assert_eq!(grown(&mut stage, 2600).len(), 1, "60 × 25 ms later");
    assert_eq!(grown(&mut stage, 2700).len(), 0, "not twice");
}
