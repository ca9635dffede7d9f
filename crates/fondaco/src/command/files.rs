//! `fondaco files`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::analysis::AgeBy;

use super::Outcome;
use super::look::{Closer, Looked};
use crate::{cli, query};

pub(super) fn run(arguments: &cli::Files, state: Option<PathBuf>) -> Result<Outcome> {
    let (order, by, top) = (arguments.order, arguments.by, arguments.top);
    let closer = Closer::if_needed(by == AgeBy::Born);
    let looked = Looked::of(&arguments.scanned, closer, state)?;
    looked.tell(&query::Files { order, by, top }, looked.top()?, &arguments.form)
}
