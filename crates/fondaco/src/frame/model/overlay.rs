//! What stands in front of a station: questions, choices and lists.

use std::fmt::Debug;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fondaco_core::archive::is_store;
use fondaco_core::plan::Deed;
use fondaco_core::units::Bytes;

use super::{Model, SavedRow};
use crate::failure::Failure;
use crate::frame::Field;
use crate::frame::message::Job;

/// Something of a station's own that waits for a typed answer.
pub trait TypedAnswer: Debug + Send + Sync {
    /// What the answer sets off, or why it is none.
    fn take(&self, model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure>;
}

/// What a typed answer is for.
#[derive(Clone, Debug)]
pub enum Asking {
    /// Carry out the plan: the number of its actions.
    CarryOut,
    /// Leave although something is planned or running: the word `quit`.
    Quit,
    /// A path to scan.
    Path,
    /// Where an export goes.
    Export,
    /// A waterline for this mount point.
    Waterline(PathBuf),
    /// A new file that a held file is saved as: device and inode, whether the plan has it already.
    SaveHeld((u64, u64), bool),
    /// Something of a station's own.
    Own(Arc<dyn TypedAnswer>),
}

/// What stands in front of the station.
#[derive(Clone, Debug)]
pub enum Overlay {
    /// What is to be done with a path; the place of the selected deed.
    ChooseDeed {
        /// Path of what is to be planned.
        path: PathBuf,
        /// Display form of its name.
        name: String,
        /// What can be done, the safest first.
        deeds: Vec<Deed>,
        /// Of a deleted file that is held: device and inode.
        held: Option<(u64, u64)>,
        /// What it would free.
        bytes: Bytes,
        /// Index of the selected deed.
        cursor: usize,
        /// It is on the plan already, and is changed.
        changes: bool,
    },
    /// What is to be done with many files.
    ChooseForMany {
        /// How many files are meant.
        count: u64,
        /// What they are, as in "all 12 files of them".
        named: String,
        /// Their bytes on disk.
        bytes: Bytes,
        /// What can be done, the safest first.
        deeds: Vec<Deed>,
        /// Index of the selected deed.
        cursor: usize,
    },
    /// A word or number that must be typed.
    Ask {
        /// What is done once it is answered.
        asking: Asking,
        /// One sentence that says what will happen.
        sentence: String,
        /// The only right answer, if there is one.
        wanted: Option<String>,
        /// What has been typed.
        typed: Field,
        /// What was wrong with the last answer.
        error: Option<String>,
        /// Answers that were given before, and can be chosen with the arrows.
        offers: Vec<String>,
    },
    /// The saved scans.
    Saved {
        /// Newest first; nothing while they are looked for.
        rows: Option<Vec<SavedRow>>,
        /// The selected one.
        cursor: usize,
        /// The scan that is forgotten if that is asked for once more.
        forgets: Option<u64>,
    },
    /// All commands, filtered by what has been typed.
    Palette {
        /// What has been typed.
        typed: String,
        /// The selected one.
        cursor: usize,
    },
    /// Lines behind something: what the scan could not read, what a line of the books is made of.
    Listing {
        /// What they are.
        title: String,
        /// One for each.
        lines: Vec<String>,
        /// First line shown.
        offset: usize,
    },
    /// What works here.
    Help {
        /// First line shown.
        offset: usize,
    },
}

/// What can be done with a path, the safest first: an object of a store can only be removed.
pub fn deeds_for(path: &Path, depot: &Path) -> Vec<Deed> {
    if is_store(path) { vec![Deed::RemoveObject] } else { deeds(depot) }
}

/// What can be done with files and directories, in the order in which it is offered: the safest first.
pub fn deeds(depot: &Path) -> Vec<Deed> {
    let archive = Deed::Archive { depot: depot.to_owned() };
    // where something is moved to is asked for when that is chosen
    let other_place = Deed::Move { to: PathBuf::new(), same_volume: false };
    vec![Deed::SetAside, archive, other_place, Deed::Delete]
}

/// What can be done with a deleted file that is held: what loses least first. Where it is saved is asked
/// for when that is chosen. Its holders are killed only if they have been asked to end in vain.
pub fn held_deeds(asked_in_vain: bool) -> Vec<Deed> {
    let mut deeds = vec![
        Deed::End { by_force: false },
        Deed::Save { to: PathBuf::new(), same_volume: false },
        Deed::Cut,
    ];
    deeds.extend(asked_in_vain.then_some(Deed::End { by_force: true }));
    deeds
}
