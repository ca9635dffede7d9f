//! The manual page, made from the command line's definition and the application's command table.

use std::io::{self, Write};

use clap::CommandFactory;

use crate::cli::{Cli, EXIT_CODES};
use crate::frame::commands::{Command, OF_ALL_STATIONS};
use crate::station::{Station, WAYS};

/// What stands before the help of a command.
fn examples(out: &mut dyn Write, command: &clap::Command) -> io::Result<()> {
    let Some(examples) = command.get_before_help() else { return Ok(()) };
    let text = examples.to_string();
    let lines = text.lines().filter(|line| line.starts_with(' ')).map(str::trim);
    let lines: Vec<String> = lines.map(|line| line.replace('-', "\\-")).collect();
    writeln!(out, ".EX\n{}\n.EE\n.PP", lines.join("\n"))
}

fn keys<'a>(out: &mut dyn Write, rows: impl IntoIterator<Item = &'a Command>) -> io::Result<()> {
    for row in rows {
        let keys: Vec<String> = row.keys.iter().map(ToString::to_string).collect();
        let keys = keys.join(", ").replace('\\', "\\e").replace('-', "\\-");
        writeln!(out, ".TP\n\\fB{keys}\\fR\n{}: {}", row.name, row.help)?;
    }
    Ok(())
}

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
    writeln!(out, ".SH EXAMPLES")?;
    examples(out, &command)?;
    man.render_description_section(out)?;
    man.render_options_section(out)?;
    writeln!(out, ".SH COMMANDS")?;
    for subcommand in command.get_subcommands().filter(|sub| sub.get_name() != "help") {
        let about = subcommand.get_about().map(ToString::to_string).unwrap_or_default();
        writeln!(out, ".SS fondaco {}", subcommand.get_name().replace('-', "\\-"))?;
        // how it is used comes first
        examples(out, subcommand)?;
        writeln!(out, "{about}")?;
        for argument in
            subcommand.get_arguments().filter(|a| a.get_id() != "help" && a.get_id() != "state")
        {
            let Some(help) = argument.get_help() else { continue };
            let name = match argument.get_long() {
                Some(long) => format!("\\-\\-{}", long.replace('-', "\\-")),
                None => argument.get_id().to_string().to_uppercase(),
            };
            writeln!(out, ".br\n\\fI{name}\\fR: {help}")?;
        }
    }
    writeln!(out, ".SH KEYS\nIn the application, where they apply:")?;
    keys(out, OF_ALL_STATIONS.iter().chain(WAYS))?;
    for station in Station::ALL {
        let commands = station.room().commands();
        if !commands.is_empty() {
            writeln!(out, ".SS {}", station.name())?;
            keys(out, commands)?;
        }
    }
    writeln!(out, ".SH EXIT STATUS\n{EXIT_CODES}")
}
