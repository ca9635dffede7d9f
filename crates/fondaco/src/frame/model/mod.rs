//! All that the application knows, and questions that can be asked of it. Nothing here acts.

mod file_list;
mod growth;
mod lens;
mod overlay;
mod place;
mod run;
mod scan;

use std::collections::{BTreeSet, HashMap, VecDeque};
use std::path::{Path, PathBuf};

use fondaco_core::analysis::Evidence;
use fondaco_core::catalog::EntryId;
use fondaco_core::drive::Drives;
use fondaco_core::history::Outlook;
use fondaco_core::kernel::{DeletedFile, DeletedFiles};
use fondaco_core::plan::{Draft, Planned, Review};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, UnitStyle};
use fondaco_core::volume::{Class, Volume};

use super::names::Names;
use crate::station::{FIRST, Rooms, Station};
pub use file_list::{FileRow, Files};
pub use growth::{ComparedScans, GrownSlices, Growth, Later, Moment};
pub use lens::{LensState, Questions, Searched, Typing};
pub use overlay::{Asking, Overlay, TypedAnswer, deeds, deeds_for, held_deeds};
pub use place::{Place, Selected};
pub use run::{Run, RunStage};
pub use scan::{Mending, SavedRow, ScanState, read};

/// Where keys go on the station at hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Focus {
    /// The station's own panel.
    Panel,
    /// The list below it, where a station has two.
    Below,
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
    /// What is said, for people.
    pub text: String,
    /// Whether it is trouble.
    pub tone: Tone,
}

/// How fast a volume fills at this moment.
#[derive(Clone, Debug, PartialEq)]
pub struct Filling {
    /// Where the volume is mounted.
    pub mount_point: PathBuf,
    /// Seconds until it is full at this rate.
    pub full_in: f64,
    /// When that was seen.
    pub seen: Time,
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
    /// Whether the list of volumes has been read.
    pub volumes_loaded: bool,
    /// When they were asked last.
    pub volumes_asked: Time,
    /// The selected one.
    pub volume_cursor: usize,
    /// Where each of them is going, by mount point.
    pub outlooks: HashMap<PathBuf, Outlook>,
    /// Deleted files that processes hold.
    pub held: DeletedFiles,
    /// Held files, by device and inode, whose processes have been asked to end and have not.
    pub asked_in_vain: BTreeSet<(u64, u64)>,
    /// The scan that is shown.
    pub scan: ScanState,
    /// The place in it.
    pub place: Place,
    /// What was known until a scan was asked for that has not begun yet.
    pub before_scan: Option<Box<(ScanState, Place, Rooms)>>,
    /// The lens over all stations.
    pub lens: LensState,
    /// The scan beside an earlier one.
    pub growth: Growth,
    /// How fast a volume fills at this moment, while that is watched.
    pub filling: Option<Filling>,
    /// The disks behind each volume, by mount point, and when they were asked.
    pub drives: HashMap<PathBuf, Drives>,
    /// When the disks were asked.
    pub drives_asked: Option<Time>,
    /// Questions to the scan.
    pub questions: Questions,
    /// Names of accounts.
    pub names: Names,
    /// What is planned.
    pub draft: Draft,
    /// Rehearsal and run.
    pub run: Run,
    /// What every station knows for itself.
    pub rooms: Rooms,
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
            station: FIRST,
            before: VecDeque::new(),
            focus: Focus::Panel,
            units: UnitStyle::Binary,
            volumes: Vec::new(),
            interfaces: 0,
            volumes_loaded: false,
            volumes_asked: now,
            volume_cursor: 0,
            outlooks: HashMap::new(),
            held: DeletedFiles::default(),
            asked_in_vain: BTreeSet::new(),
            scan: ScanState::default(),
            place: Place::default(),
            before_scan: None,
            lens: LensState::default(),
            growth: Growth::default(),
            filling: None,
            drives: HashMap::new(),
            drives_asked: None,
            questions: Questions::default(),
            names: Names::default(),
            draft: Draft::default(),
            run: Run::default(),
            rooms: Rooms::default(),
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
        self.station.room().length(self)
    }

    /// The selected row of the list at hand.
    pub fn list_cursor(&self) -> usize {
        self.station.room().cursor(self)
    }

    /// The entry that is looked at: what evidence is about, and what would be planned.
    pub fn subject(&self) -> Option<EntryId> {
        self.station.room().subject(self)
    }

    /// The selected volume.
    pub fn selected_volume(&self) -> Option<&Volume> {
        self.volumes.get(self.volume_cursor)
    }

    /// Where a volume is going.
    pub fn outlook(&self, volume: &Volume) -> Outlook {
        self.outlooks.get(&volume.mount_point).copied().unwrap_or(Outlook::NotYet)
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
        if !self.draft.sums().has_held {
            return None;
        }
        let is_it = |planned: &Planned| match &planned.review {
            Review::Ready(survey) => {
                let target = &survey.target;
                survey.held.is_some() && (target.device, target.inode) == (file.dev, file.ino)
            }
            _ => false,
        };
        let planned = self.draft.planned();
        planned.get(planned.iter().position(|planned| is_it(&planned))?)
    }

    /// The volume that the gauge shows: the one that the station names, else that of the scan.
    pub fn gauge_volume(&self) -> Option<&Volume> {
        if let Some(volume) = self.station.room().volume(self) {
            return Some(volume);
        }
        if self.scan.roots.is_empty() {
            return self.selected_volume();
        }
        if self.place.path.is_absolute() {
            return self.volume_of(&self.place.path);
        }
        // above several roots there is no path: then it is that of the selected root
        self.volume_of(self.place.root.as_ref().unwrap_or(&self.scan.roots[0]))
    }

    /// The listed volume that holds a path.
    pub fn volume_of(&self, path: &Path) -> Option<&Volume> {
        let holding = self.volumes.iter().filter_map(|v| Some((v.depth_above(path)?, v)));
        holding.max_by_key(|(depth, _)| *depth).map(|(_, volume)| volume)
    }

    /// Actions that have been reviewed and would be carried out.
    pub fn ready_actions(&self) -> usize {
        self.draft.ready()
    }

    /// Actions still being reviewed.
    pub fn pending_actions(&self) -> usize {
        self.draft.sums().pending
    }

    /// What the whole draft frees at once.
    pub fn planned_now(&self) -> Bytes {
        self.draft.sums().frees.now
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
