//! What the station at hand shows, as a file or for the clipboard of the terminal.

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};

use anyhow::{Context as _, Result, bail};
use base64::Engine as _;
use fondaco_chart::{Chart, Look};
use fondaco_core::analysis::{
    AgeBy, BreakdownBy, Classes, FileOrder, breakdown, first_files, matrix,
};
use fondaco_core::carry_out::RunRecord;
use fondaco_core::catalog::{Catalog, EntryId, Order, Seen, Selection};
use fondaco_core::history::Outlook;
use fondaco_core::kernel::DeletedFile;
use fondaco_core::plan::Draft;
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Time, UnitStyle};
use fondaco_core::volume::Volume;
use serde_json::json;

use super::looking::Manner;
use crate::output::Grid;
use crate::{charts, tables};

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
    /// Where to.
    pub to: To,
    /// What.
    pub what: Exported,
    /// How sizes are written on charts.
    pub units: UnitStyle,
}

/// See [`Export::what`].
#[derive(Debug)]
#[allow(missing_docs)] // as the stations
pub enum Exported {
    Volumes(Vec<(Volume, Outlook)>),
    Held(Vec<DeletedFile>),
    Plan(Box<Draft>),
    Journal(Vec<RunRecord>),
    Scan(Box<OfScan>),
}

/// Something that is found out from a scan.
#[derive(Debug)]
pub struct OfScan {
    /// The scan.
    pub catalog: Arc<RwLock<Catalog>>,
    /// What the lens chooses of it.
    pub selection: Option<Arc<Selection>>,
    /// The lens in words; empty if there is none.
    pub lens: String,
    /// Which directory.
    pub at: EntryId,
    /// Names of accounts, and classes.
    pub state: State,
    /// What of it.
    pub view: View,
}

/// See [`OfScan::view`].
#[derive(Clone, Copy, Debug)]
#[allow(missing_docs)] // as the stations
pub enum View {
    Directory(Manner, Order, FileOrder),
    Ages(AgeBy),
    Breakdown(BreakdownBy),
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
    let file = match &export.to {
        To::Clipboard => {
            let mut text = Vec::new();
            grid(&export.what)?.write_csv(&[], &mut text)?;
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
            let chart = chart(&export.what, export.units).with_context(|| {
                format!("{}: of this station there is no chart; .csv and .json work", Shown(file))
            })?;
            charts::write_chart(&chart, file)?;
        }
        Some("csv") => {
            let mut text = Vec::new();
            grid(&export.what)?.write_csv(&[], &mut text)?;
            charts::write_new(file, &text)?;
        }
        Some("json") => charts::write_new(file, &document(&export.what)?)?,
        Some("html") => match &export.what {
            Exported::Scan(of) => charts::write_new(file, report(of)?.as_bytes())?,
            _ => bail!("{}: a report is of a scan", Shown(file)),
        },
        _ => bail!("{}: the name must end in .svg, .pdf, .csv, .json or .html", Shown(file)),
    }
    Ok(Done::Written(file.clone()))
}

fn report(of: &OfScan) -> Result<String> {
    let catalog = of.catalog.read().unwrap_or_else(PoisonError::into_inner);
    let seen = catalog.seen(of.selection.as_deref());
    let lens = (!of.lens.is_empty()).then_some(&*of.lens);
    let title = "What is on this storage";
    let report = charts::report(seen, of.at, title, lens, 40, classes(&of.state)?, &of.state);
    Ok(report.to_html()?)
}

fn document(what: &Exported) -> Result<Vec<u8>> {
    let mut document = json!({ "fondaco": 1, "kind": "table", "written": Time::now().rfc3339() });
    if let Exported::Scan(of) = what {
        let catalog = of.catalog.read().unwrap_or_else(PoisonError::into_inner);
        document["scanned"] = catalog.now().rfc3339().into();
        document["of"] = crate::output::path_value(&catalog.path(of.at));
        if !of.lens.is_empty() {
            document["lens"] = of.lens.as_str().into();
        }
    }
    document["rows"] = grid(what)?.to_json(&[])?.into();
    let mut text = Vec::new();
    crate::output::write_json(&document, &mut text)?;
    Ok(text)
}

/// The whole table, not just what fits the screen.
fn grid(what: &Exported) -> Result<Grid> {
    Ok(match what {
        Exported::Volumes(volumes) => tables::volumes(volumes),
        Exported::Held(files) => tables::held(files),
        Exported::Plan(draft) => tables::plan(draft),
        Exported::Journal(runs) => tables::runs(runs),
        Exported::Scan(of) => {
            let catalog = of.catalog.read().unwrap_or_else(PoisonError::into_inner);
            let seen = catalog.seen(of.selection.as_deref());
            of_scan(seen, of)?
        }
    })
}

fn of_scan(seen: Seen<'_>, of: &OfScan) -> Result<Grid> {
    Ok(match of.view {
        View::Directory(Manner::Files, _, order) => {
            let found = first_files(seen, of.at, order, AgeBy::Written, None, 10_000);
            tables::files(seen.catalog(), &found.first, AgeBy::Written, &of.state)
        }
        View::Directory(_, order, _) => {
            tables::directories(seen, of.at, &seen.ranking(of.at, order, usize::MAX))
        }
        View::Ages(by) => tables::ages(&matrix(seen, of.at, by, classes(&of.state)?)),
        View::Breakdown(by) => {
            let found = breakdown(seen, of.at, by);
            tables::slices(seen.catalog(), &found.slices, found.whole, &of.state)
        }
    })
}

fn classes(state: &State) -> Result<Classes> {
    Ok(Classes::of_texts(&state.settings.size_classes, &state.settings.age_classes)?)
}

/// The chart of what is shown, if there is one.
fn chart(what: &Exported, units: UnitStyle) -> Result<Chart> {
    const SIZE: (f64, f64) = (842.0, 595.0);
    let of = match what {
        Exported::Volumes(known) => {
            let volumes: Vec<Volume> = known.iter().map(|(volume, _)| volume.clone()).collect();
            return Ok(charts::of_volumes(&volumes, units, Look::Paper, SIZE));
        }
        Exported::Scan(of) => of,
        _ => bail!("no chart"),
    };
    let catalog = of.catalog.read().unwrap_or_else(PoisonError::into_inner);
    let seen = catalog.seen(of.selection.as_deref());
    let lens = (!of.lens.is_empty()).then_some(&*of.lens);
    let context = charts::context(seen, of.at, lens, units, Look::Paper, SIZE);
    Ok(match of.view {
        View::Directory(Manner::Map, ..) => fondaco_chart::map(seen, of.at, &context),
        View::Directory(Manner::Cascade, ..) => fondaco_chart::cascade(seen, of.at, 24, &context),
        View::Directory(Manner::Files, ..) => bail!("no chart"),
        View::Ages(by) => {
            fondaco_chart::ages(&matrix(seen, of.at, by, classes(&of.state)?), by, &context)
        }
        View::Breakdown(by) => {
            charts::of_breakdown(&breakdown(seen, of.at, by), 24, &of.state, &context)
        }
    })
}

/// The escape sequence that gives a text to the clipboard of the terminal (OSC 52, xterm's control sequences).
pub fn osc_52(text: &str) -> String {
    let encoded = base64::engine::general_purpose::STANDARD.encode(text);
    format!("\x1b]52;c;{encoded}\x07")
}

/// Where a typed answer says that an export goes. Relative paths begin where the program was started.
pub fn destination(typed: &str) -> Result<To, String> {
    match typed {
        "" => Err("a name is missing, such as ages.svg".to_owned()),
        "clipboard" | "c" => Ok(To::Clipboard),
        name => {
            let file = std::path::absolute(Path::new(name)).map_err(|error| error.to_string())?;
            Ok(To::File(file))
        }
    }
}
