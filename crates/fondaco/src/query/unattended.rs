//! What an unattended run came to, as a letter.

use fondaco_chart::{Letter, Line};
use fondaco_core::shown::{Shown, safe_text};
use fondaco_core::unattended::{Fill, Grade, UnattendedRecord, UndoneList, VolumeRecord};
use fondaco_core::units::{Bytes, UnitStyle, counted, grouped};

use super::binary;
use crate::words::{dated, measured_words};

/// What the run came to, in one line: for the subject of a mail and the top of the report.
fn unattended_headline(record: &UnattendedRecord) -> String {
    let verdict = match record.grade() {
        Grade::Failed => "something failed",
        Grade::Refused => "something was left alone",
        Grade::Done if record.volumes.iter().any(VolumeRecord::is_above) => {
            "still above the waterline"
        }
        Grade::Done if record.run.is_none() && record.purged.actions == 0 => "nothing to do",
        Grade::Done => "all done",
    };
    let freed = match record.freed() {
        Bytes::ZERO => String::new(),
        freed => format!(", {} freed", binary(freed)),
    };
    let levels = record.volumes.iter().filter_map(|volume| {
        let fill = volume.after.or(volume.before)?;
        Some(format!(", {} at {}", Shown(&volume.path.0), fill.level))
    });
    safe_text(&format!("{}: {verdict}{freed}{}", record.host, levels.collect::<String>()))
}

/// The whole report, what matters most first.
pub fn unattended_letter(record: &UnattendedRecord) -> Letter {
    let mut writing = Writing(Letter { title: unattended_headline(record), ..Letter::default() });
    let ended = record.ended.as_deref().map_or_else(|| "not ended".to_owned(), dated);
    writing.line(&format!(
        "Unattended run {}, begun {}, ended {ended}, by {}",
        record.number,
        dated(&record.begun),
        record.rules_file
    ));
    let troubles = || record.steps.iter().filter(|told| told.grade > Grade::Done);
    if troubles().next().is_some() {
        writing.0.section("To be read");
    }
    for told in troubles() {
        writing.add(&format!("{}: {}", told.step.word(), told.words), false, true);
    }
    writing.volumes(record);
    writing.undone("Failed", &record.failed);
    writing.undone("Left alone", &record.refused);
    writing.rules(record);
    writing.run(record);
    writing.0.section("Steps");
    for told in &record.steps {
        let text = format!("{}  {}: {}", time_of_day(&told.at), told.step.word(), told.words);
        writing.add(&text, false, told.grade > Grade::Done);
    }
    writing.0
}

/// Hours, minutes and seconds of an RFC 3339 time.
fn time_of_day(at: &str) -> &str {
    at.get(11..19).unwrap_or(at)
}

struct Writing(Letter);

impl Writing {
    fn line(&mut self, text: &str) {
        self.add(text, false, false);
    }

    fn deeper(&mut self, text: &str) {
        self.add(text, true, false);
    }

    fn add(&mut self, text: &str, deeper: bool, trouble: bool) {
        self.0.line(Line { text: safe_text(text), deeper, trouble });
    }

    fn volumes(&mut self, record: &UnattendedRecord) {
        self.0.section("Volumes");
        let fill = |fill: Option<Fill>| match fill {
            Some(fill) => format!("{} ({} free)", fill.level, binary(fill.free)),
            None => "does not answer".to_owned(),
        };
        for volume in &record.volumes {
            let path = Shown(&volume.path.0);
            let (before, after) = (fill(volume.before), fill(volume.after));
            let above = if volume.is_above() { ", still above it" } else { "" };
            let waterline = volume.waterline;
            let text =
                format!("{path}: {before} before, {after} now; waterline {waterline}{above}");
            self.add(&text, false, volume.is_above());
            if let Some(rise) = volume.rise_a_day {
                self.deeper(&rise_words(rise, volume.full_in_days));
            }
        }
    }

    fn undone(&mut self, title: &str, list: &UndoneList) {
        if list.count == 0 {
            return;
        }
        self.0.section(format!("{title}: {}", grouped(list.count)));
        for undone in &list.first {
            self.line(&format!("{}: {} ({})", Shown(&undone.path.0), undone.why, undone.reason));
        }
        let more = list.count.saturating_sub(list.first.len() as u64);
        if more > 0 {
            self.line(&format!("and {} more: see the journal", grouped(more)));
        }
    }

    fn rules(&mut self, record: &UnattendedRecord) {
        if !record.rules.is_empty() {
            self.0.section("Rules");
        }
        for rule in &record.rules {
            let what = match &rule.rests {
                Some(why) if rule.over_limit => format!("nothing of it is done, {why}"),
                Some(why) => format!("rests: {why}"),
                None => {
                    let entries = counted(rule.entries, "entry");
                    format!("{} {entries}, {}", rule.action, binary(rule.allocated))
                }
            };
            self.add(&format!("{}: {what}", rule.title), false, rule.over_limit);
            for (by, count) in &rule.held_back {
                self.deeper(&format!("left out: {}, {by}", counted(*count, "entry")));
            }
        }
    }

    fn run(&mut self, record: &UnattendedRecord) {
        if let Some(run) = &record.run {
            self.0.section(format!("Carried out as run {}", run.run));
            self.line(&format!("{} done", counted(run.done, "action")));
            if run.not_begun > 0 {
                let left = grouped(run.not_begun);
                let text = format!("{left} not begun: fondaco journal {} --finish", run.run);
                self.add(&text, false, true);
            }
            self.line(&format!(
                "freed {}; forecast {} now and {} later; the volumes say {}",
                binary(run.freed),
                binary(run.forecast.0),
                binary(run.forecast.1),
                measured_words(run.measured)
            ));
            for reason in &run.reasons {
                self.deeper(&format!("of the difference: {reason}"));
            }
            self.line(&format!("to put it back: fondaco put-back {}", run.run));
        }
        if record.purged.actions > 0 || record.next_purge.is_some() {
            self.0.section("Held");
        }
        if record.purged.actions > 0 {
            let (count, freed) = (record.purged.actions, binary(record.purged.freed));
            self.line(&format!("purged: {}, {freed} freed", counted(count, "held action")));
        }
        if let Some((actions, bytes, at)) = &record.next_purge {
            self.line(&format!(
                "next: {}, {}, will be purged from {} on",
                counted(*actions, "held action"),
                binary(*bytes),
                dated(at)
            ));
        }
    }
}

/// How a volume rises, and when it will be full.
fn rise_words(rise: i64, full_in_days: Option<(u64, Option<u64>)>) -> String {
    let bytes = Bytes::new(rise.unsigned_abs()).shown(UnitStyle::Binary);
    let verb = if rise < 0 { "falls" } else { "rises" };
    let full = match full_in_days {
        None => String::new(),
        Some((soonest, Some(latest))) if latest != soonest => {
            format!(", full in {soonest} to {latest} days")
        }
        Some((soonest, _)) => format!(", full in {} or more", counted(soonest, "day")),
    };
    format!("{verb} by {bytes} a day{full}")
}
