//! Trying rules on a catalog: what each takes and why, and what keeps the rest back.

use std::cell::Cell;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustc_hash::{FxHashMap, FxHashSet};

use super::circumstances::{Circumstances, VolumeFacts};
use super::directories;
use super::generations;
use super::model::{DeedWord, Rule, RuleSet, Takes};
use super::outcome::{
    HeldBack, Keeper, Match, ProgramMatch, Relief, RuleState, RuleTrial, Sum, TryOut,
};
use crate::analysis::is_holding_area;
use crate::catalog::{Catalog, EntryId, Finder};
use crate::kernel::Kind;
use crate::leftovers::{FoundGroup, Leftover, What};
use crate::units::{Bytes, Level};

impl RuleSet {
    /// What the rules take from a catalog. Ages count from the catalog's moment.
    ///
    /// A rule sees what the rules before it have left: an entry goes to the first rule that takes it, and a generation
    /// that a rule keeps stays, whatever a later rule says. What a rule that is over its limit would take stays too.
    pub fn try_on(&self, catalog: &Catalog, facts: &Circumstances<'_>) -> TryOut {
        let mut trial = Trial::new(self, catalog, facts);
        for (number, rule) in self.rules.iter().enumerate() {
            trial.rule(number as u16, rule);
        }
        let mut found = trial.found;
        catalog.sort_by_place(&mut found.matches, |found| found.entry);
        found
    }
}

/// What has become of an entry by the rules so far.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Fate {
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
struct Fates {
    /// 0 for nothing, else twice the number of the rule, counted from 1, and one more if it keeps the entry.
    codes: Vec<u32>,
}

impl Fates {
    fn of(&self, id: EntryId) -> Option<Fate> {
        let code = self.codes.get(id.0 as usize).copied().filter(|code| *code > 0)?;
        let rule = (code / 2 - 1) as u16;
        Some(if code % 2 == 0 { Fate::Taken(rule) } else { Fate::Kept(rule) })
    }

    fn set(&mut self, catalog: &Catalog, id: EntryId, fate: Fate) {
        if self.codes.is_empty() {
            self.codes.resize(catalog.ids().len(), 0);
        }
        self.codes[id.0 as usize] = match fate {
            Fate::Taken(rule) => (u32::from(rule) + 1) * 2,
            Fate::Kept(rule) => (u32::from(rule) + 1) * 2 + 1,
        };
    }
}

/// What generations and caps let go and keep of what a rule looks at.
#[derive(Default)]
struct ByGroups {
    go: Vec<EntryId>,
    kept: Vec<EntryId>,
    /// For each that goes, see [`Match::generation`] and [`Match::over`].
    reasons: FxHashMap<u32, Reason>,
    still_over: Bytes,
}

type Reason = (Option<(u32, u32)>, Option<Bytes>);

fn is_open(catalog: &Catalog, facts: &Circumstances<'_>, id: EntryId) -> bool {
    let (device, inode) = catalog.device_and_inode(id);
    facts.open.as_ref().is_some_and(|open| open.is_open(device, inode))
}

struct Trial<'a> {
    catalog: &'a Catalog,
    facts: &'a Circumstances<'a>,
    /// Topmost entries of protected places.
    protected: FxHashSet<u32>,
    /// Directories that are protected themselves, but not what is in them.
    itself: FxHashSet<u32>,
    fates: Fates,
    /// The directory that was last asked for, and what keeps all that lies in it: neighbours mostly share one.
    last_above: Cell<Option<(EntryId, Option<Keeper>)>>,
    /// Directories that hold something of which a rule has decided, if rules take whole leftovers.
    above_fates: Option<FxHashMap<u32, Fate>>,
    relief: Relief,
    found: TryOut,
}

impl<'a> Trial<'a> {
    fn new(rules: &RuleSet, catalog: &'a Catalog, facts: &'a Circumstances<'a>) -> Self {
        let mut new = Self {
            catalog,
            facts,
            protected: FxHashSet::default(),
            itself: FxHashSet::default(),
            fates: Fates::default(),
            last_above: Cell::new(None),
            above_fates: rules.wants_leftovers().then(FxHashMap::default),
            relief: Relief::default(),
            found: TryOut::default(),
        };
        let finder = Finder::new(catalog);
        for root in catalog.roots() {
            let Some((whole, itself)) = facts.protection.places_below(&root.path) else {
                new.protected.insert(root.entry.0);
                continue;
            };
            let by_rules = rules.protected_below(&root.path);
            for place in whole.iter().chain(&by_rules) {
                if root.path.starts_with(place) {
                    new.protected.insert(root.entry.0);
                }
                new.protected.extend(finder.find(place).map(|id| id.0));
            }
            new.itself.extend(itself.iter().filter_map(|place| finder.find(place)).map(|id| id.0));
        }
        let areas = catalog.ids().filter(|id| {
            catalog.is_directory(*id) && is_holding_area(OsStr::from_bytes(catalog.own_name(*id)))
        });
        let kept = areas.filter(|id| facts.protection.reason(&catalog.path(*id)).is_some());
        new.protected.extend(kept.map(|id| id.0));
        new
    }

    /// What keeps an entry whatever the rule says.
    fn keeper(&self, id: EntryId) -> Option<Keeper> {
        let inside = self.above_fates.as_ref().and_then(|above| above.get(&id.0));
        if let Some(fate) = inside {
            return Some(fate.keeper());
        }
        let above = || self.catalog.parent(id).and_then(|above| self.keeper_above(above));
        self.keeper_itself(id)
            .or_else(above)
            .or_else(|| is_open(self.catalog, self.facts, id).then_some(Keeper::InUse))
    }

    /// What keeps an entry since it is protected, or a rule has decided of it.
    fn keeper_itself(&self, id: EntryId) -> Option<Keeper> {
        if self.protected.contains(&id.0) {
            return Some(Keeper::Protected);
        }
        self.fates.of(id).map(Fate::keeper)
    }

    /// What keeps all that lies in a directory.
    fn keeper_above(&self, directory: EntryId) -> Option<Keeper> {
        if let Some((last, keeper)) = self.last_above.get()
            && last == directory
        {
            return keeper;
        }
        let mut above = std::iter::successors(Some(directory), |id| self.catalog.parent(*id));
        let keeper = above.find_map(|id| self.keeper_itself(id));
        self.last_above.set(Some((directory, keeper)));
        keeper
    }

    fn rule(&mut self, number: u16, rule: &Rule) {
        let mut trial = RuleTrial {
            state: RuleState::Acts,
            looked_at: Sum::default(),
            takes: Sum::default(),
            frees: Bytes::ZERO,
            is_held: rule.action == DeedWord::SetAside,
            still_over: Bytes::ZERO,
            enough: false,
        };
        if !rule.on {
            trial.state = RuleState::Off;
        } else if let Some(why) =
            rule.is_elsewhere(self.catalog.origin()).or_else(|| self.rests(rule))
        {
            trial.state = RuleState::Rests(why);
        } else {
            self.acts(number, rule, &mut trial);
        }
        self.found.rules.push(trial);
    }

    /// Keeps what a rule has decided.
    fn decide(&mut self, decided: impl Iterator<Item = (EntryId, Fate)>) {
        self.last_above.set(None);
        for (id, fate) in decided {
            self.fates.set(self.catalog, id, fate);
            let Some(above_fates) = &mut self.above_fates else { continue };
            let above =
                std::iter::successors(self.catalog.parent(id), |id| self.catalog.parent(*id));
            for id in above {
                // what is above that has been noted before
                if above_fates.insert(id.0, fate).is_some() {
                    break;
                }
            }
        }
    }

    /// Why the time of a rule has not come, if it has not.
    fn rests(&self, rule: &Rule) -> Option<String> {
        if !rule.leftovers.is_empty() && self.facts.leftovers.is_none() {
            return Some("what is left over has not been looked for".to_owned());
        }
        if rule.until.is_some() && !self.devices_moved_within(rule).is_empty() {
            return Some(
                "it moves things within their volume: that frees nothing, and is never enough"
                    .to_owned(),
            );
        }
        let volumes = &self.facts.volumes;
        let asks = rule.above.is_some() || rule.inodes_above.is_some() || rule.until.is_some();
        if !asks {
            return None;
        }
        let unknown = || {
            let roots = self.catalog.roots().iter();
            let device = |root: &crate::catalog::Root| self.catalog.device_and_inode(root.entry).0;
            roots.map(device).any(|device| !volumes.iter().any(|volume| volume.device == device))
        };
        if volumes.is_empty() || unknown() {
            return Some("the level of the volume is not known".to_owned());
        }
        if let Some(above) = rule.above
            && !volumes.iter().any(|volume| volume.level() > above)
        {
            let at = levels(volumes, VolumeFacts::level);
            return Some(format!("its time has not come: {at}, and not above {above}"));
        }
        if let Some(above) = rule.inodes_above {
            let of = |volume: &VolumeFacts| volume.capacity.inode_level();
            if !volumes.iter().any(|volume| of(volume).is_some_and(|level| level > above)) {
                let at = levels(volumes, |volume| of(volume).unwrap_or(Level::from_permille(0)));
                return Some(format!(
                    "its time has not come: of the inodes {at} are used, and not above {above}"
                ));
            }
        }
        None
    }

    fn acts(&mut self, number: u16, rule: &Rule, trial: &mut RuleTrial) {
        let catalog = self.catalog;
        let (looked_at, mut may) = self.candidates(rule);
        for id in &looked_at {
            trial.looked_at.add(catalog, *id);
        }
        may.retain(|id| match self.keeper(*id) {
            Some(by) => {
                self.found.held_back.push(HeldBack { entry: *id, rule: number, by });
                false
            }
            None => true,
        });
        let mut groups = ByGroups::default();
        if rule.has_groups() {
            groups = self.by_groups(number, rule, &looked_at, &may);
            may = std::mem::take(&mut groups.go);
            trial.still_over = groups.still_over;
        }
        if rule.until.is_some() {
            generations::put_in_order(catalog, rule, &mut may);
        }
        let by_program = self.by_program(number, rule);
        for found in &by_program {
            trial.looked_at.entries += found.item.entries;
            trial.looked_at.allocated += found.item.allocated;
        }
        let may_go = |found: &ProgramMatch| {
            rule.lens.allows_age(found.item.since, found.item.since, catalog.now())
        };
        let by_program = by_program.into_iter().filter(may_go).collect();
        let (taken, by_program) = self.until_enough(number, rule, trial, may, by_program);
        let kept = groups.kept.iter().map(|id| (*id, Fate::Kept(number)));
        let decided = kept.chain(taken.iter().map(|id| (*id, Fate::Taken(number))));
        self.decide(decided);
        if matches!(trial.state, RuleState::OverLimit(_)) {
            let held = |id| HeldBack { entry: id, rule: number, by: Keeper::Limit };
            self.found.held_back.extend(taken.into_iter().map(held));
            return;
        }
        self.found.by_program.extend(by_program);
        self.found.matches.extend(taken.into_iter().map(|entry| {
            let (generation, over) = groups.reasons.get(&entry.0).copied().unwrap_or_default();
            Match { entry, rule: number, generation, over }
        }));
    }

    /// What a rule looks at, of whatever age, and what of it may go by the rule's words.
    fn candidates(&self, rule: &Rule) -> (Vec<EntryId>, Vec<EntryId>) {
        let (catalog, accounts) = (self.catalog, self.facts.accounts);
        if !rule.leftovers.is_empty() {
            return self.leftovers(rule);
        }
        match rule.takes {
            Takes::Files => {
                let files = |selection: &crate::catalog::Selection| -> Vec<EntryId> {
                    let seen = catalog.seen(Some(selection));
                    catalog
                        .ids()
                        .filter(|id| seen.has(*id) && catalog.kind(*id) == Kind::File)
                        .collect()
                };
                let may = files(&rule.lens.select(catalog, accounts));
                let looked_at = match rule.lens.has_ages() {
                    true => files(&rule.looks_at.select(catalog, accounts)),
                    false => may.clone(),
                };
                (looked_at, may)
            }
            Takes::Directories => {
                let (protected, itself, fates) = (&self.protected, &self.itself, &self.fates);
                let facts = self.facts;
                let blocked = |id: EntryId| {
                    protected.contains(&id.0)
                        || itself.contains(&id.0)
                        || fates.of(id).is_some()
                        || is_open(catalog, facts, id)
                };
                let may = directories::holding(catalog, &rule.lens, rule.ages, accounts, &blocked);
                let never = |_: EntryId| false;
                let looked_at =
                    directories::holding(catalog, &rule.looks_at, rule.ages, accounts, &never);
                (looked_at, may)
            }
        }
    }

    /// What is left over of the groups of a rule: ages count since when it has been left over, other words are asked of the
    /// entry itself, and sizes of all of it.
    fn leftovers(&self, rule: &Rule) -> (Vec<EntryId>, Vec<EntryId>) {
        let catalog = self.catalog;
        let Some(found) = &self.facts.leftovers else { return (Vec::new(), Vec::new()) };
        let words = rule.looks_at.without_sizes().select(catalog, self.facts.accounts);
        let words = catalog.seen(Some(&words));
        let is_of_entries = |group: &&FoundGroup| {
            rule.leftovers.contains(&group.name) && !group.group().goes_through_program()
        };
        let groups = found.groups.iter().filter(is_of_entries);
        let (mut looked_at, mut may): (Vec<EntryId>, Vec<EntryId>) = (Vec::new(), Vec::new());
        for item in groups.flat_map(FoundGroup::that_go) {
            let Some(id) = item.id().filter(|id| words.has(*id)) else { continue };
            if !rule.lens.allows_size(item.allocated) {
                continue;
            }
            looked_at.extend(item.ids());
            if rule.lens.allows_age(item.since, catalog.accessed(id), catalog.now()) {
                may.extend(item.ids());
            }
        }
        // one entry may be in several groups, and lie in another that is left over too
        for list in [&mut looked_at, &mut may] {
            list.sort_unstable();
            list.dedup();
            let all: FxHashSet<u32> = list.iter().map(|id| id.0).collect();
            list.retain(|id| {
                let mut above =
                    std::iter::successors(catalog.parent(*id), |id| catalog.parent(*id));
                !above.any(|id| all.contains(&id.0))
            });
        }
        (looked_at, may)
    }

    /// What is left over of the groups of a rule that go through a program of their own, of whatever age, but what an
    /// earlier rule takes.
    fn by_program(&self, number: u16, rule: &Rule) -> Vec<ProgramMatch> {
        let groups = self.facts.leftovers.iter().flat_map(|found| &found.groups);
        let groups = groups.filter(|group| {
            rule.leftovers.contains(&group.name) && group.group().goes_through_program()
        });
        let mut found = Vec::new();
        for group in groups {
            for item in group.that_go().filter(|item| rule.lens.allows_size(item.allocated)) {
                let is_taken = |other: &ProgramMatch| {
                    (other.group, &other.item.what) == (group.name, &item.what)
                };
                if self.found.by_program.iter().any(is_taken) {
                    continue;
                }
                let (group, item, frees) = (group.name, item.clone(), self.freed_by(item));
                found.push(ProgramMatch { rule: number, group, item, frees });
            }
        }
        found
    }

    /// Bytes that a leftover which goes as a whole frees on each file system that is known.
    fn freed_by(&self, item: &Leftover) -> Vec<(u64, Bytes)> {
        let What::Package(removal) = &item.what else {
            return item.id().map_or_else(Vec::new, |id| {
                vec![(self.catalog.device_and_inode(id).0, item.allocated)]
            });
        };
        let mut here = removal.allocated;
        let mut places: Vec<(PathBuf, Bytes)> = Vec::new();
        for other in &removal.elsewhere {
            here = here.less(other.allocated);
            places.push((other.volume.0.clone(), other.allocated));
        }
        places.push((PathBuf::from("/usr"), here));
        let device = |place: &Path| {
            let root = (self.facts.volume_root)(place);
            let mut volumes = self.facts.volumes.iter();
            volumes.find(|volume| volume.mount_point == root).map(|volume| volume.device)
        };
        places.into_iter().filter_map(|(place, bytes)| Some((device(&place)?, bytes))).collect()
    }

    /// Leaves what generations and the cap of groups let go.
    fn by_groups(
        &mut self,
        number: u16,
        rule: &Rule,
        looked_at: &[EntryId],
        may: &[EntryId],
    ) -> ByGroups {
        let may: FxHashSet<u32> = may.iter().map(|id| id.0).collect();
        // what an earlier rule takes is no generation any more
        let left = looked_at
            .iter()
            .copied()
            .filter(|id| !matches!(self.keeper(*id), Some(Keeper::TakenBefore(_))));
        let groups = generations::groups(self.catalog, rule, left, &self.facts.zone);
        let mut found = ByGroups::default();
        for group in &groups {
            let mut over = rule.total.map(|cap| group.bytes(self.catalog).less(cap));
            let mut names = Relief::default();
            // the oldest first; the newest of a group stays, however large it is
            for (place, member) in group.members.iter().enumerate().rev() {
                let may_go = may.contains(&member.id.0);
                let by = if member.stays {
                    found.kept.push(member.id);
                    Some(if member.place == 0 { Keeper::Named } else { Keeper::Generation })
                } else if rule.total.is_some() && (over == Some(Bytes::ZERO) || place == 0) {
                    Some(Keeper::Fits)
                } else {
                    None
                };
                match by {
                    Some(by) if may_go => {
                        self.found.held_back.push(HeldBack { entry: member.id, rule: number, by });
                    }
                    None if may_go => {
                        let generation = (member.place > 0).then_some((member.place, member.of));
                        found.reasons.insert(member.id.0, (generation, over));
                        found.go.push(member.id);
                        let freed = names.credit(self.catalog, member.id, false);
                        over = over.map(|over| over.less(freed));
                    }
                    _ => {}
                }
            }
            found.still_over += over.unwrap_or(Bytes::ZERO);
        }
        found
    }

    /// Of what comes in its order, as much as is needed on each volume. Over its limit it frees nothing.
    fn until_enough(
        &mut self,
        number: u16,
        rule: &Rule,
        trial: &mut RuleTrial,
        ranked: Vec<EntryId>,
        by_program: Vec<ProgramMatch>,
    ) -> (Vec<EntryId>, Vec<ProgramMatch>) {
        let catalog = self.catalog;
        let (mut taken, mut frees) = (Vec::new(), Bytes::ZERO);
        // what the rule would take is undone if it is over its limit
        let mut relief = self.relief.clone();
        let frees_nothing = self.devices_moved_within(rule);
        for id in ranked {
            let device = catalog.device_and_inode(id).0;
            if let Some(enough) = rule.until {
                let volume = self.facts.volumes.iter().find(|volume| volume.device == device);
                // what is only set aside leaves the volume as full as it is, unless that is all that the rule does
                let frees = relief.on_volume(device);
                let so_far = if trial.is_held { frees.in_all } else { frees.at_once };
                let reached = volume.is_none_or(|volume| volume.to_free(enough) <= so_far);
                if reached {
                    trial.enough = true;
                    let held = HeldBack { entry: id, rule: number, by: Keeper::Enough };
                    self.found.held_back.push(held);
                    continue;
                }
            }
            if !frees_nothing.contains(&device) {
                frees += relief.credit(catalog, id, trial.is_held);
            }
            taken.push(id);
        }
        let mut taken_whole = Vec::new();
        for found in by_program {
            if let Some(enough) = rule.until {
                let is_wanted = |(device, bytes): &(u64, Bytes)| {
                    let mut volumes = self.facts.volumes.iter();
                    let volume = volumes.find(|volume| volume.device == *device);
                    let so_far = relief.on_volume(*device).at_once;
                    *bytes > Bytes::ZERO
                        && volume.is_some_and(|volume| volume.to_free(enough) > so_far)
                };
                if !found.frees.iter().any(is_wanted) {
                    trial.enough = true;
                    continue;
                }
            }
            relief.credit_program(&found);
            frees += found.item.allocated;
            taken_whole.push(found);
        }
        let mut sum = Sum::default();
        taken.iter().for_each(|id| sum.add(catalog, *id));
        for found in &taken_whole {
            sum.entries += found.item.entries;
            sum.allocated += found.item.allocated;
        }
        trial.takes = sum;
        if let Some(why) =
            over_limit(rule, trial).filter(|_| self.facts.confirmed != Some(sum.entries))
        {
            trial.state = RuleState::OverLimit(why);
        } else {
            (self.relief, trial.frees) = (relief, frees);
        }
        (taken, taken_whole)
    }

    /// The file systems on which a rule that moves things only gives them another name.
    fn devices_moved_within(&self, rule: &Rule) -> Vec<u64> {
        let Some(to) = &rule.to else { return Vec::new() };
        let roots = self.catalog.roots().iter();
        let goes_to: Vec<_> =
            roots.map(|root| (self.facts.volume_root)(&root.path.join(to))).collect();
        let volumes = self.facts.volumes.iter();
        let within = volumes.filter(|volume| goes_to.contains(&volume.mount_point));
        within.map(|volume| volume.device).collect()
    }
}

/// Which limit a rule would pass, if it would pass one.
fn over_limit(rule: &Rule, trial: &RuleTrial) -> Option<String> {
    let (limits, takes, looked_at) = (&rule.at_most, trial.takes, trial.looked_at);
    let style = crate::units::UnitStyle::Binary;
    if let Some(most) = limits.entries.filter(|most| takes.entries > *most) {
        let (has, most) = (crate::units::grouped(takes.entries), crate::units::grouped(most));
        return Some(format!("it would take {has} entries, and may take {most}"));
    }
    if let Some(most) = limits.size.filter(|most| takes.allocated > *most) {
        let (has, most) = (takes.allocated.shown(style), most.shown(style));
        return Some(format!("it would take {has}, and may take {most}"));
    }
    if let Some(most) = limits.share {
        let most_bytes = most.of_capacity(looked_at.allocated);
        if takes.allocated > most_bytes {
            let has = Level::of(takes.allocated, looked_at.allocated);
            return Some(format!("it would take {has} of what it looks at, and may take {most}"));
        }
    }
    None
}

/// The levels of volumes, in words.
fn levels(volumes: &[VolumeFacts], level: impl Fn(&VolumeFacts) -> Level) -> String {
    let one = |volume: &VolumeFacts| {
        format!("{} is at {}", crate::shown::Shown(&volume.mount_point), level(volume))
    };
    volumes.iter().map(one).collect::<Vec<_>>().join(", ")
}
