//! `fondaco ages`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::analysis::AgeBy;

use super::Outcome;
use super::look::{Closer, Looked, classes};
use crate::{cli, query};

pub(super) fn run(arguments: &cli::Ages, state: Option<PathBuf>) -> Result<Outcome> {
    let classes = classes(&arguments.sizes, &arguments.ages, state.clone())?;
    let by = arguments.by;
    let closer = Closer::if_needed(by == AgeBy::Born);
    let looked = Looked::of(&arguments.scanned, closer, state)?;
    looked.tell(&query::Ages { by, classes }, looked.top()?, &arguments.form)
}
