//! Breakdowns by ending and by family, of which each entry may have one of its own.

use std::cmp::Reverse;

use ahash::RandomState;

use super::Cell;
use super::below::Below;
use super::breakdown::{Breakdown, BreakdownBy, Part, SliceKey, in_order};
use crate::catalog::{Catalog, EntryId, HashedKeys, InName, Keys, NO_FILE};
use crate::units::Bytes;

/// What is added up for each key, of which there may be millions.
#[derive(Clone, Copy)]
struct Sum {
    allocated: u64,
    entries: u32,
    /// The first of them, or `u32::MAX`: memory is best written to before it is read, for zeros that were only
    /// read are the kernel's until they are written to.
    first: u32,
}

impl Sum {
    const NOTHING: Self = Self { allocated: 0, entries: 0, first: u32::MAX };

    fn add(&mut self, more: Self) {
        self.allocated += more.allocated;
        self.entries += more.entries;
        self.first = self.first.min(more.first);
    }

    fn cell(self) -> Cell {
        Cell { entries: u64::from(self.entries), allocated: Bytes::new(self.allocated) }
    }
}

/// Sorts entries by ending or family; `class` gives the age class of one.
pub(super) fn breakdown(
    catalog: &Catalog,
    below: &Below<'_>,
    (by, most_slices): (BreakdownBy, usize),
    class: &(impl Fn(EntryId) -> usize + Sync),
) -> Breakdown {
    let what = if by == BreakdownBy::Family { InName::Family } else { InName::Ending };
    // those of a small directory are found sooner than those of the whole scan
    let numbered = if below.is_most() { catalog.numbered(what) } else { None };
    let own;
    let keys = match numbered {
        Some(numbered) => numbered,
        None => {
            own = number(catalog, below, what);
            &own
        }
    };
    let sums = add_up(catalog, below, keys);
    let mut live: Vec<u32> =
        (0..keys.end() as u32).filter(|n| sums[*n as usize].entries > 0).collect();
    let mut whole = Cell::default();
    live.iter().for_each(|number| whole.add(sums[*number as usize].cell()));
    let listed = live.len().min(most_slices);
    if listed < live.len() {
        let most = large_first(&mut live, listed, |number| sums[number as usize].allocated);
        // equal ones by their keys: numbers are others each time
        let rank = |number: u32| {
            let sum = sums[number as usize];
            (Reverse(sum.allocated), Reverse(sum.entries))
        };
        let key = |number: u32| {
            let mut spare = Vec::new();
            catalog.in_name(what, EntryId(sums[number as usize].first), &mut spare).to_vec()
        };
        let last = listed.saturating_sub(1);
        live[..most].select_nth_unstable_by(last, |a, b| {
            rank(*a).cmp(&rank(*b)).then_with(|| key(*a).cmp(&key(*b)))
        });
    }
    let mut rest = (live.len() - listed, Cell::default());
    live.drain(listed..).for_each(|number| rest.1.add(sums[number as usize].cell()));
    let parts = details(catalog, below, keys, &live, class);
    let mut spare = Vec::new();
    let keyed = parts.into_iter().map(|part| {
        let key = match (what, catalog.in_name(what, part.largest.1, &mut spare)) {
            (InName::Family, family) => SliceKey::Family(family.to_owned()),
            (InName::Ending, NO_FILE) => SliceKey::NoFile,
            (InName::Ending, ending) => SliceKey::Extension(ending.to_owned()),
        };
        (key, part)
    });
    let mut found = in_order((by, most_slices), keyed.collect(), whole);
    found.rest = rest;
    found
}

/// Puts what has many bytes before the others, so that at least so many come first: by powers of two, in one
/// pass. Gives how many do.
fn large_first(all: &mut [u32], least: usize, bytes: impl Fn(u32) -> u64) -> usize {
    let power = |number: u32| bytes(number).checked_ilog2().map_or(0, |power| power as usize + 1);
    let mut counts = [0; 65];
    all.iter().for_each(|number| counts[power(*number)] += 1);
    let mut first = 0;
    let bound = (0..=64).rev().find(|power| {
        first += counts[*power];
        first >= least
    });
    let bound = bound.unwrap_or(0);
    let mut place = 0;
    for i in 0..all.len() {
        if power(all[i]) >= bound {
            all.swap(i, place);
            place += 1;
        }
    }
    place
}

/// Numbers the keys of just these entries.
fn number(catalog: &Catalog, below: &Below<'_>, what: InName) -> Keys {
    let hasher = RandomState::new();
    let dealt = below.fold(
        || (vec![HashedKeys::new()], Vec::new()),
        |(dealt, spare), id| {
            dealt[0].push(id, hasher.hash_one(catalog.in_name(what, id, spare)));
        },
        |(dealt, _), (more, _)| dealt.extend(more),
    );
    Keys::number(catalog.len(), &dealt.0)
}

fn add_up(catalog: &Catalog, below: &Below<'_>, keys: &Keys) -> Vec<Sum> {
    below.fold(
        || vec![Sum::NOTHING; keys.end()],
        |sums, id| {
            let allocated = catalog.own_allocated(id).get();
            sums[keys.of(id)].add(Sum { allocated, entries: 1, first: id.0 });
        },
        |sums, more| sums.iter_mut().zip(more).for_each(|(sum, more)| sum.add(more)),
    )
}

/// All that is shown of a few keys.
fn details(
    catalog: &Catalog,
    below: &Below<'_>,
    keys: &Keys,
    listed: &[u32],
    class: &(impl Fn(EntryId) -> usize + Sync),
) -> Vec<Part> {
    // from 1: 0 is none
    let mut places = vec![0u32; keys.end()];
    listed.iter().zip(1..).for_each(|(number, place)| places[*number as usize] = place);
    let parts = below.fold(
        || vec![None::<Part>; listed.len()],
        |parts, id| {
            if let Some(place) = places[keys.of(id)].checked_sub(1) {
                let part = parts[place as usize].get_or_insert_with(|| Part::new(id));
                part.add(catalog, id, catalog.own_allocated(id), class(id));
            }
        },
        |parts, more| {
            for (part, more) in parts.iter_mut().zip(more) {
                match (part, more) {
                    (Some(part), Some(more)) => part.join(catalog, more),
                    (none, more) => *none = none.take().or(more),
                }
            }
        },
    );
    parts.into_iter().flatten().collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_comes_first_holds_the_largest_and_nothing_is_lost(
            bytes in proptest::collection::vec(prop_oneof![Just(0), 0u64..9, any::<u64>()], 1..300),
            least in 1usize..300,
        ) {
            let least = least.min(bytes.len());
            let mut all: Vec<u32> = (0..bytes.len() as u32).collect();
            let first = large_first(&mut all, least, |number| bytes[number as usize]);
            prop_assert!(first >= least);
            let of = |numbers: &[u32]| -> Vec<u64> {
                numbers.iter().map(|number| bytes[*number as usize]).collect()
            };
            let smallest = of(&all[..first]).into_iter().min();
            prop_assert!(of(&all[first..]).into_iter().max() < smallest || first == all.len());
            all.sort_unstable();
            prop_assert!(all.iter().copied().eq(0..bytes.len() as u32));
        }
    }
}
