//! Makes a catalog true again after some places have changed, without a new scan of the whole.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::ffi::OsStr;
use std::io;
use std::path::{Path, PathBuf};

use super::{Options, Scan, ScanError};
use crate::catalog::{Catalog, Changes, EntryId, Finder, Reading};
use crate::kernel::{self, CallError, Kind, Op};

/// The catalog as it is now, if nothing has changed but at the places in `touched`: each is looked at
/// again, with all below it, and so are the own facts of the directories that hold them.
///
/// A place that cannot be examined is left as the catalog has it. Places outside the roots are passed
/// over.
///
/// # Errors
///
/// [`ScanError`] if a place has come that has no room in the catalog. A vanished place is no error.
pub fn reconcile(
    catalog: &Catalog,
    touched: &[PathBuf],
    options: &Options,
) -> Result<Catalog, ScanError> {
    let finder = Finder::new(catalog);
    let mut places = BTreeSet::new();
    for path in touched {
        if let Some(place) = known_place(catalog, &finder, path) {
            places.insert(place);
        }
    }
    // what lies in another of them is looked at with it; sorted, that one comes first
    let mut apart: Vec<PathBuf> = Vec::new();
    for place in places {
        if !apart.last().is_some_and(|outer| place.starts_with(outer)) {
            apart.push(place);
        }
    }
    let mut changes = Changes::default();
    let mut scans = BTreeMap::new();
    for path in &apart {
        match look_again(path, options) {
            Ok(Some(found)) => {
                scans.insert(path, found);
            }
            Ok(None) => changes.gone.extend(finder.find(path).filter(|id| !catalog.is_root(*id))),
            Err(ScanError::Full(full)) => return Err(full.into()),
            Err(_) => {}
        }
        let above = path.parent().and_then(|parent| finder.find(parent));
        if let Some(id) = above
            && let Ok(stat) = kernel::stat_path(&catalog.path(id))
            && stat.kind == Kind::Directory
        {
            changes.own.insert(id, stat);
        }
    }
    for (path, found) in &scans {
        if let Some(id) = finder.find(path) {
            changes.replaced.insert(id, found);
        } else if let (Some(above), Some(name)) = (path.parent(), path.file_name())
            && let Some(above) = finder.find(above)
        {
            changes.added.entry(above).or_default().push((name, found));
        }
    }
    count_names(catalog, &mut changes);
    Ok(catalog.mended(&changes)?)
}

/// The catalog with what a new scan found in one directory of it in place of what it had there.
///
/// # Errors
///
/// [`ScanError::Missing`] if the catalog has no such directory; [`ScanError::Full`].
pub fn replace(catalog: &Catalog, path: &Path, found: &Catalog) -> Result<Catalog, ScanError> {
    let mut changes = Changes::default();
    let id = catalog.find(path).ok_or_else(|| ScanError::Missing(path.to_owned()))?;
    changes.replaced.insert(id, found);
    count_names(catalog, &mut changes);
    Ok(catalog.mended(&changes)?)
}

/// The path, or if the directory that holds it is new itself, the first new one on the way. `None` if
/// it is outside the roots, or below something that the catalog does not go into.
fn known_place(catalog: &Catalog, finder: &Finder<'_>, path: &Path) -> Option<PathBuf> {
    let root = finder.root_of(path)?;
    let below: Vec<&OsStr> = path.strip_prefix(&root.path).ok()?.iter().collect();
    let (mut at, mut place) = (root.entry, root.path.clone());
    for name in below {
        place.push(name);
        match finder.find_in(at, name) {
            Some(id) => at = id,
            None => {
                let read = catalog.reading(at);
                return (read == Some(Reading::Done)).then_some(place);
            }
        }
    }
    Some(place)
}

/// What is at a path now; nothing if it is gone.
fn look_again(path: &Path, options: &Options) -> Result<Option<Catalog>, ScanError> {
    let stat = match kernel::stat_path(path) {
        Ok(stat) => stat,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(CallError::on(Op::Examine, path)(error).into()),
    };
    if stat.kind != Kind::Directory {
        return Ok(Some(Catalog::of_one(path.to_owned(), &stat, options.now)));
    }
    let mut scan = match Scan::start(&[path.to_owned()], options) {
        Err(ScanError::Missing(_)) => return Ok(None),
        started => started?,
    };
    scan.wait();
    // a link may have come in its place since
    if scan.catalog().roots().iter().any(|root| root.path != path) {
        return Err(ScanError::NotADirectory(path.to_owned()));
    }
    Ok(Some(scan.into_catalog()))
}

/// Asks how many names those inodes have now of which an entry has gone and another stays.
fn count_names(catalog: &Catalog, changes: &mut Changes<'_>) {
    let moved: HashSet<EntryId> =
        changes.gone.iter().chain(changes.replaced.keys()).copied().collect();
    if moved.is_empty() {
        return;
    }
    let has_moved = |id: &EntryId| {
        let mut at = Some(*id);
        while let Some(id) = at {
            if moved.contains(&id) {
                return true;
            }
            at = catalog.parent(id);
        }
        false
    };
    for names in catalog.linked_entries() {
        let (moved, stay): (Vec<EntryId>, Vec<EntryId>) = names.into_iter().partition(has_moved);
        if !moved.is_empty()
            && let Some(id) = stay.first()
            && let Ok(stat) = kernel::stat_path(&catalog.path(*id))
            && stat.ino == catalog.inode(*id)
        {
            changes.links.insert(*id, stat.links);
        }
    }
}
