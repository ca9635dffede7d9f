//! Why the volumes say something else than what was counted.

use std::collections::{BTreeSet, HashSet};
use std::path::{Path, PathBuf};
use std::sync::mpsc::channel;
use std::time::{Duration, Instant};

use super::EntryRecord;
use crate::kernel::{self, DeletedFile, DeletedFiles};
use crate::packed_list::PackedList;
use crate::parallel;
use crate::plan::{Deed, Overview};
use crate::state::State;
use crate::units::{Bytes, Time, UnitStyle};
use crate::volume::volume_root;

/// A run that has come to its end, and what was counted of it.
pub(super) struct Counted<'a> {
    /// What can be said of its actions together.
    pub(super) overview: &'a Overview,
    pub(super) entries: &'a PackedList<EntryRecord>,
    /// The private directories that it had; those that hold nothing are gone.
    pub(super) areas: &'a [PathBuf],
    pub(super) freed: Bytes,
    pub(super) state: &'a State,
    pub(super) clock: &'a dyn Fn() -> Time,
}

/// Bytes by which the use of some volumes fell, negative if it rose, and why that is not what was counted; nothing where
/// they do not answer. `before` are the bytes in use before the run, and `used` asks for them now.
pub(super) fn measure(
    run: &Counted<'_>,
    volumes: &[PathBuf],
    before: Option<Bytes>,
    used: &dyn Fn() -> Option<Bytes>,
) -> (Option<i64>, Vec<String>) {
    let holding =
        run.areas.iter().filter_map(|area| Some(kernel::stat_path(area).ok()?.allocated()));
    let holding: Bytes = holding.sum();
    let after = before.and_then(|before| {
        let expected = before.get().saturating_sub(run.freed.get()) + holding.get();
        let (used, settled) = used_when_settled(volumes, expected, used)?;
        Some((before.get() as i64 - used.get() as i64, settled))
    });
    let Some((measured, settled)) = after else { return (None, Vec::new()) };
    (Some(measured), reasons(run, measured, holding, settled))
}

/// Differences below this are the file system's own book-keeping.
const NOISE: u64 = 128 * 1024;

/// How long it is waited for what file systems do later.
const PATIENCE: Duration = Duration::from_secs(3);
/// How often the volumes are asked meanwhile, and how many equal answers in a row are believed.
const STEP: Duration = Duration::from_millis(50);
const EQUAL_ANSWERS: u32 = 4;

/// Bytes in use on these volumes when their file systems have done what they do later, and whether they have:
/// XFS and btrfs free the space of what is removed only with the next commit (`syncfs(2)`). If the volumes say at once
/// what was counted, nothing is waited for.
fn used_when_settled(
    volumes: &[PathBuf],
    expected: u64,
    used: &dyn Fn() -> Option<Bytes>,
) -> Option<(Bytes, bool)> {
    let fits = |used: Bytes| used.get().abs_diff(expected) < NOISE;
    let mut last = used()?;
    if fits(last) {
        return Some((last, true));
    }
    let (synced, all_synced) = channel();
    let places = volumes.to_owned();
    // where other processes write much it may take minutes: then it goes on by itself
    parallel::begin(move || {
        for place in places {
            let open = kernel::open_root(&place);
            // what cannot be synced is asked as it is
            let _ = open.and_then(|open| Ok(rustix::fs::syncfs(&open)?));
        }
        let _ = synced.send(());
    });
    let (begun, mut equal) = (Instant::now(), 0);
    let mut is_synced = false;
    while begun.elapsed() < PATIENCE {
        match is_synced {
            true => std::thread::sleep(STEP),
            false => is_synced = all_synced.recv_timeout(STEP).is_ok(),
        }
        let now = used()?;
        equal = if now == last { equal + 1 } else { 0 };
        last = now;
        if fits(now) || (is_synced && equal >= EQUAL_ANSWERS) {
            return Some((now, true));
        }
    }
    Some((last, false))
}

/// What is known to make the difference, and how much of it is left over; nothing if there is none.
/// `settled`: the volumes say the same for a while.
fn reasons(run: &Counted<'_>, measured: i64, holding: Bytes, settled: bool) -> Vec<String> {
    let binary = |bytes: Bytes| bytes.shown(UnitStyle::Binary);
    let mut missing = run.freed.get() as i64 - measured;
    if missing.unsigned_abs() < NOISE {
        return Vec::new();
    }
    let mut reasons = Vec::new();
    let mut tell = |bytes: Bytes, words: &str| {
        if bytes > Bytes::ZERO {
            missing -= bytes.get() as i64;
            reasons.push(format!("{} {words}", binary(bytes)));
        }
        missing.unsigned_abs() >= NOISE
    };
    let archives = match run.overview.has(|deed| matches!(deed, Deed::Archive { .. })) {
        true => archives(run),
        false => Bytes::ZERO,
    };
    tell(archives, "were taken by archives on the same volume");
    let holding = if holding.get() >= NOISE { holding } else { Bytes::ZERO };
    let saved = match run.overview.has(|deed| matches!(deed, Deed::Save { .. })) {
        true => saved(run),
        false => Bytes::ZERO,
    };
    tell(saved, "were taken by what was saved on the same volume");
    // asking who has what open may take long, and going through all actions besides
    if tell(holding, "are taken by the list of names of the holding area") {
        let words = "were removed while a process has them open, and are freed when it ends";
        tell(still_held(run), words);
    }
    if missing.unsigned_abs() >= NOISE {
        let rest = binary(Bytes::new(missing.unsigned_abs()));
        let word = if missing > 0 { "less" } else { "more" };
        let known = match settled {
            true => "why is not known from here",
            false => "the volume was still changing when it was looked at last",
        };
        reasons.push(format!("{rest} {word} than was counted: {known}"));
    }
    reasons
}

/// What the run's archives take on the volumes that it was to relieve.
fn archives(run: &Counted<'_>) -> Bytes {
    let all = paths(run, |entry| entry.archive.as_deref());
    let mounts = kernel::mounts().unwrap_or_default();
    let is_relieved = |root: &Path| run.overview.volumes.iter().any(|(path, _)| path == root);
    let beside = all.iter().filter(|path| is_relieved(&volume_root(path, run.state, &mounts)));
    beside.filter_map(|path| Some(kernel::stat_path(path).ok()?.allocated())).sum()
}

fn saved(run: &Counted<'_>) -> Bytes {
    let beside = paths(run, |entry| match &entry.action.deed {
        Deed::Save { to, same_volume: true } if entry.state.is_done() => Some(to),
        _ => None,
    });
    beside.iter().filter_map(|path| Some(kernel::stat_path(path).ok()?.allocated())).sum()
}

/// What was removed and is open: nobody had it open when it was looked at last.
fn still_held(run: &Counted<'_>) -> Bytes {
    let held = DeletedFiles::collect((run.clock)());
    let inodes: HashSet<(u64, u64)> = held.files.iter().map(|file| (file.dev, file.ino)).collect();
    if inodes.is_empty() {
        return Bytes::ZERO;
    }
    let removed: HashSet<(u64, u64)> = run
        .entries
        .iter()
        .filter(|entry| entry.state.is_done() && entry.action.deed.takes_target())
        .map(|entry| (entry.action.target.device, entry.action.target.inode))
        .filter(|inode| inodes.contains(inode))
        .collect();
    // a file that was open in a removed tree goes by the name that it had in a private directory
    let is_ours = |file: &&DeletedFile| {
        removed.contains(&(file.dev, file.ino))
            || run.areas.iter().any(|area| file.path.starts_with(area))
    };
    held.files.iter().filter(is_ours).filter_map(|file| file.allocated).sum()
}

/// Paths that entries of the run have, each of them once.
fn paths(run: &Counted<'_>, of: impl Fn(&EntryRecord) -> Option<&Path>) -> BTreeSet<PathBuf> {
    let mut paths: BTreeSet<PathBuf> = BTreeSet::new();
    for entry in run.entries {
        let new = of(&entry).filter(|path| !paths.contains(*path));
        paths.extend(new.map(Path::to_owned));
    }
    paths
}
