//! `fondaco carry-out`

use std::cell::RefCell;
use std::fs::File;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use fondaco_core::carry_out::{
    CarryOutError, EntryRecord, EntryState, Finding, Journal, Rehearsal, RunState, RunSummary,
    Settled, Watch, carry_out, rehearse,
};
use fondaco_core::kernel::effective_user;
use fondaco_core::packed_list::Record;
use fondaco_core::plan::{Action, Plan};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use serde::Serialize;
use serde_json::{Value, json};

use super::actions::{self, ActionLine};
use super::{Outcome, binary, watching};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, ProgressLine, Streamed, WithActions, say, tell};
use crate::query::action_document;
use crate::words::measured_words;

pub(super) fn run(arguments: &cli::CarryOut, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let file = &arguments.plan;
    let open = open_own(file).with_context(|| format!("cannot read the plan {}", Shown(file)))?;
    let plan = Plan::read(open).with_context(|| format!("{} cannot be used", Shown(file)))?;
    let volumes = plan.volumes();
    super::sample_levels(volumes.iter().map(|(path, _)| path.as_path()), &state);
    let form = How { json: arguments.json, all: arguments.all };
    super::plan::warn_of_disks(&plan, &state);
    if arguments.rehearse {
        run_rehearsal(&plan, &state, form)
    } else {
        run_plan(&plan, &state, form)
    }
}

/// How actions are told.
#[derive(Clone, Copy, Debug)]
pub(super) struct How {
    /// As JSON, which has all of them.
    pub(super) json: bool,
    /// Every one, however many there are.
    pub(super) all: bool,
}

/// Opens a file that nobody but this user or root can have written: what a plan says is done.
fn open_own(file: &Path) -> Result<File> {
    let open = File::open(file)?;
    let meta = open.metadata()?;
    if ![0, effective_user()].contains(&meta.uid()) || meta.mode() & 0o022 != 0 {
        bail!("others could have written it: it must belong to this user, with mode 600 or 644");
    }
    Ok(open)
}

fn run_rehearsal(plan: &Plan, state: &State, form: How) -> Result<Outcome> {
    let line = RefCell::new(ProgressLine::new());
    let rehearsal = rehearse(plan, state, Time::now(), &watching(&line))?;
    line.borrow().clear();
    if form.json {
        output::json(&rehearsal_document(plan, &rehearsal))?;
    } else {
        print_rehearsal(plan, &rehearsal, form.all)?;
    }
    Ok(if rehearsal.refused() > 0 || !rehearsal.warnings.is_empty() {
        Outcome::Refused
    } else {
        Outcome::AllDone
    })
}

fn print_rehearsal(plan: &Plan, rehearsal: &Rehearsal, all: bool) -> Result<()> {
    let line = |(action, finding): (Record<Action>, &Finding)| ActionLine {
        number: action.number,
        word: action.deed.word(),
        target: action.place().to_owned(),
        reason: action.reason.clone(),
        bytes: action.frees.now + action.frees.later,
        notes: vec![match &finding.refused {
            None => "would be done".to_owned(),
            Some(reason) => format!("would be refused: {reason}"),
        }],
        is_trouble: finding.refused.is_some(),
    };
    let lines = plan.actions.iter().zip(&rehearsal.findings).map(line);
    actions::print(lines.len(), lines, all)?;
    for warning in &rehearsal.warnings {
        say!("warning: {warning}");
    }
    say!(
        "Rehearsed, nothing changed: {} of {} actions would be done, freeing {} now and {} later",
        rehearsal.findings.len() - rehearsal.refused(),
        plan.actions.len(),
        binary(rehearsal.frees.now),
        binary(rehearsal.frees.later)
    );
    Ok(())
}

fn rehearsal_document(plan: &Plan, rehearsal: &Rehearsal) -> Value {
    let findings = rehearsal
        .findings
        .iter()
        .map(|finding| json!({"number": finding.number, "refused": finding.refused}));
    json!({
        "fondaco": 1,
        "kind": "rehearsal",
        "plan": plan.id,
        "findings": findings.collect::<Vec<_>>(),
        "frees": rehearsal.frees,
        "warnings": rehearsal.warnings,
    })
}

fn run_plan(plan: &Plan, state: &State, form: How) -> Result<Outcome> {
    run_and_say(state, form, &|watch| carry_out(plan, state, &Time::now, watch))
}

/// Carries something out and says what came of it; also for what is left of an earlier run.
pub(super) fn run_and_say(
    state: &State,
    form: How,
    act: &dyn Fn(&Watch<'_>) -> Result<RunSummary, CarryOutError>,
) -> Result<Outcome> {
    let line = RefCell::new(ProgressLine::new());
    let outcome = act(&watching(&line));
    line.borrow().clear();
    let summary = match outcome {
        Ok(summary) => summary,
        Err(error @ CarryOutError::AlreadyCarriedOut(run)) => {
            return Err(error).with_context(|| {
                format!(
                    "nothing was done; what run {run} left undone: fondaco journal {run} --finish"
                )
            });
        }
        Err(error) => return Err(error.into()),
    };
    for settled in &summary.settled {
        tell!("{}", settled_words(settled));
    }
    if form.json {
        output::json(&summary_document(&summary, state)?)?;
    } else {
        print_summary(&summary, form.all)?;
    }
    let failed = summary.count(EntryState::Failed) > 0 || summary.state == RunState::Stopped;
    Ok(if failed {
        Outcome::Failed
    } else if summary.count(EntryState::Refused) > 0 {
        Outcome::Refused
    } else {
        Outcome::AllDone
    })
}

/// What settling an earlier run came to, in words.
pub(super) fn settled_words(settled: &Settled) -> String {
    format!(
        "run {} had been cut off and is settled: {} finished, {} given their place back, \
         {} not begun, {} need a look; see fondaco journal {}",
        settled.run,
        settled.finished,
        settled.returned,
        settled.not_begun,
        settled.failed,
        settled.run
    )
}

/// An action of a run as a line.
pub(super) fn line_of(entry: &EntryRecord) -> ActionLine {
    let held = (entry.state == EntryState::Held).then_some(entry.action.target.allocated);
    ActionLine {
        number: entry.action.number,
        word: entry.state.word(),
        target: entry.action.place().to_owned(),
        reason: entry.action.reason.clone(),
        bytes: held.unwrap_or(entry.freed),
        notes: (!entry.message.is_empty())
            .then(|| entry.summary().to_owned())
            .into_iter()
            .collect(),
        is_trouble: !entry.state.is_done(),
    }
}

fn print_summary(summary: &RunSummary, all: bool) -> Result<()> {
    let lines = summary.entries.iter().map(|entry| line_of(&entry));
    actions::print(lines.len(), lines, all)?;
    let (mut archives, mut places) = (Vec::new(), Vec::new());
    for entry in &summary.entries {
        add_new(&mut archives, entry.archive.as_deref());
        if entry.state == EntryState::Moved {
            add_new(&mut places, entry.action.deed.destination());
        }
    }
    for archive in archives {
        say!("archive: {}", Shown(archive));
    }
    for place in places {
        say!("moved below: {}", Shown(place));
    }
    let count = |state| summary.count(state);
    let done: u64 =
        summary.counts.iter().filter(|(state, _)| state.is_done()).map(|(_, n)| n).sum();
    say!(
        "Run {} {}: {done} done, {} refused, {} failed, {} not begun",
        summary.run,
        summary.state.word(),
        count(EntryState::Refused),
        count(EntryState::Failed),
        count(EntryState::Waiting)
    );
    say!(
        "freed {}; forecast {} now and {} later; the volumes say {}",
        binary(summary.freed),
        binary(summary.forecast.now),
        binary(summary.forecast.later),
        measured_words(summary.measured)
    );
    for reason in &summary.reasons {
        say!("of the difference: {reason}");
    }
    let can_return: usize = EntryState::RETURNABLE.into_iter().map(count).sum();
    if can_return > 0 {
        say!("put {can_return} back: fondaco put-back {}", summary.run);
    }
    Ok(())
}

/// Adds a path if it is not the last one that was added.
fn add_new(paths: &mut Vec<PathBuf>, path: Option<&Path>) {
    let new = path.filter(|path| paths.last().is_none_or(|last| last != path));
    paths.extend(new.map(Path::to_owned));
}

fn summary_document<'a>(summary: &'a RunSummary, state: &State) -> Result<impl Serialize + 'a> {
    let record = Journal::open(&state.journal_file())?.run(summary.run)?;
    let head = json!({
        "fondaco": 1,
        "kind": "run",
        "run": summary.run,
        "plan": record.map(|record| record.plan_id),
        "state": summary.state.word(),
        "forecast": summary.forecast,
        "freed": summary.freed,
        "measured": summary.measured,
        "reasons": summary.reasons,
    });
    let actions = Streamed(|| summary.entries.iter().map(|entry| action_document(&entry)));
    Ok(WithActions { head, actions })
}
