//! `fondaco directories`

use std::path::PathBuf;

use anyhow::{Context, Result, bail};
use fondaco_core::catalog::{EntryId, Ranking, Seen};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{counted, grouped};
use serde_json::{Map, Value, json};

use super::look::{Closer, Looked, written};
use super::{Outcome, binary, excluded_line};
use crate::cli;
use crate::output::{self, put_path, say};
use crate::tables;

pub(super) fn run(arguments: &cli::Directories, state: Option<PathBuf>) -> Result<Outcome> {
    let paths = arguments.path.as_slice();
    let looked = Looked::obtain(paths, &arguments.look, &arguments.walk, Closer::No, state)?;
    let catalog = &looked.catalog;
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
    let ranking = looked.seen().ranking(at, arguments.order, limit);
    let grid = tables::directories(looked.seen(), at, &ranking);
    if written(&grid, &arguments.form, "directories", &looked)? {
        return Ok(Outcome::AllDone);
    }
    if arguments.form.json {
        let mut document = document(looked.seen(), at, &ranking);
        looked.put_lens(&mut document);
        output::json(&document)?;
        return Ok(Outcome::AllDone);
    }
    let mut columns = arguments.form.columns.clone();
    if columns.is_empty() {
        let plain = ["allocated", "share", "apparent", "exclusive", "entries", "newest", "name"];
        columns = plain.iter().map(|key| (*key).to_owned()).collect();
    }
    say!("{}  {}", binary(looked.seen().allocated(at)), Shown(catalog.path(at)));
    grid.print(&columns)?;
    if ranking.tail.children > 0 {
        let tail = ranking.tail;
        say!(
            "tail: {} more, {} entries, {}",
            grouped(tail.children),
            grouped(tail.entries),
            binary(tail.allocated)
        );
    }
    for line in looked.part_line().into_iter().chain(excluded_line(catalog)) {
        say!("{line}");
    }
    if !catalog.unreadable().is_empty() {
        let places = counted(catalog.unreadable().len() as u64, "place");
        say!("{places} could not be read; `fondaco scan` lists them");
    }
    Ok(Outcome::AllDone)
}

fn document(seen: Seen<'_>, at: EntryId, ranking: &Ranking) -> Value {
    let catalog = seen.catalog();
    let child = |id: &EntryId| {
        let mut child = Map::new();
        let name = catalog.name(*id);
        let text = name.to_str().map_or_else(|| shown(name), str::to_owned);
        child.insert("name".into(), text.into());
        put_path(&mut child, &catalog.path(*id));
        child.insert("type".into(), catalog.kind(*id).word().into());
        child.insert("allocated".into(), seen.allocated(*id).get().into());
        child.insert("apparent".into(), seen.apparent(*id).get().into());
        child.insert("exclusive".into(), seen.exclusive(*id).get().into());
        child.insert("entries".into(), seen.entries(*id).into());
        child.insert("newest".into(), seen.newest(*id).rfc3339().into());
        Value::Object(child)
    };
    let mut document = Map::new();
    document.insert("fondaco".into(), 1.into());
    document.insert("kind".into(), "directories".into());
    put_path(&mut document, &catalog.path(at));
    document.insert("scanned".into(), catalog.now().rfc3339().into());
    document.insert("allocated".into(), seen.allocated(at).get().into());
    document.insert("children".into(), ranking.rows.iter().map(child).collect());
    if ranking.tail.children > 0 {
        document.insert("tail".into(), json!(ranking.tail));
    }
    Value::Object(document)
}
