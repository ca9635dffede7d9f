//! Files of one family in one directory, of which the newest stay.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::found::{Leftover, Notes};
use super::group::GroupName;
use crate::catalog::{Catalog, EntryId};
use crate::naming::{Family, FileKind, date_in, family};
use crate::units::Time;

/// So many of a family must be there before they are told as a family with many generations.
const MANY: usize = 10;
/// What goes of it must take so much.
const LEAST: u64 = 1 << 20;

/// A file, and when it is from.
type Member = (Time, EntryId);

/// The files of one directory that belong to families. See the [module](self).
#[derive(Default)]
pub(super) struct Families {
    by_family: FxHashMap<(GroupName, Family), Vec<Member>>,
    reasons: FxHashMap<GroupName, Arc<str>>,
    notes: Notes,
}

impl Families {
    /// Whether the newest of each family of a group stay.
    pub(super) fn counts(group: GroupName) -> bool {
        newest(group) > 0
    }

    pub(super) fn add(
        &mut self,
        catalog: &Catalog,
        group: GroupName,
        id: EntryId,
        reason: &Arc<str>,
    ) {
        let name = catalog.own_name(id);
        let key = family(name).unwrap_or_else(|| name.to_vec());
        self.reasons.entry(group).or_insert_with(|| Arc::clone(reason));
        self.by_family.entry((group, key)).or_default().push((when(catalog, id), id));
    }

    /// A file that no row of the table names.
    pub(super) fn add_by_name(&mut self, catalog: &Catalog, id: EntryId) {
        let name = catalog.own_name(id);
        if !name.iter().any(u8::is_ascii_digit) {
            return;
        }
        let group = match FileKind::of_name(name).word() {
            "log" if !is_other_record(name) => GroupName::RotatedLogs,
            "archive" | "backup" | "disk-image" | "database" | "package" => GroupName::Generations,
            _ => return,
        };
        if let Some(family) = family(name) {
            self.by_family.entry((group, family)).or_default().push((when(catalog, id), id));
        }
    }

    /// Gives what is beyond the newest of each family, and forgets the directory.
    pub(super) fn finish(&mut self, catalog: &Catalog, found: &mut dyn FnMut(GroupName, Leftover)) {
        for ((group, _), mut members) in self.by_family.drain() {
            let many = group == GroupName::Generations;
            if members.len() <= if many { MANY } else { newest(group) } {
                continue;
            }
            // the newest first; of the same age the later name
            members.sort_by(|a, b| {
                b.0.cmp(&a.0).then_with(|| catalog.own_name(b.1).cmp(catalog.own_name(a.1)))
            });
            let least = group.group().least_age().secs() as i64;
            let is_old = |(_, id): &Member| {
                catalog.now().sec.saturating_sub(catalog.modified(*id).sec) >= least
            };
            let go: Vec<EntryId> = members
                .split_off(newest(group))
                .into_iter()
                .filter(is_old)
                .map(|(_, id)| id)
                .collect();
            let bytes: u64 = go.iter().map(|id| catalog.allocated(*id).get()).sum();
            if many && bytes < LEAST {
                continue;
            }
            for id in go {
                let note = match (group, self.reasons.get(&group)) {
                    (GroupName::RotatedLogs, _) => self.notes.of("beyond the seven newest"),
                    (GroupName::Generations, _) => self.notes.of("beyond the three newest of many"),
                    (_, Some(reason)) => Arc::clone(reason),
                    (_, None) => self.notes.of("there are newer ones"),
                };
                found(group, Leftover::entry(catalog, id, note));
            }
        }
    }
}

/// Records that are no logs of programs: the system's journal, which is cut down by its own program, and captures.
fn is_other_record(name: &[u8]) -> bool {
    let text = String::from_utf8_lossy(name);
    [".journal", ".pcap", ".evtx", ".trace", ".trc"].iter().any(|part| text.contains(part))
}

/// How many of the newest of each family stay; 0 if the group does not count families.
fn newest(group: GroupName) -> usize {
    match group {
        GroupName::RotatedLogs => 7,
        GroupName::Dumps | GroupName::Generations => 3,
        GroupName::SourceArchives => 1,
        _ => 0,
    }
}

/// The date in the name, or else the last writing.
fn when(catalog: &Catalog, id: EntryId) -> Time {
    let named = date_in(catalog.own_name(id));
    let zoned = named.and_then(|date| date.to_zoned(jiff::tz::TimeZone::UTC).ok());
    zoned.map_or_else(|| catalog.modified(id), |date| Time::at(date.timestamp().as_second()))
}
