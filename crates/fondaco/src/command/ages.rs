//! `fondaco ages`

use std::path::PathBuf;

use anyhow::{Context, Result};
use fondaco_core::analysis::{Cell, Classes, Matrix, matrix};
use fondaco_core::shown::Shown;
use fondaco_core::units::{Age, Bytes};
use serde_json::json;

use super::{Obtained, Outcome, binary, excluded_line, obtain};
use crate::cli;
use crate::output::{self, Lean, Table, say};

pub(super) fn run(arguments: &cli::Ages, state: Option<PathBuf>) -> Result<Outcome> {
    let Obtained { catalog, .. } = obtain(&arguments.paths, &arguments.walk, state)?;
    let top = catalog.top().context("the scan has no root")?;
    let by = arguments.by.into();
    let found = matrix(&catalog, top, by, Classes::default());
    if arguments.json {
        output::json(&json!({
            "fondaco": 1,
            "kind": "ages",
            "scanned": catalog.now().rfc3339(),
            "by": by,
            "sizes": found.classes.sizes,
            "ages": found.classes.ages.iter().map(|age| age.secs()).collect::<Vec<_>>(),
            "cells": found.cells,
            "whole": found.whole(),
        }))?;
    } else {
        for root in catalog.roots() {
            say!("{}  {}", binary(catalog.allocated(root.entry)), Shown(&root.path));
        }
        print(&found)?;
        if let Some(line) = excluded_line(&catalog) {
            say!("{line}");
        }
    }
    Ok(Outcome::AllDone)
}

/// One row for each size, one column for each age, sums at both ends.
fn print(found: &Matrix) -> Result<()> {
    let ages = found.classes.ages.len() + 1;
    let mut names: Vec<String> = vec!["size".to_owned()];
    names.extend((0..ages).map(|age| age_name(&found.classes.ages, age)));
    names.push("all".to_owned());
    let columns: Vec<(&str, Lean)> =
        names.iter().map(|name| (name.as_str(), Lean::Right)).collect();
    let mut table = Table::new(&columns);
    for size in (0..found.cells.len()).rev() {
        let mut row = vec![size_name(&found.classes.sizes, size)];
        row.extend(found.cells[size].iter().map(|cell| bytes(*cell)));
        row.push(bytes(found.of_size(size)));
        table.row(row);
    }
    let mut last = vec!["all".to_owned()];
    last.extend((0..ages).map(|age| bytes(found.of_age(age))));
    last.push(bytes(found.whole()));
    table.row(last);
    Ok(table.print()?)
}

fn bytes(cell: Cell) -> String {
    if cell.entries == 0 { "·".to_owned() } else { binary(cell.allocated) }
}

/// As in "< 7 d", and for the last class "older".
fn age_name(bounds: &[Age], class: usize) -> String {
    bounds.get(class).map_or_else(|| "older".to_owned(), |bound| format!("< {bound}"))
}

fn size_name(bounds: &[Bytes], class: usize) -> String {
    bounds.get(class).map_or_else(|| "larger".to_owned(), |bound| format!("< {}", binary(*bound)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_are_named_by_where_they_end() {
        let classes = Classes::default();
        assert_eq!(age_name(&classes.ages, 0), "< 1 d");
        assert_eq!(age_name(&classes.ages, classes.ages.len()), "older");
        assert_eq!(size_name(&classes.sizes, 1), "< 1.0 MiB");
        assert_eq!(size_name(&classes.sizes, classes.sizes.len()), "larger");
    }
}
