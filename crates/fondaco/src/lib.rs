//! Fondaco, the program: the command line, and the full-screen application.
//!
//! [`cli`] says what can be said; [`command`] does it without the screen; [`frame`] is the full-screen application and
//! [`station`] its stations, one folder each; [`demo`] lays out the made-up data. All computation is in
//! `fondaco-core`.
//!
//! It is a library with one function and a program that calls it, so that it is compiled while the code of
//! `fondaco-core` is still being made.

mod charts;
mod cli;
mod command;
mod demo;
mod environment;
mod failure;
mod fit;
mod frame;
mod log;
mod mail;
mod manual;
mod output;
mod query;
mod station;
mod timer;
mod words;

use std::io::Write;
use std::process::ExitCode;

use anyhow::{Result, bail};
use clap::error::ErrorKind;
use clap::{CommandFactory, Parser};

use cli::Cli;
use command::Outcome;
use failure::Failure;
use fondaco_core::contained::is_contained;
use fondaco_core::kernel;
use fondaco_core::lens::LensError;
use fondaco_core::rule::RuleFileError;
use output::tell;

/// Does what the arguments of the program say, and gives its exit code.
pub fn main() -> ExitCode {
    kernel::give_back_freed_memory();
    kernel::outlive_file_size_limit();
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => return say_usage(&error),
    };
    let screen = cli.screen();
    let theme = frame::view::Theme::of_environment(screen.light, screen.ascii);
    let outcome = match cli.command {
        Some(_) if !cli.paths.is_empty() || cli.saved.is_some() => {
            let message = "paths and --saved stand behind a command, not before it";
            return say_usage(&Cli::command().error(ErrorKind::ArgumentConflict, message));
        }
        Some(command) => without_panic(|| command::run(command, cli.state, &theme)),
        None => command::open_application(cli.state, cli.saved.as_deref(), cli.paths, &theme),
    };
    match outcome {
        Ok(outcome) => outcome.into(),
        Err(error) if is_closed_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            tell!("{}", Failure::with_causes(error.as_ref()));
            if is_usage(&error) { ExitCode::from(2) } else { Outcome::Failed.into() }
        }
    }
}

/// Says what was wrong with the arguments, or shows the help that was asked for.
fn say_usage(error: &clap::Error) -> ExitCode {
    if !error.use_stderr() {
        return match error.print() {
            Ok(()) => ExitCode::SUCCESS,
            Err(_) => Outcome::Failed.into(),
        };
    }
    // an argument that is quoted in it may hold anything
    let text = fondaco_core::shown::safe_text(&error.render().to_string());
    let _ = std::io::stderr().write_all(text.as_bytes());
    ExitCode::from(2)
}

/// Runs a command so that a fault of this program, or a system that gives not even random numbers or memory for a
/// thread, ends in a message: whatever was begun is settled at the next start.
fn without_panic(run: impl FnOnce() -> Result<Outcome>) -> Result<Outcome> {
    std::panic::set_hook(Box::new(|panic| {
        if !is_contained() {
            tell!("internal error: {panic}");
        }
    }));
    let outcome = std::panic::catch_unwind(std::panic::AssertUnwindSafe(run));
    outcome.unwrap_or_else(|_| {
        bail!("ended by that; what was begun is settled at the next start: see fondaco journal")
    })
}

/// Whether what was asked for makes no sense, as `clap` would say of what it can tell by itself.
fn is_usage(error: &anyhow::Error) -> bool {
    error.chain().any(|cause| {
        let rules = cause.downcast_ref::<RuleFileError>();
        let is_rule = matches!(rules, Some(RuleFileError::Rule(_)));
        cause.is::<output::Usage>() || cause.is::<LensError>() || is_rule
    })
}

/// Whether the reader of our output has closed it, as `head` does.
fn is_closed_pipe(error: &anyhow::Error) -> bool {
    let io = error.chain().find_map(|cause| cause.downcast_ref::<std::io::Error>());
    io.is_some_and(|error| error.kind() == std::io::ErrorKind::BrokenPipe)
}
