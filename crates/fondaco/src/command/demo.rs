//! `fondaco demo`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::shown::Shown;
use fondaco_core::units::Time;

use super::Outcome;
use crate::environment::state_directory;
use crate::frame::view::Theme;
use crate::output::{say, usage};
use crate::{cli, demo, frame};

pub(super) fn run(arguments: &cli::Demo, state: Option<PathBuf>, theme: &Theme) -> Result<Outcome> {
    let by_environment = std::env::var_os("FONDACO_STATE").map(PathBuf::from);
    if arguments.at.is_some() && state.is_some() && state != by_environment {
        usage!("the demo at --at DIR has a state directory of its own: leave --state away");
    }
    if let Some(file) = &arguments.hold {
        demo::hold(file)?;
        return Ok(Outcome::AllDone);
    }
    if let Some(port) = arguments.store {
        demo::serve(port, Time::now())?;
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
    frame::run(place.state, frame::Begin::Paths(Vec::new()), theme)?;
    Ok(Outcome::AllDone)
}
