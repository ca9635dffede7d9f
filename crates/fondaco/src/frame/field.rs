//! A line of text that is being typed, with a cursor.

use tui_input::{Input, InputRequest};

use super::commands::Key;

/// See the [module](self).
#[derive(Clone, Debug, Default)]
pub struct Field(Input);

impl Field {
    /// A text with the cursor at its end.
    pub fn of(text: impl Into<String>) -> Self {
        Self(Input::new(text.into()))
    }

    /// What has been typed.
    pub fn text(&self) -> &str {
        self.0.value()
    }

    /// What stands before the cursor, and what after it.
    pub fn parts(&self) -> (&str, &str) {
        let text = self.text();
        let place = text.char_indices().nth(self.0.cursor()).map_or(text.len(), |(place, _)| place);
        text.split_at(place)
    }

    /// Puts a text in place of what stands before the cursor.
    pub fn replace_before(&mut self, before: &str) {
        let after = self.parts().1.to_owned();
        let cursor = before.chars().count();
        self.0 = Input::new(format!("{before}{after}")).with_cursor(cursor);
    }

    /// Takes a key that edits, or moves the cursor; says whether it is one.
    pub fn on_key(&mut self, key: Key) -> bool {
        let request = match key {
            Key::Char(c) => InputRequest::InsertChar(c),
            Key::Backspace => InputRequest::DeletePrevChar,
            Key::Delete => InputRequest::DeleteNextChar,
            Key::Left => InputRequest::GoToPrevChar,
            Key::Right => InputRequest::GoToNextChar,
            Key::Home | Key::Ctrl('a') => InputRequest::GoToStart,
            Key::End | Key::Ctrl('e') => InputRequest::GoToEnd,
            Key::Ctrl('u') => InputRequest::DeleteLine,
            Key::Ctrl('w') => {
                let before = self.parts().0.trim_end();
                let kept = before.rfind([' ', '/']).map_or(0, |place| place + 1);
                let kept = before[..kept].to_owned();
                self.replace_before(&kept);
                return true;
            }
            _ => return false,
        };
        self.0.handle(request);
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_edited_anywhere_in_it() {
        let mut field = Field::of("/srv/tid");
        let keys = [Key::Char('e'), Key::Home, Key::Delete, Key::Char('æ'), Key::Right, Key::Left];
        assert!(keys.into_iter().all(|key| field.on_key(key)));
        assert_eq!(field.parts(), ("æ", "srv/tide"));
        field.replace_before("/mnt/");
        assert_eq!((field.text(), field.parts().1), ("/mnt/srv/tide", "srv/tide"));
        field.on_key(Key::Right);
        field.on_key(Key::Backspace);
        assert_eq!(field.parts(), ("/mnt/", "rv/tide"));
        field.on_key(Key::End);
        field.on_key(Key::Ctrl('w'));
        assert_eq!(field.parts(), ("/mnt/rv/", ""));
        assert!(!field.on_key(Key::Enter) && !field.on_key(Key::Up));
        field.on_key(Key::Ctrl('u'));
        field.on_key(Key::Ctrl('w'));
        field.on_key(Key::Backspace);
        assert_eq!(field.text(), "");
    }

    #[test]
    fn of_a_long_line_the_part_around_the_cursor_is_shown() {
        let mut field = Field::of("kind:audio older:90d under:hydrophone");
        assert_eq!(crate::frame::view::typed(&field, 21), "…0d under:hydrophone▏");
        (0..10).for_each(|_| assert!(field.on_key(Key::Left)));
        assert_eq!(crate::frame::view::typed(&field, 21), "…der:90d under:▏hydr…");
        assert_eq!(crate::frame::view::typed(&field, 60), "kind:audio older:90d under:▏hydrophone");
    }
}
