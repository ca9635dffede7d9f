//! Which of the scans that were not saved for good are kept.

use std::collections::{BTreeSet, HashSet};
use std::path::PathBuf;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::{SavedError, SavedScan, forget, list};
use crate::state::{Settings, State};
use crate::units::{Bytes, Time};

const DAY: i64 = 86_400;

/// What is wanted of scans that were not saved for good.
#[derive(Clone, Copy, Debug)]
struct Wanted {
    /// So many at most.
    most: usize,
    /// So many bytes at most.
    budget: Bytes,
    /// One of each day for so many seconds.
    daily: i64,
    /// One of each week for so many seconds; one of each month after that.
    weekly: i64,
}

impl Wanted {
    fn of(settings: &Settings) -> Self {
        Self {
            most: settings.scans_kept,
            budget: settings.scans_budget,
            daily: i64::from(settings.scans_daily) * DAY,
            weekly: i64::from(settings.scans_weekly) * 7 * DAY,
        }
    }
}

/// Forgets scans that were not saved for good: of each place all of the last day stay, then the last of each day, of each
/// week and of each month, as far as the settings allow by number and bytes. The last one of a place always stays. Gives how
/// many were forgotten.
///
/// # Errors
///
/// [`SavedError`]; then those after it are still there.
pub(super) fn thin(state: &State, now: Time) -> Result<u64, SavedError> {
    let (mut all, mut count) = (list(state)?, 0);
    all.retain(|scan| scan.about.as_ref().is_ok_and(|about| about.automatic));
    for number in unwanted(&all, now, Wanted::of(&state.settings)) {
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
fn unwanted(scans: &[SavedScan], now: Time, wanted: Wanted) -> Vec<u64> {
    let mut newest_first: Vec<_> =
        scans.iter().filter_map(|scan| Some((scan.number, scan.about.as_ref().ok()?))).collect();
    newest_first.sort_by_key(|(number, about)| std::cmp::Reverse((about.scanned, *number)));
    let mut periods: HashSet<(BTreeSet<&PathBuf>, Period)> = HashSet::new();
    let mut places: HashSet<BTreeSet<&PathBuf>> = HashSet::new();
    let (mut kept, mut bytes, mut unwanted) = (0, Bytes::ZERO, Vec::new());
    for (number, about) in newest_first {
        let place: BTreeSet<&PathBuf> = about.roots.iter().collect();
        let is_last = places.insert(place.clone());
        let is_first_of_period = match Period::of(about.scanned, now, wanted) {
            None => true,
            Some(period) => periods.insert((place, period)),
        };
        let fits = kept < wanted.most && bytes + about.file <= wanted.budget;
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
    fn of(at: Time, now: Time, wanted: Wanted) -> Option<Self> {
        match now.sec.saturating_sub(at.sec) {
            ..DAY => None,
            age if age < wanted.daily => Some(Self::Day(at.sec.div_euclid(DAY))),
            // weeks begin on Monday (ISO 8601); 1970-01-01 was a Thursday
            age if age < wanted.weekly => {
                Some(Self::Week((at.sec.div_euclid(DAY) + 3).div_euclid(7)))
            }
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
        let usual = Wanted::of(&Settings::default());
        let kept_by = |wanted: Wanted| {
            let gone: HashSet<u64> = unwanted(&scans, now, wanted).into_iter().collect();
            let kept = scans.iter().filter(|scan| !gone.contains(&scan.number));
            kept.map(|scan| scan.number).collect::<Vec<_>>()
        };
        let kept = |most, bytes| kept_by(Wanted { most, budget: Bytes::new(bytes), ..usual });
        let all = kept(usize::MAX, u64::MAX);
        assert!(all.starts_with(&[0, 1, 2, 3]), "all of the last day: {all:?}");
        assert_eq!(all.last(), Some(&5000));
        // 4 of the day, some 29 days, 22 weeks, 18 months, one elsewhere; the first of each period may be cut by its edge
        assert!((72..=78).contains(&all.len()), "{}: {all:?}", all.len());
        assert_eq!(kept(3, u64::MAX), [0, 1, 2, 5000]);
        assert_eq!(kept(usize::MAX, 250), [0, 1, 5000]);
        assert_eq!(kept(0, 0), [0, 5000]);
        // days for a week and no weeks: the rest is months
        let (most, budget) = (usize::MAX, Bytes::new(u64::MAX));
        let few = kept_by(Wanted { most, budget, daily: 7 * DAY, weekly: 0 });
        assert!((34..=38).contains(&few.len()), "{}: {few:?}", few.len());
        // thinning what is thinned changes nothing
        let again: Vec<SavedScan> =
            scans.into_iter().filter(|scan| all.contains(&scan.number)).collect();
        assert!(unwanted(&again, now, Wanted { most, budget, ..usual }).is_empty());
    }
}
