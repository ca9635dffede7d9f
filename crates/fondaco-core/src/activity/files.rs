//! The files that may be growing, each by how much since the last look.

use std::collections::HashMap;

use crate::kernel::GrowingFile;
use crate::units::Time;

/// A file that has not been seen for so many ticks is forgotten.
const FORGOTTEN_AFTER: u32 = 30;
/// So many files are known at most; those that were seen last stay.
const MOST: usize = 65_536;

#[derive(Debug)]
struct Known {
    size: u64,
    allocated: u64,
    grown: i64,
    is_new: bool,
    seen: u32,
}

/// See the [module](self).
#[derive(Debug, Default)]
pub(super) struct KnownFiles {
    files: HashMap<(u64, u64), Known>,
    tick: u32,
    /// When the last tick and this one began.
    since: [Time; 2],
}

impl KnownFiles {
    pub(super) fn begin_tick(&mut self) {
        self.tick += 1;
        self.since = [self.since[1], Time::now()];
        for known in self.files.values_mut() {
            (known.grown, known.is_new) = (0, false);
        }
    }

    /// Takes in how large a file is now. What was there before the watch began grows from there on; what has been made since
    /// the last tick is new as a whole.
    pub(super) fn note(&mut self, file: GrowingFile) {
        let (tick, since) = (self.tick, self.since[0]);
        let is_first = tick < 2;
        let known = self.files.entry((file.dev, file.ino)).or_insert_with(|| {
            let is_new = !is_first && file.born.is_some_and(|born| born >= since);
            let (size, allocated) = if is_new { (0, 0) } else { (file.size, file.allocated) };
            Known { size, allocated, grown: 0, is_new, seen: tick }
        });
        known.grown += grown((known.size, known.allocated), (file.size, file.allocated));
        (known.size, known.allocated, known.seen) = (file.size, file.allocated, tick);
    }

    /// Bytes by which a file has grown in this tick.
    pub(super) fn grown(&self, key: (u64, u64)) -> u64 {
        self.files.get(&key).map_or(0, |known| known.grown.max(0) as u64)
    }

    /// Whether it was made in this tick.
    pub(super) fn is_new(&self, key: (u64, u64)) -> bool {
        self.files.get(&key).is_some_and(|known| known.is_new)
    }

    pub(super) fn end_tick(&mut self) {
        let oldest = self.tick.saturating_sub(FORGOTTEN_AFTER);
        self.files.retain(|_, known| known.seen >= oldest);
        let tick = self.tick;
        if self.files.len() > MOST {
            self.files.retain(|_, known| known.seen == tick);
        }
    }
}

/// By how much a file has grown on disk. Some file systems give more room to a growing file than it needs yet: then its length
/// says better how fast it grows.
fn grown(before: (u64, u64), now: (u64, u64)) -> i64 {
    let more = |before: u64, now: u64| now as i64 - before as i64;
    let (length, room) = (more(before.0, now.0), more(before.1, now.1));
    match length > 0 && now.1 >= now.0 {
        true => length,
        // in a hole, or in room that was there already
        false => room,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_grow_from_when_they_are_known_and_new_ones_from_nothing() {
        let file = |ino, size, born| GrowingFile {
            dev: 1,
            ino,
            size,
            allocated: size,
            born: Some(Time::at(born)),
        };
        let future = Time::now().sec + 1000;
        let mut files = KnownFiles::default();
        files.begin_tick();
        files.note(file(1, 5000, 0));
        assert_eq!(files.grown((1, 1)), 0);
        files.end_tick();
        files.begin_tick();
        files.note(file(1, 7000, 0));
        // told twice, counted once
        files.note(file(1, 7000, 0));
        files.note(file(2, 9000, 0));
        files.note(file(3, 4000, future));
        assert_eq!([1, 2, 3].map(|ino| files.grown((1, ino))), [2000, 0, 4000]);
        assert!(files.is_new((1, 3)) && !files.is_new((1, 2)));
        files.begin_tick();
        assert_eq!(files.grown((1, 1)), 0);
        // cut to nothing is no growth
        files.note(file(1, 0, 0));
        assert_eq!(files.grown((1, 1)), 0);
        // room that was given ahead, a hole that is filled
        assert_eq!(grown((1000, 4096), (3000, 8192)), 2000);
        assert_eq!(grown((1 << 30, 0), (1 << 30, 4096)), 4096);
    }
}
