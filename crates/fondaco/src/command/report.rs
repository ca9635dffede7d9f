//! `fondaco report`

use std::io::Write;
use std::path::{Path, PathBuf};

use anyhow::{Result, bail};
use fondaco_chart::Chart;
use fondaco_core::catalog::{Root, Selection};
use fondaco_core::history::{LOOKED_BACK, Measure, Side, compare_through};
use fondaco_core::shown::Shown;
use fondaco_core::unattended::{read_record, records};
use fondaco_core::units::Time;
use fondaco_core::volume::volume_of;

use super::look::{Closer, Looked, classes};
use super::{Outcome, duplicates};
use crate::charts::{self, A4};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, say, usage};
use crate::query::{Answer, Compared, Subject, WholeComparison, unattended_letter};

pub(super) fn run(arguments: &cli::Report, state: Option<PathBuf>) -> Result<Outcome> {
    if let Some(which) = &arguments.run {
        return of_unattended(which, arguments.output.as_deref(), state);
    }
    // the command line asks for one of the two
    let Some(file) = &arguments.output else { bail!("say where: -o FILE.html or FILE.pdf") };
    let as_pdf = match file.extension().and_then(|ending| ending.to_str()) {
        Some("pdf") => true,
        Some("html") => false,
        _ => bail!("{}: the name must end in .html or .pdf", Shown(file)),
    };
    output::is_to_be_new(file)?;
    let classes = classes(&[], &[], state.clone())?;
    let looked = Looked::of(&arguments.scanned, Closer::No, state.clone())?;
    let accounts = looked.accounts();
    let subject = looked.subject(looked.top()?, &accounts);
    let copies = match arguments.duplicates {
        true => Some(duplicates::pairs(&looked, subject, 24, state.clone())?),
        false => None,
    };
    let mut report =
        charts::report(subject, &arguments.title, arguments.top, classes, copies.as_ref());
    if let Some(since) = &arguments.since {
        let is_tree_now = arguments.scanned.walk.saved.is_none();
        let selection = looked.selection.as_ref();
        report.changes = changes((subject, is_tree_now), selection, since, state.clone())?;
        report.tide = tide(looked.catalog.roots(), state)?;
    }
    let bytes = if as_pdf { report.to_pdf()? } else { report.to_html()?.into_bytes() };
    charts::write_new(file, &bytes)?;
    say!("written: {}", Shown(file));
    Ok(looked.outcome())
}

/// What changed since an earlier moment, drawn.
fn changes(
    (of, is_tree_now): (Subject<'_>, bool),
    selection: Option<&Selection>,
    since: &str,
    state: Option<PathBuf>,
) -> Result<Option<Chart>> {
    let (before, after) = (super::compare::moment(since, state)?, of.catalog());
    let Some((was, is)) = super::compare::places((since, &before), (is_tree_now, after)) else {
        return Ok(None);
    };
    let lens = of.lens.map(|text| super::look::parse(text, of.accounts)).transpose()?;
    let side = Side { seen: after.seen(selection), at: is };
    let found =
        compare_through(lens.as_ref(), of.accounts, (&before, was), side, Measure::Allocated);
    let answer = WholeComparison {
        compared: Compared { before: &before, after, found: &found },
        place: found.root(),
        by: None,
        top: A4.top,
        accounts: of.accounts,
        lens: of.lens,
    };
    Ok(answer.chart(&A4))
}

/// The level of the volume that was scanned over time, drawn; nothing if no volume holds it any more.
fn tide(roots: &[Root], state: Option<PathBuf>) -> Result<Option<Chart>> {
    let [root] = roots else { return Ok(None) };
    let (state, now) = (open_state(state)?, Time::now());
    if volume_of(&root.path, &state).is_none() {
        return Ok(None);
    }
    let since = Time::at(now.sec - LOOKED_BACK);
    Ok(super::history::of_path(&root.path, since, now, &state)?.chart(&A4))
}

/// Prints or writes what an unattended run came to.
fn of_unattended(which: &str, file: Option<&Path>, state: Option<PathBuf>) -> Result<Outcome> {
    let all = records(&open_state(state)?)?;
    let number: Option<u64> = which.parse().ok();
    if number.is_none() && which != "last" {
        usage!("--run takes the number of an unattended run, or `last`");
    }
    let found = match number {
        Some(number) => all.iter().find(|(other, _)| *other == number),
        None => all.last(),
    };
    let Some((_, path)) = found else {
        let known = match (all.first(), all.last()) {
            (Some((first, _)), Some((last, _))) => format!("those from {first} to {last} are kept"),
            _ => "none is kept: fondaco tend makes one".to_owned(),
        };
        bail!("there is no report of unattended run {which}; {known}");
    };
    let letter = unattended_letter(&read_record(path)?);
    let Some(file) = file else {
        std::io::stdout().write_all(letter.to_text().as_bytes())?;
        return Ok(Outcome::AllDone);
    };
    let text = match file.extension().and_then(|ending| ending.to_str()) {
        Some("html") => letter.to_html()?,
        Some("txt") => letter.to_text(),
        _ => usage!("{}: the name must end in .html or .txt", Shown(file)),
    };
    output::is_to_be_new(file)?;
    charts::write_new(file, text.as_bytes())?;
    say!("written: {}", Shown(file));
    Ok(Outcome::AllDone)
}
