//! What a trial of rules has come to: for each rule what it takes, why, what keeps the rest, and what all of it frees.

use rustc_hash::FxHashMap;

use crate::catalog::{Catalog, EntryId};
use crate::leftovers::{GroupName, Leftover, Usual, What};
use crate::parallel;
use crate::units::Bytes;

/// Entries and their bytes on disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sum {
    /// Entries, with all that lies in directories.
    pub entries: u64,
    /// Bytes on disk, each inode once.
    pub allocated: Bytes,
}

/// Bytes that are freed on a file system.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Frees {
    /// As soon as what was taken is gone.
    pub at_once: Bytes,
    /// The same, and what is freed once what was set aside is purged.
    pub in_all: Bytes,
}

/// What keeps an entry that a rule would take.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Keeper {
    /// A place is protected, by the rules or whatever they say.
    Protected,
    /// An earlier rule takes it.
    TakenBefore(u16),
    /// It is a generation that an earlier rule keeps.
    KeptBefore(u16),
    /// It is one of the generations that stay.
    Generation,
    /// `keep_named` names it.
    Named,
    /// Its group is not over its cap, or is not any more.
    Fits,
    /// A process has it open.
    InUse,
    /// There is enough without it.
    Enough,
    /// The rule would take more than it may.
    Limit,
}

/// An entry that a rule takes, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Match {
    /// The entry that matches.
    pub entry: EntryId,
    /// Place of the rule in its file, from 0.
    pub rule: u16,
    /// Its place among the generations of its group, newest first from 1, and how many there are.
    pub generation: Option<(u32, u32)>,
    /// How far its group was over its cap before it went.
    pub over: Option<Bytes>,
}

/// A leftover that a rule takes and that goes as a whole, by another program: packages, files of the system journal. A
/// kernel that was installed by hand goes as a whole too.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProgramMatch {
    /// Place of the rule in its file, from 0.
    pub rule: u16,
    /// The group that it is left over in.
    pub group: GroupName,
    /// The leftover that is taken, as it was found.
    pub item: Leftover,
    /// Bytes that this frees on each file system, by its device number.
    pub frees: Vec<(u64, Bytes)>,
}

impl ProgramMatch {
    /// Whether it is only set aside: what no program removes.
    pub fn is_held(&self) -> bool {
        let is_package = matches!(self.item.what, What::Package(_));
        self.group.group().usual == Usual::Packages && !is_package
    }
}

/// An entry that a rule would take, and what keeps it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HeldBack {
    /// The entry that stays.
    pub entry: EntryId,
    /// Place of the rule in its file, from 0.
    pub rule: u16,
    /// What keeps it.
    pub by: Keeper,
}

/// What became of one rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RuleState {
    /// It takes what it takes.
    Acts,
    /// It is switched off.
    Off,
    /// Its time has not come, and why.
    Rests(String),
    /// It would take more than it may, and what it may: nothing of it is done.
    OverLimit(String),
}

/// One rule, as tried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleTrial {
    /// What became of it.
    pub state: RuleState,
    /// What it looks at, of whatever age.
    pub looked_at: Sum,
    /// What it takes; if it is over a limit, what it would take.
    pub takes: Sum,
    /// Bytes that this frees once nothing is set aside any more.
    pub frees: Bytes,
    /// What it takes is set aside, and frees nothing before it is purged.
    pub is_held: bool,
    /// What is still over the cap of groups that have nothing left that may go.
    pub still_over: Bytes,
    /// It stopped because there was enough.
    pub enough: bool,
}

/// What a rule file would take from a catalog.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TryOut {
    /// For each rule of the file.
    pub rules: Vec<RuleTrial>,
    /// Directory by directory in the order of their paths, in each by name.
    pub matches: Vec<Match>,
    /// Leftovers that their own programs remove, in the order of rules.
    pub by_program: Vec<ProgramMatch>,
    /// In the order of rules.
    pub held_back: Vec<HeldBack>,
}

impl TryOut {
    /// How much keeps a rule back, by what keeps it.
    pub fn keepers(&self, catalog: &Catalog, rule: usize) -> Vec<(Keeper, Sum)> {
        let mut sums: Vec<(Keeper, Sum)> = Vec::new();
        for held in self.held_back.iter().filter(|held| usize::from(held.rule) == rule) {
            let place = match sums.iter().position(|(by, _)| *by == held.by) {
                Some(place) => place,
                None => {
                    sums.push((held.by, Sum::default()));
                    sums.len() - 1
                }
            };
            sums[place].1.add(catalog, held.entry);
        }
        sums.sort_by_key(|(by, _)| *by);
        sums
    }

    /// Whether any rule takes anything.
    pub fn takes_something(&self) -> bool {
        !self.matches.is_empty() || !self.by_program.is_empty()
    }

    /// What all rules take together.
    pub fn takes(&self) -> Sum {
        let acting = self.rules.iter().filter(|rule| rule.state == RuleState::Acts);
        acting.fold(Sum::default(), |sum, rule| Sum {
            entries: sum.entries + rule.takes.entries,
            allocated: sum.allocated + rule.takes.allocated,
        })
    }

    /// Bytes that all rules free together on one file system, by its device number in the catalog.
    pub fn frees_on(&self, catalog: &Catalog, device: u64) -> Frees {
        let mut relief = Relief::default();
        for found in &self.matches {
            let is_held = self.rules.get(usize::from(found.rule)).is_some_and(|rule| rule.is_held);
            let device = catalog.device_and_inode(found.entry).0;
            relief.credit(catalog, found.entry, device, is_held);
        }
        for found in &self.by_program {
            relief.credit_program(found);
        }
        relief.on_volume(device)
    }

    /// Bytes that all rules free together.
    pub fn frees(&self) -> Bytes {
        let acting = self.rules.iter().filter(|rule| rule.state == RuleState::Acts);
        acting.map(|rule| rule.frees).sum()
    }
}

impl Sum {
    /// The sum of some entries.
    pub(super) fn of(catalog: &Catalog, ids: &[EntryId]) -> Self {
        let part = parallel::part_of(ids.len(), parallel::ENTRIES as usize);
        let mut all = Self::default();
        let parts = parallel::each(ids.chunks(part), |ids| {
            let mut sum = Self::default();
            ids.iter().for_each(|id| sum.add(catalog, *id));
            sum
        });
        for sum in parts {
            all.entries += sum.entries;
            all.allocated += sum.allocated;
        }
        all
    }

    pub(super) fn add(&mut self, catalog: &Catalog, id: EntryId) {
        self.entries += catalog.entries(id);
        self.allocated += catalog.allocated(id);
    }
}

/// Bytes that what was taken so far frees: an inode with several names by the last of them.
#[derive(Clone, Debug, Default)]
pub(super) struct Relief {
    by_device: FxHashMap<u64, Frees>,
    /// How many names of an inode were taken, and whether one of them is only set aside.
    names: FxHashMap<(u64, u64), (u32, bool)>,
}

impl Relief {
    pub(super) fn on_volume(&self, device: u64) -> Frees {
        self.by_device.get(&device).copied().unwrap_or_default()
    }

    /// Takes a leftover that its program removes.
    pub(super) fn credit_program(&mut self, found: &ProgramMatch) {
        for (device, freed) in &found.frees {
            let sum = self.by_device.entry(*device).or_default();
            sum.in_all += *freed;
            if !found.is_held() {
                sum.at_once += *freed;
            }
        }
    }

    /// Takes an entry that lies on a device, and gives what that frees in all; `is_held`: it is set aside.
    pub(super) fn credit(
        &mut self,
        catalog: &Catalog,
        id: EntryId,
        device: u64,
        is_held: bool,
    ) -> Bytes {
        let (mut freed, mut is_held) = (catalog.allocated(id), is_held);
        if catalog.is_directory(id) {
            freed = catalog.exclusive(id);
        } else if catalog.is_multi_linked(id) {
            let taken = self.names.entry(catalog.device_and_inode(id)).or_default();
            taken.0 += 1;
            taken.1 |= is_held;
            let links = catalog
                .names_of_inode(id)
                .map_or(u32::MAX, |(met, elsewhere)| met.len() as u32 + elsewhere);
            if taken.0 < links {
                freed = Bytes::ZERO;
            }
            is_held = taken.1;
        }
        let sum = self.by_device.entry(device).or_default();
        sum.in_all += freed;
        if !is_held {
            sum.at_once += freed;
        }
        freed
    }
}
