//! What can be asked, once: every query with its options, and its answer as a table, a document and a chart. Commands,
//! stations, exports and reports all use these.

mod ages;
mod breakdown;
mod cells;
mod comparison;
mod containment;
mod depots;
mod directories;
mod duplicates;
mod files;
mod held;
mod history;
mod journal;
mod leftovers;
mod now;
mod plan;
mod rule_words;
mod rules;
mod rules_past;
mod same_names;
mod unattended;
mod volumes;

use std::fmt::Debug;
use std::io::Write;
use std::sync::Arc;

use anyhow::Result;
use fondaco_chart::{Chart, Context, Look};
use fondaco_core::catalog::{Catalog, EntryId, Seen};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::shown;
use fondaco_core::units::UnitStyle;
use serde_json::{Value, json};

use crate::output::{Grid, path_value, write_json};

pub use ages::Ages;
pub use breakdown::{Breakdown, slice_lines};
pub use cells::{binary, percent, user};
pub use comparison::{Compared, ComparedRow, WholeComparison, fate_word, moved_words, row_name};
pub use containment::{NotThere, Pairs};
pub use depots::{ArchiveTargets, DepotsFound, FoundArchive, FoundDepot};
pub use directories::{Directories, Map};
pub use duplicates::{Duplicates, FoundCopies};
pub use files::{Files, weight};
pub use held::Held;
pub use history::{Mark, MarkSort, SizesHistory, VolumeHistory, VolumesHistory};
pub use journal::{Actions, Runs, action_document};
pub use leftovers::{FoundLeftovers, Leftovers, name_of_whole};
pub use now::{Now, notes, rate_words, seconds_words, volume_words, writer_words};
pub use plan::Drafted;
pub use rule_words::{RuleWords, rule_words};
pub use rules::{Tried, keeper_word, level_words};
pub use rules_past::Past;
pub use same_names::SameNames;
pub use unattended::unattended_letter;
pub use volumes::{Volumes, reasons};

/// What a query is asked of: a part of a scan.
#[derive(Clone, Copy)]
pub struct Subject<'a> {
    /// The scan, as far as a lens shows it.
    pub seen: Seen<'a>,
    /// The directory that is asked about.
    pub at: EntryId,
    /// Names of owners.
    pub accounts: &'a dyn Accounts,
    /// The lens in words, if there is one.
    pub lens: Option<&'a str>,
}

impl<'a> Subject<'a> {
    /// The scan, whatever the lens.
    pub fn catalog(&self) -> &'a Catalog {
        self.seen.catalog()
    }

    /// What stands at the beginning of every document about it.
    fn head(&self, kind: &str) -> Value {
        let catalog = self.catalog();
        let mut head = json!({
            "fondaco": 1,
            "kind": kind,
            "scanned": catalog.now().rfc3339(),
        });
        let path = catalog.path(self.at);
        if path.is_absolute() {
            head["of"] = path_value(&path);
        }
        if let Some(lens) = self.lens {
            head["lens"] = lens.into();
            head["whole_allocated"] = catalog.allocated(self.at).get().into();
            head["whole_entries"] = catalog.entries(self.at).into();
        }
        head
    }

    /// What stands around its charts.
    pub fn context(&self, paper: &Paper) -> Context {
        let path = self.catalog().path(self.at);
        let of = if path.as_os_str().is_empty() {
            let roots = self.catalog().roots().iter().map(|root| shown(&root.path));
            roots.collect::<Vec<_>>().join(", ")
        } else {
            shown(path)
        };
        let date = self.catalog().now().local();
        let Paper { units, look, size, .. } = *paper;
        Context { of, date, lens: self.lens.map(shown), units, look, size }
    }
}

/// How a chart is drawn.
#[derive(Clone, Copy, Debug)]
pub struct Paper {
    /// How sizes are written.
    pub units: UnitStyle,
    /// For paper or for a screen.
    pub look: Look,
    /// Width and height in points; the height grows if there is more to show.
    pub size: (f64, f64),
    /// So many bars; the rest is summed.
    pub top: usize,
}

/// Something that is asked of a scan.
pub trait Query: Debug + Send {
    /// Asks the question of a part of a scan.
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a>;
}

/// What was found, in every form in which it is told.
pub trait Answer {
    /// What stands at the beginning of the document, also before chosen columns.
    fn head(&self) -> Value;

    /// The table, with all its columns.
    fn grid(&self) -> Grid;

    /// The table in parts, where its rows may be a million.
    fn grids(&self) -> Box<dyn Iterator<Item = Grid> + '_> {
        Box::new(std::iter::once_with(|| self.grid()))
    }

    /// The document for programs.
    ///
    /// # Errors
    ///
    /// If there is none of what was found.
    fn document(&self) -> Result<Value>;

    /// Writes the document. Where it has very many parts, they are not held together.
    ///
    /// # Errors
    ///
    /// If there is none, or `out` cannot be written.
    fn write_document(&self, out: &mut dyn Write) -> Result<()> {
        Ok(write_json(&self.document()?, out)?)
    }

    /// Writes it for people.
    ///
    /// # Errors
    ///
    /// If a column is asked for that is not there, or standard output cannot be written.
    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)
    }

    /// The chart, if there is one.
    fn chart(&self, _: &Paper) -> Option<Chart> {
        None
    }
}

/// What several hold is told as ever.
impl<T: Answer + ?Sized> Answer for Arc<T> {
    fn head(&self) -> Value {
        (**self).head()
    }

    fn grid(&self) -> Grid {
        (**self).grid()
    }

    fn grids(&self) -> Box<dyn Iterator<Item = Grid> + '_> {
        (**self).grids()
    }

    fn document(&self) -> Result<Value> {
        (**self).document()
    }

    fn write_document(&self, out: &mut dyn Write) -> Result<()> {
        (**self).write_document(out)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        (**self).print(columns)
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        (**self).chart(paper)
    }
}

/// Columns by their names.
fn named(columns: &[&str]) -> Vec<String> {
    columns.iter().map(|key| (*key).to_owned()).collect()
}
