//! Holding a lens against every entry of a catalog.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustc_hash::{FxHashMap, FxHashSet};

use super::{Account, Accounts, AgeSource, Lens, Term, Test};
use crate::catalog::{Catalog, Chosen, EntryId, Selection};
use crate::kernel::Kind;
use crate::naming::extension;
use crate::units::{Bytes, Time};

impl Lens {
    /// What passes, with the totals of every directory. Ages count from the catalog's moment.
    pub fn select(&self, catalog: &Catalog, accounts: &dyn Accounts) -> Selection {
        let terms = self.ready_for_all(catalog, accounts);
        catalog.select(|id, spare| all_pass(&terms, catalog, id, spare))
    }

    /// As [`Lens::select`], without the totals of the directories.
    pub fn choose(&self, catalog: &Catalog, accounts: &dyn Accounts) -> Chosen {
        let terms = self.ready_for_all(catalog, accounts);
        catalog.choose(|id, spare| all_pass(&terms, catalog, id, spare))
    }

    /// As [`Lens::ready`], to be asked of every entry.
    fn ready_for_all<'a>(&'a self, catalog: &Catalog, accounts: &dyn Accounts) -> Vec<Ready<'a>> {
        let terms = self.ready(catalog, accounts);
        let is_of_kinds =
            |term: &Ready<'_>| matches!(term, Ready::Plain(Term { test: Test::Kinds(_), .. }, _));
        if terms.iter().any(is_of_kinds) {
            catalog.learn_kinds();
        }
        terms
    }

    /// Whether one entry passes.
    pub fn passes(&self, catalog: &Catalog, id: EntryId, accounts: &dyn Accounts) -> bool {
        let mut spare = Scratch::default();
        self.ready(catalog, accounts).iter().all(|term| term.passes(catalog, id, &mut spare))
    }

    /// Its terms with what can be found out once, those that cost little first.
    fn ready<'a>(&'a self, catalog: &Catalog, accounts: &dyn Accounts) -> Vec<Ready<'a>> {
        let mut terms: Vec<Ready<'_>> =
            self.in_order().map(|term| Ready::new(term, catalog, accounts, self.ages)).collect();
        for (place, term) in self.terms.iter().enumerate() {
            if matches!(term.test, Test::FirstName) {
                let before = Self { terms: self.terms[..place].to_vec(), ages: self.ages };
                let others = further_names(catalog, &before, accounts);
                terms.push(Ready::FirstName { negated: term.negated, others });
            }
        }
        terms
    }

    /// Terms that cost little first.
    fn in_order(&self) -> impl Iterator<Item = &Term> {
        let by_itself = |term: &&Term| !matches!(term.test, Test::FirstName);
        let mut terms: Vec<&Term> = self.terms.iter().filter(by_itself).collect();
        terms.sort_by_key(|term| match &term.test {
            Test::Larger(_) | Test::Smaller(_) => 0,
            Test::Older(_) | Test::Newer(_) | Test::Unread(_) => 1,
            Test::Owners(_) | Test::Groups(_) | Test::Attributes(_) | Test::Links(_) => 2,
            Test::Length(_) | Test::Extensions(_) | Test::Kinds(_) => 3,
            Test::Parts(_) | Test::Families(_) => 4,
            Test::Under(_) | Test::Depth(_) => 5,
            Test::Names(_) | Test::FirstName => 6,
        });
        terms.into_iter()
    }
}

fn all_pass(terms: &[Ready<'_>], catalog: &Catalog, id: EntryId, spare: &mut Scratch) -> bool {
    terms.iter().all(|term| term.passes(catalog, id, spare))
}

/// Memory that is used again from entry to entry.
#[derive(Default)]
struct Scratch {
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
    /// Is not one of these: further names of inodes of which one name passes.
    FirstName {
        negated: bool,
        others: FxHashSet<u32>,
    },
    /// How many names an inode has, of those with several.
    Links {
        negated: bool,
        least: u32,
        counts: FxHashMap<u32, u32>,
    },
}

/// The moment that ages are counted at, and the time that they count from.
#[derive(Clone, Copy)]
struct Ages {
    now: Time,
    from: AgeSource,
}

impl<'a> Ready<'a> {
    fn new(term: &'a Term, catalog: &Catalog, accounts: &dyn Accounts, from: AgeSource) -> Self {
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
            _ => Self::Plain(term, Ages { now: catalog.now(), from }),
        }
    }

    fn passes(&self, catalog: &Catalog, id: EntryId, spare: &mut Scratch) -> bool {
        match self {
            Self::Plain(Term { negated, test: test @ (Test::Older(_) | Test::Newer(_)) }, ages) => {
                // what is of no age is neither old nor young
                let Some(time) = ages.from.of(catalog, id) else { return false };
                let age = time.age(ages.now);
                let holds = match test {
                    Test::Older(limit) => age >= *limit,
                    Test::Newer(limit) => age < *limit,
                    _ => false,
                };
                holds != *negated
            }
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
            Self::FirstName { negated, others } => others.contains(&id.0) == *negated,
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

/// Names of inodes that pass, but for the first of each by the bytes of their paths.
fn further_names(catalog: &Catalog, lens: &Lens, accounts: &dyn Accounts) -> FxHashSet<u32> {
    let terms = lens.ready(catalog, accounts);
    let mut spare = Scratch::default();
    let mut passes = |id: EntryId| terms.iter().all(|term| term.passes(catalog, id, &mut spare));
    let mut others = FxHashSet::default();
    for names in catalog.linked_entries() {
        others.extend(names.into_iter().filter(|name| passes(*name)).skip(1).map(|name| name.0));
    }
    others
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

fn plain(test: &Test, ages: Ages, catalog: &Catalog, id: EntryId, spare: &mut Scratch) -> bool {
    let name = || catalog.own_name(id);
    let age = |time: Time| time.age(ages.now);
    match test {
        Test::Larger(limit) => own(catalog, id) >= *limit,
        Test::Smaller(limit) => own(catalog, id) < *limit,
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
        Test::Older(_)
        | Test::Newer(_)
        | Test::Owners(_)
        | Test::Groups(_)
        | Test::Under(_)
        | Test::Links(_)
        | Test::FirstName => false,
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
