//! Keys pressed at random: nothing is removed that was not asked for in so many words, and every screen is drawn.

use proptest::prelude::*;
use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::Stage;
use super::screens::SIZES;
use crate::frame::commands::{Key, OF_ALL_STATIONS};
use crate::frame::message::{Job, Message};
use crate::frame::model::{Overlay, SavedRow};
use crate::frame::view::{self, Depth, Theme};
use crate::station::{Station, WAYS};

/// What somebody who has fallen asleep on the keyboard may press: all keys that mean something, and digits and letters
/// of answers.
fn keys() -> Vec<Key> {
    let mut keys: Vec<Key> = Station::ALL
        .iter()
        .flat_map(|station| station.room().commands())
        .chain(OF_ALL_STATIONS)
        .chain(WAYS)
        .flat_map(|row| row.keys)
        .copied()
        .collect();
    keys.extend([Key::Tab, Key::Backspace, Key::Delete, Key::Home, Key::End, Key::PageDown]);
    keys.extend("1234 quitxz:/.".chars().map(Key::Char));
    keys
}

/// What an answer that sets a removal off must have been, as it stood before the key.
fn answered(stage: &Stage) -> Option<(String, bool)> {
    match &stage.model.overlay {
        Some(Overlay::Ask { asking, wanted, typed, .. }) => {
            let right = wanted.as_deref().is_some_and(|wanted| wanted == typed.text().trim());
            Some((format!("{asking:?}"), right))
        }
        _ => None,
    }
}

impl Stage {
    /// Does what the jobs are for, as far as they only look.
    pub fn serve(&mut self, jobs: Vec<Job>) {
        let mut left = jobs;
        while let Some(job) = left.pop() {
            match job {
                Job::Ask(question) => left.extend(self.answer(*question)),
                Job::Survey(choice, ..) => {
                    let path = choice.path().to_owned();
                    let outcome = Box::new(fondaco_core::plan::survey(&path));
                    left.extend(self.send(Message::Surveyed { path, outcome }));
                }
                Job::Scan(number, ..) => {
                    let reason = "there is nothing of that name".to_owned();
                    left.extend(self.send(Message::ScanRefused { number, reason: reason.into() }));
                }
                Job::LoadSaved(_) => {
                    let row = |number| SavedRow { number, about: Err("damaged".into()) };
                    left.extend(self.send(Message::SavedScans(Ok(vec![row(1), row(2)]))));
                }
                _ => {}
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn whatever_is_pressed_nothing_is_removed_that_was_not_asked_for_in_so_many_words(
        presses in proptest::collection::vec(proptest::sample::select(keys()), 150),
        planned in any::<bool>(),
        depth in proptest::sample::select(vec![Depth::None, Depth::Sixteen, Depth::True]),
    ) {
        let mut stage = Stage::new();
        if planned {
            let jobs = stage.keys(&[Key::Char(' '), Key::Char('d')]);
            stage.serve(jobs);
        }
        let theme = Theme::new(depth, false, planned);
        for (number, key) in presses.into_iter().enumerate() {
            let before = answered(&stage);
            let forgets = match stage.model.overlay {
                Some(Overlay::Saved { forgets, .. }) => forgets,
                _ => None,
            };
            let jobs = stage.keys(&[key]);
            for job in &jobs {
                let meant =
                    |asked: &str| before == Some((asked.to_owned(), true)) && key == Key::Enter;
                match job {
                    Job::CarryOut(..) => prop_assert!(meant("CarryOut"), "{key} {before:?}"),
                    Job::Work(work) if format!("{work:?}").starts_with("Purge(") => {
                        prop_assert!(meant("Own(ConfirmPurge(1))"), "{key} {before:?}");
                    }
                    Job::Forget(which, _) => prop_assert_eq!(forgets, Some(*which)),
                    _ => {}
                }
            }
            if stage.model.quitting {
                let empty = stage.model.draft.is_empty() && !stage.model.run.is_active();
                prop_assert!(empty || before == Some(("Quit".to_owned(), true)), "{key} {before:?}");
                stage.model.quitting = false;
            }
            stage.serve(jobs);
            let (width, height) = SIZES[number % SIZES.len()];
            stage.send(Message::Resize(width, height));
            let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
            let drawn = terminal.draw(|frame| drop(view::draw(&stage.model, frame, &theme)));
            prop_assert!(drawn.is_ok());
        }
    }
}
