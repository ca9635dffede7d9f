//! Files of one name, with those that hold the same apart from those that do not: the generations of one document.

use std::cmp::Reverse;
use std::collections::{HashMap, HashSet};
use std::ffi::OsString;

use super::Set;
use crate::catalog::{EntryId, Seen};
use crate::kernel::Kind;
use crate::units::{Bytes, Time};

/// All files of one name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SameName {
    /// The last part of their paths.
    pub name: OsString,
    /// Their different contents, the one that was written last first.
    pub versions: Vec<Version>,
}

/// Files of one name that hold the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Version {
    /// One entry for each inode, in the order of the catalog; it may be one alone.
    pub set: Set,
    /// When the newest of them was last written.
    pub newest: Time,
}

impl SameName {
    /// How many files have the name; several names of one inode count once.
    pub fn files(&self) -> usize {
        self.versions.iter().map(|version| version.set.copies.len()).sum()
    }

    /// What all of them hold together.
    pub fn bytes(&self) -> Bytes {
        let of = |set: &Set| Bytes::new(set.length.get() * set.copies.len() as u64);
        self.versions.iter().map(|version| of(&version.set)).sum()
    }
}

/// The names that at least two files with bytes have, those first that hold most. `sets` are the equal files among
/// what is seen.
pub fn same_names(seen: Seen<'_>, at: &[EntryId], sets: &[Set]) -> Vec<SameName> {
    let catalog = seen.catalog();
    let mut set_of: HashMap<EntryId, usize> = HashMap::new();
    for (number, set) in sets.iter().enumerate() {
        set_of.extend(set.copies.iter().map(|copy| (*copy, number)));
    }
    let mut files: Vec<EntryId> = Vec::new();
    let mut open: Vec<EntryId> = at.to_vec();
    while let Some(id) = open.pop() {
        if catalog.is_directory(id) {
            open.extend(seen.children(id));
        } else if catalog.kind(id) == Kind::File
            && catalog.apparent(id) > Bytes::ZERO
            && seen.has(id)
        {
            files.push(id);
        }
    }
    files.sort_unstable_by(|one, other| {
        catalog.name(*one).cmp(catalog.name(*other)).then(one.cmp(other))
    });
    let mut found = Vec::new();
    for same in files.chunk_by(|one, other| catalog.name(*one) == catalog.name(*other)) {
        if same.len() < 2 {
            continue;
        }
        // by the set that an inode is in, or else by itself
        let mut versions: Vec<(Option<usize>, Version)> = Vec::new();
        let mut inodes: HashSet<(u64, u64)> = HashSet::new();
        for file in same {
            if !inodes.insert(catalog.device_and_inode(*file)) {
                continue;
            }
            let names = catalog.names_of_inode(*file).map_or_else(|| vec![*file], |(met, _)| met);
            let number = names.iter().find_map(|name| set_of.get(name)).copied();
            let known = versions.iter_mut().find(|(of, _)| number.is_some() && *of == number);
            if let Some((_, version)) = known {
                version.set.copies.push(*file);
                version.newest = version.newest.max(catalog.modified(*file));
                continue;
            }
            let set = Set {
                length: catalog.apparent(*file),
                copies: vec![*file],
                same_blocks: number.map_or_else(Vec::new, |at| sets[at].same_blocks.clone()),
            };
            versions.push((number, Version { set, newest: catalog.modified(*file) }));
        }
        let mut versions: Vec<Version> = versions.into_iter().map(|(_, version)| version).collect();
        if versions.iter().map(|version| version.set.copies.len()).sum::<usize>() < 2 {
            continue;
        }
        versions.sort_by_key(|version| (Reverse(version.newest), version.set.copies[0]));
        found.push(SameName { name: catalog.name(same[0]).to_owned(), versions });
    }
    found.sort_by_cached_key(|one| (Reverse(one.bytes()), one.name.clone()));
    found
}
