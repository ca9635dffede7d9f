//! `fondaco breakdown`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::analysis::{BreakdownBy, breakdown};
use fondaco_core::catalog::AGE_BOUNDS;
use fondaco_core::shown::Shown;
use fondaco_core::units::grouped;
use serde_json::json;

use super::look::{Closer, Looked, written};
use super::{Outcome, binary, excluded_line};
use crate::cli;
use crate::output::{self, say};
use crate::tables;

pub(super) fn run(arguments: &cli::Breakdown, state: Option<PathBuf>) -> Result<Outcome> {
    let by = arguments.by;
    // of attributes some are told by a closer look only; a saved scan has the others
    let attributes = by == BreakdownBy::Attribute && arguments.scanned.walk.saved.is_none();
    let closer = if arguments.content { Closer::Into } else { Closer::if_needed(attributes) };
    let looked = Looked::of(&arguments.scanned, closer, state)?;
    let found = breakdown(looked.seen(), looked.top()?, by);
    let listed = &found.slices[..found.slices.len().min(arguments.top)];
    let grid = tables::slices(&looked.catalog, listed, found.whole, &*looked.accounts);
    if written(&grid, &arguments.form, "breakdown", &looked)? {
        return Ok(Outcome::AllDone);
    }
    let more = found.slices.len() - listed.len() + found.rest.0;
    let rest = found.slices[listed.len()..].iter().fold(found.rest.1, |mut sum, slice| {
        sum.entries += slice.sum.entries;
        sum.allocated += slice.sum.allocated;
        sum
    });
    if arguments.form.json {
        let mut document = json!({
            "fondaco": 1,
            "kind": "breakdown",
            "scanned": looked.catalog.now().rfc3339(),
            "by": by,
            "overlaps": found.overlaps(),
            "whole": found.whole,
            "ages": AGE_BOUNDS.map(|age| age.secs()),
            "slices": grid.to_json(&[])?,
            "rest": { "slices": more, "sum": rest },
        });
        looked.put_lens(&mut document);
        output::json(&document)?;
        return Ok(Outcome::AllDone);
    }
    for root in looked.catalog.roots() {
        say!("{}  {}", binary(looked.seen().allocated(root.entry)), Shown(&root.path));
    }
    let plain = ["allocated", "share", "entries", "largest_allocated", "slice"];
    let plain: Vec<String> = plain.iter().map(|key| (*key).to_owned()).collect();
    let columns = if arguments.form.columns.is_empty() { &plain } else { &arguments.form.columns };
    grid.print(columns)?;
    if more > 0 {
        let more = grouped(more as u64);
        say!("and {more} more: {} entries, {}", grouped(rest.entries), binary(rest.allocated));
    }
    if found.overlaps() {
        say!("an entry may have several attributes: these do not add up");
    }
    for line in looked.part_line().into_iter().chain(excluded_line(&looked.catalog)) {
        say!("{line}");
    }
    Ok(Outcome::AllDone)
}
