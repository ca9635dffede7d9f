//! `fondaco breakdown`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::analysis::BreakdownBy;

use super::Outcome;
use super::look::{Closer, Looked};
use crate::{cli, query};

pub(super) fn run(arguments: &cli::Breakdown, state: Option<PathBuf>) -> Result<Outcome> {
    let by = arguments.by;
    // of attributes some are told by a closer look only; a saved scan has the others
    let attributes = by == BreakdownBy::Attribute && arguments.scanned.walk.saved.is_none();
    let closer = if arguments.content { Closer::Into } else { Closer::if_needed(attributes) };
    let looked = Looked::of(&arguments.scanned, closer, state)?;
    let query = query::Breakdown { by, top: Some(arguments.top) };
    looked.tell(&query, looked.top()?, &arguments.form)
}
