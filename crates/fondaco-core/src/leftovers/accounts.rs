//! What belongs to accounts that are gone, and to those that cannot be used.

use std::path::Path;

use rustc_hash::{FxHashMap, FxHashSet};

use super::found::Leftover;
use super::group::GroupName;
use super::pass::topmost;
use crate::catalog::{EntryId, Seen};
use crate::lens::Accounts;
use crate::units::Time;

/// From this number on accounts are of people (`login.defs(5)`, `UID_MIN`).
const FIRST_PERSON: u32 = 1000;
/// What the kernel shows for owners that it cannot map (`user_namespaces(7)`).
const NOBODY: u32 = 65534;

/// The topmost entries of which all belongs to numbers that no account has.
pub(super) fn unowned(seen: Seen<'_>, accounts: &dyn Accounts) -> Vec<(GroupName, Leftover)> {
    let catalog = seen.catalog();
    // a directory service is asked once for each number
    let mut users: FxHashMap<u32, bool> = FxHashMap::default();
    let mut groups: FxHashMap<u32, bool> = FxHashMap::default();
    let mut gone: FxHashMap<(u32, u32), (bool, bool)> = FxHashMap::default();
    for (user, group) in catalog.owner_pairs().iter().copied() {
        let no_user = *users
            .entry(user)
            .or_insert_with(|| user != NOBODY && accounts.user_name(user).is_none());
        let no_group = *groups
            .entry(group)
            .or_insert_with(|| group != NOBODY && accounts.group_name(group).is_none());
        if no_user || no_group {
            gone.insert((user, group), (no_user, no_group));
        }
    }
    if gone.is_empty() {
        return Vec::new();
    }
    let name = GroupName::Unowned;
    let least = name.group().least_age().secs() as i64;
    let holds = |id: EntryId| gone.contains_key(&catalog.owner(id));
    let of_entry = |id: EntryId| {
        let (user, group) = catalog.owner(id);
        let (no_user, _) = *gone.get(&(user, group))?;
        let note = match no_user {
            true => format!("belongs to user {user}, which no account has"),
            false => format!("belongs to group {group}, which there is not"),
        };
        let item = Leftover::entry(catalog, id, note.into());
        let is_old = catalog.now().sec.saturating_sub(item.since.sec) >= least;
        let item = match (no_user, is_old) {
            (false, _) => item.that_stays("its user is known: give it another group"),
            (true, false) => item.that_stays("written within the last 30 days"),
            (true, true) => item,
        };
        Some((name, item))
    };
    topmost(catalog, holds).into_iter().filter(|id| seen.has(*id)).filter_map(of_entry).collect()
}

/// Accounts of people that are locked or have expired (`shadow(5)`); empty if that cannot be read.
fn locked(root: &Path, now: Time) -> FxHashMap<u32, String> {
    let text = |file: &str| {
        let text = std::fs::read(root.join(file)).unwrap_or_default();
        String::from_utf8_lossy(&text).into_owned()
    };
    let today = now.sec / 86_400;
    let shadow = text("etc/shadow");
    let of_shadow = |line: &str| {
        let fields: Vec<&str> = line.split(':').collect();
        let (name, password) = (*fields.first()?, *fields.get(1)?);
        let expires: Option<i64> = fields.get(7).and_then(|day| day.parse().ok());
        // the shell decides whether somebody without a password can come in
        let why = match (password.starts_with('!'), expires.is_some_and(|day| day <= today)) {
            (_, true) => "has expired",
            (true, false) => "is locked",
            (false, false) => return None,
        };
        Some((name.to_owned(), why))
    };
    let locked: FxHashMap<String, &str> = shadow.lines().filter_map(of_shadow).collect();
    let of_passwd = |line: &str| {
        let mut fields = line.split(':');
        let name = fields.next()?;
        let number: u32 = fields
            .nth(1)?
            .parse()
            .ok()
            .filter(|number| *number >= FIRST_PERSON && *number != NOBODY)?;
        let why = locked.get(name)?;
        Some((number, format!("belongs to {}, an account that {why}", crate::shown::shown(name))))
    };
    text("etc/passwd").lines().filter_map(of_passwd).collect()
}

/// The topmost entries that belong to accounts which cannot be used: only told.
pub(super) fn of_locked(seen: Seen<'_>, root: &Path) -> Vec<(GroupName, Leftover)> {
    let catalog = seen.catalog();
    let locked = locked(root, catalog.now());
    let here: FxHashSet<u32> = catalog.owner_pairs().iter().map(|(user, _)| *user).collect();
    if !locked.keys().any(|user| here.contains(user)) {
        return Vec::new();
    }
    let holds = |id: EntryId| locked.contains_key(&catalog.owner(id).0);
    let of_entry = |id: EntryId| {
        let note = locked.get(&catalog.owner(id).0)?;
        Some((GroupName::LockedAccounts, Leftover::entry(catalog, id, note.as_str().into())))
    };
    topmost(catalog, holds).into_iter().filter(|id| seen.has(*id)).filter_map(of_entry).collect()
}
