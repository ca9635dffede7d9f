//! What was found: leftovers in their groups, and sums that are true.

use std::cmp::Reverse;
use std::sync::Arc;

use rustc_hash::{FxHashMap, FxHashSet};

use super::group::{Group, GroupName, Usual};
use super::packages::PackageRemoval;
use crate::catalog::{Catalog, EntryId};
use crate::units::{Bytes, Time};

/// What a leftover consists of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// One entry, with all below it.
    Entry(EntryId),
    /// Entries that belong together, the one that gives it its name first.
    Entries(Box<[EntryId]>),
    /// A package, which its manager removes.
    Package(Box<PackageRemoval>),
    /// A deleted file that processes hold, by its place among those that were found.
    Held(usize),
}

/// One thing that nobody may need.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leftover {
    /// What it consists of.
    pub what: What,
    /// Bytes on disk that are freed if just this goes.
    pub allocated: Bytes,
    /// Entries in it.
    pub entries: u64,
    /// Since when it has been left over: as a rule its last writing.
    pub since: Time,
    /// What it is.
    pub note: Arc<str>,
    /// Why it is not planned, if it is not.
    pub stays: Option<Arc<str>>,
}

impl Leftover {
    /// One entry of a scan.
    pub(super) fn entry(catalog: &Catalog, id: EntryId, note: Arc<str>) -> Self {
        Self {
            what: What::Entry(id),
            allocated: catalog.exclusive(id),
            entries: catalog.entries(id),
            since: catalog.newest(id),
            note,
            stays: None,
        }
    }

    /// With a reason for which it is not planned.
    pub(super) fn that_stays(self, reason: impl Into<Arc<str>>) -> Self {
        Self { stays: Some(reason.into()), ..self }
    }

    /// The entries of the scan that go with it.
    pub fn ids(&self) -> &[EntryId] {
        match &self.what {
            What::Entry(id) => std::slice::from_ref(id),
            What::Entries(ids) => ids,
            What::Package(_) | What::Held(_) => &[],
        }
    }

    /// The entry of the scan that it is known by.
    pub fn id(&self) -> Option<EntryId> {
        self.ids().first().copied()
    }
}

/// How much something is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sum {
    /// How many leftovers there are.
    pub items: u64,
    /// Entries in them.
    pub entries: u64,
    /// Bytes on disk that go with all of them together.
    pub allocated: Bytes,
}

/// What was found of one group.
#[derive(Clone, Debug)]
pub struct FoundGroup {
    /// The group that was looked for.
    pub name: GroupName,
    /// What was found: what can go first, and of that the largest.
    pub items: Vec<Leftover>,
    /// What planning the group plans.
    pub goes: Sum,
    /// What stays all the same, for the reasons that its leftovers say.
    pub stays: Sum,
    /// What kept a part of the group from being found.
    pub troubles: Vec<String>,
}

impl FoundGroup {
    /// What is known of the group.
    pub fn group(&self) -> &'static Group {
        self.name.group()
    }

    /// The leftovers that can be planned.
    pub fn that_go(&self) -> impl Iterator<Item = &Leftover> {
        let can_go = self.group().can_go();
        self.items.iter().filter(move |item| can_go && item.stays.is_none())
    }
}

/// See the [module](super).
#[derive(Clone, Debug, Default)]
pub struct Found {
    /// Groups in which there is something, or of which something is not known.
    pub groups: Vec<FoundGroup>,
    /// What goes if everything goes that can; what is in several groups counts once.
    pub total: Sum,
    /// Bytes that are in more than one group.
    pub twice: Bytes,
    /// What could not be looked at more closely, if that was so.
    pub not_looked_closer: Option<String>,
}

impl Found {
    /// Puts what was found into groups and adds it up.
    pub(super) fn of(
        catalog: &Catalog,
        all: Vec<(GroupName, Leftover)>,
        troubles: Vec<(GroupName, String)>,
    ) -> Self {
        let mut by_group: Vec<FoundGroup> =
            GroupName::ALL.iter().map(|name| FoundGroup::new(*name)).collect();
        all.into_iter().for_each(|(name, item)| by_group[name as usize].items.push(item));
        troubles.into_iter().for_each(|(name, text)| by_group[name as usize].troubles.push(text));
        by_group.retain(|group| !group.items.is_empty() || !group.troubles.is_empty());
        let mut found = Self { groups: by_group, ..Self::default() };
        found.groups.iter_mut().for_each(|group| group.arrange(catalog));
        found.add_up(catalog);
        found
    }

    /// The group of a name, if there is something in it.
    pub fn group(&self, name: GroupName) -> Option<&FoundGroup> {
        self.groups.iter().find(|group| group.name == name)
    }

    /// Keeps only some groups.
    pub fn only(&mut self, catalog: &Catalog, wanted: &[GroupName]) {
        self.groups.retain(|group| wanted.contains(&group.name));
        self.add_up(catalog);
    }

    /// Adds a group that does not come out of a scan.
    pub fn add(&mut self, catalog: &Catalog, mut group: FoundGroup) {
        group.arrange(catalog);
        self.groups.push(group);
        self.add_up(catalog);
    }

    fn add_up(&mut self, catalog: &Catalog) {
        // what has most to give first, and after that what is only told
        self.groups.sort_by_key(|group| {
            let is_held = group.name == GroupName::Held;
            (!is_held, group.goes.items == 0, Reverse(group.goes.allocated), group.name)
        });
        // what a process holds is chosen one by one, and in no group's sum
        let counted = |group: &&FoundGroup| group.group().usual != Usual::Release;
        let items = || self.groups.iter().filter(counted).flat_map(FoundGroup::that_go);
        let sum: Bytes = self.groups.iter().filter(counted).map(|group| group.goes.allocated).sum();
        self.total = sum_of(catalog, items());
        self.twice = sum.less(self.total.allocated);
    }
}

impl FoundGroup {
    /// One in which there is nothing yet.
    pub fn new(name: GroupName) -> Self {
        let (goes, stays) = (Sum::default(), Sum::default());
        Self { name, items: Vec::new(), goes, stays, troubles: Vec::new() }
    }

    /// Drops what lies in another leftover of the group, puts the largest first and adds up.
    fn arrange(&mut self, catalog: &Catalog) {
        let inside = Inside::of(catalog, self.items.iter());
        self.items.retain(|item| !item.id().is_some_and(|id| inside.has_above(id)));
        let ranks = catalog.directory_ranks(self.items.iter().filter_map(Leftover::id));
        let place = |item: &Leftover| {
            let id = item.id()?;
            let above = catalog.parent(id).unwrap_or(id).0;
            Some((ranks.get(&above).copied(), catalog.own_name(id)))
        };
        self.items.sort_by(|a, b| {
            let size = b.allocated.cmp(&a.allocated).then_with(|| b.entries.cmp(&a.entries));
            let stays = a.stays.is_some().cmp(&b.stays.is_some());
            stays.then(size).then_with(|| place(a).cmp(&place(b)))
        });
        self.goes = sum_of(catalog, self.that_go());
        let stays = self.items.iter().filter(|item| item.stays.is_some() || !self.group().can_go());
        self.stays = sum_of(catalog, stays);
    }
}

/// Entries of leftovers, to tell what lies in one of them.
struct Inside<'a> {
    catalog: &'a Catalog,
    entries: FxHashSet<u32>,
}

impl<'a> Inside<'a> {
    fn of<'i>(catalog: &'a Catalog, items: impl Iterator<Item = &'i Leftover>) -> Self {
        let entries = items.flat_map(Leftover::ids).map(|id| id.0).collect();
        Self { catalog, entries }
    }

    /// The leftover's entry that holds this one, itself left out.
    fn above(&self, id: EntryId) -> Option<EntryId> {
        let above = std::iter::successors(self.catalog.parent(id), |id| self.catalog.parent(*id));
        above.into_iter().find(|id| self.entries.contains(&id.0))
    }

    fn has_above(&self, id: EntryId) -> bool {
        self.above(id).is_some()
    }
}

/// What goes with all of these together: what lies in another of them counts once, and an inode with several names
/// counts if all of them go.
pub(super) fn sum_of<'i>(catalog: &Catalog, items: impl Iterator<Item = &'i Leftover>) -> Sum {
    let mut sum = Sum::default();
    let mut items: Vec<&Leftover> = items.collect();
    sum.items = items.len() as u64;
    items.retain(|item| match &item.what {
        What::Package(package) => {
            sum.allocated += package.allocated;
            sum.entries += package.entries;
            false
        }
        What::Held(_) => {
            sum.allocated += item.allocated;
            sum.entries += item.entries;
            false
        }
        _ => true,
    });
    let inside = Inside::of(catalog, items.iter().copied());
    let mut tops = FxHashSet::default();
    for id in inside.entries.iter().map(|id| EntryId(*id)).filter(|id| !inside.has_above(*id)) {
        tops.insert(id.0);
        sum.entries += catalog.entries(id);
        sum.allocated += catalog.exclusive(id);
    }
    let has_several =
        |id: &u32| catalog.is_directory(EntryId(*id)) || catalog.is_multi_linked(EntryId(*id));
    if !tops.iter().any(has_several) {
        return sum;
    }
    // names that lie in different ones are exclusive to none of them
    for names in catalog.linked_entries() {
        let top = |id: EntryId| match tops.contains(&id.0) {
            true => Some(id),
            false => inside.above(id).map(|mut at| {
                while let Some(above) = inside.above(at) {
                    at = above;
                }
                at
            }),
        };
        let Some((_, links)) = names.first().and_then(|id| catalog.names_of_inode(*id)) else {
            continue;
        };
        if names.len() as u32 != links {
            continue;
        }
        let Some(of_names) = names.iter().map(|id| top(*id)).collect::<Option<Vec<_>>>() else {
            continue;
        };
        let first = of_names[0];
        let is_counted = of_names.iter().all(|top| *top == first) && catalog.is_directory(first);
        if !is_counted {
            sum.allocated += catalog.own_allocated(names[0]);
        }
    }
    sum
}

/// Notes that many leftovers have in common, made once.
#[derive(Default)]
pub(super) struct Notes(FxHashMap<&'static str, Arc<str>>);

impl Notes {
    pub(super) fn of(&mut self, text: &'static str) -> Arc<str> {
        Arc::clone(self.0.entry(text).or_insert_with(|| Arc::from(text)))
    }
}
