//! Ages in a lens: the time that they count from, and a lens with and without them.

use serde::{Deserialize, Serialize};

use super::{Lens, Term, Test};
use crate::catalog::{Catalog, EntryId};
use crate::naming::date_in;
use crate::units::{Bytes, Time};

/// The time of an entry that `older` and `newer` count from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AgeSource {
    /// When its contents were last written.
    #[default]
    Written,
    /// When it was last read, as far as its volume keeps that.
    Read,
    /// When its inode was last changed: its contents, owner, mode or names.
    Changed,
    /// The date in its name ([`date_in`]), to the day. What has none there is of no age.
    Named,
}

impl AgeSource {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Written => "written",
            Self::Read => "read",
            Self::Changed => "changed",
            Self::Named => "named",
        }
    }

    /// The time of an entry, if it has one of this kind. The clock of dates in names is UTC.
    pub fn of(self, catalog: &Catalog, id: EntryId) -> Option<Time> {
        match self {
            Self::Written => Some(catalog.modified(id)),
            Self::Read => Some(catalog.accessed(id)),
            Self::Changed => Some(catalog.changed(id)),
            Self::Named => {
                let date = date_in(catalog.own_name(id))?;
                let at = jiff::tz::TimeZone::UTC.to_timestamp(date).ok()?;
                Some(Time::at(at.as_second()))
            }
        }
    }
}

impl Lens {
    /// The same lens, with ages that count from another time.
    pub fn counting_from(self, ages: AgeSource) -> Self {
        Self { ages, ..self }
    }

    /// Whether it asks how old something is.
    pub fn has_ages(&self) -> bool {
        self.terms.iter().any(Term::is_of_age)
    }

    /// The same lens for entries of any age.
    pub fn without_ages(&self) -> Self {
        self.only(|term| !term.is_of_age())
    }

    /// The same lens for entries of any size.
    pub fn without_sizes(&self) -> Self {
        self.only(|term| !term.is_of_size())
    }

    /// The lens in three parts for whole directories: what is asked of the directory itself, of the files in it, and
    /// of the links and special files in it. Sizes are in none of them: see [`Lens::allows_size`].
    pub fn for_directories(&self, ages: AgeSource) -> (Self, Self, Self) {
        // the date in a directory's name is the age of all of it
        let is_own =
            |term: &Term| term.is_of_directory() || (ages == AgeSource::Named && term.is_of_age());
        let of_others = |term: &Term| {
            !is_own(term)
                && (term.is_of_age() || matches!(term.test, Test::Owners(_) | Test::Groups(_)))
        };
        let of_files = |term: &Term| !is_own(term) && !term.is_of_size();
        (self.only(is_own), self.only(of_files), self.only(of_others))
    }

    /// Whether what it says of ages holds for something that has been left over since a moment, and was last read then.
    pub fn allows_age(&self, since: Time, read: Time, now: Time) -> bool {
        let (age, unread) = (since.age(now), read.age(now));
        self.terms.iter().all(|term| match term.test {
            Test::Older(limit) => (age >= limit) != term.negated,
            Test::Newer(limit) => (age < limit) != term.negated,
            Test::Unread(limit) => (unread >= limit) != term.negated,
            _ => true,
        })
    }

    /// Whether what it says of sizes holds for so many bytes on disk.
    pub fn allows_size(&self, bytes: Bytes) -> bool {
        self.terms.iter().all(|term| match term.test {
            Test::Larger(limit) => (bytes >= limit) != term.negated,
            Test::Smaller(limit) => (bytes < limit) != term.negated,
            _ => true,
        })
    }

    fn only(&self, wanted: impl Fn(&Term) -> bool) -> Self {
        let terms = self.terms.iter().filter(|term| wanted(term)).cloned().collect();
        Self { terms, ages: self.ages }
    }
}

impl Term {
    fn is_of_age(&self) -> bool {
        matches!(self.test, Test::Older(_) | Test::Newer(_) | Test::Unread(_))
    }

    fn is_of_size(&self) -> bool {
        matches!(self.test, Test::Larger(_) | Test::Smaller(_))
    }

    /// Whether it asks for the name or the place of a directory, and not for what lies in it.
    fn is_of_directory(&self) -> bool {
        match self.test {
            Test::Names(_)
            | Test::Parts(_)
            | Test::Under(_)
            | Test::Families(_)
            | Test::FirstName
            | Test::Depth(_)
            | Test::Length(_)
            | Test::Attributes(_) => true,
            Test::Larger(_)
            | Test::Smaller(_)
            | Test::Kinds(_)
            | Test::Extensions(_)
            | Test::Older(_)
            | Test::Newer(_)
            | Test::Unread(_)
            | Test::Owners(_)
            | Test::Groups(_)
            | Test::Links(_) => false,
        }
    }
}
