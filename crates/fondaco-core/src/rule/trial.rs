//! Trying rules on a catalog: what each takes and why, and what keeps the rest back.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustc_hash::{FxHashMap, FxHashSet};

use super::circumstances::{Circumstances, VolumeFacts};
use super::directories;
use super::generations;
use super::keepers::{Fate, Fates, Known};
use super::model::{DeedWord, Rule, RuleSet, Takes};
use super::outcome::{
    HeldBack, Keeper, Match, ProgramMatch, Relief, RuleState, RuleTrial, Sum, TryOut,
};
use crate::analysis::is_holding_area;
use crate::catalog::{Catalog, EntryId, Finder};
use crate::kernel::Kind;
use crate::leftovers::{FoundGroup, Leftover, What};
use crate::lens::Lens;
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

struct Trial<'a> {
    catalog: &'a Catalog,
    facts: &'a Circumstances<'a>,
    /// Topmost entries of protected places.
    protected: FxHashSet<u32>,
    /// Directories that are protected themselves, but not what is in them.
    itself: FxHashSet<u32>,
    fates: Fates,
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

    /// What is known now of what keeps entries.
    fn known(&self) -> Known<'_> {
        Known {
            catalog: self.catalog,
            protected: &self.protected,
            fates: &self.fates,
            above_fates: self.above_fates.as_ref(),
            open: self.facts.open.as_ref(),
        }
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
        let (looked_at, may) = self.candidates(rule);
        trial.looked_at = Sum::of(catalog, &looked_at);
        let (mut may, held_back) = self.known().apart(&may, number);
        self.found.held_back.extend(held_back);
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
                let files = |lens: &Lens| {
                    lens.choose(catalog, accounts).that(|id| catalog.kind(id) == Kind::File)
                };
                let may = files(&rule.lens);
                let looked_at = match rule.lens.has_ages() {
                    true => files(&rule.looks_at),
                    false => may.clone(),
                };
                (looked_at, may)
            }
            Takes::Directories => {
                let (protected, itself, fates) = (&self.protected, &self.itself, &self.fates);
                let known = self.known();
                let blocked = |id: EntryId| {
                    protected.contains(&id.0)
                        || itself.contains(&id.0)
                        || fates.of(id).is_some()
                        || known.is_open(id)
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
        let keepers = self.known().keepers();
        let left = looked_at
            .iter()
            .copied()
            .filter(|id| !matches!(keepers.of(*id), Some(Keeper::TakenBefore(_))));
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
                        let device = self.catalog.device_and_inode(member.id).0;
                        let freed = names.credit(self.catalog, member.id, device, false);
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
                frees += relief.credit(catalog, id, device, trial.is_held);
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
        let mut sum = Sum::of(catalog, &taken);
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
