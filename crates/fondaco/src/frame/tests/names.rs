//! A directory service that hangs holds up no frame and no key.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering::Relaxed};
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};

use fondaco_core::lens::Accounts;

use super::Stage;
use crate::frame::commands::Key;
use crate::frame::input::Event;
use crate::frame::message::Message;
use crate::frame::names::answer_names;
use crate::frame::update::update;
use crate::frame::view::{Depth, Theme, draw};
use ratatui::Terminal;
use ratatui::backend::TestBackend;

/// How long the service keeps a question that nobody lets it answer.
const GIVES_UP: Duration = Duration::from_secs(10);

/// Answers nothing until it is released, or [`GIVES_UP`] has passed.
#[derive(Clone, Default)]
struct Hanging {
    asked: Arc<AtomicU32>,
    released: Arc<AtomicBool>,
}

impl Hanging {
    fn hang(&self) {
        self.asked.fetch_add(1, Relaxed);
        let begun = Instant::now();
        while !self.released.load(Relaxed) && begun.elapsed() < GIVES_UP {
            std::thread::sleep(Duration::from_millis(2));
        }
    }
}

impl Accounts for Hanging {
    fn user_number(&self, name: &str) -> Option<u32> {
        self.hang();
        (name == "acoustics").then_some(0)
    }

    fn group_number(&self, _: &str) -> Option<u32> {
        self.hang();
        None
    }

    fn user_name(&self, _: u32) -> Option<String> {
        self.hang();
        Some("acoustics".to_owned())
    }

    fn group_name(&self, _: u32) -> Option<String> {
        self.hang();
        None
    }

    fn users(&self) -> Vec<String> {
        self.hang();
        vec!["acoustics".to_owned()]
    }

    fn groups(&self) -> Vec<String> {
        self.hang();
        Vec::new()
    }
}

#[test]
fn a_directory_service_that_hangs_holds_no_frame_and_is_believed_when_it_answers() {
    let mut stage = Stage::new();
    let (theme, service) = (Theme::new(Depth::True, false, false), Hanging::default());
    let (questions, asked) = channel::<(_, Box<dyn Accounts + Send>)>();
    let (messages, answers) = channel();
    let thread = std::thread::spawn(move || answer_names(&asked, &messages));
    let mut terminal = Terminal::new(TestBackend::new(160, 50)).unwrap();
    let mut frames = Vec::new();
    let mut step = |stage: &mut Stage, message: Message| {
        let begun = Instant::now();
        let mut jobs = update(&mut stage.model, message);
        terminal.draw(|frame| drop(draw(&stage.model, frame, &theme))).unwrap();
        frames.push(begun.elapsed());
        for question in stage.model.names.take_wanted() {
            questions.send((question, Box::new(service.clone()))).unwrap();
        }
        while let Some(job) = jobs.pop() {
            if let crate::frame::message::Job::Ask(asked) = job {
                jobs.extend(stage.answer(*asked));
            }
        }
        terminal.backend().to_string()
    };
    // slices by owner, and a lens that is typed with a name
    step(&mut stage, Message::Key(Key::Char('4')));
    let mut screen = String::new();
    for _ in 0..20 {
        screen = step(&mut stage, Message::Key(Key::Right));
        if screen.contains("▸owner") {
            break;
        }
    }
    screen.push_str(&step(&mut stage, Message::Tick(super::NOW)));
    let number = format!("{} …", rustix::process::geteuid().as_raw());
    assert!(screen.contains(&number), "a number until the name is known:\n{screen}");
    for c in "/owner:acoustics".chars() {
        screen = step(&mut stage, Message::Key(Key::Char(c)));
    }
    assert!(screen.contains("who has this name is being asked"), "{screen}");
    // a frame that waited for the service would have been held until the service gave up
    assert!(frames.iter().all(|&took| took < GIVES_UP / 2), "{frames:?}");
    assert!(service.asked.load(Relaxed) > 0);
    // it answers at last
    service.released.store(true, Relaxed);
    drop(questions);
    thread.join().unwrap();
    for event in answers {
        if let Event::Job(message @ Message::Named { .. }) = event {
            for job in stage.send(message) {
                if let crate::frame::message::Job::Ask(asked) = job {
                    stage.answer(*asked);
                }
            }
        }
    }
    assert!(stage.model.lens.typing.as_ref().unwrap().error.is_none());
    assert_eq!(stage.model.lens.text, "owner:acoustics");
}
