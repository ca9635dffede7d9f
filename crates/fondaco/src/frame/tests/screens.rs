//! Whole screens without a terminal: colours, what clicks mean, and what must be there however narrow it is.

use std::collections::HashSet;

use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::buffer::Buffer;
use ratatui::style::{Color, Modifier};

use fondaco_core::saved::About;
use fondaco_core::units::{Bytes, Time};

use super::Stage;
use crate::frame::commands::{Key, available};
use crate::frame::message::Message;
use crate::frame::model::{Focus, Overlay, SavedRow};
use crate::frame::view::{self, Depth, Hits, Target, Theme};
use crate::station::Station;

pub(super) const SIZES: [(u16, u16); 4] = [(80, 24), (100, 30), (120, 36), (160, 50)];

impl Stage {
    /// What is drawn, cell by cell, and what clicks on it mean.
    pub(super) fn drawn(&mut self, size: (u16, u16), theme: &Theme) -> (Buffer, Hits) {
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
            let commands: Vec<_> = available(&stage.model).collect();
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
                        let known = stage.model.scan.read().unwrap().len();
                        assert!((id.0 as usize) < known, "{id:?}");
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
        ("3", &["88.0", "168.0", "4 files", "written"]),
        ("4", &["table", "log", "image", "88.0 KiB", "narrow to it"]),
        ("6", &["64.0 KiB", "held by deleted files"]),
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

/// All that is drawn, line after line.
pub(super) fn text(buffer: &Buffer) -> String {
    (0..buffer.area.height).map(|row| line(buffer, row) + "\n").collect()
}

/// Whether all words of a sentence stand there one after the other, wherever its lines are broken.
pub(super) fn reads(screen: &str, sentence: &str) -> bool {
    let mut rest = screen;
    sentence.split_whitespace().all(|word| {
        let found = rest.find(word);
        rest = found.map_or("", |at| &rest[at + word.len()..]);
        found.is_some()
    })
}

#[test]
fn a_choice_says_what_each_deed_costs_however_narrow_it_is() {
    let theme = Theme::new(Depth::None, false, false);
    let cases: [(&[Key], &[&str]); 2] = [
        (
            &[Key::Char(' ')],
            &[
                "Do what with tide",
                "Nothing happens until the plan is carried out.",
                "set aside frees 92.0 KiB once purged; can be put back",
                "delete frees 92.0 KiB; cannot be put back",
                "Esc leaves it alone",
            ],
        ),
        (
            &[Key::Char('6'), Key::Enter, Key::Char(' ')],
            &[
                "Do what with the deleted",
                "end process frees 64.0 KiB; asked to end (TERM)",
                "saved as a file, it goes on",
                "contents lost, it goes on",
            ],
        ),
    ];
    for (way, wanted) in cases {
        let mut stage = Stage::new();
        stage.look(way);
        for size in SIZES {
            let (buffer, _) = stage.drawn(size, &theme);
            for sentence in wanted {
                assert!(reads(&text(&buffer), sentence), "{sentence} {size:?}\n{}", text(&buffer));
            }
        }
    }
}

#[test]
fn a_question_is_read_whole_and_says_why_an_answer_is_none() {
    let theme = Theme::new(Depth::None, false, false);
    // what is asked for, and an answer that is none
    let ways: [(&[Key], &str); 2] =
        [(&[Key::Char('8'), Key::Char('C')], "7"), (&[Key::Char('2'), Key::Char('p')], "no/such")];
    for (way, wrong) in ways {
        let mut stage = Stage::new();
        stage.keys(&[Key::Char(' '), Key::Char('d')]);
        let path = stage.model.scan.roots[0].join("tide");
        let outcome = Box::new(fondaco_core::plan::survey(&path));
        stage.send(Message::Surveyed { path, outcome });
        stage.look(way);
        let Some(Overlay::Ask { sentence, wanted, .. }) = &stage.model.overlay else {
            panic!("{way:?} asks nothing: {:?}", stage.model.overlay)
        };
        let (sentence, wanted) = (sentence.clone(), wanted.clone());
        for size in SIZES {
            let (buffer, _) = stage.drawn(size, &theme);
            let screen = text(&buffer);
            assert!(reads(&screen, &sentence), "{sentence}\n{size:?}\n{screen}");
            assert!(reads(&screen, "Enter answers; Esc leaves everything as it is"), "{screen}");
        }
        if wanted.is_some() {
            stage.keys(&wrong.chars().map(Key::Char).collect::<Vec<_>>());
            assert!(stage.keys(&[Key::Enter]).is_empty(), "{wrong} is no answer to: {sentence}");
            let Some(Overlay::Ask { error: Some(error), .. }) = &stage.model.overlay else {
                panic!("{wrong} was taken without a word")
            };
            let error = error.clone();
            for size in SIZES {
                let (buffer, _) = stage.drawn(size, &theme);
                assert!(reads(&text(&buffer), &error), "{error}\n{}", text(&buffer));
            }
        }
        stage.keys(&[Key::Escape]);
        assert!(
            stage.model.overlay.is_none() && stage.model.draft.planned().len() == 1,
            "Esc loses nothing"
        );
    }
}

#[test]
fn every_command_is_found_in_the_palette_and_in_the_help_with_its_key() {
    let theme = Theme::new(Depth::None, false, false);
    for station in [Station::Volumes, Station::Directories, Station::Plan, Station::Journal] {
        let mut stage = Stage::new();
        stage.keys(&[Key::Char(' '), Key::Char('d')]);
        stage.model.station = station;
        let commands: Vec<_> = available(&stage.model).collect();
        // the palette does not offer itself
        for row in commands.iter().filter(|row| row.name != "all commands") {
            let typed = row.name.to_owned();
            stage.model.overlay = Some(Overlay::Palette { typed, cursor: 0 });
            for size in [(80, 24), (160, 50)] {
                let (buffer, _) = stage.drawn(size, &theme);
                let key = row.keys[0].to_string();
                let found =
                    text(&buffer).lines().any(|line| reads(line, &format!("{key} {}", row.name)));
                assert!(found, "{} of {station:?} at {size:?}:\n{}", row.name, text(&buffer));
            }
        }
        // the help shows all of them, some screens further down
        let mut unseen: Vec<&str> = commands.iter().map(|row| row.name).collect();
        stage.model.overlay = Some(Overlay::Help { offset: 0 });
        for _ in 0..commands.len() {
            let (buffer, _) = stage.drawn((80, 24), &theme);
            unseen.retain(|name| !text(&buffer).contains(name));
            stage.keys(&[Key::Down]);
        }
        assert_eq!(unseen, [] as [&str; 0], "{station:?}");
    }
}

#[test]
fn saved_scans_are_read_to_their_last_row() {
    let theme = Theme::new(Depth::None, false, false);
    let about = |number: u64| About {
        scanned: Time::at(2_000_000_000 - 86_400 * number as i64),
        roots: vec!["/srv/sea\u{1b}[2Jmark".into(), "/srv/field-kits".into()],
        complete: number.is_multiple_of(2),
        entries: 1000 * number,
        allocated: Bytes::new(number << 20),
        unreadable: 0,
        automatic: true,
        file: Bytes::new(number << 10),
    };
    let rows: Vec<_> = (1..60u64)
        .map(|number| SavedRow {
            number,
            about: if number == 58 { Err("it is damaged".into()) } else { Ok(about(number)) },
        })
        .collect();
    let mut stage = Stage::new();
    stage.model.overlay = Some(Overlay::Saved { rows: Some(rows), cursor: 0, forgets: None });
    for size in SIZES {
        let (buffer, _) = stage.drawn(size, &theme);
        assert!(reads(&text(&buffer), "scan age entries allocated file what"), "{size:?}");
        assert!(reads(&text(&buffer), "1 1 d 1 000 1.0 MiB 1.0 KiB /srv/"), "{}", text(&buffer));
        stage.keys(&[Key::End]);
        let screen = text(&stage.drawn(size, &theme).0);
        assert!(reads(&screen, "58 it is damaged 59"), "{size:?}:\n{screen}");
        stage.keys(&[Key::Home]);
    }
}
