//! `fondaco held`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::books::held_on;
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::units::Time;

use super::Outcome;
use super::books::volume_at;
use super::look::tell_answer;
use crate::environment::open_state;
use crate::{cli, query};

pub(super) fn run(arguments: &cli::Held, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let mut found = DeletedFiles::collect(Time::now());
    if let Some(path) = &arguments.path {
        let volume = volume_at(path, &state)?;
        found.files = held_on(&volume, &found).into_iter().cloned().collect();
    }
    tell_answer(&query::Held { found, state }, &arguments.form)?;
    Ok(Outcome::AllDone)
}
