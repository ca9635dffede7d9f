//! What can happen to the model, and what it can ask to be done.

use std::path::PathBuf;
use std::sync::{Arc, RwLock};
use std::time::Duration;

use fondaco_core::analysis::{AgeBy, Block, Evidence};
use fondaco_core::books::Books;
use fondaco_core::carry_out::{
    EntryRecord, Figures, Rehearsal, Returned, RunRecord, RunSummary, Settled,
};
use fondaco_core::catalog::{Catalog, EntryId, Selection};
use fondaco_core::history::Outlook;
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::peek::Peek;
use fondaco_core::plan::{Deed, Plan, Refusal, Survey};
use fondaco_core::scan::Progress;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use fondaco_core::volume::Volume;

use super::command_table::{Command, Key};
use super::export::{Done, Export};
use super::look_job::{Answer, Question};
use super::model::SavedRow;

/// Something that happened.
#[derive(Debug)]
pub enum Message {
    /// A key was pressed.
    Key(Key),
    /// Text was pasted.
    Paste(String),
    /// A command was chosen with the mouse.
    Command(Command),
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
        /// Which.
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
        /// Which there are.
        volumes: Vec<Volume>,
        /// Where each is going, in the same order; nothing without a history.
        outlooks: Vec<Outlook>,
        /// Deleted files that processes hold.
        held: DeletedFiles,
        /// Mounts that are interfaces of the kernel, and not listed.
        interfaces: usize,
    },
    /// The books of a volume have been drawn up, or not.
    Books {
        /// Which request this answers.
        number: u64,
        /// What they say.
        outcome: Box<Result<Books, String>>,
    },
    /// A scan has begun.
    ScanBegun {
        /// Which.
        number: u64,
        /// Its result, to be read while it grows.
        catalog: Arc<RwLock<Catalog>>,
    },
    /// A scan could not begin.
    ScanRefused {
        /// Which.
        number: u64,
        /// Why.
        reason: String,
    },
    /// How far a scan is.
    ScanProgress {
        /// Which.
        number: u64,
        /// How far.
        progress: Progress,
        /// It has ended.
        done: bool,
    },
    /// How far a second look at a part of the scan is.
    MendProgress {
        /// Of which scan.
        number: u64,
        /// How far.
        progress: Progress,
    },
    /// The scan has been mended, or not.
    Mended {
        /// Which.
        number: u64,
        /// As it is now.
        outcome: Result<Box<Catalog>, String>,
    },
    /// The scan has been saved, or not.
    ScanSaved(Result<u64, String>),
    /// The saved scans, oldest first; those that cannot be read say why.
    SavedScans(Result<Vec<SavedRow>, String>),
    /// A saved scan has been opened, or not.
    Opened {
        /// The scan that was at hand when it was asked for.
        number: u64,
        /// What it holds.
        outcome: Result<Box<Catalog>, String>,
    },
    /// A planned thing has been looked at closely.
    Surveyed {
        /// Which.
        path: PathBuf,
        /// What was found.
        outcome: Box<Result<Survey, Refusal>>,
    },
    /// What is known about an entry.
    Evidence {
        /// Of which scan.
        number: u64,
        /// Which entry.
        id: EntryId,
        /// What.
        evidence: Box<Evidence>,
    },
    /// A question about the scan has been answered.
    Answered {
        /// About which scan.
        scan: u64,
        /// Which question of its sort.
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
        /// Why.
        reason: String,
        /// Each with what was found; nothing if they are not as many as were listed.
        surveyed: Option<Vec<(PathBuf, Result<Survey, Refusal>)>>,
    },
    /// An export has been written, or not.
    Exported(Box<Result<Done, String>>),
    /// A file has been looked into, or not.
    Peeked {
        /// Which.
        path: PathBuf,
        /// What is in it.
        outcome: Box<Result<Peek, String>>,
    },
    /// A place for a copy of a held file has been looked at.
    Place {
        /// Of which file, by device and inode.
        inode: (u64, u64),
        /// Where to.
        to: PathBuf,
        /// The plan has the file already.
        changes: bool,
        /// The device that it would lie on, or why it cannot.
        outcome: Result<u64, String>,
    },
    /// How far a rehearsal is.
    RehearsalProgress(Figures),
    /// How far a run is, and what its volumes say.
    RunProgress(Figures, Option<i64>),
    /// A rehearsal has ended.
    Rehearsed(Result<Rehearsal, String>),
    /// A run has ended.
    CarriedOut(Box<Result<RunSummary, String>>),
    /// The journal has been read.
    Journal(Result<Vec<RunRecord>, String>),
    /// A run of the journal has been read.
    JournalRun {
        /// Which.
        run: i64,
        /// Its actions.
        entries: Result<Vec<EntryRecord>, String>,
    },
    /// Something has been put back or purged.
    Returned {
        /// Which: "put back" or "purged".
        what: &'static str,
        /// What became of it.
        outcome: Box<Result<Returned, String>>,
    },
    /// Runs that had been cut off have been settled.
    Settled(Result<Vec<Settled>, String>),
    /// A setting has been kept, or not.
    Saved(Result<(), String>),
}

impl Message {
    /// Whether somebody has done something at the terminal.
    pub fn is_of_user(&self) -> bool {
        use Message::{Click, ClickCell, ClickEntry, Command, Key, Paste, Wheel};
        matches!(
            self,
            Key(_)
                | Paste(_)
                | Command(_)
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
    /// The scan.
    pub catalog: Arc<RwLock<Catalog>>,
    /// What the lens chooses of it.
    pub selection: Option<Arc<Selection>>,
    /// Below this directory.
    pub at: EntryId,
    /// Which time counts as age.
    pub by: AgeBy,
    /// Of these classes; all if there is none.
    pub block: Option<Block>,
    /// So many were listed when it was asked what is to be done.
    pub count: u64,
    /// What is to be done with them.
    pub deed: Deed,
    /// The lens in words.
    pub lens: String,
    /// Protected places.
    pub state: State,
}

/// Something to be done away from the screen.
#[derive(Debug)]
pub enum Job {
    /// Ask the volumes.
    LoadVolumes(State),
    /// Draw up the books of a volume, with the scan of it if there is one.
    Books {
        /// Tells this request from earlier ones.
        number: u64,
        /// Of which.
        volume: Box<Volume>,
        /// The scan of it, if there is one.
        catalog: Option<Arc<RwLock<Catalog>>>,
        /// Simulated volumes.
        state: State,
    },
    /// Scan; the number tells it from earlier ones.
    Scan(u64, Vec<PathBuf>, Time),
    /// End the scan.
    StopScan,
    /// Scan one directory of the catalog again.
    Rescan {
        /// Of which scan.
        number: u64,
        /// As it was.
        catalog: Arc<RwLock<Catalog>>,
        /// Which directory.
        path: PathBuf,
        /// The clock.
        now: Time,
    },
    /// Look again at places that have been changed.
    Reconcile {
        /// Of which scan.
        number: u64,
        /// As it was.
        catalog: Arc<RwLock<Catalog>>,
        /// Where.
        touched: Vec<PathBuf>,
        /// The clock.
        now: Time,
    },
    /// Keep the scan in a file.
    SaveScan(Arc<RwLock<Catalog>>, State),
    /// List the saved scans.
    LoadSaved(State),
    /// Open one.
    OpenSaved {
        /// The scan at hand.
        number: u64,
        /// The saved one.
        which: u64,
        /// Where they are.
        state: State,
    },
    /// Forget one.
    Forget(u64, State),
    /// Look at a place for a copy of a held file: whose, where to, whether the plan has it already.
    FindPlace((u64, u64), PathBuf, bool),
    /// Families and kinds of all entries are worked out before they are asked for.
    Learn(Arc<RwLock<Catalog>>),
    /// Give back what takes long to be given back.
    LetGo(Arc<dyn std::any::Any + Send + Sync>),
    /// Find out something about the scan.
    Ask(Box<Question>),
    /// End a closer look.
    StopLook,
    /// Look into a file.
    Peek(PathBuf),
    /// Write what a station shows.
    Export(Box<Export>),
    /// Look closely at many files, to plan them.
    SurveyMany(Box<ManyFiles>),
    /// Look closely at something that was planned.
    Survey(PathBuf, State),
    /// Find out what is known about an entry.
    Evidence {
        /// Of which scan.
        number: u64,
        /// Which entry.
        id: EntryId,
        /// In this catalog.
        catalog: Arc<RwLock<Catalog>>,
        /// Names and protected places.
        state: State,
        /// Ages count from here.
        now: Time,
    },
    /// Run a plan's checks.
    Rehearse(Plan, State),
    /// Carry out a plan.
    CarryOut(Plan, State),
    /// End the rehearsal or run.
    StopRun,
    /// Read the journal.
    LoadJournal(State),
    /// Read one run's actions.
    LoadRun(i64, State),
    /// Put back.
    PutBack(i64, Option<Vec<u32>>, State),
    /// Purge.
    Purge(i64, State),
    /// Bring cut-off runs to a defined state.
    Settle(State),
    /// Carry out what a run has not begun.
    Finish(i64, State),
    /// Keep the settings.
    Save(State),
}
