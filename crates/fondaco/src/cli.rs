//! The command line: one definition, from which parsing, help, completions and the manual come.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use fondaco_core::analysis::{AgeBy, BreakdownBy, FileOrder};
use fondaco_core::catalog::Order;
use fondaco_core::kernel::Kind;
use fondaco_core::pattern::{Pattern, PatternError};
use fondaco_core::scan::{Filter, Options};
use fondaco_core::units::{Bytes, Time};

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
    #[arg(long, value_name = "PATTERN", value_parser = pattern)]
    pub include: Vec<Pattern>,
    /// Do not list what matches, nor what lies in it; may be given several times
    #[arg(long, value_name = "PATTERN", value_parser = pattern)]
    pub exclude: Vec<Pattern>,
    /// List only these kinds, and the directories they lie in; may be given several times
    #[arg(long, value_enum, value_name = "KIND")]
    pub kind: Vec<KindWord>,
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

fn pattern(text: &str) -> Result<Pattern, PatternError> {
    Pattern::parse(text)
}

impl Walk {
    /// What it says, as a scan takes it.
    pub fn options(&self, now: Time) -> Options {
        let filter = Filter {
            include: self.include.clone(),
            exclude: self.exclude.clone(),
            kinds: self.kind.iter().map(|kind| (*kind).into()).collect(),
            larger: self.larger,
            smaller: self.smaller,
        };
        Options { cross_volumes: self.cross_volumes, filter, ..Options::new(now) }
    }
}

/// A kind, as it is typed.
#[derive(Clone, Copy, Debug, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum KindWord {
    File,
    Link,
    Special,
}

impl From<KindWord> for Kind {
    fn from(word: KindWord) -> Self {
        match word {
            KindWord::File => Self::File,
            KindWord::Link => Self::Link,
            KindWord::Special => Self::Special,
        }
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

/// `directories`
#[derive(Debug, Args)]
pub struct Directories {
    /// Directory to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved")]
    pub path: Option<PathBuf>,
    /// Rank what lies in this directory below PATH
    #[arg(long = "in", value_name = "SUBPATH")]
    pub below: Option<PathBuf>,
    /// Show only the first N; the rest is summed
    #[arg(long, value_name = "N")]
    pub top: Option<usize>,
    /// What to rank by
    #[arg(long, value_enum, default_value_t = OrderWord::Allocated)]
    pub order: OrderWord,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
    #[command(flatten)]
    pub form: Form,
}

/// What is shown of a scan.
#[derive(Debug, Default, Args)]
pub struct Look {
    /// Show only what passes, such as "kind:audio older:1y not owner:root"
    #[arg(long, value_name = "LENS")]
    pub lens: Option<String>,
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

/// An order, as it is typed.
#[derive(Clone, Copy, Debug, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum OrderWord {
    Allocated,
    Apparent,
    Entries,
    Newest,
    Name,
}

impl From<OrderWord> for Order {
    fn from(word: OrderWord) -> Self {
        match word {
            OrderWord::Allocated => Self::Allocated,
            OrderWord::Apparent => Self::Apparent,
            OrderWord::Entries => Self::Entries,
            OrderWord::Newest => Self::Newest,
            OrderWord::Name => Self::Name,
        }
    }
}

/// `files`
#[derive(Debug, Args)]
pub struct Files {
    /// Directories to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// What to list by: bytes on disk, age, or both multiplied
    #[arg(long, value_enum, default_value_t = FileOrderWord::Allocated)]
    pub order: FileOrderWord,
    /// Which time says how old a file is
    #[arg(long, value_enum, default_value_t = AgeByWord::Written)]
    pub by: AgeByWord,
    /// How many
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub top: usize,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
    #[command(flatten)]
    pub form: Form,
}

/// `ages`
#[derive(Debug, Args)]
pub struct Ages {
    /// Directories to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// Which time says how old an entry is
    #[arg(long, value_enum, default_value_t = AgeByWord::Written)]
    pub by: AgeByWord,
    /// Where classes of size end, smallest first, such as 64k,1M,1G
    #[arg(long, value_name = "SIZE", value_delimiter = ',')]
    pub sizes: Vec<String>,
    /// Where classes of age end, newest first, such as 30d,1y
    #[arg(long, value_name = "AGE", value_delimiter = ',')]
    pub ages: Vec<String>,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
    #[command(flatten)]
    pub form: Form,
}

/// `breakdown`
#[derive(Debug, Args)]
pub struct Breakdown {
    /// Directories to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// By which property
    #[arg(long, value_enum, default_value_t = BreakdownWord::Kind)]
    pub by: BreakdownWord,
    /// Show only the first N; the rest is summed
    #[arg(long, value_name = "N", default_value_t = 40)]
    pub top: usize,
    /// Read the beginning of files whose ending tells nothing, and sort them by their contents
    #[arg(long, conflicts_with = "saved")]
    pub content: bool,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
    #[command(flatten)]
    pub form: Form,
}

/// A property, as it is typed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum BreakdownWord {
    Kind,
    Extension,
    Owner,
    Group,
    Family,
    Depth,
    NameLength,
    Attribute,
}

impl From<BreakdownWord> for BreakdownBy {
    fn from(word: BreakdownWord) -> Self {
        match word {
            BreakdownWord::Kind => Self::Kind,
            BreakdownWord::Extension => Self::Extension,
            BreakdownWord::Owner => Self::Owner,
            BreakdownWord::Group => Self::Group,
            BreakdownWord::Family => Self::Family,
            BreakdownWord::Depth => Self::Depth,
            BreakdownWord::NameLength => Self::NameLength,
            BreakdownWord::Attribute => Self::Attribute,
        }
    }
}

/// `chart`
#[derive(Debug, Args)]
pub struct Chart {
    /// What is drawn
    #[arg(value_enum)]
    pub what: ChartWord,
    /// Directories to scan; for volumes none
    #[arg(conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// Where to; the ending says how: .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// Draw this directory below PATH
    #[arg(long = "in", value_name = "SUBPATH")]
    pub below: Option<PathBuf>,
    /// Break down by this property
    #[arg(long, value_enum, default_value_t = BreakdownWord::Kind)]
    pub by: BreakdownWord,
    /// Which time counts as age
    #[arg(long, value_enum, default_value_t = AgeByWord::Written)]
    pub time: AgeByWord,
    /// Draw the first N; the rest is summed
    #[arg(long, value_name = "N", default_value_t = 24)]
    pub top: usize,
    /// Light on ink, for screens; without it dark on white, for paper
    #[arg(long)]
    pub screen: bool,
    /// Width and height in points; the height grows if there is more to show
    #[arg(long, value_name = "WIDTHxHEIGHT", default_value = "842x595", value_parser = points)]
    pub size: (f64, f64),
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
}

fn points(text: &str) -> Result<(f64, f64), String> {
    let parts = text.split_once('x').and_then(|(w, h)| Some((w.parse().ok()?, h.parse().ok()?)));
    let usable = |(w, h): &(f64, f64)| (300.0..=5000.0).contains(w) && (200.0..=5000.0).contains(h);
    parts
        .filter(usable)
        .ok_or_else(|| "expected points such as 842x595, at least 300x200".to_owned())
}

/// A chart, as it is typed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum ChartWord {
    Cascade,
    Map,
    Ages,
    Breakdown,
    Volumes,
}

/// `report`
#[derive(Debug, Args)]
pub struct Report {
    /// Directories to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// Where to; the ending says how: .html or .pdf
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
    /// What stands above it
    #[arg(long, value_name = "TEXT", default_value = "What is on this storage")]
    pub title: String,
    /// List so many files
    #[arg(long, value_name = "N", default_value_t = 40)]
    pub top: usize,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
}

/// An order of files, as it is typed.
#[derive(Clone, Copy, Debug, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum FileOrderWord {
    Allocated,
    Age,
    ByteYears,
}

impl From<FileOrderWord> for FileOrder {
    fn from(word: FileOrderWord) -> Self {
        match word {
            FileOrderWord::Allocated => Self::Allocated,
            FileOrderWord::Age => Self::Age,
            FileOrderWord::ByteYears => Self::ByteYears,
        }
    }
}

/// A time, as it is typed.
#[derive(Clone, Copy, Debug, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum AgeByWord {
    Written,
    Read,
    Changed,
    Born,
}

impl From<AgeByWord> for AgeBy {
    fn from(word: AgeByWord) -> Self {
        match word {
            AgeByWord::Written => Self::Written,
            AgeByWord::Read => Self::Read,
            AgeByWord::Changed => Self::Changed,
            AgeByWord::Born => Self::Born,
        }
    }
}

/// `plan`
#[derive(Debug, Args)]
pub struct Plan {
    /// Rule file to try on PATH
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// Directory that the rules are tried on
    #[arg(requires = "rules", conflicts_with = "saved")]
    pub path: Option<PathBuf>,
    /// Plan to delete this; may be given several times
    #[arg(long, value_name = "PATH")]
    pub delete: Vec<PathBuf>,
    /// Plan to set this aside; may be given several times
    #[arg(long, value_name = "PATH")]
    pub set_aside: Vec<PathBuf>,
    /// Plan to archive this; may be given several times
    #[arg(long, value_name = "PATH")]
    pub archive: Vec<PathBuf>,
    /// Plan to ask this process to end, so that the deleted files it holds are freed; may be given
    /// several times, and must be where several hold a file
    #[arg(long, value_name = "PID", conflicts_with = "kill")]
    pub end: Vec<u32>,
    /// As --end, but at once and without asking
    #[arg(long, value_name = "PID")]
    pub kill: Vec<u32>,
    /// Plan to cut the deleted file behind this descriptor to nothing; its contents are lost
    #[arg(long, value_name = "PID:FD", value_parser = descriptor)]
    pub cut: Vec<(u32, u32)>,
    /// Plan to save the deleted file behind this descriptor as FILE, then to cut it to nothing
    #[arg(long, value_name = "PID:FD=FILE", value_parser = saved_descriptor)]
    pub save_and_cut: Vec<((u32, u32), PathBuf)>,
    /// Where archives go, unless a rule says otherwise
    #[arg(long, value_name = "DIR")]
    pub depot: Option<PathBuf>,
    /// Write the plan to this file
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub walk: Walk,
    /// Write the plan itself to standard output
    #[arg(long)]
    pub json: bool,
    /// Write the table of its actions as CSV
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
    /// Only these columns of it, in this order
    #[arg(long, value_name = "COLUMN", value_delimiter = ',', requires = "csv")]
    pub columns: Vec<String>,
}

fn descriptor(text: &str) -> Result<(u32, u32), String> {
    let numbers =
        text.split_once(':').and_then(|(pid, fd)| Some((pid.parse().ok()?, fd.parse().ok()?)));
    numbers.ok_or_else(|| "expected a process and its descriptor, such as 2464:3".to_owned())
}

fn saved_descriptor(text: &str) -> Result<((u32, u32), PathBuf), String> {
    let (which, file) =
        text.split_once('=').ok_or("expected PID:FD=FILE, such as 2464:3=/srv/depot/log")?;
    Ok((descriptor(which)?, PathBuf::from(file)))
}

/// `carry-out`
#[derive(Debug, Args)]
pub struct CarryOut {
    /// The plan's file
    pub plan: PathBuf,
    /// Run all checks and change nothing
    #[arg(long)]
    pub rehearse: bool,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
}

/// `journal`
#[derive(Debug, Args)]
pub struct Journal {
    /// Show the actions of this run
    pub run: Option<i64>,
    /// Carry out what the run has not begun, with all its checks
    #[arg(long, requires = "run", group = "act")]
    pub finish: bool,
    /// Put back all that the run has taken away and that can be put back
    #[arg(long, requires = "run", group = "act")]
    pub undo: bool,
    /// Remove for good what the run has set aside
    #[arg(long, requires = "run", group = "act")]
    pub purge: bool,
    #[command(flatten)]
    pub form: Form,
}

/// `put-back`
#[derive(Debug, Args)]
pub struct PutBack {
    /// The run, as `fondaco journal` numbers it
    pub run: i64,
    /// Only these actions; all of the run if none is given
    pub actions: Vec<u32>,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
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
