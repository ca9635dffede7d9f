//! `fondaco files`

use std::path::PathBuf;

use anyhow::{Context, Result};
use fondaco_core::analysis::{byte_years, first_files};
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::shown::Shown;
use fondaco_core::units::{Bytes, counted};
use serde_json::{Map, Value, json};

use super::{Obtained, Outcome, binary, excluded_line, obtain};
use crate::cli;
use crate::output::{self, Lean, Table, put_path, say};

pub(super) fn run(arguments: &cli::Files, state: Option<PathBuf>) -> Result<Outcome> {
    let Obtained { catalog, .. } = obtain(&arguments.paths, &arguments.walk, state)?;
    let top = catalog.top().context("the scan has no root")?;
    let (order, by) = (arguments.order.into(), arguments.by.into());
    let found = first_files(&catalog, top, order, by, arguments.top);
    if arguments.json {
        let files: Vec<Value> = found.iter().map(|id| document(&catalog, *id, arguments)).collect();
        output::json(&json!({
            "fondaco": 1,
            "kind": "files",
            "scanned": catalog.now().rfc3339(),
            "order": order,
            "by": by,
            "files": files,
        }))?;
    } else {
        print(&catalog, &found, arguments)?;
    }
    Ok(Outcome::AllDone)
}

/// Byte-years in whole gibibyte-years, the unit that people can compare.
fn weight(catalog: &Catalog, id: EntryId, arguments: &cli::Files) -> f64 {
    let by: fondaco_core::analysis::AgeBy = arguments.by.into();
    byte_years(catalog.allocated(id), by.of(catalog, id).age(catalog.now()))
}

fn document(catalog: &Catalog, id: EntryId, arguments: &cli::Files) -> Value {
    let mut file = Map::new();
    put_path(&mut file, &catalog.path(id));
    file.insert("type".into(), catalog.kind(id).word().into());
    file.insert("allocated".into(), catalog.allocated(id).get().into());
    file.insert("apparent".into(), catalog.apparent(id).get().into());
    file.insert("written".into(), catalog.modified(id).rfc3339().into());
    file.insert("read".into(), catalog.accessed(id).rfc3339().into());
    file.insert("byte_years".into(), (weight(catalog, id, arguments).round() as u64).into());
    Value::Object(file)
}

fn print(catalog: &Catalog, found: &[EntryId], arguments: &cli::Files) -> Result<()> {
    use Lean::{Left, Right};
    let mut table = Table::new(&[
        ("allocated", Right),
        ("written", Right),
        ("read", Right),
        ("byte-years", Right),
        ("path", Left),
    ]);
    for id in found {
        let age = |time: fondaco_core::units::Time| time.age(catalog.now()).to_string();
        table.row(vec![
            binary(catalog.allocated(*id)),
            age(catalog.modified(*id)),
            age(catalog.accessed(*id)),
            format!("{} y", binary(Bytes::new(weight(catalog, *id, arguments) as u64))),
            Shown(catalog.path(*id)).to_string(),
        ]);
    }
    table.print()?;
    let sum: Bytes = found.iter().map(|id| catalog.allocated(*id)).sum();
    say!("{}, {} on disk", counted(found.len() as u64, "file"), binary(sum));
    if let Some(line) = excluded_line(catalog) {
        say!("{line}");
    }
    Ok(())
}
