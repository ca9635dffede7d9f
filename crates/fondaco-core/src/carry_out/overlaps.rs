//! Actions of a plan that would take the same.

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use rustc_hash::FxHashMap;

use crate::analysis::Protection;
use crate::kernel::{Kind, directory_and_name};
use crate::plan::{Action, Plan};

/// A directory on its file system.
type Place = (u64, PathBuf);

/// What is found when all actions of a plan are looked at, one after the other in their order.
pub(super) struct Overlaps<'a> {
    taken: Taken<'a>,
    found: HashMap<u32, String>,
}

impl<'a> Overlaps<'a> {
    /// Before any action has been looked at.
    pub(super) fn of_none(plan: &'a Plan, protection: &'a Protection) -> Self {
        Self { taken: Taken::of_nothing(plan, protection), found: HashMap::new() }
    }

    /// Looks at the next action.
    pub(super) fn look_at(&mut self, action: &Action) {
        let deed = &action.deed;
        if deed.is_release() || deed.is_of_tool() || action.emptied {
            return;
        }
        if let Some(reason) = self.taken.take(action) {
            self.found.insert(action.number, reason);
        }
    }

    /// The actions whose target is, lies in, or contains the target of one that comes before them, each with the reason
    /// why it cannot be done.
    pub(super) fn finish(self) -> HashMap<u32, String> {
        self.found
    }
}

/// What the actions so far take.
struct Taken<'a> {
    plan: &'a Plan,
    protection: &'a Protection,
    /// Directories that hold files which are taken, each with its number in `parents`.
    files: BTreeMap<Place, usize>,
    /// The same directories, each with the first action that takes a file in it.
    parents: Vec<(Place, u32)>,
    /// The files by a hash of their directory and name: the action, and the number of the directory. There may be
    /// millions of them.
    names: FxHashMap<u64, (u32, u32)>,
    hasher: ahash::RandomState,
    /// What is taken whole.
    directories: BTreeMap<Place, u32>,
    /// The directory of the last file as its path says it: neighbours mostly lie in one.
    last: Option<(PathBuf, usize)>,
}

impl<'a> Taken<'a> {
    fn of_nothing(plan: &'a Plan, protection: &'a Protection) -> Self {
        Self {
            plan,
            protection,
            files: BTreeMap::new(),
            parents: Vec::new(),
            names: FxHashMap::default(),
            hasher: ahash::RandomState::new(),
            directories: BTreeMap::new(),
            last: None,
        }
    }

    /// Notes what an action takes, or says why it cannot.
    fn take(&mut self, action: &Action) -> Option<String> {
        let path = action.target.path.0.as_path();
        let is_directory = action.target.kind == Kind::Directory;
        match directory_and_name(path) {
            Some((directory, name)) if !is_directory => self.take_file(action, directory, name),
            _ => self.take_directory(action),
        }
    }

    fn place(&self, path: &Path, action: &Action) -> Place {
        // one directory may be mounted at several places
        let known = self.protection.on_file_system(path);
        known.unwrap_or((action.target.device, path.to_owned()))
    }

    /// The action that takes a directory, or one above it.
    fn taker_of(&self, (device, path): &Place) -> Option<u32> {
        let mut above = (!self.directories.is_empty()).then(|| path.ancestors())?;
        above.find_map(|above| self.directories.get(&(*device, above.to_owned())).copied())
    }

    fn take_file(&mut self, action: &Action, directory: &Path, name: &OsStr) -> Option<String> {
        let is_last = |(known, _): &&(PathBuf, usize)| known.as_os_str() == directory.as_os_str();
        let at = match self.last.as_ref().filter(is_last) {
            Some((_, at)) => *at,
            None => {
                let place = self.place(directory, action);
                let at = *self.files.entry(place.clone()).or_insert(self.parents.len());
                if at == self.parents.len() {
                    self.parents.push((place, action.number));
                }
                self.last = Some((directory.to_owned(), at));
                at
            }
        };
        let mut key = self.hasher.hash_one((at, name));
        let mut before = None;
        while let Some((number, parent)) = self.names.get(&key) {
            let other = self.plan.actions.range(*number as usize - 1..*number as usize).next();
            let is_same = other.is_some_and(|other| other.target.path.0.file_name() == Some(name));
            if *parent as usize == at && is_same {
                before = Some(*number);
                break;
            }
            // two names with one hash
            key = key.wrapping_add(1);
        }
        if let Some(other) = before.or_else(|| self.taker_of(&self.parents[at].0)) {
            return Some(format!("action {other} takes it already"));
        }
        self.names.insert(key, (action.number, at as u32));
        None
    }

    fn take_directory(&mut self, action: &Action) -> Option<String> {
        let directory = self.place(&action.target.path.0, action);
        if let Some(other) = self.taker_of(&directory) {
            return Some(format!("action {other} takes it already"));
        }
        // paths are ordered part by part: what lies below one comes right behind it
        let is_below = |place: &Place| place.0 == directory.0 && place.1.starts_with(&directory.1);
        let file = self.files.range(&directory..).next().filter(|(place, _)| is_below(place));
        let file = file.map(|(_, at)| self.parents[*at].1);
        let below = self.directories.range(&directory..).next();
        let below = below.filter(|(place, _)| is_below(place)).map(|(_, other)| *other);
        if let Some(other) = file.into_iter().chain(below).min() {
            return Some(format!("action {other} takes something of it before"));
        }
        self.directories.insert(directory, action.number);
        None
    }
}
