//! `fondaco report`

use std::path::PathBuf;

use anyhow::{Result, bail};
use fondaco_core::shown::Shown;

use super::look::{Closer, Looked, classes};
use super::{Outcome, duplicates};
use crate::charts;
use crate::cli;
use crate::output::{self, say};

pub(super) fn run(arguments: &cli::Report, state: Option<PathBuf>) -> Result<Outcome> {
    let file = &arguments.output;
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
        true => Some(duplicates::pairs(&looked, subject, 24, state)?),
        false => None,
    };
    let report = charts::report(subject, &arguments.title, arguments.top, classes, copies.as_ref());
    let bytes = if as_pdf { report.to_pdf()? } else { report.to_html()?.into_bytes() };
    charts::write_new(file, &bytes)?;
    say!("written: {}", Shown(file));
    Ok(looked.outcome())
}
