//! The manual page, made from the command line's definition and the application's command table.

use std::io::{self, Write};

use clap::CommandFactory;

use crate::app::COMMANDS;
use crate::cli::{Cli, EXIT_CODES};

/// Writes the manual page in roff (`man(7)`).
///
/// # Errors
///
/// If `out` cannot be written.
pub fn write(out: &mut dyn Write) -> io::Result<()> {
    let command = Cli::command();
    let man = clap_mangen::Man::new(command.clone());
    man.render_title(out)?;
    man.render_name_section(out)?;
    man.render_synopsis_section(out)?;
    man.render_description_section(out)?;
    man.render_options_section(out)?;
    writeln!(out, ".SH COMMANDS")?;
    for subcommand in command.get_subcommands().filter(|sub| sub.get_name() != "help") {
        let about = subcommand.get_about().map(ToString::to_string).unwrap_or_default();
        writeln!(out, ".TP\n\\fBfondaco {}\\fR\n{about}", subcommand.get_name())?;
        for argument in subcommand.get_arguments().filter(|a| a.get_id() != "help") {
            let Some(help) = argument.get_help() else { continue };
            let name = match argument.get_long() {
                Some(long) => format!("\\-\\-{}", long.replace('-', "\\-")),
                None => argument.get_id().to_string().to_uppercase(),
            };
            writeln!(out, ".br\n\\fI{name}\\fR: {help}")?;
        }
    }
    writeln!(out, ".SH KEYS\nIn the application, where they apply:")?;
    for row in COMMANDS {
        let keys: Vec<String> = row.keys.iter().map(ToString::to_string).collect();
        if !keys.is_empty() {
            let keys = keys.join(", ").replace('\\', "\\e").replace('-', "\\-");
            writeln!(out, ".TP\n\\fB{keys}\\fR\n{}: {}", row.name, row.help)?;
        }
    }
    writeln!(out, ".SH EXIT STATUS\n{EXIT_CODES}")
}
