//! The command `rules`.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::{Form, Walk};

/// The arguments of `fondaco rules`.
#[derive(Debug, Args)]
pub struct Rules {
    #[command(subcommand)]
    pub act: RulesAct,
}

/// What is done with a rule file.
#[derive(Debug, Subcommand)]
pub enum RulesAct {
    /// Say what each rule would take, why, and what keeps the rest; nothing is changed
    #[command(
        before_help = "Examples:\n  fondaco rules try rules.toml /srv/seamark\n  fondaco rules try rules.toml --saved 3 --csv"
    )]
    Try(RulesTry),
    /// Say what the rules would have done on each day of which a scan is kept; nothing is changed
    #[command(
        before_help = "Examples:\n  fondaco rules past rules.toml /srv/seamark\n  fondaco rules past rules.toml /srv/seamark -o past.svg"
    )]
    Past(RulesPast),
    /// Read a rule file and say what is wrong with it
    #[command(before_help = "Example:\n  fondaco rules check rules.toml")]
    Check {
        /// The rule file; the one in the state directory if none is said
        #[arg(value_name = "FILE")]
        file: Option<PathBuf>,
    },
    /// Write the JSON Schema of rule files, for editors
    #[command(before_help = "Example:\n  fondaco rules schema > rules.schema.json")]
    Schema,
    /// Say in words what each rule of a file does
    #[command(before_help = "Example:\n  fondaco rules show rules.toml")]
    Show {
        /// The rule file; the one in the state directory if none is said
        #[arg(value_name = "FILE")]
        file: Option<PathBuf>,
        /// Write JSON for programs
        #[arg(long)]
        json: bool,
    },
}

/// The arguments of `fondaco rules try`.
#[derive(Debug, Args)]
pub struct RulesTry {
    /// The rule file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Directories to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// List all entries, and not just the first of each rule
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    pub walk: Walk,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco rules past`.
#[derive(Debug, Args)]
pub struct RulesPast {
    /// The rule file
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// The directory whose kept scans are taken
    #[arg(value_name = "PATH")]
    pub path: PathBuf,
    /// Only the last so many days
    #[arg(long, value_name = "N", default_value_t = 60)]
    pub days: usize,
    /// Draw the levels as a chart, in a new file that ends in .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub form: Form,
}
