//! `fondaco journal`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::carry_out::{
    CarryOutError, EntryRecord, EntryState, Journal, RunRecord, finish, purge, settle,
};
use fondaco_core::shown::Shown;
use fondaco_core::units::Time;
use serde_json::{Map, Value, json};

use super::carry_out::{measured_words, run_and_say, settled_words};
use super::look::written_as;
use super::put_back::{put_back_and_say, say_returned};
use super::{Outcome, binary};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, Lean, Table, path_value, put_path, say, tell};
use crate::tables;

pub(super) fn run(arguments: &cli::Journal, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    for settled in settle(&state, Time::now())? {
        tell!("{}", settled_words(&settled));
    }
    let journal = Journal::open(&state.journal_file())?;
    let Some(id) = arguments.run else {
        let runs = journal.runs()?;
        let around = json!({ "fondaco": 1, "kind": "journal" });
        if written_as(&tables::runs(&runs), &arguments.form, around)? {
            return Ok(Outcome::AllDone);
        }
        if arguments.form.json {
            let runs: Vec<Value> = runs.iter().map(run_document).collect();
            output::json(&json!({"fondaco": 1, "kind": "journal", "runs": runs}))?;
        } else {
            print_runs(&runs)?;
        }
        return Ok(Outcome::AllDone);
    };
    let run = journal.run(id)?.ok_or(CarryOutError::NoSuchRun(id))?;
    if arguments.finish {
        drop(journal);
        run_and_say(&state, arguments.form.json, &|watch| finish(id, &state, &Time::now, watch))
    } else if arguments.undo {
        drop(journal);
        put_back_and_say(id, None, &state, arguments.form.json)
    } else if arguments.purge {
        drop(journal);
        let purged = purge(id, None, &state, Time::now())?;
        if !arguments.form.json && !purged.done.is_empty() {
            say!("freed {}", binary(purged.freed));
        }
        say_returned("purge", id, &purged, arguments.form.json)
    } else {
        let entries = journal.entries(id)?;
        if arguments.form.json {
            let mut document = run_document(&run);
            document["fondaco"] = 1.into();
            document["kind"] = "journal-run".into();
            document["actions"] = entries_document(&entries);
            output::json(&document)?;
        } else {
            print_run(&run, &entries)?;
        }
        Ok(Outcome::AllDone)
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
pub(super) fn entries_document(entries: &[EntryRecord]) -> Value {
    let document = |entry: &EntryRecord| {
        let mut document = Map::new();
        document.insert("number".into(), entry.action.number.into());
        document.insert("action".into(), entry.action.deed.word().into());
        put_path(&mut document, entry.action.place());
        document.insert("state".into(), entry.state.word().into());
        document.insert("reason".into(), entry.action.reason.clone().into());
        document.insert("frees".into(), json!(entry.action.frees));
        document.insert("freed".into(), json!(entry.freed));
        document.insert("message".into(), entry.message.clone().into());
        document.insert("at".into(), entry.at.clone().into());
        let held =
            (entry.state == EntryState::Held).then_some(&entry.area).and_then(Option::as_ref);
        if let Some(area) = held {
            document.insert("held".into(), path_value(&area.join(entry.held_name())));
        }
        if let Some(archive) = &entry.archive {
            document.insert("archive".into(), path_value(archive));
        }
        Value::Object(document)
    };
    entries.iter().map(document).collect()
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
            run.begun.clone(),
            run.state.word().to_owned(),
            binary(run.forecast.now),
            measured_words(run.measured),
            counts.join(", "),
        ]);
    }
    Ok(table.print()?)
}

fn print_run(run: &RunRecord, entries: &[EntryRecord]) -> Result<()> {
    say!(
        "Run {} {}: begun {}, ended {}",
        run.id,
        run.state.word(),
        run.begun,
        run.ended.as_deref().unwrap_or("not yet")
    );
    say!(
        "forecast {} now and {} later; the volumes say {}",
        binary(run.forecast.now),
        binary(run.forecast.later),
        measured_words(run.measured)
    );
    for reason in &run.reasons {
        say!("of the difference: {reason}");
    }
    for entry in entries {
        let target = Shown(entry.action.place());
        say!(
            "{:>5}  {:<9}  {:>10}  {target}",
            entry.action.number,
            entry.state.word(),
            binary(entry.freed)
        );
        if !entry.message.is_empty() {
            say!("       {}", entry.message);
        }
        if let Some(archive) = &entry.archive {
            say!("       in {}", Shown(archive));
        }
    }
    Ok(())
}
