//! `fondaco ages`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::analysis::{AgeBy, Cell, Matrix, matrix};
use fondaco_core::shown::Shown;
use fondaco_core::units::UnitStyle;
use serde_json::json;

use super::look::{Closer, Looked, classes, written};
use super::{Outcome, binary, excluded_line};
use crate::cli;
use crate::output::{self, Lean, Table, say};
use crate::tables;

pub(super) fn run(arguments: &cli::Ages, state: Option<PathBuf>) -> Result<Outcome> {
    let classes = classes(&arguments.sizes, &arguments.ages, state.clone())?;
    let by = arguments.by;
    let closer = Closer::if_needed(by == AgeBy::Born);
    let looked = Looked::of(&arguments.scanned, closer, state)?;
    let found = matrix(looked.seen(), looked.top()?, by, classes);
    if written(&tables::ages(&found), &arguments.form, "ages", &looked)? {
        return Ok(Outcome::AllDone);
    }
    if arguments.form.json {
        let mut document = json!({
            "fondaco": 1,
            "kind": "ages",
            "scanned": looked.catalog.now().rfc3339(),
            "by": by,
            "sizes": found.classes.sizes,
            "ages": found.classes.ages.iter().map(|age| age.secs()).collect::<Vec<_>>(),
            "cells": found.cells,
            "not_known": found.not_known,
            "whole": found.whole(),
        });
        looked.put_lens(&mut document);
        output::json(&document)?;
        return Ok(Outcome::AllDone);
    }
    for root in looked.catalog.roots() {
        say!("{}  {}", binary(looked.seen().allocated(root.entry)), Shown(&root.path));
    }
    say!("by when {}", by.clause());
    print(&found)?;
    for line in looked.part_line().into_iter().chain(excluded_line(&looked.catalog)) {
        say!("{line}");
    }
    Ok(Outcome::AllDone)
}

/// One row for each size, one column for each age, sums at both ends.
fn print(found: &Matrix) -> Result<()> {
    let classes = &found.classes;
    let ages = classes.ages.len() + 1;
    let unknown = found.of_no_age().entries > 0;
    let mut names: Vec<String> = vec!["size".to_owned()];
    names.extend((0..ages + usize::from(unknown)).map(|age| classes.age_words(age)));
    names.push("all".to_owned());
    let columns: Vec<(&str, Lean)> =
        names.iter().map(|name| (name.as_str(), Lean::Right)).collect();
    let mut table = Table::new(&columns);
    for size in (0..found.cells.len()).rev() {
        let mut row = vec![classes.size_words(size, UnitStyle::Binary)];
        row.extend(found.cells[size].iter().map(|cell| bytes(*cell)));
        row.extend(unknown.then(|| bytes(found.not_known[size])));
        row.push(bytes(found.of_size(size)));
        table.row(row);
    }
    let mut last = vec!["all".to_owned()];
    last.extend((0..ages).map(|age| bytes(found.of_age(age))));
    last.extend(unknown.then(|| bytes(found.of_no_age())));
    last.push(bytes(found.whole()));
    table.row(last);
    Ok(table.print()?)
}

fn bytes(cell: Cell) -> String {
    if cell.entries == 0 { "·".to_owned() } else { binary(cell.allocated) }
}
