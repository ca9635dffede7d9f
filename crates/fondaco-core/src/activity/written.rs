//! What the kernel told in one tick, by directory and name, within bounds.

use std::collections::{HashMap, HashSet};

use crate::kernel::FileEvents;

/// So many names are kept in a tick; what has others is counted only.
const NAMES: usize = 8192;
/// So many directories are kept in a tick.
const DIRECTORIES: usize = 4096;

/// What was written in one directory.
#[derive(Debug, Default)]
pub(super) struct InDirectory {
    /// How many entries were made.
    pub(super) made: u64,
    /// How many came by a new name.
    pub(super) moved_here: u64,
    /// The names that were kept, with who wrote.
    pub(super) names: HashMap<Vec<u8>, HashSet<u32>>,
    events: u64,
    /// Events of names that were kept.
    named: u64,
}

impl InDirectory {
    /// How many files each one stands for if no more than so many are looked at.
    pub(super) fn stands_for(&self, looked_at: usize) -> f64 {
        if self.names.is_empty() || self.named == 0 {
            return 1.0;
        }
        let kept = self.names.len() as f64;
        // of the names that were not kept each had as many events
        let all = kept * self.events as f64 / self.named as f64;
        (all / kept.min(looked_at as f64)).max(1.0)
    }
}

/// See the [module](self).
#[derive(Debug, Default)]
pub(super) struct Written {
    /// By the handle of the directory.
    pub(super) directories: HashMap<Vec<u8>, InDirectory>,
    /// How many events there were.
    pub(super) events: u64,
    names: usize,
}

impl Written {
    /// Takes what waits, but for what this program does itself. Says too whether something was lost.
    pub(super) fn take(events: &mut FileEvents) -> (Self, bool) {
        let mut written = Self::default();
        let ourselves = std::process::id();
        let lost = events.take(|event| {
            if event.pid == ourselves {
                return;
            }
            written.events += 1;
            if !written.directories.contains_key(event.directory) {
                if written.directories.len() >= DIRECTORIES {
                    return;
                }
                written.directories.insert(event.directory.to_vec(), InDirectory::default());
            }
            let Some(directory) = written.directories.get_mut(event.directory) else { return };
            directory.events += 1;
            directory.made += u64::from(event.made);
            directory.moved_here += u64::from(event.moved_here);
            if let Some(pids) = directory.names.get_mut(event.name) {
                pids.insert(event.pid);
            } else if written.names < NAMES {
                written.names += 1;
                directory.names.insert(event.name.to_vec(), HashSet::from([event.pid]));
            } else {
                return;
            }
            directory.named += 1;
        });
        // what could not be read is as good as lost
        let lost = lost.unwrap_or(true) || written.directories.len() >= DIRECTORIES;
        (written, lost)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_looked_at_stands_for_what_was_not() {
        let name = |number: u32| (number.to_string().into_bytes(), HashSet::new());
        let directory = |names: u32, events, named| InDirectory {
            names: (0..names).map(name).collect(),
            events,
            named,
            ..InDirectory::default()
        };
        assert!((directory(10, 30, 30).stands_for(100) - 1.0).abs() < 1e-9);
        assert!((directory(10, 30, 30).stands_for(5) - 2.0).abs() < 1e-9);
        // half of the events were of names that were not kept
        assert!((directory(10, 60, 30).stands_for(5) - 4.0).abs() < 1e-9);
        assert!((directory(0, 60, 0).stands_for(5) - 1.0).abs() < 1e-9);
    }
}
