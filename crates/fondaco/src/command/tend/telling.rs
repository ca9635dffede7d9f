//! How an unattended run tells its steps: in the log, and on standard output.

use std::io::{self, IsTerminal, Write};

use anyhow::Result;
use fondaco_core::shown::safe_text;
use fondaco_core::unattended::{Grade, Step, Told, UnattendedRecord};
use fondaco_core::units::Time;
use serde_json::json;

use crate::output;
use crate::query::unattended_letter;

/// Tells steps and keeps them in the record.
pub(super) struct Telling {
    json: bool,
    /// Somebody looks on: steps are told as they come. A timer's mail should hold the report or nothing.
    live: bool,
    pub(super) record: UnattendedRecord,
}

impl Telling {
    pub(super) fn new(json: bool, record: UnattendedRecord) -> Self {
        Self { json, live: io::stdout().is_terminal(), record }
    }

    /// Tells what a step came to. Nothing in it can forge a line of the log or drive a terminal.
    pub(super) fn tell(&mut self, step: Step, grade: Grade, words: impl Into<String>) {
        let (words, at) = (safe_text(&words.into()), Time::now().rfc3339());
        let (number, word) = (self.record.number, step.word());
        match grade {
            Grade::Done => tracing::info!(unattended = number, step = word, "{words}"),
            Grade::Refused => tracing::warn!(unattended = number, step = word, "{words}"),
            Grade::Failed => tracing::error!(unattended = number, step = word, "{words}"),
        }
        let told = Told { step, at, words, grade };
        // the run does not depend on who reads this
        let _ = self.print(&told);
        self.record.steps.push(told);
    }

    fn print(&self, told: &Told) -> io::Result<()> {
        if self.json {
            let mut line = json!({"fondaco": 1, "kind": "step", "number": self.record.number});
            line["step"] = json!(told.step);
            line["at"] = told.at.clone().into();
            line["grade"] = json!(told.grade);
            line["words"] = told.words.clone().into();
            return output::json(&line);
        }
        match self.live {
            true => writeln!(io::stdout(), "{:<9}  {}", told.step.word(), told.words),
            false => Ok(()),
        }
    }

    /// Prints the report where nobody looked on, unless there is nothing in it to read.
    pub(super) fn finish(&self) -> Result<()> {
        let record = &self.record;
        let has_acted = record.run.is_some() || record.purged.actions > 0;
        if !self.json && !self.live && (has_acted || record.needs_a_reader()) {
            io::stdout().write_all(unattended_letter(record).to_text().as_bytes())?;
        }
        Ok(())
    }
}
