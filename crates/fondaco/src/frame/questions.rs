//! Questions about a scan that are answered away from the screen, the newest of each sort only.

use std::fmt::Debug;
use std::ops::ControlFlow;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::mpsc::{Receiver, Sender};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Instant;

use fondaco_core::catalog::{Catalog, Seen, Selection, write_between_readers};
use fondaco_core::lens::Lens;
use fondaco_core::scan::look_closer;
use fondaco_core::state::State;

use super::input::Event;
use super::message::{Message, News};

/// Something that a station wants to know of the scan at hand.
pub trait Question: Debug + Send {
    /// Tells sorts apart: a later question of the same sort makes an earlier one needless.
    fn sort(&self) -> &'static str;

    /// Finds the answer.
    fn answer(&self, seen: Seen<'_>) -> Box<dyn News>;
}

/// A question with what it is asked of.
#[derive(Debug)]
pub struct Asked {
    /// Number of the scan that it is about.
    pub scan: u64,
    /// Tells it from earlier ones of its sort.
    pub number: u64,
    /// The scan that is asked.
    pub catalog: Arc<RwLock<Catalog>>,
    /// What the lens chooses of it.
    pub selection: Option<Arc<Selection>>,
    /// Names of accounts.
    pub state: State,
    /// What is asked.
    pub about: About,
}

/// What is asked.
#[derive(Debug)]
pub enum About {
    /// What a lens chooses.
    Lens(Box<Lens>),
    /// Births and attributes; with `true` also contents.
    Closer(bool),
    /// What a station wants to know.
    Own(Box<dyn Question>),
}

impl About {
    /// The sort of questions for a lens.
    pub(super) const LENS: &'static str = "lens";

    /// Tells sorts apart: a later question of the same sort makes an earlier one needless.
    pub(super) fn sort(&self) -> &'static str {
        match self {
            Self::Lens(_) => Self::LENS,
            Self::Closer(_) => "closer look",
            Self::Own(question) => question.sort(),
        }
    }

    /// The lens goes first, since all else is asked anew when it has been found; a closer look takes longest.
    fn turn(&self) -> u8 {
        match self {
            Self::Lens(_) => 0,
            Self::Own(_) => 1,
            Self::Closer(_) => 2,
        }
    }
}

/// What a question has come to.
#[derive(Debug)]
pub enum Answer {
    /// What the lens chooses.
    Lens(Arc<Selection>),
    /// How many entries have been looked at, and whether that is all.
    Closer(u64, bool),
    /// What a station wanted to know.
    Own(Box<dyn News>),
}

/// Answers questions until nobody asks any more. `stop` ends a closer look.
pub(super) fn answer_all(questions: &Receiver<Asked>, messages: &Sender<Event>, stop: &AtomicBool) {
    while let Ok(first) = questions.recv() {
        let mut waiting = vec![first];
        loop {
            for question in questions.try_iter() {
                waiting.retain(|other| other.about.sort() != question.about.sort());
                waiting.push(question);
            }
            let Some(next) = (0..waiting.len()).min_by_key(|i| waiting[*i].about.turn()) else {
                break;
            };
            let question = waiting.remove(next);
            let (scan, number, begun) = (question.scan, question.number, Instant::now());
            let sort = question.about.sort();
            let tell = |answer| {
                let took = begun.elapsed();
                let message = Message::Answered { scan, sort, number, answer, took };
                // when the application has gone, nobody needs to hear
                let _ = messages.send(Event::Job(message));
            };
            if let Some(found) = answer(question, &tell, stop) {
                tell(found);
            }
        }
    }
}

/// Answers one question.
pub(super) fn answer(question: Asked, tell: &dyn Fn(Answer), stop: &AtomicBool) -> Option<Answer> {
    let catalog = question.catalog.read().unwrap_or_else(PoisonError::into_inner);
    let seen = catalog.seen(question.selection.as_deref());
    Some(match question.about {
        About::Lens(lens) => Answer::Lens(Arc::new(lens.select(&catalog, &question.state))),
        About::Own(question) => Answer::Own(question.answer(seen)),
        About::Closer(into) => {
            stop.store(false, Relaxed);
            let closer = look_closer(&catalog, into, &|looked| {
                tell(Answer::Closer(looked, false));
                if stop.load(Relaxed) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
            });
            let entries = catalog.rows() as u64;
            drop(catalog);
            if let Some(closer) = closer {
                write_between_readers(&question.catalog).set_closer(closer);
            }
            Answer::Closer(entries, true)
        }
    })
}
