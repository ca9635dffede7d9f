//! Leftovers: what nobody may need, in groups, each with what speaks for and against it.
//!
//! Takes a scan as far as a lens shows it, a [`Table`] of names and places, and where the scan is of this machine what a
//! closer look needs ([`Machine`]); gives a [`Found`] with sums that are what planning forecasts. Nothing is changed and
//! nothing decided: which of it goes is planned by [`plan_leftovers`](crate::plan::plan_leftovers).
//!
//! `pass` goes through the scan once; what its facts do not tell (where links lead, what dumps hold, what bins say, what
//! is installed) is looked at after that. What belongs to a package, or is protected, is no leftover.

mod accounts;
mod bins;
mod commands;
mod dpkg;
mod families;
mod found;
mod group;
mod journals;
mod kernels;
mod links;
mod look;
mod names;
mod packages;
mod pass;
mod remains;
mod table;

use std::collections::HashMap;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustc_hash::FxHashSet;

pub use bins::original_place;
pub use found::{Found, FoundGroup, Leftover, Sum, What};
pub use group::{GROUPS, Group, GroupName, Sure, Usual};
pub use journals::{begin as journal_begin, cutoff as journal_cutoff};
pub use look::{Facts, LookError, glance, held_of, look, table_of};
pub use packages::{
    ManagerError, OnVolume, PackageRemoval, as_one, installed as installed_packages, simulate,
    sizes_of,
};
pub use table::{Homes, RowError, Table};

use crate::analysis::{Ownership, Packages, Protection, RepositoryState, repository_state};
use crate::catalog::{Catalog, EntryId, Finder, Seen};
use crate::kernel::{self, DeletedFiles, Kind, Mount, OpenFiles};
use crate::lens::Accounts;
use crate::state::KernelsKept;
use crate::units::{Bytes, Time};
use dpkg::Dpkg;
use pass::Passed;

/// What is said of files of the system journal that are old enough to go.
const OLD_JOURNAL: &str = "closed, and not written for 30 days";

/// What a closer look needs of the machine that was scanned.
pub struct Machine<'a> {
    /// Where its system begins: `/`.
    pub root: PathBuf,
    /// What is never removed.
    pub protection: &'a Protection,
    /// Which package owns what.
    pub packages: &'a Packages,
    /// What processes have open.
    pub open: &'a OpenFiles,
    /// What is mounted.
    pub mounts: &'a [Mount],
    /// Which kernels stay whatever else is known.
    pub kernels: &'a KernelsKept,
    /// Whether packages and kernels are told too: what belongs to the machine and not to a path.
    pub with_packages: bool,
}

/// Finds leftovers in a scan. Without a machine only what the scan tells by itself is found.
///
/// `stop` is asked from time to time; if it says so, what is known by then is given.
pub fn find(
    seen: Seen<'_>,
    table: &Table,
    accounts: &dyn Accounts,
    machine: Option<&Machine<'_>>,
    stop: &dyn Fn() -> bool,
) -> Found {
    let catalog = seen.catalog();
    let mut search = Search { seen, catalog, found: Vec::new(), troubles: Vec::new() };
    let mut passed = pass::pass(seen, table);
    search.found.append(&mut passed.found);
    search.found.extend(accounts::unowned(seen, accounts));
    for bin in &passed.bins {
        search.found.extend(bins::contents(catalog, *bin, machine.is_some()));
    }
    // until it is known that what they are beside is clean, also if the closer look is stopped before that
    search.each(GroupName::Builds, |item| {
        item.stays = Some(Arc::from("its repository has not been looked at"));
    });
    if let Some(machine) = machine
        && !stop()
    {
        search.closer(&passed, machine, stop);
        search.leave_out(machine);
    }
    search.dumps_by_name();
    Found::of(catalog, search.found, search.troubles)
}

struct Search<'a> {
    seen: Seen<'a>,
    catalog: &'a Catalog,
    found: Vec<(GroupName, Leftover)>,
    troubles: Vec<(GroupName, String)>,
}

impl Search<'_> {
    fn each(&mut self, name: GroupName, change: impl Fn(&mut Leftover)) {
        self.found
            .iter_mut()
            .filter(|(group, _)| *group == name)
            .for_each(|(_, item)| change(item));
    }

    /// What the scan alone does not tell.
    fn closer(&mut self, passed: &Passed, machine: &Machine<'_>, stop: &dyn Fn() -> bool) {
        let catalog = self.catalog;
        let places = links::Places::of_system(machine.mounts, &machine.root);
        for links in passed.links.chunks(4096) {
            if stop() {
                return;
            }
            self.found.extend(links::broken(catalog, links, &places));
        }
        self.found.extend(remains::cores(catalog, &passed.cores));
        self.found.extend(remains::locks(catalog, &passed.locks, &passed.links));
        self.tagged(&passed.tagged);
        self.builds();
        self.each(GroupName::EditorRemains, |item| {
            let path = item.id().map(|id| catalog.path(id));
            item.stays = path.and_then(|path| remains::editor_at_work(&path));
        });
        self.found.extend(accounts::of_locked(self.seen, &machine.root));
        self.found.extend(commands::library_versions(self.seen));
        self.journals(&passed.journals);
        if stop() {
            return;
        }
        let dpkg = match Dpkg::of_system(&machine.root) {
            Ok(dpkg) => Some(dpkg),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
            Err(error) => {
                self.troubles.push((
                    GroupName::Packages,
                    format!("the status of dpkg cannot be read: {error}"),
                ));
                None
            }
        };
        if let Some(dpkg) = &dpkg {
            self.found.extend(packages::archives(catalog, &passed.apt_archives, dpkg));
        }
        if machine.with_packages {
            self.found.extend(commands::shadowed(self.seen));
            self.packages(dpkg.as_ref(), machine);
        }
    }

    /// What belongs to the machine: packages and kernels.
    fn packages(&mut self, dpkg: Option<&Dpkg>, machine: &Machine<'_>) {
        let Machine { root, mounts, packages, .. } = machine;
        let kernels = kernels::System {
            root,
            running: crate::kernel::running_release(),
            kept: machine.kernels,
            dpkg,
            packages,
            mounts,
        };
        self.found.extend(kernels.superseded(self.catalog));
        let Some(dpkg) = dpkg else { return };
        let system = packages::System { dpkg, root, mounts, now: Time::now() };
        for (name, (found, trouble)) in
            [(GroupName::Packages, system.unneeded()), (GroupName::UnreadPackages, system.unread())]
        {
            self.found.extend(found);
            self.troubles.extend(trouble.map(|trouble| (name, trouble)));
        }
    }

    /// Directories that their programs have tagged as caches (Cache Directory Tagging Specification).
    fn tagged(&mut self, directories: &[EntryId]) {
        let catalog = self.catalog;
        let group = GroupName::Caches;
        let least = group.group().least_age().secs() as i64;
        let builds = self.found.iter().filter(|(name, _)| *name == GroupName::Builds);
        let builds: FxHashSet<u32> =
            builds.filter_map(|(_, item)| item.id()).map(|id| id.0).collect();
        for id in directories.iter().filter(|id| self.seen.has(**id) && !catalog.is_root(**id)) {
            let is_old = catalog.now().sec.saturating_sub(catalog.newest(*id).sec) >= least;
            if is_old
                && !builds.contains(&id.0)
                && crate::analysis::is_cache_tag(&catalog.path(*id))
            {
                let note = Arc::from("its program tagged it as a cache (CACHEDIR.TAG)");
                self.found.push((group, Leftover::entry(catalog, *id, note)));
            }
        }
    }

    /// A build goes only if its repository is clean: then its sources are all there.
    fn builds(&mut self) {
        let catalog = self.catalog;
        let mut known: HashMap<PathBuf, RepositoryState> = HashMap::new();
        for (_, item) in self.found.iter_mut().filter(|(name, _)| *name == GroupName::Builds) {
            let Some(id) = item.id() else { continue };
            let Some(repository) = crate::analysis::repository_of(catalog, id) else {
                item.stays = Some(Arc::from("its sources are under no version control"));
                continue;
            };
            let at = repository.at.clone();
            let state = known.entry(at).or_insert_with(|| repository_state(&repository));
            item.stays = match state {
                RepositoryState::Clean => None,
                RepositoryState::Changed(count) => {
                    let files = crate::units::counted(*count as u64, "file");
                    Some(format!("{files} of its repository are changed or new").into())
                }
                RepositoryState::NotAsked => {
                    Some(Arc::from("its repository has not been looked at"))
                }
                RepositoryState::NotKnown(why) => Some(format!("its repository: {why}").into()),
            };
        }
    }

    /// Closed files of the system journal, all together: its program removes them by their age.
    fn journals(&mut self, files: &[EntryId]) {
        let catalog = self.catalog;
        let group = GroupName::Journals;
        let least = group.group().least_age().secs() as i64;
        let is_old = |id: &&EntryId| {
            let name = catalog.own_name(**id);
            // one that is written to has no `@` (systemd-journald.service(8)), or was not closed and ends in a tilde
            let is_closed =
                name.contains(&b'@') && name.ends_with(b".journal") || name.ends_with(b".journal~");
            is_closed && catalog.now().sec.saturating_sub(catalog.modified(**id).sec) >= least
        };
        let mut old: Vec<EntryId> = files.iter().filter(is_old).copied().collect();
        old.sort_by(|a, b| catalog.compare_paths(*a, *b));
        let Some(since) = old.iter().map(|id| catalog.modified(*id)).min() else { return };
        let note = format!("{}, {OLD_JOURNAL}", crate::units::counted(old.len() as u64, "file"));
        let allocated: Bytes = old.iter().map(|id| catalog.exclusive(*id)).sum();
        let entries = old.len() as u64;
        let what = What::Entries(old.into_boxed_slice());
        self.found.push((
            group,
            Leftover { what, allocated, entries, since, note: note.into(), stays: None },
        ));
    }

    /// What a directory for dumps holds says by its name of which program it is.
    fn dumps_by_name(&mut self) {
        let catalog = self.catalog;
        self.each(GroupName::CrashDumps, |item| {
            let name = item.id().and_then(|id| remains::named_dump(catalog.own_name(id)));
            if let Some(note) = name {
                item.note = note.into();
            }
        });
    }

    /// Takes out what is protected or belongs to a package, and lets stay what is open.
    fn leave_out(&mut self, machine: &Machine<'_>) {
        let catalog = self.catalog;
        let protected = Protected::of(catalog, machine.protection);
        let is_free = |name: GroupName, item: &Leftover| {
            // packages and their kernels go through their manager, the journal through its program
            if matches!(name, GroupName::Kernels | GroupName::Journals)
                || !name.group().can_go() && is_told_anyway(name)
            {
                return true;
            }
            let owned = |id: EntryId| {
                let path = catalog.path(id);
                let path = path
                    .strip_prefix(&machine.root)
                    .map_or_else(|_| path.clone(), |below| Path::new("/").join(below));
                let owner = machine.packages.owner(&path, catalog.is_directory(id));
                matches!(owner, Ownership::Package { .. } | Ownership::Several { .. })
            };
            item.ids().iter().all(|id| !protected.covers(*id) && !owned(*id))
        };
        self.found.retain(|(name, item)| is_free(*name, item));
        for (_, item) in self.found.iter_mut().filter(|(_, item)| item.stays.is_none()) {
            let open = item.ids().iter().find_map(|id| {
                let (device, inode) = catalog.device_and_inode(*id);
                machine.open.holders(device, inode).into_iter().next()
            });
            item.stays =
                open.map(|holder| format!("open: {} (pid {})", holder.command, holder.pid).into());
        }
    }
}

/// Whether a group is told of what is protected too. What belongs to packages is neither odd nor hidden by chance.
fn is_told_anyway(name: GroupName) -> bool {
    matches!(name, GroupName::Containers | GroupName::LockedAccounts | GroupName::Shadowed)
}

/// Entries that are protected, or hold what is.
struct Protected<'a> {
    catalog: &'a Catalog,
    whole: FxHashSet<u32>,
    above: FxHashSet<u32>,
    all: bool,
}

impl<'a> Protected<'a> {
    fn of(catalog: &'a Catalog, protection: &Protection) -> Self {
        let mut new =
            Self { catalog, whole: FxHashSet::default(), above: FxHashSet::default(), all: false };
        let finder = Finder::new(catalog);
        for root in catalog.roots() {
            let Some((whole, itself)) = protection.places_below(&root.path) else {
                new.whole.insert(root.entry.0);
                continue;
            };
            let found = |places: Vec<PathBuf>| {
                places.into_iter().filter_map(|place| finder.find(&place)).collect::<Vec<_>>()
            };
            let (whole, itself) = (found(whole), found(itself));
            for id in whole.iter().chain(&itself) {
                let above = std::iter::successors(Some(*id), |id| catalog.parent(*id));
                new.above.extend(above.map(|id| id.0));
            }
            new.whole.extend(whole.iter().map(|id| id.0));
        }
        new.all = protection.places_below(Path::new("/nonexistent")).is_none();
        new
    }

    fn covers(&self, id: EntryId) -> bool {
        let mut above = std::iter::successors(Some(id), |id| self.catalog.parent(*id));
        self.all || self.above.contains(&id.0) || above.any(|id| self.whole.contains(&id.0))
    }
}

/// Deleted files that processes hold, as a group.
pub fn held(files: &DeletedFiles) -> FoundGroup {
    let mut group = FoundGroup::new(GroupName::Held);
    group.items = files
        .files
        .iter()
        .enumerate()
        .map(|(place, file)| {
            let who = file.holds.first().map_or_else(String::new, |hold| {
                format!("held by {} (pid {})", hold.process.command, hold.process.pid)
            });
            Leftover {
                what: What::Held(place),
                allocated: file.allocated.unwrap_or_default(),
                entries: 1,
                since: file.changed,
                note: who.into(),
                stays: None,
            }
        })
        .collect();
    if files.hidden > 0 {
        group.troubles.push(format!(
            "{} of other users may hold more: root can tell",
            crate::units::counted(files.hidden as u64, "process")
        ));
    }
    group
}

/// Places that belong to the machine, as far as they are there: what is scanned where nothing else is.
pub fn places_of_machine(root: &Path) -> Vec<PathBuf> {
    let places = [
        "boot",
        "lib/modules",
        "usr/lib/modules",
        "usr/src",
        "var/cache",
        "var/crash",
        "var/lib/systemd/coredump",
        "var/log",
        "var/tmp",
        "tmp",
        "var/lib/docker",
        "var/lib/containers",
        "var/lib/containerd",
        "var/lib/libvirt/images",
        "var/lib/machines",
        "usr/local",
        "root/.cache",
        "root/.local/share/Trash",
        "usr/sbin",
        "usr/bin",
    ];
    let mut found: Vec<PathBuf> = Vec::new();
    let in_home = [".cache", ".local/share/Trash", ".npm", ".cargo/registry"];
    let home = root.join("home");
    let homes = match kernel::names_in(&home) {
        Ok(names) => {
            names.iter().flat_map(|name| in_home.map(|place| home.join(name).join(place))).collect()
        }
        Err(error) if error.kind() == ErrorKind::NotFound => Vec::new(),
        // the scan of it says why it cannot be read
        Err(_) => vec![home.clone()],
    };
    for place in places.iter().map(|place| root.join(place)).chain(homes) {
        let is_wanted = match kernel::stat_path(&place) {
            // what is reached through a link has another name already
            Ok(stat) if stat.kind == Kind::Directory => {
                place.canonicalize().map_or(true, |real| real == place)
            }
            Ok(_) => false,
            Err(error) => !matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory),
        };
        if is_wanted && !found.iter().any(|known| place.starts_with(known)) {
            found.push(place);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use std::os::unix::ffi::OsStrExt;

    use proptest::prelude::*;

    use super::*;
    use crate::lens::SystemAccounts;
    use crate::scan::{Options, Scan};

    /// Bytes with beginnings that lead a reader in.
    fn hostile() -> impl Strategy<Value = Vec<u8>> {
        let heads: [&[u8]; 6] = [
            b"",
            b"\x7fELF\x02\x01",
            b"\x7fELF\x01\x02",
            b"[Trash Info]\nPath=%",
            b"b0",
            b"Package: a\nStatus: install ok installed\n",
        ];
        let head = prop::sample::select(heads.map(<[u8]>::to_vec).to_vec());
        (head, prop::collection::vec(any::<u8>(), 0..600))
            .prop_map(|(head, more)| [head, more].concat())
    }

    proptest! {
        #[test]
        fn nothing_that_others_wrote_stops_a_reader(bytes in hostile()) {
            let _ = bins::parse(&bytes);
            let _ = remains::dumped_program(&bytes);
            let _ = remains::named_dump(&bytes);
            let _ = dpkg::of_archive(&bytes);
            let _ = names::fragile(&bytes);
            let text = String::from_utf8_lossy(&bytes);
            let name = std::ffi::OsStr::from_bytes(&bytes);
            let _ = journal_begin(Path::new(name));
            let (table, error) = Table::with(Some(&text), None, &Homes::of(""));
            prop_assert!(error.is_some() || text.trim().is_empty());
            drop(table);
        }

        /// What a bin says leads to no place but its owner's.
        #[test]
        fn a_bin_of_a_volume_names_places_on_it_only(path in "(/|[.]{1,3}|[a-c]/?|%2[eEfF]){0,12}") {
            let text = format!("[Trash Info]\nPath={path}\n");
            if let Some(info) = bins::parse(text.as_bytes())
                && let Some(place) = bins::place_of(Path::new("/srv/.Trash-7"), &info)
            {
                prop_assert!(place.starts_with("/srv"));
                prop_assert!(!place.components().any(|part| part == std::path::Component::ParentDir));
            }
        }

        /// The total counts what is in several groups, or lies in another leftover, once; and each group holds nothing twice.
        #[test]
        fn sums_are_those_of_the_files_that_would_go(
            files in prop::collection::btree_map("(a|b|c)/(d|e[.]tmp|x~|CACHE/f[.]tmp|g[.]part)", 1usize..3, 1..12)
        ) {
            let directory = tempfile::tempdir().unwrap();
            let root = directory.path().canonicalize().unwrap();
            for (name, blocks) in &files {
                std::fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
                std::fs::write(root.join(name), vec![1; blocks * 4096]).unwrap();
            }
            let user = "[[leftover]]\ngroup = \"caches\"\nname = \"CACHE\"\nis = \"directory\"\nreason = \"r\"\nsource = \"s\"\n";
            let (table, error) = Table::with(Some(user), None, &Homes::of(""));
            prop_assert!(error.is_none());
            let later = Time::at(Time::now().sec + 100 * 86_400);
            let mut scan = Scan::start(std::slice::from_ref(&root), &Options::new(later)).unwrap();
            scan.wait();
            let catalog = scan.catalog();
            let found = find(catalog.whole(), &table, &SystemAccounts, None, &|| false);
            let mut all = std::collections::BTreeMap::new();
            for group in &found.groups {
                let mut own = std::collections::BTreeMap::new();
                for id in group.that_go().flat_map(|item| item.ids().to_vec()) {
                    for entry in catalog.ids().filter(|entry| catalog.is_below(*entry, id)) {
                        prop_assert!(own.insert(entry, catalog.own_allocated(entry)).is_none(), "{:?}", group.name);
                    }
                }
                let sum: Bytes = own.values().copied().sum();
                prop_assert_eq!((group.goes.allocated, group.goes.entries), (sum, own.len() as u64));
                all.extend(own);
            }
            let sum: Bytes = all.values().copied().sum();
            prop_assert_eq!((found.total.allocated, found.total.entries), (sum, all.len() as u64));
        }
    }

    #[test]
    fn a_build_stays_where_the_look_was_stopped_before_its_repository() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap().join("tree");
        std::fs::create_dir_all(root.join("model/target/debug")).unwrap();
        std::fs::write(root.join("model/Cargo.toml"), "").unwrap();
        std::fs::write(root.join("model/target/CACHEDIR.TAG"), "").unwrap();
        std::os::unix::fs::symlink("nowhere", root.join("link")).unwrap();
        let state = crate::state::State::open(&directory.path().join("state")).unwrap();
        let later = Time::at(Time::now().sec + 1_000 * 86_400);
        let mut scan = Scan::start(std::slice::from_ref(&root), &Options::new(later)).unwrap();
        scan.wait();
        // goes on at the first question, and stops at every later one
        let asked = std::cell::Cell::new(0);
        let stop = || asked.replace(asked.get() + 1) > 0;
        let protection = Protection::of_system(&state);
        let found = look(scan.catalog().whole(), &state, protection, false, &stop).unwrap();
        let builds = found.groups.iter().find(|group| group.name == GroupName::Builds).unwrap();
        assert_eq!((builds.items.len(), builds.that_go().count()), (1, 0), "{builds:?}");
        assert!(asked.get() > 1);
    }
}
