//! Charts and reports of a scan: what is asked of the core for them, and where they are written.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::Path;

use anyhow::{Context as _, Result, bail};
use fondaco_chart::{Chart, FileLine, Look, Report, Trouble};
use fondaco_core::analysis::{AgeBy, BreakdownBy, Classes, FileOrder};
use fondaco_core::catalog::EntryId;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, UnitStyle, counted, grouped};

use crate::output::{self, usage};
use crate::query::{self, Answer as _, Paper, Subject, slice_lines};

/// A sheet of A4 across, in points.
pub const A4: Paper =
    Paper { units: UnitStyle::Binary, look: Look::Paper, size: (842.0, 595.0), top: 24 };

/// Everything that a report says.
pub fn report(
    of: Subject<'_>,
    title: &str,
    count: usize,
    classes: Classes,
    copies: Option<&query::Pairs<'_>>,
) -> Report {
    let Subject { seen, at, accounts, .. } = of;
    let catalog = seen.catalog();
    let context = of.context(&A4);
    let slices = |by| query::Breakdown { by, top: None }.ask(seen, at);
    let (kinds, owners) = (slices(BreakdownBy::Kind), slices(BreakdownBy::Owner));
    let (kind_lines, owner_lines) =
        (slice_lines(&kinds, 20, accounts), slice_lines(&owners, 20, accounts));
    let files = |order| {
        let found = query::Files { order, by: AgeBy::Written, top: count }.ask(seen, at);
        let line = |id: &EntryId| FileLine {
            path: Shown(catalog.path(*id)).to_string(),
            allocated: catalog.allocated(*id),
            // a report is read long after it was made, when ages mean nothing
            written: catalog.modified(*id).day(),
            weight: {
                let weight = query::weight(catalog, *id, AgeBy::Written);
                format!("{} y", Bytes::new(weight as u64).shown(UnitStyle::Binary))
            },
            owner: query::user(accounts, catalog.owner(*id).0),
        };
        found.first.iter().map(line).collect()
    };
    let bytes = |bytes: Bytes| {
        format!("{} ({})", bytes.shown(UnitStyle::Binary), bytes.shown(UnitStyle::Bytes))
    };
    let old: f32 = seen.age_profile(at)[5..].iter().sum();
    let old = Bytes::new(old as u64);
    let counts = catalog.kind_counts(at);
    let mut facts = vec![
        ("on disk".to_owned(), bytes(seen.allocated(at))),
        ("length of all".to_owned(), bytes(seen.apparent(at))),
        ("entries".to_owned(), grouped(seen.entries(at))),
    ];
    if seen.is_narrowed() {
        facts.push(("of the whole".to_owned(), bytes(catalog.allocated(at))));
    } else {
        facts.push((
            "among them".to_owned(),
            format!(
                "{}, {}, {} links, {} special",
                counted(counts.files, "file"),
                counted(counts.directories, "directory"),
                grouped(counts.links),
                grouped(counts.special)
            ),
        ));
    }
    facts.extend([
        ("newest writing".to_owned(), seen.newest(at).local()),
        (
            "older than a year".to_owned(),
            format!(
                "{}, {}",
                old.shown(UnitStyle::Binary),
                query::percent(old, seen.allocated(at))
            ),
        ),
        ("owners".to_owned(), grouped(owners.slices.len() as u64)),
        ("scanned".to_owned(), catalog.now().local()),
    ]);
    let trouble = |place: &fondaco_core::catalog::Unreadable| Trouble {
        path: shown(&place.path),
        reason: format!("cannot {}: {}", place.op, place.error),
    };
    Report {
        title: shown(title),
        facts,
        matrix: query::Ages { by: AgeBy::Written, classes }.ask(seen, at),
        cascade: fondaco_chart::cascade(seen, at, 20, &context),
        map: fondaco_chart::map(seen, at, &context),
        kinds: (kinds, kind_lines),
        owners: (owners, owner_lines),
        copies: copies.and_then(|pairs| pairs.chart(&A4)),
        changes: None,
        tide: None,
        largest: files(FileOrder::Allocated),
        stalest: files(FileOrder::ByteYears),
        troubles: catalog.unreadable().iter().map(trouble).collect(),
        context,
    }
}

/// Writes a chart as its file's ending says.
///
/// # Errors
///
/// If the ending is another, or the file exists or cannot be written.
pub fn write_chart(chart: &Chart, file: &Path) -> Result<()> {
    match file.extension().and_then(|ending| ending.to_str()) {
        Some("svg") => write_new(file, chart.to_svg().as_bytes()),
        Some("pdf") => write_new(file, &chart.to_pdf()?),
        _ => bail!("{}: the name of a chart must end in .svg or .pdf", Shown(file)),
    }
}

/// Writes a new file; one that exists is never overwritten.
///
/// # Errors
///
/// If it exists or cannot be written; what was begun is removed.
pub fn write_new(file: &Path, bytes: &[u8]) -> Result<()> {
    let new = OpenOptions::new().write(true).create_new(true).open(file);
    let mut new = new.with_context(|| format!("cannot write {}", Shown(file)))?;
    let written = new.write_all(bytes).and_then(|()| new.sync_all());
    written.with_context(|| {
        // half a file helps nobody
        let _ = std::fs::remove_file(file);
        format!("cannot write {}", Shown(file))
    })
}

/// Refuses a name that is none of a chart, or is taken: before anything is read.
///
/// # Errors
///
/// What is wrong with it.
pub fn is_to_be_chart(file: &Path) -> Result<()> {
    if !file.extension().is_some_and(|ending| ending == "svg" || ending == "pdf") {
        usage!("{}: the name of a chart must end in .svg or .pdf", Shown(file));
    }
    output::is_to_be_new(file)
}
