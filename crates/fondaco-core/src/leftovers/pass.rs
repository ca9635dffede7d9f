//! One pass over a scan: what its names, places and facts alone tell, and what has to be looked at more closely.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::sync::Arc;

use rustc_hash::FxHashSet;

use super::families::Families;
use super::found::{Leftover, Notes};
use super::group::GroupName;
use super::names;
use super::remains;
use super::table::Table;
use crate::catalog::{Catalog, EntryId, Reading, Seen};
use crate::kernel::Kind;
use crate::parallel;
use crate::units::{Age, Bytes, Time};

/// What a pass has found.
#[derive(Default)]
pub(super) struct Passed {
    /// Leftovers of which the scan tells enough.
    pub(super) found: Vec<(GroupName, Leftover)>,
    /// All symbolic links: where they lead is not in the scan.
    pub(super) links: Vec<EntryId>,
    /// Files that may be the memory of a crashed program, by their names.
    pub(super) cores: Vec<EntryId>,
    /// Files that may be locks which say whose they are.
    pub(super) locks: Vec<EntryId>,
    /// Directories that may be tagged as caches.
    pub(super) tagged: Vec<EntryId>,
    /// Bins: directories that hold `files` and `info`.
    pub(super) bins: Vec<EntryId>,
    /// Package files in apt's archive.
    pub(super) apt_archives: Vec<EntryId>,
    /// Files of the system journal.
    pub(super) journals: Vec<EntryId>,
}

impl Passed {
    fn join(&mut self, more: Self) {
        self.found.extend(more.found);
        self.links.extend(more.links);
        self.cores.extend(more.cores);
        self.locks.extend(more.locks);
        self.tagged.extend(more.tagged);
        self.bins.extend(more.bins);
        self.apt_archives.extend(more.apt_archives);
        self.journals.extend(more.journals);
    }
}

/// Set-user-id and set-group-id (`inode(7)`).
const SET_ID: u32 = 0o6000;
/// From this length on a file with holes is told, and if less than half of it is on disk.
const SPARSE: u64 = 1 << 30;
/// From this length on it is told that a file has names outside of what was scanned.
const LINKED: u64 = 64 << 20;

/// Goes through all directories, on several threads.
pub(super) fn pass(seen: Seen<'_>, table: &Table) -> Passed {
    let catalog = seen.catalog();
    let directories: Vec<EntryId> = catalog
        .ids()
        .filter(|id| catalog.is_directory(*id) && catalog.children(*id).len() > 0)
        .collect();
    let parts = parallel::split(0..directories.len() as u32, 256);
    let work = |part: std::ops::Range<u32>| {
        let mut one = Pass::new(seen, table);
        for directory in &directories[part.start as usize..part.end as usize] {
            one.directory(*directory);
        }
        one.passed
    };
    let mut passed = Passed::default();
    parallel::each(parts, work).into_iter().for_each(|part| passed.join(part));
    empty_directories(seen, table, &mut passed);
    passed
}

struct Pass<'a> {
    seen: Seen<'a>,
    catalog: &'a Catalog,
    table: &'a Table,
    now: Time,
    passed: Passed,
    notes: Notes,
    families: Families,
    here: Vec<u32>,
    spare: Vec<usize>,
    rows: Vec<u32>,
}

impl<'a> Pass<'a> {
    fn new(seen: Seen<'a>, table: &'a Table) -> Self {
        Self {
            seen,
            catalog: seen.catalog(),
            table,
            now: seen.catalog().now(),
            passed: Passed::default(),
            notes: Notes::default(),
            families: Families::default(),
            here: Vec::new(),
            spare: Vec::new(),
            rows: Vec::new(),
        }
    }

    fn directory(&mut self, directory: EntryId) {
        let catalog = self.catalog;
        // what stands above several roots is nowhere: its children are roots, which are no leftovers
        if catalog.top() == Some(directory) && !catalog.is_root(directory) {
            return;
        }
        let path = catalog.path(directory);
        self.table.rows_in(&path, &mut self.here);
        let is_apt = path == OsStr::new("/var/cache/apt/archives");
        let is_journal = path.parent().is_some_and(|above| above == OsStr::new("/var/log/journal"));
        names::case_twins(catalog, directory, &self.seen, &mut self.passed.found);
        if is_bin(catalog, directory) {
            self.passed.bins.push(directory);
        }
        let seen = self.seen;
        for id in catalog.children(directory).filter(|id| seen.has(*id)) {
            self.entry(directory, id);
            if is_apt && catalog.own_name(id).ends_with(b".deb") {
                self.passed.apt_archives.push(id);
            }
            if is_journal && catalog.kind(id) == Kind::File {
                self.passed.journals.push(id);
            }
        }
        let passed = &mut self.passed;
        self.families.finish(catalog, &mut |group, item| passed.found.push((group, item)));
    }

    fn entry(&mut self, directory: EntryId, id: EntryId) {
        let catalog = self.catalog;
        let mut rows = std::mem::take(&mut self.rows);
        self.table.rows_of(catalog, (directory, id), &self.here, &mut self.spare, &mut rows);
        let kind = catalog.kind(id);
        let mut has_family = false;
        for row in rows.iter().map(|row| self.table.row(*row)) {
            if Families::counts(row.group) {
                has_family = true;
                self.families.add(catalog, row.group, id, &row.reason);
            } else if self.is_old(id, row.least_age) {
                let item = Leftover::entry(catalog, id, Arc::clone(&row.reason));
                let item = match row.group == GroupName::Temporaries && self.holds_special(id) {
                    true => item.that_stays("holds a socket or pipe that a program may wait at"),
                    false => item,
                };
                let item = match &row.tool {
                    Some(tool) => {
                        Leftover { note: format!("{}: {tool}", row.reason).into(), ..item }
                    }
                    None => item,
                };
                self.passed.found.push((row.group, item));
            }
        }
        self.rows = rows;
        if let Some(odd) = names::fragile(catalog.own_name(id)) {
            self.tell(GroupName::FragileNames, id, odd);
        }
        match kind {
            Kind::Link => self.passed.links.push(id),
            Kind::File => self.file(id, has_family),
            Kind::Directory | Kind::Special => {}
        }
        if catalog.own_name(id) == b"CACHEDIR.TAG" {
            self.passed.tagged.push(directory);
        }
        let ahead = catalog.modified(id).sec.saturating_sub(self.now.sec);
        if ahead > Age::days(1).secs() as i64 {
            self.tell(GroupName::Oddities, id, "written in the future: rules by age never take it");
        }
    }

    fn file(&mut self, id: EntryId, has_family: bool) {
        let catalog = self.catalog;
        let (name, length) = (catalog.own_name(id), catalog.apparent(id).get());
        if length == 0 && catalog.own_allocated(id) == Bytes::ZERO {
            let group = GroupName::EmptyFiles;
            let excluded = || self.table.excludes(catalog, id, &self.here, group);
            if self.is_old(id, group.group().least_age()) && !excluded() {
                self.found(group, id, "there is nothing in it");
            }
            return;
        }
        if !has_family {
            self.families.add_by_name(catalog, id);
        }
        if length <= remains::LONGEST_LOCK && remains::is_lock_name(name) {
            self.passed.locks.push(id);
        }
        if is_core_name(name) {
            self.passed.cores.push(id);
        }
        if catalog.mode(id) & SET_ID != 0 {
            self.tell(
                GroupName::Oddities,
                id,
                "a set-id program: it runs with the rights of its owner or group",
            );
        }
        let on_disk = catalog.own_allocated(id).get();
        if length >= SPARSE && on_disk < length / 2 {
            self.tell(GroupName::Oddities, id, "has holes: most of its length takes no room");
        }
        if length >= LINKED
            && let Some((names, links)) = catalog.names_of_inode(id)
            && (names.len() as u32) < links
            && names.iter().min() == Some(&id)
        {
            self.tell(
                GroupName::Oddities,
                id,
                "has further names outside of what was scanned, which keep it",
            );
        }
    }

    /// Whether it is, or holds, what is neither file nor directory nor link: nobody can tell who waits at that.
    fn holds_special(&self, id: EntryId) -> bool {
        let mut open = vec![id];
        while let Some(at) = open.pop() {
            if self.catalog.kind(at) == Kind::Special {
                return true;
            }
            open.extend(self.catalog.children(at));
        }
        false
    }

    fn is_old(&self, id: EntryId, least: Age) -> bool {
        self.now.sec.saturating_sub(self.catalog.newest(id).sec) >= least.secs() as i64
    }

    fn found(&mut self, group: GroupName, id: EntryId, note: &'static str) {
        let note = self.notes.of(note);
        self.passed.found.push((group, Leftover::entry(self.catalog, id, note)));
    }

    /// As [`Self::found`], for what is only told.
    fn tell(&mut self, group: GroupName, id: EntryId, note: &'static str) {
        self.found(group, id, note);
    }
}

/// Whether a directory is a bin of the freedesktop.org specification: `~/.local/share/Trash`, `.Trash-UID` or
/// `.Trash/UID`, with what it must hold.
fn is_bin(catalog: &Catalog, directory: EntryId) -> bool {
    let name = catalog.own_name(directory);
    let name_above = |id| catalog.parent(id).map_or(&b""[..], |above| catalog.own_name(above));
    let is_number = |text: &[u8]| !text.is_empty() && text.iter().all(u8::is_ascii_digit);
    let is_named = name == b"Trash" && name_above(directory) == b"share"
        || name.strip_prefix(b".Trash-").is_some_and(is_number)
        || is_number(name) && name_above(directory) == b".Trash";
    let holds = |name: &str| {
        catalog.find_in(directory, OsStr::new(name)).is_some_and(|id| catalog.is_directory(id))
    };
    is_named && holds("files") && holds("info")
}

/// Whether a name is one that the kernel gives dumps (`core(5)`), or a debugger.
fn is_core_name(name: &[u8]) -> bool {
    let rest = name.strip_prefix(b"core").or_else(|| name.strip_prefix(b"vgcore"));
    rest.is_some_and(|rest| rest.is_empty() || rest.first() == Some(&b'.'))
        || name.ends_with(b".core")
}

/// The topmost entries, below the roots, of which the test holds for all that is below them.
pub(super) fn topmost(catalog: &Catalog, holds: impl Fn(EntryId) -> bool) -> Vec<EntryId> {
    let count = catalog.len();
    let mut whole = vec![false; count];
    // what lies in a directory has a higher number than the directory
    for number in (0..count as u32).rev() {
        let id = EntryId(number);
        let below = || catalog.children(id).all(|child| whole[child.0 as usize]);
        whole[number as usize] = holds(id) && below();
    }
    let is_top = |id: &EntryId| {
        let above = catalog
            .parent(*id)
            .is_some_and(|above| whole[above.0 as usize] && !is_above_roots(catalog, above));
        whole[id.0 as usize] && !above && !catalog.is_root(*id) && catalog.parent(*id).is_some()
    };
    let mut found: Vec<EntryId> = catalog.ids().filter(is_top).collect();
    // a root is nothing that could go: what lies in it is told instead
    let roots: FxHashSet<u32> = catalog.roots().iter().map(|root| root.entry.0).collect();
    let in_roots = roots.iter().filter(|root| whole[**root as usize]);
    let below_roots = in_roots.flat_map(|root| catalog.children(EntryId(*root)));
    found.extend(below_roots.collect::<Vec<_>>());
    found.sort_unstable();
    found.dedup();
    found
}

fn is_above_roots(catalog: &Catalog, id: EntryId) -> bool {
    catalog.top() == Some(id) && !catalog.is_root(id)
}

/// Directories in which there are only empty directories.
fn empty_directories(seen: Seen<'_>, table: &Table, passed: &mut Passed) {
    let catalog = seen.catalog();
    let is_empty = |id: EntryId| {
        catalog.is_directory(id)
            && catalog.reading(id) == Some(Reading::Done)
            && !catalog.is_subvolume(id)
    };
    let group = GroupName::EmptyDirectories;
    let least = group.group().least_age().secs() as i64;
    let note: Arc<str> = Arc::from("holds nothing, or only empty directories");
    let mut here = Vec::new();
    let mut known = None;
    for id in topmost(catalog, is_empty).into_iter().filter(|id| seen.has(*id)) {
        let Some(directory) = catalog.parent(id) else { continue };
        let is_old = catalog.now().sec.saturating_sub(catalog.newest(id).sec) >= least;
        if !is_old || is_under_version_control(catalog, id) {
            continue;
        }
        if known != Some(directory) {
            table.rows_in(&catalog.path(directory), &mut here);
            known = Some(directory);
        }
        if !table.excludes(catalog, id, &here, group) {
            passed.found.push((group, Leftover::entry(catalog, id, Arc::clone(&note))));
        }
    }
}

/// Whether it lies in what a system for versions keeps for itself, where empty directories mean something.
fn is_under_version_control(catalog: &Catalog, id: EntryId) -> bool {
    let mut above = std::iter::successors(Some(id), |id| catalog.parent(*id));
    above.any(|id| matches!(catalog.own_name(id), b".git" | b".hg" | b".svn" | b".bzr"))
}

/// The name of an entry, as text that may have lost something.
pub(super) fn name(catalog: &Catalog, id: EntryId) -> String {
    crate::shown::shown(OsStr::from_bytes(catalog.own_name(id)))
}
