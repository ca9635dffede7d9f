//! Who writes on a volume at this moment.

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::activity::{Activity, GrowingDirectory, Writer};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, UnitStyle, counted, grouped};
use serde_json::{Value, json};

use super::Answer;
use super::cells::{binary, bytes, text, user};
use crate::output::{Grid, left, path_value, right, say};
use crate::words::{days, signed_bytes};

/// What was seen in some seconds.
pub struct Now<'a> {
    /// The place that was watched.
    pub place: PathBuf,
    /// What was seen.
    pub activity: Activity,
    /// So many rows of each.
    pub top: usize,
    /// Names of users.
    pub accounts: &'a dyn Accounts,
}

/// Bytes a second, in words.
pub fn rate_words(rate: f64, style: UnitStyle) -> String {
    format!("{}/s", Bytes::new(rate.max(0.0) as u64).shown(style))
}

/// Seconds until a volume is full, in a few letters.
pub fn seconds_words(seconds: f64) -> String {
    days(seconds / 86_400.0)
}

/// Who a writer is, in words.
pub fn writer_words(writer: &Writer) -> String {
    match &writer.process {
        Some(process) => process.command.clone(),
        None if writer.pid == 0 => "(processes that have ended)".to_owned(),
        None => "?".to_owned(),
    }
}

/// What has to be known about what was seen, a sentence each.
pub fn notes(activity: &Activity) -> Vec<String> {
    let mut notes = Vec::new();
    if let Some(reason) = &activity.no_events {
        notes.push(format!("only files that processes hold open are seen: {reason}"));
    }
    if activity.hidden > 0 {
        let processes = match activity.hidden {
            1 => "1 process".to_owned(),
            n => format!("{} processes", grouped(n as u64)),
        };
        notes.push(format!("{processes} could not be looked into: they may write too"));
    }
    if activity.lost {
        notes.push("some events were lost: there is more than what is told".to_owned());
    }
    if activity.estimated {
        notes.push("so many files were written that some of it is estimated".to_owned());
    }
    notes
}

/// How fast the volume fills and when it is full, in a sentence.
pub fn volume_words(activity: &Activity, style: UnitStyle) -> String {
    let Some(rate) = activity.volume_rate else {
        return "How fast the volume fills is not known.".to_owned();
    };
    let moves = match rate {
        rate if rate > 0.0 => format!("fills by {}", rate_words(rate, style)),
        rate if rate < 0.0 => format!("empties by {}", rate_words(-rate, style)),
        _ => "neither fills nor empties".to_owned(),
    };
    match activity.full_in() {
        Some(seconds) => {
            format!("The volume {moves}: full in {} at this rate.", seconds_words(seconds))
        }
        None => format!("The volume {moves}."),
    }
}

impl Now<'_> {
    fn user(&self, writer: &Writer) -> String {
        writer.process.as_ref().map_or_else(String::new, |p| user(self.accounts, p.user))
    }

    fn directories_grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            right("rate", "a second"),
            right("grown", "grown"),
            right("made", "made"),
            right("moved_here", "moved here"),
            left("directory", "directory"),
        ]);
        for directory in self.directories() {
            grid.row(vec![
                rate(directory.rate),
                bytes(directory.grown),
                (grouped(directory.made), directory.made.into()),
                (grouped(directory.moved_here), directory.moved_here.into()),
                (Shown(&directory.path).to_string(), path_value(&directory.path)),
            ]);
        }
        grid
    }

    fn directories(&self) -> impl Iterator<Item = &GrowingDirectory> {
        self.activity.directories.iter().take(self.top)
    }
}

fn rate(rate: f64) -> (String, Value) {
    (rate_words(rate, UnitStyle::Binary), rate.round().into())
}

impl Answer for Now<'_> {
    fn head(&self) -> Value {
        json!({
            "fondaco": 1,
            "kind": "now",
            "of": path_value(&self.place),
            "seconds": (self.activity.seconds * 1000.0).round() / 1000.0,
        })
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            right("rate", "a second"),
            right("grown", "grown"),
            right("files", "files"),
            right("made", "made"),
            right("pid", "pid"),
            left("command", "command"),
            left("user", "user"),
            left("largest", "grows most"),
        ]);
        for writer in self.activity.writers.iter().take(self.top) {
            let largest = writer.largest.as_deref();
            grid.row(vec![
                rate(writer.rate),
                bytes(writer.grown),
                (grouped(writer.files), writer.files.into()),
                (grouped(writer.made), writer.made.into()),
                match writer.pid {
                    0 => (String::new(), Value::Null),
                    pid => (pid.to_string(), pid.into()),
                },
                text(writer_words(writer)),
                text(self.user(writer)),
                largest.map_or_else(|| text(""), |path| (shown(path), path_value(path))),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let activity = &self.activity;
        let mut document = self.head();
        document["rate"] = activity.rate.round().into();
        document["volume_rate"] = json!(activity.volume_rate.map(f64::round));
        document["free"] = json!(activity.free);
        document["full_in_seconds"] = json!(activity.full_in().map(f64::round));
        document["writers"] = self.grid().to_json(&[])?.into();
        document["directories"] = self.directories_grid().to_json(&[])?.into();
        document["events"] = activity.events.into();
        document["lost"] = activity.lost.into();
        document["estimated"] = activity.estimated.into();
        document["hidden_processes"] = activity.hidden.into();
        document["no_events"] = json!(activity.no_events);
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        if !columns.is_empty() {
            return self.grid().print(columns);
        }
        let activity = &self.activity;
        say!("{:.0} s of {}", activity.seconds, Shown(&self.place));
        say!("{}", volume_words(activity, UnitStyle::Binary));
        if activity.writers.is_empty() && activity.directories.is_empty() {
            say!("nothing was seen to grow");
        } else {
            self.grid().print(&[])?;
            self.directories_grid().print(&[])?;
        }
        if let Some(rate) = activity.volume_rate
            && rate - activity.rate > activity.rate.max(65_536.0) * 0.2
        {
            let unseen = signed_bytes((rate - activity.rate) as i64, UnitStyle::Binary);
            say!("{unseen}/s of it was not seen");
        }
        for note in notes(activity) {
            say!("{note}");
        }
        if activity.events > 0 {
            let events = counted(activity.events, "event");
            say!(
                "{events} of the file system, known files grew by {}",
                binary(Bytes::new((activity.rate * activity.seconds) as u64))
            );
        }
        Ok(())
    }
}
