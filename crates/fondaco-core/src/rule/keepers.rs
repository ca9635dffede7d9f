//! What keeps an entry whatever a rule says: it is protected, in use, or an earlier rule has decided of it.

use std::cell::Cell;

use rustc_hash::{FxHashMap, FxHashSet};

use super::outcome::{HeldBack, Keeper};
use crate::catalog::{Catalog, EntryId};
use crate::kernel::OpenFiles;
use crate::parallel;

/// What has become of an entry by the rules so far.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Fate {
    Taken(u16),
    Kept(u16),
}

impl Fate {
    fn keeper(self) -> Keeper {
        match self {
            Self::Taken(rule) => Keeper::TakenBefore(rule),
            Self::Kept(rule) => Keeper::KeptBefore(rule),
        }
    }
}

/// What has become of each entry; four bytes for every entry of the catalog as soon as something has become of one.
#[derive(Default)]
pub(super) struct Fates {
    /// 0 for nothing, else twice the number of the rule, counted from 1, and one more if it keeps the entry.
    codes: Vec<u32>,
}

impl Fates {
    pub(super) fn of(&self, id: EntryId) -> Option<Fate> {
        let code = self.codes.get(id.0 as usize).copied().filter(|code| *code > 0)?;
        let rule = (code / 2 - 1) as u16;
        Some(if code % 2 == 0 { Fate::Taken(rule) } else { Fate::Kept(rule) })
    }

    pub(super) fn set(&mut self, catalog: &Catalog, id: EntryId, fate: Fate) {
        if self.codes.is_empty() {
            self.codes.resize(catalog.ids().len(), 0);
        }
        self.codes[id.0 as usize] = match fate {
            Fate::Taken(rule) => (u32::from(rule) + 1) * 2,
            Fate::Kept(rule) => (u32::from(rule) + 1) * 2 + 1,
        };
    }
}

/// What is known of what keeps entries.
#[derive(Clone, Copy)]
pub(super) struct Known<'a> {
    pub(super) catalog: &'a Catalog,
    /// Topmost entries of protected places.
    pub(super) protected: &'a FxHashSet<u32>,
    pub(super) fates: &'a Fates,
    /// Directories that hold something of which a rule has decided, if rules take whole leftovers.
    pub(super) above_fates: Option<&'a FxHashMap<u32, Fate>>,
    /// Nothing if it was not asked for.
    pub(super) open: Option<&'a OpenFiles>,
}

impl<'a> Known<'a> {
    /// Whether a process has the entry open.
    pub(super) fn is_open(self, id: EntryId) -> bool {
        self.open.is_some_and(|open| {
            let (device, inode) = self.catalog.device_and_inode(id);
            open.is_open(device, inode)
        })
    }

    /// To ask what keeps one entry after the other.
    pub(super) fn keepers(self) -> Keepers<'a> {
        Keepers { known: self, last_above: Cell::new(None) }
    }

    /// Tells entries that nothing keeps from those that a rule leaves for that reason. Both keep their order.
    pub(super) fn apart(self, ids: &[EntryId], rule: u16) -> (Vec<EntryId>, Vec<HeldBack>) {
        let part = parallel::part_of(ids.len(), parallel::ENTRIES as usize);
        let parts = parallel::each(ids.chunks(part), |ids| {
            let keepers = self.keepers();
            let (mut go, mut held_back) = (Vec::with_capacity(ids.len()), Vec::new());
            for id in ids {
                match keepers.of(*id) {
                    Some(by) => held_back.push(HeldBack { entry: *id, rule, by }),
                    None => go.push(*id),
                }
            }
            (go, held_back)
        });
        let (go, held_back): (Vec<_>, Vec<_>) = parts.into_iter().unzip();
        (go.concat(), held_back.concat())
    }
}

/// Asked what keeps one entry after the other: neighbours have what lies above them in common.
pub(super) struct Keepers<'a> {
    known: Known<'a>,
    /// The directory that was last asked for, and what keeps all that lies in it: neighbours mostly share one.
    last_above: Cell<Option<(EntryId, Option<Keeper>)>>,
}

impl Keepers<'_> {
    /// What keeps an entry.
    pub(super) fn of(&self, id: EntryId) -> Option<Keeper> {
        let known = &self.known;
        if let Some(fate) = known.above_fates.and_then(|above| above.get(&id.0)) {
            return Some(fate.keeper());
        }
        let above = || known.catalog.parent(id).and_then(|above| self.of_all_in(above));
        self.of_itself(id).or_else(above).or_else(|| known.is_open(id).then_some(Keeper::InUse))
    }

    /// What keeps an entry since it is protected, or a rule has decided of it.
    fn of_itself(&self, id: EntryId) -> Option<Keeper> {
        if self.known.protected.contains(&id.0) {
            return Some(Keeper::Protected);
        }
        self.known.fates.of(id).map(Fate::keeper)
    }

    /// What keeps all that lies in a directory.
    fn of_all_in(&self, directory: EntryId) -> Option<Keeper> {
        if let Some((last, keeper)) = self.last_above.get()
            && last == directory
        {
            return keeper;
        }
        let catalog = self.known.catalog;
        let mut above = std::iter::successors(Some(directory), |id| catalog.parent(*id));
        let keeper = above.find_map(|id| self.of_itself(id));
        self.last_above.set(Some((directory, keeper)));
        keeper
    }
}
