//! The names of users and groups, from the system and the settings.

use std::collections::BTreeMap;

use super::Accounts;
use crate::catalog::{Elsewhere, Origin};
use crate::shown::shown;
use crate::state::State;

/// The accounts that the system knows, and no others.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemAccounts;

impl Accounts for SystemAccounts {
    fn user_number(&self, name: &str) -> Option<u32> {
        uzers::get_user_by_name(name).map(|user| user.uid())
    }

    fn group_number(&self, name: &str) -> Option<u32> {
        uzers::get_group_by_name(name).map(|group| group.gid())
    }

    fn user_name(&self, number: u32) -> Option<String> {
        uzers::get_user_by_uid(number).map(|user| shown(user.name()))
    }

    fn group_name(&self, number: u32) -> Option<String> {
        uzers::get_group_by_gid(number).map(|group| shown(group.name()))
    }

    fn users(&self) -> Vec<String> {
        first_fields("/etc/passwd")
    }

    fn groups(&self) -> Vec<String> {
        first_fields("/etc/group")
    }
}

/// The accounts of what was scanned: those of this machine, and for what it does not know or a scan of another machine
/// those that the scan has kept.
#[derive(Clone, Copy)]
pub struct AccountsOf<'a> {
    /// Where the scan comes from.
    pub origin: &'a Origin,
    /// The accounts of this machine.
    pub system: &'a dyn Accounts,
}

impl AccountsOf<'_> {
    /// Whether the scan is of another machine: then its numbers mean no account of this one.
    fn is_of_another_machine(&self) -> bool {
        matches!(self.origin.elsewhere(), Some(Elsewhere::OtherMachine(_)))
    }

    fn name(
        &self,
        number: u32,
        kept: &BTreeMap<u32, String>,
        here: impl Fn(u32) -> Option<String>,
    ) -> Option<String> {
        let kept = || kept.get(&number).map(shown);
        if self.is_of_another_machine() { kept() } else { here(number).or_else(kept) }
    }

    fn number(
        &self,
        name: &str,
        kept: &BTreeMap<u32, String>,
        here: impl Fn(&str) -> Option<u32>,
    ) -> Option<u32> {
        let kept = || kept.iter().find(|(_, known)| *known == name).map(|(number, _)| *number);
        if self.is_of_another_machine() { kept() } else { here(name).or_else(kept) }
    }
}

impl Accounts for AccountsOf<'_> {
    fn user_number(&self, name: &str) -> Option<u32> {
        self.number(name, &self.origin.users, |name| self.system.user_number(name))
    }

    fn group_number(&self, name: &str) -> Option<u32> {
        self.number(name, &self.origin.groups, |name| self.system.group_number(name))
    }

    fn user_name(&self, number: u32) -> Option<String> {
        self.name(number, &self.origin.users, |number| self.system.user_name(number))
    }

    fn group_name(&self, number: u32) -> Option<String> {
        self.name(number, &self.origin.groups, |number| self.system.group_name(number))
    }

    fn users(&self) -> Vec<String> {
        self.origin.users.values().map(shown).chain(self.system.users()).collect()
    }

    fn groups(&self) -> Vec<String> {
        self.origin.groups.values().map(shown).chain(self.system.groups()).collect()
    }
}

/// With the names that the settings add.
impl Accounts for State {
    fn user_number(&self, name: &str) -> Option<u32> {
        SystemAccounts.user_number(name).or_else(|| self.own_number(name))
    }

    fn group_number(&self, name: &str) -> Option<u32> {
        SystemAccounts.group_number(name).or_else(|| self.own_number(name))
    }

    fn user_name(&self, number: u32) -> Option<String> {
        SystemAccounts.user_name(number).or_else(|| self.own_name(number))
    }

    fn group_name(&self, number: u32) -> Option<String> {
        SystemAccounts.group_name(number).or_else(|| self.own_name(number))
    }

    fn users(&self) -> Vec<String> {
        self.own_names().chain(SystemAccounts.users()).collect()
    }

    fn groups(&self) -> Vec<String> {
        self.own_names().chain(SystemAccounts.groups()).collect()
    }
}

impl State {
    fn own_number(&self, name: &str) -> Option<u32> {
        let found = self.settings.accounts.iter().find(|(_, known)| *known == name);
        found.and_then(|(number, _)| number.parse().ok())
    }

    fn own_name(&self, number: u32) -> Option<String> {
        self.settings.accounts.get(&number.to_string()).cloned()
    }

    fn own_names(&self) -> impl Iterator<Item = String> + '_ {
        self.settings.accounts.values().cloned()
    }
}

/// Names in a file of accounts (`passwd(5)`, `group(5)`). Those of a directory service are not among them:
/// they are known when they are asked for, but are not offered.
fn first_fields(file: &str) -> Vec<String> {
    let text = std::fs::read(file).unwrap_or_default();
    let text = String::from_utf8_lossy(&text);
    let names = text.lines().filter_map(|line| line.split(':').next());
    names.filter(|name| !name.is_empty()).map(str::to_owned).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// Two users and a group of the station's.
    pub(crate) struct Few;

    impl Accounts for Few {
        fn user_number(&self, name: &str) -> Option<u32> {
            [("acoustics", 60_101), ("modelling", 60_102)]
                .iter()
                .find(|(known, _)| *known == name)
                .map(|(_, number)| *number)
        }

        fn group_number(&self, name: &str) -> Option<u32> {
            (name == "buoyops").then_some(60_200)
        }

        fn user_name(&self, number: u32) -> Option<String> {
            [60_101, 60_102].contains(&number).then(|| "somebody".to_owned())
        }

        fn group_name(&self, number: u32) -> Option<String> {
            (number == 60_200).then(|| "buoyops".to_owned())
        }

        fn users(&self) -> Vec<String> {
            vec!["modelling".into(), "acoustics".into(), "odd name".into()]
        }

        fn groups(&self) -> Vec<String> {
            vec!["buoyops".into()]
        }
    }

    #[test]
    fn accounts_of_the_system_and_of_the_settings_are_known_by_name_and_number() {
        let directory = tempfile::tempdir().unwrap();
        let mut state = State::open(directory.path()).unwrap();
        state.settings.accounts.insert("60101".into(), "acoustics".into());
        assert_eq!(state.user_number("root"), Some(0));
        assert_eq!(state.user_number("acoustics"), Some(60_101));
        assert_eq!(state.user_number("nobody of this name"), None);
        assert!(Accounts::user_name(&state, 60_101).is_some());
        assert_eq!(Accounts::user_name(&state, 60_199), None);
        assert!(state.users().contains(&"root".to_owned()));
        assert!(state.users().contains(&"acoustics".to_owned()));
    }
}
