//! `fondaco journal`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::carry_out::{
    CarryOutError, Due, EntryRecord, Journal, RunRecord, due, finish, purge, settle,
};
use fondaco_core::packed_list::{PackedList, Record};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Time, counted};

use super::actions;
use super::carry_out::{How, line_of, run_and_say, settled_words};
use super::look::tell_answer;
use super::put_back::{put_back_and_say, say_returned};
use super::{Outcome, binary};
use crate::cli;
use crate::environment::open_state;
use crate::output::{say, tell};
use crate::query;
use crate::words::{dated, measured_words};

pub(super) fn run(arguments: &cli::Journal, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    for settled in settle(&state, Time::now())? {
        tell!("{}", settled_words(&settled));
    }
    if arguments.purge_due {
        return purge_due(arguments, &state);
    }
    let journal = Journal::open(&state.journal_file())?;
    let Some(id) = arguments.run else {
        tell_answer(&query::Runs(journal.runs()?), &arguments.form)?;
        drop(journal);
        let due: u64 = due(&state, Time::now())?.iter().map(|due| due.actions.len() as u64).sum();
        if due > 0 {
            tell!("{} due to be purged: fondaco journal --purge-due", counted(due, "held action"));
        }
        return Ok(Outcome::AllDone);
    };
    let run = journal.run(id)?.ok_or(CarryOutError::NoSuchRun(id))?;
    let how = How { json: arguments.form.json, all: arguments.all };
    if arguments.finish {
        drop(journal);
        run_and_say(&state, how, &|watch| finish(id, &state, &Time::now, watch))
    } else if arguments.undo {
        drop(journal);
        put_back_and_say(id, None, &state, how)
    } else if arguments.purge {
        drop(journal);
        let purged = purge(id, None, &state, Time::now())?;
        if !arguments.form.json && !purged.done.is_empty() {
            say!("freed {}", binary(purged.freed));
        }
        say_returned("purge", id, &purged, how)
    } else {
        let found = query::Actions { run, entries: journal.entries(id)? };
        match arguments.form.is_for_programs() || !arguments.form.columns.is_empty() {
            true => tell_answer(&found, &arguments.form)?,
            false => print_run(&found.run, &found.entries, arguments.all)?,
        }
        Ok(Outcome::AllDone)
    }
}

/// Purges what is due, run by run.
fn purge_due(arguments: &cli::Journal, state: &State) -> Result<Outcome> {
    let how = How { json: arguments.form.json, all: arguments.all };
    let mut outcome = Outcome::AllDone;
    let due = due(state, Time::now())?;
    if due.is_empty() {
        tell!("nothing that is held is due to be purged");
    }
    for Due { run, actions } in due {
        let purged = purge(run, Some(&actions), state, Time::now())?;
        if !how.json && !purged.done.is_empty() {
            say!("run {run}: freed {}", binary(purged.freed));
        }
        if say_returned("purge", run, &purged, How { json: how.json, all: how.all })?
            != Outcome::AllDone
        {
            outcome = Outcome::Refused;
        }
    }
    Ok(outcome)
}

fn print_run(run: &RunRecord, entries: &PackedList<EntryRecord>, all: bool) -> Result<()> {
    say!(
        "Run {} {}: begun {}, ended {}",
        run.id,
        run.state.word(),
        dated(&run.begun),
        run.ended.as_deref().map_or_else(|| "not yet".to_owned(), dated)
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
    let line = |entry: Record<EntryRecord>| {
        let mut line = line_of(&entry);
        line.notes.extend(entry.archive.as_ref().map(|archive| format!("in {}", Shown(archive))));
        line.notes.extend(entry.moved_to().map(|place| format!("at {}", Shown(&place))));
        line
    };
    actions::print(entries.len(), entries.iter().map(line), all)
}
