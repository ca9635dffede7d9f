//! `fondaco scan`

use std::path::PathBuf;

use anyhow::{Context, Result};
use fondaco_core::catalog::{Catalog, Root};
use fondaco_core::history::keep_scan;
use fondaco_core::shown::Shown;
use fondaco_core::units::{counted, grouped};
use serde_json::{Map, Value, json};

use super::{Obtained, Outcome, binary, excluded_line, obtain};
use crate::cli::{self, SaveWord};
use crate::environment::open_state;
use crate::output::{self, Lean, Table, path_value, put_path, say};

pub(super) fn run(arguments: &cli::Scan, state: Option<PathBuf>) -> Result<Outcome> {
    let Obtained { catalog, seconds } = obtain(&arguments.paths, &arguments.walk, state.clone())?;
    let save =
        |how| Ok(keep_scan(&open_state(state)?, &catalog, matches!(how, SaveWord::Thinned))?.0);
    let (saved, not_saved) = match arguments.save.map(save).transpose() {
        Ok(number) => (number, Ok(())),
        // a scan may have taken hours: it is told even where it cannot be saved
        Err(error) => (None, Err::<(), anyhow::Error>(error)),
    };
    if arguments.json {
        let roots: Vec<Value> =
            catalog.roots().iter().map(|root| document(&catalog, root)).collect();
        let mut whole = json!({"fondaco": 1, "kind": "scan", "seconds": seconds, "roots": roots});
        whole["scanned"] = catalog.now().rfc3339().into();
        let out = catalog.excluded();
        if out.entries > 0 {
            whole["excluded"] = json!(out);
        }
        if let Some(number) = saved {
            whole["saved"] = number.into();
        }
        output::json(&whole)?;
    } else {
        print(&catalog, seconds)?;
        if let Some(number) = saved {
            say!("saved as scan {number}: fondaco scans open {number}");
        }
    }
    not_saved.context("the scan was not saved")?;
    Ok(Outcome::of_scan(&catalog))
}

fn document(catalog: &Catalog, root: &Root) -> Value {
    let counts = catalog.kind_counts(root.entry);
    let mut document = Map::new();
    put_path(&mut document, &root.path);
    for (key, number) in [
        ("entries", catalog.entries(root.entry)),
        ("files", counts.files),
        ("directories", counts.directories),
        ("links", counts.links),
        ("special", counts.special),
        ("allocated", catalog.allocated(root.entry).get()),
        ("apparent", catalog.apparent(root.entry).get()),
    ] {
        document.insert(key.into(), number.into());
    }
    let inside = catalog.unreadable().iter().filter(|place| place.path.starts_with(&root.path));
    let unreadable: Vec<Value> = inside
        .map(|place| {
            let mut one = Map::new();
            put_path(&mut one, &place.path);
            one.insert("operation".into(), place.op.words().into());
            one.insert("error".into(), place.error.clone().into());
            Value::Object(one)
        })
        .collect();
    document.insert("unreadable".into(), unreadable.into());
    let others = catalog.other_volumes().into_iter().map(|id| catalog.path(id));
    let others: Vec<Value> =
        others.filter(|path| path.starts_with(&root.path)).map(|path| path_value(&path)).collect();
    document.insert("other_volumes".into(), others.into());
    Value::Object(document)
}

fn print(catalog: &Catalog, seconds: Option<f64>) -> Result<()> {
    use Lean::{Left, Right};
    let mut table = Table::new(&[
        ("allocated", Right),
        ("apparent", Right),
        ("entries", Right),
        ("files", Right),
        ("directories", Right),
        ("links", Right),
        ("special", Right),
        ("path", Left),
    ]);
    for root in catalog.roots() {
        let counts = catalog.kind_counts(root.entry);
        table.row(vec![
            binary(catalog.allocated(root.entry)),
            binary(catalog.apparent(root.entry)),
            grouped(catalog.entries(root.entry)),
            grouped(counts.files),
            grouped(counts.directories),
            grouped(counts.links),
            grouped(counts.special),
            Shown(&root.path).to_string(),
        ]);
    }
    table.print()?;
    if let Some(seconds) = seconds {
        let rate = catalog.rows() as f64 / seconds.max(0.000_001);
        say!("{seconds:.2} s, {} entries a second", grouped(rate as u64));
    }
    if let Some(line) = excluded_line(catalog) {
        say!("{line}");
    }
    for id in catalog.other_volumes() {
        say!("not entered, another volume: {}", Shown(catalog.path(id)));
    }
    if !catalog.unreadable().is_empty() {
        say!("{} could not be read:", counted(catalog.unreadable().len() as u64, "place"));
        for place in catalog.unreadable() {
            say!("  cannot {} {}: {}", place.op, Shown(&place.path), place.error);
        }
    }
    Ok(())
}
