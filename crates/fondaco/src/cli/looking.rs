//! What looks at a scan, and its arguments.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use fondaco_core::analysis::{AgeBy, BreakdownBy, FileOrder};
use fondaco_core::catalog::Order;
use fondaco_core::units::Level;

use super::{Form, Walk, words};

/// The arguments of `fondaco directories`.
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
    #[arg(long, default_value = "allocated", value_parser = words::one_of(&Order::ALL))]
    pub order: Order,
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

/// What is scanned, or opened, and what is shown of it.
#[derive(Debug, Args)]
pub struct Scanned {
    /// Directories to scan
    // that there is one is asked for in `Looked::of`: a report may be of something else
    #[arg(conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
}

/// The arguments of `fondaco files`.
#[derive(Debug, Args)]
pub struct Files {
    /// What to list by: bytes on disk, age, or both multiplied
    #[arg(long, default_value = "allocated", value_parser = words::one_of(&FileOrder::ALL))]
    pub order: FileOrder,
    /// Which time says how old a file is
    #[arg(long, default_value = "written", value_parser = words::one_of(&AgeBy::ALL))]
    pub by: AgeBy,
    /// List so many files
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub top: usize,
    #[command(flatten)]
    pub scanned: Scanned,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco duplicates`.
#[derive(Debug, Args)]
pub struct Duplicates {
    /// Which copy stays: a pattern over paths, or newest, oldest, shortest or deepest; may be given several times, the
    /// first that tells copies apart decides
    #[arg(long, value_name = "PATTERN|WORD")]
    pub keep: Vec<String>,
    /// What files have in common: their contents, or their names, with equal and different contents apart
    #[arg(long, value_enum, default_value_t = SameBy::Content)]
    pub by: SameBy,
    /// Tell so many sets, those first that take most
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub top: usize,
    /// Read everything anew, whatever is known from before
    #[arg(long)]
    pub fresh: bool,
    /// Plan this for all copies but the one of each set that stays
    #[arg(long, value_name = "ACTION", requires = "output", value_enum)]
    pub plan: Option<CopyDeed>,
    /// Where --plan move puts them
    #[arg(long, value_name = "DIR", requires = "plan")]
    pub to: Option<PathBuf>,
    /// List every planned action, however many there are
    #[arg(long, requires = "plan")]
    pub all: bool,
    /// Plan the directories too that this empties
    #[arg(long, requires = "plan")]
    pub clear_emptied: bool,
    /// Write the plan to this file
    #[arg(short, long, value_name = "FILE", requires = "plan")]
    pub output: Option<PathBuf>,
    /// Replace an older plan of that name
    #[arg(long, requires = "output")]
    pub force: bool,
    #[command(flatten)]
    pub scanned: Scanned,
    #[command(flatten)]
    pub form: Form,
}

/// What files have in common.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SameBy {
    /// The same bytes, whatever their names.
    Content,
    /// The same name. Only what holds the same bytes too is ever planned.
    Name,
}

/// The arguments of `fondaco leftovers`.
#[derive(Debug, Args)]
pub struct Leftovers {
    /// Directories to scan
    #[arg(conflicts_with = "saved", value_name = "PATH")]
    pub paths: Vec<PathBuf>,
    /// Tell what belongs to this machine too: packages, kernels; without PATH the places where such things lie are
    /// scanned
    #[arg(long)]
    pub system: bool,
    /// Only these groups, such as bins, caches or broken-links, or all; may be given several times
    #[arg(long, value_name = "GROUP")]
    pub group: Vec<String>,
    /// List the leftovers of every group
    #[arg(long)]
    pub items: bool,
    /// List so many of each group
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub top: usize,
    /// Plan all that can go of these groups: with what is usual for each, or one action for all
    #[arg(long, value_name = "ACTION", requires = "output", value_enum)]
    pub plan: Option<LeftoverDeed>,
    /// Where --plan move puts them
    #[arg(long, value_name = "DIR", requires = "plan")]
    pub to: Option<PathBuf>,
    /// List every planned action, however many there are
    #[arg(long, requires = "plan")]
    pub all: bool,
    /// Write the plan to this file
    #[arg(short, long, value_name = "FILE", requires = "plan")]
    pub output: Option<PathBuf>,
    /// Replace an older plan of that name
    #[arg(long, requires = "output")]
    pub force: bool,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
    #[command(flatten)]
    pub form: Form,
}

/// What can be planned for leftovers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum LeftoverDeed {
    /// What is usual for the group: deleted if it makes itself again, else set aside.
    Usual,
    /// They are removed for good.
    Delete,
    /// They are moved into the holding area.
    SetAside,
    /// They are archived.
    Archive,
    /// They are moved below the directory of --to.
    Move,
    /// What lies in bins goes back to where it was.
    Restore,
}

/// What can be planned for copies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum CopyDeed {
    /// They are removed for good.
    Delete,
    /// They are moved into the holding area.
    SetAside,
    /// They are archived.
    Archive,
    /// They are moved below the directory of --to.
    Move,
    /// Each becomes another name of the one that stays.
    Link,
    /// Each gets the blocks of the one that stays (btrfs, XFS).
    Share,
}

/// The arguments of `fondaco containment`.
#[derive(Debug, Args)]
pub struct Containment {
    /// Tell pairs of which so much of the one is in the other
    #[arg(long, value_name = "SHARE", default_value = "50 %", value_parser = Level::parse)]
    pub least: Level,
    /// Tell so many pairs, those first that free most
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub top: usize,
    /// List what of this directory is not in that of --in
    #[arg(long, value_name = "TREE", requires = "within")]
    pub of: Option<PathBuf>,
    /// The directory that --of is compared with
    #[arg(long = "in", value_name = "TREE", requires = "of")]
    pub within: Option<PathBuf>,
    /// Read everything anew, whatever is known from before
    #[arg(long)]
    pub fresh: bool,
    #[command(flatten)]
    pub scanned: Scanned,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco ages`.
#[derive(Debug, Args)]
pub struct Ages {
    /// Which time says how old an entry is
    #[arg(long, default_value = "written", value_parser = words::one_of(&AgeBy::ALL))]
    pub by: AgeBy,
    /// Where classes of size end, smallest first, such as 64k,1M,1G; else those of the settings
    #[arg(long, value_name = "SIZE", value_delimiter = ',')]
    pub sizes: Vec<String>,
    /// Where classes of age end, newest first, such as 30d,1y; else those of the settings
    #[arg(long, value_name = "AGE", value_delimiter = ',')]
    pub ages: Vec<String>,
    #[command(flatten)]
    pub scanned: Scanned,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco breakdown`.
#[derive(Debug, Args)]
pub struct Breakdown {
    /// By which property
    #[arg(long, default_value = "kind", value_parser = words::one_of(&BreakdownBy::ALL))]
    pub by: BreakdownBy,
    /// Show only the first N; the rest is summed
    #[arg(long, value_name = "N", default_value_t = 40)]
    pub top: usize,
    /// Read the beginning of files whose ending tells nothing, and sort them by their contents
    #[arg(long, conflicts_with = "saved")]
    pub content: bool,
    #[command(flatten)]
    pub scanned: Scanned,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco chart`.
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
    #[arg(long, default_value = "kind", value_parser = words::one_of(&BreakdownBy::ALL))]
    pub by: BreakdownBy,
    /// Which time counts as age
    #[arg(long, default_value = "written", value_parser = words::one_of(&AgeBy::ALL))]
    pub time: AgeBy,
    /// Draw the first N; the rest is summed
    #[arg(long, value_name = "N", default_value_t = 24)]
    pub top: usize,
    /// Light on ink, for screens; without it dark on white, for paper
    #[arg(long)]
    pub screen: bool,
    /// Width and height in points; the height grows if there is more to show
    #[arg(long, value_name = "WIDTHxHEIGHT", default_value = "842x595", value_parser = words::points)]
    pub size: (f64, f64),
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub walk: Walk,
}

/// A chart, as it is typed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum ChartWord {
    Cascade,
    Map,
    Ages,
    Breakdown,
    /// Which trees are contained in which: files that could be equal are read
    Duplicates,
    /// The level of a volume over time: nothing is scanned
    Tide,
    Volumes,
}

/// The arguments of `fondaco report`.
#[derive(Debug, Args)]
pub struct Report {
    /// Where to; the ending says how: .html or .pdf, of an unattended run .html or .txt
    #[arg(short, long, value_name = "FILE", required_unless_present = "run")]
    pub output: Option<PathBuf>,
    /// What the unattended run of this number came to, or the last one; printed if no file is given
    #[arg(long, value_name = "N|last", conflicts_with_all = ["duplicates", "since", "top", "title", "paths", "saved"])]
    pub run: Option<String>,
    /// What stands above it
    #[arg(long, value_name = "TEXT", default_value = "What is on this storage")]
    pub title: String,
    /// Read what could be equal too, and draw which trees are contained in which
    #[arg(long)]
    pub duplicates: bool,
    /// Tell what changed since then too, and how the level moved: a kept scan by its number, the file of one, or a directory
    #[arg(long, value_name = "N|FILE|DIR")]
    pub since: Option<String>,
    /// List so many files
    #[arg(long, value_name = "N", default_value_t = 40)]
    pub top: usize,
    #[command(flatten)]
    pub scanned: Scanned,
}
