//! Work on several threads for as long as one call lasts.
//!
//! The threads are started anew each time: so they stand back as far as the caller does, which those of a pool
//! would not.

use std::ops::Range;

/// So many threads are worth starting.
pub(crate) fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from).min(8)
}

/// Does the work for every part on a thread of its own, for the first on this one. Gives what came of them in
/// their order; a panic of one of them goes on here.
pub(crate) fn each<I: Send, T: Send>(
    parts: impl IntoIterator<Item = I>,
    work: impl Fn(I) -> T + Sync,
) -> Vec<T> {
    let mut parts = parts.into_iter();
    let Some(first) = parts.next() else { return Vec::new() };
    let work = &work;
    std::thread::scope(|scope| {
        let others: Vec<_> = parts.map(|part| scope.spawn(move || work(part))).collect();
        let mut done = vec![work(first)];
        for other in others {
            match other.join() {
                Ok(more) => done.push(more),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        done
    })
}

/// As many parts of a range as threads are worth starting, none but the last smaller than `least`.
pub(crate) fn split(range: Range<u32>, least: u32) -> impl Iterator<Item = Range<u32>> {
    let part = part_of(range.len(), least as usize) as u32;
    let end = range.end;
    range.step_by(part as usize).map(move |from| from..end.min(from.saturating_add(part)))
}

/// How long the parts are that so many things are dealt out in, see [`split`].
pub(crate) fn part_of(count: usize, least: usize) -> usize {
    count.div_ceil(threads()).max(least).max(1)
}
