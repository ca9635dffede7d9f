//! `fondaco demo`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::shown::Shown;
use fondaco_core::units::Time;

use super::Outcome;
use crate::environment::state_directory;
use crate::output::say;
use crate::view::Theme;
use crate::{app, cli, demo};

pub(super) fn run(arguments: &cli::Demo, state: Option<PathBuf>, theme: &Theme) -> Result<Outcome> {
    if let Some(file) = &arguments.hold {
        demo::hold(file)?;
        return Ok(Outcome::AllDone);
    }
    let at = match &arguments.at {
        Some(directory) => directory.clone(),
        None => state_directory(state)?.join("demo"),
    };
    let place = demo::lay_out(&at, arguments.reset, Time::now())?;
    if arguments.lay_out {
        say!("Seamark lies in {}", Shown(&place.root));
        say!("its state directory is {}", Shown(place.state.directory()));
        return Ok(Outcome::AllDone);
    }
    let _logger = demo::Logger::start(&place)?;
    app::run(place.state, app::Begin::Paths(Vec::new()), theme)?;
    Ok(Outcome::AllDone)
}
