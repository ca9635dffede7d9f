//! `fondaco tend`: what a timer runs.
//!
//! The steps are those of [`Step`], each told in the log and, if asked for, as a line of JSON. Whatever fails, what the
//! run came to is kept and sent.

mod metrics;
mod steps;
mod telling;

use std::path::{Path, PathBuf};
use std::time::Instant;

use anyhow::Result;
use fondaco_core::kernel;
use fondaco_core::shown::{DocPath, Shown, shown};
use fondaco_core::state::{MailSettings, MailWhen, State};
use fondaco_core::unattended::{
    Fill, Grade, MailState, Step, UnattendedError, UnattendedLock, UnattendedRecord, VolumeRecord,
    keep_record, read_record, records,
};
use fondaco_core::units::{Age, Level, Time};
use fondaco_core::volume::{Volume, volume_of};

use self::telling::Telling;
use super::Outcome;
use crate::cli;
use crate::environment::open_state;
use crate::failure::Failure;
use crate::mail::Post;
use crate::output::{tell, usage};
use crate::query::unattended_letter;

pub(super) fn run(arguments: &cli::Tend, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let paths = paths_of(arguments, &state)?;
    let rules_file = arguments.rules.clone().unwrap_or_else(|| state.rules_file());
    if let Some(level) = arguments.when_above
        && !any_above(&paths, level, &state)
    {
        return Ok(Outcome::AllDone);
    }
    let _lock = match UnattendedLock::take(&state, Time::now()) {
        Ok(lock) => lock,
        Err(error @ UnattendedError::Busy(_)) => {
            tell!("{error}");
            return Ok(Outcome::Busy);
        }
        Err(error) => return Err(error.into()),
    };
    if !arguments.full_speed
        && let Err(error) = kernel::take_lowest_priority()
    {
        tell!("the priority stays as it is: {error}");
    }
    let before = records(&state)?;
    let number = before.last().map_or(1, |(number, _)| number + 1);
    let record = new_record(number, &paths, &rules_file, &state);
    let mut tending = Tending {
        state: &state,
        arguments,
        rules_file,
        paths,
        telling: Telling::new(arguments.json, record),
        deadline: arguments.at_most.and_then(|Age(most)| Instant::now().checked_add(most)),
    };
    tending.note_cut_off(before.last().map(|(_, path)| path.as_path()));
    // so that one that is cut off leaves a trace
    keep_record(&state, &tending.telling.record)?;
    tending.go_through();
    tending.end()
}

/// What is tended: what was said, or what the settings say.
fn paths_of(arguments: &cli::Tend, state: &State) -> Result<Vec<PathBuf>> {
    let said = if arguments.paths.is_empty() {
        &state.settings.unattended.paths
    } else {
        &arguments.paths
    };
    if said.is_empty() {
        let file = state.directory().join("settings.toml");
        usage!(
            "say what is tended: fondaco tend PATH, or in {} under [unattended]: paths = [\"/srv/seamark\"]",
            Shown(&file)
        );
    }
    let real = |path: &PathBuf| path.canonicalize().unwrap_or_else(|_| path.clone());
    Ok(said.iter().map(real).collect())
}

/// Whether one of the volumes of these paths is above a level. One that does not answer is none of them.
fn any_above(paths: &[PathBuf], level: Level, state: &State) -> bool {
    super::sample_levels(paths.iter().map(PathBuf::as_path), state);
    let volumes = paths.iter().filter_map(|path| volume_of(path, state));
    volumes.into_iter().any(|volume| volume.level().is_some_and(|at| at > level))
}

fn new_record(
    number: u64,
    paths: &[PathBuf],
    rules_file: &Path,
    state: &State,
) -> UnattendedRecord {
    let mut volumes: Vec<VolumeRecord> = Vec::new();
    for volume in paths.iter().filter_map(|path| volume_of(path, state)) {
        if volumes.iter().all(|known| known.path.0 != volume.mount_point) {
            volumes.push(VolumeRecord {
                path: DocPath(volume.mount_point.clone()),
                waterline: volume.waterline,
                before: fill_of(&volume),
                after: None,
                full_in_days: None,
                rise_a_day: None,
            });
        }
    }
    UnattendedRecord {
        fondaco: 1,
        kind: "unattended".to_owned(),
        number,
        host: shown(kernel::node_name()),
        begun: Time::now().rfc3339(),
        ended: None,
        paths: paths.iter().cloned().map(DocPath).collect(),
        rules_file: shown(rules_file),
        volumes,
        ..UnattendedRecord::default()
    }
}

/// How full a volume is, if it answered.
fn fill_of(volume: &Volume) -> Option<Fill> {
    let capacity = volume.capacity.as_ref().ok()?;
    let level = volume.level()?;
    Some(Fill { used: capacity.used, free: capacity.free(), level })
}

/// An unattended run at work.
struct Tending<'a> {
    state: &'a State,
    arguments: &'a cli::Tend,
    rules_file: PathBuf,
    paths: Vec<PathBuf>,
    telling: Telling,
    /// When it ends between two actions, whatever is left.
    deadline: Option<Instant>,
}

impl Tending<'_> {
    /// Tells of the run before this one, if it has not come to its end.
    fn note_cut_off(&mut self, last: Option<&Path>) {
        let Some(last) = last else { return };
        match read_record(last) {
            Ok(record) if record.ended.is_none() => {
                let (number, begun) = (record.number, &record.begun);
                let words = format!(
                    "unattended run {number}, begun {begun}, had been cut off; this one goes on"
                );
                self.telling.tell(Step::Settle, Grade::Done, words);
            }
            Ok(_) => {}
            Err(error) => self.telling.tell(Step::Settle, Grade::Failed, error.to_string()),
        }
    }

    fn time_is_up(&self) -> bool {
        super::stop_asked() || self.deadline.is_some_and(|deadline| Instant::now() >= deadline)
    }

    /// Why [`Tending::time_is_up`] says so.
    fn why_it_ends() -> &'static str {
        if super::stop_asked() { "it was asked to stop" } else { "its time was up" }
    }

    /// Keeps what it came to, sends it, and says how it ended.
    fn end(mut self) -> Result<Outcome> {
        self.note_levels_after();
        self.telling.record.ended = Some(Time::now().rfc3339());
        let number = self.telling.record.number;
        match keep_record(self.state, &self.telling.record) {
            Ok(_) => {
                let words = format!("kept as report {number}: fondaco report --run {number}");
                self.telling.tell(Step::Report, Grade::Done, words);
            }
            Err(error) => self.telling.tell(Step::Report, Grade::Failed, error.to_string()),
        }
        self.send();
        // what was told of sending is part of it too
        if let Err(error) = keep_record(self.state, &self.telling.record) {
            tell!("the report could not be kept: {error}");
        }
        self.telling.finish()?;
        Ok(match self.telling.record.grade() {
            Grade::Done => Outcome::AllDone,
            Grade::Refused => Outcome::Refused,
            Grade::Failed => Outcome::Failed,
        })
    }

    /// Metrics and mail. What cannot be sent is told and fails nothing but itself.
    fn send(&mut self) {
        let settings = &self.state.settings.unattended;
        if let Some(file) = self.arguments.metrics.as_ref().or(settings.metrics.as_ref()) {
            match metrics::write(&self.telling.record, file) {
                Ok(()) => {
                    let words = format!("metrics are in {}", Shown(file));
                    self.telling.tell(Step::Send, Grade::Done, words);
                }
                Err(error) => {
                    let why = Failure::with_causes(error.as_ref());
                    let words = format!("no metrics were written: {why}");
                    self.telling.tell(Step::Send, Grade::Refused, words);
                }
            }
        }
        if let Some(mail) = &settings.mail {
            self.send_mail(mail);
        }
    }

    /// Sends its own mail if it is wanted, after that of earlier runs which could not be sent. What cannot be sent waits for
    /// the next run.
    fn send_mail(&mut self, mail: &MailSettings) {
        let wanted = mail.when == MailWhen::Always || self.telling.record.needs_a_reader();
        let earlier = self.waiting();
        if !wanted && earlier.is_empty() {
            return;
        }
        let sent = Post::new(mail).and_then(|post| {
            for mut record in earlier {
                post.send(&unattended_letter(&record), mail)?;
                record.mail = MailState::Sent;
                keep_record(self.state, &record)?;
            }
            match wanted {
                true => post.send(&unattended_letter(&self.telling.record), mail),
                false => Ok(()),
            }
        });
        match sent {
            Ok(()) => {
                if wanted {
                    self.telling.record.mail = MailState::Sent;
                }
                let words = format!("mail went to {}", shown(mail.to.join(", ")));
                self.telling.tell(Step::Send, Grade::Done, words);
            }
            Err(error) => {
                if wanted {
                    self.telling.record.mail = MailState::Waits;
                }
                let why = Failure::with_causes(error.as_ref());
                let words = format!("no mail was sent, it goes with that of the next run: {why}");
                // a mail that cannot be sent does not fail the run
                self.telling.tell(Step::Send, Grade::Done, words);
            }
        }
    }

    /// Records of the last runs whose mail could not be sent.
    fn waiting(&mut self) -> Vec<UnattendedRecord> {
        const MOST: usize = 20;
        let number = self.telling.record.number;
        let all = match records(self.state) {
            Ok(all) => all,
            Err(error) => {
                self.telling.tell(Step::Send, Grade::Failed, error.to_string());
                return Vec::new();
            }
        };
        let mut waiting = Vec::new();
        for (_, path) in all.iter().rev().filter(|(other, _)| *other < number).take(MOST) {
            match read_record(path) {
                Ok(record) if record.mail == MailState::Waits => waiting.push(record),
                Ok(_) => {}
                Err(error) => self.telling.tell(Step::Send, Grade::Failed, error.to_string()),
            }
        }
        waiting.reverse();
        waiting
    }
}
