//! `fondaco now`

use std::path::PathBuf;
use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use fondaco_core::activity::Watch;
use fondaco_core::archive::is_store;
use fondaco_core::shown::Shown;
use fondaco_core::units::UnitStyle;

use super::look::tell_answer;
use super::{Outcome, stop_asked};
use crate::cli;
use crate::environment::open_state;
use crate::output::{ProgressLine, usage};
use crate::query::{Now, volume_words};

/// How often is looked.
const TICK: Duration = Duration::from_millis(500);

pub(super) fn run(arguments: &cli::Now, state: Option<PathBuf>) -> Result<Outcome> {
    let path = &arguments.path;
    if is_store(path) {
        usage!("{}: who writes into a store is not seen from here", Shown(path));
    }
    if arguments.how_long.secs() == 0 {
        usage!("--for takes a second or more");
    }
    let state = open_state(state)?;
    let place = path.canonicalize().with_context(|| format!("cannot open {}", Shown(path)))?;
    let until = Instant::now() + Duration::from_secs(arguments.how_long.secs());
    stop_asked();
    let mut watch = Watch::begin(&place, &state, None)?;
    let mut line = ProgressLine::new();
    while !stop_asked() {
        let left = until.saturating_duration_since(Instant::now());
        if left.is_zero() {
            break;
        }
        std::thread::sleep(left.min(TICK));
        watch.tick()?;
        let words = volume_words(&watch.activity(), UnitStyle::Binary);
        line.show(&format!("{} s left  {words}", left.as_secs()));
    }
    line.clear();
    let activity = watch.activity();
    let answer = Now { place, activity, top: arguments.top, accounts: &state };
    tell_answer(&answer, &arguments.form)?;
    Ok(Outcome::AllDone)
}
