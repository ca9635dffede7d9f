//! All that the application knows, and questions that can be asked of it. Nothing here acts.

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use fondaco_core::analysis::{Evidence, Slice};
use fondaco_core::books::Books;
use fondaco_core::carry_out::{EntryRecord, EntryState, Figures, Rehearsal, RunRecord, RunSummary};
use fondaco_core::catalog::{AgeProfile, Catalog, EntryId, Order, Tail};
use fondaco_core::history::Outlook;
use fondaco_core::kernel::{DeletedFile, DeletedFiles, Kind};
use fondaco_core::plan::{Deed, Draft, Planned, Review};
use fondaco_core::saved::About;
use fondaco_core::scan::Progress;
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, UnitStyle};
use fondaco_core::volume::{Class, Volume};

use super::looking::{Looking, Manner};
use crate::app::Field;

/// A stop on the route of the work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)] // each is its own word
pub enum Station {
    Volumes,
    Directories,
    Ages,
    Breakdown,
    Duplicates,
    Leftovers,
    Rules,
    Plan,
    Journal,
    History,
}

impl Station {
    /// In the order of the route.
    pub const ALL: [Self; 10] = [
        Self::Volumes,
        Self::Directories,
        Self::Ages,
        Self::Breakdown,
        Self::Duplicates,
        Self::Leftovers,
        Self::Rules,
        Self::Plan,
        Self::Journal,
        Self::History,
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Volumes => "Volumes",
            Self::Directories => "Directories",
            Self::Ages => "Ages",
            Self::Breakdown => "Breakdown",
            Self::Duplicates => "Duplicates",
            Self::Leftovers => "Leftovers",
            Self::Rules => "Rules",
            Self::Plan => "Plan",
            Self::Journal => "Journal",
            Self::History => "History",
        }
    }

    /// The digit that goes there.
    pub fn digit(self) -> char {
        match self {
            Self::History => '0',
            other => {
                let place = Self::ALL.iter().position(|s| *s == other).unwrap_or(0);
                char::from_digit(place as u32 + 1, 10).unwrap_or('1')
            }
        }
    }

    /// Of a station that this version does not have yet: what it will be.
    pub fn will_be(self) -> Option<&'static str> {
        match self {
            Self::Duplicates => Some("same contents, and which tree is contained in which"),
            Self::Rules => Some(
                "rules edited and tried on screen; today: fondaco plan --rules FILE PATH -o plan.json",
            ),
            Self::History => Some("how levels moved, and when the volume will be full"),
            _ => None,
        }
    }
}

/// Where keys go on the station at hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Focus {
    /// The station's own panel.
    Panel,
    /// The trail of ancestors above it.
    Trail,
    /// The books below the volumes.
    Books,
    /// The files below the matrix.
    List,
}

/// How grave a notice is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// Something was done.
    Plain,
    /// Something went wrong.
    Trouble,
}

/// One line about what just happened.
#[derive(Clone, Debug)]
pub struct Notice {
    /// What.
    pub text: String,
    /// How grave.
    pub tone: Tone,
}

/// One row of the cascade, ready to be drawn.
#[derive(Clone, Debug)]
pub struct EntryRow {
    /// Which entry.
    pub id: EntryId,
    /// Display form of its name, with a slash if it is a directory.
    pub name: String,
    /// Bytes on disk.
    pub allocated: Bytes,
    /// Length.
    pub apparent: Bytes,
    /// Names in it.
    pub entries: u64,
    /// Newest writing in it.
    pub newest: Time,
    /// Bytes by age.
    pub profile: AgeProfile,
    /// What it is.
    pub kind: Kind,
    /// Not wholly read, or another volume: the size is not all.
    pub incomplete: bool,
    /// The deed planned for it, or for what holds it.
    pub planned: Option<char>,
}

/// What is selected in the cascade.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Selected {
    /// One of its rows.
    Entry(EntryId),
    /// The last row, which stands for all that do not fit.
    Tail,
}

/// The Directories station.
#[derive(Clone, Debug, Default)]
pub struct Directories {
    /// The directory that is shown.
    pub at: Option<EntryId>,
    /// Its path.
    pub path: PathBuf,
    /// The one above it, if the scan has it.
    pub parent: Option<EntryId>,
    /// Bytes on disk of what is shown of it.
    pub whole: Bytes,
    /// Entries that are shown of it.
    pub entries: u64,
    /// The same of all there is in it, whatever the lens.
    pub all: (Bytes, u64),
    /// Its entries in order, as many as are listed one by one.
    pub ids: Vec<EntryId>,
    /// Those of them that are on the screen, from `offset` on.
    pub rows: Vec<EntryRow>,
    /// Bytes on disk of those above the screen: where its first stair begins.
    pub above: Bytes,
    /// What is not listed one by one.
    pub tail: Tail,
    /// The tail has been opened: all entries are rows, and the panel scrolls.
    pub tail_open: bool,
    /// What the rows are ordered by.
    pub order: Order,
    /// The selected row.
    pub selected: Option<Selected>,
    /// The user has chosen it: it is kept while rankings move.
    pub chosen: bool,
    /// The first row that is drawn.
    pub offset: usize,
    /// What was selected in directories that were left.
    pub remembered: HashMap<EntryId, EntryId>,
    /// The ancestor that is selected in the trail, counted from the top.
    pub trail: usize,
    /// What has been typed to find a name.
    pub typed: Option<String>,
    /// Where to go as soon as the scan has met it.
    pub wanted: Option<(PathBuf, Option<PathBuf>)>,
}

impl Directories {
    /// The selected entry, if it is one and not the tail.
    pub fn selected_entry(&self) -> Option<EntryId> {
        match self.selected {
            Some(Selected::Entry(id)) => Some(id),
            _ => None,
        }
    }

    /// The selected row.
    pub fn selected_row(&self) -> Option<&EntryRow> {
        let id = self.selected_entry()?;
        self.rows.iter().find(|row| row.id == id)
    }

    /// Whether Enter does anything.
    pub fn can_enter(&self) -> bool {
        match self.selected {
            Some(Selected::Tail) => true,
            _ => self.selected_row().is_some_and(|row| row.kind == Kind::Directory),
        }
    }

    /// Place of the selected row; the tail comes after the last.
    pub fn cursor(&self) -> Option<usize> {
        match self.selected? {
            Selected::Tail => Some(self.ids.len()),
            Selected::Entry(id) => self.ids.iter().position(|listed| *listed == id),
        }
    }

    /// Rows, the tail included.
    pub fn length(&self) -> usize {
        self.ids.len() + usize::from(self.tail.children > 0)
    }
}

/// The scan at hand, or the last one.
#[derive(Clone, Debug, Default)]
pub struct ScanState {
    /// Counts scans: what an earlier one still says is not believed.
    pub number: u64,
    /// What it scans.
    pub roots: Vec<PathBuf>,
    /// Its result so far.
    pub catalog: Option<Arc<RwLock<Catalog>>>,
    /// How far it is.
    pub progress: Progress,
    /// It goes on.
    pub running: bool,
    /// It went to its end.
    pub complete: bool,
    /// When it ended; of a saved one, when it was scanned.
    pub ended: Option<Time>,
    /// It was saved and opened again.
    pub saved: bool,
    /// A part of it is looked at again.
    pub mending: Option<Mending>,
}

/// A second look at a part of a scan.
#[derive(Clone, Debug, Default)]
pub struct Mending {
    /// Which directory; nothing if it is places that were changed.
    pub path: Option<PathBuf>,
    /// How far.
    pub progress: Progress,
}

/// A saved scan as it is listed.
#[derive(Clone, Debug)]
pub struct SavedRow {
    /// Its number.
    pub number: u64,
    /// What it says of itself, or why it cannot be read.
    pub about: Result<About, String>,
}

impl ScanState {
    /// Whether it goes on.
    pub fn is_running(&self) -> bool {
        self.running
    }

    /// Whether it, or a second look at a part of it, can be stopped.
    pub fn can_stop(&self) -> bool {
        self.running || self.mending.as_ref().is_some_and(|mending| mending.path.is_some())
    }
}

/// The books of a volume, below the list of volumes.
#[derive(Clone, Debug, Default)]
pub struct BooksState {
    /// Which volume they are of, or are being drawn up of.
    pub of: Option<PathBuf>,
    /// Counts requests: of two that overlap, the later one is believed, whichever ends first.
    pub number: u64,
    /// They are being drawn up.
    pub running: bool,
    /// What came of it.
    pub outcome: Option<Result<Books, String>>,
    /// The selected line.
    pub cursor: usize,
}

impl BooksState {
    /// The books of a volume, if they have been drawn up.
    pub fn of_volume(&self, mount_point: &Path) -> Option<&Books> {
        let books = self.outcome.as_ref()?.as_ref().ok()?;
        (books.mount_point == mount_point).then_some(books)
    }
}

/// What the Plan station is doing.
#[derive(Clone, Debug, Default)]
pub enum RunStage {
    /// Nothing.
    #[default]
    Idle,
    /// Checks are run.
    Rehearsing(Figures),
    /// The plan is carried out; the bytes that its volumes say are less in use.
    Running(Figures, Option<i64>),
    /// Something is put back or purged.
    Returning(&'static str),
}

/// The run at hand, and what the last ones came to.
#[derive(Clone, Debug, Default)]
pub struct Run {
    /// What is going on.
    pub stage: RunStage,
    /// The last rehearsal of the draft as it stands.
    pub rehearsal: Option<Rehearsal>,
    /// What the last run came to.
    pub summary: Option<RunSummary>,
    /// What runs is the draft, which is emptied when it is done.
    pub of_draft: bool,
    /// A stop has been asked for.
    pub stopping: bool,
    /// A rehearsal has been asked for while targets were still being looked at.
    pub rehearse_when_ready: bool,
}

impl Run {
    /// Whether anything is going on.
    pub fn is_active(&self) -> bool {
        !matches!(self.stage, RunStage::Idle)
    }

    /// Whether it can be stopped.
    pub fn can_stop(&self) -> bool {
        !self.stopping && matches!(self.stage, RunStage::Rehearsing(_) | RunStage::Running(..))
    }
}

/// A run of the journal that has been opened.
#[derive(Clone, Debug)]
pub struct OpenRun {
    /// Its actions.
    pub entries: Vec<EntryRecord>,
    /// The selected one.
    pub cursor: usize,
    /// Numbers of those that are marked.
    pub marked: BTreeSet<u32>,
}

/// The Journal station.
#[derive(Clone, Debug, Default)]
pub struct JournalStation {
    /// Runs, newest first.
    pub runs: Vec<RunRecord>,
    /// It has been read.
    pub loaded: bool,
    /// The selected run.
    pub cursor: usize,
    /// Its actions, if it is open.
    pub open: Option<OpenRun>,
}

/// What a typed answer is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Asking {
    /// Carry out the plan: the number of its actions.
    CarryOut,
    /// Purge a run's held entries: their number.
    Purge(i64),
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
}

/// What stands in front of the station.
#[derive(Clone, Debug)]
pub enum Overlay {
    /// What is to be done with a path; the place of the selected deed.
    ChooseDeed {
        /// With what.
        path: PathBuf,
        /// Display form of its name.
        name: String,
        /// What can be done, the safest first.
        deeds: Vec<Deed>,
        /// Of a deleted file that is held: device and inode.
        held: Option<(u64, u64)>,
        /// What it would free.
        bytes: Bytes,
        /// Which deed is selected.
        cursor: usize,
        /// It is on the plan already, and is changed.
        changes: bool,
    },
    /// What is to be done with many files.
    ChooseForMany {
        /// How many.
        count: u64,
        /// Their bytes on disk.
        bytes: Bytes,
        /// What can be done, the safest first.
        deeds: Vec<Deed>,
        /// Which deed is selected.
        cursor: usize,
    },
    /// A word or number that must be typed.
    Ask {
        /// What for.
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

/// The deeds in the order in which they are offered: the safest first.
pub fn deeds(depot: &Path) -> Vec<Deed> {
    vec![Deed::SetAside, Deed::Archive { depot: depot.to_owned() }, Deed::Delete]
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

/// See the [module](self).
#[derive(Debug)]
pub struct Model {
    /// The state directory and its settings.
    pub state: State,
    /// The clock, as last told.
    pub now: Time,
    /// The terminal's columns and rows.
    pub size: (u16, u16),
    /// Where on the route.
    pub station: Station,
    /// Stations that were left, for stepping back.
    pub before: VecDeque<Station>,
    /// Where keys go.
    pub focus: Focus,
    /// How sizes are written.
    pub units: UnitStyle,
    /// The mounted volumes.
    pub volumes: Vec<Volume>,
    /// Mounts that are interfaces of the kernel, and not listed.
    pub interfaces: usize,
    /// They have been asked.
    pub volumes_loaded: bool,
    /// When they were asked last.
    pub volumes_asked: Time,
    /// The selected one.
    pub volume_cursor: usize,
    /// Where each of them is going, by mount point.
    pub outlooks: HashMap<PathBuf, Outlook>,
    /// The books of one of them.
    pub books: BooksState,
    /// Deleted files that processes hold.
    pub held: DeletedFiles,
    /// The selected one.
    pub held_cursor: usize,
    /// Held files, by device and inode, whose processes have been asked to end and have not.
    pub asked_in_vain: BTreeSet<(u64, u64)>,
    /// The scan.
    pub scan: ScanState,
    /// The Directories station.
    pub directories: Directories,
    /// Lens, ages, breakdown, files and map.
    pub looking: Looking,
    /// What is planned.
    pub draft: Draft,
    /// The selected action.
    pub plan_cursor: usize,
    /// Rehearsal and run.
    pub run: Run,
    /// The Journal station.
    pub journal: JournalStation,
    /// What is known about the selected entry.
    pub evidence: Option<(EntryId, Evidence)>,
    /// What was asked for last: of which scan, about which entry.
    pub asked_evidence: Option<(u64, EntryId)>,
    /// What stands in front.
    pub overlay: Option<Overlay>,
    /// What just happened.
    pub notice: Option<Notice>,
    /// What is to be given to the terminal's clipboard.
    pub clipboard: Option<String>,
    /// The user has asked to leave.
    pub quitting: bool,
}

impl Model {
    /// Before anything is known.
    pub fn new(state: State, now: Time, size: (u16, u16)) -> Self {
        Self {
            state,
            now,
            size,
            station: Station::Volumes,
            before: VecDeque::new(),
            focus: Focus::Panel,
            units: UnitStyle::Binary,
            volumes: Vec::new(),
            interfaces: 0,
            volumes_loaded: false,
            volumes_asked: now,
            volume_cursor: 0,
            outlooks: HashMap::new(),
            books: BooksState::default(),
            held: DeletedFiles::default(),
            held_cursor: 0,
            asked_in_vain: BTreeSet::new(),
            scan: ScanState::default(),
            directories: Directories::default(),
            looking: Looking::default(),
            draft: Draft::default(),
            plan_cursor: 0,
            run: Run::default(),
            journal: JournalStation::default(),
            evidence: None,
            asked_evidence: None,
            overlay: None,
            notice: None,
            clipboard: None,
            quitting: false,
        }
    }

    /// A size as the user wants it.
    pub fn bytes(&self, bytes: Bytes) -> String {
        bytes.shown(self.units)
    }

    /// Rows of the list at hand.
    pub fn list_length(&self) -> usize {
        match self.station {
            Station::Volumes => match (self.focus, self.shown_books()) {
                (Focus::Books, Some(books)) => books.lines.len(),
                _ => self.volumes.len(),
            },
            Station::Leftovers => self.held.files.len(),
            Station::Directories => match self.looking.manner {
                Manner::Files => self.looking.files.files.list.first.len(),
                _ => self.directories.length(),
            },
            Station::Ages => match (self.focus, &self.looking.ages.matrix) {
                (Focus::List, _) => self.looking.ages.files.list.first.len(),
                (_, Some(matrix)) => matrix.cells.len() + 1,
                (_, None) => 0,
            },
            Station::Breakdown => {
                self.looking.breakdown.found.as_ref().map_or(0, |found| found.slices.len())
            }
            Station::Plan => self.draft.planned().len(),
            Station::Journal => match &self.journal.open {
                Some(open) => open.entries.len(),
                None => self.journal.runs.len(),
            },
            _ => 0,
        }
    }

    /// The selected row of the list at hand.
    pub fn list_cursor(&self) -> usize {
        match self.station {
            Station::Volumes if self.focus == Focus::Books => self.books.cursor,
            Station::Volumes => self.volume_cursor,
            Station::Leftovers => self.held_cursor,
            Station::Directories => match self.looking.manner {
                Manner::Files => self.looking.files.files.cursor,
                _ => self.directories.cursor().unwrap_or(0),
            },
            Station::Ages if self.focus == Focus::List => self.looking.ages.files.cursor,
            Station::Ages => self.looking.ages.cursor.row,
            Station::Breakdown => self.looking.breakdown.cursor,
            Station::Plan => self.plan_cursor,
            Station::Journal => {
                self.journal.open.as_ref().map_or(self.journal.cursor, |open| open.cursor)
            }
            _ => 0,
        }
    }

    /// The entry that is looked at: what evidence is about, and what would be planned.
    pub fn subject(&self) -> Option<EntryId> {
        match (self.station, self.looking.manner) {
            (Station::Directories, Manner::Files) => self.looking.files.files.selected(),
            (Station::Directories, _) => self.directories.selected_entry(),
            (Station::Ages, _) if self.focus == Focus::List => self.looking.ages.files.selected(),
            _ => None,
        }
    }

    /// The row of the subject, while a scan runs and it grows.
    pub fn growing_row(&self) -> Option<&EntryRow> {
        let running = self.scan.running && self.station == Station::Directories;
        self.directories.selected_row().filter(|row| running && Some(row.id) == self.subject())
    }

    /// The selected slice of the breakdown.
    pub fn selected_slice(&self) -> Option<&Slice> {
        self.looking.breakdown.found.as_ref()?.slices.get(self.looking.breakdown.cursor)
    }

    /// The selected volume.
    pub fn selected_volume(&self) -> Option<&Volume> {
        self.volumes.get(self.volume_cursor)
    }

    /// The books of the selected volume, if they have been drawn up.
    pub fn shown_books(&self) -> Option<&Books> {
        self.books.of_volume(&self.selected_volume()?.mount_point)
    }

    /// Where a volume is going.
    pub fn outlook(&self, volume: &Volume) -> Outlook {
        self.outlooks.get(&volume.mount_point).copied().unwrap_or(Outlook::NotYet)
    }

    /// The selected deleted file.
    pub fn selected_held(&self) -> Option<&DeletedFile> {
        self.held.files.get(self.held_cursor)
    }

    /// The listed volume that a deleted file takes space on.
    pub fn volume_of_held(&self, file: &DeletedFile) -> Option<&Volume> {
        let on = |volume: &&Volume| match volume.class {
            Class::Simulated => file.path.starts_with(&volume.mount_point),
            _ => volume.dev == file.volume,
        };
        // simulated ones come first: they cover the real one
        self.volumes.iter().find(on)
    }

    /// What a held file is planned for, if it is.
    pub fn planned_release(&self, file: &DeletedFile) -> Option<&Planned> {
        self.draft.planned().iter().find(|planned| match &planned.review {
            Review::Ready(survey) => {
                let target = &survey.target;
                survey.held.is_some() && (target.device, target.inode) == (file.dev, file.ino)
            }
            _ => false,
        })
    }

    /// The volume that the gauge shows: the selected one on Volumes, that of the selected file on
    /// Leftovers, elsewhere that of the scan.
    pub fn gauge_volume(&self) -> Option<&Volume> {
        if self.station == Station::Leftovers
            && let Some(volume) = self.selected_held().and_then(|file| self.volume_of_held(file))
        {
            return Some(volume);
        }
        if self.station == Station::Volumes || self.scan.roots.is_empty() {
            return self.selected_volume();
        }
        let path = &self.directories.path;
        if path.is_absolute() {
            return self.volume_of(path);
        }
        // above several roots there is no path: then it is that of the selected root
        let selected = self.directories.selected_row().map(|row| row.name.trim_end_matches('/'));
        let is_selected = |root: &&PathBuf| Some(&*fondaco_core::shown::shown(root)) == selected;
        let root = self.scan.roots.iter().find(is_selected);
        self.volume_of(root.unwrap_or(&self.scan.roots[0]))
    }

    /// The listed volume that holds a path.
    pub fn volume_of(&self, path: &Path) -> Option<&Volume> {
        let holding = self.volumes.iter().filter_map(|v| Some((v.depth_above(path)?, v)));
        holding.max_by_key(|(depth, _)| *depth).map(|(_, volume)| volume)
    }

    /// The selected action of the draft.
    pub fn selected_action(&self) -> Option<&Planned> {
        self.draft.planned().get(self.plan_cursor)
    }

    /// Actions that have been reviewed and would be carried out.
    pub fn ready_actions(&self) -> usize {
        let ready = |planned: &&Planned| matches!(planned.review, Review::Ready(_));
        self.draft.planned().iter().filter(ready).count()
    }

    /// Actions still being reviewed.
    pub fn pending_actions(&self) -> usize {
        let pending = |planned: &&Planned| matches!(planned.review, Review::Pending);
        self.draft.planned().iter().filter(pending).count()
    }

    /// What the whole draft frees at once.
    pub fn planned_now(&self) -> Bytes {
        self.draft.frees().iter().map(|frees| frees.now).sum()
    }

    /// The selected run of the journal.
    pub fn selected_run(&self) -> Option<&RunRecord> {
        self.journal.runs.get(self.journal.cursor)
    }

    /// How many actions of a run can be put back.
    pub fn can_be_put_back(&self, run: &RunRecord) -> u64 {
        run.count(EntryState::Held) + run.count(EntryState::Archived)
    }

    /// How many actions of a run are held.
    pub fn held(&self, run: &RunRecord) -> u64 {
        run.count(EntryState::Held)
    }

    /// How many actions of a run were not begun.
    pub fn not_begun(&self, run: &RunRecord) -> u64 {
        run.count(EntryState::Waiting)
    }

    /// Numbers of the actions that "put back" would put back: the marked ones, or the selected.
    pub fn chosen_to_put_back(&self) -> Vec<u32> {
        let Some(open) = &self.journal.open else { return Vec::new() };
        let can = |entry: &&EntryRecord| entry.state.can_be_put_back();
        if open.marked.is_empty() {
            let selected = open.entries.get(open.cursor).into_iter().filter(can);
            return selected.map(|entry| entry.action.number).collect();
        }
        let marked = open.entries.iter().filter(|e| open.marked.contains(&e.action.number));
        marked.filter(can).map(|entry| entry.action.number).collect()
    }

    /// Says something in the notice line.
    pub fn say(&mut self, text: impl Into<String>) {
        self.notice = Some(Notice { text: text.into(), tone: Tone::Plain });
    }

    /// Says that something went wrong.
    pub fn say_trouble(&mut self, text: impl Into<String>) {
        self.notice = Some(Notice { text: text.into(), tone: Tone::Trouble });
    }
}
