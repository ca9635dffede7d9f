//! Sizes against ages.

use anyhow::Result;
use fondaco_chart::Chart;
use fondaco_core::analysis::{AgeBy, Cell, Classes, Matrix, matrix};
use fondaco_core::catalog::{EntryId, Seen};
use fondaco_core::shown::Shown;
use fondaco_core::units::UnitStyle;
use serde_json::{Value, json};

use super::cells::{binary, bytes, text};
use super::{Answer, Paper, Query, Subject};
use crate::output::{Grid, Lean, Table, left, right, say};

/// How many bytes there are of every class of size and age.
#[derive(Clone, Debug)]
pub struct Ages {
    /// Which time says how old an entry is.
    pub by: AgeBy,
    /// Where classes end.
    pub classes: Classes,
}

impl Ages {
    /// Counts them below a directory.
    pub fn ask(&self, seen: Seen<'_>, at: EntryId) -> Matrix {
        matrix(seen, at, self.by, self.classes.clone())
    }
}

impl Query for Ages {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        Box::new(Found { of, by: self.by, matrix: self.ask(of.seen, of.at) })
    }
}

struct Found<'a> {
    of: Subject<'a>,
    by: AgeBy,
    matrix: Matrix,
}

impl Answer for Found<'_> {
    fn head(&self) -> Value {
        self.of.head("ages")
    }

    fn grid(&self) -> Grid {
        grid(&self.matrix)
    }

    fn document(&self) -> Result<Value> {
        let found = &self.matrix;
        let mut document = self.head();
        document["by"] = json!(self.by);
        document["sizes"] = json!(found.classes.sizes);
        document["ages"] = found.classes.ages.iter().map(|age| age.secs()).collect();
        document["cells"] = json!(found.cells);
        document["not_known"] = json!(found.not_known);
        document["whole"] = json!(found.whole());
        Ok(document)
    }

    /// A matrix; with columns, the table of its cells.
    fn print(&self, columns: &[String]) -> Result<()> {
        if !columns.is_empty() {
            return self.grid().print(columns);
        }
        for root in self.of.catalog().roots() {
            say!("{}  {}", binary(self.of.seen.allocated(root.entry)), Shown(&root.path));
        }
        say!("by when {}", self.by.clause());
        print(&self.matrix)
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        Some(fondaco_chart::ages(&self.matrix, self.by, &self.of.context(paper)))
    }
}

/// A matrix, one row for each cell.
fn grid(found: &Matrix) -> Grid {
    let mut grid = Grid::new(&[
        left("size", "size"),
        left("age", "age"),
        right("entries", "entries"),
        right("allocated", "allocated"),
    ]);
    let classes = &found.classes;
    for (size, row) in found.cells.iter().enumerate() {
        for (age, cell) in row.iter().chain(&found.not_known[size..=size]).enumerate() {
            grid.row(vec![
                text(classes.size_words(size, UnitStyle::Binary)),
                text(classes.age_words(age)),
                (cell.entries.to_string(), cell.entries.into()),
                bytes(cell.allocated),
            ]);
        }
    }
    grid
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
        row.extend(found.cells[size].iter().map(|cell| cell_bytes(*cell)));
        row.extend(unknown.then(|| cell_bytes(found.not_known[size])));
        row.push(cell_bytes(found.of_size(size)));
        table.row(row);
    }
    let mut last = vec!["all".to_owned()];
    last.extend((0..ages).map(|age| cell_bytes(found.of_age(age))));
    last.extend(unknown.then(|| cell_bytes(found.of_no_age())));
    last.push(cell_bytes(found.whole()));
    table.row(last);
    Ok(table.print()?)
}

fn cell_bytes(cell: Cell) -> String {
    if cell.entries == 0 { "·".to_owned() } else { binary(cell.allocated) }
}
