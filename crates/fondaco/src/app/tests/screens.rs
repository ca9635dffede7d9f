//! Whole screens without a terminal: colours, what clicks mean, and what must be there however narrow it is.

use std::collections::HashSet;

use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::buffer::Buffer;
use ratatui::style::{Color, Modifier};

use super::Stage;
use crate::app::command_table::{Key, available};
use crate::app::message::Message;
use crate::app::model::{Focus, Station};
use crate::view::{self, Depth, Hits, Target, Theme};

const SIZES: [(u16, u16); 4] = [(80, 24), (100, 30), (120, 36), (160, 50)];

impl Stage {
    /// What is drawn, cell by cell, and what clicks on it mean.
    fn drawn(&mut self, size: (u16, u16), theme: &Theme) -> (Buffer, Hits) {
        self.send(Message::Resize(size.0, size.1));
        let mut terminal = Terminal::new(TestBackend::new(size.0, size.1)).unwrap();
        let mut hits = Hits::default();
        terminal.draw(|frame| hits = view::draw(&self.model, frame, theme)).unwrap();
        (terminal.backend().buffer().clone(), hits)
    }
}

fn line(buffer: &Buffer, row: u16) -> String {
    (0..buffer.area.width).map(|column| buffer[(column, row)].symbol()).collect()
}

#[test]
fn a_terminal_is_asked_for_no_colour_that_it_does_not_have() {
    let basic = |color: Color| !matches!(color, Color::Rgb(..) | Color::Indexed(16..));
    for mut stage in Stage::places() {
        for size in SIZES {
            let none = Theme::new(Depth::None, false, false);
            let (buffer, _) = stage.drawn(size, &none);
            let coloured =
                |cell: &&ratatui::buffer::Cell| (cell.fg, cell.bg) != (Color::Reset, Color::Reset);
            assert_eq!(buffer.content.iter().find(coloured), None, "{:?}", stage.model.station);
            for light in [false, true] {
                let sixteen = Theme::new(Depth::Sixteen, light, false);
                let (buffer, _) = stage.drawn(size, &sixteen);
                let other = |cell: &&ratatui::buffer::Cell| !basic(cell.fg) || !basic(cell.bg);
                assert_eq!(buffer.content.iter().find(other), None, "{:?}", stage.model.station);
            }
        }
    }
}

#[test]
fn what_is_selected_is_marked_also_without_colour() {
    let none = Theme::new(Depth::None, false, false);
    for way in ["", "l", "m", "4", "6", "8"] {
        let mut stage = Stage::new();
        stage.keys(&[Key::Char(' '), Key::Char('d')]);
        stage.look(&way.chars().map(Key::Char).collect::<Vec<_>>());
        for size in SIZES {
            let (buffer, _) = stage.drawn(size, &none);
            let marks = buffer
                .content
                .iter()
                .filter(|cell| cell.symbol() == "▸" || cell.modifier.contains(Modifier::REVERSED));
            // of the route, and of the list
            assert!(marks.count() >= 2, "{way} at {size:?}: nothing marks what is selected");
        }
    }
}

#[test]
fn a_click_anywhere_does_what_is_drawn_there_and_nothing_that_cannot_be_done() {
    let theme = Theme::new(Depth::True, false, false);
    for mut stage in Stage::places() {
        for size in SIZES {
            let (buffer, hits) = stage.drawn(size, &theme);
            let commands: Vec<_> = available(&stage.model).map(|row| row.command).collect();
            let mut rows = HashSet::new();
            for (column, row) in (0..size.0).flat_map(|x| (0..size.1).map(move |y| (x, y))) {
                let place = stage.model.station;
                match hits.at(column, row) {
                    Some(Target::Command(command)) => {
                        assert!(commands.contains(&command), "{command:?} on {place:?}");
                    }
                    Some(Target::Row(number)) => {
                        // on Ages rows are those of the files, wherever the keys go
                        let listed = stage.model.list_length();
                        assert!(
                            number < listed || place == Station::Ages,
                            "row {number}, {place:?}"
                        );
                        let drawn = line(&buffer, row);
                        assert!(!drawn.trim().is_empty(), "an empty row can be clicked, {place:?}");
                        rows.insert(number);
                    }
                    Some(Target::Station(station)) => {
                        let drawn = line(&buffer, row);
                        let named = drawn.contains(station.name()) || size.0 < 160;
                        assert!(named, "{station:?} at {column}, {row} on {place:?}: {drawn}");
                    }
                    Some(Target::Entry(id)) => {
                        assert!(stage.model.directories.ids.contains(&id), "{id:?}");
                    }
                    Some(Target::Cell(..)) | None => {}
                }
            }
            let lists = [Station::Volumes, Station::Leftovers, Station::Breakdown];
            if stage.model.overlay.is_none()
                && lists.contains(&stage.model.station)
                && stage.model.focus == Focus::Panel
            {
                let cursor = stage.model.list_cursor();
                let seen = rows.contains(&cursor) || stage.model.list_length() == 0;
                assert!(seen, "the selected row {cursor} is off the screen at {size:?}");
            }
        }
    }
}

#[test]
fn what_matters_most_is_there_however_narrow_it_is() {
    // keys from Directories, and what must be read whole
    let cases: [(&str, &[&str]); 8] = [
        ("", &["tide/", "buoy/", "chart.png", "92.0 KiB", "plan it"]),
        ("l", &["a.csv", "b.log", "88.0 KiB"]),
        ("m", &["tide", "buoy"]),
        ("3", &["88.0K", "168.0K", "4 files", "written"]),
        ("4", &["table", "log", "image", "88.0 KiB", "narrow to it"]),
        ("6", &["64.0 KiB", "tide-logger"]),
        ("8", &["delete", "tide", "92.0 KiB"]),
        ("1", &["level", "waterline"]),
    ];
    let theme = Theme::new(Depth::True, false, false);
    for (way, wanted) in cases {
        let mut stage = Stage::new();
        if way == "8" {
            stage.keys(&[Key::Char(' '), Key::Char('d')]);
        }
        stage.look(&way.chars().map(Key::Char).collect::<Vec<_>>());
        for size in SIZES {
            let screen = stage.screen(size.0, size.1, &theme);
            for text in wanted {
                assert!(screen.contains(text), "{text:?} is missing at {size:?}:\n{screen}");
            }
        }
    }
}
