//! Bytes by one property.

use anyhow::Result;
use fondaco_chart::{Chart, SliceLine};
use fondaco_core::analysis::{self, BreakdownBy, SLICES, Slice, breakdown_in};
use fondaco_core::catalog::{AGE_BOUNDS, Catalog, EntryId, Seen};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::Shown;
use fondaco_core::units::{Bytes, grouped};
use serde_json::{Value, json};

use super::cells::{binary, bytes, group, share, text, user};
use super::{Answer, Paper, Query, Subject, named};
use crate::output::{Grid, left, path_value, right, say};
use crate::words::slice_words;

/// What the bytes of a directory are, by a property.
#[derive(Clone, Copy, Debug)]
pub struct Breakdown {
    /// By which property.
    pub by: BreakdownBy,
    /// So many slices are listed; the rest is summed. Nothing lists as many as are kept.
    pub top: Option<usize>,
}

impl Breakdown {
    /// Breaks a directory down.
    pub fn ask(&self, seen: Seen<'_>, at: EntryId) -> analysis::Breakdown {
        breakdown_in(seen, at, self.by, self.top.unwrap_or(SLICES).max(SLICES))
    }
}

impl Query for Breakdown {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        let found = self.ask(of.seen, of.at);
        let listed = found.slices.len().min(self.top.unwrap_or(usize::MAX));
        Box::new(Found { of, by: self.by, found, listed })
    }
}

struct Found<'a> {
    of: Subject<'a>,
    by: BreakdownBy,
    found: analysis::Breakdown,
    listed: usize,
}

impl Found<'_> {
    /// How many slices are not listed, and what they come to.
    fn rest(&self) -> (usize, analysis::Cell) {
        let left = &self.found.slices[self.listed..];
        let sum = left.iter().fold(self.found.rest.1, |mut sum, slice| {
            sum.entries += slice.sum.entries;
            sum.allocated += slice.sum.allocated;
            sum
        });
        (left.len() + self.found.rest.0, sum)
    }
}

impl Answer for Found<'_> {
    fn head(&self) -> Value {
        self.of.head("breakdown")
    }

    fn grid(&self) -> Grid {
        let listed = &self.found.slices[..self.listed];
        grid(self.of.catalog(), &self.found, listed, self.of.accounts)
    }

    fn document(&self) -> Result<Value> {
        let (slices, sum) = self.rest();
        let mut document = self.head();
        document["by"] = json!(self.by);
        document["overlaps"] = self.found.overlaps().into();
        document["whole"] = json!(self.found.whole);
        document["ages"] = AGE_BOUNDS.iter().map(|age| age.secs()).collect();
        document["slices"] = self.grid().to_json(&[])?.into();
        document["rest"] = json!({ "slices": slices, "sum": sum });
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        for root in self.of.catalog().roots() {
            say!("{}  {}", binary(self.of.seen.allocated(root.entry)), Shown(&root.path));
        }
        let plain = named(&["allocated", "share", "entries", "largest_allocated", "slice"]);
        self.grid().print(if columns.is_empty() { &plain } else { columns })?;
        let (more, rest) = self.rest();
        if more > 0 {
            let more = grouped(more as u64);
            say!("and {more} more: {} entries, {}", grouped(rest.entries), binary(rest.allocated));
        }
        if self.found.overlaps() {
            say!("an entry may have several attributes: these do not add up");
        }
        Ok(())
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        let lines = slice_lines(&self.found, paper.top, self.of.accounts);
        let left = &self.found.slices[lines.len()..];
        let bytes: Bytes = left.iter().map(|slice| slice.sum.allocated).sum();
        let (count, bytes) = (left.len() + self.found.rest.0, bytes + self.found.rest.1.allocated);
        let rest = (count > 0).then_some((count, bytes));
        Some(fondaco_chart::breakdown(&self.found, &lines, rest, &self.of.context(paper)))
    }
}

/// The first slices as lines of a chart, with the names of accounts.
pub fn slice_lines(
    found: &analysis::Breakdown,
    count: usize,
    accounts: &dyn Accounts,
) -> Vec<SliceLine> {
    let line = |slice: &Slice| SliceLine {
        name: words(slice, accounts),
        allocated: slice.sum.allocated,
        entries: slice.sum.entries,
        profile: slice.profile,
    };
    found.slices.iter().take(count).map(line).collect()
}

fn words(slice: &Slice, accounts: &dyn Accounts) -> String {
    slice_words(&slice.key, |number| user(accounts, number), |number| group(accounts, number))
}

/// Slices of a breakdown.
fn grid(
    catalog: &Catalog,
    found: &analysis::Breakdown,
    slices: &[Slice],
    accounts: &dyn Accounts,
) -> Grid {
    let mut grid = Grid::new(&[
        right("allocated", "allocated"),
        right("share", "share"),
        right("entries", "entries"),
        right("largest_allocated", "largest"),
        left("slice", "slice"),
        left("largest", "largest entry"),
        left("lens", "lens"),
        left("by_age", "by age"),
    ]);
    for slice in slices {
        let largest = catalog.path(slice.largest);
        let by_age: Vec<u64> = slice.profile.iter().map(|bytes| *bytes as u64).collect();
        grid.row(vec![
            bytes(slice.sum.allocated),
            share(slice.sum.allocated, found.whole.allocated),
            (grouped(slice.sum.entries), slice.sum.entries.into()),
            bytes(slice.largest_allocated),
            text(words(slice, accounts)),
            (Shown(&largest).to_string(), path_value(&largest)),
            text(found.term(slice)),
            (format!("{by_age:?}"), Value::from(by_age)),
        ]);
    }
    grid
}
