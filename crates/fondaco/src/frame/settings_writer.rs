//! Writes changed settings down, in the order in which they were changed, and to the end also if somebody leaves meanwhile.

use std::io;
use std::sync::mpsc::{Sender, channel};
use std::thread::{Builder, JoinHandle};

use fondaco_core::state::State;

use super::input::Event;
use super::message::Message;
use crate::failure::Failure;

/// A thread of its own for the settings. Dropped, it waits until the last of them are written.
pub struct SettingsWriter {
    changed: Option<Sender<Box<State>>>,
    thread: Option<JoinHandle<()>>,
}

impl SettingsWriter {
    /// One that reports there.
    ///
    /// # Errors
    ///
    /// That of the system, if its thread cannot be begun.
    pub fn begin(messages: Sender<Event>) -> io::Result<Self> {
        let (changed, states) = channel::<Box<State>>();
        let thread = Builder::new().spawn(move || {
            for state in states {
                let written = state.save().map_err(Failure::of);
                // when the application has gone, nobody needs to hear
                let _ = messages.send(Event::Job(Message::Saved(written)));
            }
        })?;
        Ok(Self { changed: Some(changed), thread: Some(thread) })
    }

    /// Has settings written down.
    pub fn write(&self, state: State) {
        if let Some(changed) = &self.changed {
            // the thread lives as long as we do
            let _ = changed.send(Box::new(state));
        }
    }
}

impl Drop for SettingsWriter {
    fn drop(&mut self) {
        self.changed = None;
        if let Some(thread) = self.thread.take() {
            // what it could not write it has told
            let _ = thread.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use fondaco_core::units::Level;

    use super::*;

    #[test]
    fn whoever_leaves_right_after_a_change_finds_the_last_one_again() {
        let directory = tempfile::tempdir().unwrap();
        let mut state = State::open(directory.path()).unwrap();
        let (messages, reports) = channel();
        let writer = SettingsWriter::begin(messages).unwrap();
        for percent in 50..70u64 {
            let level = Level::parse(&percent.to_string()).unwrap();
            state.settings.waterlines.insert("/srv".to_owned(), level);
            writer.write(state.clone());
        }
        drop(writer);
        let again = State::open(directory.path()).unwrap();
        assert_eq!(again.waterline(Path::new("/srv")), Level::parse("69").unwrap());
        let told =
            reports.iter().filter(|event| matches!(event, Event::Job(Message::Saved(Ok(())))));
        assert_eq!(told.count(), 20);
    }
}
