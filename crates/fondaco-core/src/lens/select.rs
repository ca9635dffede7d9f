//! Holding a lens against every entry of a catalog.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustc_hash::FxHashMap;

use super::{Account, Accounts, Lens, Term, Test};
use crate::catalog::{Catalog, EntryId, Selection};
use crate::kernel::Kind;
use crate::naming::extension;
use crate::units::{Bytes, Time};

impl Lens {
    /// What passes, with the totals of every directory. Ages count from the catalog's moment.
    pub fn select(&self, catalog: &Catalog, accounts: &dyn Accounts) -> Selection {
        let terms: Vec<Ready<'_>> =
            self.in_order().map(|term| Ready::new(term, catalog, accounts)).collect();
        if terms
            .iter()
            .any(|term| matches!(term, Ready::Plain(Term { test: Test::Kinds(_), .. }, _)))
        {
            catalog.learn_kinds();
        }
        catalog.select(|id, spare: &mut Spare| {
            terms.iter().all(|term| term.passes(catalog, id, spare))
        })
    }

    /// Whether one entry passes.
    pub fn passes(&self, catalog: &Catalog, id: EntryId, accounts: &dyn Accounts) -> bool {
        let mut spare = Spare::default();
        self.in_order()
            .all(|term| Ready::new(term, catalog, accounts).passes(catalog, id, &mut spare))
    }

    /// Terms that cost little first.
    fn in_order(&self) -> impl Iterator<Item = &Term> {
        let mut terms: Vec<&Term> = self.terms.iter().collect();
        terms.sort_by_key(|term| match &term.test {
            Test::Larger(_) | Test::Smaller(_) => 0,
            Test::Older(_) | Test::Newer(_) | Test::Unread(_) => 1,
            Test::Owners(_) | Test::Groups(_) | Test::Attributes(_) | Test::Links(_) => 2,
            Test::Length(_) | Test::Extensions(_) | Test::Kinds(_) => 3,
            Test::Parts(_) | Test::Families(_) => 4,
            Test::Under(_) | Test::Depth(_) => 5,
            Test::Names(_) => 6,
        });
        terms.into_iter()
    }
}

/// Memory that is used again from entry to entry.
#[derive(Default)]
struct Spare {
    bytes: Vec<u8>,
    /// The directory of the last path that was made, and its path below the root.
    above: Option<(EntryId, PathBuf)>,
}

/// A term with what can be found out once for a whole catalog.
enum Ready<'a> {
    Plain(&'a Term, Ages),
    /// Passes by the entry's owner, by number of the owner in the catalog.
    Accounts {
        negated: bool,
        group: bool,
        numbers: Vec<u32>,
    },
    /// The topmost entries of each place.
    Under {
        negated: bool,
        places: Vec<EntryId>,
    },
    /// How many names an inode has, of those with several.
    Links {
        negated: bool,
        least: u32,
        counts: FxHashMap<u32, u32>,
    },
}

/// The oldest and newest moments that pass.
#[derive(Clone, Copy)]
struct Ages {
    now: Time,
}

impl<'a> Ready<'a> {
    fn new(term: &'a Term, catalog: &Catalog, accounts: &dyn Accounts) -> Self {
        let negated = term.negated;
        match &term.test {
            Test::Owners(wanted) => {
                let numbers = catalog.owner_pairs().iter().map(|(user, _)| *user);
                let has = |number| accounts.user_name(number).is_some();
                Self::Accounts { negated, group: false, numbers: chosen(wanted, numbers, has) }
            }
            Test::Groups(wanted) => {
                let numbers = catalog.owner_pairs().iter().map(|(_, group)| *group);
                let has = |number| accounts.group_name(number).is_some();
                Self::Accounts { negated, group: true, numbers: chosen(wanted, numbers, has) }
            }
            Test::Under(paths) => {
                let places = paths.iter().flat_map(|path| places(catalog, path)).collect();
                Self::Under { negated, places }
            }
            Test::Links(least) => {
                Self::Links { negated, least: *least, counts: catalog.link_counts() }
            }
            _ => Self::Plain(term, Ages { now: catalog.now() }),
        }
    }

    fn passes(&self, catalog: &Catalog, id: EntryId, spare: &mut Spare) -> bool {
        match self {
            Self::Plain(term, ages) => plain(&term.test, *ages, catalog, id, spare) != term.negated,
            Self::Accounts { negated, group, numbers } => {
                let (user, its_group) = catalog.owner(id);
                numbers.contains(if *group { &its_group } else { &user }) != *negated
            }
            Self::Under { negated, places } => {
                let mut at = Some(id);
                let mut inside = false;
                // every place stands before what lies below it
                while let Some(here) = at
                    && !inside
                {
                    inside = places.contains(&here);
                    at = catalog.parent(here);
                }
                inside != *negated
            }
            Self::Links { negated, least, counts } => {
                let names = if catalog.is_multi_linked(id) {
                    counts.get(&id.0).copied().unwrap_or(1)
                } else {
                    1
                };
                (names >= *least) != *negated
            }
        }
    }
}

/// The numbers that are wanted, of those that the catalog has.
fn chosen(
    wanted: &[Account],
    numbers: impl Iterator<Item = u32>,
    has: impl Fn(u32) -> bool,
) -> Vec<u32> {
    let is_wanted = |number: &u32| {
        wanted.iter().any(|account| match account {
            Account::Number(wanted) => wanted == number,
            Account::Unknown => !has(*number),
        })
    };
    let mut numbers: Vec<u32> = numbers.collect();
    numbers.sort_unstable();
    numbers.dedup();
    numbers.retain(is_wanted);
    numbers
}

/// The entries that a path means: one if it is absolute, else one for each root.
fn places(catalog: &Catalog, path: &[u8]) -> Vec<EntryId> {
    let path = Path::new(OsStr::from_bytes(path));
    let roots = catalog.roots().iter();
    if path.is_absolute() {
        // what lies above the roots holds all of them
        let above = roots.filter(|root| root.path.starts_with(path)).map(|root| root.entry);
        return above.chain(catalog.find(path)).collect();
    }
    roots.filter_map(|root| catalog.find(&root.path.join(path))).collect()
}

fn plain(test: &Test, ages: Ages, catalog: &Catalog, id: EntryId, spare: &mut Spare) -> bool {
    let name = || catalog.own_name(id);
    let age = |time: Time| time.age(ages.now);
    match test {
        Test::Larger(limit) => own(catalog, id) >= *limit,
        Test::Smaller(limit) => own(catalog, id) < *limit,
        Test::Older(limit) => age(catalog.modified(id)) >= *limit,
        Test::Newer(limit) => age(catalog.modified(id)) < *limit,
        Test::Unread(limit) => age(catalog.accessed(id)) >= *limit,
        Test::Kinds(kinds) => kinds.contains(&catalog.file_kind(id)),
        Test::Extensions(wanted) => {
            catalog.kind(id) == Kind::File && {
                let ending = extension(name());
                wanted.iter().any(|wanted| wanted.eq_ignore_ascii_case(ending))
            }
        }
        Test::Parts(parts) => parts.iter().all(|part| holds(name(), part)),
        Test::Families(families) => families
            .iter()
            .any(|family| crate::naming::is_of_family(name(), family, &mut spare.bytes)),
        Test::Length(ranges) => within(ranges, name().len() as u32),
        Test::Depth(ranges) => within(ranges, catalog.depth(id)),
        Test::Attributes(attributes) => attributes.iter().any(|a| a.holds(catalog, id)),
        Test::Names(patterns) => patterns.iter().any(|pattern| {
            let os_name = OsStr::from_bytes(name());
            if !pattern.wants_path() {
                return pattern.matches(os_name, Path::new(""));
            }
            let parent = catalog.parent(id);
            let known = spare.above.as_ref().is_some_and(|(above, _)| Some(*above) == parent);
            if !known {
                spare.above = parent.map(|parent| (parent, catalog.path_below_root(parent)));
            }
            let below =
                spare.above.as_ref().map_or_else(PathBuf::new, |(_, path)| path.join(os_name));
            pattern.matches(os_name, &below)
        }),
        Test::Owners(_) | Test::Groups(_) | Test::Under(_) | Test::Links(_) => false,
    }
}

/// Bytes on disk of the entry alone.
fn own(catalog: &Catalog, id: EntryId) -> Bytes {
    catalog.own_allocated(id)
}

fn within(ranges: &[(u32, u32)], number: u32) -> bool {
    ranges.iter().any(|(from, to)| (*from..=*to).contains(&number))
}

/// Whether a name holds a part, which is in lower case, in whatever case.
fn holds(name: &[u8], part: &[u8]) -> bool {
    part.is_empty() || name.windows(part.len()).any(|window| window.eq_ignore_ascii_case(part))
}
