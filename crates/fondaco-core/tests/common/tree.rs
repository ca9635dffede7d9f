//! Trees by chance, and their totals by the plainest way.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use fondaco_core::catalog::Catalog;
use proptest::prelude::*;

#[derive(Debug, Default, PartialEq)]
pub struct Totals {
    pub allocated: u64,
    pub apparent: u64,
    pub exclusive: u64,
    pub entries: u64,
}

/// Totals of every directory by the plainest way: for each, all inodes below it in a set.
pub fn reference(root: &Path) -> BTreeMap<PathBuf, Totals> {
    let mut all = Vec::new();
    let mut open = vec![root.to_owned()];
    while let Some(path) = open.pop() {
        let meta = path.symlink_metadata().unwrap();
        if meta.is_dir() {
            open.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
        all.push((path, meta));
    }
    let mut totals = BTreeMap::new();
    for (directory, _) in all.iter().filter(|(_, meta)| meta.is_dir()) {
        let mut sum = Totals::default();
        let mut seen = HashSet::new();
        let mut names: HashMap<u64, u64> = HashMap::new();
        for (_, meta) in all.iter().filter(|(path, _)| path.starts_with(directory)) {
            sum.entries += 1;
            let names = names.entry(meta.ino()).or_default();
            *names += 1;
            if seen.insert(meta.ino()) {
                sum.allocated += meta.blocks() * 512;
                sum.apparent += meta.size();
            }
            if meta.is_dir() || *names == meta.nlink() {
                sum.exclusive += meta.blocks() * 512;
            }
        }
        totals.insert(directory.clone(), sum);
    }
    totals
}

pub fn totals(catalog: &Catalog) -> BTreeMap<PathBuf, Totals> {
    let directories = catalog.ids().filter(|id| catalog.is_directory(*id));
    let sums = |id| Totals {
        allocated: catalog.allocated(id).get(),
        apparent: catalog.apparent(id).get(),
        exclusive: catalog.exclusive(id).get(),
        entries: catalog.entries(id),
    };
    directories.map(|id| (catalog.path(id), sums(id))).collect()
}

#[derive(Clone, Debug)]
pub enum Make {
    Directory(usize, String),
    File(usize, String, u32),
    Sparse(usize, String, u32),
    HardLink(usize, String, usize),
    SymbolicLink(usize, String),
}

pub fn make() -> impl Strategy<Value = Make> {
    let at = 0..1000usize;
    let name = "[a-c]{1,2}|[\u{1}-\u{7f}&&[^/]]{1,4}"
        .prop_filter("dots", |name| name != "." && name != "..");
    prop_oneof![
        (at.clone(), name.clone()).prop_map(|(at, name)| Make::Directory(at, name)),
        (at.clone(), name.clone(), 0..20_000u32).prop_map(|(a, n, s)| Make::File(a, n, s)),
        (at.clone(), name.clone(), 0..9_000_000u32).prop_map(|(a, n, s)| Make::Sparse(a, n, s)),
        (at.clone(), name.clone(), 0..1000usize).prop_map(|(a, n, f)| Make::HardLink(a, n, f)),
        (at, name).prop_map(|(at, name)| Make::SymbolicLink(at, name)),
    ]
}

/// Makes what can be made: a name that is taken is passed over.
pub fn build(root: &Path, steps: &[Make]) {
    let (mut directories, mut files) = (vec![root.to_owned()], Vec::new());
    for step in steps {
        let place = |at: &usize, name: &String| directories[at % directories.len()].join(name);
        match step {
            Make::Directory(at, name) => {
                let path = place(at, name);
                if std::fs::create_dir(&path).is_ok() {
                    directories.push(path);
                }
            }
            Make::File(at, name, size) => {
                let path = place(at, name);
                if !path.exists() && std::fs::write(&path, vec![1u8; *size as usize]).is_ok() {
                    files.push(path);
                }
            }
            Make::Sparse(at, name, size) => {
                let path = place(at, name);
                if !path.exists() {
                    let file = std::fs::File::create(&path);
                    file.and_then(|file| file.set_len(u64::from(*size))).unwrap();
                    files.push(path);
                }
            }
            Make::HardLink(at, name, from) => {
                let path = place(at, name);
                if !files.is_empty()
                    && std::fs::hard_link(&files[from % files.len()], &path).is_ok()
                {
                    files.push(path);
                }
            }
            Make::SymbolicLink(at, name) => {
                let _ = std::os::unix::fs::symlink("..", place(at, name));
            }
        }
    }
}
