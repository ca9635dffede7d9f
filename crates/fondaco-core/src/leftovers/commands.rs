//! Commands that others of the same name hide, and libraries of which several versions lie side by side.

use std::collections::HashMap;
use std::io::Read;
use std::path::Path;
use std::sync::Arc;

use super::found::Leftover;
use super::group::GroupName;
use crate::catalog::{Catalog, EntryId, Seen};
use crate::kernel::{self, Kind};

/// Where commands are looked for, in this order (`login.defs(5)`, `ENV_SUPATH`).
const PATH: [&str; 6] =
    ["/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"];

/// Commands that never run by their name, since a directory earlier in the path has one too.
pub(super) fn shadowed(seen: Seen<'_>) -> Vec<(GroupName, Leftover)> {
    let catalog = seen.catalog();
    let mut first: HashMap<&[u8], EntryId> = HashMap::new();
    let mut found = Vec::new();
    // where `/bin` is a link to `/usr/bin`, the scan has it as a link
    for directory in PATH.iter().filter_map(|place| catalog.find(Path::new(place))) {
        for id in catalog.children(directory).filter(|id| is_command(catalog, *id)) {
            let Some(hides) = first.get(catalog.own_name(id)).copied() else {
                first.insert(catalog.own_name(id), id);
                continue;
            };
            let (one, other) = (catalog.path(hides), catalog.path(id));
            let same = match are_equal(&one, &other) {
                Some(true) => "the same",
                Some(false) => "another one",
                None => "cannot be compared",
            };
            let note = format!("{} runs instead: {same}", crate::shown::Shown(&one));
            if seen.has(id) {
                found.push((GroupName::Shadowed, Leftover::entry(catalog, id, note.into())));
            }
        }
    }
    found
}

fn is_command(catalog: &Catalog, id: EntryId) -> bool {
    let executable = catalog.mode(id) & 0o111 != 0;
    matches!(catalog.kind(id), Kind::File | Kind::Link) && executable
}

/// Whether two commands are the same, by what they lead to and by their contents.
fn are_equal(one: &Path, other: &Path) -> Option<bool> {
    let (one, other) = (one.canonicalize().ok()?, other.canonicalize().ok()?);
    if one == other {
        return Some(true);
    }
    let open = |path: &Path| {
        kernel::open_file(kernel::open_root(path.parent()?).ok()?, path.file_name()?).ok()
    };
    let (mut one, mut other) = (open(&one)?, open(&other)?);
    if one.metadata().ok()?.len() != other.metadata().ok()?.len() {
        return Some(false);
    }
    let (mut a, mut b) = ([0; 8 << 10], [0; 8 << 10]);
    loop {
        let count = one.read(&mut a).ok()?;
        if count == 0 {
            return Some(true);
        }
        other.read_exact(&mut b[..count]).ok()?;
        if a[..count] != b[..count] {
            return Some(false);
        }
    }
}

/// Libraries of which a newer version lies in the same directory.
pub(super) fn library_versions(seen: Seen<'_>) -> Vec<(GroupName, Leftover)> {
    let catalog = seen.catalog();
    let mut found = Vec::new();
    let mut by_stem: HashMap<Vec<u8>, Vec<(Vec<u64>, EntryId)>> = HashMap::new();
    let directories = catalog.ids().filter(|id| {
        catalog.is_directory(*id) && catalog.own_name(*id).starts_with(b"lib")
            || catalog.is_root(*id)
    });
    let below = directories.flat_map(|top| {
        // the library directory itself, and one level for architectures
        let inner = catalog.children(top).filter(|id| catalog.is_directory(*id));
        std::iter::once(top).chain(inner.collect::<Vec<_>>())
    });
    let mut directories: Vec<EntryId> = below.collect();
    directories.sort_unstable();
    directories.dedup();
    for directory in directories {
        by_stem.clear();
        for id in catalog.children(directory).filter(|id| catalog.kind(*id) == Kind::File) {
            if let Some((stem, version)) = version_of(catalog.own_name(id)) {
                by_stem.entry(stem).or_default().push((version, id));
            }
        }
        for versions in by_stem.values_mut().filter(|versions| versions.len() > 1) {
            versions.sort();
            let Some((_, newest)) = versions.pop() else { continue };
            let note: Arc<str> = format!("{} is newer", super::pass::name(catalog, newest)).into();
            let older = versions.iter().filter(|(_, id)| seen.has(*id));
            found.extend(older.map(|(_, id)| {
                (GroupName::Libraries, Leftover::entry(catalog, *id, Arc::clone(&note)))
            }));
        }
    }
    found
}

/// The name of a library without its version, and the version: `libtide.so` and 1, 2 of `libtide.so.1.2`.
fn version_of(name: &[u8]) -> Option<(Vec<u8>, Vec<u64>)> {
    let text = std::str::from_utf8(name).ok().filter(|name| name.starts_with("lib"))?;
    let at = text.find(".so.")?;
    let numbers =
        text[at + 4..].split('.').map(str::parse).collect::<Result<Vec<u64>, _>>().ok()?;
    Some((text.as_bytes()[..at + 3].to_vec(), numbers))
}

#[cfg(test)]
mod tests {
    use super::version_of;

    #[test]
    fn versions_of_libraries_are_numbers() {
        let parts = |name: &str| version_of(name.as_bytes());
        assert_eq!(parts("libtide.so.1.10"), Some((b"libtide.so".to_vec(), vec![1, 10])));
        assert!(parts("libtide.so.1.9").unwrap().1 < parts("libtide.so.1.10").unwrap().1);
        assert_eq!(parts("libtide.so"), None);
        assert_eq!(parts("libtide.so.1-beta"), None);
        assert_eq!(parts("tide.so.1"), None);
    }
}
