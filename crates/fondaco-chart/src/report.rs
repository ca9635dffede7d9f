//! A report of a scan in one file: how much, what kinds, whose, how old, the largest, the stalest. As HTML with
//! its charts inside, or as pages of PDF.

use askama::Template;
use fondaco_core::analysis::{AgeBy, Breakdown, Matrix};
use fondaco_core::catalog::AgeProfile;
use fondaco_core::units::{Bytes, grouped};

use crate::chart::{Chart, ChartError, Context, PLAIN, SMALL, Sheet, percent};
use crate::{ages, breakdown, pdf, text};

/// A slice with its name.
#[derive(Clone, Debug)]
pub struct SliceLine {
    /// What its entries have in common, in its display form.
    pub name: String,
    /// Bytes on disk.
    pub allocated: Bytes,
    /// How many entries it has.
    pub entries: u64,
    /// Bytes on disk by age of the last writing.
    pub profile: AgeProfile,
}

/// A file in a list.
#[derive(Clone, Debug)]
pub struct FileLine {
    /// Display form of its path.
    pub path: String,
    /// Bytes on disk.
    pub allocated: Bytes,
    /// The day on which it was last written.
    pub written: String,
    /// Bytes on disk times years, in words.
    pub weight: String,
    /// Whose it is.
    pub owner: String,
}

/// A place that could not be read.
#[derive(Clone, Debug)]
pub struct Trouble {
    /// Where, in its display form.
    pub path: String,
    /// Why it could not be read.
    pub reason: String,
}

/// What a report is made of.
#[derive(Clone, Debug)]
pub struct Report {
    /// What stands above it.
    pub title: String,
    /// Of what, when, in which units.
    pub context: Context,
    /// Facts in words: names and values.
    pub facts: Vec<(String, String)>,
    /// Bytes by kind, with the names of the slices.
    pub kinds: (Breakdown, Vec<SliceLine>),
    /// Bytes by owner, with the names of the slices.
    pub owners: (Breakdown, Vec<SliceLine>),
    /// By size and age.
    pub matrix: Matrix,
    /// The cascade of the whole.
    pub cascade: Chart,
    /// The map of the whole.
    pub map: Chart,
    /// Which trees are contained in which, if equal files were looked for.
    pub copies: Option<Chart>,
    /// What changed since an earlier scan, if there was one to compare with.
    pub changes: Option<Chart>,
    /// The level of the volume over time, if that is known.
    pub tide: Option<Chart>,
    /// The largest files.
    pub largest: Vec<FileLine>,
    /// The files that weigh most by byte-years.
    pub stalest: Vec<FileLine>,
    /// What could not be read.
    pub troubles: Vec<Trouble>,
}

/// A chart within a page.
struct Figure {
    title: &'static str,
    svg: String,
}

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'a> {
    title: &'a str,
    of: &'a str,
    date: &'a str,
    lens: Option<&'a str>,
    facts: &'a [(String, String)],
    figures: Vec<Figure>,
    lists: Vec<(&'static str, &'a [FileLine], Vec<String>)>,
    troubles: &'a [Trouble],
    more_troubles: usize,
}

/// More places that could not be read are counted only.
const TROUBLES: usize = 50;

impl Report {
    fn charts(&self) -> Vec<(&'static str, Chart)> {
        let rest = |(found, lines): &(Breakdown, Vec<SliceLine>)| {
            let left = &found.slices[lines.len().min(found.slices.len())..];
            let bytes: Bytes = left.iter().map(|slice| slice.sum.allocated).sum();
            let (count, bytes) = (left.len() + found.rest.0, bytes + found.rest.1.allocated);
            (count > 0).then_some((count, bytes))
        };
        let (kinds, owners) = (&self.kinds, &self.owners);
        let slices = |sort: &(Breakdown, Vec<SliceLine>)| {
            breakdown(&sort.0, &sort.1, rest(sort), &self.context)
        };
        let mut charts = vec![
            ("How much, and where", self.cascade.clone()),
            ("To its full depth", self.map.clone()),
            ("What kinds", slices(kinds)),
            ("Whose", slices(owners)),
            ("How old", ages(&self.matrix, AgeBy::Written, &self.context)),
        ];
        charts.extend(self.changes.iter().map(|chart| ("What changed", chart.clone())));
        charts.extend(self.tide.iter().map(|chart| ("How the level moved", chart.clone())));
        charts.extend(self.copies.iter().map(|chart| ("What is there twice", chart.clone())));
        charts
    }

    /// As one file of HTML that needs no other.
    ///
    /// # Errors
    ///
    /// [`std::fmt::Error`] if the template cannot be filled, which would be a fault of the program.
    pub fn to_html(&self) -> Result<String, std::fmt::Error> {
        let figure = |(title, chart): (&'static str, Chart)| {
            // within a page there is no declaration
            let svg = chart.to_svg();
            let svg = svg.find("<svg").map_or(svg, |at| &svg[at..]).to_owned();
            Figure { title, svg }
        };
        let sizes = |files: &[FileLine]| {
            files.iter().map(|file| file.allocated.shown(self.context.units)).collect()
        };
        let page = Page {
            title: &self.title,
            of: &self.context.of,
            date: &self.context.date,
            lens: self.context.lens.as_deref(),
            facts: &self.facts,
            figures: self.charts().into_iter().map(figure).collect(),
            lists: vec![
                ("The largest files", &self.largest[..], sizes(&self.largest)),
                ("The stalest files, by byte-years", &self.stalest[..], sizes(&self.stalest)),
            ],
            troubles: &self.troubles[..self.troubles.len().min(TROUBLES)],
            more_troubles: self.troubles.len().saturating_sub(TROUBLES),
        };
        page.render().map_err(|_| std::fmt::Error)
    }

    /// As pages of PDF.
    ///
    /// # Errors
    ///
    /// [`ChartError`].
    pub fn to_pdf(&self) -> Result<Vec<u8>, ChartError> {
        let mut pages = vec![self.first_page()];
        pages.extend(self.charts().into_iter().map(|(_, chart)| chart.to_svg().to_owned()));
        for (title, files) in
            [("The largest files", &self.largest), ("The stalest files", &self.stalest)]
        {
            pages.extend(files.chunks(32).map(|files| self.list_page(title, files)));
        }
        // as wide as A4 across, and as high as what stands on it: no page is half empty
        pdf::pages(&pages)
    }

    fn first_page(&self) -> String {
        let height = self.facts.len() as f64 * 18.0 + 40.0;
        let note = "How much it is, what kinds, whose, how old; the largest and the stalest.";
        let (mut sheet, area) = Sheet::new(&self.context, &self.title, note, Some(height));
        let colours = sheet.colours;
        for (number, (name, value)) in self.facts.iter().enumerate() {
            let y = area.y + 14.0 + number as f64 * 18.0;
            sheet.words(area.x, y, PLAIN, colours.dim, 150.0, name);
            sheet.words(area.x + 160.0, y, PLAIN, colours.text, area.width - 160.0, value);
        }
        if !self.troubles.is_empty() {
            let text = format!("{} places could not be read.", grouped(self.troubles.len() as u64));
            sheet.words(area.x, area.y + height - 6.0, PLAIN, colours.trouble, area.width, &text);
        }
        sheet.finish().to_svg().to_owned()
    }

    fn list_page(&self, title: &str, files: &[FileLine]) -> String {
        let line = 14.0;
        let note = "Byte-years are bytes on disk times years since the last writing: dead weight.";
        let height = files.len() as f64 * line + 24.0;
        let (mut sheet, area) = Sheet::new(&self.context, title, note, Some(height));
        let colours = sheet.colours;
        let (size, weight, age) = (area.x + 58.0, area.x + 128.0, area.x + 186.0);
        let (owner, path) = (area.x + 198.0, area.x + 280.0);
        let heads = [(size, "allocated"), (weight, "byte-years"), (age, "written")];
        for (x, words) in heads {
            sheet.words_right(x, area.y + 8.0, SMALL, colours.dim, words);
        }
        sheet.words(owner, area.y + 8.0, SMALL, colours.dim, 80.0, "owner");
        sheet.words(path, area.y + 8.0, SMALL, colours.dim, 80.0, "path");
        for (number, file) in files.iter().enumerate() {
            let y = area.y + 24.0 + number as f64 * line;
            let bytes = sheet.bytes(file.allocated);
            sheet.words_right(size, y, SMALL, colours.text, &bytes);
            sheet.words_right(weight, y, SMALL, colours.dim, &file.weight);
            sheet.words_right(age, y, SMALL, colours.dim, &file.written);
            sheet.words(owner, y, SMALL, colours.dim, 80.0, &file.owner);
            let left = area.x + area.width - path;
            let shown = text::cut_path(&file.path, SMALL, left);
            sheet.words(path, y, SMALL, colours.text, left, &shown);
        }
        sheet.finish().to_svg().to_owned()
    }
}

/// A slice's share of all, for tables.
impl SliceLine {
    /// Its share of all, in percent.
    pub fn share_of(&self, whole: Bytes) -> String {
        percent(self.allocated, whole)
    }
}
