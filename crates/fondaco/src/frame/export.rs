//! What the station at hand shows, as a file or for the clipboard of the terminal.

use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use anyhow::{Context as _, Result, bail};
use base64::Engine as _;
use fondaco_core::analysis::Classes;
use fondaco_core::catalog::{Catalog, EntryId, Selection};
use fondaco_core::lens::AccountsOf;
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::UnitStyle;

use super::model::read;
use crate::charts::{self, A4};
use crate::failure::Failure;
use crate::output::Grid;
use crate::query::{Answer, Paper, Query, Subject};

/// Where it goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum To {
    /// A new file, whose ending says how.
    File(PathBuf),
    /// The clipboard of the terminal.
    Clipboard,
}

/// What is exported.
#[derive(Debug)]
pub struct Export {
    /// File or clipboard that it was given to.
    pub to: To,
    /// What has been written.
    pub what: Exported,
    /// How sizes are written on charts.
    pub units: UnitStyle,
}

/// What an export writes.
pub enum Exported {
    /// Something that was found out before.
    Known(Box<dyn Answer + Send>),
    /// Something that is asked of a scan.
    Scan(Box<OfScan>),
}

impl fmt::Debug for Exported {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Known(answer) => write!(f, "Known({})", answer.head()),
            Self::Scan(of) => of.fmt(f),
        }
    }
}

/// Something that is asked of a scan.
#[derive(Debug)]
pub struct OfScan {
    /// The scan that is shown.
    pub catalog: Arc<RwLock<Catalog>>,
    /// What the lens chooses of it.
    pub selection: Option<Arc<Selection>>,
    /// The lens in words; empty if there is none.
    pub lens: String,
    /// The directory that is asked about.
    pub at: EntryId,
    /// Names of accounts, and classes.
    pub state: State,
    /// What is asked.
    pub query: Box<dyn Query>,
}

impl OfScan {
    /// What is asked of the scan while it is read.
    fn with<T>(&self, ask: impl FnOnce(Subject<'_>) -> T) -> T {
        let catalog = read(&self.catalog);
        let accounts = AccountsOf { origin: catalog.origin(), system: &self.state };
        ask(Subject {
            seen: catalog.seen(self.selection.as_deref()),
            at: self.at,
            accounts: &accounts,
            lens: (!self.lens.is_empty()).then_some(&*self.lens),
        })
    }
}

impl Exported {
    fn with<T>(&self, tell: impl FnOnce(&dyn Answer) -> T) -> T {
        match self {
            Self::Known(answer) => tell(&**answer),
            Self::Scan(of) => of.with(|subject| tell(&*of.query.answer(subject))),
        }
    }
}

/// What came of it.
#[derive(Debug)]
pub enum Done {
    /// A file was written.
    Written(PathBuf),
    /// This is to be sent to the terminal's clipboard, with what is said about it.
    Copied(String, String),
}

/// More than this many terminals do not take.
const CLIPBOARD: usize = 74_000;

/// Carries it out.
///
/// # Errors
///
/// If the ending of the name is none that is known here, the file exists or cannot be written, or there is too
/// much for a clipboard.
pub fn export(export: &Export) -> Result<Done> {
    let csv = |answer: &dyn Answer| -> Result<Vec<u8>> {
        let mut text = Vec::new();
        Grid::write_all_csv(answer.grids(), &[], &mut text)?;
        Ok(text)
    };
    let file = match &export.to {
        To::Clipboard => {
            let text = export.what.with(csv)?;
            if text.len() > CLIPBOARD {
                bail!("too much for the clipboard of a terminal: write a file");
            }
            let said =
                format!("{} lines as CSV", text.iter().filter(|byte| **byte == b'\n').count());
            return Ok(Done::Copied(String::from_utf8_lossy(&text).into_owned(), said));
        }
        To::File(file) => file,
    };
    match file.extension().and_then(|ending| ending.to_str()) {
        Some("svg" | "pdf") => {
            let paper = Paper { units: export.units, ..A4 };
            let chart = export.what.with(|answer| answer.chart(&paper)).with_context(|| {
                format!("{}: of this station there is no chart; .csv and .json work", Shown(file))
            })?;
            charts::write_chart(&chart, file)?;
        }
        Some("csv") => charts::write_new(file, &export.what.with(csv)?)?,
        Some("json") => {
            let mut text = Vec::new();
            export.what.with(|answer| answer.write_document(&mut text))?;
            charts::write_new(file, &text)?;
        }
        Some("html") => match &export.what {
            Exported::Scan(of) => charts::write_new(file, report(of)?.as_bytes())?,
            Exported::Known(_) => bail!("{}: a report is of a scan", Shown(file)),
        },
        _ => bail!("{}: the name must end in .svg, .pdf, .csv, .json or .html", Shown(file)),
    }
    Ok(Done::Written(file.clone()))
}

fn report(of: &OfScan) -> Result<String> {
    let settings = &of.state.settings;
    let classes = Classes::of_texts(&settings.size_classes, &settings.age_classes)?;
    let report =
        of.with(|subject| charts::report(subject, "What is on this storage", 40, classes, None));
    Ok(report.to_html()?)
}

/// The escape sequence that gives a text to the clipboard of the terminal (OSC 52, xterm's control sequences).
pub fn osc_52(text: &str) -> String {
    let encoded = base64::engine::general_purpose::STANDARD.encode(text);
    format!("\x1b]52;c;{encoded}\x07")
}

/// Where a typed answer says that an export goes. Relative paths begin where the program was started.
pub fn destination(typed: &str) -> Result<To, Failure> {
    match typed {
        "" => Err("a name is missing, such as ages.svg".into()),
        "clipboard" | "c" => Ok(To::Clipboard),
        name => {
            let file = std::path::absolute(Path::new(name)).map_err(Failure::of)?;
            Ok(To::File(file))
        }
    }
}
