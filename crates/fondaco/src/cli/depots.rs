//! What is asked of depots, and its arguments.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use fondaco_core::units::Bytes;

use super::Form;

/// The arguments of `fondaco depots`.
#[derive(Debug, Args)]
pub struct Depots {
    /// What to do; depots and their archives are listed if nothing is said
    #[command(subcommand)]
    pub act: Option<DepotsAct>,
    #[command(flatten)]
    pub form: Form,
}

/// What can be done with depots.
#[derive(Debug, Subcommand)]
pub enum DepotsAct {
    /// Say whether depots can be used: free space, rights, and a sample written, read back and removed
    Check {
        /// Only these; all that are known if none is given
        #[arg(value_name = "DEPOT")]
        depots: Vec<PathBuf>,
    },
    /// List what an archive holds
    Show {
        /// Path of the archive, as `fondaco depots` lists it
        #[arg(value_name = "ARCHIVE")]
        archive: PathBuf,
        #[command(flatten)]
        form: Form,
    },
    /// Read archives back and compare them with their indexes and checksums
    Verify {
        /// Archives, or depots with all archives in them; all that are known if none is given
        #[arg(value_name = "ARCHIVE|DEPOT")]
        archives: Vec<PathBuf>,
        /// Read no more than so much, other archives on another day
        #[arg(long, value_name = "SIZE", value_parser = Bytes::parse)]
        at_most: Option<Bytes>,
    },
    /// Restore what an archive holds into another place, also where the journal is lost
    Restore {
        /// Path of the archive; its index must lie beside it
        #[arg(value_name = "ARCHIVE")]
        archive: PathBuf,
        /// Directory that it goes to, under the names that it had
        #[arg(long, value_name = "DIR")]
        to: PathBuf,
        /// Only what was archived from these places, as `fondaco depots show` lists them; all if none is given
        #[arg(value_name = "PATH")]
        originals: Vec<PathBuf>,
    },
}
