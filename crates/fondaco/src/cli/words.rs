//! How single words of the command line are read.

use std::path::PathBuf;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use fondaco_core::pattern::{Pattern, PatternError};
use fondaco_core::units::Time;
use serde::Serialize;

/// One of these, by the word that it is written as in JSON documents.
pub(super) fn one_of<T>(all: &'static [T]) -> impl TypedValueParser<Value = T>
where
    T: Copy + Serialize + Send + Sync + 'static,
{
    let words = all.iter().map(word);
    PossibleValuesParser::new(words)
        .try_map(|text| all.iter().find(|one| word(*one) == text).copied().ok_or("no such word"))
}

/// How it is written in JSON.
fn word(one: &impl Serialize) -> String {
    let written = serde_json::to_value(one).ok();
    written.as_ref().and_then(|word| word.as_str()).unwrap_or_default().to_owned()
}

pub(super) fn pattern(text: &str) -> Result<Pattern, PatternError> {
    Pattern::parse(text)
}

/// What a word of the command line should have been.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {0}")]
pub(super) struct Expected(&'static str);

pub(super) fn points(text: &str) -> Result<(f64, f64), Expected> {
    let parts = text.split_once('x').and_then(|(w, h)| Some((w.parse().ok()?, h.parse().ok()?)));
    let usable = |(w, h): &(f64, f64)| (560.0..=5000.0).contains(w) && (320.0..=5000.0).contains(h);
    parts.filter(usable).ok_or(Expected("points such as 842x595, at least 560x320"))
}

/// A day or a moment, as the beginning of an RFC 3339 time in UTC.
pub(super) fn time(text: &str) -> Result<Time, Expected> {
    let expected = Expected("a day or a moment, such as 2041-03-07 or 2041-03-07T03:00");
    let rest = "0000-01-01T00:00:00Z".get(text.len()..).unwrap_or_default();
    let whole = (text.is_ascii() && text.len() >= 10).then(|| format!("{text}{rest}"));
    whole.and_then(|whole| Time::of_rfc3339(&whole)).ok_or(expected)
}

/// As [`time`], kept as the text that it is.
pub(super) fn moment(text: &str) -> Result<String, Expected> {
    time(text).map(|_| text.to_owned())
}

pub(super) fn descriptor(text: &str) -> Result<(u32, u32), Expected> {
    let numbers =
        text.split_once(':').and_then(|(pid, fd)| Some((pid.parse().ok()?, fd.parse().ok()?)));
    numbers.ok_or(Expected("a process and its descriptor, such as 2464:3"))
}

pub(super) fn saved_descriptor(text: &str) -> Result<((u32, u32), PathBuf), Expected> {
    let (which, file) =
        text.split_once('=').ok_or(Expected("PID:FD=FILE, such as 2464:3=/srv/depot/log"))?;
    Ok((descriptor(which)?, PathBuf::from(file)))
}

#[cfg(test)]
mod tests {
    use clap::{Arg, Command};
    use fondaco_core::analysis::BreakdownBy;

    use super::*;

    #[test]
    fn a_word_is_read_as_it_is_written_and_no_other_is() {
        let read = |word: &str| {
            let by = Arg::new("by").value_parser(one_of(&BreakdownBy::ALL));
            let read = Command::new("read").arg(by).try_get_matches_from(["read", word]);
            read.map(|read| *read.get_one::<BreakdownBy>("by").unwrap())
        };
        for by in BreakdownBy::ALL {
            assert_eq!(read(&word(&by)).ok(), Some(by));
        }
        let error = read("name length").unwrap_err().to_string();
        assert!(
            error.contains("kind, family, extension") && error.contains("name-length"),
            "{error}"
        );
    }

    #[test]
    fn descriptors_and_sizes_of_paper_are_read_or_said_to_be_wrong() {
        assert_eq!(descriptor("2464:3"), Ok((2464, 3)));
        let kept = saved_descriptor("2464:3=/srv/a=b").unwrap();
        assert_eq!(kept, ((2464, 3), "/srv/a=b".into()));
        for wrong in ["", "2464", ":3", "2464:x", "2464:3:1", "-1:3"] {
            assert!(descriptor(wrong).unwrap_err().to_string().contains("2464:3"), "{wrong}");
        }
        assert!(saved_descriptor("2464:3").is_err());
        assert_eq!(points("842x595"), Ok((842.0, 595.0)));
        for wrong in ["842", "x", "559x595", "842x319", "5001x595", "NaNx595", "infx595"] {
            assert!(points(wrong).unwrap_err().to_string().contains("560x320"), "{wrong}");
        }
    }
}
