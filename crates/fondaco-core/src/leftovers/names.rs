//! Names that will not survive elsewhere.

use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::found::Leftover;
use super::group::GroupName;
use crate::catalog::{Catalog, EntryId, Seen};

/// Longer names do not fit an encrypted directory of eCryptfs, which hides them in longer ones.
const LONGEST: usize = 143;

/// What other systems will not take about a name, if anything.
pub(super) fn fragile(name: &[u8]) -> Option<&'static str> {
    let last = name.last()?;
    if name.iter().any(|byte| *byte < b' ' || *byte == 0x7f) {
        Some("has control characters in its name")
    } else if !name.is_ascii() && std::str::from_utf8(name).is_err() {
        Some("its name is not UTF-8")
    } else if *last == b' ' || *last == b'.' && name != b"." && name != b".." {
        Some("its name ends in a space or a dot, which other systems cut off")
    } else if name.len() > LONGEST {
        Some("its name is longer than 143 bytes, more than encrypted directories take")
    } else {
        None
    }
}

/// Tells names of one directory that differ only in small and capital letters: on other systems they are one.
pub(super) fn case_twins(
    catalog: &Catalog,
    directory: EntryId,
    seen: &Seen<'_>,
    found: &mut Vec<(GroupName, Leftover)>,
) {
    let has_capital = |id: EntryId| catalog.own_name(id).iter().any(u8::is_ascii_uppercase);
    if catalog.children(directory).len() < 2 || !catalog.children(directory).any(has_capital) {
        return;
    }
    let mut by_small: FxHashMap<Vec<u8>, EntryId> = FxHashMap::default();
    let mut twins = Vec::new();
    for id in catalog.children(directory) {
        let small = match std::str::from_utf8(catalog.own_name(id)) {
            Ok(name) => name.to_lowercase().into_bytes(),
            Err(_) => catalog.own_name(id).to_ascii_lowercase(),
        };
        if let Some(first) = by_small.insert(small, id) {
            twins.extend([first, id]);
        }
    }
    twins.sort_unstable();
    twins.dedup();
    let note: Arc<str> =
        Arc::from("another name beside it differs only in small and capital letters");
    for id in twins.into_iter().filter(|id| seen.has(*id)) {
        found.push((GroupName::FragileNames, Leftover::entry(catalog, id, Arc::clone(&note))));
    }
}

#[cfg(test)]
mod tests {
    use super::fragile;

    #[test]
    fn names_that_other_systems_do_not_take_are_told() {
        let long = "x".repeat(144);
        for name in [&b"a\xffb"[..], b"tide ", b"tide.", b"a\nb", b"\x7f", long.as_bytes()] {
            assert!(fragile(name).is_some(), "{name:?}");
        }
        for name in [&b"tide.log"[..], "ébb".as_bytes(), b"a b", b".hidden", &long.as_bytes()[1..]]
        {
            assert_eq!(fragile(name), None, "{name:?}");
        }
    }
}
