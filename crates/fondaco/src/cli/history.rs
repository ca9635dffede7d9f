//! What looks at how things changed, and its arguments.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use fondaco_core::analysis::BreakdownBy;
use fondaco_core::units::{Age, Time};

use super::{Form, Look, words};

/// The arguments of `fondaco compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// The earlier moment: a kept scan by its number, the file of one, or a directory, such as a mounted snapshot. A directory
    /// alone is compared with the last kept scan of it
    #[arg(value_name = "BEFORE")]
    pub before: String,
    /// The later moment, in the same forms; without it BEFORE is compared with its place as it is now
    #[arg(value_name = "AFTER")]
    pub after: Option<String>,
    /// What changed by directory, or by a property
    #[arg(long, value_enum, default_value_t = CompareBy::Directory)]
    pub by: CompareBy,
    /// Look at this directory below both
    #[arg(long = "in", value_name = "SUBPATH")]
    pub below: Option<PathBuf>,
    /// Show only the first N; the rest is summed
    #[arg(long, value_name = "N", default_value_t = 40)]
    pub top: usize,
    /// Draw it instead of listing it; the ending says how: .svg or .pdf
    #[arg(short, long, value_name = "FILE", conflicts_with_all = ["json", "csv", "columns"])]
    pub output: Option<PathBuf>,
    /// Compare lengths instead of bytes on disk: for sides on different file systems
    #[arg(long)]
    pub apparent: bool,
    #[command(flatten)]
    pub look: Look,
    #[command(flatten)]
    pub form: Form,
}

/// What a comparison is told by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
#[allow(missing_docs)] // each is its own word
pub enum CompareBy {
    #[default]
    Directory,
    Kind,
    Owner,
    Group,
    Family,
    Extension,
}

impl CompareBy {
    /// The property; nothing for directories.
    pub fn property(self) -> Option<BreakdownBy> {
        match self {
            Self::Directory => None,
            Self::Kind => Some(BreakdownBy::Kind),
            Self::Owner => Some(BreakdownBy::Owner),
            Self::Group => Some(BreakdownBy::Group),
            Self::Family => Some(BreakdownBy::Family),
            Self::Extension => Some(BreakdownBy::Extension),
        }
    }
}

/// The arguments of `fondaco history`.
#[derive(Debug, Args)]
pub struct History {
    /// A directory or volume; without it all volumes are told in a line each
    pub path: Option<PathBuf>,
    /// Since this day or moment, in UTC; else of the last three months
    #[arg(long, value_name = "DAY", value_parser = words::time)]
    pub since: Option<Time>,
    #[command(flatten)]
    pub form: Form,
}

/// The arguments of `fondaco now`.
#[derive(Debug, Args)]
pub struct Now {
    /// A directory; what lies on its volume below it is watched
    pub path: PathBuf,
    /// Watch for so long, such as 30s or 2min
    #[arg(long = "for", value_name = "TIME", default_value = "5s", value_parser = Age::parse)]
    pub how_long: Age,
    /// Tell so many processes and directories, the fastest first
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub top: usize,
    #[command(flatten)]
    pub form: Form,
}
