//! `fondaco put-back`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::carry_out::{EntryRecord, Missing, Returned, put_back};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use serde::Serialize;
use serde_json::{Map, Value, json};

use super::Outcome;
use super::actions::{self, ActionLine};
use super::carry_out::{How, line_of};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, Streamed, WithActions, path_value, put_path, say};

pub(super) fn run(arguments: &cli::PutBack, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let chosen = (!arguments.actions.is_empty()).then_some(&arguments.actions[..]);
    let how = How { json: arguments.json, all: arguments.all };
    put_back_and_say(arguments.run, chosen, &state, how)
}

pub(super) fn put_back_and_say(
    run: i64,
    chosen: Option<&[u32]>,
    state: &State,
    how: How,
) -> Result<Outcome> {
    let returned = put_back(run, chosen, state, Time::now())?;
    say_returned("put-back", run, &returned, how)
}

/// Says what became of actions that were put back or purged.
pub(super) fn say_returned(kind: &str, run: i64, returned: &Returned, how: How) -> Result<Outcome> {
    if how.json {
        output::json(&returned_document(kind, run, returned))?;
    } else {
        print_returned(kind, run, returned, how.all)?;
    }
    Ok(if !returned.in_part.is_empty() {
        Outcome::Failed
    } else if !returned.refused.is_empty() {
        Outcome::Refused
    } else {
        Outcome::AllDone
    })
}

fn print_returned(kind: &str, run: i64, returned: &Returned, all: bool) -> Result<()> {
    let done = returned.done.iter().map(|entry| line_of(&entry));
    let refused = returned.refused.iter().map(|(entry, why)| ActionLine {
        word: "refused",
        notes: vec![why.clone()],
        is_trouble: true,
        ..line_of(entry)
    });
    let done = done.map(|line| ActionLine { is_trouble: false, notes: Vec::new(), ..line });
    let count = returned.done.len() + returned.refused.len();
    actions::print(count, done.chain(refused), all)?;
    for (entry, missing) in &returned.in_part {
        let target = &entry.action.target.path.0;
        let (number, state) = (entry.action.number, entry.state.word());
        say!("{number:>5}  {state}  {}: {}", Shown(target), entry.summary());
        if let Missing::Paths(paths) = missing {
            for path in paths {
                say!("       missing    {}", Shown(target.join(path)));
            }
        }
    }
    match (returned.done.len(), returned.in_part.len(), returned.refused.len()) {
        (0, 0, 0) if kind == "purge" => say!("run {run} holds nothing that could be purged"),
        (0, 0, 0) => say!("nothing of run {run} can be put back"),
        (done, 0, refused) => say!("{done} done, {refused} refused"),
        (done, part, refused) => say!("{done} done, {part} in part only, {refused} refused"),
    }
    Ok(())
}

fn returned_document<'a>(kind: &str, run: i64, returned: &'a Returned) -> impl Serialize + use<'a> {
    let actions = Streamed(|| {
        let done = returned.done.iter().map(|entry| returned_action(&entry, None, None));
        let in_part = returned.in_part.iter();
        let in_part = in_part.map(|(entry, missing)| returned_action(entry, Some(missing), None));
        let refused = returned.refused.iter();
        let refused = refused.map(|(entry, why)| returned_action(entry, None, Some(why)));
        done.chain(in_part).chain(refused)
    });
    let head = json!({"fondaco": 1, "kind": kind, "run": run, "freed": returned.freed});
    WithActions { head, actions }
}

fn returned_action(entry: &EntryRecord, missing: Option<&Missing>, why: Option<&String>) -> Value {
    let mut document = Map::new();
    document.insert("number".into(), entry.action.number.into());
    put_path(&mut document, &entry.action.target.path.0);
    document.insert("state".into(), entry.state.word().into());
    document.insert("refused".into(), json!(why));
    match missing {
        None => {}
        Some(Missing::NotKnown) => {
            document.insert("missing".into(), Value::Null);
        }
        Some(Missing::Paths(paths)) => {
            let paths = paths.iter().map(|path| path_value(path));
            document.insert("missing".into(), paths.collect());
        }
    }
    Value::Object(document)
}
