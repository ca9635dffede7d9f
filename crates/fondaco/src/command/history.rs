//! `fondaco history`

use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use fondaco_core::history::{History, Tide};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use fondaco_core::volume::{volume_of, volumes};

use super::Outcome;
use super::look::tell_answer;
use crate::cli;
use crate::environment::open_state;
use crate::output::tell;
use crate::query::{VolumeHistory, VolumesHistory};

/// So many seconds are looked back if nothing else is said.
pub(super) const BACK: i64 = 92 * 86_400;

pub(super) fn run(arguments: &cli::History, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let now = Time::now();
    let since = arguments.since.as_deref().map_or(Time::at(now.sec - BACK), moment);
    if let Some(path) = &arguments.path {
        tell_answer(&of_path(path, since, now, &state)?, &arguments.form)?;
        return Ok(Outcome::AllDone);
    }
    let all = volumes(&state);
    let mut history = History::open(&state.history_file())?;
    if let Err(error) = history.sample(&all, now) {
        tell!("no level was kept: {error}");
    }
    let look = |volume| {
        let tide = Tide::look(&history, &volume, None, since, now)?;
        Ok((volume, tide))
    };
    let volumes = all.into_iter().map(look).collect::<Result<Vec<_>>>()?;
    tell_answer(&VolumesHistory { volumes, asked: now }, &arguments.form)?;
    Ok(Outcome::AllDone)
}

/// The history of the volume that holds a path, and of what lies there.
pub(super) fn of_path(path: &Path, since: Time, now: Time, state: &State) -> Result<VolumeHistory> {
    let place = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let volume = volume_of(&place, state)
        .with_context(|| format!("no volume that is mounted holds {}", Shown(&place)))?;
    let kept = History::open(&state.history_file())
        .and_then(|mut history| history.sample(std::slice::from_ref(&volume), now));
    if let Err(error) = kept {
        tell!("no level was kept: {error}");
    }
    VolumeHistory::look(state, volume, &place, since, now)
}

/// The moment that a checked text means.
pub(super) fn moment(text: &str) -> Time {
    let whole = format!("{text}{}", "0000-01-01T00:00:00Z".get(text.len()..).unwrap_or_default());
    Time::of_rfc3339(&whole).unwrap_or(Time::at(0))
}
