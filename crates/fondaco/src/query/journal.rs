//! Runs of the journal, and the actions of one.

use std::io::Write;

use anyhow::Result;
use fondaco_core::carry_out::{EntryRecord, EntryState, RunRecord};
use fondaco_core::packed_list::{PackedList, Record};
use fondaco_core::plan::ToolTarget;
use fondaco_core::shown::shown;
use serde::Serialize;
use serde_json::{Map, Value, json};

use super::Answer;
use super::cells::{binary, bytes, text};
use crate::output::{
    Grid, Lean, Streamed, Table, WithActions, left, path_value, put_path, right, say, write_json,
};
use crate::words::{dated, measured_words};

/// All runs, newest first.
#[derive(Debug)]
pub struct Runs(pub Vec<RunRecord>);

impl Answer for Runs {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "journal" })
    }

    fn grid(&self) -> Grid {
        runs_grid(&self.0)
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        document["runs"] = self.0.iter().map(run_document).collect();
        Ok(document)
    }

    /// With how many actions came to what; with columns, the table.
    fn print(&self, columns: &[String]) -> Result<()> {
        if columns.is_empty() { print_runs(&self.0) } else { self.grid().print(columns) }
    }
}

/// A run with its actions.
#[derive(Debug)]
pub struct Actions {
    /// The run as the journal has it.
    pub run: RunRecord,
    /// The run's actions.
    pub entries: PackedList<EntryRecord>,
}

impl Answer for Actions {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "journal-run", "run": self.run.id })
    }

    fn grid(&self) -> Grid {
        actions_grid(&self.entries)
    }

    fn grids(&self) -> Box<dyn Iterator<Item = Grid> + '_> {
        // a run without actions has headings
        let parts = (0..self.entries.len().max(1)).step_by(PART);
        Box::new(parts.map(|first| actions_grid(self.entries.range(first..first + PART))))
    }

    fn write_document(&self, out: &mut dyn Write) -> Result<()> {
        Ok(write_json(&self.streamed(), out)?)
    }

    fn document(&self) -> Result<Value> {
        Ok(serde_json::to_value(self.streamed())?)
    }
}

/// So many rows of the table of actions are made together.
const PART: usize = 1000;

impl Actions {
    /// The document, of which the actions are made when they are written.
    fn streamed(&self) -> impl Serialize + '_ {
        let mut head = run_document(&self.run);
        head["fondaco"] = 1.into();
        head["kind"] = "journal-run".into();
        let document = |entry: Record<EntryRecord>| action_document(&entry);
        WithActions { head, actions: Streamed(move || self.entries.iter().map(document)) }
    }
}

fn run_document(run: &RunRecord) -> Value {
    let counts: Map<String, Value> =
        run.counts.iter().map(|(state, n)| (state.word().to_owned(), (*n).into())).collect();
    json!({
        "run": run.id,
        "plan": run.plan_id,
        "state": run.state.word(),
        "begun": run.begun,
        "ended": run.ended,
        "forecast": run.forecast,
        "measured": run.measured,
        "reasons": run.reasons,
        "counts": counts,
    })
}

/// The actions of a run as they stand, for programs.
pub fn action_document(entry: &EntryRecord) -> Value {
    let mut document = Map::new();
    document.insert("number".into(), entry.action.number.into());
    document.insert("action".into(), entry.action.deed.word().into());
    put_path(&mut document, entry.action.place());
    if let Some(ToolTarget::Packages(removal)) = entry.action.tool.as_deref() {
        document.insert("packages".into(), removal.removes.clone().into());
    }
    document.insert("state".into(), entry.state.word().into());
    document.insert("reason".into(), entry.action.reason.clone().into());
    document.insert("frees".into(), json!(entry.action.frees));
    document.insert("freed".into(), json!(entry.freed));
    document.insert("message".into(), entry.message.clone().into());
    document.insert("at".into(), entry.at.clone().into());
    let held = (entry.state == EntryState::Held).then_some(&entry.area).and_then(Option::as_ref);
    if let Some(area) = held {
        document.insert("held".into(), path_value(&area.join(entry.held_name())));
    }
    if let Some(archive) = &entry.archive {
        document.insert("archive".into(), path_value(archive));
    }
    if let Some(place) = entry.moved_to() {
        document.insert("moved".into(), path_value(&place));
    }
    Value::Object(document)
}

fn print_runs(runs: &[RunRecord]) -> Result<()> {
    use Lean::{Left, Right};
    if runs.is_empty() {
        say!("No run yet: the journal is empty.");
        return Ok(());
    }
    let mut table = Table::new(&[
        ("run", Right),
        ("begun", Left),
        ("state", Left),
        ("forecast", Right),
        ("measured", Right),
        ("actions", Left),
    ]);
    for run in runs {
        let counts: Vec<String> =
            run.counts.iter().map(|(state, n)| format!("{n} {}", state.word())).collect();
        table.row(vec![
            run.id.to_string(),
            dated(&run.begun),
            run.state.word().to_owned(),
            binary(run.forecast.now),
            measured_words(run.measured),
            counts.join(", "),
        ]);
    }
    Ok(table.print()?)
}

/// Runs of the journal.
fn runs_grid(runs: &[RunRecord]) -> Grid {
    let mut grid = Grid::new(&[
        right("run", "run"),
        left("begun", "begun"),
        left("state", "state"),
        right("actions", "actions"),
        right("refused", "refused"),
        right("failed", "failed"),
        right("held", "held"),
        right("forecast", "forecast"),
        right("measured", "measured"),
    ]);
    for run in runs {
        let count = |state| {
            let count = run.count(state);
            (count.to_string(), Value::from(count))
        };
        let all: u64 = run.counts.iter().map(|(_, count)| count).sum();
        let measured = run.measured;
        grid.row(vec![
            (run.id.to_string(), run.id.into()),
            text(run.begun.clone()),
            text(run.state.word()),
            (all.to_string(), all.into()),
            count(EntryState::Refused),
            count(EntryState::Failed),
            count(EntryState::Held),
            bytes(run.forecast.now),
            (
                measured.map_or_else(String::new, |m| m.to_string()),
                measured.map_or(Value::Null, Value::from),
            ),
        ]);
    }
    grid
}

/// The actions of a run.
fn actions_grid(entries: impl IntoIterator<Item = Record<EntryRecord>>) -> Grid {
    let mut grid = Grid::new(&[
        right("number", "no"),
        left("action", "action"),
        left("state", "state"),
        left("target", "target"),
        right("frees_now", "frees now"),
        right("frees_later", "later"),
        right("freed", "freed"),
        left("reason", "reason"),
        left("message", "message"),
        left("archive", "archive"),
        left("moved", "moved to"),
        left("at", "at"),
    ]);
    for entry in entries {
        let action = &entry.action;
        grid.row(vec![
            (action.number.to_string(), action.number.into()),
            text(action.deed.word()),
            text(entry.state.word()),
            text(shown(action.place())),
            bytes(action.frees.now),
            bytes(action.frees.later),
            bytes(entry.freed),
            text(shown(&action.reason)),
            text(shown(&entry.message)),
            text(entry.archive.as_ref().map_or_else(String::new, shown)),
            text(entry.moved_to().map_or_else(String::new, shown)),
            text(shown(&entry.at)),
        ]);
    }
    grid
}
