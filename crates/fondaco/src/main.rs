//! Fondaco, the program: the command line, and the full-screen application.
//!
//! [`cli`] says what can be said; [`command`] does it without the screen; [`app`] is the
//! application's model and [`view`] draws it; [`demo`] lays out the made-up data. All computation
//! is in `fondaco-core`.

mod app;
mod charts;
mod cli;
mod command;
mod demo;
mod environment;
mod manual;
mod output;
mod tables;
mod view;
mod words;

use std::process::ExitCode;

use clap::error::ErrorKind;
use clap::{CommandFactory, Parser};

use cli::Cli;
use command::Outcome;
use fondaco_core::kernel;

fn main() -> ExitCode {
    kernel::give_back_freed_memory();
    let cli = Cli::parse();
    let theme = view::Theme::of_environment(cli.light, cli.ascii);
    let outcome = match cli.command {
        Some(_) if !cli.paths.is_empty() || cli.saved.is_some() => Cli::command()
            .error(
                ErrorKind::ArgumentConflict,
                "paths and --saved stand behind a command, not before it",
            )
            .exit(),
        Some(command) => command::run(command, cli.state, &theme),
        None => command::open_application(cli.state, cli.saved.as_deref(), cli.paths, &theme),
    };
    match outcome {
        Ok(outcome) => outcome.into(),
        Err(error) if is_closed_pipe(&error) => ExitCode::SUCCESS,
        Err(error) => {
            eprint!("fondaco: {error}");
            for cause in error.chain().skip(1) {
                eprint!(": {cause}");
            }
            eprintln!();
            Outcome::Failed.into()
        }
    }
}

/// Whoever read our output has seen enough.
fn is_closed_pipe(error: &anyhow::Error) -> bool {
    let io = error.chain().find_map(|cause| cause.downcast_ref::<std::io::Error>());
    io.is_some_and(|error| error.kind() == std::io::ErrorKind::BrokenPipe)
}
