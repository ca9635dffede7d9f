//! Why the volumes say something else than what was counted.

use std::collections::BTreeSet;

use super::EntryRecord;
use crate::kernel::{self, DeletedFiles};
use crate::plan::{Deed, Plan};
use crate::state::State;
use crate::units::{Bytes, Time, UnitStyle};
use crate::volume::volume_root;

/// A run, its count and its measure.
pub(super) struct Measured<'a> {
    pub(super) plan: &'a Plan,
    pub(super) entries: &'a [EntryRecord],
    pub(super) freed: Bytes,
    pub(super) measured: i64,
    pub(super) state: &'a State,
    pub(super) now: Time,
}

/// Differences below this are the file system's own book-keeping.
const NOISE: u64 = 128 * 1024;

/// What is known to make the difference, and how much of it is left over; nothing if there is none.
pub(super) fn reasons(run: &Measured<'_>) -> Vec<String> {
    let binary = |bytes: Bytes| bytes.shown(UnitStyle::Binary);
    let mut missing = run.freed.get() as i64 - run.measured;
    if missing.unsigned_abs() < NOISE {
        return Vec::new();
    }
    let mut reasons = Vec::new();
    let mut tell = |bytes: Bytes, words: &str| {
        if bytes > Bytes::ZERO {
            missing -= bytes.get() as i64;
            reasons.push(format!("{} {words}", binary(bytes)));
        }
    };
    tell(archives(run), "were taken by archives on the same volume");
    tell(still_held(run), "were removed while a process has them open, and are freed when it ends");
    tell(saved(run), "were taken by what was saved on the same volume");
    if missing.unsigned_abs() >= NOISE {
        let rest = binary(Bytes::new(missing.unsigned_abs()));
        reasons.push(match missing > 0 {
            true => format!("{rest} less: others wrote meanwhile, or the volume frees them later"),
            false => format!("{rest} more: others freed space meanwhile"),
        });
    }
    reasons
}

fn volumes(run: &Measured<'_>) -> Vec<std::path::PathBuf> {
    run.plan.volumes().into_iter().map(|(path, _)| path).collect()
}

/// What the run's archives take on the volumes that it was to relieve.
fn archives(run: &Measured<'_>) -> Bytes {
    let mounts = kernel::mounts().unwrap_or_default();
    let relieved = volumes(run);
    let all: BTreeSet<_> = run.entries.iter().filter_map(|entry| entry.archive.as_ref()).collect();
    let beside =
        all.into_iter().filter(|path| relieved.contains(&volume_root(path, run.state, &mounts)));
    beside.filter_map(|path| Some(kernel::stat_path(path).ok()?.allocated())).sum()
}

fn saved(run: &Measured<'_>) -> Bytes {
    let beside = run.entries.iter().filter_map(|entry| match &entry.action.deed {
        Deed::Save { to, same_volume: true } if entry.state.is_done() => Some(to),
        _ => None,
    });
    beside.filter_map(|path| Some(kernel::stat_path(path).ok()?.allocated())).sum()
}

/// What was removed and is open: nobody had it open when it was looked at last.
fn still_held(run: &Measured<'_>) -> Bytes {
    let removed: BTreeSet<(u64, u64)> = run
        .entries
        .iter()
        .filter(|entry| entry.state.is_done() && !entry.action.deed.is_release())
        .map(|entry| (entry.action.target.device, entry.action.target.inode))
        .collect();
    let held = DeletedFiles::collect(run.now);
    let ours = held
        .files
        .iter()
        .filter(|file| removed.contains(&(file.dev, file.ino)) || in_area(run, &file.path));
    ours.filter_map(|file| file.allocated).sum()
}

/// Whether a path was in a private directory of this run: a file that was open in a removed tree goes by
/// the name that it had there.
fn in_area(run: &Measured<'_>, path: &std::path::Path) -> bool {
    run.entries.iter().filter_map(|entry| entry.area.as_ref()).any(|area| path.starts_with(area))
}
