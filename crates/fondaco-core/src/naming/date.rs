//! The date that a name carries.

use jiff::civil::{Date, DateTime, Time};

/// The years that a number in a name is taken for one in.
const YEARS: std::ops::RangeInclusive<i16> = 1970..=2199;

/// The date and time of day in a name, if it has a whole date: `2041-03-07`, `2041_03_07`, `2041.03.07`, `20410307`,
/// and the same with a time after it, as in `2041-03-07T0330`, `20410307-033000` or `20410307033000`. A year and a month
/// (`2041-03`) stand for the last day of that month, and a date without a time for the end of its day, since the
/// contents may be as new as that. Of several dates in one name the latest counts, as in `2041-03-01_2041-03-07.csv`.
///
/// Days come after months and months after years, as ISO 8601 has them; other orders cannot be told apart and are not
/// read. A date that the calendar does not have is none.
pub fn date_in(name: &[u8]) -> Option<DateTime> {
    let mut latest = None;
    let mut at = 0;
    while at < name.len() {
        if !name[at].is_ascii_digit() {
            at += 1;
            continue;
        }
        match date_at(name, at) {
            Some((date, end)) => {
                latest = latest.max(Some(date));
                at = end;
            }
            None => at += digits(name, at),
        }
    }
    latest
}

/// How many digits stand there.
fn digits(name: &[u8], at: usize) -> usize {
    name[at..].iter().take_while(|byte| byte.is_ascii_digit()).count()
}

/// The date that begins where a run of digits begins, and where it ends.
fn date_at(name: &[u8], at: usize) -> Option<(DateTime, usize)> {
    let length = digits(name, at);
    match length {
        4 => parted(name, at),
        8 => {
            let date = date(name, at, at + 4, at + 6)?;
            Some(time_after(name, date, at + 8))
        }
        12 | 14 => {
            let date = date(name, at, at + 4, at + 6)?;
            let seconds = if length == 14 { number(name, at + 12, 2)? } else { 0 };
            let time = time(number(name, at + 8, 2)?, number(name, at + 10, 2)?, seconds)?;
            Some((date.to_datetime(time), at + length))
        }
        _ => None,
    }
}

/// A date whose parts the same sign parts: `2041-03-07`, or `2041-03`.
fn parted(name: &[u8], at: usize) -> Option<(DateTime, usize)> {
    let sign = *name.get(at + 4).filter(|sign| b"-_.".contains(sign))?;
    if at + 5 >= name.len() || digits(name, at + 5) != 2 {
        return None;
    }
    let has_day = name.get(at + 7) == Some(&sign) && at + 8 < name.len() && {
        let length = digits(name, at + 8);
        // a time may follow without a sign of its own only after a T
        length == 2
    };
    if has_day && let Some(date) = date(name, at, at + 5, at + 8) {
        return Some(time_after(name, date, at + 10));
    }
    // `2041.03` is as often a version as a month
    if has_day || sign == b'.' {
        return None;
    }
    let year = i16::try_from(number(name, at, 4)?).ok().filter(|year| YEARS.contains(year))?;
    let month = i8::try_from(number(name, at + 5, 2)?).ok()?;
    let last = Date::new(year, month, 1).ok()?.last_of_month();
    Some((end_of(last), at + 7))
}

/// The date with the time of day that follows it, if one does: `T0330`, `-033000`, `_03:30:00`, `T03-30`.
fn time_after(name: &[u8], date: Date, at: usize) -> (DateTime, usize) {
    let read = || {
        name.get(at).filter(|sign| b"T-_ .".contains(sign))?;
        let from = at + 1;
        if from >= name.len() {
            return None;
        }
        let (hour, minute, second, end) = match digits(name, from) {
            // `2041-03-07_2041-03-01` is two dates
            4 if date_at(name, from).is_some() => return None,
            4 => (number(name, from, 2)?, number(name, from + 2, 2)?, 0, from + 4),
            6 => {
                let second = number(name, from + 4, 2)?;
                (number(name, from, 2)?, number(name, from + 2, 2)?, second, from + 6)
            }
            2 => {
                let sign = *name.get(from + 2).filter(|sign| b":-_".contains(sign))?;
                if from + 3 >= name.len() || digits(name, from + 3) != 2 {
                    return None;
                }
                let (hour, minute) = (number(name, from, 2)?, number(name, from + 3, 2)?);
                let has_second = name.get(from + 5) == Some(&sign)
                    && from + 6 < name.len()
                    && digits(name, from + 6) == 2;
                match has_second {
                    true => (hour, minute, number(name, from + 6, 2)?, from + 8),
                    false => (hour, minute, 0, from + 5),
                }
            }
            _ => return None,
        };
        Some((date.to_datetime(time(hour, minute, second)?), end))
    };
    read().unwrap_or((end_of(date), at))
}

fn end_of(date: Date) -> DateTime {
    date.at(23, 59, 59, 0)
}

fn date(name: &[u8], year: usize, month: usize, day: usize) -> Option<Date> {
    let year = i16::try_from(number(name, year, 4)?).ok().filter(|year| YEARS.contains(year))?;
    let month = i8::try_from(number(name, month, 2)?).ok()?;
    Date::new(year, month, i8::try_from(number(name, day, 2)?).ok()?).ok()
}

fn time(hour: u32, minute: u32, second: u32) -> Option<Time> {
    let part = |number| i8::try_from(number).ok();
    Time::new(part(hour)?, part(minute)?, part(second)?, 0).ok()
}

/// So many digits as a number.
fn number(name: &[u8], at: usize, length: usize) -> Option<u32> {
    std::str::from_utf8(name.get(at..at + length)?).ok()?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_found_where_a_person_reads_one() {
        let cases = [
            ("tide-2041-03-07.csv", Some("2041-03-07T23:59:59")),
            ("tide_20410307.csv", Some("2041-03-07T23:59:59")),
            ("tide.2041.03.07.gz", Some("2041-03-07T23:59:59")),
            ("2041_03_07", Some("2041-03-07T23:59:59")),
            ("run-20410307T0330.nc", Some("2041-03-07T03:30:00")),
            ("run-20410307-033015.nc", Some("2041-03-07T03:30:15")),
            ("run-2041-03-07_03:30:15.nc", Some("2041-03-07T03:30:15")),
            ("run-2041-03-07T03-30.nc", Some("2041-03-07T03:30:00")),
            ("dump20410307033015.sql", Some("2041-03-07T03:30:15")),
            ("dump204103070330.sql", Some("2041-03-07T03:30:00")),
            // the latest of several
            ("2041-03-07_2041-03-01.csv", Some("2041-03-07T23:59:59")),
            ("20400101-20410307.csv", Some("2041-03-07T23:59:59")),
            // the last day of a month, and what the calendar has
            ("level-2041-02.csv", Some("2041-02-28T23:59:59")),
            ("level-2040-02.csv", Some("2040-02-29T23:59:59")),
            ("2040-02-29.csv", Some("2040-02-29T23:59:59")),
            ("2041-02-29.csv", None),
            ("20411301.csv", None),
            ("2041-13.csv", None),
            ("run-20410307T2561.nc", Some("2041-03-07T23:59:59")),
            // numbers that are no dates
            ("buoy.log.1", None),
            ("2041.wav", None),
            ("sensor-2041.03", None),
            ("core.24640307", None),
            ("20410307123.bin", None),
            ("120410307.bin", None),
            ("07-03-2041.csv", None),
            ("v1.2.3-2041", None),
            ("2041-", None),
            ("2041-03-", Some("2041-03-31T23:59:59")),
            ("", None),
        ];
        for (name, wanted) in cases {
            let found = date_in(name.as_bytes()).map(|date| date.to_string());
            assert_eq!(found.as_deref(), wanted, "{name}");
        }
    }
}
