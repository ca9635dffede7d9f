//! What an unattended run came to, for a monitor.
//!
//! Source: the OpenMetrics text format, version 1.0.0.

use std::fmt::Write;
use std::io::ErrorKind;
use std::path::Path;

use anyhow::{Context, Result, bail};
use fondaco_core::kernel::write_readable;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::unattended::{Grade, UnattendedRecord, VolumeRecord};
use fondaco_core::units::Time;

/// Writes the record as metrics to a file, which is replaced if it holds older ones. Anything else that has the name stays.
pub(super) fn write(record: &UnattendedRecord, file: &Path) -> Result<()> {
    match std::fs::read(file) {
        Ok(there) if there.starts_with(FIRST_LINE.as_bytes()) => {}
        Ok(_) => bail!("{} exists and holds no metrics of this program", Shown(file)),
        Err(error) if error.kind() == ErrorKind::NotFound => {}
        Err(error) => return Err(error).with_context(|| format!("cannot read {}", Shown(file))),
    }
    Ok(write_readable(file, text(record).as_bytes())?)
}

/// How the text begins.
const FIRST_LINE: &str = "# TYPE fondaco_level_ratio gauge\n";

/// The record as metrics.
fn text(record: &UnattendedRecord) -> String {
    let mut out = String::new();
    let levels = |volume: &VolumeRecord| {
        let fill = volume.after.or(volume.before)?;
        Some(fill.level.share())
    };
    by_volume(&mut out, record, "fondaco_level_ratio", "Level of the volume.", levels);
    let waterline = |volume: &VolumeRecord| Some(volume.waterline.share());
    by_volume(
        &mut out,
        record,
        "fondaco_waterline_ratio",
        "Level that the volume should be below.",
        waterline,
    );
    let rise = |volume: &VolumeRecord| volume.rise_a_day.map(|rise| rise as f64 / 86_400.0);
    by_volume(
        &mut out,
        record,
        "fondaco_rise_bytes_per_second",
        "How fast the use of the volume rises.",
        rise,
    );
    let ended = record.ended.as_deref().and_then(Time::of_rfc3339);
    for (name, help, value) in [
        ("fondaco_relief_bytes", "Bytes that the last run has freed.", record.freed().get()),
        (
            "fondaco_refused_actions",
            "Actions of the last run that a guard has left alone.",
            record.refused.count,
        ),
        (
            "fondaco_failed_actions",
            "Actions of the last run that have failed.",
            record.failed.count,
        ),
        (
            "fondaco_last_run_failed",
            "Whether something of the last run has failed.",
            u64::from(record.grade() == Grade::Failed),
        ),
        (
            "fondaco_last_run_timestamp_seconds",
            "When the last run ended.",
            ended.map_or(0, |at| at.sec.max(0) as u64),
        ),
    ] {
        let _ = writeln!(out, "# TYPE {name} gauge\n# HELP {name} {help}\n{name} {value}");
    }
    out.push_str("# EOF\n");
    out
}

fn by_volume(
    out: &mut String,
    record: &UnattendedRecord,
    name: &str,
    help: &str,
    value: impl Fn(&VolumeRecord) -> Option<f64>,
) {
    let _ = writeln!(out, "# TYPE {name} gauge\n# HELP {name} {help}");
    for volume in &record.volumes {
        if let Some(value) = value(volume) {
            let volume = label(&shown(&volume.path.0));
            let _ = writeln!(out, "{name}{{volume=\"{volume}\"}} {value}");
        }
    }
}

/// A text as the value of a label.
fn label(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

#[cfg(test)]
mod tests {
    use fondaco_core::shown::DocPath;
    use fondaco_core::unattended::Fill;
    use fondaco_core::units::{Bytes, Level};

    use super::*;

    #[test]
    fn volumes_with_any_name_are_one_line_each_and_the_text_has_its_end() {
        let mut record = UnattendedRecord {
            ended: Some("2041-03-07T03:00:00Z".to_owned()),
            ..UnattendedRecord::default()
        };
        record.purged.freed = Bytes::new(4096);
        let fill =
            Fill { used: Bytes::new(9), free: Bytes::new(1), level: Level::from_permille(900) };
        record.volumes.push(VolumeRecord {
            path: DocPath("/srv/a\"b\\c\nfondaco_level_ratio 7".into()),
            waterline: Level::from_permille(800),
            before: Some(fill),
            after: None,
            full_in_days: None,
            rise_a_day: Some(86_400),
        });
        let text = text(&record);
        assert!(text.ends_with("\n# EOF\n"), "{text}");
        let level: Vec<&str> =
            text.lines().filter(|line| line.starts_with("fondaco_level_ratio")).collect();
        assert!(matches!(level[..], [one] if one.ends_with("\"} 0.9")), "{text}");
        for line in [
            "fondaco_relief_bytes 4096",
            "fondaco_last_run_timestamp_seconds 2246238000",
            "fondaco_failed_actions 0",
        ] {
            assert!(text.lines().any(|has| has == line), "{line}: {text}");
        }
        assert!(text.contains("fondaco_rise_bytes_per_second{volume="), "{text}");

        let directory = tempfile::tempdir().unwrap();
        let file = directory.path().join("fondaco.prom");
        write(&record, &file).unwrap();
        write(&record, &file).unwrap();
        std::fs::write(&file, "the only copy").unwrap();
        assert!(write(&record, &file).unwrap_err().to_string().contains("no metrics"));
        assert_eq!(std::fs::read(&file).unwrap(), b"the only copy");
    }
}
