//! The cascade, its tail, the map and the list of files, driven by keys.

use fondaco_core::plan::{Deed, Planned};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::{Shows, cascade};
use crate::frame::commands::Key;
use crate::frame::message::{Job, Message};
use crate::frame::model::Selected;
use crate::frame::surveyed::Surveyed;
use crate::frame::tests::{Stage, scan};
use crate::frame::view::{self, Theme};
use crate::station::Station;

#[test]
fn the_cursor_follows_the_entry_and_levels_remember_it() {
    let mut stage = Stage::new();
    stage.keys(&[Key::Down]);
    let chosen = stage.model.place.selected;
    stage.keys(&[Key::Char('o'), Key::Char('o'), Key::Char('o'), Key::Char('o')]);
    assert_eq!(stage.model.place.selected, chosen, "another order keeps it");
    stage.progress();
    assert_eq!(stage.model.place.selected, chosen, "a newer view keeps it");
    stage.keys(&[Key::Enter]);
    assert!(stage.model.place.path.ends_with("buoy"));
    assert!(matches!(stage.model.place.selected, Some(Selected::Entry(_))));
    stage.keys(&[Key::Escape]);
    assert_eq!(stage.model.place.selected, chosen);
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
    let listed = stage.model.rooms.directories.ids.len();
    assert!(listed < 44 && stage.model.rooms.directories.tail.children == 44 - listed as u64);
    stage.keys(&[Key::End]);
    assert_eq!(stage.model.place.selected, Some(Selected::Tail));
    stage.keys(&[Key::Enter]);
    assert_eq!(
        (stage.model.rooms.directories.ids.len(), stage.model.rooms.directories.tail.children),
        (44, 0)
    );
    assert_eq!(cascade::cursor(&stage.model), Some(listed), "the first of the tail is selected");
    stage.keys(&[Key::PageDown, Key::End]);
    assert_eq!(cascade::cursor(&stage.model), Some(43));
    assert!(
        stage.model.rooms.directories.offset > 0 && cascade::selected_row(&stage.model).is_some()
    );
    // Esc closes the tail before it leaves the station
    stage.keys(&[Key::Escape]);
    assert!(!stage.model.place.tail_open && stage.model.station == Station::Directories);
    // typing jumps, also to what lies in the tail
    stage.keys(&[Key::Char('f'), Key::Char('T'), Key::Char('i'), Key::Char('l'), Key::Char('e')]);
    stage.keys(&[Key::Char('-'), Key::Char('0'), Key::Char('3')]);
    assert_eq!(cascade::selected_row(&stage.model).unwrap().name, "tile-03");
    stage.keys(&[Key::Char('x')]);
    assert!(stage.model.notice.as_ref().unwrap().text.contains("No name here begins with"));
    stage.keys(&[Key::Enter, Key::Home, Key::Enter]);
    assert!(stage.model.place.path.ends_with("tide"));
    stage.keys(&[Key::Tab, Key::Home, Key::Enter]);
    assert_eq!(stage.model.place.path, root);
    assert!(cascade::selected_row(&stage.model).unwrap().name.starts_with("tide"));
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
        assert_eq!(stage.model.place.selected, Some(Selected::Entry(id)));
    }
    let tide =
        stage.model.rooms.directories.rows.iter().find(|row| row.name == "tide/").unwrap().id;
    stage.send(Message::ClickEntry { id: tide, double: true });
    assert!(stage.model.place.path.ends_with("tide"));
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
        stage.model.rooms.directories.rows.iter().map(|row| row.name.clone()).collect::<Vec<_>>()
    };
    assert_eq!(shown(&stage), ["tide/"]);
    assert_eq!(stage.model.place.entries, 1);
    assert!(stage.model.place.all.1 > 5);
    // what was asked before the lens was taken off comes too late
    let late = stage.keys(&[Key::Char('/'), Key::Char('x')]);
    stage.look(&[Key::Escape, Key::Char('a')]);
    for job in late {
        let Job::Ask(question) = job else { continue };
        stage.answer(*question);
    }
    assert!(stage.model.lens.selection.is_none() && shown(&stage).len() > 2);
    // a slice goes into the lens, and the list of files shows just it
    stage.look(&[Key::Char('4'), Key::Right, Key::Right, Key::Enter]);
    assert_eq!(stage.model.lens.text, "ext:csv");
    stage.look(&[Key::Char('2'), Key::Char('l')]);
    assert_eq!(stage.model.rooms.directories.shows, Shows::Files);
    assert_eq!(stage.model.rooms.directories.files.list.whole.entries, 1);
    // as long as it is not known what passes, nothing is planned by the list of what passed before
    stage.model.lens.waiting = true;
    assert!(stage.keys(&[Key::Char('A'), Key::Char('d')]).is_empty());
    assert!(stage.model.overlay.is_none());
    stage.model.lens.waiting = false;
    let jobs = stage.keys(&[Key::Char('A'), Key::Char('d')]);
    assert!(matches!(&jobs[..], [Job::SurveyMany(m)] if m.lens == "ext:csv" && m.count == 1));
    let deed = Deed::Delete;
    stage.send(Message::SurveyedMany { scan: 0, deed, surveyed: None });
    assert_eq!(stage.model.ready_actions(), 0, "others than were listed");
    let path = stage.model.scan.roots[0].join("tide/a.csv");
    for _ in 0..2 {
        let mut surveyed = Box::<Surveyed>::default();
        for _ in 0..2 {
            surveyed.add(&path, || {
                let survey = fondaco_core::plan::survey(&path)?;
                let volume = stage.model.scan.roots[0].clone();
                Ok(Planned::of_survey(path.clone(), Deed::Delete, "by hand".into(), volume, survey))
            });
        }
        assert_eq!((surveyed.draft.planned().len(), surveyed.twice), (1, 1));
        let (deed, surveyed) = (Deed::Delete, Some(surveyed));
        stage.send(Message::SurveyedMany { scan: 0, deed, surveyed });
        assert_eq!(stage.model.ready_actions(), 1, "nothing is planned twice");
    }
}
