//! The command line: one definition, from which parsing, help, completions and the manual come.

mod looking;
mod removal;
mod words;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use fondaco_core::kernel::Kind;
use fondaco_core::pattern::Pattern;
use fondaco_core::scan::{Filter, Options};
use fondaco_core::units::{Bytes, Time};

pub use looking::{Ages, Breakdown, Chart, ChartWord, Directories, Files, Look, Report, Scanned};
pub use removal::{CarryOut, Journal, Plan, PutBack};

/// Find what fills a volume, and free it safely.
///
/// Without a command the full-screen application opens: on the volumes, or with PATHs scanned.
#[derive(Debug, Parser)]
#[command(name = "fondaco", version, subcommand_precedence_over_arg = true)]
#[command(after_help = EXIT_CODES)]
pub struct Cli {
    /// Where Fondaco keeps its journal and settings
    #[arg(long, value_name = "DIR", global = true, env = "FONDACO_STATE")]
    pub state: Option<PathBuf>,
    /// Draw with ASCII only
    #[arg(long, global = true)]
    pub ascii: bool,
    /// Dark text on a light ground
    #[arg(long, global = true)]
    pub light: bool,
    /// What to do; the application opens if nothing is said
    #[command(subcommand)]
    pub command: Option<Command>,
    /// Open a saved scan in the application, by its number or file
    #[arg(long, value_name = "N|FILE", conflicts_with = "paths")]
    pub saved: Option<String>,
    /// Directories to scan in the application
    #[arg(value_name = "PATH")]
    pub paths: Vec<PathBuf>,
}

/// What the exit codes mean; shown in the help and the manual.
pub const EXIT_CODES: &str = "\
Exit codes: 0 all done; 1 failed; 2 bad usage; 3 something was refused by a guard, the rest is done.";

/// What can be done without the screen.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// List the mounted volumes, how full they are and what is missing to their waterlines
    Volumes(Volumes),
    /// Explain what a volume says is in use, line by line
    Books(Books),
    /// List deleted files that still take space because processes hold them
    Held(Held),
    /// Scan directories and say what they hold
    Scan(Scan),
    /// Rank what lies in a directory by what it holds
    Directories(Directories),
    /// List the largest or stalest files, over several places together
    Files(Files),
    /// Sort what is there by size and age
    Ages(Ages),
    /// Sort what is there by kind, owner, family or another property
    Breakdown(Breakdown),
    /// Draw a chart as SVG or PDF
    Chart(Chart),
    /// Write a report of a scan as HTML or PDF: how much, what kinds, whose, how old
    Report(Report),
    /// List saved scans; open, export or forget one
    Scans(Scans),
    /// Make a plan from rules or by hand; nothing is changed
    Plan(Plan),
    /// Carry out a plan, or rehearse it
    CarryOut(CarryOut),
    /// Show runs and what became of their actions; finish or undo one, purge what it holds
    Journal(Journal),
    /// Put back what a run has set aside or archived
    PutBack(PutBack),
    /// Lay out the made-up Seamark data and open the application on it
    Demo(Demo),
    /// Write completions for a shell to standard output
    Completions {
        /// Which shell
        shell: clap_complete::Shell,
    },
    /// Write the manual page to standard output
    Manual,
}

/// `volumes`
#[derive(Debug, Args)]
pub struct Volumes {
    /// Only keep the levels in the history, and say nothing: for a timer
    #[arg(long, conflicts_with_all = ["json", "csv"])]
    pub sample: bool,
    #[command(flatten)]
    pub form: Form,
}

/// `books`
#[derive(Debug, Args)]
pub struct Books {
    /// Any path on the volume; the whole volume is scanned
    pub path: PathBuf,
    /// Show what is behind each line
    #[arg(long)]
    pub open: bool,
    /// Take a saved scan of the volume, by its number or file
    #[arg(long, value_name = "N|FILE")]
    pub saved: Option<String>,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
}

/// `held`
#[derive(Debug, Args)]
pub struct Held {
    /// Only those of the volume that holds this path
    pub path: Option<PathBuf>,
    #[command(flatten)]
    pub form: Form,
}

/// `scan`
#[derive(Debug, Args)]
pub struct Scan {
    /// Directories to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    #[command(flatten)]
    pub walk: Walk,
    /// Save the scan, to be opened again
    #[arg(long, conflicts_with = "saved")]
    pub save: bool,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
}

/// How to scan. What is kept out is counted and told in one line.
#[derive(Debug, Default, Args)]
pub struct Walk {
    /// Enter other volumes mounted below
    #[arg(long)]
    pub cross_volumes: bool,
    /// List only what matches, such as `*.wav` or `hydrophone/**`; may be given several times
    #[arg(long, value_name = "PATTERN", value_parser = words::pattern)]
    pub include: Vec<Pattern>,
    /// Do not list what matches, nor what lies in it; may be given several times
    #[arg(long, value_name = "PATTERN", value_parser = words::pattern)]
    pub exclude: Vec<Pattern>,
    /// List only these kinds, and the directories they lie in; may be given several times
    #[arg(long, value_name = "KIND", value_parser = words::one_of(&KINDS))]
    pub kind: Vec<Kind>,
    /// List only what has so many bytes on disk or more, such as `10M`
    #[arg(long, value_name = "SIZE", value_parser = Bytes::parse)]
    pub larger: Option<Bytes>,
    /// List only what has fewer bytes on disk than this
    #[arg(long, value_name = "SIZE", value_parser = Bytes::parse)]
    pub smaller: Option<Bytes>,
    /// Take a saved scan, by its number or file, and scan nothing
    #[arg(long, value_name = "N|FILE", conflicts_with_all = [
        "cross_volumes", "include", "exclude", "kind", "larger", "smaller",
    ])]
    pub saved: Option<String>,
}

/// The kinds that can be asked for: directories are listed in any case.
const KINDS: [Kind; 3] = [Kind::File, Kind::Link, Kind::Special];

impl Walk {
    /// What it says, as a scan takes it.
    pub fn options(&self, now: Time) -> Options {
        let filter = Filter {
            include: self.include.clone(),
            exclude: self.exclude.clone(),
            kinds: self.kind.clone(),
            larger: self.larger,
            smaller: self.smaller,
        };
        Options { cross_volumes: self.cross_volumes, filter, ..Options::new(now) }
    }
}

/// `scans`
#[derive(Debug, Args)]
pub struct Scans {
    /// What to do; they are listed if nothing is said
    #[command(subcommand)]
    pub act: Option<ScansAct>,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
}

/// What can be done with a saved scan.
#[derive(Debug, Subcommand)]
pub enum ScansAct {
    /// Open it in the application
    Open {
        /// Its number or file
        #[arg(value_name = "N|FILE")]
        which: String,
    },
    /// Write it to a file that does not exist yet
    Export {
        /// Its number or file
        #[arg(value_name = "N|FILE")]
        which: String,
        /// Where to; the ending says how: .parquet, .csv or .jsonl
        file: PathBuf,
    },
    /// Remove it
    Forget {
        /// Their numbers
        #[arg(required = true)]
        numbers: Vec<u64>,
    },
}

/// How a table is written.
#[derive(Debug, Default, Args)]
pub struct Form {
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
    /// Write CSV for spreadsheets
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
    /// Write only these columns, in this order, such as path,allocated
    #[arg(long, value_name = "COLUMN", value_delimiter = ',')]
    pub columns: Vec<String>,
}

/// `demo`
#[derive(Debug, Args)]
pub struct Demo {
    /// Only be the demo's process that holds this file after deleting it
    #[arg(long, hide = true, value_name = "FILE")]
    pub hold: Option<PathBuf>,
    /// Lay it out in this directory, which must be new, empty or a demo's
    #[arg(long, value_name = "DIR")]
    pub at: Option<PathBuf>,
    /// Lay it out anew
    #[arg(long)]
    pub reset: bool,
    /// Only lay it out and say where; do not open the application
    #[arg(long)]
    pub lay_out: bool,
}
