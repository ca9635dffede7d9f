//! What runs without anybody looking on, and its arguments.

use std::path::PathBuf;

use clap::Args;
use fondaco_core::units::{Age, Level};

/// The arguments of `fondaco tend`.
#[derive(Debug, Args)]
pub struct Tend {
    /// What is scanned, and what the rules are tried on; the settings may say it instead
    pub paths: Vec<PathBuf>,
    /// Rule file; the one in the state directory if none is given
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// End between two actions after this time, such as 2h; what is left is told
    #[arg(long, value_name = "TIME", value_parser = Age::parse)]
    pub at_most: Option<Age>,
    /// Only look at the level, and do the rest if a volume of the paths is above this one, such as 85%
    #[arg(long, value_name = "LEVEL", value_parser = Level::parse)]
    pub when_above: Option<Level>,
    /// Stop after the rehearsal: nothing is removed
    #[arg(long)]
    pub rehearse: bool,
    /// Keep the usual priority, and do not stand back for other programs
    #[arg(long)]
    pub full_speed: bool,
    /// Write what it came to as metrics to this file, in the OpenMetrics format
    #[arg(long, value_name = "FILE")]
    pub metrics: Option<PathBuf>,
    /// Write each step as a line of JSON
    #[arg(long)]
    pub json: bool,
}

/// The arguments of `fondaco schedule`.
#[derive(Debug, Args)]
pub struct Schedule {
    /// What is tended; the settings may say it instead
    pub paths: Vec<PathBuf>,
    /// How often: hour, day, week, or when, as systemd's OnCalendar has it; nothing is changed if it is not given
    #[arg(long, value_name = "WHEN", conflicts_with = "remove")]
    pub every: Option<String>,
    /// Tend only if a volume of the paths is above this level, such as 85%: for frequent looks
    #[arg(long, value_name = "LEVEL", value_parser = Level::parse, requires = "every")]
    pub when_above: Option<Level>,
    /// Rule file; the one in the state directory if none is given
    #[arg(long, value_name = "FILE", requires = "every")]
    pub rules: Option<PathBuf>,
    /// End each run after this time, such as 2h
    #[arg(long, value_name = "TIME", value_parser = Age::parse, requires = "every")]
    pub at_most: Option<Age>,
    /// Have each run write metrics to this file
    #[arg(long, value_name = "FILE", requires = "every")]
    pub metrics: Option<PathBuf>,
    /// Remove what was written
    #[arg(long)]
    pub remove: bool,
    /// Use the crontab also where there is systemd
    #[arg(long, conflicts_with = "units")]
    pub cron: bool,
    /// Keep the units in this directory
    #[arg(long, value_name = "DIR")]
    pub units: Option<PathBuf>,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// The arguments of `fondaco log`.
#[derive(Debug, Args)]
pub struct Log {
    /// So many of the last lines
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub lines: usize,
    /// All lines since this day or moment, such as 2041-03-07 or 2041-03-07T03:00
    #[arg(long, value_name = "DAY", value_parser = super::words::moment)]
    pub since: Option<String>,
    /// Only what was refused or failed
    #[arg(long)]
    pub trouble: bool,
}
