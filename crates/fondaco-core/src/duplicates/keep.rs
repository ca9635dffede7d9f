//! Which copy of a set stays: an order of preference.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use super::Set;

use crate::catalog::{Catalog, EntryId};
use crate::pattern::{Pattern, PatternError};
use crate::units::Bytes;

/// One thing by which copies are preferred.
#[derive(Clone, Debug)]
enum Preference {
    /// What this pattern matches, or lies in a directory that it matches.
    Pattern {
        text: String,
        pattern: Box<Pattern>,
    },
    /// What lies below this directory.
    Below(PathBuf),
    Newest,
    Oldest,
    Shortest,
    Deepest,
}

/// An order of preference: the first that tells copies apart decides; if none does, the shortest path stays, and of equally
/// long ones the first.
#[derive(Clone, Debug, Default)]
pub struct Keep {
    preferences: Vec<Preference>,
    /// Entries that stay because a person said so, before all preferences.
    chosen: HashSet<EntryId>,
}

/// The words of an order of preference besides patterns.
pub const KEEP_WORDS: [&str; 4] = ["newest", "oldest", "shortest", "deepest"];

impl Keep {
    /// Reads words and patterns in the order in which they decide. A pattern without a slash is held against every
    /// name on the way to a copy, one with a slash against the path below the scanned root; a whole path means what
    /// lies below it.
    ///
    /// # Errors
    ///
    /// [`PatternError`].
    pub fn parse<T: AsRef<str>>(words: &[T]) -> Result<Self, PatternError> {
        words
            .iter()
            .map(|word| Preference::parse(word.as_ref()))
            .collect::<Result<_, _>>()
            .map(|preferences| Self { preferences, chosen: HashSet::new() })
    }

    /// As it is, and these entries stay whatever it says.
    #[must_use]
    pub fn with_chosen(self, chosen: HashSet<EntryId>) -> Self {
        Self { chosen, ..self }
    }

    /// Puts the copies of a set into the order in which they would stay.
    pub fn arrange(&self, catalog: &Catalog, set: &Set) -> Arranged {
        let mut copies = set.copies.clone();
        self.sort(catalog, &mut copies);
        let why = match copies[..] {
            [first, second, ..] => self.why(catalog, first, second),
            _ => String::new(),
        };
        let relief = set.relief(catalog, &copies);
        Arranged { length: set.length, copies, relief, why }
    }

    /// Puts copies into the order in which they would stay: the first one does. Of an inode with several names the one
    /// counts, and is given, that is preferred to the others.
    pub fn sort(&self, catalog: &Catalog, copies: &mut [EntryId]) {
        for copy in copies.iter_mut() {
            if let Some((names, _)) = catalog.names_of_inode(*copy) {
                let best = names.into_iter().min_by_key(|name| self.key(catalog, *name));
                *copy = best.unwrap_or(*copy);
            }
        }
        copies.sort_by_cached_key(|copy| self.key(catalog, *copy));
    }

    fn key(&self, catalog: &Catalog, copy: EntryId) -> (bool, Vec<Reverse<i64>>, usize, PathBuf) {
        let path = catalog.path(copy);
        let weights = self.preferences.iter().map(|by| Reverse(by.weight(catalog, copy, &path)));
        (!self.chosen.contains(&copy), weights.collect(), path.as_os_str().len(), path)
    }

    /// Why the first of some copies in their order stays before the second: the preference that tells them apart, with
    /// its number.
    pub fn why(&self, catalog: &Catalog, first: EntryId, second: EntryId) -> String {
        if self.chosen.contains(&first) {
            return "chosen by hand".to_owned();
        }
        let (one, other) = (catalog.path(first), catalog.path(second));
        let decides =
            self.preferences.iter().enumerate().find(|(_, by)| {
                by.weight(catalog, first, &one) != by.weight(catalog, second, &other)
            });
        match decides {
            Some((number, by)) => format!("keep {}: {}", number + 1, by.words()),
            None if one.as_os_str().len() < other.as_os_str().len() => "shortest path".to_owned(),
            None => "first by its path".to_owned(),
        }
    }
}

/// A set with its copies in the order in which they would stay.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Arranged {
    /// How long each of them is.
    pub length: Bytes,
    /// The one that stays first. Of an inode with several names the preferred one stands for it.
    pub copies: Vec<EntryId>,
    /// Bytes on disk that go if only the first stays, with all scanned names of the others.
    pub relief: Bytes,
    /// Why the first one stays.
    pub why: String,
}

impl Set {
    /// Bytes on disk that go if all copies but the first go: nothing of what has names elsewhere, or blocks in common
    /// with the first.
    fn relief(&self, catalog: &Catalog, copies: &[EntryId]) -> Bytes {
        let Some((first, others)) = copies.split_first() else { return Bytes::ZERO };
        let names = |id: EntryId| catalog.names_of_inode(id).unwrap_or_else(|| (vec![id], 0));
        let numbered = self.same_blocks.iter().enumerate();
        let group_of: HashMap<EntryId, usize> = numbered
            .flat_map(|(number, group)| group.iter().map(move |member| (*member, number)))
            .collect();
        let blocks_of = |id: EntryId| match group_of.is_empty() {
            true => None,
            false => names(id).0.iter().find_map(|name| group_of.get(name)).copied(),
        };
        let mut counted: HashSet<usize> = blocks_of(*first).into_iter().collect();
        let mut relief = Bytes::ZERO;
        for copy in others {
            let goes = names(*copy).1 == 0;
            let is_own = blocks_of(*copy).is_none_or(|group| counted.insert(group));
            if goes && is_own {
                relief += catalog.allocated(*copy);
            }
        }
        relief
    }
}

impl Preference {
    fn parse(text: &str) -> Result<Self, PatternError> {
        Ok(match text {
            "newest" => Self::Newest,
            "oldest" => Self::Oldest,
            "shortest" => Self::Shortest,
            "deepest" => Self::Deepest,
            path if path.starts_with('/') => Self::Below(PathBuf::from(path)),
            text => {
                let pattern = Box::new(Pattern::parse(text.strip_suffix('/').unwrap_or(text))?);
                Self::Pattern { text: text.to_owned(), pattern }
            }
        })
    }

    fn words(&self) -> String {
        match self {
            Self::Pattern { text, .. } => text.clone(),
            Self::Below(path) => path.to_string_lossy().into_owned(),
            Self::Newest => "newest".to_owned(),
            Self::Oldest => "oldest".to_owned(),
            Self::Shortest => "shortest".to_owned(),
            Self::Deepest => "deepest".to_owned(),
        }
    }

    /// The copy with the greatest weight stays.
    fn weight(&self, catalog: &Catalog, copy: EntryId, path: &Path) -> i64 {
        match self {
            Self::Pattern { pattern, .. } => {
                let below = catalog.path_below_root(copy);
                let matches =
                    |path: &Path| pattern.matches(path.file_name().unwrap_or(OsStr::new("")), path);
                i64::from(below.ancestors().any(matches))
            }
            Self::Below(place) => i64::from(path.starts_with(place)),
            Self::Newest => catalog.modified(copy).sec,
            Self::Oldest => -catalog.modified(copy).sec,
            Self::Shortest => -(path.as_os_str().len() as i64),
            Self::Deepest => path.components().count() as i64,
        }
    }
}
