//! Writing to a catalog that others read meanwhile.

use std::sync::{PoisonError, RwLock, RwLockWriteGuard, TryLockError};
use std::time::Duration;

use super::Catalog;

/// So often it is tried at once: an append takes some microseconds, less than it costs to be put to sleep and
/// woken.
const SPINS: u32 = 2000;

/// The catalog, to be written to as soon as nobody reads it.
///
/// Does not stand in line for it: whoever does keeps every new reader out, and behind a question about millions
/// of entries a screen would then wait as long as the scan.
pub fn write_between_readers(catalog: &RwLock<Catalog>) -> RwLockWriteGuard<'_, Catalog> {
    let (mut tries, mut pause) = (0, Duration::from_micros(20));
    loop {
        match catalog.try_write() {
            Ok(catalog) => return catalog,
            Err(TryLockError::Poisoned(poisoned)) => return PoisonError::into_inner(poisoned),
            Err(TryLockError::WouldBlock) if tries < SPINS => {
                tries += 1;
                std::hint::spin_loop();
            }
            Err(TryLockError::WouldBlock) => {
                std::thread::sleep(pause);
                pause = (pause * 2).min(Duration::from_millis(1));
            }
        }
    }
}
