//! Trying rules on the kept scans of a place: what they would have taken on each day, and what level that would have
//! left.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::circumstances::protection_of;
use super::{Circumstances, RuleFileError, RuleSet, RuleTrial, Sum, VolumeFacts};
use crate::analysis::Protection;
use crate::catalog::Catalog;
use crate::leftovers::{self, LookError};
use crate::saved::{self, SavedError, SavedScan};
use crate::state::State;
use crate::units::{Bytes, Level, Time};

/// Why the rules could not be tried on a day.
#[derive(Debug, thiserror::Error)]
pub enum PastError {
    /// The kept scan cannot be read.
    #[error(transparent)]
    Scan(#[from] SavedError),
    /// What was left over then cannot be told.
    #[error(transparent)]
    Leftovers(#[from] LookError),
}

/// A day of which a scan was kept.
#[derive(Debug)]
pub struct PastDay {
    /// Number of the kept scan.
    pub scan: u64,
    /// When it was scanned.
    pub scanned: Time,
    /// What the rules would have done that day, or why that is not known.
    pub outcome: Result<DayTried, PastError>,
}

/// What rules would have done on one day.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DayTried {
    /// For each rule of the file.
    pub rules: Vec<RuleTrial>,
    /// What all of them take.
    pub takes: Sum,
    /// Bytes that this frees on the volume of the place.
    pub frees: Bytes,
    /// The volume's levels, if its room was kept with the scan.
    pub levels: Option<PastLevels>,
}

/// The level of a volume on one day, with rules and without.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PastLevels {
    /// As it was.
    pub without: Level,
    /// As it would have been with what the rules take from this scan. What they would have taken on an earlier day and was
    /// there still is taken from this scan too, since it has only grown older.
    pub with: Level,
    /// The waterline as it is set now.
    pub waterline: Level,
}

impl PastLevels {
    /// Whether the rules would have kept the level at the waterline or below.
    pub fn would_have_held(&self) -> bool {
        self.with <= self.waterline
    }
}

/// The kept scans of a place, the last of each day (in UTC), oldest first. Scans that were stopped are left out.
///
/// # Errors
///
/// [`SavedError`] if the directory of kept scans cannot be read.
pub fn kept_days(state: &State, place: &Path) -> Result<Vec<SavedScan>, SavedError> {
    let mut days: Vec<SavedScan> = Vec::new();
    let of_place = |scan: &SavedScan| {
        let about = scan.about.as_ref().ok();
        about.is_some_and(|about| about.complete && about.roots == [place.to_owned()])
    };
    let mut scans: Vec<SavedScan> = saved::list(state)?.into_iter().filter(of_place).collect();
    let moment = |scan: &SavedScan| scan.about.as_ref().map_or(0, |about| about.scanned.sec);
    scans.sort_by_key(moment);
    for scan in scans {
        match days.last_mut() {
            Some(last) if day_of(moment(last)) == day_of(moment(&scan)) => *last = scan,
            _ => days.push(scan),
        }
    }
    Ok(days)
}

/// The day of a moment, counted from 1970.
fn day_of(seconds: i64) -> i64 {
    seconds.div_euclid(86_400)
}

impl RuleSet {
    /// Tries the rules on kept scans. Ages count from the moment of each scan; what was open then is not known and holds
    /// nothing back. `each` is called after every scan with how many are done, and ends the trial early with `Break`.
    ///
    /// # Errors
    ///
    /// [`RuleFileError`] of the rule file in the state directory: nobody knows what it protects then.
    pub fn try_on_days(
        &self,
        state: &State,
        days: &[SavedScan],
        each: &mut dyn FnMut(usize) -> ControlFlow<()>,
    ) -> Result<Vec<PastDay>, RuleFileError> {
        // that of today holds for all days, which are of one place
        let abouts = days.iter().filter_map(|scan| scan.about.as_ref().ok());
        let roots = abouts.flat_map(|about| &about.roots).take(1).map(PathBuf::as_path);
        let protection = protection_of(state, roots)?;
        let mut tried = Vec::new();
        for (number, scan) in days.iter().enumerate() {
            let outcome = self.try_on_scan(state, scan, &protection);
            let scanned = scan.about.as_ref().map_or(Time::at(0), |about| about.scanned);
            tried.push(PastDay { scan: scan.number, scanned, outcome });
            if each(number + 1).is_break() {
                break;
            }
        }
        Ok(tried)
    }

    fn try_on_scan(
        &self,
        state: &State,
        scan: &SavedScan,
        protection: &Protection,
    ) -> Result<DayTried, PastError> {
        let catalog = saved::open_file(&scan.path)?;
        let volumes = volumes_then(state, &catalog);
        let mut facts = Circumstances::then(state, volumes, protection.clone());
        if self.wants_leftovers() {
            // by that scan alone: what was there then cannot be looked at any more
            facts.leftovers = Some(Arc::new(leftovers::glance(catalog.whole(), state)?));
        }
        Ok(self.try_on_day(&catalog, &facts))
    }

    fn try_on_day(&self, catalog: &Catalog, facts: &Circumstances<'_>) -> DayTried {
        let out = self.try_on(catalog, facts);
        let volume = facts.volumes.first();
        let frees =
            volume.map_or(out.frees(), |volume| out.frees_on(catalog, volume.device).in_all);
        let levels = volume.map(|volume| PastLevels {
            without: volume.level(),
            with: volume.level_after(frees),
            waterline: volume.waterline,
        });
        let takes = out.takes();
        DayTried { rules: out.rules, takes, frees, levels }
    }
}

/// The volumes of a kept scan, as full as they were then. The first is that of its root.
fn volumes_then(state: &State, catalog: &Catalog) -> Vec<VolumeFacts> {
    let level_for = state.settings.level_for;
    let Some(root) = catalog.roots().first() else { return Vec::new() };
    let simulated = state.settings.simulated.iter().find(|volume| volume.path == root.path);
    if let Some(simulated) = simulated {
        let used = catalog.allocated(root.entry);
        return vec![VolumeFacts {
            device: catalog.device_and_inode(root.entry).0,
            mount_point: root.path.clone(),
            capacity: simulated.with_used(used),
            level_for,
            waterline: state.waterline(&root.path),
        }];
    }
    let of_root = catalog.device_and_inode(root.entry).0;
    let then = catalog.origin().volumes.iter().map(|volume| VolumeFacts {
        device: volume.device,
        mount_point: volume.mount_point.0.clone(),
        capacity: volume.capacity,
        level_for,
        waterline: state.waterline(&volume.mount_point.0),
    });
    let mut then: Vec<VolumeFacts> =
        then.filter(|volume| volume.capacity.total > Bytes::ZERO).collect();
    then.sort_by_key(|volume| volume.device != of_root);
    then
}
