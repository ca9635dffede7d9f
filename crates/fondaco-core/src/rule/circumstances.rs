//! What a trial of rules needs to know besides a catalog: accounts, levels, what is protected and what is open.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::tz::TimeZone;

use super::model::Enough;
use super::{RuleFileError, RuleSet};
use crate::analysis::Protection;
use crate::catalog::{Catalog, Origin, Root};
use crate::kernel::{self, Capacity, LevelFor, OpenFiles};
use crate::leftovers::{self, Found, LookError};
use crate::lens::Accounts;
use crate::state::State;
use crate::units::{Bytes, Level, Time};
use crate::volume::{volume_of, volume_root};

/// What a trial needs to know besides the catalog.
pub struct Circumstances<'a> {
    /// Names of owners and groups.
    pub accounts: &'a dyn Accounts,
    /// The file systems of the catalog, with their levels.
    pub volumes: Vec<VolumeFacts>,
    /// What is protected whatever the rules say.
    pub protection: Protection,
    /// What processes have open, which is left alone; `None` for a scan of another time.
    pub open: Option<OpenFiles>,
    /// What is left over in the catalog, if a rule asks for it.
    pub leftovers: Option<Arc<Found>>,
    /// The number of entries that a rule may take although it is over its limit, confirmed by hand.
    pub confirmed: Option<u64>,
    /// The root of the volume that a path lies on, so that it can be said what moving something there frees.
    pub volume_root: Box<dyn Fn(&Path) -> PathBuf + Send + Sync + 'a>,
    /// Where days and months begin and end, for times that are not in a name.
    pub zone: TimeZone,
}

/// A file system, as far as `until`, `free` and `above` ask for it.
#[derive(Clone, Debug)]
pub struct VolumeFacts {
    /// The device number that the catalog has for it.
    pub device: u64,
    /// Where it is mounted.
    pub mount_point: PathBuf,
    /// Its size, and what is used and free.
    pub capacity: Capacity,
    /// Whose free space its level is reckoned with.
    pub level_for: LevelFor,
    /// The level that it should be below.
    pub waterline: Level,
}

impl VolumeFacts {
    /// The scanned volumes as they are now, by the device numbers of the scan. Those whose room is not known are left out.
    pub fn now(state: &State, origin: &Origin) -> Vec<Self> {
        let facts = origin.volumes.iter().filter_map(|scanned| {
            let volume = volume_of(&scanned.place.0, state)?;
            Some(Self {
                device: scanned.device,
                mount_point: volume.mount_point,
                capacity: volume.capacity.ok()?,
                level_for: volume.level_for,
                waterline: volume.waterline,
            })
        });
        facts.chain(Self::of_store(state, origin)).collect()
    }

    /// A managed store as a volume, if it is said what it can hold.
    fn of_store(state: &State, origin: &Origin) -> Option<Self> {
        let listed = origin.store.as_ref()?;
        let whole = Bytes::new(listed.definition.capacity?);
        let free = whole.less(listed.used);
        let used = listed.used;
        let capacity = Capacity {
            total: whole,
            used,
            free_root: free,
            free_users: free,
            ..Capacity::default()
        };
        let mount_point = PathBuf::from(format!("store:{}", listed.definition.name));
        let waterline = state.waterline(&mount_point);
        Some(Self { device: 0, mount_point, capacity, level_for: LevelFor::Users, waterline })
    }

    /// How full it is, reckoned with the free space of those whom the settings name.
    pub fn level(&self) -> Level {
        self.capacity.level_for(self.level_for)
    }

    /// Its level once so much has been freed.
    pub fn level_after(&self, relief: Bytes) -> Level {
        Level::of(self.capacity.used.less(relief), self.capacity.whole_for(self.level_for))
    }

    /// Bytes that are still missing to bring the level below the waterline once so much has been freed.
    pub fn to_find(&self, relief: Bytes) -> Bytes {
        self.to_free(Enough::Waterline).less(relief)
    }

    /// Bytes that have to go until it is enough.
    pub(super) fn to_free(&self, enough: Enough) -> Bytes {
        let most = match enough {
            Enough::Waterline => self.most_at(self.waterline),
            Enough::Level(level) => self.most_at(level),
            Enough::Free(bytes) => self.capacity.whole_for(self.level_for).less(bytes),
        };
        self.capacity.used.less(most)
    }

    fn most_at(&self, level: Level) -> Bytes {
        level.of_capacity(self.capacity.whole_for(self.level_for))
    }
}

impl<'a> Circumstances<'a> {
    /// As things are now on this machine: for what is to be planned. Reads what is protected, asks the volumes for their
    /// levels, and looks for open files.
    ///
    /// Takes the origin and the roots of the scan and not its catalog: volumes may take long to answer, and a catalog that
    /// is shared must not be held meanwhile.
    ///
    /// # Errors
    ///
    /// [`RuleFileError`] of the rule file in the state directory: nobody knows what it protects then.
    pub fn now(state: &'a State, origin: &Origin, roots: &[Root]) -> Result<Self, RuleFileError> {
        let protection = protection_of(state, roots.iter().map(|root| root.path.as_path()))?;
        let open = Some(OpenFiles::collect(Time::now()));
        Ok(Self { open, ..Self::then(state, VolumeFacts::now(state, origin), protection) })
    }

    /// Looks for what is left over in the catalog, if one of the rules takes that.
    ///
    /// # Errors
    ///
    /// [`LookError`].
    pub fn look_for_leftovers(
        &mut self,
        rules: &RuleSet,
        catalog: &Catalog,
        state: &State,
    ) -> Result<(), LookError> {
        if rules.wants_leftovers() {
            let protection = self.protection.clone();
            let of_machine = rules.wants_programs();
            let found = leftovers::look(catalog.whole(), state, protection, of_machine, &|| false)?;
            self.leftovers = Some(Arc::new(found));
        }
        Ok(())
    }

    /// As things were when a scan was made, as far as that is known: what was open then is not.
    pub fn then(state: &'a State, volumes: Vec<VolumeFacts>, protection: Protection) -> Self {
        let mounts = kernel::mounts().unwrap_or_default();
        Self {
            accounts: state,
            volumes,
            protection,
            open: None,
            leftovers: None,
            confirmed: None,
            volume_root: Box::new(move |path| volume_root(path, state, &mounts)),
            zone: TimeZone::system(),
        }
    }
}

/// What is protected on this machine, and below these roots by the rule file of the state directory.
///
/// # Errors
///
/// Those of the rule file.
pub(super) fn protection_of<'p>(
    state: &State,
    roots: impl Iterator<Item = &'p Path>,
) -> Result<Protection, RuleFileError> {
    let mut protection = Protection::of_system(state);
    if let Some(rules) = RuleSet::read(&state.rules_file(), state)? {
        for place in roots.flat_map(|root| rules.protected_below(root)) {
            protection.add(place, "protected by the rules");
        }
    }
    Ok(protection)
}
