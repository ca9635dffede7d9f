//! `fondaco held`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::books::held_on;
use fondaco_core::kernel::{DeletedFile, DeletedFiles, Hold, mounts};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, counted};
use serde_json::{Map, Value, json};

use super::books::volume_at;
use super::look::written_as;
use super::{Outcome, binary};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, Lean, Table, path_value, put_path, say};
use crate::tables;

pub(super) fn run(arguments: &cli::Held, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let now = Time::now();
    let mut held = DeletedFiles::collect(now);
    if let Some(path) = &arguments.path {
        let volume = volume_at(path, &state)?;
        held.files = held_on(&volume, &held).into_iter().cloned().collect();
    }
    let around = json!({ "fondaco": 1, "kind": "held", "taken": held.taken.rfc3339() });
    if written_as(&tables::held(&held.files), &arguments.form, around)? {
        return Ok(Outcome::AllDone);
    }
    if arguments.form.json {
        output::json(&document(&held, &state))?;
    } else {
        print(&held, &state, now)?;
    }
    Ok(Outcome::AllDone)
}

fn total(held: &DeletedFiles) -> Bytes {
    held.files.iter().filter_map(|file| file.allocated).sum()
}

fn document(held: &DeletedFiles, state: &State) -> Value {
    let mounts = mounts().unwrap_or_default();
    let file = |file: &DeletedFile| {
        let mut one = Map::new();
        put_path(&mut one, &file.path);
        let volume = mounts.iter().rfind(|mount| mount.dev == file.volume);
        one.insert("volume".into(), json!(volume.map(|mount| path_value(&mount.mount_point))));
        one.insert("inode".into(), file.ino.into());
        one.insert("kind".into(), file.kind.word().into());
        one.insert("allocated".into(), json!(file.allocated));
        one.insert("size".into(), json!(file.allocated.map(|_| file.size)));
        one.insert("deleted_by".into(), json!(file.allocated.map(|_| file.changed.rfc3339())));
        one.insert("holders".into(), file.holds.iter().map(|hold| holder(hold, state)).collect());
        Value::Object(one)
    };
    json!({
        "fondaco": 1,
        "kind": "held",
        "taken": held.taken.rfc3339(),
        "allocated": total(held),
        "sure": if held.hidden == 0 { "exact" } else { "at-least" },
        "processes_not_seen": held.hidden,
        "files": held.files.iter().map(file).collect::<Vec<_>>(),
    })
}

fn holder(hold: &Hold, state: &State) -> Value {
    json!({
        "pid": hold.process.pid,
        "command": hold.process.command,
        "user": state.user_name(hold.process.user),
        "uid": hold.process.user,
        "since": hold.process.since().rfc3339(),
        "descriptors": hold.descriptors,
        "mapped": hold.mapped,
    })
}

fn print(held: &DeletedFiles, state: &State, now: Time) -> Result<()> {
    use Lean::{Left, Right};
    let mut table = Table::new(&[
        ("held", Right),
        ("deleted", Right),
        ("pid:fd", Right),
        ("running", Right),
        ("user", Left),
        ("command", Left),
        ("path as it was", Left),
    ]);
    for file in &held.files {
        for (i, hold) in file.holds.iter().enumerate() {
            let once = |text: String| if i == 0 { text } else { String::new() };
            let process = &hold.process;
            table.row(vec![
                once(file.allocated.map_or_else(|| "not known".to_owned(), binary)),
                once(
                    file.allocated.map_or_else(String::new, |_| file.changed.age(now).to_string()),
                ),
                match hold.descriptors.first() {
                    Some(fd) => format!("{}:{fd}", process.pid),
                    None => process.pid.to_string(),
                },
                process.since().age(now).to_string(),
                state.user_name(process.user).unwrap_or_else(|| process.user.to_string()),
                process.command.clone(),
                once(Shown(&file.path).to_string()),
            ]);
        }
    }
    if held.files.is_empty() {
        say!("No process that can be seen holds a deleted file.");
    } else {
        table.print()?;
        let files = counted(held.files.len() as u64, "file");
        say!("{files} without a name, {} on disk, each counted once", binary(total(held)));
    }
    if held.hidden > 0 {
        let processes = counted(held.hidden as u64, "process");
        say!("{processes} of other users could not be looked into: root sees them.");
    }
    Ok(())
}
