//! What a list of actions will free, to the byte, as far as names, blocks, extents and holders can tell.

use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};

use super::{Deed, HeldBytes, Survey};
use crate::kernel::Holder;
use crate::shown::Shown;
use crate::units::{Bytes, UnitStyle};

/// Bytes that an action frees.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Forecast {
    /// As soon as it is done.
    pub now: Bytes,
    /// Once the holding area is purged.
    pub later: Bytes,
}

impl Forecast {
    /// Adds what another frees.
    pub fn add(&mut self, other: Self) {
        self.now += other.now;
        self.later += other.later;
    }
}

/// Forecasts one action after the other, in the order in which they are carried out.
///
/// An inode is freed by the action that takes its last name, so what several actions share is
/// credited once, to the last of them; to none if a name stays elsewhere. If one of the names is
/// only set aside, its bytes come later. Likewise an extent that files share, where the file system
/// tells how many references it has; where it does not, it is credited to none. A deleted file is
/// freed by the action that ends the last of its holders. What is open is left alone and frees nothing, and so does what
/// is moved within its volume.
/// An archive's own size is not counted against
/// its relief: [`notes`] say where it lies on the same volume.
#[derive(Clone, Debug, Default)]
pub struct Forecaster {
    names: HashMap<(u64, u64), (u32, bool)>,
    extents: HashMap<(u64, u64), (u64, bool)>,
    ended: HashSet<u32>,
    released: HashSet<(u64, u64)>,
    held: Vec<HeldBytes>,
}

impl Forecaster {
    /// What the next action frees.
    pub fn next(&mut self, deed: &Deed, survey: &Survey) -> Forecast {
        if deed.is_release() {
            return Forecast { now: self.release(deed, survey), later: Bytes::ZERO };
        }
        if let Deed::Move { same_volume: true, .. } | Deed::Restore { .. } = deed {
            return Forecast::default();
        }
        let held = matches!(deed, Deed::SetAside);
        let mut frees = Forecast::default();
        if survey.in_use.is_some() {
            return frees; // it is left alone
        }
        let mut credit = |bytes: Bytes, later: bool| {
            if later { frees.later += bytes } else { frees.now += bytes }
        };
        credit(survey.single.less(Bytes::new(survey.shared.counted)), held);
        for (inode, (links, below, bytes)) in &survey.linked {
            if *deed == Deed::Share {
                credit(*bytes, false); // whatever its names
                continue;
            }
            let names = self.names.entry(*inode).or_insert((0, false));
            names.0 += below;
            names.1 |= held;
            if names.0 >= *links {
                credit(*bytes, names.1);
            }
        }
        for extent in &survey.shared.extents {
            let seen = self.extents.entry(extent.place).or_insert((0, false));
            seen.0 += 1;
            seen.1 |= held;
            if Some(seen.0) == extent.references {
                credit(Bytes::new(extent.bytes), seen.1);
            }
        }
        frees
    }

    /// What lets go of deleted files frees.
    fn release(&mut self, deed: &Deed, survey: &Survey) -> Bytes {
        let Some(held) = &survey.held else { return Bytes::ZERO };
        if let Deed::End { .. } = deed {
            self.ended.extend(held.target.holders.iter().map(|process| process.pid));
            self.held.extend(held.together.iter().cloned());
            let free: Vec<_> = self
                .held
                .iter()
                .filter(|file| file.holders.iter().all(|pid| self.ended.contains(pid)))
                .filter(|file| self.released.insert(file.inode))
                .map(|file| file.bytes)
                .collect();
            return free.into_iter().sum();
        }
        let first = self.released.insert((survey.target.device, survey.target.inode));
        let stays = matches!(deed, Deed::Save { same_volume: true, .. });
        if first && !stays { survey.target.allocated } else { Bytes::ZERO }
    }
}

/// How many names of each inode all actions of a plan take, and how many those that came so far.
#[derive(Clone, Debug, Default)]
pub struct PlannedNames {
    in_all: HashMap<(u64, u64), u32>,
    so_far: HashMap<(u64, u64), u32>,
}

impl PlannedNames {
    /// Counts names of an inode that an action takes; `before` that of which something is to be said, if so.
    pub fn add(&mut self, inode: (u64, u64), names: u32, before: bool) {
        *self.in_all.entry(inode).or_default() += names;
        if before {
            *self.so_far.entry(inode).or_default() += names;
        }
    }

    /// Bytes of a target's inodes that keep a name when the whole plan is done, and of those that a later action frees.
    /// To be asked for each action in order.
    fn of_next(&mut self, survey: &Survey) -> (Bytes, Bytes) {
        let (mut kept, mut later) = (Bytes::ZERO, Bytes::ZERO);
        for (inode, (links, below, bytes)) in &survey.linked {
            let so_far = self.so_far.entry(*inode).or_default();
            *so_far += below;
            if self.in_all.get(inode).unwrap_or(so_far) < links {
                kept += *bytes;
            } else if *so_far < *links {
                later += *bytes;
            }
        }
        (kept, later)
    }
}

/// What the deed alone, done to a target that takes so much, means for the forecast.
pub(super) fn note_of_deed(deed: &Deed, size: Bytes, same_volume: bool) -> Option<String> {
    match deed {
        Deed::SetAside => {
            let size = size.shown(UnitStyle::Binary);
            Some(format!("moved within its volume: its {size} are freed when it is purged"))
        }
        Deed::Restore { place, .. } => {
            Some(format!("goes back to {}: frees nothing", Shown(place)))
        }
        Deed::Move { same_volume: true, .. } => {
            Some("moved within its volume: frees nothing there".to_owned())
        }
        Deed::Archive { .. } if same_volume => {
            Some("the depot lies on the same volume: what the archive takes comes off".to_owned())
        }
        _ => None,
    }
}

/// Why an action frees less at once than its target takes, or what else its forecast stands on; one
/// sentence each. `same_volume`: the depot of an archive lies on the target's own volume. To be asked for each action
/// of a plan in order.
pub fn notes(
    deed: &Deed,
    survey: &Survey,
    same_volume: bool,
    names: &mut PlannedNames,
) -> Vec<String> {
    let binary = |bytes: Bytes| bytes.shown(UnitStyle::Binary);
    let mut notes = Vec::new();
    if let Some(held) = &survey.held {
        let more: Vec<_> =
            held.target.holders.iter().map(|p| format!("{} (pid {})", p.command, p.pid)).collect();
        if matches!(deed, Deed::End { .. }) && more.len() > 1 {
            notes.push(format!("freed only once all of them have ended: {}", more.join(", ")));
        }
        if let Deed::Save { same_volume: true, .. } = deed {
            notes.push("saved on the same volume: frees nothing there".to_owned());
        }
        return notes;
    }
    if let Some(tool) = &survey.tool {
        notes.push(tool.words());
        return notes;
    }
    if let Some((path, holder)) = &survey.in_use {
        let Holder { pid, command } = holder;
        let path = Shown(path);
        notes.push(format!(
            "{path} is open by {command} (pid {pid}): frees nothing, and is left alone, until it is closed"
        ));
    }
    notes.extend(note_of_deed(deed, survey.target.allocated, same_volume));
    let (kept, later) = names.of_next(survey);
    let (kept, later) =
        if *deed == Deed::Share { (Bytes::ZERO, Bytes::ZERO) } else { (kept, later) };
    if later > Bytes::ZERO {
        let later = binary(later);
        notes.push(format!("{later} of it are freed with the last of its names in this plan"));
    }
    if kept > Bytes::ZERO {
        notes.push(format!("{} have another name elsewhere, which keeps them", binary(kept)));
    }
    if survey.shared.extents.is_empty() {
        return notes;
    }
    let mut seen: HashMap<(u64, u64), u64> = HashMap::new();
    for extent in &survey.shared.extents {
        *seen.entry(extent.place).or_default() += 1;
    }
    let kept = survey.shared.extents.iter().filter(|extent| {
        extent.references.is_none_or(|references| seen[&extent.place] < references)
    });
    let kept: Bytes = kept.map(|extent| Bytes::new(extent.bytes)).sum();
    if kept > Bytes::ZERO {
        notes.push(format!("{} lie in extents that other files share", binary(kept)));
    }
    notes
}
