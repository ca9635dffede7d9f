//! `fondaco files`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::analysis::{AgeBy, first_files};
use fondaco_core::catalog::EntryId;
use fondaco_core::units::{Bytes, counted};
use serde_json::{Map, Value, json};

use super::look::{Closer, Looked, written};
use super::{Outcome, binary, excluded_line};
use crate::cli;
use crate::output::{self, put_path, say};
use crate::tables;

pub(super) fn run(arguments: &cli::Files, state: Option<PathBuf>) -> Result<Outcome> {
    let by = arguments.by;
    let closer = Closer::if_needed(by == AgeBy::Born);
    let looked = Looked::of(&arguments.scanned, closer, state)?;
    let order = arguments.order;
    let found = first_files(looked.seen(), looked.top()?, order, by, None, arguments.top);
    let grid = tables::files(&looked.catalog, &found.first, by, &*looked.accounts);
    if written(&grid, &arguments.form, "files", &looked)? {
        return Ok(Outcome::AllDone);
    }
    if arguments.form.json {
        let files: Vec<Value> = found.first.iter().map(|id| document(&looked, *id, by)).collect();
        let mut document = json!({
            "fondaco": 1,
            "kind": "files",
            "scanned": looked.catalog.now().rfc3339(),
            "order": order,
            "by": by,
            "whole": found.whole,
            "files": files,
        });
        looked.put_lens(&mut document);
        output::json(&document)?;
        return Ok(Outcome::AllDone);
    }
    grid.print(&arguments.form.columns)?;
    let sum: Bytes = found.first.iter().map(|id| looked.catalog.allocated(*id)).sum();
    say!(
        "{} of {}, {} of {} on disk",
        found.first.len(),
        counted(found.whole.entries, "file"),
        binary(sum),
        binary(found.whole.allocated)
    );
    for line in looked.part_line().into_iter().chain(excluded_line(&looked.catalog)) {
        say!("{line}");
    }
    Ok(Outcome::AllDone)
}

fn document(looked: &Looked, id: EntryId, by: AgeBy) -> Value {
    let catalog = &looked.catalog;
    let mut file = Map::new();
    put_path(&mut file, &catalog.path(id));
    file.insert("type".into(), catalog.kind(id).word().into());
    file.insert("allocated".into(), catalog.allocated(id).get().into());
    file.insert("apparent".into(), catalog.apparent(id).get().into());
    for by in AgeBy::ALL {
        if let Some(time) = by.of(catalog, id) {
            let key = by.words().trim_start_matches("last ");
            file.insert(key.into(), time.rfc3339().into());
        }
    }
    file.insert("byte_years".into(), (tables::weight(catalog, id, by).round() as u64).into());
    file.insert("owner".into(), tables::user(&*looked.accounts, catalog.owner(id).0).into());
    Value::Object(file)
}
