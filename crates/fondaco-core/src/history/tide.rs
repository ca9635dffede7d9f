//! The tide of a volume: how its level moved over a time, with clean-ups, as it is drawn and told.

use std::path::Path;

use super::summary::{Growing, SizeThen};
use super::trend::{Fall, Outlook, Sample, falls, outlook};
use super::{History, HistoryError};
use crate::units::{Bytes, Level, Time};
use crate::volume::Volume;

/// See the [module](self).
#[derive(Clone, Debug)]
pub struct Tide {
    /// The level that the volume should be below.
    pub waterline: Level,
    /// What was sampled, the oldest first, and last what it says now.
    pub samples: Vec<Sample>,
    /// Where it is going.
    pub outlook: Outlook,
    /// Where much was cleaned up.
    pub falls: Vec<Fall>,
    /// The directories of the scanned place that grow, the fastest first.
    pub growing: Vec<Growing>,
    /// The sizes of the scanned place, or of the directory that was asked about.
    pub sizes: Vec<SizeThen>,
}

/// A part of the time, as it is drawn in one column.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct TideColumn {
    /// The lowest level in it.
    pub low: f64,
    /// The highest level in it.
    pub high: f64,
    /// The highest level of inodes; nothing where the volume does not count them.
    pub inodes: Option<f64>,
    /// Whether it was sampled then, or lies between two samples.
    pub is_sampled: bool,
}

impl Sample {
    /// The level, from 0 to 1.
    pub fn level(&self) -> f64 {
        self.used.share_of(self.used + self.free)
    }

    /// The share of inodes in use; nothing where they are not counted.
    pub fn inode_level(&self) -> Option<f64> {
        (self.inodes > 0).then(|| self.inodes_used as f64 / self.inodes as f64)
    }
}

impl Tide {
    /// How a volume moved since a moment; of the scanned `place` on it also what grew there.
    ///
    /// # Errors
    ///
    /// [`HistoryError::Database`].
    pub fn look(
        history: &History,
        volume: &Volume,
        place: Option<&Path>,
        since: Time,
        now: Time,
    ) -> Result<Self, HistoryError> {
        let mut samples = history.samples(volume, since)?;
        // a clock that was set back leaves samples that lie ahead
        samples.retain(|sample| sample.at < now);
        samples.extend(super::sample_of(volume, now));
        let free = volume.capacity.as_ref().ok().map(|c| c.free_for(volume.level_for));
        let (growing, sizes) = match place {
            Some(place) => (history.growing(place, free, now)?, history.sizes(place, since)?),
            None => (Vec::new(), Vec::new()),
        };
        Ok(Self {
            waterline: volume.waterline,
            outlook: outlook(&samples),
            falls: falls(&samples),
            samples,
            growing,
            sizes,
        })
    }

    /// What the volume says now, or said last.
    pub fn last(&self) -> Option<&Sample> {
        self.samples.last()
    }

    /// The time from the first sample to the last.
    pub fn span(&self) -> Option<(Time, Time)> {
        Some((self.samples.first()?.at, self.samples.last()?.at))
    }

    /// The sample that is nearest to a moment.
    pub fn nearest(&self, at: Time) -> Option<&Sample> {
        self.samples.iter().min_by_key(|sample| sample.at.sec.abs_diff(at.sec))
    }

    /// A time in as many columns. Nothing before the first sample and after the last.
    pub fn columns(&self, from: Time, to: Time, count: usize) -> Vec<Option<TideColumn>> {
        let span = (to.sec - from.sec).max(1) as f64;
        let mut columns = vec![None; count];
        for sample in &self.samples {
            let part = (sample.at.sec - from.sec) as f64 / span;
            // the last moment belongs to the last column
            let place = if sample.at == to { count as f64 - 1.0 } else { part * count as f64 };
            if place < 0.0 || place >= count as f64 {
                continue;
            }
            let (level, inodes) = (sample.level(), sample.inode_level());
            let column = &mut columns[place as usize];
            let known = column.get_or_insert(TideColumn {
                low: level,
                high: level,
                inodes,
                is_sampled: true,
            });
            known.low = known.low.min(level);
            known.high = known.high.max(level);
            known.inodes = higher(known.inodes, inodes);
        }
        self.fill_gaps(&mut columns, from, span);
        columns
    }

    /// Between two samples the level is taken to have moved evenly.
    fn fill_gaps(&self, columns: &mut [Option<TideColumn>], from: Time, span: f64) {
        let count = columns.len() as f64;
        for (number, column) in columns.iter_mut().enumerate().filter(|(_, c)| c.is_none()) {
            let middle = from.sec as f64 + (number as f64 + 0.5) / count * span;
            let after = self.samples.partition_point(|sample| (sample.at.sec as f64) < middle);
            let (Some(a), Some(b)) = (after.checked_sub(1), self.samples.get(after)) else {
                continue;
            };
            let a = &self.samples[a];
            let part = (middle - a.at.sec as f64) / (b.at.sec - a.at.sec).max(1) as f64;
            let level = a.level() + (b.level() - a.level()) * part;
            let inodes = higher(a.inode_level(), b.inode_level());
            *column = Some(TideColumn { low: level, high: level, inodes, is_sampled: false });
        }
    }

    /// The level that is to be expected so many days after the last sample: by the slow end of the range, as most likely, and
    /// by the fast end; nothing without a forecast.
    pub fn forecast(&self, days: f64) -> Option<[f64; 3]> {
        let trend = self.outlook.trend()?;
        let last = self.last()?;
        let whole = (last.used + last.free).get() as f64;
        let level = |rise: f64| ((last.used.get() as f64 + rise * days) / whole).clamp(0.0, 1.0);
        (whole > 0.0).then(|| [trend.low, trend.rise, trend.high].map(level))
    }

    /// The highest sample of every day, as people count days here, oldest first, each with how many bytes it has more than
    /// that of the day before.
    pub fn days(&self) -> Vec<(Sample, Option<i64>)> {
        let mut days: Vec<(String, Sample)> = Vec::new();
        for sample in &self.samples {
            let day = sample.at.day();
            match days.last_mut() {
                Some((last, peak)) if *last == day => {
                    if sample.used >= peak.used {
                        *peak = *sample;
                    }
                }
                _ => days.push((day, *sample)),
            }
        }
        let used = |sample: &Sample| sample.used.get() as i64;
        let before = std::iter::once(None).chain(days.iter().map(|(_, day)| Some(used(day))));
        let more = |((_, day), before): (&(String, Sample), Option<i64>)| {
            (*day, before.map(|before| used(day) - before))
        };
        days.iter().zip(before).map(more).collect()
    }

    /// The bytes of the scanned place at the scan that is nearest to a moment.
    pub fn size_at(&self, at: Time) -> Option<Bytes> {
        let nearest = self.sizes.iter().min_by_key(|size| size.at.sec.abs_diff(at.sec))?;
        Some(nearest.allocated)
    }
}

fn higher(a: Option<f64>, b: Option<f64>) -> Option<f64> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.max(b)),
        (one, other) => one.or(other),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tide(levels: &[(i64, u64)]) -> Tide {
        let sample = |(hours, used): &(i64, u64)| Sample {
            at: Time::at(1_000_000_000 + hours * 3600),
            used: Bytes::new(*used),
            free: Bytes::new(1000 - used),
            inodes_used: 0,
            inodes: 0,
        };
        let samples: Vec<Sample> = levels.iter().map(sample).collect();
        Tide {
            waterline: Level::from_permille(800),
            outlook: outlook(&samples),
            falls: falls(&samples),
            samples,
            growing: Vec::new(),
            sizes: Vec::new(),
        }
    }

    #[test]
    fn columns_have_the_extremes_of_their_time_and_gaps_are_filled_evenly() {
        let tide = tide(&[(0, 100), (1, 300), (2, 200), (10, 600)]);
        let (from, to) = tide.span().unwrap();
        let columns = tide.columns(from, to, 5);
        let one = |number: usize| columns[number].unwrap();
        assert!((one(0).low - 0.1).abs() < 1e-9 && (one(0).high - 0.3).abs() < 1e-9);
        assert!(one(0).is_sampled);
        assert!((one(1).low - 0.2).abs() < 1e-9 && (one(1).high - 0.2).abs() < 1e-9);
        // at hour 5, three eighths of the way from 200 to 600
        assert!((one(2).low - 0.35).abs() < 1e-9 && !one(2).is_sampled);
        assert!((one(4).high - 0.6).abs() < 1e-9);
        // before the first and after the last nothing is known
        let wide = tide.columns(Time::at(from.sec - 36_000), Time::at(to.sec + 36_000), 6);
        assert!(wide[0].is_none() && wide[5].is_none() && wide[3].is_some());
    }

    #[test]
    fn clean_ups_are_told_with_what_they_freed_and_a_forecast_goes_on_from_now() {
        let days: Vec<(i64, u64)> =
            (0..40).map(|day| (day * 24, 300 + 10 * (day as u64 % 20))).collect();
        let tide = tide(&days);
        assert_eq!(tide.falls.len(), 1);
        assert_eq!(tide.falls[0].freed, Bytes::new(190));
        assert_eq!(tide.falls[0].at, tide.samples[20].at);
        let [low, rise, high] = tide.forecast(10.0).unwrap();
        assert!(low <= rise && rise <= high && (rise - 0.59).abs() < 0.01, "{rise}");
        assert_eq!(tide.days().len(), 40);
        assert_eq!(tide.days()[1].1, Some(10));
    }
}
