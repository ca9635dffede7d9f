//! Generations: the entries of a group, newest first, and those of them that stay.

use std::cmp::Reverse;

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use rustc_hash::FxHashMap;

use super::model::{GroupOf, Order, Rule, Thin};
use crate::catalog::{Catalog, EntryId, InName};
use crate::kernel::Kind;
use crate::lens::AgeSource;
use crate::naming::{date_in, family};
use crate::units::{Bytes, Time};

/// An entry that counts as a generation.
pub(super) struct Member {
    pub id: EntryId,
    /// By the date in its name, else by its last writing in the time zone of the trial.
    pub moment: DateTime,
    /// It is among those that `keep`, `thin` or `keep_named` keep.
    pub stays: bool,
    /// Its place in its group, the newest first, from 1; 0 for one that `keep_named` keeps, which is not counted.
    pub place: u32,
    /// How many are counted in its group.
    pub of: u32,
}

/// The members of one group, newest first.
pub(super) struct Group {
    pub members: Vec<Member>,
}

/// Puts entries into their groups, each newest first, and marks what stays.
pub(super) fn groups(
    catalog: &Catalog,
    rule: &Rule,
    ids: impl Iterator<Item = EntryId>,
    zone: &TimeZone,
) -> Vec<Group> {
    let families = (rule.of == GroupOf::Family).then(|| catalog.numbered(InName::Family)).flatten();
    let mut by_name: FxHashMap<Vec<u8>, u32> = FxHashMap::default();
    let mut key = |id: EntryId| match rule.of {
        // those of one directory: a family that lies in many is one in each of them
        GroupOf::Family => {
            let number = match families {
                Some(keys) => keys.of(id) as u32,
                None => {
                    let name = catalog.own_name(id);
                    let name = family(name).unwrap_or_else(|| name.to_vec());
                    let next = by_name.len() as u32;
                    *by_name.entry(name).or_insert(next)
                }
            };
            (parent(catalog, id), number)
        }
        GroupOf::Directory => (parent(catalog, id), 0),
        GroupOf::Owner => (catalog.owner(id).0, 0),
        GroupOf::All => (0, 0),
    };
    let mut places: FxHashMap<(u32, u32), usize> = FxHashMap::default();
    let mut groups: Vec<Group> = Vec::new();
    for id in ids {
        let member =
            Member { id, moment: moment(catalog, id, zone), stays: false, place: 0, of: 0 };
        let place = *places.entry(key(id)).or_insert_with(|| {
            groups.push(Group { members: Vec::new() });
            groups.len() - 1
        });
        groups[place].members.push(member);
    }
    for group in &mut groups {
        group.sort(catalog);
        group.mark(catalog, rule);
    }
    groups
}

/// The number of the directory that holds an entry.
fn parent(catalog: &Catalog, id: EntryId) -> u32 {
    catalog.parent(id).map_or(u32::MAX, |parent| parent.0)
}

/// When an entry was made, as far as generations go: the date in its name, else its last writing, of a directory the
/// last writing of anything in it.
fn moment(catalog: &Catalog, id: EntryId, zone: &TimeZone) -> DateTime {
    date_in(catalog.own_name(id)).unwrap_or_else(|| {
        let written = match catalog.kind(id) {
            Kind::Directory => catalog.newest(id),
            _ => catalog.modified(id),
        };
        civil(written, zone)
    })
}

/// A time on the calendar and clock of a time zone; what the calendar does not reach is its end.
pub(super) fn civil(time: Time, zone: &TimeZone) -> DateTime {
    let at = Timestamp::new(time.sec, time.nsec.cast_signed());
    let end = if time.sec < 0 { DateTime::MIN } else { DateTime::MAX };
    at.map_or(end, |at| zone.to_datetime(at))
}

impl Group {
    /// Newest first; of equal moments what was written later, then the later path.
    fn sort(&mut self, catalog: &Catalog) {
        self.members.sort_by(|a, b| {
            (b.moment.cmp(&a.moment))
                .then_with(|| catalog.modified(b.id).cmp(&catalog.modified(a.id)))
                .then_with(|| catalog.compare_paths(b.id, a.id))
        });
    }

    fn mark(&mut self, catalog: &Catalog, rule: &Rule) {
        let is_named =
            |member: &Member| !rule.keep_named.is_empty() && rule.keeps_by_name(catalog, member.id);
        for member in &mut self.members {
            member.stays = is_named(member);
        }
        let counted: Vec<usize> =
            (0..self.members.len()).filter(|at| !self.members[*at].stays).collect();
        let of = counted.len() as u32;
        for (place, at) in counted.iter().enumerate() {
            let member = &mut self.members[*at];
            (member.place, member.of) = (place as u32 + 1, of);
            member.stays = rule.keep.is_some_and(|keep| (place as u64) < u64::from(keep));
        }
        if let Some(thin) = &rule.thin {
            for at in thin.kept(counted.iter().map(|at| self.members[*at].moment)) {
                self.members[counted[at]].stays = true;
            }
        }
    }

    /// Bytes on disk of all members, each inode once.
    pub fn bytes(&self, catalog: &Catalog) -> Bytes {
        let mut inodes = FxHashMap::default();
        let ids = self.members.iter().map(|member| member.id);
        ids.filter(|id| {
            !catalog.is_multi_linked(*id)
                || inodes.insert(catalog.device_and_inode(*id), ()).is_none()
        })
        .map(|id| catalog.allocated(id))
        .sum()
    }
}

impl Thin {
    /// Places of those that stay, of moments that come newest first: of each of the newest periods that have any, the
    /// newest.
    fn kept(&self, moments: impl Iterator<Item = DateTime>) -> Vec<usize> {
        let mut periods = [
            (self.daily, None, (|at| i64::from(days(at))) as fn(DateTime) -> i64),
            (self.weekly, None, week),
            (self.monthly, None, |at| i64::from(at.year()) * 12 + i64::from(at.month())),
            (self.yearly, None, |at| i64::from(at.year())),
        ];
        let mut kept = Vec::new();
        for (place, moment) in moments.enumerate() {
            let mut stays = false;
            for (left, last, period) in &mut periods {
                let now = Some(period(moment));
                if *left > 0 && *last != now {
                    (*left, *last, stays) = (*left - 1, now, true);
                }
            }
            if stays {
                kept.push(place);
            }
        }
        kept
    }
}

/// Days since 1970.
fn days(at: DateTime) -> i32 {
    let epoch = jiff::civil::date(1970, 1, 1);
    at.date().since((jiff::Unit::Day, epoch)).map_or(0, |span| span.get_days())
}

/// Weeks that begin on Monday (ISO 8601), counted from 1970.
fn week(at: DateTime) -> i64 {
    // 1970-01-01 was a Thursday
    (i64::from(days(at)) + 3).div_euclid(7)
}

/// Puts entries in the order in which a rule takes them: the oldest, largest or heaviest first; of equal ones the
/// older, then those of the first directory by path, and of those the first by name.
pub(super) fn put_in_order(catalog: &Catalog, rule: &Rule, ids: &mut Vec<EntryId>) {
    let time = |id: EntryId| {
        let written = match catalog.kind(id) {
            Kind::Directory => catalog.newest(id),
            _ => catalog.modified(id),
        };
        match rule.ages {
            AgeSource::Written => written,
            other => other.of(catalog, id).unwrap_or(written),
        }
    };
    let key = |id: EntryId| {
        let (time, size) = (time(id), catalog.allocated(id).get());
        let weight = match rule.order {
            Order::Oldest => 0,
            Order::Largest => u128::from(size),
            Order::ByteYears => u128::from(size) * u128::from(time.age(catalog.now()).secs()),
        };
        (Reverse(weight), time)
    };
    catalog.sort_by_place(ids, |id| *id);
    ids.sort_by_cached_key(|id| key(*id));
}
