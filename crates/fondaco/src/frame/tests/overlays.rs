//! Keys and the wheel while something stands in front of a station.

use fondaco_core::peek::{HexRow, Inside, Listed, Listing, Peek, Text};
use fondaco_core::plan::Deed;
use fondaco_core::saved::About;
use fondaco_core::units::{Bytes, Time};

use super::Stage;
use super::screens::{SIZES, reads, text};
use crate::frame::commands::Key;
use crate::frame::geometry::{folded, last_offset, listing_room};
use crate::frame::message::{Job, Message};
use crate::frame::model::{Overlay, SavedRow};
use crate::frame::view::{Depth, Theme};
use crate::station::Station;

#[test]
fn what_is_to_be_done_is_chosen_with_arrows_and_changed_on_the_plan() {
    let cursor = |stage: &Stage| match stage.model.overlay {
        Some(Overlay::ChooseDeed { cursor, .. } | Overlay::ChooseForMany { cursor, .. }) => cursor,
        _ => panic!("there is no choice"),
    };
    let mut stage = Stage::new();
    stage.keys(&[Key::Char(' '), Key::Up]);
    assert_eq!(cursor(&stage), 0, "the safest is first, and before it is none");
    stage.keys(&[Key::Down; 5]);
    assert_eq!(cursor(&stage), 3, "nor after the last");
    // a key that means nothing here chooses nothing
    stage.keys(&[Key::Char('x'), Key::Tab, Key::Function(5), Key::Up, Key::Up, Key::Enter]);
    let depot = stage.model.state.depot();
    let deed = |stage: &Stage| stage.model.draft.planned()[0].deed.clone();
    assert_eq!(deed(&stage), Deed::Archive { depot });
    // changed where it stands: the choice begins at what was chosen
    stage.keys(&[Key::Char('8'), Key::Char('c')]);
    assert_eq!(cursor(&stage), 1);
    stage.keys(&[Key::Up, Key::Enter]);
    assert_eq!(deed(&stage), Deed::SetAside);
    stage.keys(&[Key::Char('c'), Key::Down, Key::Escape]);
    assert_eq!((deed(&stage), stage.model.draft.planned().len()), (Deed::SetAside, 1));
    // where something is moved to is asked for, and offered again for the next
    stage.keys(&[Key::Char('c'), Key::Char('m')]);
    stage.send(Message::Paste("spare".to_owned()));
    stage.keys(&[Key::Enter]);
    let Some(Overlay::Ask { error, .. }) = &stage.model.overlay else {
        panic!("it is asked again")
    };
    assert!(error.as_ref().unwrap().contains("begins with /"));
    stage.keys(&[Key::Ctrl('u')]);
    stage.send(Message::Paste("/mnt/spare".to_owned()));
    stage.keys(&[Key::Enter]);
    let spare = Deed::Move { to: "/mnt/spare".into(), same_volume: false };
    assert_eq!(deed(&stage), spare);
    stage.keys(&[Key::Char('c'), Key::Char('m')]);
    let Some(Overlay::Ask { offers, .. }) = &stage.model.overlay else { panic!("it is asked") };
    assert_eq!(offers.first().map(String::as_str), Some("/mnt/spare"));
    stage.keys(&[Key::Escape]);

    let mut many = Stage::new();
    many.look(&[Key::Char('l'), Key::Char('A')]);
    many.keys(&[Key::Up, Key::Down, Key::Down, Key::Down, Key::Down]);
    assert_eq!(cursor(&many), 3);
    many.keys(&[Key::Escape]);
    assert!(many.model.overlay.is_none() && many.model.draft.is_empty());
}

#[test]
fn the_palette_narrows_as_is_typed_and_runs_what_is_selected() {
    let mut stage = Stage::new();
    let typed = |stage: &Stage| match &stage.model.overlay {
        Some(Overlay::Palette { typed, cursor }) => (typed.clone(), *cursor),
        _ => panic!("there is no palette"),
    };
    stage.keys(&[Key::Ctrl('p'), Key::Down, Key::Down, Key::Up]);
    assert_eq!(typed(&stage), (String::new(), 1));
    stage.keys(&[Key::Char('j'), Key::Char('q'), Key::Char('q')]);
    assert_eq!(typed(&stage), ("jqq".into(), 0));
    // nothing fits: Enter does nothing at all
    assert!(stage.keys(&[Key::Down, Key::Enter]).is_empty() && stage.model.overlay.is_none());
    stage.keys(&[Key::Ctrl('p'), Key::Char('j'), Key::Char('x'), Key::Backspace]);
    assert_eq!(typed(&stage), ("j".into(), 0));
    "ournal".chars().for_each(|c| drop(stage.keys(&[Key::Char(c)])));
    stage.keys(&[Key::Enter]);
    assert_eq!(stage.model.station, Station::Journal);
}

#[test]
fn a_list_is_scrolled_to_its_end_and_no_further_by_keys_and_the_wheel() {
    let theme = Theme::new(Depth::None, false, false);
    let reason = "Permission denied (os error 13)";
    let place = |n: usize| {
        let deep = "/deep".repeat(if n.is_multiple_of(7) { 40 } else { 2 });
        format!("cannot open directory /srv/seamark{deep}/{n}: {reason}")
    };
    let lines: Vec<String> = (0..90).map(place).collect();
    for size in SIZES {
        let mut stage = Stage::new();
        stage.drawn(size, &theme);
        let title = "90 places".to_owned();
        stage.model.overlay = Some(Overlay::Listing { title, lines: lines.clone(), offset: 0 });
        let offset = |stage: &Stage| match stage.model.overlay {
            Some(Overlay::Listing { offset, .. }) => offset,
            _ => panic!("the list is gone"),
        };
        let (buffer, _) = stage.drawn(size, &theme);
        let screen = text(&buffer);
        let whole = folded(&lines[0], listing_room(size).0);
        assert!(whole.into_iter().all(|row| screen.contains(&row)), "a long line is read whole");
        stage.keys(&[Key::Up, Key::PageUp]);
        assert_eq!(offset(&stage), 0);
        let last = last_offset(&lines, listing_room(size));
        for way in [vec![Key::PageDown; 30], vec![Key::End], vec![Key::Down; 120]] {
            stage.keys(&[Key::Home]);
            stage.keys(&way);
            assert_eq!(offset(&stage), last, "{size:?}");
            let (buffer, _) = stage.drawn(size, &theme);
            assert!(reads(&text(&buffer), &format!("/89: {reason}")), "{}", text(&buffer));
            // who comes back is at once on the way
            stage.keys(&[Key::Up]);
            assert_eq!(offset(&stage), last - 1);
        }
        (0..99).for_each(|_| drop(stage.send(Message::Wheel(3))));
        assert_eq!(offset(&stage), last);
        stage.send(Message::Wheel(-3));
        assert_eq!(offset(&stage), last - 3);
        stage.keys(&[Key::Char('x')]);
        assert!(stage.model.overlay.is_none(), "any other key closes it");
    }
}

#[test]
fn folded_lines_lose_nothing_and_fit() {
    for line in ["", "tide", "潮位表".repeat(30).as_str(), "a b ".repeat(50).as_str()] {
        for width in [4, 7, 76, 116] {
            let rows = folded(line, width);
            let whole: String = rows
                .iter()
                .enumerate()
                .map(|(n, row)| if n > 0 { &row[2..] } else { row })
                .collect();
            assert_eq!(whole, line);
            let columns = |row: &String| unicode_width::UnicodeWidthStr::width(row.as_str());
            assert!(rows.iter().all(|row| columns(row) <= width), "{rows:?}");
        }
    }
}

#[test]
fn a_look_into_a_file_shows_what_sort_it_is_and_where_something_is_left_out() {
    let theme = Theme::new(Depth::None, false, false);
    let hex = |offset| HexRow {
        offset,
        hex: "7f 45 4c 46 02 01 01 00 00 00 00 00 00 00 00 00".into(),
        text: ".ELF...........!".into(),
    };
    let listed = |name: &str, length| Listed { name: name.into(), length };
    let kib = |n: u64| Some(Bytes::new(n << 10));
    let text_of = |tail: &[&str]| {
        Inside::Text(Text {
            head: vec!["tide 1".into(), "tide 2".into()],
            between: Bytes::new(if tail.is_empty() { 0 } else { 3 << 20 }),
            tail: tail.iter().map(|line| (*line).to_owned()).collect(),
        })
    };
    let archive = |entries: Vec<Listed>, more| Inside::Archive(Listing { entries, more });
    let cases: [(Inside, &[&str]); 8] = [
        (Inside::Nothing, &["There is not a byte in it."]),
        (text_of(&[]), &["tide 1", "tide 2"]),
        (text_of(&["tide 9"]), &["tide 2", "… 3.0 MiB are left out …", "tide 9"]),
        (Inside::Bytes(vec![hex(0)], vec![]), &["0 7f 45", ".ELF...........!"]),
        (
            Inside::Bytes(vec![hex(0)], vec![hex(0xffff_fff0)]),
            &["…", "fffffff0 7f 45", ".ELF...........!"],
        ),
        (
            archive(vec![listed("2041/a.csv", kib(9)), listed("pipe", None)], true),
            &["9.0 KiB 2041/a.csv", "pipe", "… there is more that is not listed"],
        ),
        (archive(vec![], false), &["The archive holds nothing."]),
        (Inside::Media(vec![("size", "640 × 480".into())]), &["size 640 × 480"]),
    ];
    for (inside, wanted) in cases {
        let mut stage = Stage::new();
        let found = Peek { sort: "a sort".into(), length: Bytes::new(4096), inside };
        let path = "/srv/seamark/\u{1b}[2Jgauge".into();
        stage.send(Message::Peeked { path, outcome: Box::new(Ok(found)) });
        for size in SIZES {
            let (buffer, _) = stage.drawn(size, &theme);
            let screen = text(&buffer);
            assert!(reads(&screen, "\\x1b[2Jgauge: a sort, 4.0 KiB"), "{screen}");
            for line in wanted {
                let found = screen.lines().any(|row| reads(row, line));
                assert!(found, "{line} at {size:?}:\n{screen}");
            }
        }
    }
    // what comes late does not push aside what stands in front by now
    let mut stage = Stage::new();
    stage.keys(&[Key::Char('?')]);
    let found = Peek { sort: "empty".into(), length: Bytes::ZERO, inside: Inside::Nothing };
    stage.send(Message::Peeked { path: "/srv/x".into(), outcome: Box::new(Ok(found)) });
    assert!(matches!(stage.model.overlay, Some(Overlay::Help { .. })));
}

#[test]
fn a_saved_scan_is_forgotten_only_when_that_is_asked_for_twice() {
    let about = || About {
        scanned: Time::at(1_999_000_000),
        roots: vec!["/srv/seamark".into()],
        complete: true,
        entries: 4231,
        allocated: Bytes::new(260 << 20),
        unreadable: 0,
        automatic: true,
        file: Bytes::new(11 << 10),
    };
    let reason = "the saved scan 2 is damaged: its end is missing";
    let rows = |numbers: &[u64]| {
        let row = |number: &u64| SavedRow {
            number: *number,
            about: if *number == 2 { Err(reason.into()) } else { Ok(about()) },
        };
        Ok(numbers.iter().map(row).collect())
    };
    let mut stage = Stage::new();
    stage.keys(&[Key::Char('s')]);
    stage.send(Message::SavedScans(rows(&[1, 2, 3])));
    // newest first; moving on, or any other key, keeps it
    assert!(stage.keys(&[Key::Up, Key::Delete, Key::Down, Key::Delete, Key::Char('x')]).is_empty());
    assert!(stage.keys(&[Key::Delete, Key::Up, Key::Delete]).is_empty());
    let theme = Theme::new(Depth::None, false, false);
    for size in SIZES {
        let screen = text(&stage.drawn(size, &theme).0);
        assert!(
            reads(&screen, "Delete once more forgets scan 3 for good; any other key"),
            "{screen}"
        );
    }
    let jobs = stage.keys(&[Key::Delete]);
    assert!(matches!(&jobs[..], [Job::Forget(3, _)]), "{jobs:?}");
    stage.send(Message::SavedScans(rows(&[1, 2])));
    // what the list shows by then is not what the next Delete is about
    assert!(stage.keys(&[Key::Delete]).is_empty());
    // one that is damaged says so, and the list is left
    assert!(stage.keys(&[Key::Enter]).is_empty());
    assert!(stage.model.notice.as_ref().is_some_and(|notice| notice.text == reason));
    stage.keys(&[Key::Char('s')]);
    stage.send(Message::SavedScans(rows(&[1, 2])));
    let jobs = stage.keys(&[Key::Down, Key::Enter]);
    assert!(matches!(&jobs[..], [Job::OpenSaved { which: 1, .. }]), "{jobs:?}");
}
