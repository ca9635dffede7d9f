//! Trees for tests, and what a tree looks like byte for byte.
#![allow(dead_code, missing_docs, clippy::unwrap_used)] // every test file uses its own part

pub mod equal;
pub mod mounted;
pub mod tree;

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use fondaco_core::catalog::{Catalog, Columns, ScanFacts};
use fondaco_core::kernel::Kind;
use fondaco_core::plan::{Deed, Draft, Plan, Planned, Review, survey};
use fondaco_core::state::{SimulatedVolume, State};
use fondaco_core::units::{Bytes, Time};

#[allow(unused_imports)]
pub use mounted::{Mounted, is_root, run, skipped};

pub const NOW: Time = Time::at(2_000_000_000);

/// A directory that stands for a volume, with a state directory and a depot beside it.
pub struct Place {
    _directory: Option<tempfile::TempDir>,
    pub root: PathBuf,
    pub state: State,
    pub depot: PathBuf,
}

impl Place {
    pub fn new() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let mut place = Self::at(&directory.path().canonicalize().unwrap());
        place._directory = Some(directory);
        place
    }

    /// Inside an existing directory, for instance a mounted file system.
    pub fn at(home: &Path) -> Self {
        let root = home.join("seamark");
        std::fs::create_dir_all(&root).unwrap();
        let mut state = State::open(&home.join("state")).unwrap();
        let capacity = Bytes::new(1 << 30);
        state.settings.simulated.push(SimulatedVolume { path: root.clone(), capacity });
        Self { _directory: None, root, state, depot: home.join("depot") }
    }

    pub fn archive(&self) -> Deed {
        Deed::Archive { depot: self.depot.clone() }
    }

    /// A file with contents that depend on its name.
    pub fn file(&self, path: &str, size: usize) -> PathBuf {
        let path = self.root.join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        let seed = path.as_os_str().as_bytes().iter().fold(7u8, |a, b| a.wrapping_mul(31) ^ b);
        let contents: Vec<u8> = (0..size).map(|i| (i as u8).wrapping_mul(seed | 1)).collect();
        std::fs::write(&path, contents).unwrap();
        set_old(&path, size as i64);
        path
    }

    /// A plan made by hand of these deeds.
    pub fn plan(&self, deeds: &[(&Path, Deed)]) -> Plan {
        let mut draft = Draft::default();
        for (path, deed) in deeds {
            draft.put(planned(path, deed.clone(), &self.root));
            draft.reviewed(path, survey(path));
        }
        let plan = draft.to_plan(Vec::new(), NOW).unwrap();
        assert_eq!(plan.actions.len(), deeds.len(), "every target can be planned");
        plan
    }
}

/// A thing on a draft that has not been looked at yet.
pub fn planned(path: &Path, deed: Deed, volume: &Path) -> Planned {
    Planned {
        path: path.to_owned(),
        deed,
        reason: "by hand".into(),
        volume: volume.to_owned(),
        depot_on_volume: false,
        estimate: Bytes::ZERO,
        entries: 1,
        review: Review::Pending,
        purge_after: None,
        stays: None,
        together: None,
        differs: Vec::new(),
        emptied: false,
    }
}

/// Gives a file odd times in the past.
pub fn set_old(path: &Path, salt: i64) {
    let spec = |sec, nsec| rustix::fs::Timespec { tv_sec: sec, tv_nsec: nsec };
    let times = rustix::fs::Timestamps {
        last_access: spec(1_500_000_000 + salt, 111),
        last_modification: spec(1_400_000_000 + salt, 123_456_789),
    };
    let flags = rustix::fs::AtFlags::SYMLINK_NOFOLLOW;
    rustix::fs::utimensat(rustix::fs::CWD, path, &times, flags).unwrap();
}

/// Makes an entry as many seconds old as is said, counted from [`NOW`]; a link itself, not its target.
pub fn set_age(path: &Path, seconds: i64) {
    let at = rustix::fs::Timespec { tv_sec: NOW.sec - seconds, tv_nsec: 0 };
    let times = rustix::fs::Timestamps { last_access: at, last_modification: at };
    let flags = rustix::fs::AtFlags::SYMLINK_NOFOLLOW;
    rustix::fs::utimensat(rustix::fs::CWD, path, &times, flags).unwrap();
}

/// All that a tree is, but for change times and inode numbers: to be the same after put back.
pub fn picture(root: &Path) -> BTreeMap<PathBuf, String> {
    let mut picture = BTreeMap::new();
    let mut links: BTreeMap<u64, PathBuf> = BTreeMap::new();
    let mut open = vec![root.to_owned()];
    let mut all = Vec::new();
    while let Some(path) = open.pop() {
        let meta = path.symlink_metadata().unwrap();
        if meta.is_dir() {
            open.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
        all.push((path, meta));
    }
    all.sort_by(|a, b| a.0.cmp(&b.0));
    for (path, meta) in all {
        let kind = meta.file_type();
        let first = links.entry(meta.ino()).or_insert_with(|| path.clone()).clone();
        let contents = if kind.is_file() {
            let hash = blake3::hash(&std::fs::read(&path).unwrap());
            format!("{hash} blocks {} same as {first:?}", meta.blocks())
        } else if kind.is_symlink() {
            format!("-> {:?} same as {first:?}", std::fs::read_link(&path).unwrap())
        } else if kind.is_fifo() {
            format!("fifo same as {first:?}")
        } else {
            String::new()
        };
        let size = if kind.is_dir() { 0 } else { meta.size() };
        let links = if kind.is_dir() { 0 } else { meta.nlink() };
        let attributes = attributes(&path);
        let line = format!(
            "{:o} {}:{} {size} {links} {}.{:09} {attributes:?} {contents}",
            meta.mode(),
            meta.uid(),
            meta.gid(),
            meta.mtime(),
            meta.mtime_nsec(),
        );
        picture.insert(path, line);
    }
    picture
}

pub fn attributes(path: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut list = [0u8; 4096];
    let used = rustix::fs::llistxattr(path, &mut list[..]).unwrap_or(0);
    let names = list[..used].split(|b| *b == 0).filter(|name| !name.is_empty());
    names
        .map(|name| {
            let mut value = [0u8; 4096];
            let length = rustix::fs::lgetxattr(path, name, &mut value[..]).unwrap();
            (String::from_utf8_lossy(name).into_owned(), value[..length].to_vec())
        })
        .collect()
}

/// A name that may be any bytes.
pub fn bytes_path(root: &Path, name: &[u8]) -> PathBuf {
    root.join(OsStr::from_bytes(name))
}

/// A directory of files with these names: the nth has n blocks, and is n seconds old.
pub fn flat(names: impl Iterator<Item = Vec<u8>>) -> Catalog {
    let mut columns = Columns::default();
    for (row, name) in std::iter::once(Vec::new()).chain(names).enumerate() {
        let (file, number) = (row > 0, row as u32);
        columns.parent.push(file.then_some(0));
        columns.names.extend_from_slice(&name);
        columns.name_length.push(name.len() as u8);
        columns.kind.push(if file { Kind::File } else { Kind::Directory });
        columns.allocated.push(u64::from(number) * 512);
        columns.apparent.push(u64::from(number) * 500);
        columns.inode.push(None);
        columns.device.push(7);
        columns.links.push(1);
        columns.modified.push(NOW.sec as u32 - number);
        columns.accessed.push(file.then_some(20_000 + number % 100));
        columns.owner.push(number % 3);
        columns.group.push(0);
        columns.reading.push(None);
        columns.mode.push(Some(if file { 0o100_644 } else { 0o40_755 }));
        columns.changed.push(Some(20_000));
    }
    let roots = vec!["/srv/tide".into()];
    let about = ScanFacts { now: NOW, roots, complete: true, ..Default::default() };
    Catalog::from_columns(&columns, about).unwrap()
}
