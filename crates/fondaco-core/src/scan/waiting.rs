//! From what is seen of the process: whether a scan waits for its device.
//!
//! A thread that waits for a device leaves its processor, thousands of times a second if the device is fast, and then
//! processors have little to do that could have more. If the device is slow it is few times, and they have next to
//! nothing to do. That alone may also mean that the machine is busy with something else: then threads stand in line.

use std::time::{Duration, Instant};

use crate::kernel;

/// What the process has done until a moment.
struct Activity {
    at: Instant,
    computed: Duration,
    waited: u64,
}

impl Activity {
    fn now() -> Self {
        let (at, computed) = (Instant::now(), kernel::processor_time());
        Self { at, computed, waited: kernel::times_waited() }
    }
}

/// Looks from time to time.
pub(super) struct WaitingSigns {
    processors: f64,
    last: Activity,
    /// Time in line, as it was when little was computed, just before.
    in_line: Option<Duration>,
}

/// What one moment tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Sign {
    Waits,
    /// If the moment before told the same, and threads did not stand in line for a processor.
    WaitsPerhaps,
    Computes,
}

/// Of what the processors can, a scan that does not wait computes so much.
const ALL: f64 = 0.9;

/// Below this its threads wait, for a device or for a processor.
const LITTLE: f64 = 0.6;

/// More often than threads of a scan wait for each other; times a second.
const OFTEN: f64 = 2000.0;

/// `computed` is a share of what the processors can; `known` says that a device has been waited for already: once
/// there are more threads than processors they stand in line for each other, and that tells nothing any more.
fn sign(computed: f64, times_waited_a_second: f64, known: bool) -> Sign {
    if computed >= ALL {
        Sign::Computes
    } else if known || times_waited_a_second >= OFTEN {
        Sign::Waits
    } else if computed < LITTLE {
        Sign::WaitsPerhaps
    } else {
        Sign::Computes
    }
}

impl WaitingSigns {
    pub(super) fn new(processors: usize) -> Self {
        Self { processors: processors as f64, last: Activity::now(), in_line: None }
    }

    /// Whether a device was waited for since the last look; `known` as for [`sign`].
    pub(super) fn look(&mut self, known: bool) -> bool {
        let now = Activity::now();
        let seconds = (now.at - self.last.at).as_secs_f64();
        let share = |time: Duration| time.as_secs_f64() / seconds / self.processors;
        let computed = share(now.computed.saturating_sub(self.last.computed));
        let times_waited = now.waited.saturating_sub(self.last.waited) as f64;
        let before = self.in_line.take();
        let waits = match sign(computed, times_waited / seconds, known) {
            Sign::Waits => true,
            Sign::Computes => false,
            Sign::WaitsPerhaps => {
                let in_line = *self.in_line.insert(kernel::processor_wait());
                before
                    .is_some_and(|before| computed + share(in_line.saturating_sub(before)) < LITTLE)
            }
        };
        self.last = now;
        waits
    }
}

#[cfg(test)]
mod tests {
    use super::Sign::{Computes, Waits, WaitsPerhaps};
    use super::*;

    #[test]
    fn a_scan_in_memory_is_told_from_one_on_a_device_fast_or_slow() {
        for (computed, times_waited, known, expected) in [
            (0.97, 300.0, false, Computes),     // in memory
            (0.75, 300.0, false, Computes),     // in memory, something else runs too
            (0.62, 25_000.0, false, Waits),     // a fast device, in the kernel much is to do for it
            (0.15, 9_000.0, false, Waits),      // solid state
            (0.02, 150.0, false, WaitsPerhaps), // rotating
            (0.40, 300.0, false, WaitsPerhaps), // rotating, or a busy machine
            (0.75, 300.0, true, Waits), // some threads more have been begun, more would help
            (0.95, 30_000.0, true, Computes), // enough have
        ] {
            let found = sign(computed, times_waited, known);
            assert_eq!(found, expected, "{computed}, {times_waited} times, {known}");
        }
    }
}
