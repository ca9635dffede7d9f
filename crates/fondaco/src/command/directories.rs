//! `fondaco directories`

use std::path::PathBuf;

use anyhow::{Context, Result, bail};
use fondaco_core::catalog::{Catalog, EntryId, Ranking};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, grouped};
use serde_json::{Map, Value, json};

use super::{Obtained, Outcome, binary, excluded_line, obtain};
use crate::cli;
use crate::output::{self, Lean, Table, put_path, say};

pub(super) fn run(arguments: &cli::Directories, state: Option<PathBuf>) -> Result<Outcome> {
    let Obtained { catalog, .. } = obtain(arguments.path.as_slice(), &arguments.walk, state)?;
    let root = catalog.roots().first().context("the scan has no root")?;
    let at = match &arguments.below {
        None => catalog.top().context("the scan has no root")?,
        Some(below) => {
            // an absolute SUBPATH takes the root's place, and must lie below it
            let path: PathBuf = root.path.join(below).components().collect();
            catalog.find(&path).with_context(|| format!("the scan met no {}", Shown(&path)))?
        }
    };
    if !catalog.is_directory(at) {
        bail!("{} is not a directory", Shown(catalog.path(at)));
    }
    let limit = arguments.top.unwrap_or(usize::MAX);
    let ranking = catalog.ranking(at, arguments.order.into(), limit);
    if arguments.json {
        output::json(&document(&catalog, at, &ranking))?;
    } else {
        print(&catalog, at, &ranking)?;
    }
    Ok(Outcome::AllDone)
}

fn document(catalog: &Catalog, at: EntryId, ranking: &Ranking) -> Value {
    let child = |id: &EntryId| {
        let mut child = Map::new();
        let name = catalog.name(*id);
        let text = name.to_str().map_or_else(|| shown(name), str::to_owned);
        child.insert("name".into(), text.into());
        put_path(&mut child, &catalog.path(*id));
        child.insert("type".into(), catalog.kind(*id).word().into());
        child.insert("allocated".into(), catalog.allocated(*id).get().into());
        child.insert("apparent".into(), catalog.apparent(*id).get().into());
        child.insert("exclusive".into(), catalog.exclusive(*id).get().into());
        child.insert("entries".into(), catalog.entries(*id).into());
        child.insert("newest".into(), catalog.newest(*id).rfc3339().into());
        Value::Object(child)
    };
    let mut document = Map::new();
    document.insert("fondaco".into(), 1.into());
    document.insert("kind".into(), "directories".into());
    put_path(&mut document, &catalog.path(at));
    document.insert("scanned".into(), catalog.now().rfc3339().into());
    document.insert("allocated".into(), catalog.allocated(at).get().into());
    document.insert("children".into(), ranking.rows.iter().map(child).collect());
    if ranking.tail.children > 0 {
        document.insert("tail".into(), json!(ranking.tail));
    }
    Value::Object(document)
}

fn print(catalog: &Catalog, at: EntryId, ranking: &Ranking) -> Result<()> {
    use Lean::{Left, Right};
    let whole = catalog.allocated(at);
    let share = |bytes: Bytes| format!("{:.1} %", bytes.share_of(whole) * 100.0);
    let mut table = Table::new(&[
        ("allocated", Right),
        ("share", Right),
        ("apparent", Right),
        ("exclusive", Right),
        ("entries", Right),
        ("newest", Right),
        ("name", Left),
    ]);
    for id in &ranking.rows {
        let slash = if catalog.is_directory(*id) { "/" } else { "" };
        table.row(vec![
            binary(catalog.allocated(*id)),
            share(catalog.allocated(*id)),
            binary(catalog.apparent(*id)),
            binary(catalog.exclusive(*id)),
            grouped(catalog.entries(*id)),
            catalog.newest(*id).age(catalog.now()).to_string(),
            format!("{}{slash}", Shown(catalog.name(*id))),
        ]);
    }
    if ranking.tail.children > 0 {
        let tail = ranking.tail;
        table.row(vec![
            binary(tail.allocated),
            share(tail.allocated),
            String::new(),
            String::new(),
            grouped(tail.entries),
            String::new(),
            format!("tail: {} more", grouped(tail.children)),
        ]);
    }
    say!("{}  {}", binary(whole), Shown(catalog.path(at)));
    table.print()?;
    if let Some(line) = excluded_line(catalog) {
        say!("{line}");
    }
    if !catalog.unreadable().is_empty() {
        let count = catalog.unreadable().len();
        say!("{count} places could not be read; `fondaco scan` lists them");
    }
    Ok(())
}
