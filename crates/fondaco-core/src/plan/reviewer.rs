//! The one way into a plan: what was chosen is looked at, and must still be what was chosen.
//!
//! Takes what somebody chose, by a path or in a scan; gives it as [`Planned`], with the record that it will be compared
//! with, or says why it must not be planned. Every way of choosing ends here: by hand, many at once, a rule, a deleted
//! file that a process holds.

use std::cell::RefCell;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fondaco_store::ManagedStore;

use super::emptied::survey_alone;
use super::objects::Objects;
use super::survey::survey_located;
use super::{
    Deed, FreeDirectory, Locator, ObjectTarget, Planned, Proposal, Refusal, RuleProtection, Survey,
    survey_held, survey_object,
};
use crate::analysis::{Protection, is_kernel_part};
use crate::archive::{is_store, managed_name};
use crate::catalog::{Elsewhere, Origin, Root, ScannedEntry};
use crate::kernel::{self, DeletedFile, DeletedFiles, Kind, Mount, OpenFiles, Stat};
use crate::parallel;
use crate::shown::DocPath;
use crate::state::State;
use crate::units::Time;
use crate::volume::volume_root;

/// So many things are looked at by each thread until what came of them is told.
const AT_ONCE: usize = 1024;

/// For fewer things than this no thread is begun.
const LEAST_AT_ONCE: usize = 64;

/// What somebody chose.
#[derive(Clone, Debug)]
pub enum Choice {
    /// A path that was typed: whatever is there now is meant.
    Path(PathBuf),
    /// An entry of a scan: what the scan found there is meant, and nothing else. If it was chosen by when it was last
    /// read, it must not have been read since.
    Scanned {
        /// What the scan found.
        entry: ScannedEntry,
        /// It was chosen by when it was last read.
        by_reading: bool,
    },
}

impl Choice {
    /// Where it is.
    pub fn path(&self) -> &Path {
        match self {
            Self::Path(path) => path,
            Self::Scanned { entry, .. } => &entry.path,
        }
    }
}

/// See the [module](self). Holds what is protected and the open files of all processes, as of one moment.
pub struct Reviewer<'a> {
    facts: Arc<Facts<'a>>,
    objects: Objects,
    locator: RefCell<Locator>,
    free: FreeDirectory,
    /// The directory of the last file that was planned, and the volume that it lies on.
    volume: RefCell<(PathBuf, PathBuf)>,
}

/// What a review stands on, and several threads look at together.
struct Facts<'a> {
    state: &'a State,
    protection: Protection,
    open: OpenFiles,
    mounts: Vec<Mount>,
    rules: RuleProtection,
    /// What rules protect, as far as it is known where relative places begin.
    places: Vec<PathBuf>,
    /// Why nothing that was scanned can be planned.
    elsewhere: Option<Elsewhere>,
    /// Devices as scanned, and the numbers that they have now or why they have none.
    devices: Vec<(u64, Result<u64, Elsewhere>)>,
    /// The managed store that was scanned.
    store: Option<ManagedStore>,
}

impl<'a> Reviewer<'a> {
    /// For paths. What the rule file of the state directory protects is protected; with a mistake in it nothing can
    /// be planned, since nobody knows what it protects.
    pub fn new(state: &'a State, now: Time) -> Self {
        Self::of_facts(Arc::new(Facts {
            state,
            protection: Protection::of_system(state),
            open: OpenFiles::collect(now),
            mounts: kernel::mounts().unwrap_or_default(),
            rules: RuleProtection::of_state(state),
            places: Vec::new(),
            elsewhere: None,
            devices: Vec::new(),
            store: None,
        }))
    }

    fn of_facts(facts: Arc<Facts<'a>>) -> Self {
        Self {
            facts,
            objects: Objects::default(),
            locator: RefCell::default(),
            free: FreeDirectory::default(),
            volume: RefCell::default(),
        }
    }

    /// What the review stands on, to be changed: nothing else holds it but while [`Reviewer::plan_all`] lasts.
    fn facts_mut(&mut self) -> &mut Facts<'a> {
        self.free.forget();
        Arc::get_mut(&mut self.facts).expect("no other thread reviews meanwhile")
    }

    /// For entries of a scan, and paths beside them. A scan of another machine makes no plan here, and neither does
    /// what was scanned on a file system that is not mounted in its place any more.
    ///
    /// Takes the origin and the roots of the scan and not its catalog: asking file systems may take long, and a catalog
    /// that is shared must not be held meanwhile.
    pub fn of_scan(state: &'a State, origin: &Origin, roots: &[Root], now: Time) -> Self {
        let mut new = Self::new(state, now);
        let facts = new.facts_mut();
        facts.elsewhere = origin.elsewhere();
        facts.store = origin.store.as_ref().map(|listed| listed.definition.clone());
        if facts.elsewhere.is_none() {
            let devices = origin.volumes.iter().map(|volume| volume.device);
            facts.devices = devices.map(|device| (device, origin.device_now(device))).collect();
        }
        new.protect_below(roots.iter().map(|root| &root.path));
        new
    }

    /// Protects what the rule file of the state directory protects below these roots.
    pub fn protect_below(&mut self, roots: impl IntoIterator<Item = impl AsRef<Path>>) {
        let roots: Vec<PathBuf> = roots.into_iter().map(|root| root.as_ref().to_owned()).collect();
        let places = self.facts.rules.below(roots.iter().map(PathBuf::as_path));
        self.protect(places);
    }

    /// Protects more places.
    pub fn protect(&mut self, places: Vec<PathBuf>) {
        let facts = self.facts_mut();
        for place in &places {
            facts.protection.add(place.clone(), "protected by the rules");
        }
        facts.places.extend(places);
    }

    /// Takes the protection from a depot or holding area: see [`Protection::give_up`].
    pub fn give_up(&mut self, place: &Path) {
        self.facts_mut().protection.give_up(place);
    }

    /// The settings that it looks by.
    pub fn state(&self) -> &State {
        self.facts.state
    }

    /// The places that rules protect, for the plan's document.
    pub fn protected(&self) -> Vec<DocPath> {
        self.facts.places.iter().cloned().map(DocPath).collect()
    }

    /// Looks at what was chosen.
    ///
    /// # Errors
    ///
    /// [`Refusal`]: it is protected, it is no longer what was chosen, or it cannot be looked at.
    pub fn review(&self, choice: &Choice) -> Result<Survey, Refusal> {
        let path = choice.path();
        self.permitted(choice)?;
        if is_store(path) {
            return self.review_object(choice);
        }
        let mut locator = self.locator.borrow_mut();
        let Choice::Scanned { entry: scanned, by_reading } = choice else {
            return survey_located(path, &self.facts.open, &mut locator, &|_| Ok(()));
        };
        let not_as_scanned =
            |difference| Refusal::NotAsScanned { path: path.to_owned(), difference };
        let is_as_scanned = |now: &Stat| {
            self.is_on_its_device(scanned, now)?;
            scanned.difference(now, *by_reading).map_or(Ok(()), |found| Err(not_as_scanned(found)))
        };
        let survey = survey_located(path, &self.facts.open, &mut locator, &is_as_scanned)?;
        let target = &survey.target;
        match scanned.difference_below(target.entries, target.allocated) {
            Some(difference) => Err(not_as_scanned(difference)),
            None => Ok(survey),
        }
    }

    /// Looks at what was chosen, and plans it.
    ///
    /// # Errors
    ///
    /// Those of [`Reviewer::review`].
    pub fn plan(&self, choice: &Choice, deed: &Deed, reason: &str) -> Result<Planned, Refusal> {
        let survey = self.review(choice)?;
        let path = choice.path().to_owned();
        let volume = self.volume_of(&path, survey.target.kind);
        let depot_on_volume = deed
            .destination()
            .filter(|to| !is_store(to))
            .is_some_and(|to| volume_root(to, self.facts.state, &self.facts.mounts) == volume);
        let deed = match (is_store(&path), deed) {
            (true, Deed::Delete | Deed::RemoveObject) => Deed::RemoveObject,
            (true, other) => {
                let word = other.word();
                let reason = format!("an object of a store can only be deleted, not: {word}");
                return Err(Refusal::Hopeless { path, reason });
            }
            (false, other) => other.clone().with_destination_on_volume(depot_on_volume),
        };
        let planned = Planned::of_survey(path, deed, reason.to_owned(), volume, survey);
        Ok(Planned { depot_on_volume, ..planned })
    }

    /// Looks at many things and plans them, as [`Reviewer::plan`] would one after the other, on several threads, which make the
    /// proposal of each thing too. What came of each is told in their order.
    pub fn plan_all<C: Send>(
        &self,
        chosen: impl IntoIterator<Item = C>,
        proposal: impl Fn(C) -> Proposal + Sync,
        mut told: impl FnMut(Proposal, Result<Planned, Refusal>),
    ) {
        let mut chosen = chosen.into_iter();
        let worker = |_| Self {
            locator: RefCell::new(Locator::for_a_look()),
            ..Self::of_facts(Arc::clone(&self.facts))
        };
        let mut workers: Vec<Self> = (0..parallel::threads()).map(worker).collect();
        loop {
            let mut some: Vec<C> = chosen.by_ref().take(workers.len() * AT_ONCE).collect();
            if some.is_empty() {
                break;
            }
            let part = parallel::part_of(some.len(), LEAST_AT_ONCE);
            let parts: Vec<Vec<C>> = std::iter::from_fn(|| {
                let part: Vec<C> = some.drain(..part.min(some.len())).collect();
                (!part.is_empty()).then_some(part)
            })
            .collect();
            let looked = parallel::each(parts.into_iter().zip(&mut workers), |(part, worker)| {
                let look = |chosen: C| {
                    let proposal = proposal(chosen);
                    let came_of = worker.plan_proposal(&proposal);
                    (proposal, came_of)
                };
                part.into_iter().map(look).collect::<Vec<_>>()
            });
            looked.into_iter().flatten().for_each(|(proposal, came_of)| told(proposal, came_of));
        }
    }

    fn plan_proposal(&self, proposal: &Proposal) -> Result<Planned, Refusal> {
        let Proposal { choice, deed, reason, purge_after } = proposal;
        Ok(Planned { purge_after: *purge_after, ..self.plan(choice, deed, reason)? })
    }

    /// As [`Reviewer::plan`], for a part of a kernel that goes with the rest of it.
    ///
    /// # Errors
    ///
    /// Those of [`Reviewer::review`]; also if it is no such part.
    pub(super) fn plan_kernel_part(
        &mut self,
        choice: &Choice,
        deed: &Deed,
        reason: &str,
    ) -> Result<Planned, Refusal> {
        if is_kernel_part(choice.path()) {
            self.give_up(choice.path());
        }
        self.plan(choice, deed, reason)
    }

    /// Plans a directory that other actions of the plan empty.
    pub(super) fn plan_directory(
        &self,
        path: &Path,
        stat: &Stat,
        deed: &Deed,
    ) -> Result<Planned, Refusal> {
        self.permitted(&Choice::Path(path.to_owned()))?;
        let (volume, reason) = (self.volume_of(path, Kind::Directory), "emptied by this plan");
        let survey = survey_alone(path, stat);
        let planned =
            Planned::of_survey(path.to_owned(), deed.clone(), reason.to_owned(), volume, survey);
        Ok(Planned { emptied: true, ..planned })
    }

    /// The root of the volume that a target lies on.
    pub(super) fn volume_of(&self, path: &Path, kind: Kind) -> PathBuf {
        let directory = kernel::directory_and_name(path).map_or(path, |(directory, _)| directory);
        if kind != Kind::Directory && self.volume.borrow().0.as_os_str() == directory.as_os_str() {
            return self.volume.borrow().1.clone();
        }
        let volume = volume_root(path, self.facts.state, &self.facts.mounts);
        if kind != Kind::Directory {
            self.volume.replace((directory.to_owned(), volume.clone()));
        }
        volume
    }

    fn permitted(&self, choice: &Choice) -> Result<(), Refusal> {
        let path = choice.path();
        if let Some(elsewhere) = &self.facts.elsewhere {
            let reason = elsewhere.to_string();
            return Err(Refusal::Hopeless { path: path.to_owned(), reason });
        }
        let is_file =
            matches!(choice, Choice::Scanned { entry, .. } if entry.kind != Kind::Directory);
        if is_file && self.free.holds(path, &self.facts.protection, &self.facts.rules) {
            return Ok(());
        }
        let reason = self.facts.protection.reason(path).or_else(|| self.facts.rules.reason(path));
        match reason {
            Some(reason) => Err(Refusal::Protected { path: path.to_owned(), reason }),
            None => Ok(()),
        }
    }

    fn is_on_its_device(&self, scanned: &ScannedEntry, now: &Stat) -> Result<(), Refusal> {
        let known = self.facts.devices.iter().find(|(then, _)| *then == scanned.device);
        let difference = match known.map(|(_, device)| device) {
            Some(Err(elsewhere)) => elsewhere.to_string(),
            Some(Ok(device)) if *device == now.dev => return Ok(()),
            None if scanned.device == now.dev => return Ok(()),
            // where layers lie on each other, files may show the number of their layer; what is on the mount of
            // its directory is on the file system that was scanned
            expected if is_of_its_directory(&scanned.path, now, expected, scanned.device) => {
                return Ok(());
            }
            _ => "it lies on another file system now".to_owned(),
        };
        Err(Refusal::NotAsScanned { path: scanned.path.clone(), difference })
    }
}

impl Reviewer<'_> {
    /// What is known of an object: as it was listed, or as its store tells now.
    fn review_object(&self, choice: &Choice) -> Result<Survey, Refusal> {
        let path = choice.path();
        let hopeless =
            |reason: &str| Refusal::Hopeless { path: path.to_owned(), reason: reason.to_owned() };
        let object = match choice {
            Choice::Scanned { entry, .. } if entry.kind != Kind::File => {
                return Err(hopeless(
                    "it stands for the objects below it: plan those, or have a rule take them",
                ));
            }
            Choice::Scanned { entry, .. } => {
                let (length, written) = entry.length_and_written();
                let is_member = managed_name(path).is_some();
                let managed = self.facts.store.clone().filter(|_| is_member).map(Box::new);
                if is_member && managed.is_none() {
                    return Err(hopeless(
                        "how its store is managed is not known: have a rule take it",
                    ));
                }
                let address = DocPath(entry.path.clone());
                // a date that the store does not tell was read from the name
                let is_told = managed.as_ref().is_none_or(|store| store.date_at.is_some());
                ObjectTarget { address, length, written: is_told.then_some(written), managed }
            }
            _ if managed_name(path).is_some() => {
                return Err(hopeless("a member of a managed store is planned by a rule"));
            }
            _ => self.objects.look(path, None)?,
        };
        Ok(survey_object(object))
    }
}

/// Whether an entry that is no directory lies on the mount of its directory, and that on the scanned file system.
fn is_of_its_directory(
    path: &Path,
    now: &Stat,
    expected: Option<&Result<u64, Elsewhere>>,
    scanned: u64,
) -> bool {
    let device = match expected {
        Some(Ok(device)) => *device,
        Some(Err(_)) => return false,
        None => scanned,
    };
    let directory = path.parent().and_then(|directory| kernel::stat_path(directory).ok());
    now.kind != Kind::Directory
        && directory.is_some_and(|above| {
            above.dev == device && above.mount == now.mount && above.mount != 0
        })
}

/// A deleted file that is to be let go of, as something planned.
pub fn plan_held(file: &DeletedFile, all: &DeletedFiles, deed: Deed, volume: PathBuf) -> Planned {
    let survey = survey_held(file, all);
    let reason = "deleted, but held by a process".to_owned();
    let path = survey.target.path.0.clone();
    Planned::of_survey(path, deed, reason, volume, survey)
}
