//! Words that commands and stations have in common: rises, forecasts, limits, places.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;

use fondaco_core::analysis::SliceKey;
use fondaco_core::history::{Forecast, Outlook};
use fondaco_core::kernel::{AccessTimes, Quota, QuotaOf};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, Time, UnitStyle, counted};
use fondaco_core::volume::Place;

/// The rise of a volume in a day, with its sign.
pub fn rise(outlook: &Outlook, style: UnitStyle) -> String {
    outlook.trend().map_or_else(String::new, |trend| signed_bytes(trend.rise as i64, style))
}

/// Bytes in a few letters, as in `61.2M`.
pub fn short_bytes(bytes: Bytes, style: UnitStyle) -> String {
    let style = if style == UnitStyle::Bytes { UnitStyle::Binary } else { style };
    let text = bytes.shown(style);
    let short = text.trim_end_matches(['B', 'i']).replace(' ', "");
    if short.is_empty() || short.ends_with(|c: char| c.is_ascii_digit()) {
        format!("{short}B")
    } else {
        short
    }
}

/// What must be known about times of reading on a volume that does not keep them exactly.
pub fn access_note(kept: AccessTimes) -> Option<&'static str> {
    match kept {
        AccessTimes::Strict => None,
        AccessTimes::Relative => Some("relatime: exact to the day"),
        AccessTimes::Not => Some("noatime: readings are not kept"),
    }
}

/// What the volumes say, in words.
pub fn measured_words(measured: Option<i64>) -> String {
    match measured {
        None => "nothing".to_owned(),
        Some(bytes) if bytes < 0 => {
            format!("{} more in use", Bytes::new(bytes.unsigned_abs()).shown(UnitStyle::Binary))
        }
        Some(bytes) => format!("{} less in use", Bytes::new(bytes as u64).shown(UnitStyle::Binary)),
    }
}

/// A moment of the journal as a date.
pub fn dated(moment: &str) -> String {
    Time::of_rfc3339(moment).map_or_else(|| moment.to_owned(), Time::local)
}

/// Bytes with their sign.
pub fn signed_bytes(bytes: i64, style: UnitStyle) -> String {
    let sign = if bytes < 0 { "-" } else { "+" };
    format!("{sign}{}", Bytes::new(bytes.unsigned_abs()).shown(style))
}

/// When a volume will be full, in a few letters.
pub fn full_in(outlook: &Outlook) -> String {
    match outlook {
        Outlook::NotYet => "no forecast yet".to_owned(),
        Outlook::Steady(_) => "not rising".to_owned(),
        Outlook::Full(_, forecast) => days(forecast.days),
    }
}

/// As [`full_in`], where there is little room.
pub fn full_in_short(outlook: &Outlook) -> String {
    match outlook {
        Outlook::NotYet => "—".to_owned(),
        other => full_in(other),
    }
}

/// When a volume will be full, with the range.
pub fn range(forecast: &Forecast) -> String {
    let soonest = days(forecast.soonest);
    let latest = match forecast.latest {
        Some(latest) if days(latest) == soonest => return soonest,
        Some(latest) => format!("to {}", days(latest)),
        None => "or much later".to_owned(),
    };
    format!("{}, {soonest} {latest}", days(forecast.days))
}

/// A span of so many days, in a few letters.
pub fn days(days: f64) -> String {
    match days {
        d if d * 86_400.0 < 120.0 => format!("{:.0} s", d * 86_400.0),
        d if d * 24.0 < 2.0 => format!("{:.0} min", d * 1440.0),
        d if d < 2.0 => format!("{:.0} h", d * 24.0),
        d if d < 90.0 => format!("{d:.0} d"),
        d if d < 730.0 => format!("{:.0} mo", d / 30.4),
        d => format!("{:.0} y", d / 365.0),
    }
}

/// The name of whose limit it is, if one is known.
pub fn owner_name(quota: &Quota, accounts: &dyn Accounts) -> Option<String> {
    match quota.of {
        QuotaOf::User => accounts.user_name(quota.id),
        QuotaOf::Group => accounts.group_name(quota.id),
        QuotaOf::Project => None,
    }
}

/// A limit in one line.
pub fn quota_line(quota: &Quota, accounts: &dyn Accounts, style: UnitStyle) -> String {
    let name = owner_name(quota, accounts).unwrap_or_else(|| quota.id.to_string());
    let bytes = match (quota.level(), quota.limit()) {
        (Some(level), Some(limit)) => {
            format!("  {level} of {}", limit.shown(style))
        }
        _ => String::new(),
    };
    let inodes = quota.inode_level().map_or_else(String::new, |level| format!("  inodes {level}"));
    format!("limit of {} {name}{bytes}{inodes}", quota.of.word())
}

/// Another place where a volume is mounted.
pub fn in_words(place: &Place) -> String {
    let part = match place.root.as_os_str() == "/" {
        true => String::new(),
        false => format!(" (its {})", Shown(&place.root)),
    };
    let read_only = if place.read_only { ", read-only" } else { "" };
    format!("{}{part}{read_only}", Shown(&place.mount_point))
}

/// What the entries of a slice have in common.
pub fn slice_words(
    key: &SliceKey,
    user: impl Fn(u32) -> String,
    group: impl Fn(u32) -> String,
) -> String {
    let bytes = |bytes: &[u8]| shown(OsStr::from_bytes(bytes));
    match key {
        SliceKey::Kind(kind) => kind.word().to_owned(),
        SliceKey::Extension(ending) if ending.is_empty() => "(no ending)".to_owned(),
        SliceKey::Extension(ending) => format!(".{}", bytes(ending)),
        SliceKey::NoFile => "(no file)".to_owned(),
        SliceKey::Owner(number) => user(*number),
        SliceKey::Group(number) => group(*number),
        SliceKey::Family(family) if family.is_empty() => "(a root of the scan)".to_owned(),
        SliceKey::Family(family) => bytes(family),
        SliceKey::Depth(0) => "the roots themselves".to_owned(),
        SliceKey::Depth(depth) => counted(u64::from(*depth), "level") + " down",
        SliceKey::NameLength(from, to) => format!("{from} to {to} bytes"),
        SliceKey::Attribute(attribute) => attribute.word().to_owned(),
        SliceKey::NoAttribute => "(none of these)".to_owned(),
    }
}
