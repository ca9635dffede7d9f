//! What can happen to the model, and what it can ask to be done.

use std::fmt::Debug;
use std::path::PathBuf;
use std::sync::{Arc, RwLock};
use std::time::Duration;

use fondaco_core::analysis::{AgeBy, Block, Evidence};
use fondaco_core::carry_out::{Figures, Rehearsal, RunSummary, Settled};
use fondaco_core::catalog::{Catalog, EntryId, Selection};
use fondaco_core::history::Outlook;
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::peek::Peek;
use fondaco_core::plan::{Choice, Deed, Draft, Refusal, Survey};
use fondaco_core::scan::Progress;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use fondaco_core::volume::Volume;

use super::commands::{Command, Key};
use super::export::{Done, Export};
use super::model::{Model, SavedRow};
use super::names::{NameAnswer, NameQuestion};
use super::questions::{Answer, Asked};
use super::surveyed::Surveyed;
use crate::failure::Failure;
use crate::station::Station;

/// What a job or a question of a station's own has come to.
pub trait News: Debug + Send {
    /// Takes it into the model.
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job>;
}

/// A job of a station's own; it works on a thread of its own.
pub trait Work: Debug + Send {
    /// Does the work, and gives what it has come to.
    fn run(self: Box<Self>) -> Box<dyn News>;

    /// As [`Work::run`], and tells how far it is on the way.
    fn run_telling(self: Box<Self>, _tell: &mut dyn FnMut(Box<dyn News>)) -> Box<dyn News> {
        self.run()
    }
}

/// Something that happened.
#[derive(Debug)]
pub enum Message {
    /// A key was pressed.
    Key(Key),
    /// Text was pasted.
    Paste(String),
    /// A command was chosen with the mouse.
    Command(&'static Command),
    /// A station of the route was clicked.
    GoTo(Station),
    /// A cell of the matrix was clicked: row and column.
    ClickCell(usize, usize),
    /// An area of the map was clicked.
    ClickEntry {
        /// Of which entry.
        id: EntryId,
        /// For the second time in short order.
        double: bool,
    },
    /// A row of the list was clicked.
    Click {
        /// Row of the list, from 0.
        row: usize,
        /// For the second time in short order.
        double: bool,
    },
    /// The wheel was turned; lines, negative upwards.
    Wheel(i32),
    /// The terminal has a new size.
    Resize(u16, u16),
    /// Time has passed.
    Tick(Time),
    /// The volumes have been asked.
    Volumes {
        /// The volumes that are mounted.
        volumes: Vec<Volume>,
        /// Where each is going, in the same order; nothing without a history.
        outlooks: Vec<Outlook>,
        /// Deleted files that processes hold.
        held: DeletedFiles,
        /// Mounts that are interfaces of the kernel, and not listed.
        interfaces: usize,
    },
    /// A scan has begun.
    ScanBegun {
        /// Tells the scan from earlier ones.
        number: u64,
        /// Its result, to be read while it grows.
        catalog: Arc<RwLock<Catalog>>,
    },
    /// A scan could not begin.
    ScanRefused {
        /// Tells the scan from earlier ones.
        number: u64,
        /// Why it could not begin.
        reason: Failure,
    },
    /// How far a scan is.
    ScanProgress {
        /// Tells the scan from earlier ones.
        number: u64,
        /// How far the scan is.
        progress: Progress,
        /// It has ended.
        done: bool,
    },
    /// How far a second look at a part of the scan is.
    MendProgress {
        /// Of which scan.
        number: u64,
        /// How far the scan is.
        progress: Progress,
    },
    /// The scan has been mended, or not.
    Mended {
        /// Tells the scan from earlier ones.
        number: u64,
        /// As it is now.
        outcome: Result<Box<Catalog>, Failure>,
    },
    /// The scan has been saved, or not.
    ScanSaved(Result<u64, Failure>),
    /// The saved scans, oldest first; those that cannot be read say why.
    SavedScans(Result<Vec<SavedRow>, Failure>),
    /// A saved scan has been opened, or not.
    Opened {
        /// The scan that was at hand when it was asked for.
        number: u64,
        /// What it holds.
        outcome: Result<Box<Catalog>, Failure>,
    },
    /// A planned thing has been looked at closely.
    Surveyed {
        /// Path of what was looked at.
        path: PathBuf,
        /// What was found.
        outcome: Box<Result<Survey, Refusal>>,
    },
    /// What is known about an entry.
    Evidence {
        /// Of which scan.
        number: u64,
        /// Entry that was asked about.
        id: EntryId,
        /// What is known about it.
        evidence: Box<Evidence>,
    },
    /// A question about the scan has been answered.
    Answered {
        /// About which scan.
        scan: u64,
        /// What sort of question it was.
        sort: &'static str,
        /// The number of the question among those of its kind.
        number: u64,
        /// What is said.
        answer: Answer,
        /// How long that took.
        took: Duration,
    },
    /// Many files that are to be planned have been looked at closely.
    SurveyedMany {
        /// Of which scan.
        scan: u64,
        /// What is to be done with them.
        deed: Deed,
        /// What was found; nothing if they are not as many as were listed.
        surveyed: Option<Box<Surveyed>>,
    },
    /// An export has been written, or not.
    Exported(Box<Result<Done, Failure>>),
    /// A file has been looked into, or not.
    Peeked {
        /// Path of what was looked into.
        path: PathBuf,
        /// What is in it.
        outcome: Box<Result<Peek, Failure>>,
    },
    /// A place for a copy of a held file has been looked at.
    Place {
        /// Of which file, by device and inode.
        inode: (u64, u64),
        /// Path of the file that is to be made.
        to: PathBuf,
        /// The plan has the file already.
        changes: bool,
        /// The device that it would lie on, or why it cannot.
        outcome: Result<u64, Failure>,
    },
    /// How far a rehearsal is.
    RehearsalProgress(Figures),
    /// How far a run is, and what its volumes say.
    RunProgress(Figures, Option<i64>),
    /// A rehearsal has ended.
    Rehearsed(Result<Rehearsal, Failure>),
    /// A run has ended.
    CarriedOut(Box<Result<RunSummary, Failure>>),
    /// Runs that had been cut off have been settled.
    Settled(Result<Vec<Settled>, Failure>),
    /// A setting has been kept, or not.
    Saved(Result<(), Failure>),
    /// A question about accounts has been answered.
    Named {
        /// What was asked.
        question: NameQuestion,
        /// What accounts there are.
        answer: NameAnswer,
    },
    /// What a job of a station's own has come to.
    News(Box<dyn News>),
}

impl Message {
    /// Whether somebody has done something at the terminal.
    pub fn is_of_user(&self) -> bool {
        use Message::{Click, ClickCell, ClickEntry, Command, GoTo, Key, Paste, Wheel};
        matches!(
            self,
            Key(_)
                | Paste(_)
                | Command(_)
                | GoTo(_)
                | Click { .. }
                | ClickCell(..)
                | ClickEntry { .. }
                | Wheel(_)
        )
    }
}

/// Files of a directory that are to be planned together.
#[derive(Debug)]
pub struct ManyFiles {
    /// Of which scan.
    pub scan: u64,
    /// The scan that they were listed from.
    pub catalog: Arc<RwLock<Catalog>>,
    /// What the lens chooses of it.
    pub selection: Option<Arc<Selection>>,
    /// Below this directory.
    pub at: EntryId,
    /// The time stamp that ages count from.
    pub by: AgeBy,
    /// Of these classes; all if there is none.
    pub block: Option<Block>,
    /// How many were listed when the question was put.
    pub count: u64,
    /// What is to be done with them.
    pub deed: Deed,
    /// The lens in words.
    pub lens: String,
    /// It asks when something was last read.
    pub lens_asks_for_reading: bool,
    /// Settings with the places that are protected.
    pub state: State,
}

/// Something to be done away from the screen.
#[derive(Debug)]
pub enum Job {
    /// Ask the volumes.
    LoadVolumes(State),
    /// Scan; the number tells it from earlier ones.
    Scan(u64, Vec<PathBuf>, Time),
    /// As `Scan`, of a managed store that the rule file of the state directory defines.
    ScanStore(u64, PathBuf, Time, State),
    /// End the scan.
    StopScan,
    /// Scan one directory of the catalog again.
    Rescan {
        /// Of which scan.
        number: u64,
        /// As it was.
        catalog: Arc<RwLock<Catalog>>,
        /// The directory that is scanned again.
        path: PathBuf,
        /// The moment that ages count from.
        now: Time,
    },
    /// Look again at places that have been changed.
    Reconcile {
        /// Of which scan.
        number: u64,
        /// As it was.
        catalog: Arc<RwLock<Catalog>>,
        /// Paths that have changed.
        touched: Vec<PathBuf>,
        /// The moment that ages count from.
        now: Time,
    },
    /// Keep the scan in a file.
    SaveScan(Arc<RwLock<Catalog>>, State),
    /// List the saved scans.
    LoadSaved(State),
    /// Open a saved scan.
    OpenSaved {
        /// The scan at hand.
        number: u64,
        /// The saved one.
        which: u64,
        /// Where they are.
        state: State,
    },
    /// Remove a saved scan.
    Forget(u64, State),
    /// Look at a place for a copy of a held file: whose, where to, whether the plan has it already.
    FindPlace((u64, u64), PathBuf, bool),
    /// Families and kinds of all entries are worked out before they are asked for.
    Learn(Arc<RwLock<Catalog>>),
    /// Give back what takes long to be given back.
    DropLater(Arc<dyn std::any::Any + Send + Sync>),
    /// Find out something about the scan.
    Ask(Box<Asked>),
    /// End a closer look.
    StopLook,
    /// Look into a file.
    Peek(PathBuf),
    /// Write what a station shows.
    Export(Box<Export>),
    /// Look closely at many files, to plan them.
    SurveyMany(Box<ManyFiles>),
    /// Look closely at something that was planned.
    Survey(Box<Choice>, Arc<RwLock<Catalog>>, State),
    /// Find out what is known about an entry.
    Evidence {
        /// Of which scan.
        number: u64,
        /// Entry that is asked about.
        id: EntryId,
        /// In this catalog.
        catalog: Arc<RwLock<Catalog>>,
        /// Names and protected places.
        state: State,
        /// Ages count from here.
        now: Time,
    },
    /// Run the checks of what is planned.
    Rehearse(Draft, State),
    /// Carry out what is planned.
    CarryOut(Draft, State),
    /// End the rehearsal or run.
    StopRun,
    /// Bring cut-off runs to a defined state.
    Settle(State),
    /// Carry out what a run has not begun.
    Finish(i64, State),
    /// Keep the settings.
    Save(State),
    /// Ask about accounts.
    AskNames(Vec<NameQuestion>, State),
    /// A job of a station's own.
    Work(Box<dyn Work>),
}
