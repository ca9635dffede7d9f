//! The lens: one filter in words over everything that a scan met.
//!
//! Takes a text ([`Lens::parse`]) such as `kind:audio older:1y not owner:root`, a [`Catalog`](crate::catalog)
//! and the names of accounts; gives the [`Selection`](crate::catalog::Selection) of what passes
//! ([`Lens::select`]). A lens looks at each entry by itself, a directory too: what lies in it passes or not
//! on its own account. The language is described in `docs/lens.md`; the same words stand in rules.

mod accounts;
mod ages;
mod completion;
mod parse;
mod select;
mod word;

pub use accounts::{AccountsOf, SystemAccounts};
pub use ages::AgeSource;
pub use completion::{Completion, complete};
pub use parse::LensError;
pub(crate) use parse::nearest;
pub use word::{Attribute, WORDS, Word, WordRow};

#[cfg(test)]
pub(crate) use accounts::tests;

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use crate::catalog::{Catalog, Finder};
use crate::naming::FileKind;
use crate::pattern::Pattern;
use crate::units::{Age, Bytes};

/// See the [module](self). One that has no terms lets everything through.
#[derive(Clone, Debug, Default)]
pub struct Lens {
    terms: Vec<Term>,
    ages: AgeSource,
}

/// One condition; an entry must meet all.
#[derive(Clone, Debug)]
struct Term {
    negated: bool,
    test: Test,
}

/// What is asked of an entry; where there are several values one must hold.
#[derive(Clone, Debug)]
enum Test {
    Kinds(Vec<FileKind>),
    /// In lower case; an empty one stands for none.
    Extensions(Vec<Vec<u8>>),
    Names(Vec<Pattern>),
    /// What is typed without a word: a part of the name, in lower case.
    Parts(Vec<Vec<u8>>),
    Larger(Bytes),
    Smaller(Bytes),
    Older(Age),
    Newer(Age),
    Unread(Age),
    Owners(Vec<Account>),
    Groups(Vec<Account>),
    /// Without a slash at the end; relative ones lie below a root of the scan.
    Under(Vec<Vec<u8>>),
    Families(Vec<Vec<u8>>),
    Links(u32),
    /// Of the names of its inode that pass what is written before this, the first.
    FirstName,
    /// From and to, both included.
    Depth(Vec<(u32, u32)>),
    Length(Vec<(u32, u32)>),
    Attributes(Vec<Attribute>),
}

/// Whose something is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Account {
    Number(u32),
    /// A number that no account has.
    Unknown,
}

/// The names of users and groups, as the system and the settings know them.
pub trait Accounts: Sync {
    /// The number of a user.
    fn user_number(&self, name: &str) -> Option<u32>;
    /// The number of a group.
    fn group_number(&self, name: &str) -> Option<u32>;
    /// The name of the user that has this number, if one has.
    fn user_name(&self, number: u32) -> Option<String>;
    /// The name of the group that has this number, if one has.
    fn group_name(&self, number: u32) -> Option<String>;
    /// Names of users, to be offered while one is typed.
    fn users(&self) -> Vec<String>;
    /// Names of groups, likewise.
    fn groups(&self) -> Vec<String>;
}

impl Lens {
    /// Whether it lets everything through.
    pub fn is_open(&self) -> bool {
        self.terms.is_empty()
    }

    /// Whether it asks for what only a closer look at every entry tells.
    pub fn wants_closer_look(&self) -> bool {
        let wants = |attribute: &Attribute| attribute.wants_closer_look();
        self.terms.iter().any(|term| match &term.test {
            Test::Attributes(attributes) => attributes.iter().any(wants),
            _ => false,
        })
    }

    /// Whether it asks when something was last read.
    pub fn asks_for_reading(&self) -> bool {
        self.terms.iter().any(|term| matches!(term.test, Test::Unread(_)))
    }

    /// Places of `under` that are not in a scan: with a misspelt one the lens chooses nothing, or everything.
    pub fn places_not_met(&self, catalog: &Catalog) -> Vec<PathBuf> {
        let finder = Finder::new(catalog);
        let is_met = |place: &PathBuf| {
            catalog.roots().iter().any(|root| finder.find(&root.path.join(place)).is_some())
        };
        let under = self.terms.iter().filter_map(|term| match &term.test {
            Test::Under(places) => Some(places),
            _ => None,
        });
        let places = under.flatten().map(|place| PathBuf::from(OsStr::from_bytes(place)));
        places.filter(|place| !is_met(place)).collect()
    }

    /// Both at once: what passes must pass each.
    pub fn and(mut self, other: Self) -> Self {
        self.terms.extend(other.terms);
        self
    }
}
