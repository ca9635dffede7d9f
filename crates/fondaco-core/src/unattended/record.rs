//! What an unattended run came to, as it is kept in the state directory.

use std::fs::DirBuilder;
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::UnattendedError;
use crate::kernel::{CallError, Op, write_whole};
use crate::shown::{DocPath, safe_json_pretty};
use crate::state::State;
use crate::units::{Bytes, Level};

/// A step of an unattended run, in the order in which they are taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Step {
    /// Earlier runs that were cut off are finished or undone.
    Settle,
    /// How full the volumes are is kept in the history.
    Levels,
    /// The paths are scanned, and the scan is saved.
    Scan,
    /// The rules are tried on the scan.
    Try,
    /// What they take is reviewed and planned.
    Plan,
    /// The plan's checks are run, and nothing is changed.
    Rehearse,
    /// The plan is carried out.
    CarryOut,
    /// What has been set aside for long enough is removed.
    Purge,
    /// Saved scans that are no longer wanted are removed.
    Thin,
    /// Archives that have their turn are read back and compared.
    Verify,
    /// The report is kept.
    Report,
    /// Metrics and mail go out.
    Send,
}

impl Step {
    /// Its word in logs and documents.
    pub fn word(self) -> &'static str {
        match self {
            Self::Settle => "settle",
            Self::Levels => "levels",
            Self::Scan => "scan",
            Self::Try => "try",
            Self::Plan => "plan",
            Self::Rehearse => "rehearse",
            Self::CarryOut => "carry-out",
            Self::Purge => "purge",
            Self::Thin => "thin",
            Self::Verify => "verify",
            Self::Report => "report",
            Self::Send => "send",
        }
    }
}

/// How grave what is told of a step is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Grade {
    /// It went as it should.
    #[default]
    Done,
    /// A guard has left something alone, or a limit was reached: somebody should read it.
    Refused,
    /// Something went wrong.
    Failed,
}

/// What is told of a step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// Which step it is told of.
    pub step: Step,
    /// When, RFC 3339.
    pub at: String,
    /// In one sentence; nothing in it drives a terminal.
    pub words: String,
    /// How grave it is.
    #[serde(default)]
    pub grade: Grade,
}

/// A volume that the run was about, before and after it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct VolumeRecord {
    /// Its mount point.
    pub path: DocPath,
    /// The level that it should be below.
    pub waterline: Level,
    /// How full it was, if it answered.
    pub before: Option<Fill>,
    /// How full it is now, if it answered.
    pub after: Option<Fill>,
    /// In how many days it will be full, soonest and latest, if that can be told.
    pub full_in_days: Option<(u64, Option<u64>)>,
    /// Bytes a day by which it rises, if that can be told.
    pub rise_a_day: Option<i64>,
}

impl VolumeRecord {
    /// Whether it is above its waterline now, as far as is known.
    pub fn is_above(&self) -> bool {
        self.after.or(self.before).is_some_and(|fill| fill.level > self.waterline)
    }
}

/// How full a volume is at a moment.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Fill {
    /// Bytes in use.
    pub used: Bytes,
    /// Bytes that can still be written.
    pub free: Bytes,
    /// The level that is reckoned with.
    pub level: Level,
}

/// What one rule did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleRecord {
    /// Its title, in display form.
    pub title: String,
    /// What it does with what it takes.
    pub action: String,
    /// Why it did nothing, if it did not act.
    pub rests: Option<String>,
    /// What it would have taken was over its limit.
    pub over_limit: bool,
    /// Entries that it took.
    pub entries: u64,
    /// Their bytes on disk.
    pub allocated: Bytes,
    /// What keeps other matches back, with their number.
    pub held_back: Vec<(String, u64)>,
}

/// An action that was not done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Undone {
    /// What it was about.
    pub path: DocPath,
    /// The rule or whoever wanted it.
    pub reason: String,
    /// Why it was not done.
    pub why: String,
}

/// Actions that were not done: how many, and the first of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct UndoneList {
    /// How many there are.
    pub count: u64,
    /// The first ones.
    pub first: Vec<Undone>,
}

impl UndoneList {
    /// So many are kept in full; the journal has all.
    const KEPT: usize = 100;

    /// Counts one, and keeps it if it is among the first.
    pub fn add(&mut self, undone: impl FnOnce() -> Undone) {
        self.count += 1;
        if self.first.len() < Self::KEPT {
            self.first.push(undone());
        }
    }
}

/// The run that carried the plan out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CarriedOut {
    /// Its number in the journal.
    pub run: i64,
    /// How many of its actions were done.
    pub done: u64,
    /// Actions that it had not begun when its time was up.
    pub not_begun: u64,
    /// What the plan said it would free at once, and once what it set aside is purged.
    pub forecast: (Bytes, Bytes),
    /// What it freed, by the inodes that went.
    pub freed: Bytes,
    /// By how much the use of its volumes fell, as they say.
    pub measured: Option<i64>,
    /// Why the two differ, where that is known.
    pub reasons: Vec<String>,
}

/// What was purged.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Purged {
    /// Actions whose targets are gone for good.
    pub actions: u64,
    /// What that freed.
    pub freed: Bytes,
}

/// What has become of the mail of a run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MailState {
    /// None is to be sent.
    #[default]
    NotWanted,
    /// It could not be sent yet, and goes with that of the next run.
    Waits,
    /// A server or program has taken it.
    Sent,
}

/// An unattended run, whole.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct UnattendedRecord {
    /// Version of the form.
    pub fondaco: u32,
    /// The kind of document: always `unattended`.
    pub kind: String,
    /// Its number, from 1.
    pub number: u64,
    /// The machine's name, in display form.
    pub host: String,
    /// When it began, RFC 3339.
    pub begun: String,
    /// When it ended, RFC 3339; nothing while it is at work, or if it was cut off.
    pub ended: Option<String>,
    /// What was scanned.
    pub paths: Vec<DocPath>,
    /// The rule file, in display form.
    pub rules_file: String,
    /// The volumes that it was about.
    pub volumes: Vec<VolumeRecord>,
    /// What was done, step by step.
    pub steps: Vec<Told>,
    /// What each rule did.
    pub rules: Vec<RuleRecord>,
    /// The run that carried the plan out, if there was anything to do.
    pub run: Option<CarriedOut>,
    /// What guards have left alone.
    pub refused: UndoneList,
    /// What went wrong.
    pub failed: UndoneList,
    /// What was purged.
    pub purged: Purged,
    /// What has become of its mail.
    #[serde(default)]
    pub mail: MailState,
    /// What will be purged next, and when: how many actions, their bytes, RFC 3339.
    pub next_purge: Option<(u64, Bytes, String)>,
}

impl UnattendedRecord {
    /// How grave the gravest step was.
    pub fn grade(&self) -> Grade {
        self.steps.iter().map(|told| told.grade).max().unwrap_or_default()
    }

    /// Whether somebody should read it: something was refused or failed, or a volume is still above its waterline.
    pub fn needs_a_reader(&self) -> bool {
        self.grade() > Grade::Done || self.volumes.iter().any(VolumeRecord::is_above)
    }

    /// Bytes that the run has freed in all, what it purged included.
    pub fn freed(&self) -> Bytes {
        self.purged.freed + self.run.as_ref().map_or(Bytes::ZERO, |run| run.freed)
    }
}

/// Records of unattended runs that are kept, the number and file of each, oldest first.
///
/// # Errors
///
/// [`UnattendedError::Call`] if they cannot be listed.
pub fn records(state: &State) -> Result<Vec<(u64, PathBuf)>, UnattendedError> {
    let directory = state.reports_directory();
    let listed = match std::fs::read_dir(&directory) {
        Ok(listed) => listed,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(CallError::on(Op::Read, directory)(error).into()),
    };
    let mut found = Vec::new();
    for entry in listed {
        let path = entry.map_err(CallError::on(Op::Read, &directory))?.path();
        let is_record = path.extension().is_some_and(|ending| ending == "json");
        let number = path.file_stem().and_then(|stem| stem.to_str()?.parse().ok());
        found.extend(number.filter(|_| is_record).map(|number| (number, path)));
    }
    found.sort_unstable();
    Ok(found)
}

/// Reads a record.
///
/// # Errors
///
/// [`UnattendedError`] if it cannot be read or makes no sense.
pub fn read_record(path: &Path) -> Result<UnattendedRecord, UnattendedError> {
    let text = std::fs::read(path).map_err(CallError::on(Op::Read, path))?;
    serde_json::from_slice(&text)
        .map_err(|source| UnattendedError::Record { path: path.to_owned(), source })
}

/// So many records are kept.
const RECORDS_KEPT: usize = 400;

/// Keeps a record, written whole or not at all, and forgets the oldest beyond the number that is kept.
///
/// # Errors
///
/// [`UnattendedError`].
pub fn keep_record(state: &State, record: &UnattendedRecord) -> Result<PathBuf, UnattendedError> {
    let directory = state.reports_directory();
    let made = DirBuilder::new().recursive(true).mode(0o700).create(&directory);
    made.map_err(CallError::on(Op::Create, &directory))?;
    let path = directory.join(format!("{}.json", record.number));
    let mut text = safe_json_pretty(record).map_err(CallError::on(Op::Write, &path))?;
    text.push(b'\n');
    write_whole(&path, &text)?;
    let all = records(state)?;
    for (_, old) in &all[..all.len().saturating_sub(RECORDS_KEPT)] {
        match std::fs::remove_file(old) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                return Err(CallError::on(Op::Remove, old)(error).into());
            }
            _ => {}
        }
    }
    Ok(path)
}
