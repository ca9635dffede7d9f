//! How volumes and directories moved over a time.

use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use anyhow::Result;
use fondaco_chart::{Chart, Context, TideMark, TidePoint};
use fondaco_core::carry_out::Journal;
use fondaco_core::history::{
    Growing, History, Outlook, PartSizes, PartSort, Sample, SizeThen, Tide,
};
use fondaco_core::kernel;
use fondaco_core::saved;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, UnitStyle, counted, grouped};
use fondaco_core::volume::Volume;
use serde_json::{Value, json};

use super::cells::{binary, bytes, text};
use super::{Answer, Paper};
use crate::output::{Grid, left, path_value, right, say};
use crate::words::{full_in, range, rise, signed_bytes};

/// Something that happened, at a moment of the tide.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mark {
    /// When it happened or was first seen.
    pub at: Time,
    /// What it was.
    pub what: MarkSort,
}

/// What is marked on the tide.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MarkSort {
    /// The level fell by so many bytes, and no run of this program did it.
    CleanUp(Bytes),
    /// A run of this program: its number, and what the volumes said that it freed.
    Run(i64, Option<i64>),
    /// A kept scan of the place: its number.
    Scan(u64),
}

impl Mark {
    /// In a few words.
    pub fn words(&self) -> String {
        match self.what {
            MarkSort::CleanUp(freed) => format!("clean-up, {} less", binary(freed)),
            MarkSort::Run(run, Some(freed)) => {
                format!("run {run}, {}", signed_bytes(-freed, UnitStyle::Binary))
            }
            MarkSort::Run(run, None) => format!("run {run}"),
            MarkSort::Scan(scan) => format!("scan {scan} kept"),
        }
    }
}

/// A volume, or a directory on one, over a time.
#[derive(Clone, Debug)]
pub struct VolumeHistory {
    /// The volume whose level is told.
    pub volume: Volume,
    /// The directory that was asked about: the mount point or something below it.
    pub place: PathBuf,
    /// How it moved.
    pub tide: Tide,
    /// What happened meanwhile, oldest first.
    pub marks: Vec<Mark>,
    /// The larger directories of the place with their sizes over time.
    pub directories: Vec<PartSizes>,
    /// When it was asked.
    pub asked: Time,
}

/// A run is taken for the cause of a fall that was seen within so many seconds after it.
const OF_RUN: i64 = 2 * 86_400;

impl VolumeHistory {
    /// Looks at the history of a volume since a moment.
    ///
    /// # Errors
    ///
    /// If the history, the kept scans or the journal cannot be read.
    pub fn look(
        state: &State,
        volume: Volume,
        place: &Path,
        since: Time,
        now: Time,
    ) -> Result<Self> {
        let history = History::open(&state.history_file())?;
        let tide = Tide::look(&history, &volume, Some(place), since, now)?;
        let directories = history.parts(place, PartSort::Directory, since)?;
        let mut marks = Vec::new();
        for scan in saved::list(state)? {
            if let Ok(about) = &scan.about
                && about.roots.iter().any(|root| place.starts_with(root))
            {
                marks.push(Mark { at: about.scanned, what: MarkSort::Scan(scan.number) });
            }
        }
        let runs = runs(state, &volume, since)?;
        for fall in &tide.falls {
            let of_run = |mark: &Mark| (fall.at.sec - OF_RUN..=fall.at.sec).contains(&mark.at.sec);
            if !runs.iter().any(of_run) {
                marks.push(Mark { at: fall.at, what: MarkSort::CleanUp(fall.freed) });
            }
        }
        marks.extend(runs);
        marks.retain(|mark| mark.at >= since);
        marks.sort_by_key(|mark| mark.at);
        Ok(Self { volume, place: place.to_owned(), tide, marks, directories, asked: now })
    }

    /// Whether the whole volume was asked about.
    fn is_whole(&self) -> bool {
        self.place == self.volume.mount_point
    }

    /// The sizes of a directory of the place over time, if it is large enough to be known.
    pub fn sizes_of(&self, directory: &Path) -> Option<&[SizeThen]> {
        let name = directory.as_os_str().as_bytes();
        let found = self.directories.iter().find(|part| part.name == name)?;
        Some(&found.sizes)
    }

    /// Where it is going, and how soon what grows fastest fills it alone.
    pub fn verdict(&self) -> String {
        let alone = self.fills_it().and_then(|growing| growing.fills_in);
        match alone {
            Some(days) => {
                let brief = self.brief_verdict();
                let brief = brief.trim_end_matches('.');
                format!("{brief} (alone full in {}).", crate::words::days(days))
            }
            None => self.brief_verdict(),
        }
    }

    /// Where it is going, in a line.
    pub fn brief_verdict(&self) -> String {
        let first = match &self.tide.outlook {
            Outlook::NotYet => {
                "There is no forecast yet: it takes four hours, or better four days, of levels"
                    .to_owned()
            }
            Outlook::Steady(trend) => format!(
                "It does not rise much: {} a day",
                signed_bytes(trend.rise as i64, UnitStyle::Binary)
            ),
            Outlook::Full(trend, forecast) => format!(
                "It rises by {} a day: full in {}",
                binary(Bytes::new(trend.rise as u64)),
                range(forecast)
            ),
        };
        let Some(growing) = self.fills_it() else { return format!("{first}.") };
        let path = growing.path.strip_prefix(&self.place).unwrap_or(&growing.path);
        let rise = binary(Bytes::new(growing.rise as u64));
        format!("{first}. Fastest: {}, {rise} a day.", Shown(path))
    }

    /// The directory that will fill it, if one grows.
    pub fn fills_it(&self) -> Option<&Growing> {
        self.tide.growing.first()
    }
}

/// The runs that changed something on a volume.
fn runs(state: &State, volume: &Volume, since: Time) -> Result<Vec<Mark>> {
    if !kernel::is_there(&state.journal_file())? {
        return Ok(Vec::new());
    }
    let journal = Journal::open(&state.journal_file())?;
    let mut marks = Vec::new();
    for run in journal.runs()? {
        let Some(at) = Time::of_rfc3339(&run.begun).filter(|at| *at >= since) else { continue };
        if journal.volumes_of(run.id)?.contains(&volume.mount_point) {
            marks.push(Mark { at, what: MarkSort::Run(run.id, run.measured) });
        }
    }
    Ok(marks)
}

fn percent(share: f64) -> (String, Value) {
    (format!("{:.1} %", share * 100.0), json!((share * 10_000.0).round() / 10_000.0))
}

impl Answer for VolumeHistory {
    fn head(&self) -> Value {
        json!({
            "fondaco": 1,
            "kind": "history",
            "asked": self.asked.rfc3339(),
            "of": path_value(&self.place),
            "volume": path_value(&self.volume.mount_point),
            "waterline": self.tide.waterline.share(),
        })
    }

    fn grid(&self) -> Grid {
        let mut columns = vec![
            left("day", "day"),
            right("level", "level"),
            right("used", "used"),
            right("change", "change"),
            right("inodes", "inodes"),
        ];
        let has_sizes = !self.tide.sizes.is_empty() && !self.is_whole();
        if has_sizes {
            columns.push(right("allocated", "directory"));
        }
        columns.push(left("marks", "what happened"));
        let mut grid = Grid::new(&columns);
        for (sample, more) in self.tide.days() {
            let day = sample.at.day();
            let marks = self.marks.iter().filter(|mark| mark.at.day() == day);
            let told = marks.filter(|mark| !matches!(mark.what, MarkSort::Scan(_)));
            let told: Vec<String> = told.map(Mark::words).collect();
            let mut row = vec![text(day), percent(sample.level()), bytes(sample.used)];
            row.push(more.map_or_else(
                || text(""),
                |more| (signed_bytes(more, UnitStyle::Binary), more.into()),
            ));
            row.push(sample.inode_level().map_or_else(|| text(""), percent));
            if has_sizes {
                row.push(self.tide.size_at(sample.at).map_or_else(|| text(""), bytes));
            }
            row.push(text(told.join("; ")));
            grid.row(row);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        let sample = |sample: &Sample| {
            json!({
                "at": sample.at.rfc3339(),
                "level": percent(sample.level()).1,
                "used": sample.used,
                "free": sample.free,
                "inodes_used": sample.inodes_used,
                "inodes": sample.inodes,
            })
        };
        document["trend"] = json!(self.tide.outlook.trend());
        document["full_in_days"] = match &self.tide.outlook {
            Outlook::Full(_, forecast) => json!(forecast),
            _ => Value::Null,
        };
        document["samples"] = self.tide.samples.iter().map(sample).collect();
        let mark = |mark: &Mark| {
            let mut one = json!({ "at": mark.at.rfc3339() });
            match mark.what {
                MarkSort::CleanUp(freed) => {
                    one["what"] = "clean-up".into();
                    one["freed"] = json!(freed);
                }
                MarkSort::Run(run, freed) => {
                    one["what"] = "run".into();
                    one["run"] = run.into();
                    one["freed"] = json!(freed);
                }
                MarkSort::Scan(scan) => {
                    one["what"] = "kept-scan".into();
                    one["scan"] = scan.into();
                }
            }
            one
        };
        document["marks"] = self.marks.iter().map(mark).collect();
        let growing = |growing: &Growing| {
            json!({
                "path": path_value(&growing.path),
                "allocated": growing.allocated,
                "rise": growing.rise.round(),
                "fills_in_days": growing.fills_in,
            })
        };
        document["growing"] = self.tide.growing.iter().map(growing).collect();
        document["sizes"] = self
            .tide
            .sizes
            .iter()
            .map(|size| {
                json!({
                    "at": size.at.rfc3339(),
                    "allocated": size.allocated,
                    "entries": size.entries,
                })
            })
            .collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        if !columns.is_empty() {
            return Ok(());
        }
        say!("{}", self.verdict());
        for growing in self.tide.growing.iter().take(GROWING) {
            say!(
                "  {:>12} a day  now {:>10}  {}",
                signed_bytes(growing.rise as i64, UnitStyle::Binary),
                binary(growing.allocated),
                Shown(&growing.path)
            );
        }
        let scans = self.marks.iter().filter(|mark| matches!(mark.what, MarkSort::Scan(_))).count();
        if self.tide.sizes.is_empty() {
            say!(
                "what grew here is not known: fondaco scan {} --save keeps a scan to compare with",
                Shown(&self.place)
            );
        } else {
            say!(
                "{} kept in which it is, its size is known at {}",
                counted(scans as u64, "scan"),
                counted(self.tide.sizes.len() as u64, "moment")
            );
        }
        Ok(())
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        let point = |sample: &Sample| TidePoint {
            at: sample.at.sec,
            level: sample.level(),
            inodes: sample.inode_level(),
        };
        let points: Vec<TidePoint> = self.tide.samples.iter().map(point).collect();
        let mark = |mark: &Mark| {
            let is_run = matches!(mark.what, MarkSort::Run(..));
            let told = !matches!(mark.what, MarkSort::Scan(_));
            told.then(|| TideMark { at: mark.at.sec, is_run, words: mark.words() })
        };
        let marks: Vec<TideMark> = self.marks.iter().filter_map(mark).collect();
        let (first, last) = self.tide.span()?;
        let ahead = ((last.sec - first.sec) as f64 / 86_400.0 / 4.0).max(1.0);
        let forecast = self.tide.forecast(ahead).map(|levels| (ahead, levels));
        let Paper { units, look, size, .. } = *paper;
        let context =
            Context { of: shown(&self.place), date: last.local(), lens: None, units, look, size };
        let waterline = self.tide.waterline.share();
        Some(fondaco_chart::tide(&points, &marks, forecast, waterline, &self.verdict(), &context))
    }
}

/// So many growing directories are told as text.
const GROWING: usize = 8;

/// All volumes, a line each.
#[derive(Debug)]
pub struct VolumesHistory {
    /// Each with how it moved.
    pub volumes: Vec<(Volume, Tide)>,
    /// When they were asked.
    pub asked: Time,
}

impl Answer for VolumesHistory {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "histories", "asked": self.asked.rfc3339() })
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            right("samples", "samples"),
            right("days", "days"),
            right("lowest", "lowest"),
            right("highest", "highest"),
            right("level", "now"),
            right("rise", "rise a day"),
            right("full_in", "full in"),
            right("clean_ups", "clean-ups"),
            left("mounted_at", "mounted at"),
        ]);
        for (volume, tide) in &self.volumes {
            let levels = || tide.samples.iter().map(Sample::level);
            let Some(now) = tide.last() else { continue };
            let days = tide.span().map_or(0.0, |(a, b)| (b.sec - a.sec) as f64 / 86_400.0);
            let trend = tide.outlook.trend().map(|trend| trend.rise.round());
            grid.row(vec![
                (tide.samples.len().to_string(), tide.samples.len().into()),
                (format!("{days:.1}"), json!((days * 10.0).round() / 10.0)),
                percent(levels().fold(1.0, f64::min)),
                percent(levels().fold(0.0, f64::max)),
                percent(now.level()),
                (rise(&tide.outlook, UnitStyle::Binary), trend.map_or(Value::Null, Value::from)),
                text(full_in(&tide.outlook)),
                (tide.falls.len().to_string(), tide.falls.len().into()),
                text(shown(&volume.mount_point)),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        document["volumes"] = self.grid().to_json(&[])?.into();
        Ok(document)
    }
}

/// What a store held each time that it was listed.
#[derive(Debug)]
pub struct SizesHistory {
    /// The address of the store, or of a part of it.
    pub place: PathBuf,
    /// What was listed, the oldest first.
    pub sizes: Vec<SizeThen>,
}

impl Answer for SizesHistory {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "sizes", "of": path_value(&self.place) })
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            left("at", "listed"),
            right("allocated", "allocated"),
            right("change", "change"),
            right("entries", "entries"),
        ]);
        let mut before = None;
        for size in &self.sizes {
            let now = size.allocated.get() as i64;
            let more = before.replace(now).map(|before| now - before);
            grid.row(vec![
                (size.at.local(), size.at.rfc3339().into()),
                bytes(size.allocated),
                more.map_or_else(
                    || text(""),
                    |more| (signed_bytes(more, UnitStyle::Binary), more.into()),
                ),
                (grouped(size.entries), size.entries.into()),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        document["sizes"] = self.grid().to_json(&[])?.into();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        if self.sizes.is_empty() {
            say!("no scan of it is kept: fondaco scan {} --save keeps one", Shown(&self.place));
            return Ok(());
        }
        self.grid().print(columns)
    }
}
