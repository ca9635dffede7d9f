//! `fondaco put-back`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::carry_out::{Returned, put_back};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::Time;
use serde_json::{Map, Value, json};

use super::Outcome;
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, put_path, say};

pub(super) fn run(arguments: &cli::PutBack, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let chosen = (!arguments.actions.is_empty()).then_some(&arguments.actions[..]);
    put_back_and_say(arguments.run, chosen, &state, arguments.json)
}

pub(super) fn put_back_and_say(
    run: i64,
    chosen: Option<&[u32]>,
    state: &State,
    json: bool,
) -> Result<Outcome> {
    let returned = put_back(run, chosen, state, Time::now())?;
    say_returned("put-back", run, &returned, json)
}

/// Says what became of actions that were put back or purged.
pub(super) fn say_returned(
    kind: &str,
    run: i64,
    returned: &Returned,
    json: bool,
) -> Result<Outcome> {
    if json {
        let done = returned.done.iter().map(|entry| (entry, None));
        let refused = returned.refused.iter().map(|(entry, why)| (entry, Some(why)));
        let actions: Vec<Value> = done
            .chain(refused)
            .map(|(entry, why)| {
                let mut document = Map::new();
                document.insert("number".into(), entry.action.number.into());
                put_path(&mut document, &entry.action.target.path.0);
                document.insert("state".into(), entry.state.word().into());
                document.insert("refused".into(), json!(why));
                Value::Object(document)
            })
            .collect();
        let freed = returned.freed;
        output::json(
            &json!({"fondaco": 1, "kind": kind, "run": run, "freed": freed, "actions": actions}),
        )?;
    } else {
        for entry in &returned.done {
            let target = Shown(&entry.action.target.path.0);
            say!("{:>5}  {:<9}  {target}", entry.action.number, entry.state.word());
        }
        for (entry, why) in &returned.refused {
            let target = Shown(&entry.action.target.path.0);
            say!("{:>5}  refused    {target}: {why}", entry.action.number);
        }
        match (returned.done.len(), returned.refused.len()) {
            (0, 0) if kind == "purge" => say!("run {run} holds nothing that could be purged"),
            (0, 0) => say!("nothing of run {run} can be put back"),
            (done, refused) => say!("{done} done, {refused} refused"),
        }
    }
    Ok(if returned.refused.is_empty() { Outcome::AllDone } else { Outcome::Refused })
}
