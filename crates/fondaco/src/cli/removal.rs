//! What plans, removes and gives back, and its arguments.

use std::path::PathBuf;

use clap::Args;

use super::{Form, Walk, words};

/// The arguments of `fondaco plan`.
#[derive(Debug, Args)]
pub struct Plan {
    /// Rule file to try on PATH
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// Do what a rule over its limit would do, if it is just so many entries
    #[arg(long, value_name = "N", requires = "rules")]
    pub confirm: Option<u64>,
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
    /// Plan to move this below the directory of --to, with the whole path that it has now; may be given several times
    #[arg(long = "move", value_name = "PATH", requires = "to")]
    pub move_paths: Vec<PathBuf>,
    /// Where --move goes: on another volume it is copied, compared, and only then removed here
    #[arg(long, value_name = "DIR", requires = "move_paths")]
    pub to: Option<PathBuf>,
    /// Plan to ask this process to end, so that the deleted files it holds are freed; may be given
    /// several times, and must be where several hold a file
    #[arg(long, value_name = "PID", conflicts_with = "kill")]
    pub end: Vec<u32>,
    /// As --end, but at once and without asking
    #[arg(long, value_name = "PID")]
    pub kill: Vec<u32>,
    /// Plan to cut the deleted file behind this descriptor to nothing; its contents are lost
    #[arg(long, value_name = "PID:FD", value_parser = words::descriptor)]
    pub cut: Vec<(u32, u32)>,
    /// Plan to save the deleted file behind this descriptor as FILE, then to cut it to nothing
    #[arg(long, value_name = "PID:FD=FILE", value_parser = words::saved_descriptor)]
    pub save_and_cut: Vec<((u32, u32), PathBuf)>,
    /// Plan the directories too that all this empties: below PATH, or as far up as nothing is left
    #[arg(long)]
    pub clear_emptied: bool,
    /// Where archives go, unless a rule says otherwise
    #[arg(long, value_name = "DIR")]
    pub depot: Option<PathBuf>,
    /// Let this depot or holding area be removed, which is protected otherwise; what it holds cannot be put back then
    #[arg(long, value_name = "DIR")]
    pub give_up: Vec<PathBuf>,
    /// Write the plan to this file
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Replace an older plan of that name
    #[arg(long, requires = "output")]
    pub force: bool,
    /// List every action, however many there are
    #[arg(long)]
    pub all: bool,
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

/// The arguments of `fondaco carry-out`.
#[derive(Debug, Args)]
pub struct CarryOut {
    /// The plan's file
    pub plan: PathBuf,
    /// Run all checks and change nothing
    #[arg(long)]
    pub rehearse: bool,
    /// List every action, however many there are
    #[arg(long)]
    pub all: bool,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
}

/// The arguments of `fondaco journal`.
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
    /// Remove for good what rules have set aside and held for as long as they say
    #[arg(long, conflicts_with = "run")]
    pub purge_due: bool,
    /// List every action, however many there are
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco put-back`.
#[derive(Debug, Args)]
pub struct PutBack {
    /// The run, as `fondaco journal` numbers it
    pub run: i64,
    /// Only these actions; all of the run if none is given
    pub actions: Vec<u32>,
    /// List every action, however many there are
    #[arg(long)]
    pub all: bool,
    /// Write JSON for programs
    #[arg(long)]
    pub json: bool,
}
