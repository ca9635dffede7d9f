//! Sixty days of levels of the demo's volume: a saw-tooth of slow rise and two clean-ups by hand.

use std::path::Path;

use anyhow::Result;
use fondaco_core::history::{History, Sample};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time};
use fondaco_core::volume::used_below;

const HOUR: i64 = 3600;
/// Hours between two samples.
const STEP: i64 = 6;
/// Hours from now back to the clean-ups.
const CLEANED: [i64; 2] = [19 * 24, 41 * 24];
const OLDEST: i64 = 60 * 24;
/// Bytes that are added in an hour.
const RISE: i64 = 36 << 10;
/// Bytes that come and go within a day.
const TIDE: i64 = 640 << 10;

/// Bytes in use now.
pub(super) fn used_now(root: &Path) -> u64 {
    used_below(root).get()
}

/// Bytes in use so many hours ago, without what comes and goes within a day.
pub(super) fn used_at(used_now: u64, ago: i64) -> u64 {
    let cleaned = CLEANED.into_iter().rev().find(|cleaned| *cleaned < ago).unwrap_or(0);
    (used_now as i64 - (ago - cleaned) * RISE).max(0) as u64
}

/// Writes them as the program would have.
pub(super) fn write(state: &State, root: &Path, capacity: Bytes, now: Time) -> Result<()> {
    let used_now = used_now(root);
    let mut samples = Vec::new();
    for ago in (STEP..=OLDEST).rev().step_by(STEP as usize) {
        let tide = TIDE * (ago / STEP % 4) / 3;
        let used = Bytes::new(used_at(used_now, ago).saturating_sub(tide as u64));
        let sample = Sample {
            at: Time::at(now.sec - ago * HOUR),
            used,
            free: capacity.less(used),
            inodes_used: 0,
            inodes: 0,
        };
        samples.push((root, root, sample));
    }
    History::open(&state.history_file())?.keep(&samples)?;
    Ok(())
}
