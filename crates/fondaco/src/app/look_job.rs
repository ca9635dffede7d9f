//! Questions about a scan that are answered away from the screen, the newest of each sort only.

use std::ops::ControlFlow;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::mpsc::{Receiver, Sender};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Instant;

use fondaco_core::analysis::{
    AgeBy, Block, Breakdown, BreakdownBy, Classes, FileList, FileOrder, Matrix, breakdown,
    first_files, matrix,
};
use fondaco_core::catalog::{Catalog, EntryId, Selection, write_between_readers};
use fondaco_core::lens::Lens;
use fondaco_core::scan::look_closer;
use fondaco_core::state::State;

use super::input::Event;
use super::message::Message;

/// A question.
#[derive(Debug)]
pub struct Question {
    /// Which scan it is about.
    pub scan: u64,
    /// Tells it from earlier ones of its sort.
    pub number: u64,
    /// The scan.
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
    /// Sizes and ages below a directory.
    Ages(EntryId, AgeBy, Box<Classes>),
    /// The heaviest files of a block of them.
    Block(EntryId, AgeBy, Box<Block>, usize),
    /// Slices of a directory.
    Breakdown(EntryId, BreakdownBy),
    /// Files below a directory.
    Files(EntryId, FileOrder, AgeBy, usize),
    /// Births and attributes; with the second also contents.
    Closer(bool),
}

impl About {
    /// The sort of questions for a lens.
    pub(super) const LENS: usize = 0;

    /// A later question of the same sort makes an earlier one needless.
    pub(super) fn sort(&self) -> usize {
        match self {
            Self::Lens(_) => Self::LENS,
            Self::Ages(..) => 1,
            Self::Block(..) => 2,
            Self::Breakdown(..) => 3,
            Self::Files(..) => 4,
            Self::Closer(_) => 5,
        }
    }
}

/// An answer.
#[derive(Debug)]
#[allow(missing_docs)] // as the questions
pub enum Answer {
    Lens(Arc<Selection>),
    Ages(Arc<Matrix>),
    Block(FileList),
    Breakdown(Arc<Breakdown>),
    Files(FileList),
    /// How many entries have been looked at, and whether that is all.
    Closer(u64, bool),
}

impl Answer {
    /// That of its question.
    pub(super) fn sort(&self) -> usize {
        match self {
            Self::Lens(_) => About::LENS,
            Self::Ages(..) => 1,
            Self::Block(..) => 2,
            Self::Breakdown(..) => 3,
            Self::Files(..) => 4,
            Self::Closer(..) => 5,
        }
    }
}

/// Answers questions until nobody asks any more. `stop` ends a closer look.
pub(super) fn answer_all(
    questions: &Receiver<Question>,
    messages: &Sender<Event>,
    stop: &AtomicBool,
) {
    while let Ok(first) = questions.recv() {
        let mut waiting = vec![first];
        loop {
            for question in questions.try_iter() {
                waiting.retain(|other| other.about.sort() != question.about.sort());
                waiting.push(question);
            }
            // the lens first: all else is asked anew when it has been found
            let Some(next) = (0..waiting.len()).min_by_key(|i| waiting[*i].about.sort()) else {
                break;
            };
            let question = waiting.remove(next);
            let (scan, number, begun) = (question.scan, question.number, Instant::now());
            let tell = |answer| {
                let message = Message::Answered { scan, number, answer, took: begun.elapsed() };
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
pub(super) fn answer(
    question: Question,
    tell: &dyn Fn(Answer),
    stop: &AtomicBool,
) -> Option<Answer> {
    let catalog = question.catalog.read().unwrap_or_else(PoisonError::into_inner);
    let seen = catalog.seen(question.selection.as_deref());
    Some(match question.about {
        About::Lens(lens) => Answer::Lens(Arc::new(lens.select(&catalog, &question.state))),
        About::Ages(at, by, classes) => Answer::Ages(Arc::new(matrix(seen, at, by, *classes))),
        About::Block(at, by, block, count) => {
            let order = FileOrder::ByteYears;
            Answer::Block(first_files(seen, at, order, by, Some(&block), count))
        }
        About::Breakdown(at, by) => Answer::Breakdown(Arc::new(breakdown(seen, at, by))),
        About::Files(at, order, by, count) => {
            Answer::Files(first_files(seen, at, order, by, None, count))
        }
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
