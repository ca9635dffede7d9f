//! The history driven by keys: the tide, what changed, who writes now.

use std::path::PathBuf;
use std::sync::Arc;

use fondaco_core::activity::{Activity, GrowingDirectory, Writer};
use fondaco_core::history::{History, Sample, keep_scan};
use fondaco_core::kernel::Process;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::{Bytes, Time};

use super::now::Seen;
use crate::frame::commands::Key;
use crate::frame::message::{Job, Message};
use crate::frame::model::Overlay;
use crate::frame::tests::{NOW, Stage};
use crate::frame::view::{Depth, Theme};

const DAY: i64 = 86_400;

fn screen(stage: &mut Stage) -> String {
    stage.screen(160, 50, &Theme::new(Depth::None, false, false))
}

/// Keeps a scan of the place as it was so many days ago, with one more file and one that was larger.
fn keep_earlier(stage: &Stage, days: i64) {
    let root = stage.model.scan.roots[0].clone();
    let old = root.join("tide/old.csv");
    std::fs::write(&old, vec![1; 40_000]).unwrap();
    let file = std::fs::OpenOptions::new().append(true).open(root.join("chart.png")).unwrap();
    let length = file.metadata().unwrap().len();
    std::io::Write::write_all(&mut &file, &vec![1; 20_000]).unwrap();
    let options = Options { threads: 1, ..Options::new(Time::at(NOW.sec - days * DAY)) };
    let mut scan = Scan::start(&[root], &options).unwrap();
    scan.wait();
    keep_scan(&stage.model.state, &scan.catalog(), false).unwrap();
    std::fs::remove_file(old).unwrap();
    file.set_len(length).unwrap();
}

/// Ten days of levels: a rise, and a fall five days ago.
fn keep_levels(stage: &Stage) {
    let root = stage.model.scan.roots[0].clone();
    let sample = |hours: i64| {
        let since = if hours < 120 { 240 - hours - 120 } else { 240 - hours };
        let used = Bytes::new(100_000 + since as u64 * 300);
        Sample {
            at: Time::at(NOW.sec - hours * 3600),
            used,
            free: Bytes::new(200_000 - used.get()),
            inodes_used: 0,
            inodes: 0,
        }
    };
    let samples: Vec<_> = (1..=240)
        .rev()
        .step_by(6)
        .map(|hours| (root.as_path(), root.as_path(), sample(hours)))
        .collect();
    History::open(&stage.model.state.history_file()).unwrap().keep(&samples).unwrap();
}

/// A stage with a tide and something that has changed, on the station.
pub fn with_changes() -> Stage {
    let mut stage = Stage::new();
    keep_levels(&stage);
    keep_earlier(&stage, 6);
    stage.work_keys(&[Key::Char('0')]);
    stage
}

/// A stage on which it is watched who writes.
pub fn watched() -> Stage {
    let mut stage = with_changes();
    stage.keys(&[Key::Char('n')]);
    let process = Process::look(std::process::id()).unwrap();
    let (number, seen) = (stage.model.rooms.history.now.number(), Ok(Arc::new(activity(process))));
    stage.send(Message::News(Box::new(Seen { number, seen })));
    stage
}

#[test]
fn the_tide_is_moved_through_and_what_changed_is_told_for_any_two_moments() {
    let mut stage = Stage::new();
    stage.work_keys(&[Key::Char('0')]);
    assert!(screen(&mut stage).contains("No earlier scan of this place is kept"));
    let mut stage = Stage::new();
    keep_levels(&stage);
    keep_earlier(&stage, 6);
    keep_earlier(&stage, 2);
    stage.work_keys(&[Key::Char('0')]);
    let seen = screen(&mut stage);
    assert!(seen.contains("▽") && seen.contains("█") && seen.contains("80 %"), "{seen}");
    assert!(seen.contains("It rises by"), "{seen}");
    // the last scan before this one is what it is compared with
    assert!(seen.contains("< scan 2 of") && seen.contains("2 d between them"), "{seen}");
    let row = seen.lines().find(|line| line.contains("shrunk") && line.contains("tide/")).unwrap();
    assert!(row.contains("-40.0 KiB"), "{row}");
    assert!(seen.lines().any(|line| line.contains("chart.png") && line.contains("shrunk")));
    // into the directory, and out again
    stage.work_keys(&[Key::Enter]);
    let seen = screen(&mut stage);
    assert!(seen.lines().any(|line| line.contains("old.csv") && line.contains("gone")), "{seen}");
    stage.work_keys(&[Key::Escape]);
    // an earlier moment, by the scan before and by the tide
    stage.work_keys(&[Key::Char('[')]);
    assert!(screen(&mut stage).contains("< scan 1 of"));
    stage.work_keys(&[Key::Char(']')]);
    assert!(screen(&mut stage).contains("< scan 2 of"));
    for _ in 0..50 {
        stage.work_keys(&[Key::Left]);
    }
    stage.work_keys(&[Key::Char('<')]);
    assert!(screen(&mut stage).contains("< scan 1 of"));
    // to a kept scan: between the two nothing changed
    for _ in 0..35 {
        stage.work_keys(&[Key::Right]);
    }
    stage.work_keys(&[Key::Char('>')]);
    let seen = screen(&mut stage);
    assert!(seen.contains("> scan 2 of") && seen.contains("Nothing has changed here"), "{seen}");
    for _ in 0..50 {
        stage.work_keys(&[Key::Right]);
    }
    stage.work_keys(&[Key::Char('>'), Key::Char('y')]);
    let seen = screen(&mut stage);
    assert!(seen.contains("the scan at hand"), "{seen}");
    assert!(
        seen.lines().any(|line| line.contains("table") && line.contains("-40.0 KiB")),
        "{seen}"
    );
    // closer, and out again
    stage.work_keys(&[Key::Char('+'), Key::Char('+')]);
    assert!(stage.model.rooms.history.tide.window.is_some());
    stage.work_keys(&[Key::Char('-'), Key::Char('-'), Key::Char('-')]);
    assert!(stage.model.rooms.history.tide.window.is_none());
}

/// Between two kept scans too the lens narrows what is told, and nothing is told of them that is of another lens.
#[test]
fn two_kept_scans_are_compared_anew_under_another_lens() {
    let mut stage = Stage::new();
    keep_levels(&stage);
    keep_earlier(&stage, 6);
    let root = stage.model.scan.roots[0].clone();
    let options = Options { threads: 1, ..Options::new(Time::at(NOW.sec - 2 * DAY)) };
    let mut scan = Scan::start(&[root], &options).unwrap();
    scan.wait();
    keep_scan(&stage.model.state, &scan.catalog(), false).unwrap();
    stage.work_keys(&[Key::Char('0'), Key::Char('[')]);
    (0..6).for_each(|_| stage.work_keys(&[Key::Left]));
    stage.work_keys(&[Key::Char('>')]);
    let seen = screen(&mut stage);
    assert!(seen.contains("< scan 1 of") && seen.contains("> scan 2 of"), "{seen}");
    let changes = |seen: &str, name: &str| {
        seen.lines().any(|line| line.contains(name) && line.contains("shrunk"))
    };
    assert!(changes(&seen, "tide/") && changes(&seen, "chart.png"), "{seen}");
    stage.work_keys(&[Key::Char('2'), Key::Char('/')]);
    let jobs = stage.send(Message::Paste("ext:png".to_owned()));
    stage.work(jobs);
    stage.work_keys(&[Key::Enter, Key::Char('0')]);
    let seen = screen(&mut stage);
    assert!(seen.contains("> scan 2 of"), "{seen}");
    assert!(changes(&seen, "chart.png") && !changes(&seen, "tide/"), "{seen}");
    // by a property, which is added up beside the screen
    stage.work_keys(&[Key::Char('y')]);
    let seen = screen(&mut stage);
    assert!(
        seen.lines().any(|line| line.contains("image") && line.contains("-20.0 KiB")),
        "{seen}"
    );
}

/// On a low screen the tide stands in place of what changed: nothing unseen is told about, moved to or planned.
#[test]
fn what_stands_behind_the_tide_is_not_acted_on() {
    let mut stage = Stage::new();
    keep_levels(&stage);
    keep_earlier(&stage, 3);
    let low = |stage: &mut Stage| stage.screen(80, 24, &Theme::new(Depth::None, false, false));
    low(&mut stage);
    stage.work_keys(&[Key::Char('0')]);
    let seen = low(&mut stage);
    assert!(seen.contains("clean-ups") && !seen.contains("exclusive"), "{seen}");
    assert!(!seen.contains("Space") && !seen.contains("Enter"), "{seen}");
    stage.work_keys(&[Key::Down, Key::Char(' '), Key::Enter]);
    assert!(stage.model.overlay.is_none(), "{:?}", stage.model.overlay);
    stage.work_keys(&[Key::Tab, Key::Down]);
    let seen = low(&mut stage);
    assert!(seen.contains("chart.png") && seen.contains("Space plan it"), "{seen}");
    stage.keys(&[Key::Char(' '), Key::Char('s')]);
    assert_eq!(stage.model.draft.planned().len(), 1);
}

#[test]
fn what_is_large_and_new_is_planned_from_the_history_and_a_lens_narrows_it() {
    let mut stage = Stage::new();
    keep_earlier(&stage, 3);
    stage.work_keys(&[Key::Char('0'), Key::Down]);
    let seen = screen(&mut stage);
    assert!(seen.contains("▸") && seen.contains("chart.png"), "{seen}");
    let jobs = stage.keys(&[Key::Char(' '), Key::Char('s')]);
    assert!(jobs.iter().any(|job| matches!(job, Job::Survey(..))), "{jobs:?}");
    assert_eq!(stage.model.draft.planned().len(), 1);
    // what is gone cannot be planned
    stage.work_keys(&[Key::Up, Key::Enter]);
    stage.keys(&[Key::Char(' ')]);
    assert!(stage.model.overlay.is_none());
    // under a lens only what passes
    stage.work_keys(&[Key::Backspace, Key::Char('2'), Key::Char('/')]);
    let jobs = stage.send(Message::Paste("ext:png".to_owned()));
    stage.work(jobs);
    stage.work_keys(&[Key::Enter, Key::Char('0')]);
    let seen = screen(&mut stage);
    assert!(seen.contains("chart.png") && !seen.contains("tide/"), "{seen}");
}

#[test]
fn growth_stands_beside_directories_and_slices() {
    let mut stage = Stage::new();
    keep_earlier(&stage, 4);
    stage.work_keys(&[Key::Char('g')]);
    let seen = screen(&mut stage);
    assert!(seen.contains("in 4 d"), "{seen}");
    let of = |seen: &str, name: &str| {
        seen.lines().find(|line| line.contains(name)).unwrap_or_default().to_owned()
    };
    assert!(of(&seen, "tide/").contains("-40.0 KiB"), "{seen}");
    assert!(of(&seen, "buoy/").contains('='), "{seen}");
    // ordered by what grew, what shrank is last
    stage.work_keys(&[Key::Char('o'); 5]);
    let seen = screen(&mut stage);
    assert!(seen.contains("in 4 d ↓"), "{seen}");
    let place = |name: &str| seen.lines().position(|line| line.contains(name)).unwrap();
    assert!(place("buoy/") < place("chart.png") && place("chart.png") < place("tide/"), "{seen}");
    stage.work_keys(&[Key::Char('4')]);
    let seen = screen(&mut stage);
    assert!(of(&seen, "table ").contains("-40.0 KiB"), "{seen}");
    stage.work_keys(&[Key::Char('g')]);
    assert!(!screen(&mut stage).contains("in 4 d"));
}

/// What a watch would have seen.
fn activity(process: Process) -> Activity {
    let writer = Writer {
        pid: process.pid,
        process: Some(process),
        rate: 2048.0,
        grown: Bytes::new(20_480),
        files: 1,
        made: 0,
        largest: Some(PathBuf::from("/srv/\u{1b}[2Jlog")),
    };
    let directory = GrowingDirectory {
        path: "/srv/logs".into(),
        rate: 2048.0,
        grown: Bytes::new(20_480),
        made: 3,
        moved_here: 0,
    };
    Activity {
        seconds: 10.0,
        writers: vec![writer],
        directories: vec![directory],
        rate: 2048.0,
        volume_rate: Some(4096.0),
        free: Some(Bytes::new(4096 * 660)),
        hidden: 2,
        no_events: Some("only root may listen to a whole file system".into()),
        events: 0,
        lost: false,
        estimated: false,
    }
}

#[test]
fn who_writes_is_seen_on_the_gauge_too_and_asked_to_end_by_its_number_only() {
    let mut stage = Stage::new();
    stage.work_keys(&[Key::Char('0')]);
    let jobs = stage.keys(&[Key::Char('n')]);
    assert!(jobs.iter().any(|job| matches!(job, Job::Work(_))));
    let mut child = std::process::Command::new("sleep").arg("600").spawn().unwrap();
    let process = Process::look(child.id()).unwrap();
    let seen = |stage: &mut Stage, process| {
        let number = stage.model.rooms.history.now.number();
        let seen = Ok(Arc::new(activity(process)));
        stage.send(Message::News(Box::new(Seen { number, seen })));
    };
    seen(&mut stage, process);
    let drawn = screen(&mut stage);
    assert!(drawn.contains("fills by 4.0 KiB/s: full in 11 min at this rate"), "{drawn}");
    assert!(drawn.contains("· full in 11 min at this rate"), "{drawn}");
    assert!(drawn.contains("only root may listen") && drawn.contains("2 processes could not"));
    assert!(drawn.contains("sleep") && drawn.contains("/srv/logs") && !drawn.contains('\u{1b}'));
    stage.keys(&[Key::Char('X')]);
    assert!(matches!(stage.model.overlay, Some(Overlay::Ask { .. })));
    // another number does nothing
    stage.send(Message::Paste("1".to_owned()));
    stage.keys(&[Key::Enter]);
    assert!(child.try_wait().unwrap().is_none());
    stage.keys(&[Key::Backspace]);
    stage.send(Message::Paste(child.id().to_string()));
    stage.keys(&[Key::Enter]);
    let ended = child.wait().unwrap();
    assert_eq!(std::os::unix::process::ExitStatusExt::signal(&ended), Some(15));
    // this program itself is never asked
    let ourselves = Process::look(std::process::id()).unwrap();
    seen(&mut stage, ourselves);
    stage.keys(&[Key::Char('X')]);
    assert!(stage.model.overlay.is_none());
    assert!(screen(&mut stage).contains("is this program or runs it"));
    // the watch ends, and what it still says is not believed
    stage.work_keys(&[Key::Escape]);
    let process = Process::look(std::process::id()).unwrap();
    seen(&mut stage, process);
    assert!(!screen(&mut stage).contains("at this rate"));
}
