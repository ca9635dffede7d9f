//! Sixty days of kept scans of the demo's volume: on each day what had been written by then, the trial runs of the models that
//! somebody has cleared away by hand since, and an old field kit in the place that it was moved from.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use anyhow::{Context, Result};
use fondaco_core::catalog::{Batch, Catalog, EntryId, Origin, ScannedVolume};
use fondaco_core::history::keep_scan;
use fondaco_core::kernel::{self, DirReader, Kind, Stat};
use fondaco_core::state::State;
use fondaco_core::units::Time;

use super::levels;

const DAY: i64 = 86_400;
/// The directory in which models are tried out.
const TRIALS: &str = "model-runs";
/// The length of one trial run.
const TRIAL: u64 = 880 << 10;

/// The field kit that was moved so many days ago: where it lies, and where it lay.
const MOVED: [(&str, &str); 2] = [("field-kits", "kit-b (old)"), ("incoming", "kit-b")];
const MOVED_AGO: i64 = 16;

/// A directory of the demo with what is in it.
#[derive(Clone)]
struct Listed {
    own: Stat,
    entries: Vec<(Vec<u8>, Stat)>,
    below: Vec<Listed>,
}

/// Writes them as `scan --save` would have.
pub(super) fn write(state: &State, root: &Path, now: Time) -> Result<()> {
    let tree = list(root, kernel::stat_path(root)?)?;
    let mut origin = Origin::of_this_machine();
    origin.volumes = vec![ScannedVolume::look(root)?];
    let used_now = levels::used_now(root);
    let before_the_move = before_the_move(&tree).context("there is no field kit")?;
    for ago in (1..=60).rev() {
        let then = Time::at(now.sec - ago * DAY);
        let tree = if ago > MOVED_AGO { &before_the_move } else { &tree };
        let mut catalog = Catalog::new(then);
        catalog.set_origin(origin.clone());
        let tops = catalog.add_roots(&[(root.to_owned(), tree.own)])?;
        let top = *tops.first().context("a scan has a root")?;
        let mut linked = HashSet::new();
        let written = used_then(tree, then, &mut linked);
        let trials = levels::used_at(used_now, ago * 24).saturating_sub(written) / TRIAL;
        add(&mut catalog, top, tree, then, trials)?;
        catalog.finish(true);
        keep_scan(state, &catalog, false)?;
    }
    Ok(())
}

/// The same with the field kit where it lay before.
fn before_the_move(tree: &Listed) -> Option<Listed> {
    let mut tree = tree.clone();
    let [(from, name), (to, earlier)] = MOVED;
    let place = tree.place_of(from)?;
    let (own, below) = tree.below.get_mut(place)?.take(name)?;
    let place = tree.place_of(to)?;
    tree.below.get_mut(place)?.put(earlier, own, below);
    Some(tree)
}

impl Listed {
    /// Number of a directory among those in this one.
    fn place_of(&self, name: &str) -> Option<usize> {
        let mut directories = self.entries.iter().filter(|(_, stat)| stat.kind == Kind::Directory);
        directories.position(|(other, _)| other == name.as_bytes())
    }

    fn take(&mut self, name: &str) -> Option<(Stat, Self)> {
        let below = self.place_of(name)?;
        let entry = self.entries.iter().position(|(other, _)| other == name.as_bytes())?;
        Some((self.entries.remove(entry).1, self.below.remove(below)))
    }

    fn put(&mut self, name: &str, own: Stat, below: Self) {
        let entry = self.entries.partition_point(|(other, _)| other.as_slice() < name.as_bytes());
        self.entries.insert(entry, (name.as_bytes().to_vec(), own));
        self.below.insert(self.place_of(name).unwrap_or(0), below);
    }
}

fn list(path: &Path, own: Stat) -> Result<Listed> {
    let directory = kernel::open_root(path)?;
    let (mut entries, mut reader) = (Vec::new(), DirReader::default());
    let mut failed = None;
    reader.read(&directory, |entry| match kernel::stat_at(&directory, entry.name) {
        Ok(stat) => {
            entries.push((entry.name.to_bytes().to_vec(), stat));
            true
        }
        Err(error) => {
            failed = Some(error);
            false
        }
    })?;
    failed.map_or(Ok(()), Err)?;
    entries.sort_by(|a, b| a.0.cmp(&b.0));
    let directories = entries.iter().filter(|(_, stat)| stat.kind == Kind::Directory);
    let below = directories
        .map(|(name, stat)| list(&path.join(OsStr::from_bytes(name)), *stat))
        .collect::<Result<_>>()?;
    Ok(Listed { own, entries, below })
}

fn was_there(stat: &Stat, then: Time) -> bool {
    stat.kind == Kind::Directory || stat.mtime <= then
}

/// Bytes on disk of what had been written by then.
fn used_then(of: &Listed, then: Time, linked: &mut HashSet<u64>) -> u64 {
    let mut used = of.own.allocated().get();
    for (_, stat) in &of.entries {
        let counts = stat.kind != Kind::Directory && was_there(stat, then);
        if counts && (stat.links < 2 || linked.insert(stat.ino)) {
            used += stat.allocated().get();
        }
    }
    used + of.below.iter().map(|below| used_then(below, then, linked)).sum::<u64>()
}

fn any_file(of: &Listed) -> Option<Stat> {
    let here = of.entries.iter().find(|(_, stat)| stat.kind == Kind::File);
    here.map(|(_, stat)| *stat).or_else(|| of.below.iter().find_map(any_file))
}

/// Adds a directory to a catalog; `trials` are added to the one that has them.
fn add(catalog: &mut Catalog, at: EntryId, of: &Listed, then: Time, trials: u64) -> Result<()> {
    let mut batch = Batch::new(then);
    let mut directories = Vec::new();
    for (name, stat) in of.entries.iter().filter(|(_, stat)| was_there(stat, then)) {
        if stat.kind == Kind::Directory {
            directories.push(batch.len() as u32);
        }
        let mut stat = *stat;
        stat.mtime = stat.mtime.min(then);
        stat.atime = stat.atime.min(then);
        stat.ctime = stat.ctime.min(then);
        batch.push(name, &stat);
    }
    let is_top = catalog.is_root(at);
    if !is_top && catalog.name(at) == TRIALS {
        // a regular file of the demo lends them what a name and a date do not say
        let like = any_file(of).context("no model has run")?;
        for number in 0..trials {
            let written = Time::at(then.sec - number as i64 * DAY);
            let day: String = written.rfc3339().chars().take(10).collect();
            let stat = Stat {
                ino: u64::MAX - number,
                size: TRIAL,
                blocks: TRIAL / 512,
                mtime: written,
                atime: written,
                ctime: written,
                ..like
            };
            batch.push(format!("trial-{day}.nc").as_bytes(), &stat);
        }
    }
    let first = catalog.append(at, None, &batch)?;
    for (place, below) in directories.into_iter().zip(&of.below) {
        add(catalog, EntryId(first.0 + place), below, then, trials)?;
    }
    Ok(())
}
