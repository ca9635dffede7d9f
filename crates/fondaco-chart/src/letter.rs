//! A report in sections of lines, which reads the same as text and as HTML: for what is sent by mail.

use std::fmt::Write;

use askama::Template;

/// See the [module](self). All texts are in their display form; the HTML escapes what means something there.
#[derive(Clone, Debug, Default, PartialEq, Eq, Template)]
#[template(path = "letter.html")]
pub struct Letter {
    /// What it comes to, in one line.
    pub title: String,
    /// What follows the title, what matters most first.
    pub sections: Vec<Section>,
}

/// Lines that belong together.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Section {
    /// What they are about; nothing for those right below the title of the letter.
    pub title: String,
    /// What is said about it, a sentence or a row each.
    pub lines: Vec<Line>,
}

/// A line of a letter.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Line {
    /// What it says.
    pub text: String,
    /// It says more about the line before it.
    pub deeper: bool,
    /// It should be seen first.
    pub trouble: bool,
}

impl Letter {
    /// Begins a section.
    pub fn section(&mut self, title: impl Into<String>) {
        self.sections.push(Section { title: title.into(), lines: Vec::new() });
    }

    /// Adds a line to the last section.
    pub fn line(&mut self, line: Line) {
        match self.sections.last_mut() {
            Some(section) => section.lines.push(line),
            None => self.sections.push(Section { title: String::new(), lines: vec![line] }),
        }
    }

    /// As text, where a trouble has an exclamation mark before it.
    pub fn to_text(&self) -> String {
        let mut out = format!("{}\n", self.title);
        for section in &self.sections {
            let indent = if section.title.is_empty() {
                ""
            } else {
                let _ = write!(out, "\n{}\n", section.title);
                "  "
            };
            for line in &section.lines {
                let deeper = if line.deeper { "  " } else { "" };
                let mark = if line.trouble { "! " } else { "" };
                let _ = writeln!(out, "{indent}{deeper}{mark}{}", line.text);
            }
        }
        out
    }

    /// As an HTML page that loads nothing.
    ///
    /// # Errors
    ///
    /// If the page cannot be filled.
    pub fn to_html(&self) -> Result<String, askama::Error> {
        self.render()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_and_html_say_the_same_and_markup_in_names_is_text() {
        let mut letter = Letter { title: "pier: all done".to_owned(), ..Letter::default() };
        letter.line(Line { text: "run 3".to_owned(), ..Line::default() });
        letter.section("Left alone: 1");
        let name = "/srv/<script>alert(1)</script>&amp;";
        letter.line(Line { text: name.to_owned(), trouble: true, ..Line::default() });
        letter.line(Line { text: "in use".to_owned(), deeper: true, ..Line::default() });
        let text = letter.to_text();
        let wanted = format!("pier: all done\nrun 3\n\nLeft alone: 1\n  ! {name}\n    in use\n");
        assert_eq!(text, wanted);
        let html = letter.to_html().unwrap();
        assert!(!html.contains("<script>") && html.contains("&#60;script&#62;"), "{html}");
        assert!(html.contains("Left alone: 1") && html.contains("in use"), "{html}");
    }
}
