//! Bytes, ages, times and levels: numbers that carry their unit, with their formatting and parsing.

use std::fmt;
use std::iter::Sum;
use std::ops::{Add, AddAssign};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

/// A count of bytes. Whether allocated or apparent, the name of what holds it says.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct Bytes(u64);

impl Bytes {
    /// No bytes at all.
    pub const ZERO: Self = Self(0);

    /// A count of bytes.
    pub const fn new(bytes: u64) -> Self {
        Self(bytes)
    }

    /// From `st_blocks`, which counts 512 bytes each whatever the block size (`stat(3type)`).
    pub const fn from_blocks(blocks: u64) -> Self {
        Self(blocks.saturating_mul(512)) // a corrupt count must not wrap round to a small one
    }

    /// The plain number.
    pub const fn get(self) -> u64 {
        self.0
    }

    /// The difference, or nothing if `other` is larger.
    pub const fn less(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }

    /// The share of `whole`, 0 to 1; 0 of nothing.
    pub fn share_of(self, whole: Self) -> f64 {
        if whole.0 == 0 { 0.0 } else { self.0 as f64 / whole.0 as f64 }
    }

    /// As people read it: one decimal and its unit, or grouped bytes.
    pub fn shown(self, style: UnitStyle) -> String {
        let (base, units): (u64, [&str; 6]) = match style {
            UnitStyle::Binary => (1024, ["KiB", "MiB", "GiB", "TiB", "PiB", "EiB"]),
            UnitStyle::Decimal => (1000, ["kB", "MB", "GB", "TB", "PB", "EB"]),
            UnitStyle::Bytes => return format!("{} B", grouped(self.0)),
        };
        if self.0 < base {
            return format!("{} B", self.0);
        }
        // whole numbers, since a table of sizes is written for every picture and floating point takes several times as long
        let mut factor = 1;
        let mut tenths = 0;
        let unit = units.iter().find(|unit| {
            factor *= base;
            tenths = self.0 / factor * 10 + rounded(self.0 % factor * 10, factor);
            // 1023.95 KiB would be rounded to "1024.0 KiB"
            tenths < base * 10 || **unit == units[5]
        });
        format!("{}.{} {}", tenths / 10, tenths % 10, unit.unwrap_or(&units[5]))
    }

    /// Reads a size as people write it: `100 MiB`, `1.5G`, `20000`, `3 MB`.
    ///
    /// `K M G T P` alone and with `iB` count by 1024, with `B` by 1000.
    ///
    /// # Errors
    ///
    /// [`UnitError`] says what was expected.
    pub fn parse(text: &str) -> Result<Self, UnitError> {
        let error = || UnitError {
            text: text.to_owned(),
            expected: "a size such as `100 MiB`, `1.5 GB` or `4096`",
        };
        let (number, unit) = split_number(text).ok_or_else(error)?;
        let lower = unit.to_ascii_lowercase();
        let (letter, base) = match lower.as_str() {
            "" | "b" | "byte" | "bytes" => return Ok(Self(number as u64)),
            u if u.len() == 3 && u.ends_with("ib") => (&u[..1], 1024f64),
            u if u.len() == 2 && u.ends_with('b') => (&u[..1], 1000f64),
            u if u.len() == 1 => (u, 1024f64),
            _ => return Err(error()),
        };
        let power = "kmgtpe".find(letter).ok_or_else(error)? as i32 + 1;
        let value = number * base.powi(power);
        if value < u64::MAX as f64 { Ok(Self(value as u64)) } else { Err(error()) }
    }
}

impl Add for Bytes {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl AddAssign for Bytes {
    fn add_assign(&mut self, other: Self) {
        *self = *self + other;
    }
}

impl Sum for Bytes {
    fn sum<I: Iterator<Item = Self>>(parts: I) -> Self {
        parts.fold(Self::ZERO, Add::add)
    }
}

/// The whole number nearest to a quotient, of two that are equally near the even one.
fn rounded(number: u64, by: u64) -> u64 {
    let (whole, rest) = (number / by, number % by);
    whole + u64::from(2 * rest > by || 2 * rest == by && whole % 2 == 1)
}

/// How sizes are written on a screen or in a table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum UnitStyle {
    /// KiB, MiB …: by 1024.
    #[default]
    Binary,
    /// kB, MB …: by 1000.
    Decimal,
    /// The whole number, in groups of three.
    Bytes,
}

impl UnitStyle {
    /// The next style in turn.
    pub fn next(self) -> Self {
        match self {
            Self::Binary => Self::Decimal,
            Self::Decimal => Self::Bytes,
            Self::Bytes => Self::Binary,
        }
    }
}

/// A number with its digits in groups of three.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}

/// A number with its noun, in the plural unless it is one: `1 action`, `3 actions`.
pub fn counted(number: u64, noun: &str) -> String {
    let plural = match noun.strip_suffix('y') {
        _ if number == 1 => noun.to_owned(),
        Some(stem) => format!("{stem}ies"),
        None if noun.ends_with('s') => format!("{noun}es"),
        None => format!("{noun}s"),
    };
    format!("{} {plural}", grouped(number))
}

/// A share from 0 to 1 in percent, cut off after one place: what is not all must not read as all.
pub fn share_words(share: f64) -> String {
    let percent = (share * 1000.0).floor() / 10.0;
    format!("{percent:.1} %")
}

/// Why a number with a unit could not be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not {expected}")]
pub struct UnitError {
    /// What was given.
    pub text: String,
    /// What would have been right, with examples.
    pub expected: &'static str,
}

/// A point in time as file systems keep it: seconds and nanoseconds since 1970, UTC.
///
/// Written into documents as `seconds.nanoseconds`, exact for any file system's range.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Time {
    /// Whole seconds; negative before 1970.
    pub sec: i64,
    /// Nanoseconds, 0 to 999 999 999.
    pub nsec: u32,
}

impl Time {
    /// At a whole second.
    pub const fn at(sec: i64) -> Self {
        Self { sec, nsec: 0 }
    }

    /// The system's clock now. Only the edges of the program read it; the rest is handed a time.
    pub fn now() -> Self {
        match SystemTime::now().duration_since(UNIX_EPOCH) {
            Ok(since) => Self { sec: since.as_secs() as i64, nsec: since.subsec_nanos() },
            Err(_) => Self::default(),
        }
    }

    /// How long before `now` this was; nothing if it lies ahead.
    pub fn age(self, now: Time) -> Age {
        Age(Duration::from_secs(now.sec.saturating_sub(self.sec).max(0) as u64))
    }

    /// RFC 3339 in UTC, to the second. Times beyond year 9999 are written as that year's end.
    pub fn rfc3339(self) -> String {
        jiff::Timestamp::from_second(self.sec).unwrap_or(jiff::Timestamp::MAX).to_string()
    }

    /// Its day, in the system's time zone.
    pub fn day(self) -> String {
        self.local().chars().take(10).collect()
    }

    /// The moment that a text of the form of [`Time::rfc3339`] says, if it is one.
    pub fn of_rfc3339(text: &str) -> Option<Self> {
        Some(Self::at(text.parse::<jiff::Timestamp>().ok()?.as_second()))
    }

    /// Date and time of day to the minute, in the system's time zone.
    pub fn local(self) -> String {
        let stamp = jiff::Timestamp::from_second(self.sec).unwrap_or(jiff::Timestamp::MAX);
        stamp.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
    }
}

impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}.{:09}", self.sec, self.nsec)
    }
}

impl Serialize for Time {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Time {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let parsed = text.split_once('.').and_then(|(sec, nsec)| {
            let nsec: u32 = nsec.parse().ok().filter(|n| *n < 1_000_000_000)?;
            Some(Self { sec: sec.parse().ok()?, nsec })
        });
        parsed.ok_or_else(|| serde::de::Error::custom("a time is `seconds.nanoseconds`"))
    }
}

/// How long ago something was.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Age(pub Duration);

const DAY: u64 = 86_400;

impl Age {
    /// An age of whole days.
    pub const fn days(days: u64) -> Self {
        Self(Duration::from_secs(days.saturating_mul(DAY)))
    }

    /// The age in whole seconds.
    pub fn secs(self) -> u64 {
        self.0.as_secs()
    }

    /// Reads an age as people write it: `90 d`, `2 weeks`, `6 months`, `1y`, `12 h`.
    ///
    /// A month counts 30 days and a year 365.
    ///
    /// # Errors
    ///
    /// [`UnitError`] says what was expected.
    pub fn parse(text: &str) -> Result<Self, UnitError> {
        let error = || UnitError {
            text: text.to_owned(),
            expected: "an age such as `90 d`, `6 months` or `1 y` (min, h, d, w, mo, y)",
        };
        let (number, unit) = split_number(text).ok_or_else(error)?;
        let seconds = match unit {
            "s" | "second" | "seconds" => 1,
            "min" | "minute" | "minutes" => 60,
            "h" | "hour" | "hours" => 3600,
            "d" | "day" | "days" => DAY,
            "w" | "week" | "weeks" => 7 * DAY,
            "mo" | "month" | "months" => 30 * DAY,
            "y" | "year" | "years" => 365 * DAY,
            _ => return Err(error()),
        };
        Ok(Self(Duration::from_secs((number * seconds as f64) as u64)))
    }
}

impl fmt::Display for Age {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let s = self.secs();
        let (number, unit) = match s {
            0..60 => (s, "s"),
            60..3600 => (s / 60, "min"),
            3600..DAY => (s / 3600, "h"),
            _ if s < 60 * DAY => (s / DAY, "d"),
            _ if s < 2 * 365 * DAY => (s / (30 * DAY), "mo"),
            _ => (s / (365 * DAY), "y"),
        };
        f.pad(&format!("{number} {unit}"))
    }
}

fn split_number(text: &str) -> Option<(f64, &str)> {
    let text = text.trim();
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let number: f64 = text[..end].parse().ok()?;
    Some((number, text[end..].trim_start()))
}

/// How full a volume is, in thousandths: used / (used + available to root).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Level(u32);

impl Level {
    /// In percent, as an administrator types it; between 1 and 100.
    ///
    /// # Errors
    ///
    /// [`UnitError`] if it is not such a number.
    pub fn parse(text: &str) -> Result<Self, UnitError> {
        let number = text.trim().trim_end_matches('%').trim().parse::<f64>().ok();
        match number.filter(|n| (1.0..=100.0).contains(n)) {
            Some(percent) => Ok(Self((percent * 10.0).round() as u32)),
            None => Err(UnitError {
                text: text.to_owned(),
                expected: "a level in percent, from 1 to 100",
            }),
        }
    }

    /// A level given in thousandths.
    pub const fn from_permille(permille: u32) -> Self {
        Self(permille)
    }

    /// `part` of `whole`, to the nearest thousandth.
    pub fn of(part: Bytes, whole: Bytes) -> Self {
        Self((part.share_of(whole) * 1000.0).round() as u32)
    }

    /// The share, 0 to 1.
    pub fn share(self) -> f64 {
        f64::from(self.0) / 1000.0
    }

    /// The bytes below this level on a volume of that capacity.
    pub fn of_capacity(self, capacity: Bytes) -> Bytes {
        Bytes::new((u128::from(capacity.get()) * u128::from(self.0) / 1000) as u64)
    }
}

impl fmt::Display for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.0.is_multiple_of(10) {
            f.pad(&format!("{} %", self.0 / 10))
        } else {
            f.pad(&format!("{}.{} %", self.0 / 10, self.0 % 10))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_as_people_write_them() {
        let cases = [
            ("4096", 4096),
            ("100 MiB", 100 << 20),
            ("1.5G", 3 << 29),
            ("3 MB", 3_000_000),
            ("2kb", 2000),
            ("0", 0),
        ];
        for (text, bytes) in cases {
            assert_eq!(Bytes::parse(text), Ok(Bytes::new(bytes)), "{text}");
        }
        for bad in ["", "MiB", "10 parsecs", "-5", "1 ZiB", "99999999999 EiB"] {
            assert!(Bytes::parse(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn sizes_never_show_four_digits_before_the_point_of_a_larger_unit() {
        let cases = [
            (0, "0 B", "0 B"),
            (1023, "1023 B", "1.0 kB"),
            ((1 << 20) - 1, "1.0 MiB", "1.0 MB"),
            (64_173_588, "61.2 MiB", "64.2 MB"),
        ];
        for (bytes, binary, decimal) in cases {
            assert_eq!(Bytes::new(bytes).shown(UnitStyle::Binary), binary);
            assert_eq!(Bytes::new(bytes).shown(UnitStyle::Decimal), decimal);
        }
        assert_eq!(Bytes::new(221_300_224).shown(UnitStyle::Bytes), "221 300 224 B");
    }

    proptest::proptest! {
        #[test]
        fn sizes_are_rounded_as_the_standard_library_does(bytes in 1024u64..1 << 53, less in 0..43u32) {
            let bytes = (bytes >> less).max(1024);
            let power = bytes.ilog2() / 10;
            // dividing by a power of two is exact
            let value = bytes as f64 / 1024f64.powi(power as i32);
            let units = ["KiB", "MiB", "GiB", "TiB", "PiB"];
            let expected = format!("{value:.1} {}", units[power as usize - 1]);
            if !expected.starts_with("1024.0") {
                proptest::prop_assert_eq!(Bytes::new(bytes).shown(UnitStyle::Binary), expected);
            }
        }
    }

    #[test]
    fn ages_are_read_and_shown() {
        for (text, seconds) in [("90 d", 90 * DAY), ("1y", 365 * DAY), ("2 weeks", 14 * DAY)] {
            assert_eq!(Age::parse(text).unwrap().secs(), seconds);
        }
        assert!(Age::parse("soon").is_err() && Age::parse("5").is_err());
        let shown = [(0, "0 s"), (7200, "2 h"), (59 * DAY, "59 d"), (3 * 366 * DAY, "3 y")];
        for (seconds, text) in shown {
            assert_eq!(Age(Duration::from_secs(seconds)).to_string(), text);
        }
    }

    #[test]
    fn a_time_survives_a_document_exactly() {
        for time in [Time { sec: -1, nsec: 999_999_999 }, Time { sec: 1 << 40, nsec: 1 }] {
            let text = serde_json::to_string(&time).unwrap();
            assert_eq!(serde_json::from_str::<Time>(&text).unwrap(), time);
        }
    }
}
