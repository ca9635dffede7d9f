//! The plan as a document; its JSON form is described in `docs/formats.md`.

use std::collections::BTreeSet;
use std::mem::discriminant;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use serde_json::Value;

use super::{Forecast, HeldTarget, Target, ToolTarget};
use crate::archive::{Metadata, is_store};
use crate::kernel::{self, Kind};
use crate::packed_list::{PackedList, Sum};
use crate::shown::{DocPath, Shown};
use crate::units::{Bytes, Time};

/// The version of the document that this program writes and reads.
pub const VERSION: u32 = 1;

/// What is done to a target.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case")]
pub enum Deed {
    /// Removed for good.
    Delete,
    /// Moved into the holding area on its volume.
    SetAside,
    /// Packed into a depot, compared, then removed.
    Archive {
        /// The depot's directory.
        depot: PathBuf,
    },
    /// Put below another directory with its whole path; to another volume copied, compared, then removed.
    Move {
        /// The directory below which it is put.
        to: PathBuf,
        /// It lies on the same volume, so that nothing is freed there.
        same_volume: bool,
    },
    /// A copy becomes another name of the file with the same contents that stays.
    Link,
    /// A copy gets the blocks of the file with the same contents that stays, and remains a file of its own.
    Share,
    /// What lies in a bin goes back to where it was.
    Restore {
        /// Where it was.
        place: PathBuf,
        /// The file that says so, which goes with that.
        info: Option<Box<Target>>,
    },
    /// The package manager removes packages.
    RemovePackages,
    /// The program of the system journal removes closed files of it.
    VacuumJournal,
    /// An object of a store is removed there.
    RemoveObject,
    /// The processes that hold a deleted file are ended.
    End {
        /// At once and without asking (`SIGKILL`), not on request (`SIGTERM`).
        by_force: bool,
    },
    /// A deleted file is cut to nothing while it is held.
    Cut,
    /// A deleted file is saved under a name, then cut to nothing.
    Save {
        /// The new file.
        to: PathBuf,
        /// It lies on the same volume, so that nothing is freed there.
        same_volume: bool,
    },
}

impl Deed {
    /// The word for it.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Delete => "delete",
            Self::SetAside => "set aside",
            Self::Archive { .. } => "archive",
            Self::Move { .. } => "move",
            Self::Link => "link",
            Self::Share => "share",
            Self::Restore { .. } => "restore",
            Self::RemovePackages => "remove packages",
            Self::VacuumJournal => "vacuum",
            Self::RemoveObject => "remove",
            Self::End { by_force: false } => "end process",
            Self::End { by_force: true } => "kill process",
            Self::Cut => "cut",
            Self::Save { .. } => "save and cut",
        }
    }

    /// The directory that it puts something into, if that can lie on the volume which is to be relieved.
    pub fn destination(&self) -> Option<&Path> {
        match self {
            Self::Archive { depot } => Some(depot),
            Self::Move { to, .. } => Some(to),
            _ => None,
        }
    }

    /// The same deed, with what it says of the volume of its destination set right.
    #[must_use]
    pub fn with_destination_on_volume(self, on_volume: bool) -> Self {
        match self {
            Self::Move { to, .. } => Self::Move { to, same_volume: on_volume },
            other => other,
        }
    }

    /// Whether it can only be done to a copy beside the one that stays, on the same volume.
    pub fn needs_copy(&self) -> bool {
        matches!(self, Self::Link | Self::Share)
    }

    /// Whether a program of the system, or a store, does it.
    pub fn is_of_tool(&self) -> bool {
        matches!(self, Self::RemovePackages | Self::VacuumJournal | Self::RemoveObject)
    }

    /// Whether it takes its target out of its place.
    pub fn takes_target(&self) -> bool {
        !self.is_release()
            && !self.is_of_tool()
            && !matches!(self, Self::Share | Self::Restore { .. })
    }

    /// Whether it is about a deleted file that processes hold.
    pub fn is_release(&self) -> bool {
        matches!(self, Self::End { .. } | Self::Cut | Self::Save { .. })
    }
}

/// Where a target is, or is to be, once it has been moved below `to`: with its whole path, so that no two meet and each
/// can be found again.
pub fn moved_place(to: &Path, path: &Path) -> PathBuf {
    to.join(path.strip_prefix("/").unwrap_or(path))
}

/// One line of a plan.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Action {
    /// Its number in the plan, from 1.
    pub number: u32,
    /// What is done.
    #[serde(flatten)]
    pub deed: Deed,
    /// Why: by hand, or which rule.
    pub reason: String,
    /// What the deed is done to.
    pub target: Target,
    /// The mount point of the volume it lies on.
    pub volume: DocPath,
    /// What it frees.
    pub frees: Forecast,
    /// Bytes of its target that lie in extents which other files may share.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub shared: Bytes,
    /// What its forecast stands on, one sentence each.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// Of a deleted file: who holds it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<HeldTarget>,
    /// Of what a program of the system removes: what was reviewed of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tool: Option<Box<ToolTarget>>,
    /// The number of the first action of those that are done together with this one or not at all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub together: Option<u32>,
    /// For how many seconds what is set aside is held before it is due to be purged.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purge_after: Option<u64>,
    /// A copy with the same contents that must stay: the target is compared with it, byte by byte, right before it goes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stays: Option<Box<Target>>,
    /// Of a copy that has been made another name of that one: what it had of its own. Only the journal has it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<Box<Metadata>>,
    /// The target is a directory that the actions before it empty. It goes if it is empty by then, whatever its record
    /// says of times and entries.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub emptied: bool,
}

// serde gives a reference
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_zero(bytes: &Bytes) -> bool {
    *bytes == Bytes::ZERO
}

impl Action {
    /// The name that people know its target by.
    pub fn place(&self) -> &Path {
        match (&self.held, self.tool.as_deref()) {
            (Some(held), _) => &held.was.0,
            (None, Some(tool)) => tool.place(),
            (None, None) => &self.target.path.0,
        }
    }
}

/// See the [module](self).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Plan {
    /// Version of the document.
    pub fondaco: u32,
    /// The kind of document: always `plan`.
    pub kind: String,
    /// Tells this plan from any other.
    pub id: String,
    /// The machine that it is for.
    pub machine: String,
    /// When it was made, RFC 3339.
    pub created: String,
    /// Places that its rules protect, with all that is in them.
    #[serde(default)]
    pub protect: Vec<DocPath>,
    /// Depots and holding areas that may be removed, each named by its owner.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub give_up: Vec<DocPath>,
    /// What is to be done, in this order.
    pub actions: PackedList<Action>,
}

/// Why a text is not a plan that can be used here.
#[derive(Debug, thiserror::Error)]
pub enum PlanError {
    /// It cannot be read, or be unpacked.
    #[error("the plan cannot be read: {0}")]
    Unreadable(#[source] std::io::Error),
    /// It is no plan at all, or a damaged one.
    #[error("this is not a plan: {0}")]
    Syntax(#[from] serde_json::Error),
    /// It is another document of Fondaco.
    #[error("this is a `{0}` document, not a plan")]
    OtherKind(String),
    /// A later or earlier form.
    #[error("this plan has version {0}; this program reads version {VERSION}: make the plan anew")]
    OtherVersion(u64),
    /// The plan was made on another machine, which is named.
    #[error("this plan was made on another machine ({0}); make one here")]
    OtherMachine(String),
    /// Its numbers do not run from 1, or a target is not an absolute path without `..`.
    #[error("this plan is damaged: {0}")]
    Damaged(String),
    /// No random number could be had for its id.
    #[error("no random number for the plan's id: {0}")]
    NoId(std::io::Error),
}

impl Plan {
    /// A plan for this machine.
    ///
    /// # Errors
    ///
    /// [`PlanError::NoId`].
    pub fn new(
        actions: impl IntoIterator<Item = Action>,
        protect: Vec<DocPath>,
        now: Time,
    ) -> Result<Self, PlanError> {
        let numbered = (1..).zip(actions).map(|(number, action)| Action { number, ..action });
        Self::of_numbered(numbered.collect(), protect, now)
    }

    /// As [`Plan::new`], of actions whose numbers run from 1.
    pub(super) fn of_numbered(
        actions: PackedList<Action>,
        protect: Vec<DocPath>,
        now: Time,
    ) -> Result<Self, PlanError> {
        Ok(Self {
            fondaco: VERSION,
            kind: "plan".to_owned(),
            id: kernel::random_id().map_err(PlanError::NoId)?,
            machine: kernel::machine_id(),
            created: now.rfc3339(),
            protect,
            give_up: Vec::new(),
            actions,
        })
    }

    /// Reads a plan and makes sure that it is one for this machine and version.
    ///
    /// # Errors
    ///
    /// [`PlanError`].
    pub fn parse(text: &str) -> Result<Self, PlanError> {
        let head: Head = serde_json::from_str(text)?;
        head.check()?;
        let plan: Self = serde_json::from_str(text)?;
        plan.checked()
    }

    /// The plan, if it is one for this machine whose actions make sense.
    pub(super) fn checked(self) -> Result<Self, PlanError> {
        if self.machine != kernel::machine_id() {
            return Err(PlanError::OtherMachine(self.machine));
        }
        self.check_numbers_and_paths()?;
        Ok(self)
    }

    fn check_numbers_and_paths(&self) -> Result<(), PlanError> {
        for (number, action) in (1..).zip(&self.actions) {
            if action.number != number {
                let found = action.number;
                return Err(PlanError::Damaged(format!(
                    "action {found} stands where {number} should"
                )));
            }
            let is_object = action.deed == Deed::RemoveObject && is_store(&action.target.path.0);
            if !is_object && !is_plain(&action.target.path.0) {
                return Err(PlanError::Damaged(format!(
                    "the target {} is not an absolute path without `..`",
                    Shown(&action.target.path.0)
                )));
            }
            let beside =
                action.stays.as_ref().is_some_and(|copy| copy.device == action.target.device);
            if action.deed.is_release() != action.held.is_some()
                || matches!(&action.deed, Deed::Restore { place, .. } if !is_plain(place))
                || action.deed.is_of_tool() != action.tool.is_some()
                || action.tool.as_ref().is_some_and(|tool| tool.deed() != action.deed)
                || action.emptied
                    && !(action.target.kind == Kind::Directory
                        && matches!(action.deed, Deed::Delete | Deed::SetAside))
                || action.deed.needs_copy() && !(beside && action.target.kind == Kind::File)
            {
                return Err(PlanError::Damaged(format!("action {number} does not fit its target")));
            }
        }
        Ok(())
    }

    /// What it frees in all.
    pub fn frees(&self) -> Forecast {
        self.overview().frees
    }

    /// The volumes it acts on, each with the bytes it frees there at once.
    pub fn volumes(&self) -> Vec<(PathBuf, Bytes)> {
        self.overview().volumes
    }

    /// Where its actions put things, in order, each place once.
    pub fn destinations(&self) -> BTreeSet<PathBuf> {
        self.overview().destinations
    }

    /// What can be said of all actions together.
    pub fn overview(&self) -> Overview {
        self.actions.sum()
    }
}

/// What can be said of all actions of a plan together. What none of them has need not be looked for in each.
#[derive(Clone, Debug, Default)]
pub struct Overview {
    /// What they free in all.
    pub frees: Forecast,
    /// The volumes that they act on, each with the bytes that are freed there at once.
    pub volumes: Vec<(PathBuf, Bytes)>,
    /// Some are done together or not at all.
    pub has_groups: bool,
    /// Some are directories that others empty.
    pub has_emptied: bool,
    /// Some have a copy that must stay.
    pub has_copies: bool,
    /// Where they put things.
    pub destinations: BTreeSet<PathBuf>,
    /// One of each sort.
    deeds: Vec<Deed>,
}

impl Overview {
    /// Whether there is an action of such a sort. Of each sort only one deed is known, so `such` must not ask where it
    /// leads.
    pub fn has(&self, such: impl Fn(&Deed) -> bool) -> bool {
        self.deeds.iter().any(such)
    }

    fn frees_on(&mut self, volume: &Path, freed: Bytes) {
        match self.volumes.iter_mut().find(|(path, _)| path.as_os_str() == volume.as_os_str()) {
            Some((_, bytes)) => *bytes += freed,
            None => self.volumes.push((volume.to_owned(), freed)),
        }
    }

    fn note_sort(&mut self, deed: &Deed) {
        if !self.deeds.iter().any(|known| discriminant(known) == discriminant(deed)) {
            self.deeds.push(deed.clone());
        }
    }

    /// Counts one more action, of which no program of the system does a part on another volume.
    pub(super) fn add_deed(&mut self, deed: &Deed, frees: Forecast, volume: &Path) {
        self.frees.add(frees);
        self.frees_on(volume, frees.now);
        self.note_sort(deed);
        let to = deed.destination().filter(|to| !self.destinations.contains(*to));
        self.destinations.extend(to.map(Path::to_owned));
    }
}

impl Sum<Action> for Overview {
    fn add(&mut self, action: &Action) {
        let mut frees = action.frees;
        for other in action.tool.iter().flat_map(|tool| tool.elsewhere()) {
            let now = other.allocated.min(frees.now);
            frees.now = frees.now.less(now);
            self.frees.now += now;
            self.frees_on(&other.volume.0, now);
        }
        self.add_deed(&action.deed, frees, &action.volume.0);
        self.has_groups |= action.together.is_some();
        self.has_emptied |= action.emptied;
        self.has_copies |= action.stays.is_some();
    }

    fn join(&mut self, others: &Self) {
        self.frees.add(others.frees);
        others.volumes.iter().for_each(|(volume, freed)| self.frees_on(volume, *freed));
        others.deeds.iter().for_each(|deed| self.note_sort(deed));
        self.destinations.extend(others.destinations.iter().cloned());
        self.has_groups |= others.has_groups;
        self.has_emptied |= others.has_emptied;
        self.has_copies |= others.has_copies;
    }
}

/// What a document says of itself.
#[derive(Deserialize)]
pub(super) struct Head {
    #[serde(default)]
    fondaco: Value,
    #[serde(default)]
    kind: Value,
}

impl Head {
    /// Whether it is a plan of a version that this program reads.
    pub(super) fn check(&self) -> Result<(), PlanError> {
        match (self.kind.as_str(), self.fondaco.as_u64()) {
            (Some("plan"), Some(version)) if version == u64::from(VERSION) => Ok(()),
            (Some("plan"), Some(version)) => Err(PlanError::OtherVersion(version)),
            (Some(kind), Some(_)) => Err(PlanError::OtherKind(kind.to_owned())),
            _ => Err(PlanError::Damaged("`fondaco` and `kind` are missing".to_owned())),
        }
    }
}

fn is_plain(path: &Path) -> bool {
    use std::path::Component::{Normal, RootDir};
    path.is_absolute() && path.components().all(|part| matches!(part, Normal(_) | RootDir))
}
