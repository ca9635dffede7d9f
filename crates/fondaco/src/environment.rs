//! What the program takes from its surroundings: directories, terminals, and the clock's edge.

use std::io::{self, IsTerminal};
use std::path::PathBuf;
use std::sync::Once;

use crate::failure::Failure;
use crate::output::tell;
use anyhow::{Context, Result};
use fondaco_core::kernel;
use fondaco_core::state::State;

/// The state directory, as said on the command line or as the XDG base directory specification
/// has it; `/var/lib/fondaco` for root.
///
/// # Errors
///
/// If neither `XDG_STATE_HOME` nor `HOME` says where a user's state is kept.
pub fn state_directory(said: Option<PathBuf>) -> Result<PathBuf> {
    if let Some(directory) = said {
        return Ok(directory);
    }
    if kernel::effective_user() == 0 {
        return Ok("/var/lib/fondaco".into());
    }
    let absolute = |name| std::env::var_os(name).map(PathBuf::from).filter(|p| p.is_absolute());
    absolute("XDG_STATE_HOME")
        .or_else(|| absolute("HOME").map(|home| home.join(".local/state")))
        .map(|base| base.join("fondaco"))
        .context("neither XDG_STATE_HOME nor HOME is set: say where with --state DIR")
}

/// Opens the state directory.
///
/// # Errors
///
/// With what to do next.
pub fn open_state(said: Option<PathBuf>) -> Result<State> {
    let directory = state_directory(said)?;
    let state = State::open(&directory).with_context(|| {
        let shown = fondaco_core::shown::Shown(&directory);
        format!("the state directory {shown} cannot be used; choose another with --state DIR")
    })?;
    crate::log::begin(&state);
    Ok(state)
}

/// The state directory if there is one, for what works without it too. If it cannot be used, that is said once.
pub fn state_if_any(said: Option<PathBuf>) -> Option<State> {
    static SAID: Once = Once::new();
    let directory = state_directory(said.clone()).ok()?;
    if let Err(error) = std::fs::metadata(&directory)
        && error.kind() == io::ErrorKind::NotFound
    {
        return None;
    }
    match open_state(Some(directory)) {
        Ok(state) => Some(state),
        Err(error) => {
            let why = Failure::with_causes(error.as_ref());
            SAID.call_once(|| tell!("settings are not used: {why}"));
            None
        }
    }
}

/// Whether colours may be used on standard output (`NO_COLOR`, no-color.org).
pub fn colours_output() -> bool {
    std::io::stdout().is_terminal() && !no_colour()
}

/// Whether the user has asked for no colours.
pub fn no_colour() -> bool {
    std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty())
}
