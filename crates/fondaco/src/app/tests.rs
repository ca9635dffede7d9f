//! The table of commands, the model under messages, and whole screens drawn without a terminal.

use std::collections::HashSet;
use std::path::Path;

use fondaco_core::scan::{Options, Scan};
use fondaco_core::state::{SimulatedVolume, State};
use fondaco_core::units::{Bytes, Time};
use fondaco_core::volume::volumes;
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::command_table::{COMMANDS, Command, Key, available};
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
    let options = Options { cross_volumes: false, threads: 1, now: NOW };
    let mut scan = Scan::start(&[root.to_owned()], &options).unwrap();
    scan.wait();
    scan
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
        update(&mut model, Message::Volumes(listed));
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
        let unread = Overlay::Unreadable { places: places_unread, offset: 3 };
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
