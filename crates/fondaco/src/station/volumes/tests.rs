//! The books on the screen.

use fondaco_core::books::{Figure, LineKind, books};
use fondaco_core::drive::{Drive, Drives, Health};
use fondaco_core::kernel::DiskFacts;
use fondaco_core::plan::Deed;
use fondaco_core::units::{Bytes, Time};

use super::books::DrawnUp;
use super::disks::DisksFound;
use super::shown_books;
use crate::frame::commands::Key;
use crate::frame::message::{Job, Message};
use crate::frame::model::Overlay;
use crate::frame::tests::{NOW, Stage};
use crate::frame::view::{self, Theme};
use crate::station::Station;

/// The books of the simulated volume.
pub fn draw_up_books(stage: &mut Stage) {
    let volume = stage.model.volumes[0].clone();
    let catalog = stage.scan.shared_catalog();
    let catalog = catalog.read().unwrap();
    let drawn = books(&volume, Some(&catalog), &stage.model.held, NOW).unwrap();
    stage.model.rooms.volumes.books.of = Some(volume.mount_point.clone());
    let number = stage.model.rooms.volumes.books.number;
    stage.send(Message::News(Box::new(DrawnUp { number, outcome: Ok(drawn) })));
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
    assert!(
        matches!(&jobs[..], [Job::Work(work)] if format!("{work:?}").contains("catalog: Some"))
    );
    draw_up_books(&mut stage);
    // what an earlier request still says is not believed
    let number = stage.model.rooms.volumes.books.number - 1;
    stage.send(Message::News(Box::new(DrawnUp { number, outcome: Err("late".into()) })));
    let drawn = shown_books(&stage.model).unwrap();
    assert_eq!(drawn.line(LineKind::Held).unwrap().figure, Figure::exact(65_536));
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
    let outcome = crate::frame::job::find_place(to);
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
fn the_books_lead_to_what_is_behind_a_line_or_say_that_nothing_is() {
    let mut stage = Stage::new();
    stage.model.station = Station::Volumes;
    draw_up_books(&mut stage);
    stage.keys(&[Key::Tab]);
    let matters: Vec<LineKind> =
        shown_books(&stage.model).unwrap().lines.iter().map(|line| line.kind).collect();
    for (row, kind) in matters.into_iter().enumerate() {
        stage.model.station = Station::Volumes;
        stage.model.notice = None;
        stage.keys(&[Key::Home]);
        (0..row).for_each(|_| drop(stage.keys(&[Key::Down])));
        stage.keys(&[Key::Enter]);
        let led = match kind {
            LineKind::Visible => stage.model.station == Station::Directories,
            LineKind::Held => stage.model.station == Station::Leftovers,
            _ => matches!(stage.model.overlay.take(), Some(Overlay::Listing { .. })),
        };
        assert!(led || stage.notice().contains("There is nothing behind"), "{kind:?}");
        stage.keys(&[Key::Char('1'), Key::Tab]);
    }
}

#[test]
fn a_failing_disk_is_seen_among_the_volumes_and_said_before_anything_is_kept_on_it() {
    let mut stage = Stage::new();
    let disk = |health, reason: &str| Drive {
        name: "sda".into(),
        kernel: DiskFacts { model: Some("Shoal 4T".into()), ..DiskFacts::default() },
        own: None,
        health,
        reasons: vec![reason.to_owned()],
    };
    let disks = vec![disk(Health::Failing, "8 sectors cannot be read")];
    let drives = Drives { disks, ..Drives::default() };
    let mount_point = stage.model.volumes[0].mount_point.clone();
    stage.send(Message::News(Box::new(DisksFound([(mount_point.clone(), drives)].into()))));
    stage.keys(&[Key::Char('1')]);
    let theme = Theme::new(view::Depth::None, false, false);
    for size in [(160, 50), (80, 24)] {
        let screen = stage.screen(size.0, size.1, &theme);
        assert!(screen.contains("! sda is failing: copy first what only lies here"), "{screen}");
    }
    let screen = stage.screen(160, 50, &theme);
    assert!(screen.contains("only lies here. sda: 8 sectors"), "{screen}");
    assert!(screen.contains("sda: failing, Shoal 4T"), "{screen}");
    // a depot that lies on it
    stage.model.state.settings.depot = Some(mount_point.join("depot"));
    stage.keys(&[Key::Char('2'), Key::Char(' '), Key::Char('a')]);
    let screen = stage.screen(160, 50, &theme);
    assert!(screen.contains("lies on a disk that is failing"), "{screen}");
    // asked again after ten minutes only
    let asks = |stage: &mut Stage| {
        let jobs = stage.send(Message::Volumes {
            volumes: stage.model.volumes.clone(),
            outlooks: Vec::new(),
            held: stage.model.held.clone(),
            interfaces: 7,
        });
        jobs.iter().filter(|job| format!("{job:?}").contains("AskDisks")).count()
    };
    assert_eq!(asks(&mut stage), 0);
    stage.model.now = Time::at(NOW.sec + 601);
    assert_eq!((asks(&mut stage), asks(&mut stage)), (1, 0));
}
