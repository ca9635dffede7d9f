//! Work on several threads for as long as one call lasts.
//!
//! The threads are started anew each time: so they stand back as far as the caller does, which those of a pool
//! would not.

use std::ops::Range;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};
use std::thread::{Builder, JoinHandle};

/// Fewer entries than this are not worth a thread.
pub(crate) const ENTRIES: u32 = 16_384;

/// The number of threads worth starting on this machine.
pub(crate) fn threads() -> usize {
    /// Finding it out reads files of the kernel each time.
    static THREADS: LazyLock<usize> =
        LazyLock::new(|| std::thread::available_parallelism().map_or(1, usize::from).min(8));
    *THREADS
}

/// Does the work for every part, on as many threads as are worth starting, this one among them; on fewer where no more can be
/// begun. Gives what came of them in their order; a panic of one of them goes on here.
pub(crate) fn each<I: Send, T: Send>(
    parts: impl IntoIterator<Item = I>,
    work: impl Fn(I) -> T + Sync,
) -> Vec<T> {
    let parts: Vec<(usize, I)> = parts.into_iter().enumerate().collect();
    let others = parts.len().min(threads()).saturating_sub(1);
    let parts = Mutex::new(parts.into_iter());
    let next = || parts.lock().unwrap_or_else(PoisonError::into_inner).next();
    let some = || std::iter::from_fn(next).map(|(at, part)| (at, work(part))).collect::<Vec<_>>();
    let mut done = std::thread::scope(|scope| {
        let begin = |_| Builder::new().spawn_scoped(scope, some).ok();
        let begun: Vec<_> = (0..others).map_while(begin).collect();
        let mut done = some();
        for other in begun {
            match other.join() {
                Ok(more) => done.extend(more),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        done
    });
    done.sort_unstable_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, made)| made).collect()
}

/// Begins work on a thread of its own, and gives that; does it here and now where no more can be begun.
pub fn begin<W: FnOnce() + Send + 'static>(work: W) -> Option<JoinHandle<()>> {
    let here = Arc::new(Mutex::new(Some(work)));
    let there = Arc::clone(&here);
    let run = |work: &Mutex<Option<W>>| {
        let work = work.lock().unwrap_or_else(PoisonError::into_inner).take();
        work.into_iter().for_each(|work: W| work());
    };
    let begun = Builder::new().spawn(move || run(&there)).ok();
    if begun.is_none() {
        run(&here);
    }
    begun
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

/// As [`part_of`], of things of which some take longer: a few parts for each thread.
pub(crate) fn small_part_of(count: usize, least: usize) -> usize {
    part_of(count, 1).div_ceil(8).max(least)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_follow_each_other_without_a_gap_and_come_back_in_order() {
        for (range, least) in
            [(0..0, 1), (5..6, 1), (0..7, 100), (3..100_003, 1), (0..50_000, 16_384)]
        {
            let parts: Vec<_> = split(range.clone(), least).collect();
            let all: Vec<u32> =
                each(parts.iter().cloned(), std::iter::Iterator::collect::<Vec<_>>).concat();
            assert_eq!(all, range.clone().collect::<Vec<_>>());
            assert!(parts.len() <= threads());
            let all_but_last = parts.iter().rev().skip(1);
            all_but_last.for_each(|part| assert!(part.len() >= least as usize, "{part:?}"));
        }
    }

    #[test]
    fn a_panic_of_any_part_goes_on_where_it_was_asked_for() {
        for bad in 0..3 {
            let work = |part| assert_ne!(part, bad, "this part");
            let panic = std::panic::catch_unwind(|| each(0..3, work)).unwrap_err();
            assert!(panic.downcast_ref::<String>().is_some_and(|text| text.contains("this part")));
        }
    }
}
