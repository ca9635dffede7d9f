//! Which of the scans that were saved by themselves are kept.

use std::collections::{BTreeSet, HashSet};
use std::path::PathBuf;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::{SavedError, SavedScan, forget, list};
use crate::state::State;
use crate::units::{Bytes, Time};

const DAY: i64 = 86_400;
/// One of each day is kept for so long.
const DAILY: i64 = 30 * DAY;
/// One of each week is kept for so long; one of each month after that.
const WEEKLY: i64 = 26 * 7 * DAY;

/// Forgets scans that were saved by themselves: of each place all of the last day stay, then the last of each day, of each
/// week and of each month, as far as the settings allow by number and bytes. The last one of a place always stays. Gives how
/// many were forgotten.
///
/// # Errors
///
/// [`SavedError`]; then those after it are still there.
pub(super) fn thin(state: &State, now: Time) -> Result<u64, SavedError> {
    let settings = &state.settings;
    let (mut all, mut count) = (list(state)?, 0);
    all.retain(|scan| scan.about.as_ref().is_ok_and(|about| about.automatic));
    for number in unwanted(&all, now, settings.scans_kept, settings.scans_budget) {
        match forget(state, number) {
            Ok(()) => count += 1,
            // another process was faster
            Err(SavedError::Missing(_)) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(count)
}

/// The numbers of those that are not kept.
fn unwanted(scans: &[SavedScan], now: Time, most: usize, budget: Bytes) -> Vec<u64> {
    let mut newest_first: Vec<_> =
        scans.iter().filter_map(|scan| Some((scan.number, scan.about.as_ref().ok()?))).collect();
    newest_first.sort_by_key(|(number, about)| std::cmp::Reverse((about.scanned, *number)));
    let mut periods: HashSet<(BTreeSet<&PathBuf>, Period)> = HashSet::new();
    let mut places: HashSet<BTreeSet<&PathBuf>> = HashSet::new();
    let (mut kept, mut bytes, mut unwanted) = (0, Bytes::ZERO, Vec::new());
    for (number, about) in newest_first {
        let place: BTreeSet<&PathBuf> = about.roots.iter().collect();
        let is_last = places.insert(place.clone());
        let is_first_of_period = match Period::of(about.scanned, now) {
            None => true,
            Some(period) => periods.insert((place, period)),
        };
        let fits = kept < most && bytes + about.file <= budget;
        if is_last || (is_first_of_period && fits) {
            (kept, bytes) = (kept + 1, bytes + about.file);
        } else {
            unwanted.push(number);
        }
    }
    unwanted
}

/// A span of time of which one scan is kept.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Period {
    /// Counted from 1970.
    Day(i64),
    /// Counted from 1970.
    Week(i64),
    /// Year and month.
    Month(i16, i8),
}

impl Period {
    /// That of a moment; nothing for the last day, of which all are kept.
    fn of(at: Time, now: Time) -> Option<Self> {
        match now.sec.saturating_sub(at.sec) {
            ..DAY => None,
            DAY..DAILY => Some(Self::Day(at.sec.div_euclid(DAY))),
            // weeks begin on Monday (ISO 8601); 1970-01-01 was a Thursday
            DAILY..WEEKLY => Some(Self::Week((at.sec.div_euclid(DAY) + 3).div_euclid(7))),
            _ => {
                let at = Timestamp::from_second(at.sec).unwrap_or(Timestamp::MIN);
                let date = TimeZone::UTC.to_datetime(at).date();
                Some(Self::Month(date.year(), date.month()))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::About;
    use super::*;

    fn scan(number: u64, place: &str, at: i64) -> SavedScan {
        let about = About {
            scanned: Time::at(at),
            roots: vec![place.into()],
            complete: true,
            entries: 1,
            allocated: Bytes::ZERO,
            unreadable: 0,
            automatic: true,
            file: Bytes::new(100),
        };
        SavedScan { number, about: Ok(about), path: PathBuf::new() }
    }

    #[test]
    fn days_weeks_and_months_keep_one_each_and_the_last_of_a_place_always_stays() {
        // four a day for two years, and one place that was scanned once, long ago
        let now = Time::at(2_246_238_000);
        let mut scans: Vec<SavedScan> =
            (0..2920).map(|n| scan(n, "/srv/seamark", now.sec - n as i64 * DAY / 4)).collect();
        scans.push(scan(5000, "/srv/old", now.sec - 900 * DAY));
        let kept = |most, bytes| {
            let gone: HashSet<u64> =
                unwanted(&scans, now, most, Bytes::new(bytes)).into_iter().collect();
            let kept = scans.iter().filter(|scan| !gone.contains(&scan.number));
            kept.map(|scan| scan.number).collect::<Vec<_>>()
        };
        let all = kept(usize::MAX, u64::MAX);
        assert!(all.starts_with(&[0, 1, 2, 3]), "all of the last day: {all:?}");
        assert_eq!(all.last(), Some(&5000));
        // 4 of the day, some 29 days, 22 weeks, 18 months, one elsewhere; the first of each period may be cut by its edge
        assert!((72..=78).contains(&all.len()), "{}: {all:?}", all.len());
        assert_eq!(kept(3, u64::MAX), [0, 1, 2, 5000]);
        assert_eq!(kept(usize::MAX, 250), [0, 1, 5000]);
        assert_eq!(kept(0, 0), [0, 5000]);
        // thinning what is thinned changes nothing
        let again: Vec<SavedScan> =
            scans.into_iter().filter(|scan| all.contains(&scan.number)).collect();
        assert!(unwanted(&again, now, usize::MAX, Bytes::new(u64::MAX)).is_empty());
    }
}
