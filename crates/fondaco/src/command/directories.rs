//! `fondaco directories`

use std::path::PathBuf;

use anyhow::Result;

use super::Outcome;
use super::look::{Closer, Looked};
use crate::{cli, query};

pub(super) fn run(arguments: &cli::Directories, state: Option<PathBuf>) -> Result<Outcome> {
    let paths = arguments.path.as_slice();
    let looked = Looked::obtain(paths, &arguments.look, &arguments.walk, Closer::No, state)?;
    let at = looked.below(arguments.below.as_deref())?;
    let top = arguments.top.unwrap_or(usize::MAX);
    let query = query::Directories { order: arguments.order, top };
    looked.tell(&query, at, &arguments.form)
}
