//! Writing to a catalog that others read meanwhile.

use std::sync::{PoisonError, RwLock, RwLockWriteGuard, TryLockError};
use std::time::{Duration, Instant};

use super::Catalog;

/// So often it is tried at once: an append takes some microseconds, less than it costs to be put to sleep and
/// woken.
const SPINS: u32 = 2000;

/// After that the processor is offered to others for so long: an append that asks the kernel for memory takes
/// some tens of microseconds, less than the shortest sleep.
const YIELDING: Duration = Duration::from_micros(500);

/// Takes the write lock of a catalog as soon as no reader has it.
///
/// Tries again and again instead of waiting in line: a writer that waits keeps every new reader out, and behind a
/// question about millions of entries a screen would then wait as long as the scan.
pub fn write_between_readers(catalog: &RwLock<Catalog>) -> RwLockWriteGuard<'_, Catalog> {
    let (mut tries, mut pause) = (0, Duration::from_micros(100));
    let mut since = None;
    loop {
        match catalog.try_write() {
            Ok(catalog) => return catalog,
            Err(TryLockError::Poisoned(poisoned)) => return PoisonError::into_inner(poisoned),
            Err(TryLockError::WouldBlock) if tries < SPINS => {
                tries += 1;
                std::hint::spin_loop();
            }
            Err(TryLockError::WouldBlock)
                if since.get_or_insert_with(Instant::now).elapsed() < YIELDING =>
            {
                std::thread::yield_now();
            }
            Err(TryLockError::WouldBlock) => {
                std::thread::sleep(pause);
                pause = (pause * 2).min(Duration::from_millis(1));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicBool, Ordering::SeqCst};

    use super::*;
    use crate::units::Time;

    #[test]
    fn who_waits_to_write_keeps_no_reader_out() {
        let catalog = RwLock::new(Catalog::new(Time::at(0)));
        let written = AtomicBool::new(false);
        std::thread::scope(|scope| {
            let question = catalog.read().unwrap();
            scope.spawn(|| {
                write_between_readers(&catalog).finish(true);
                written.store(true, SeqCst);
            });
            // long enough for it to have given up trying at once
            for _ in 0..50 {
                std::thread::sleep(Duration::from_millis(1));
                assert!(catalog.try_read().is_ok(), "the screen waits behind a question");
                assert!(!written.load(SeqCst), "written to while it was read");
            }
            drop(question);
        });
        assert!(written.load(SeqCst) && catalog.read().unwrap().is_complete());
    }

    #[test]
    fn a_catalog_that_a_panic_left_behind_is_still_written_to() {
        let catalog = RwLock::new(Catalog::new(Time::at(0)));
        let panics = || {
            let _held = catalog.write();
            panic!("while it is held");
        };
        assert!(std::panic::catch_unwind(std::panic::AssertUnwindSafe(panics)).is_err());
        assert!(catalog.is_poisoned());
        write_between_readers(&catalog).finish(true);
        assert!(catalog.read().unwrap_or_else(PoisonError::into_inner).is_complete());
    }
}
