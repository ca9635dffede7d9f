//! The checks that every target passes before it is touched, in a rehearsal and in a run alike.

use std::cell::RefCell;
use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::fs::{Access, AtFlags, CWD};

use super::overlaps::Overlaps;
use crate::analysis::Protection;
use crate::archive::{DepotError, DepotPlace, StoreDepot, is_store};
use crate::kernel::{self, CallError, Holder, Kind, Mount, Op, OpenFiles, Stat, stat_descriptor};
use crate::packed_list::Record;
use crate::plan::objects::Objects;
use crate::plan::{
    Action, Deed, FreeDirectory, Located, Locator, Overview, Plan, Refusal, RuleProtection, Survey,
    Target, Touched, Visit, locate, moved_place, survey_at,
};
use crate::shown::Shown;
use crate::state::State;
use crate::units::{Bytes, Time, UnitStyle};

/// What the checks of one run know.
pub(super) struct Checks {
    /// What can be said of all actions together.
    pub(super) overview: Overview,
    protection: Protection,
    rules: RuleProtection,
    open: OpenFiles,
    /// When the open files of all processes were last collected. A run that takes only files may never need them, since
    /// their leases tell the same.
    looked: Option<Instant>,
    /// When a holder was last looked for by its name.
    sought: Option<Instant>,
    /// Of actions that cannot be done whatever their targets are: why.
    hopeless: HashMap<u32, String>,
    /// Where the plan's depots are, or would be made.
    depots: Vec<DepotPlace>,
    /// Addresses of its depots that are stores.
    stores: Vec<PathBuf>,
    /// Where things are moved to, by the path that the plan has: the path without links, and the facts about the directory
    /// or the nearest one above it that is there.
    destinations: HashMap<PathBuf, (PathBuf, Stat)>,
    /// Stores whose objects the plan removes.
    pub(super) objects: Objects,
    locator: RefCell<Locator>,
    free: FreeDirectory,
    /// The directory from which files were last found to be takeable, and the mount that it is on.
    last_directory: RefCell<Option<(Arc<OwnedFd>, u64)>>,
}

impl Checks {
    pub(super) fn new(plan: &Plan, state: &State) -> Self {
        let protection = Self::protection_of(plan, state);
        let mut overlaps = Overlaps::of_none(plan, &protection);
        plan.actions.iter().for_each(|action| overlaps.look_at(&action));
        let hopeless = overlaps.finish();
        Self::knowing_overlaps(plan, state, protection, hopeless)
    }

    /// What a plan must leave alone.
    pub(super) fn protection_of(plan: &Plan, state: &State) -> Protection {
        let mut protection = Protection::of_system(state);
        plan.give_up.iter().for_each(|place| protection.give_up(&place.0));
        for place in &plan.protect {
            protection.add(place.0.clone(), "protected by a rule");
        }
        protection
    }

    /// As [`Checks::new`], for whoever has looked at all actions already: see [`Overlaps::finish`].
    pub(super) fn knowing_overlaps(
        plan: &Plan,
        state: &State,
        mut protection: Protection,
        mut hopeless: HashMap<u32, String>,
    ) -> Self {
        let overview = plan.overview();
        if overview.has_copies {
            hopeless.extend(copies_that_go(plan, &protection));
        }
        let mut depots: HashMap<PathBuf, Result<Looked, DepotError>> = HashMap::new();
        if overview.has(|deed| matches!(deed, Deed::Archive { .. })) {
            for action in &plan.actions {
                let Deed::Archive { depot } = &action.deed else { continue };
                let looked = depots.entry(depot.clone()).or_insert_with(|| look_at_depot(depot));
                if let Err(reason) = looked {
                    hopeless.insert(action.number, reason.to_string());
                }
            }
        }
        let (mut stores, mut places) = (Vec::new(), Vec::new());
        for looked in depots.into_values().flatten() {
            match looked {
                Looked::Place(place) => places.push(place),
                Looked::Store(store) => stores.push(store),
            }
        }
        let depots = places;
        for depot in &depots {
            protection.add(depot.path.clone(), "the depot of this plan");
        }
        let destinations = match overview.has(|deed| matches!(deed, Deed::Move { .. })) {
            true => look_at_destinations(plan, &mut protection, &mut hopeless),
            false => HashMap::new(),
        };
        let open = OpenFiles::default();
        // reading the table of mounts takes a tenth of a run of one small file
        let locator = Locator::knowing(protection.mounts().to_vec());
        let rules = RuleProtection::of_state(state);
        Self {
            overview,
            protection,
            rules,
            open,
            looked: None,
            sought: None,
            hopeless,
            depots,
            stores,
            destinations,
            objects: Objects::default(),
            locator: RefCell::new(locator),
            free: FreeDirectory::default(),
            last_directory: RefCell::default(),
        }
    }

    /// What was mounted when the run began.
    pub(super) fn mounts(&self) -> &[Mount] {
        self.protection.mounts()
    }

    /// Where those of the plan's depots are, or would be made, that are directories.
    pub(super) fn depots(&self) -> &[DepotPlace] {
        &self.depots
    }

    /// Addresses of the plan's depots that are stores.
    pub(super) fn stores(&self) -> &[PathBuf] {
        &self.stores
    }

    /// Collects the open files of all processes, unless that was done in the last seconds.
    pub(super) fn refresh(&mut self, now: Time) {
        if self.looked.is_none_or(|looked| looked.elapsed() > Duration::from_secs(5)) {
            self.look_who_has_what_open(now);
        }
    }

    /// Collects the open files of all processes now.
    pub(super) fn look_who_has_what_open(&mut self, now: Time) {
        self.open = OpenFiles::collect(now);
        self.looked = Some(Instant::now());
    }

    /// Collects the open files of all processes if that has not been done in this run.
    pub(super) fn sees_who_has_what_open(&self, path: &Path) -> Result<(), Refusal> {
        match &self.open.trouble {
            None => Ok(()),
            Some(trouble) => {
                let reason = format!("it cannot be told who has it open: {trouble}");
                Err(Refusal::Hopeless { path: path.to_owned(), reason })
            }
        }
    }

    /// Processes that have an inode open; collects anew if none is known.
    pub(super) fn holder(&mut self, stat: &Stat, now: Time) -> Option<Holder> {
        let known = self.open.holders(stat.dev, stat.ino).into_iter().next();
        let again = self.sought.is_none_or(|sought| sought.elapsed() > Duration::from_secs(1));
        if known.is_some() || !again {
            return known;
        }
        self.look_who_has_what_open(now);
        self.sought = self.looked;
        self.open.holders(stat.dev, stat.ino).into_iter().next()
    }

    /// Makes sure that an action can be done at all and that nothing protects its target. Looks at no target.
    pub(super) fn permitted(&self, action: &Action) -> Result<(), Refusal> {
        let path = &action.target.path.0;
        if let Some(reason) = self.hopeless.get(&action.number) {
            return Err(Refusal::Hopeless { path: path.clone(), reason: reason.clone() });
        }
        if action.target.kind != Kind::Directory
            && self.free.holds(path, &self.protection, &self.rules)
        {
            return Ok(());
        }
        match self.protection.reason(path).or_else(|| self.rules.reason(path)) {
            Some(reason) => Err(Refusal::Protected { path: path.clone(), reason }),
            None => Ok(()),
        }
    }

    /// Why nothing is put at a path, if it is protected.
    pub(super) fn protects(&self, path: &Path) -> Option<String> {
        self.protection.reason(path).or_else(|| self.rules.reason(path))
    }

    /// Opens the target's directory and makes sure that the target is what was reviewed, is not
    /// protected, can be taken and removed, and is not in use. Changes nothing.
    pub(super) fn target(
        &self,
        action: &Action,
        touched: &Touched,
    ) -> Result<(Located, Survey), Refusal> {
        let path = &action.target.path.0;
        self.permitted(action)?;
        let located = self.locate(path)?;
        can_be_taken_from(&located, path, action.target.kind)?;
        let reads = self.reads(action, &located)?;
        self.place_is_free(action)?;
        let parent = located.parent.as_fd();
        let mut guard = self.guard(path);
        let survey = survey_at(parent, &located.name, path, touched, &mut |visit| {
            guard.pass(&visit)?;
            may_be_removed(&visit, path)?;
            if reads { may_be_read(&visit, path) } else { Ok(()) }
        })?;
        if let Some(difference) = action.target.difference(&survey.target, false) {
            return Err(Refusal::Changed { path: path.clone(), difference });
        }
        guard.in_use()?;
        if let Some(copy) = &action.stays {
            let kept = kept_copy(path, copy)?;
            can_stand_for(action, copy, &kept, &located)?;
        }
        if let (true, Some(socket)) = (reads, &survey.socket) {
            let reason = "it is a socket, which means nothing without its process".to_owned();
            return Err(Refusal::NotArchivable { path: socket.clone(), reason });
        }
        Ok((located, survey))
    }

    /// As [`Checks::target`], for a regular file that is leased, and so in use by nobody: what is asked of its directory is
    /// asked once for all files in it. `found` are the facts about the file, by its descriptor.
    pub(super) fn leased_file(
        &self,
        action: &Action,
        located: &Located,
        found: &Stat,
        touched: &Touched,
    ) -> Result<(), Refusal> {
        let path = &action.target.path.0;
        let mut last = self.last_directory.borrow_mut();
        let mount = match &*last {
            Some((directory, mount)) if Arc::ptr_eq(directory, &located.parent) => *mount,
            _ => {
                can_be_taken_from(located, path, action.target.kind)?;
                let stat = stat_descriptor(&located.parent);
                let mount = stat.map_err(CallError::on(Op::Examine, path))?.mount;
                *last = Some((Arc::clone(&located.parent), mount));
                mount
            }
        };
        if found.mount != mount {
            return Err(Refusal::MountBelow(path.clone()));
        }
        if found.immutable || found.append_only {
            return Err(Refusal::Immutable(path.clone()));
        }
        match action.target.inode_difference(path, &touched.as_reviewed(*found)) {
            Some(difference) => Err(Refusal::Changed { path: path.clone(), difference }),
            None => Ok(()),
        }
    }

    /// Makes sure that a directory which is to be emptied is the one that was reviewed, can be taken, and is not in use.
    pub(super) fn emptied(&self, action: &Action) -> Result<(), Refusal> {
        let target = &action.target;
        let path = &target.path.0;
        self.permitted(action)?;
        let located = self.locate(path)?;
        can_be_taken_from(&located, path, target.kind)?;
        let now = kernel::stat_at(&located.parent, located.name.as_os_str());
        let now = match now {
            Ok(now) => now,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Err(Refusal::Gone(path.clone()));
            }
            Err(error) => return Err(CallError::on(Op::Examine, path)(error).into()),
        };
        if (now.kind, now.dev, now.ino) != (target.kind, target.device, target.inode) {
            let difference = "another entry is in its place".to_owned();
            return Err(Refusal::Changed { path: path.clone(), difference });
        }
        if self.open.is_open(now.dev, now.ino) {
            let holder = self.open.holders(now.dev, now.ino).into_iter().next();
            return Err(Refusal::InUse { path: path.clone(), holder });
        }
        Ok(())
    }

    /// Whether the contents of a target have to be read.
    fn reads(&self, action: &Action, located: &Located) -> Result<bool, Refusal> {
        match &action.deed {
            Deed::Archive { .. } => Ok(true),
            Deed::Move { to, .. } => match self.destinations.get(to) {
                Some((_, to)) => is_elsewhere(located, &action.target.path.0, to),
                None => Ok(true),
            },
            _ => Ok(false),
        }
    }

    /// Refuses a move to a place where something is.
    fn place_is_free(&self, action: &Action) -> Result<(), Refusal> {
        let Deed::Move { to, .. } = &action.deed else { return Ok(()) };
        let Some((to, _)) = self.destinations.get(to) else { return Ok(()) };
        let place = moved_place(to, &action.target.path.0);
        match kernel::stat_path(&place) {
            Ok(_) => Err(Refusal::Taken(place)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            Err(error) => Err(CallError::on(Op::Examine, place)(error).into()),
        }
    }

    /// Whether a move has to copy: its destination lies on another file system or another mount.
    pub(super) fn crosses(&self, path: &Path, destination: &Stat) -> Result<bool, Refusal> {
        is_elsewhere(&self.locate(path)?, path, destination)
    }

    /// Looks for the directory of the next target anew.
    pub(super) fn forget_place(&self) {
        self.locator.borrow_mut().forget();
        self.last_directory.borrow_mut().take();
    }

    /// Opens the directory that holds a target: see [`Locator`].
    pub(super) fn locate(&self, path: &Path) -> Result<Located, Refusal> {
        self.locator.borrow_mut().locate(path)
    }

    /// What is asked of every entry of a target, wherever it lies now.
    pub(super) fn guard<'a>(&'a self, path: &'a Path) -> Guard<'a> {
        Guard { checks: self, path, in_use: None }
    }
}

/// Opens the copy of a target that must stay, and makes sure that it is what was reviewed.
pub(super) fn kept_copy(path: &Path, copy: &Target) -> Result<File, Refusal> {
    let no_copy = |reason: String| Refusal::NoCopy {
        path: path.to_owned(),
        copy: copy.path.0.clone(),
        reason,
    };
    let located = match locate(&copy.path.0) {
        Ok(located) => located,
        Err(Refusal::Gone(_)) => return Err(no_copy("is gone".to_owned())),
        Err(other) => return Err(other),
    };
    let file = match kernel::open_file(&located.parent, located.name.as_os_str()) {
        Ok(file) => file,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(no_copy("is gone".to_owned()));
        }
        Err(error) => return Err(CallError::on(Op::Open, &copy.path.0)(error).into()),
    };
    let stat = stat_descriptor(&file).map_err(CallError::on(Op::Examine, &copy.path.0))?;
    match copy.contents_difference(&stat) {
        None => Ok(file),
        Some(difference) => Err(no_copy(format!("has changed: {difference}"))),
    }
}

/// Makes sure that a copy can become a name of the file that stays, or share its blocks, if it is to.
fn can_stand_for(
    action: &Action,
    copy: &Target,
    kept: &File,
    located: &Located,
) -> Result<(), Refusal> {
    let path = &action.target.path.0;
    let hopeless = |reason: String| Refusal::Hopeless { path: path.clone(), reason };
    if !action.deed.needs_copy() {
        return Ok(());
    }
    let stat = stat_descriptor(kept).map_err(CallError::on(Op::Examine, &copy.path.0))?;
    let parent = stat_descriptor(&located.parent).map_err(CallError::on(Op::Examine, path))?;
    if stat.dev != parent.dev || (action.deed == Deed::Link && stat.mount != parent.mount) {
        let reason = format!("{} lies on another volume or mount", Shown(&copy.path.0));
        return Err(hopeless(reason));
    }
    if action.deed == Deed::Link {
        if stat.immutable || stat.append_only {
            return Err(Refusal::Immutable(copy.path.0.clone()));
        }
        if !kernel::may_link(kept, &stat) {
            let reason = format!("the kernel lets only its owner link {}", Shown(&copy.path.0));
            return Err(hopeless(reason));
        }
        let own = kernel::stat_at(&located.parent, located.name.as_os_str());
        let own = own.map_err(CallError::on(Op::Examine, path))?;
        return match kernel::may_give_to(own.uid, own.gid) {
            true => Ok(()),
            false => Err(hopeless("its owner could not be given back to it".to_owned())),
        };
    }
    let file = kernel::open_file(&located.parent, located.name.as_os_str());
    let file = file.map_err(CallError::on(Op::Open, path))?;
    kernel::can_share(kept, &file).map_err(|error| cannot_share(error, path))
}

/// Why two files cannot share their blocks.
pub(super) fn cannot_share(error: io::Error, path: &Path) -> Refusal {
    let reason = match error.kind() {
        io::ErrorKind::Unsupported | io::ErrorKind::InvalidInput => {
            "its file system cannot share blocks between files, or it is too small to have some"
        }
        io::ErrorKind::CrossesDevices => "the copy that stays lies on another volume",
        _ => return CallError::on(Op::Share, path)(error).into(),
    };
    Refusal::Hopeless { path: path.to_owned(), reason: reason.to_owned() }
}

/// Stops at what is protected below a target, and remembers what of it is open.
pub(super) struct Guard<'a> {
    checks: &'a Checks,
    path: &'a Path,
    in_use: Option<(PathBuf, Option<Holder>)>,
}

impl Guard<'_> {
    /// Looks at one entry.
    pub(super) fn pass(&mut self, visit: &Visit<'_>) -> Result<(), Refusal> {
        let place = || self.path.join(visit.below).components().collect::<PathBuf>();
        let (dev, ino) = (visit.stat.dev, visit.stat.ino);
        if self.in_use.is_none() && self.checks.open.is_open(dev, ino) {
            let holder = self.checks.open.holders(dev, ino).into_iter().next();
            self.in_use = Some((place(), holder));
        }
        let below = !visit.below.as_os_str().is_empty();
        match self.checks.protection.reason_below(self.path, visit.name) {
            Some(reason) if below => {
                Err(Refusal::Protected { path: place(), reason: reason.to_owned() })
            }
            _ => Ok(()),
        }
    }

    /// Refuses what is open. Whatever has changed is told first.
    pub(super) fn in_use(self) -> Result<(), Refusal> {
        match self.in_use {
            Some((path, holder)) => Err(Refusal::InUse { path, holder }),
            None => Ok(()),
        }
    }
}

fn is_elsewhere(located: &Located, path: &Path, destination: &Stat) -> Result<bool, Refusal> {
    let parent = stat_descriptor(&located.parent).map_err(CallError::on(Op::Examine, path))?;
    Ok((parent.dev, parent.mount) != (destination.dev, destination.mount))
}

/// Looks at where things are moved to: nothing of it can be a target, and it must have room for what is copied there.
fn look_at_destinations(
    plan: &Plan,
    protection: &mut Protection,
    hopeless: &mut HashMap<u32, String>,
) -> HashMap<PathBuf, (PathBuf, Stat)> {
    type Room = (Stat, PathBuf, Bytes);
    let mut known: HashMap<PathBuf, Result<Room, DepotError>> = HashMap::new();
    let mut needed: HashMap<u64, Bytes> = HashMap::new();
    for action in &plan.actions {
        let Deed::Move { to, .. } = &action.deed else { continue };
        let looked = known.entry(to.clone()).or_insert_with(|| {
            let place = look_at_place(to)?;
            protection.add(place.path.clone(), "what this plan moves things to");
            let stat =
                kernel::stat_path(&place.standing).map_err(CallError::on(Op::Examine, to))?;
            let free = kernel::capacity(&place.standing).map_err(CallError::on(Op::Examine, to))?;
            let free = free.free();
            Ok((stat, place.path, free))
        });
        match looked {
            Err(error) => {
                hopeless.insert(action.number, error.to_string());
            }
            Ok((stat, path, free)) if stat.dev != action.target.device => {
                let needed = needed.entry(stat.dev).or_default();
                *needed += action.target.allocated;
                if *needed > *free {
                    let style = UnitStyle::Binary;
                    let (needed, free) = (needed.shown(style), free.shown(style));
                    let reason = format!(
                        "with what comes before it {needed} are to be copied to {}, which has {free} free",
                        Shown(path)
                    );
                    hopeless.insert(action.number, reason);
                }
            }
            Ok(_) => {}
        }
    }
    let found = known.into_iter().filter_map(|(to, looked)| {
        let (stat, path, _) = looked.ok()?;
        Some((to, (path, stat)))
    });
    found.collect()
}

/// Actions whose copy that must stay is, or lies in, the target of an action of the same plan.
fn copies_that_go(plan: &Plan, protection: &Protection) -> HashMap<u32, String> {
    // one directory may be mounted at several places
    let place = |target: &Target| {
        let path = &target.path.0;
        protection.on_file_system(path).unwrap_or((target.device, path.to_owned()))
    };
    let mut inodes = HashMap::new();
    let mut directories = HashMap::new();
    for action in plan
        .actions
        .iter()
        .filter(|action| !action.deed.is_release() && !action.deed.is_of_tool() && !action.emptied)
    {
        let target = &action.target;
        inodes.insert((target.device, target.inode), action.number);
        if target.kind == Kind::Directory {
            directories.insert(place(target), action.number);
        }
    }
    let goes = |action: Record<Action>| {
        let copy = action.stays.as_deref()?;
        let by = inodes.get(&(copy.device, copy.inode)).copied();
        let by = by.or_else(|| {
            let (device, path) = (!directories.is_empty()).then(|| place(copy))?;
            path.ancestors().find_map(|above| directories.get(&(device, above.to_owned())).copied())
        });
        let reason = format!("action {} takes {}, which was to stay", by?, Shown(&copy.path.0));
        Some((action.number, reason))
    };
    plan.actions.iter().filter_map(goes).collect()
}

/// Whether a depot can be used, as far as that can be said without making it.
/// What an archive is to go to, once it has been looked at.
enum Looked {
    Place(DepotPlace),
    Store(PathBuf),
}

fn look_at_depot(depot: &Path) -> Result<Looked, DepotError> {
    if is_store(depot) {
        StoreDepot::of_process(depot)?.ask()?;
        return Ok(Looked::Store(depot.to_owned()));
    }
    look_at_place(depot).map(Looked::Place)
}

/// A directory that something is put into: a depot, or where things are moved to.
fn look_at_place(path: &Path) -> Result<DepotPlace, DepotError> {
    let place = DepotPlace::look(path)?;
    let rights = Access::WRITE_OK | Access::EXEC_OK;
    rustix::fs::accessat(CWD, &place.standing, rights, AtFlags::EACCESS)
        .map_err(CallError::on(Op::Write, &place.standing))?;
    Ok(place)
}

/// Whether an entry can be moved out of its directory (`rename(2)`: `EACCES`, `EPERM`, `EROFS`).
fn can_be_taken_from(located: &Located, path: &Path, kind: Kind) -> Result<(), Refusal> {
    let directory = path.parent().unwrap_or(path);
    let allowed = |name: &std::ffi::OsStr, rights| {
        rustix::fs::accessat(&located.parent, name, rights, AtFlags::EACCESS)
    };
    let rights = Access::WRITE_OK | Access::EXEC_OK;
    allowed(".".as_ref(), rights).map_err(CallError::on(Op::Write, directory))?;
    let parent = stat_descriptor(&located.parent).map_err(CallError::on(Op::Examine, directory))?;
    if parent.immutable || parent.append_only {
        return Err(Refusal::Immutable(directory.to_owned()));
    }
    let us = kernel::effective_user();
    if us != 0 && parent.mode & STICKY != 0 && parent.uid != us {
        let entry = kernel::stat_at(&located.parent, located.name.as_os_str())
            .map_err(CallError::on(Op::Examine, path))?;
        if entry.uid != us {
            return Err(not_permitted(Op::Remove, path));
        }
    }
    if kind == Kind::Directory {
        // a directory that moves to another one has its `..` written
        allowed(&located.name, Access::WRITE_OK).map_err(CallError::on(Op::Rename, path))?;
    }
    Ok(())
}

/// The restricted deletion flag (`inode(7)`).
const STICKY: u32 = 0o1000;

fn not_permitted(op: Op, path: &Path) -> Refusal {
    CallError::on(op, path)(io::Error::from(rustix::io::Errno::PERM)).into()
}

/// Whether what a directory holds can be removed from it.
fn may_be_removed(visit: &Visit<'_>, target: &Path) -> Result<(), Refusal> {
    if visit.stat.kind != Kind::Directory || kernel::effective_user() == 0 {
        return Ok(());
    }
    let us = kernel::effective_user();
    if visit.stat.uid != us && visit.stat.mode & STICKY != 0 {
        return Err(not_permitted(Op::Remove, &target.join(visit.below)));
    }
    may(visit, target, Access::READ_OK | Access::WRITE_OK | Access::EXEC_OK, Op::Write)
}

/// Whether the contents of a file can be read.
fn may_be_read(visit: &Visit<'_>, target: &Path) -> Result<(), Refusal> {
    if visit.stat.kind != Kind::File || kernel::effective_user() == 0 {
        return Ok(());
    }
    may(visit, target, Access::READ_OK, Op::Read)
}

fn may(visit: &Visit<'_>, target: &Path, rights: Access, op: Op) -> Result<(), Refusal> {
    rustix::fs::accessat(visit.parent, visit.name, rights, AtFlags::EACCESS)
        .map_err(|error| CallError::on(op, target.join(visit.below))(error).into())
}
