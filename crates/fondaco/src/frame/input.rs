//! From terminal events to messages; what a click means is decided by what was drawn there.

use std::sync::mpsc::Sender;
use std::time::{Duration, Instant};

use ratatui::crossterm::event::{
    self, Event as TerminalEvent, KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton,
    MouseEvent, MouseEventKind,
};

use super::commands::Key;
use super::message::Message;
use crate::frame::view::{Hits, Target};

/// What comes in: from the terminal, or from a job.
#[derive(Debug)]
pub enum Event {
    /// From the terminal.
    Terminal(TerminalEvent),
    /// From a job.
    Job(Message),
}

/// Sends what the terminal says until it is closed or nobody listens.
pub fn listen(events: &Sender<Event>) {
    while let Ok(event) = event::read() {
        for event in apart(event) {
            if events.send(Event::Terminal(event)).is_err() {
                return;
            }
        }
    }
}

/// Escape and the key after it, where a slow line brought both at once: that reads as the key with Alt, which
/// nothing here is done with. Alt with an arrow has a code of its own.
fn apart(event: TerminalEvent) -> impl Iterator<Item = TerminalEvent> {
    let (first, second) = match event {
        TerminalEvent::Key(mut key) if is_at_once(&key) => {
            key.modifiers.remove(KeyModifiers::ALT);
            let escape = KeyEvent::new(KeyCode::Esc, KeyModifiers::NONE);
            (Some(TerminalEvent::Key(escape)), TerminalEvent::Key(key))
        }
        other => (None, other),
    };
    first.into_iter().chain([second])
}

fn is_at_once(key: &KeyEvent) -> bool {
    use KeyCode::{Backspace, Char, Enter, Tab};
    key.modifiers.contains(KeyModifiers::ALT)
        && matches!(key.code, Char(_) | Enter | Tab | Backspace)
}

/// Remembers the last click, to know a double one.
#[derive(Debug, Default)]
pub struct Input {
    clicked: Option<(Instant, u16, u16)>,
}

impl Input {
    /// What an event means, if anything.
    pub fn message(&mut self, event: Event, hits: &Hits) -> Option<Message> {
        match event {
            Event::Job(message) => Some(message),
            Event::Terminal(TerminalEvent::Key(key)) => key_of(key).map(Message::Key),
            Event::Terminal(TerminalEvent::Paste(text)) => Some(Message::Paste(text)),
            Event::Terminal(TerminalEvent::Resize(columns, rows)) => {
                Some(Message::Resize(columns, rows))
            }
            Event::Terminal(TerminalEvent::Mouse(mouse)) => self.mouse(mouse, hits),
            Event::Terminal(_) => None,
        }
    }

    fn mouse(&mut self, mouse: MouseEvent, hits: &Hits) -> Option<Message> {
        match mouse.kind {
            MouseEventKind::ScrollUp => Some(Message::Wheel(-3)),
            MouseEventKind::ScrollDown => Some(Message::Wheel(3)),
            MouseEventKind::Down(MouseButton::Left) => {
                let at = (mouse.column, mouse.row);
                let double = self.clicked.is_some_and(|(when, column, row)| {
                    (column, row) == at && when.elapsed() < Duration::from_millis(400)
                });
                self.clicked = (!double).then(|| (Instant::now(), at.0, at.1));
                match hits.at(at.0, at.1)? {
                    Target::Row(row) => Some(Message::Click { row, double }),
                    Target::Cell(row, column) => Some(Message::ClickCell(row, column)),
                    Target::Entry(id) => Some(Message::ClickEntry { id, double }),
                    Target::Command(command) => Some(Message::Command(command)),
                    Target::Station(station) => Some(Message::GoTo(station)),
                }
            }
            _ => None,
        }
    }
}

fn key_of(event: KeyEvent) -> Option<Key> {
    if event.kind == KeyEventKind::Release {
        return None;
    }
    Some(match event.code {
        KeyCode::Char(c) if event.modifiers.contains(KeyModifiers::CONTROL) => {
            Key::Ctrl(c.to_ascii_lowercase())
        }
        KeyCode::Char(c) => Key::Char(c),
        KeyCode::F(n) => Key::Function(n),
        KeyCode::Enter => Key::Enter,
        KeyCode::Esc => Key::Escape,
        KeyCode::Tab => Key::Tab,
        KeyCode::Backspace => Key::Backspace,
        KeyCode::Left => Key::Left,
        KeyCode::Right => Key::Right,
        KeyCode::Up => Key::Up,
        KeyCode::Down => Key::Down,
        KeyCode::PageUp => Key::PageUp,
        KeyCode::PageDown => Key::PageDown,
        KeyCode::Home => Key::Home,
        KeyCode::End => Key::End,
        KeyCode::Delete => Key::Delete,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escape_and_the_key_after_it_are_two_though_they_come_at_once() {
        let keys = |code, modifiers| {
            let event = TerminalEvent::Key(KeyEvent::new(code, modifiers));
            let (mut input, hits) = (Input::default(), Hits::default());
            apart(event)
                .filter_map(|event| match input.message(Event::Terminal(event), &hits) {
                    Some(Message::Key(key)) => Some(key),
                    _ => None,
                })
                .collect::<Vec<_>>()
        };
        let (alt, ctrl) = (KeyModifiers::ALT, KeyModifiers::CONTROL);
        assert_eq!(keys(KeyCode::Char('a'), alt), [Key::Escape, Key::Char('a')]);
        assert_eq!(keys(KeyCode::Enter, alt), [Key::Escape, Key::Enter]);
        assert_eq!(keys(KeyCode::Char('c'), alt | ctrl), [Key::Escape, Key::Ctrl('c')]);
        assert_eq!(keys(KeyCode::Char('a'), KeyModifiers::NONE), [Key::Char('a')]);
        assert_eq!(keys(KeyCode::Left, alt), [Key::Left]);
        assert_eq!(keys(KeyCode::Char('U'), ctrl), [Key::Ctrl('u')]);
    }
}
