//! `fondaco scans`

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::lens::Accounts;
use fondaco_core::saved::{self, SavedScan};
use fondaco_core::shown::{Shown, shown, write_safe_json};
use fondaco_core::state::State;
use fondaco_core::units::{Time, grouped};
use serde_json::{Map, Value, json};

use super::look::accounts;
use super::{Outcome, binary, open_application, open_saved};
use crate::cli::{self, ScansAct};
use crate::environment::open_state;
use crate::frame::view::Theme;
use crate::output::{self, Lean, Table, path_value, put_path, say, tell};

pub(super) fn run(
    arguments: &cli::Scans,
    state: Option<PathBuf>,
    theme: &Theme,
) -> Result<Outcome> {
    match &arguments.act {
        None => list(&open_state(state)?, arguments.json),
        Some(ScansAct::Open { which, .. }) => {
            open_application(state, Some(which), Vec::new(), theme)
        }
        Some(ScansAct::Export { which, file }) => {
            let accounts = accounts(state.clone());
            export(&open_saved(which, state)?, file, &*accounts)?;
            say!("written: {}", Shown(file));
            Ok(Outcome::AllDone)
        }
        Some(ScansAct::Forget { numbers }) => {
            let state = open_state(state)?;
            for number in numbers {
                saved::forget(&state, *number)?;
                say!("forgotten: scan {number}");
            }
            Ok(Outcome::AllDone)
        }
    }
}

fn list(state: &State, as_json: bool) -> Result<Outcome> {
    let scans = saved::list(state)?;
    if as_json {
        let scans: Vec<Value> = scans.iter().map(document).collect();
        output::json(&json!({"fondaco": 1, "kind": "scans", "scans": scans}))?;
        return Ok(Outcome::AllDone);
    }
    if scans.is_empty() {
        say!("no scan is saved; `fondaco scan PATH --save` saves one");
        return Ok(Outcome::AllDone);
    }
    use Lean::{Left, Right};
    let mut table = Table::new(&[
        ("scan", Right),
        ("age", Right),
        ("entries", Right),
        ("allocated", Right),
        ("file", Right),
        ("", Left),
        ("what", Left),
    ]);
    let mut unreadable = Vec::new();
    for scan in &scans {
        match &scan.about {
            Ok(about) => table.row(vec![
                scan.number.to_string(),
                about.scanned.age(Time::now()).to_string(),
                grouped(about.entries),
                binary(about.allocated),
                binary(about.file),
                if about.complete { String::new() } else { "stopped".to_owned() },
                about.roots.iter().map(shown).collect::<Vec<_>>().join("  "),
            ]),
            Err(error) => unreadable.push(error.to_string()),
        }
    }
    table.print()?;
    unreadable.iter().for_each(|error| tell!("{error}"));
    Ok(if unreadable.is_empty() { Outcome::AllDone } else { Outcome::Failed })
}

fn document(scan: &SavedScan) -> Value {
    let about = match &scan.about {
        Ok(about) => about,
        Err(error) => return json!({"scan": scan.number, "error": error.to_string()}),
    };
    json!({
        "scan": scan.number,
        "scanned": about.scanned.rfc3339(),
        "roots": about.roots.iter().map(|path| path_value(path)).collect::<Vec<_>>(),
        "complete": about.complete,
        "entries": about.entries,
        "allocated": about.allocated.get(),
        "unreadable": about.unreadable,
        "automatic": about.automatic,
        "file": path_value(&scan.path),
        "file_bytes": about.file.get(),
    })
}

/// Writes all entries with their whole paths, in the form that the ending asks for.
fn export(catalog: &Catalog, file: &Path, accounts: &dyn Accounts) -> Result<()> {
    let ending = file.extension().and_then(|ending| ending.to_str());
    let row: fn(&mut dyn Write, &Catalog, EntryId) -> io::Result<()> = match ending {
        Some("parquet") => return Ok(saved::write_to(file, catalog, accounts)?),
        Some("csv") => csv_row,
        Some("jsonl") => json_row,
        _ => bail!("{}: the name must end in .parquet, .csv or .jsonl", Shown(file)),
    };
    let cannot = || format!("cannot write {}", Shown(file));
    let new = std::fs::OpenOptions::new().write(true).create_new(true).open(file);
    let mut out = io::BufWriter::with_capacity(1 << 20, new.with_context(cannot)?);
    let mut write = || -> io::Result<()> {
        if ending == Some("csv") {
            writeln!(out, "{}", CSV_COLUMNS.join(","))?;
        }
        for id in catalog.ids().skip(catalog.len() - catalog.rows()) {
            row(&mut out, catalog, id)?;
        }
        out.flush()?;
        out.get_ref().sync_all()
    };
    write().with_context(cannot)
}

const CSV_COLUMNS: [&str; 9] =
    ["path", "kind", "allocated", "apparent", "entries", "modified", "accessed", "owner", "group"];

/// A path begins with a slash, so that no spreadsheet takes one for a formula; what could drive a
/// terminal is escaped in it.
fn csv_row(out: &mut dyn Write, catalog: &Catalog, id: EntryId) -> io::Result<()> {
    let path = shown(catalog.path(id)).replace('"', "\"\"");
    let (owner, group) = catalog.owner(id);
    writeln!(
        out,
        "\"{path}\",{},{},{},{},{},{},{owner},{group}",
        catalog.kind(id).word(),
        catalog.allocated(id).get(),
        catalog.apparent(id).get(),
        catalog.entries(id),
        catalog.modified(id).rfc3339(),
        catalog.accessed(id).rfc3339(),
    )
}

fn json_row(out: &mut dyn Write, catalog: &Catalog, id: EntryId) -> io::Result<()> {
    let mut row = Map::new();
    put_path(&mut row, &catalog.path(id));
    let (owner, group) = catalog.owner(id);
    row.insert("kind".into(), catalog.kind(id).word().into());
    row.insert("allocated".into(), catalog.allocated(id).get().into());
    row.insert("apparent".into(), catalog.apparent(id).get().into());
    row.insert("exclusive".into(), catalog.exclusive(id).get().into());
    row.insert("entries".into(), catalog.entries(id).into());
    row.insert("modified".into(), catalog.modified(id).rfc3339().into());
    row.insert("accessed".into(), catalog.accessed(id).rfc3339().into());
    row.insert("owner".into(), owner.into());
    row.insert("group".into(), group.into());
    write_safe_json(&row, &mut *out)?;
    out.write_all(b"\n")
}
