//! All that the application knows, and questions that can be asked of it. Nothing here acts.

mod directories;
mod overlay;
mod run;
mod scan;
mod station;

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::path::{Path, PathBuf};

use fondaco_core::analysis::{Evidence, Slice};
use fondaco_core::books::Books;
use fondaco_core::carry_out::{EntryRecord, EntryState, RunRecord};
use fondaco_core::catalog::EntryId;
use fondaco_core::history::Outlook;
use fondaco_core::kernel::{DeletedFile, DeletedFiles};
use fondaco_core::plan::{Draft, Planned, Review};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, UnitStyle};
use fondaco_core::volume::{Class, Volume};

use super::looking::{Looking, Manner};
pub use directories::{Directories, EntryRow, Selected};
pub use overlay::{Asking, Overlay, deeds, held_deeds};
pub use run::{JournalStation, OpenRun, Run, RunStage};
pub use scan::{BooksState, Mending, SavedRow, ScanState};
pub use station::Station;

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
    /// What both were until a scan was asked for that has not begun yet.
    pub before_scan: Option<(ScanState, Directories)>,
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
            before_scan: None,
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
        self.held(run) + run.count(EntryState::Archived)
    }

    /// How many actions of a run are held, those among them of which some is purged already.
    pub fn held(&self, run: &RunRecord) -> u64 {
        run.count(EntryState::Held) + run.count(EntryState::Purging)
    }

    /// How many actions of a run were not begun.
    pub fn not_begun(&self, run: &RunRecord) -> u64 {
        run.count(EntryState::Waiting)
    }

    /// Numbers of the actions that "put back" would put back: the marked ones, or the selected.
    pub fn chosen_to_put_back(&self) -> Vec<u32> {
        let Some(open) = &self.journal.open else { return Vec::new() };
        let can = |entry: &&EntryRecord| entry.can_be_put_back();
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
