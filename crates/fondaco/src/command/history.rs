//! `fondaco history`

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use fondaco_core::archive::is_store;
use fondaco_core::history::{History, LOOKED_BACK, SizeThen, Tide};
use fondaco_core::saved::{self, SavedScan};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use fondaco_core::volume::{volume_of, volumes};

use super::Outcome;
use super::look::tell_answer;
use crate::cli;
use crate::environment::open_state;
use crate::output::{ProgressLine, tell};
use crate::query::{SizesHistory, VolumeHistory, VolumesHistory};

pub(super) fn run(arguments: &cli::History, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let now = Time::now();
    let since = arguments.since.unwrap_or(Time::at(now.sec - LOOKED_BACK));
    if let Some(path) = arguments.path.as_deref().filter(|path| is_store(path)) {
        let sizes = History::open(&state.history_file())?.sizes(path, since)?;
        tell_answer(&SizesHistory { place: path.to_owned(), sizes }, &arguments.form)?;
        return Ok(Outcome::AllDone);
    }
    if let Some(path) = &arguments.path {
        if path.symlink_metadata().is_err_and(|error| error.kind() == ErrorKind::NotFound) {
            tell!(
                "there is no {} now: the level is that of the volume on which it would lie",
                Shown(path)
            );
        }
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
    let mut history = VolumeHistory::look(state, volume, &place, since, now)?;
    if history.tide.sizes.is_empty() {
        history.tide.sizes = sizes_in_kept_scans(&place, since, state)?;
    }
    Ok(history)
}

/// So many kept scans are looked into for a directory that is too small to be in their summaries.
const LOOKED_INTO: usize = 30;

/// The sizes of a directory that no summary has, by the kept scans that it is in; those that cannot be read are told.
fn sizes_in_kept_scans(place: &Path, since: Time, state: &State) -> Result<Vec<SizeThen>> {
    let holds = |scan: &SavedScan| {
        let about = scan.about.as_ref().ok();
        about.is_some_and(|about| {
            let is_in = |root: &PathBuf| place.starts_with(root) && place != root;
            about.complete && about.scanned >= since && about.roots.iter().any(is_in)
        })
    };
    let scans: Vec<SavedScan> = saved::list(state)?.into_iter().filter(holds).collect();
    let newest = &scans[scans.len().saturating_sub(LOOKED_INTO)..];
    let mut line = ProgressLine::new();
    let mut sizes = Vec::new();
    for (number, scan) in newest.iter().enumerate() {
        line.show(&format!("looking into kept scan {} of {}", number + 1, newest.len()));
        match saved::open_file(&scan.path) {
            Ok(catalog) => sizes.extend(catalog.find(place).map(|id| SizeThen {
                at: catalog.now(),
                allocated: catalog.allocated(id),
                entries: catalog.entries(id),
            })),
            Err(error) => tell!("{error}"),
        }
    }
    line.clear();
    Ok(sizes)
}
