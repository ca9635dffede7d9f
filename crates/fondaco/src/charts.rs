//! Charts and reports of a scan: what is asked of the core for them, and where they are written.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::Path;

use anyhow::{Context as _, Result, bail};
use fondaco_chart::{Chart, Context, FileLine, Level, Look, Report, SliceLine, Trouble};
use fondaco_core::analysis::{
    AgeBy, Breakdown, BreakdownBy, Classes, FileOrder, breakdown, first_files, matrix,
};
use fondaco_core::catalog::{EntryId, Seen};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, Time, UnitStyle, counted, grouped};
use fondaco_core::volume::Volume;

use crate::tables;
use crate::words::slice_words;

/// What stands around the charts of a directory.
pub fn context(
    seen: Seen<'_>,
    at: EntryId,
    lens: Option<&str>,
    units: UnitStyle,
    look: Look,
    size: (f64, f64),
) -> Context {
    let path = seen.catalog().path(at);
    let of = if path.as_os_str().is_empty() {
        let roots = seen.catalog().roots().iter().map(|root| shown(&root.path));
        roots.collect::<Vec<_>>().join(", ")
    } else {
        shown(path)
    };
    let date = seen.catalog().now().local();
    Context { of, date, lens: lens.map(shown), units, look, size }
}

/// The names of slices, with those of accounts.
pub fn slice_lines(found: &Breakdown, count: usize, accounts: &dyn Accounts) -> Vec<SliceLine> {
    let line = |slice: &fondaco_core::analysis::Slice| SliceLine {
        name: slice_words(
            &slice.key,
            |number| tables::user(accounts, number),
            |number| tables::group(accounts, number),
        ),
        allocated: slice.sum.allocated,
        entries: slice.sum.entries,
        profile: slice.profile,
    };
    found.slices.iter().take(count).map(line).collect()
}

/// The chart of a breakdown.
pub fn of_breakdown(
    found: &Breakdown,
    count: usize,
    accounts: &dyn Accounts,
    context: &Context,
) -> Chart {
    let lines = slice_lines(found, count, accounts);
    let left = &found.slices[lines.len()..];
    let bytes: Bytes = left.iter().map(|slice| slice.sum.allocated).sum();
    let (count, bytes) = (left.len() + found.rest.0, bytes + found.rest.1.allocated);
    let rest = (count > 0).then_some((count, bytes));
    fondaco_chart::breakdown(found, &lines, rest, context)
}

/// The chart of volumes; those that do not answer are left out.
pub fn of_volumes(volumes: &[Volume], units: UnitStyle, look: Look, size: (f64, f64)) -> Chart {
    let level = |volume: &Volume| {
        let capacity = volume.capacity.as_ref().ok()?;
        Some(Level {
            name: shown(&volume.mount_point),
            used: capacity.used,
            capacity: capacity.used + capacity.free_root,
            level: capacity.level().share(),
            waterline: volume.waterline.share(),
        })
    };
    let levels: Vec<Level> = volumes.iter().filter_map(level).collect();
    let of = counted(levels.len() as u64, "volume");
    let date = Time::now().local();
    fondaco_chart::levels(&levels, &Context { of, date, lens: None, units, look, size })
}

/// Everything that a report says.
pub fn report(
    seen: Seen<'_>,
    at: EntryId,
    title: &str,
    lens: Option<&str>,
    count: usize,
    classes: Classes,
    accounts: &dyn Accounts,
) -> Report {
    let catalog = seen.catalog();
    let context = context(seen, at, lens, UnitStyle::Binary, Look::Paper, (842.0, 595.0));
    let kinds = breakdown(seen, at, BreakdownBy::Kind);
    let owners = breakdown(seen, at, BreakdownBy::Owner);
    let (kind_lines, owner_lines) =
        (slice_lines(&kinds, 20, accounts), slice_lines(&owners, 20, accounts));
    let files = |order| {
        let found = first_files(seen, at, order, AgeBy::Written, None, count);
        let line = |id: &EntryId| FileLine {
            path: Shown(catalog.path(*id)).to_string(),
            allocated: catalog.allocated(*id),
            age: catalog.modified(*id).age(catalog.now()).to_string(),
            weight: {
                let weight = tables::weight(catalog, *id, AgeBy::Written);
                format!("{} y", Bytes::new(weight as u64).shown(UnitStyle::Binary))
            },
            owner: tables::user(accounts, catalog.owner(*id).0),
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
        ("newest writing".to_owned(), format!("{} ago", seen.newest(at).age(catalog.now()))),
        (
            "older than a year".to_owned(),
            format!(
                "{}, {}",
                old.shown(UnitStyle::Binary),
                tables::percent(old, seen.allocated(at))
            ),
        ),
        ("owners".to_owned(), grouped(owners.slices.len() as u64)),
        ("scanned".to_owned(), catalog.now().rfc3339()),
    ]);
    let trouble = |place: &fondaco_core::catalog::Unreadable| Trouble {
        path: shown(&place.path),
        reason: format!("cannot {}: {}", place.op, place.error),
    };
    Report {
        title: shown(title),
        facts,
        matrix: matrix(seen, at, AgeBy::Written, classes),
        cascade: fondaco_chart::cascade(seen, at, 20, &context),
        map: fondaco_chart::map(seen, at, &context),
        kinds: (kinds, kind_lines),
        owners: (owners, owner_lines),
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
