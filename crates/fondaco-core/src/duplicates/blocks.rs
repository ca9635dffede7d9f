//! Files that have all their blocks in common: equal without being read, and freeing nothing beside each other.

use std::collections::HashMap;
use std::fs::File;
use std::sync::{Mutex, PoisonError};

use crate::kernel::{BlocksShared, Stat, blocks_shared, settled_extents};

/// Where the contents of a file lie, if all of them lie in blocks that other files have too: offsets in the file and on
/// the device, and lengths.
pub(super) type Blocks = Vec<(u64, u64, u64)>;

/// Knows on which devices files can have blocks in common.
#[derive(Debug, Default)]
pub(super) struct BlocksInCommon(Mutex<HashMap<u64, bool>>);

impl BlocksInCommon {
    /// Whether it is known that files of a device never have blocks in common.
    pub(super) fn has_none(&self, device: u64) -> bool {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(&device) == Some(&false)
    }

    /// Finds out by an open file of a device whether files of that device can have blocks in common.
    pub(super) fn ask(&self, file: &File, device: u64) -> bool {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        *known.entry(device).or_insert_with(|| blocks_shared(file) != BlocksShared::Never)
    }

    /// Where the contents of an open file lie, if others lie there too. Nothing where that cannot be told: then the file is
    /// read.
    pub(super) fn of(&self, file: &File, stat: &Stat) -> Option<Blocks> {
        if !self.ask(file, stat.dev) || stat.blocks == 0 {
            return None;
        }
        let extents = settled_extents(file).ok()?;
        // of what is compressed the place says only where the whole begins
        let all = extents.iter().all(|extent| extent.shared && !extent.encoded);
        let blocks: Blocks =
            extents.iter().map(|extent| (extent.logical, extent.physical, extent.length)).collect();
        let covered: u64 = blocks.iter().map(|(_, _, length)| length).sum();
        // what is allocated and has no place would be told by nothing
        (all && !blocks.is_empty() && covered >= stat.blocks * 512).then_some(blocks)
    }
}
