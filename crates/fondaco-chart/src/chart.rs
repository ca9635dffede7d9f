//! What all charts have in common: their frame, and what they can become.

use fondaco_core::units::{Bytes, UnitStyle};

use crate::colours::{Colours, Look};
use crate::svg::{Anchor, Drawing};
use crate::{pdf, text};

/// Why a chart cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum ChartError {
    /// The library that makes PDF of it.
    #[error("the PDF could not be made: {0}")]
    Pdf(String),
}

/// What stands above and below a chart.
#[derive(Clone, Debug)]
pub struct Context {
    /// What it is of, in its display form: mostly a path.
    pub of: String,
    /// When that was found out.
    pub date: String,
    /// The lens, if not everything is shown.
    pub lens: Option<String>,
    /// How sizes are written.
    pub units: UnitStyle,
    /// Where it is looked at.
    pub look: Look,
    /// How wide and high, in points; the height grows if there is more to show.
    pub size: (f64, f64),
}

/// A chart that has been drawn.
#[derive(Clone, Debug)]
pub struct Chart {
    svg: String,
}

impl Chart {
    /// As a document of its own.
    pub fn to_svg(&self) -> &str {
        &self.svg
    }

    /// As a PDF of one page.
    ///
    /// # Errors
    ///
    /// [`ChartError`].
    pub fn to_pdf(&self) -> Result<Vec<u8>, ChartError> {
        pdf::pages(std::slice::from_ref(&self.svg))
    }
}

/// The part of a drawing that is left for the chart itself.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Area {
    pub x: f64,
    pub y: f64,
    pub width: f64,
    pub height: f64,
}

/// A drawing with its frame, on which a chart is drawn.
pub(crate) struct Sheet<'a> {
    pub drawing: Drawing,
    pub colours: Colours,
    pub context: &'a Context,
    title: String,
}

pub(crate) const MARGIN: f64 = 28.0;
/// Sizes of text.
pub(crate) const SMALL: f64 = 9.0;
pub(crate) const PLAIN: f64 = 11.0;
const LARGE: f64 = 17.0;

impl<'a> Sheet<'a> {
    /// A sheet with its title, what it is of, and a line about what is drawn. The height is for the chart alone.
    pub(crate) fn new(
        context: &'a Context,
        title: &str,
        note: &str,
        height: Option<f64>,
    ) -> (Self, Area) {
        let (width, whole) = context.size;
        let (above, below) = (78.0, 34.0);
        let height = height.unwrap_or(whole - above - below - 2.0 * 4.0).max(60.0);
        let colours = context.look.colours();
        let mut drawing = Drawing::new(width, above + height + below, colours.ground);
        let left = width - 2.0 * MARGIN;
        let start = Anchor::Start;
        drawing.text(MARGIN, 32.0, LARGE, colours.text, start, &text::cut(title, LARGE, left));
        let of = text::cut_path(&context.of, PLAIN, left);
        drawing.text(MARGIN, 50.0, PLAIN, colours.text, start, &of);
        drawing.text(MARGIN, 65.0, SMALL, colours.dim, start, &text::cut(note, SMALL, left));
        let foot = above + height + below - 12.0;
        let mut about = format!("as of {}", context.date);
        if let Some(lens) = &context.lens {
            about = format!("{about} · lens: {lens}");
        }
        let unit = match context.units {
            UnitStyle::Binary => "KiB = 1024 B, MiB = 1024 KiB, …",
            UnitStyle::Decimal => "kB = 1000 B, MB = 1000 kB, …",
            UnitStyle::Bytes => "bytes",
        };
        let unit = format!("bytes on disk · {unit} · Fondaco");
        let unit_width = text::width(&unit, SMALL);
        drawing.text(width - MARGIN, foot, SMALL, colours.dim, Anchor::End, &unit);
        let about = text::cut(&about, SMALL, left - unit_width - 14.0);
        drawing.text(MARGIN, foot, SMALL, colours.dim, start, &about);
        let area = Area { x: MARGIN, y: above, width: left, height };
        (Self { drawing, colours, context, title: format!("{title}: {}", context.of) }, area)
    }

    pub(crate) fn bytes(&self, bytes: Bytes) -> String {
        bytes.shown(self.context.units)
    }

    /// Text at a base line, cut to a width.
    pub(crate) fn words(&mut self, x: f64, y: f64, size: f64, fill: &str, most: f64, words: &str) {
        self.drawing.text(x, y, size, fill, Anchor::Start, &text::cut(words, size, most));
    }

    /// Text that ends at `x`.
    pub(crate) fn words_right(&mut self, x: f64, y: f64, size: f64, fill: &str, words: &str) {
        self.drawing.text(x, y, size, fill, Anchor::End, words);
    }

    /// Fields of colour with their words, from left to right. Gives where it ended.
    pub(crate) fn legend(&mut self, x: f64, y: f64, fields: &[(&str, &str)]) -> f64 {
        let mut x = x;
        for (colour, words) in fields {
            self.drawing.rect(x, y - 8.0, 12.0, 9.0, colour);
            x += 16.0;
            self.drawing.text(x, y, SMALL, self.colours.dim, Anchor::Start, words);
            x += text::width(words, SMALL) + 12.0;
        }
        x
    }

    /// Vertical rules at parts of a scale that ends at a share of the whole, with what they mean above them.
    pub(crate) fn scale(&mut self, (x, width): (f64, f64), (top, bottom): (f64, f64), end: f64) {
        for part in [0.0, 0.5, 1.0] {
            let at = x + width * part;
            self.drawing.line((at, top + 4.0), (at, bottom), self.colours.rule, 0.5);
            let anchor = match part {
                0.0 => Anchor::Start,
                1.0 => Anchor::End,
                _ => Anchor::Middle,
            };
            let percent = part * end * 100.0;
            let words = match percent {
                0.0 => "0".to_owned(),
                p if p.fract() == 0.0 => format!("{p:.0} %"),
                p => format!("{p} %"),
            };
            self.drawing.text(at, top, SMALL, self.colours.dim, anchor, &words);
        }
    }

    /// Says that there is nothing to be drawn, and why.
    pub(crate) fn nothing(&mut self, area: Area) {
        let words = match self.context.lens {
            Some(_) => "Nothing passes the lens.",
            None => "There is nothing in it.",
        };
        self.words(area.x, area.y + 24.0, PLAIN, self.colours.text, area.width, words);
    }

    pub(crate) fn finish(self) -> Chart {
        Chart { svg: self.drawing.finish(&self.title) }
    }
}

/// The end of a scale on which a share can be read: the next of a few round ones.
pub(crate) fn scale_end(share: f64) -> f64 {
    const ENDS: [f64; 8] = [0.01, 0.02, 0.05, 0.1, 0.2, 0.25, 0.5, 1.0];
    ENDS.into_iter().find(|end| share <= *end).unwrap_or(1.0)
}

/// A share in percent, never rounded to nothing.
pub(crate) fn percent(part: Bytes, whole: Bytes) -> String {
    let percent = part.share_of(whole) * 100.0;
    if percent > 0.0 && percent < 0.1 { "< 0.1 %".to_owned() } else { format!("{percent:.1} %") }
}
