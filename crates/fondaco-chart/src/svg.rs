//! Writing SVG: a few shapes, and text that stays text.

use std::io;

use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};

use crate::text::FAMILY;

/// Where a text begins, or ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Anchor {
    Start,
    Middle,
    End,
}

/// A drawing of a width and height, in points.
pub(crate) struct Drawing {
    writer: Writer<Vec<u8>>,
    width: f64,
    height: f64,
}

impl Drawing {
    pub(crate) fn new(width: f64, height: f64, ground: &str) -> Self {
        let mut drawing = Self { writer: Writer::new(Vec::new()), width, height };
        drawing.rect(0.0, 0.0, width, height, ground);
        drawing
    }

    /// Writing into memory does not fail.
    fn element(&mut self, name: &str, attributes: &[(&str, &str)], text: Option<&str>) {
        let element = self.writer.create_element(name);
        let element = element.with_attributes(attributes.iter().copied());
        let written: io::Result<_> = match text {
            Some(text) => element.write_text_content(BytesText::new(text)).map(|_| ()),
            None => element.write_empty().map(|_| ()),
        };
        debug_assert!(written.is_ok());
    }

    pub(crate) fn rect(&mut self, x: f64, y: f64, width: f64, height: f64, fill: &str) {
        let (x, y) = (number(x), number(y));
        let (width, height) = (number(width.max(0.0)), number(height.max(0.0)));
        let place = [("x", &*x), ("y", &y), ("width", &width), ("height", &height), ("fill", fill)];
        self.element("rect", &place, None);
    }

    pub(crate) fn line(&mut self, from: (f64, f64), to: (f64, f64), stroke: &str, width: f64) {
        let (x1, y1, x2, y2) = (number(from.0), number(from.1), number(to.0), number(to.1));
        let width = number(width);
        let place = [
            ("x1", &*x1),
            ("y1", &y1),
            ("x2", &x2),
            ("y2", &y2),
            ("stroke", stroke),
            ("stroke-width", &width),
        ];
        self.element("line", &place, None);
    }

    /// Text whose base line is at `y`.
    pub(crate) fn text(
        &mut self,
        x: f64,
        y: f64,
        size: f64,
        fill: &str,
        anchor: Anchor,
        text: &str,
    ) {
        if text.is_empty() {
            return;
        }
        let (x, y, size) = (number(x), number(y), number(size));
        let anchor = match anchor {
            Anchor::Start => "start",
            Anchor::Middle => "middle",
            Anchor::End => "end",
        };
        let place = [
            ("x", &*x),
            ("y", &y),
            ("font-size", &size),
            ("fill", fill),
            ("text-anchor", anchor),
            ("xml:space", "preserve"),
        ];
        self.element("text", &place, Some(text));
    }

    /// The whole document; `title` is what programs read aloud.
    pub(crate) fn finish(self, title: &str) -> String {
        let shapes = self.writer.into_inner();
        let (width, height) = (number(self.width), number(self.height));
        let view = format!("0 0 {width} {height}");
        let family = format!("'{FAMILY}', Verdana, sans-serif");
        let mut writer = Writer::new(Vec::new());
        let declared = writer.write_event(Event::Decl(BytesDecl::new("1.0", Some("UTF-8"), None)));
        debug_assert!(declared.is_ok());
        let element = writer.create_element("svg").with_attributes([
            ("xmlns", "http://www.w3.org/2000/svg"),
            ("width", &*width),
            ("height", &height),
            ("viewBox", &view),
            ("font-family", &family),
            ("role", "img"),
        ]);
        let written = element.write_inner_content(|writer| {
            writer.create_element("title").write_text_content(BytesText::new(title))?;
            writer.get_mut().extend_from_slice(&shapes);
            Ok(())
        });
        debug_assert!(written.is_ok());
        String::from_utf8(writer.into_inner()).unwrap_or_default()
    }
}

/// Hundredths are as fine as anybody sees.
fn number(value: f64) -> String {
    let text = format!("{value:.2}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}
