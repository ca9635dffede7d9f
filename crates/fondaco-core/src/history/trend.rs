//! How fast a volume rises, and when it will be full: from samples, robustly, and with a range.
//!
//! Samples are taken together to peaks, of a day each where there are days and of an hour else, so that
//! what comes and goes within that time does not count. Where the peaks fall by more than noise, somebody
//! cleaned up: rises are measured between such falls only. The rise is the median of the slopes between
//! any two peaks with no fall between them (Theil and Sen), each slope weighing as much as the time it
//! covers; the range goes from the tenth to the ninetieth percentile.

use serde::Serialize;

use crate::units::{Bytes, Time};

/// How full a volume was at one moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sample {
    /// When the level was sampled.
    pub at: Time,
    /// Bytes in use at that time.
    pub used: Bytes,
    /// Free for root.
    pub free: Bytes,
    /// Inodes in use.
    pub inodes_used: u64,
    /// Inodes in all.
    pub inodes: u64,
}

/// How fast a volume rises, in bytes a day; negative if it falls.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Trend {
    /// The slow end of the range.
    pub low: f64,
    /// The rise that is most to be expected.
    pub rise: f64,
    /// The fast end of the range.
    pub high: f64,
    /// Days between the first and the last sample.
    pub days: f64,
    /// Clean-ups that were seen meanwhile.
    pub falls: usize,
}

/// In how many days a volume will be full, counted from its last sample.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Forecast {
    /// If it rises at the fast end of the range.
    pub soonest: f64,
    /// If it goes on as it is most to be expected.
    pub days: f64,
    /// If it rises at the slow end of the range; nothing if it might not rise at all.
    pub latest: Option<f64>,
}

/// Much that was in use and no longer is: somebody cleaned up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fall {
    /// When the level was first seen to be lower.
    pub at: Time,
    /// By how many bytes.
    pub freed: Bytes,
}

/// What can be said about where a volume is going.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Outlook {
    /// Too little has been measured.
    NotYet,
    /// It does not rise, or so slowly that a day cannot be given.
    Steady(Trend),
    /// It will be full.
    Full(Trend, Forecast),
}

impl Outlook {
    /// How fast it rises, if that is known.
    pub fn trend(&self) -> Option<&Trend> {
        match self {
            Self::NotYet => None,
            Self::Steady(trend) | Self::Full(trend, _) => Some(trend),
        }
    }
}

const DAY: f64 = 86_400.0;
/// Peaks that it takes at least.
const PEAKS: usize = 4;
/// Peaks that are compared with each other at most: above, the oldest are left out.
const MOST: usize = 400;
/// What is further away than this is not said.
const FARTHEST: f64 = 3650.0;

/// The time that samples are taken together for, in seconds.
fn step(span: f64) -> i64 {
    if span >= PEAKS as f64 * DAY { 86_400 } else { 3600 }
}

/// What comes and goes without anybody having cleaned up. A volume that was made larger or smaller is another one, but its
/// rise is the same.
fn noise(last: &Sample) -> f64 {
    (last.used + last.free).get() as f64 * 0.002
}

/// Where somebody cleaned up, from samples, oldest first.
pub fn falls(samples: &[Sample]) -> Vec<Fall> {
    let (Some(first), Some(last)) = (samples.first(), samples.last()) else { return Vec::new() };
    let peaks = peaks(samples, step((last.at.sec - first.at.sec) as f64));
    let noise = noise(last);
    let runs = rising_runs(&peaks, noise);
    let fall = |pair: &[&[(f64, f64)]]| {
        let (before, after) = (pair[0].last()?, pair[1].first()?);
        let lower = |sample: &&Sample| {
            sample.at.sec as f64 / DAY > before.0 && (sample.used.get() as f64) < before.1 - noise
        };
        let at = samples.iter().find(lower)?.at;
        Some(Fall { at, freed: Bytes::new((before.1 - after.1).max(0.0) as u64) })
    };
    runs.windows(2).filter_map(fall).collect()
}

/// Draws the conclusion from samples, oldest first.
pub fn outlook(samples: &[Sample]) -> Outlook {
    let (Some(first), Some(last)) = (samples.first(), samples.last()) else {
        return Outlook::NotYet;
    };
    let span = (last.at.sec - first.at.sec) as f64;
    let step = step(span);
    let peaks = peaks(samples, step);
    let peaks = &peaks[peaks.len().saturating_sub(MOST)..];
    if peaks.len() < PEAKS {
        return Outlook::NotYet;
    }
    let runs = rising_runs(peaks, noise(last));
    let mut slopes: Vec<(f64, f64)> = Vec::new();
    for run in &runs {
        for (i, a) in run.iter().enumerate() {
            slopes.extend(run[i + 1..].iter().map(|b| ((b.1 - a.1) / (b.0 - a.0), b.0 - a.0)));
        }
    }
    let measured: f64 = runs.iter().filter_map(|run| Some(run.last()?.0 - run.first()?.0)).sum();
    if slopes.len() < PEAKS - 1 || measured < (PEAKS - 1) as f64 * step as f64 / DAY * 0.9 {
        return Outlook::NotYet;
    }
    slopes.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
    let at = |share: f64| quantile(&slopes, share);
    let trend = Trend {
        low: at(0.1),
        rise: at(0.5),
        high: at(0.9),
        days: span / DAY,
        falls: runs.len() - 1,
    };
    let free = last.free.get() as f64;
    let days = free / trend.rise;
    if trend.rise <= 0.0 || days > FARTHEST {
        return Outlook::Steady(trend);
    }
    let latest = (trend.low > 0.0).then(|| free / trend.low).filter(|days| *days <= FARTHEST);
    Outlook::Full(trend, Forecast { soonest: free / trend.high, days, latest })
}

/// The highest sample of every step of time: day, bytes.
fn peaks(samples: &[Sample], step: i64) -> Vec<(f64, f64)> {
    let mut peaks: Vec<(i64, &Sample)> = Vec::new();
    for sample in samples {
        let number = sample.at.sec.div_euclid(step);
        match peaks.last_mut() {
            Some((last, peak)) if *last == number => {
                if sample.used >= peak.used {
                    *peak = sample;
                }
            }
            _ => peaks.push((number, sample)),
        }
    }
    peaks.iter().map(|(_, peak)| (peak.at.sec as f64 / DAY, peak.used.get() as f64)).collect()
}

/// Cuts where bytes fall by more than `noise` below the highest since the last cut.
fn rising_runs(peaks: &[(f64, f64)], noise: f64) -> Vec<&[(f64, f64)]> {
    let mut runs = Vec::new();
    let (mut from, mut highest) = (0, f64::MIN);
    for (i, (_, bytes)) in peaks.iter().enumerate() {
        if *bytes < highest - noise {
            runs.push(&peaks[from..i]);
            (from, highest) = (i, f64::MIN);
        }
        highest = highest.max(*bytes);
    }
    runs.push(&peaks[from..]);
    runs
}

/// The value below which a share of the weight lies; of values in order.
fn quantile(weighted: &[(f64, f64)], share: f64) -> f64 {
    let whole: f64 = weighted.iter().map(|(_, weight)| weight).sum();
    let mut below = 0.0;
    for (value, weight) in weighted {
        below += weight;
        if below >= whole * share {
            return *value;
        }
    }
    weighted.last().map_or(0.0, |(value, _)| *value)
}

#[cfg(test)]
mod tests {
    use super::*;

    const GIB: f64 = (1u64 << 30) as f64;

    /// Samples every `hours`, of a volume of 100 GiB.
    fn samples(hours: i64, count: i64, used: impl Fn(f64) -> f64) -> Vec<Sample> {
        (0..count)
            .map(|i| {
                let at = i * hours * 3600;
                let used = (used(at as f64 / DAY) * GIB) as u64;
                Sample {
                    at: Time::at(1_000_000_000 + at),
                    used: Bytes::new(used),
                    free: Bytes::new((100.0 * GIB) as u64 - used),
                    inodes_used: 0,
                    inodes: 0,
                }
            })
            .collect()
    }

    fn noise(day: f64) -> f64 {
        ((day * 1e4).sin() * 1e4).fract() * 0.1
    }

    #[test]
    fn the_rise_is_found_whatever_clean_ups_and_daily_tides_do() {
        // rise of half a gibibyte a day: plain; cleaned up every nine days; tides of 5 GiB a day; both
        let tide = |day: f64| 5.0 * (day * std::f64::consts::TAU).sin().abs();
        let plain = |day: f64| 40.0 + 0.5 * day;
        let saw = |day: f64| 60.0 + 0.5 * (day % 9.0);
        let cases = [
            ("plain", samples(3, 8 * 60, |day| plain(day) + noise(day)), 0),
            ("saw-tooth", samples(3, 8 * 60, |day| saw(day) + noise(day)), 6),
            ("tides", samples(3, 8 * 60, |day| plain(day) + tide(day)), 0),
            ("both", samples(3, 8 * 60, |day| saw(day) + tide(day)), 6),
        ];
        for (name, samples, falls) in cases {
            let Outlook::Full(trend, forecast) = outlook(&samples) else { panic!("{name}") };
            assert!((trend.rise / GIB - 0.5).abs() < 0.05, "{name}: {}", trend.rise / GIB);
            assert!(trend.low <= trend.rise && trend.rise <= trend.high, "{name}");
            assert_eq!(trend.falls, falls, "{name}");
            let free = samples.last().unwrap().free.get() as f64 / GIB;
            assert!((forecast.days - free / 0.5).abs() < 0.1 * forecast.days, "{name}");
            assert!(forecast.soonest <= forecast.days && forecast.latest >= Some(forecast.days));
        }
    }

    #[test]
    fn a_fast_rise_is_told_within_hours_and_nothing_is_made_up() {
        // four hours at 3 GiB an hour: the pager's case
        let fast = samples(1, 5, |day| 80.0 + 72.0 * day);
        let Outlook::Full(_, forecast) = outlook(&fast) else { panic!("it rises") };
        assert!((forecast.days * 24.0 - 8.0 / 3.0).abs() < 0.1, "{}", forecast.days * 24.0);
        // too little of it; days apart but only two; nothing but falls
        assert_eq!(outlook(&[]), Outlook::NotYet);
        assert_eq!(outlook(&fast[..3]), Outlook::NotYet);
        assert_eq!(outlook(&samples(24 * 20, 2, |day| 10.0 + day)), Outlook::NotYet);
        assert_eq!(outlook(&samples(24, 9, |day| 90.0 - 9.0 * day)), Outlook::NotYet);
        // steady, and rising so slowly that it is no date
        assert!(matches!(outlook(&samples(24, 30, |_| 50.0)), Outlook::Steady(_)));
        assert!(matches!(outlook(&samples(24, 60, |day| 50.0 + 0.001 * day)), Outlook::Steady(_)));
    }
}
