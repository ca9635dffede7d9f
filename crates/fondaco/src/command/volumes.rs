//! `fondaco volumes`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::drive::{Asking, drives};
use fondaco_core::history::{History, Outlook};
use fondaco_core::units::Time;
use fondaco_core::volume::{Volume, volumes};

use super::Outcome;
use super::look::tell_answer;
use crate::environment::open_state;
use crate::output::tell;
use crate::{cli, query};

pub(super) fn run(arguments: &cli::Volumes, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let now = Time::now();
    let volumes = volumes(&state);
    let sampled = History::open(&state.history_file())
        .and_then(|mut history| history.sample(&volumes, now).map(|_| history));
    if arguments.sample {
        sampled?;
        return Ok(Outcome::AllDone);
    }
    // without a history the levels are still worth telling
    let history = sampled.map_err(|error| tell!("{error}")).ok();
    let outlook = |volume: &Volume| {
        let known = history.as_ref().and_then(|history| history.outlook(volume, now).ok());
        known.unwrap_or(Outlook::NotYet)
    };
    let known: Vec<(Volume, Outlook)> =
        volumes.into_iter().map(|volume| (outlook(&volume), volume)).map(|(o, v)| (v, o)).collect();
    let listed: Vec<Volume> = known.iter().map(|(volume, _)| volume.clone()).collect();
    let drives = drives(&listed, &Asking::here());
    tell_answer(&query::Volumes { known, drives, asked: now, state }, &arguments.form)?;
    Ok(Outcome::AllDone)
}
