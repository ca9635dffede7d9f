//! The command line: one definition, from which parsing, help, completions and the manual come.

mod depots;
mod history;
mod looking;
mod removal;
mod rules;
mod unattended;
mod words;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use fondaco_core::kernel::Kind;
use fondaco_core::pattern::Pattern;
use fondaco_core::scan::{Filter, Options};
use fondaco_core::units::{Bytes, Time};

pub use depots::{Depots, DepotsAct};
pub use history::{Compare, History, Now};
pub use looking::{
    Ages, Breakdown, Chart, ChartWord, Containment, CopyDeed, Directories, Duplicates, Files,
    LeftoverDeed, Leftovers, Look, Report, SameBy, Scanned,
};
pub use removal::{CarryOut, Journal, Plan, PutBack};
pub use rules::{Rules, RulesAct, RulesPast, RulesTry};
pub use unattended::{Log, Schedule, Tend};

/// Find what fills a volume, and free it safely.
///
/// Without a command the full-screen application opens: on the volumes, or with PATHs scanned.
#[derive(Debug, Parser)]
#[command(name = "fondaco", version, subcommand_precedence_over_arg = true)]
#[command(after_help = EXIT_CODES)]
#[command(before_help = "Examples:\n  fondaco\n  fondaco /srv/seamark\n  fondaco demo")]
pub struct Cli {
    /// Where Fondaco keeps its journal and settings
    #[arg(long, value_name = "DIR", global = true, env = "FONDACO_STATE", display_order = 900)]
    pub state: Option<PathBuf>,
    #[command(flatten)]
    pub screen: Screen,
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

/// How the application is drawn.
#[derive(Clone, Copy, Debug, Default, Args)]
pub struct Screen {
    /// Draw with ASCII only
    #[arg(long)]
    pub ascii: bool,
    /// Dark text on a light ground
    #[arg(long)]
    pub light: bool,
}

impl Screen {
    /// As either of them says.
    pub fn or(self, other: Self) -> Self {
        Self { ascii: self.ascii || other.ascii, light: self.light || other.light }
    }
}

impl Cli {
    /// How the application is drawn, said before the command or behind it.
    pub fn screen(&self) -> Screen {
        let of_command = match &self.command {
            Some(Command::Demo(demo)) => demo.screen,
            Some(Command::Scans(Scans { act: Some(ScansAct::Open { screen, .. }), .. })) => *screen,
            _ => Screen::default(),
        };
        self.screen.or(of_command)
    }
}

/// What the exit codes mean; shown in the help and the manual.
pub const EXIT_CODES: &str = "\
Exit codes: 0 all done; 1 failed; 2 bad usage; 3 something was refused by a guard, the rest is done; \
4 places could not be read, what is said holds for the rest; 5 another unattended run is at work.";

/// What can be done without the screen.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// List the mounted volumes, how full they are and what is missing to their waterlines
    #[command(before_help = "Examples:\n  fondaco volumes\n  fondaco volumes --json")]
    Volumes(Volumes),
    /// Explain what a volume says is in use, line by line
    #[command(before_help = "Example:\n  fondaco books /srv/seamark --open")]
    Books(Books),
    /// List deleted files that still take space because processes hold them
    #[command(before_help = "Example:\n  fondaco held /srv/seamark")]
    Held(Held),
    /// Scan directories and say what they hold
    #[command(before_help = "Example:\n  fondaco scan /srv/seamark --save")]
    Scan(Scan),
    /// Rank what lies in a directory by what it holds
    #[command(
        before_help = "Examples:\n  fondaco directories /srv/seamark --top 20\n  fondaco directories /srv/seamark --in hydrophone --order newest"
    )]
    Directories(Directories),
    /// List the largest or stalest files, over several places together
    #[command(
        before_help = "Examples:\n  fondaco files /srv/seamark --order byte-years\n  fondaco files /srv/seamark --lens 'kind:audio older:1y' --csv"
    )]
    Files(Files),
    /// Sort what is there by size and age
    #[command(before_help = "Example:\n  fondaco ages /srv/seamark --by read")]
    Ages(Ages),
    /// Sort what is there by kind, owner, family or another property
    #[command(before_help = "Example:\n  fondaco breakdown /srv/seamark --by owner")]
    Breakdown(Breakdown),
    /// Find files that hold the same bytes, and plan which of them go
    #[command(
        before_help = "Examples:\n  fondaco duplicates /srv/seamark --keep surveys/ --keep newest\n  fondaco duplicates /srv/seamark --plan set-aside -o plan.json"
    )]
    Duplicates(Duplicates),
    /// Find what nobody may need, in groups with what speaks for and against it, and plan it
    #[command(
        before_help = "Examples:\n  fondaco leftovers /srv/seamark\n  fondaco leftovers /home --group bins --group caches\n  fondaco leftovers --system\n  fondaco leftovers /home --group bins --plan usual -o plan.json"
    )]
    Leftovers(Leftovers),
    /// Find directories of which one holds much or all of what is in another
    #[command(
        before_help = "Examples:\n  fondaco containment /srv/seamark\n  fondaco containment /srv/seamark --of /srv/seamark/backups/old --in /srv/seamark/backups/new"
    )]
    Containment(Containment),
    /// Compare two moments: what grew, shrank, came, went and moved
    #[command(
        before_help = "Examples:\n  fondaco compare /srv/seamark\n  fondaco compare 3 7 --by family\n  fondaco compare /mnt/snapshot/srv /srv --in seamark"
    )]
    Compare(Compare),
    /// Tell how levels and directories moved, what grows, and when a volume is full
    #[command(
        before_help = "Examples:\n  fondaco history\n  fondaco history /srv/seamark --since 2041-01-01\n  fondaco history /srv/seamark/telemetry --csv"
    )]
    History(History),
    /// Watch who writes on a volume at this moment, by process and by directory
    #[command(before_help = "Example:\n  fondaco now /srv/seamark --for 30s")]
    Now(Now),
    /// Draw a chart as SVG or PDF
    #[command(
        before_help = "Examples:\n  fondaco chart cascade /srv/seamark -o seamark.svg\n  fondaco chart ages --saved 3 -o ages.pdf"
    )]
    Chart(Chart),
    /// Write a report of a scan as HTML or PDF: how much, what kinds, whose, how old
    #[command(before_help = "Example:\n  fondaco report /srv/seamark -o seamark.html")]
    Report(Report),
    /// List saved scans; open, export or forget one
    #[command(before_help = "Examples:\n  fondaco scans\n  fondaco scans export 3 seamark.parquet")]
    Scans(Scans),
    /// Try, check or show a rule file; nothing is changed
    #[command(
        before_help = "Examples:\n  fondaco rules try rules.toml /srv/seamark\n  fondaco rules check rules.toml"
    )]
    Rules(Rules),
    /// Make a plan from rules or by hand; nothing is changed
    #[command(
        before_help = "Examples:\n  fondaco plan --archive /srv/seamark/surveys -o plan.json\n  fondaco plan --rules rules.toml /srv/seamark -o plan.json"
    )]
    Plan(Box<Plan>),
    /// Carry out a plan, or rehearse it
    #[command(
        before_help = "Examples:\n  fondaco carry-out plan.json --rehearse\n  fondaco carry-out plan.json"
    )]
    CarryOut(CarryOut),
    /// Do what the rules say, unattended: for a timer
    #[command(
        before_help = "Examples:\n  fondaco tend /srv/seamark\n  fondaco tend --rules night.toml /srv/seamark --at-most 2h --json"
    )]
    Tend(Tend),
    /// Have a timer run `fondaco tend`; shows what is written before it is
    #[command(
        before_help = "Examples:\n  fondaco schedule --every day /srv/seamark --at-most 2h\n  fondaco schedule --every '*:0/5' --when-above 85% /srv/seamark\n  fondaco schedule --remove"
    )]
    Schedule(Schedule),
    /// Show the log: what was scanned, carried out, refused, put back
    #[command(before_help = "Examples:\n  fondaco log\n  fondaco log --since 2041-03-07 --trouble")]
    Log(Log),
    /// Show runs and what became of their actions; finish or undo one, purge what it holds
    #[command(before_help = "Examples:\n  fondaco journal\n  fondaco journal 4 --undo")]
    Journal(Journal),
    /// Put back what a run has set aside or archived
    #[command(before_help = "Example:\n  fondaco put-back 4 2 3")]
    PutBack(PutBack),
    /// List depots and the archives in them; check, verify again, restore elsewhere
    #[command(
        before_help = "Examples:\n  fondaco depots\n  fondaco depots verify --at-most 10G\n  fondaco depots restore /srv/depot/fondaco-20410307T030000-0a1b2c3d4e5f6a7b.tar.zst --to /srv/back"
    )]
    Depots(Depots),
    /// Lay out the made-up Seamark data and open the application on it
    #[command(before_help = "Example:\n  fondaco demo --at /srv/demo")]
    Demo(Demo),
    /// Write completions for a shell to standard output
    #[command(before_help = "Example:\n  fondaco completions bash")]
    Completions {
        /// The shell that they are for
        shell: clap_complete::Shell,
    },
    /// Write the manual page to standard output
    #[command(before_help = "Example:\n  fondaco manual")]
    Manual,
}

/// The arguments of `fondaco volumes`.
#[derive(Debug, Args)]
pub struct Volumes {
    /// Only keep the levels in the history, and say nothing: for a timer
    #[arg(long, conflicts_with_all = ["json", "csv"])]
    pub sample: bool,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco books`.
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

/// The arguments of `fondaco held`.
#[derive(Debug, Args)]
pub struct Held {
    /// Only those of the volume that holds this path
    pub path: Option<PathBuf>,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco scan`.
#[derive(Debug, Args)]
pub struct Scan {
    /// Directories to scan
    #[arg(required_unless_present = "saved", conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    #[command(flatten)]
    pub walk: Walk,
    /// Save the scan, to be opened again: thinned as those that are saved by themselves, or for good
    #[arg(
        long,
        conflicts_with = "saved",
        value_enum,
        value_name = "HOW",
        num_args = 0..=1,
        require_equals = true,
        default_missing_value = "thinned"
    )]
    pub save: Option<SaveWord>,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
}

/// How long a scan that is saved stays.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum SaveWord {
    /// As long as it is wanted by the days, weeks and months that the settings keep
    Thinned,
    /// Until it is forgotten by hand
    ForGood,
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

/// The arguments of `fondaco scans`.
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
        #[command(flatten)]
        screen: Screen,
    },
    /// Write a saved scan to a file that does not exist yet
    Export {
        /// Number of the scan, or its file
        #[arg(value_name = "N|FILE")]
        which: String,
        /// Where to; the ending says how: .parquet, .csv or .jsonl
        file: PathBuf,
    },
    /// Remove saved scans for good
    Forget {
        /// Numbers of the scans, as `fondaco scans` lists them
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

impl Form {
    /// Whether it is read by programs.
    pub fn is_for_programs(&self) -> bool {
        self.json || self.csv
    }
}

/// The arguments of `fondaco demo`.
#[derive(Debug, Args)]
pub struct Demo {
    #[command(flatten)]
    pub screen: Screen,
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
    /// Only be a data store for this machine, on this port or any (0), and print rules to try on it
    #[arg(long, value_name = "PORT")]
    pub store: Option<u16>,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_help_of_every_command_begins_with_examples_that_can_be_typed() {
        let whole = Cli::command();
        let commands = whole.get_subcommands().filter(|command| command.get_name() != "help");
        for command in commands.chain([&whole]) {
            let help = command.get_before_help().map(ToString::to_string).unwrap_or_default();
            assert!(help.starts_with("Example"), "{}: {help}", command.get_name());
            let examples: Vec<&str> = help.lines().skip(1).map(str::trim).collect();
            assert!(!examples.is_empty(), "{}", command.get_name());
            for example in examples {
                // quotes hold words together, as in a shell
                let words = example.split('\'').enumerate().flat_map(|(number, part)| {
                    let whole = if number % 2 == 1 { vec![part] } else { Vec::new() };
                    let split = part.split_whitespace().filter(move |_| number % 2 == 0);
                    whole.into_iter().chain(split)
                });
                let parsed = Cli::try_parse_from(words);
                assert!(parsed.is_ok(), "{example}: {}", parsed.unwrap_err());
            }
        }
    }
}
