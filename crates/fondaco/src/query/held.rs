//! Deleted files that processes hold.

use anyhow::Result;
use fondaco_core::kernel::{DeletedFile, DeletedFiles, Hold, mounts};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::{Shown, shown};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, counted};
use serde_json::{Map, Value, json};

use super::Answer;
use super::cells::{binary, bytes, text};
use crate::output::{Grid, Lean, Table, left, path_value, put_path, right, say};

/// Deleted files, as they were found.
#[derive(Debug)]
pub struct Held {
    /// The files with what holds them.
    pub found: DeletedFiles,
    /// Names of users.
    pub state: State,
}

impl Answer for Held {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "held", "taken": self.found.taken.rfc3339() })
    }

    fn grid(&self) -> Grid {
        grid(&self.found.files)
    }

    fn document(&self) -> Result<Value> {
        Ok(document(&self.found, &self.state))
    }

    /// With who holds them; with columns, the table.
    fn print(&self, columns: &[String]) -> Result<()> {
        match columns.is_empty() {
            true => print(&self.found, &self.state, self.found.taken),
            false => self.grid().print(columns),
        }
    }
}

fn total(held: &DeletedFiles) -> Bytes {
    held.files.iter().filter_map(|file| file.allocated).sum()
}

fn document(held: &DeletedFiles, state: &dyn Accounts) -> Value {
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

fn holder(hold: &Hold, state: &dyn Accounts) -> Value {
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

fn print(held: &DeletedFiles, state: &dyn Accounts, now: Time) -> Result<()> {
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

/// Deleted files that processes hold.
fn grid(files: &[DeletedFile]) -> Grid {
    let mut grid = Grid::new(&[
        right("allocated", "held"),
        left("path", "path as it was"),
        left("holders", "held by"),
    ]);
    for file in files {
        let holder =
            |hold: &Hold| format!("{} ({})", shown(&hold.process.command), hold.process.pid);
        let holders: Vec<String> = file.holds.iter().map(holder).collect();
        grid.row(vec![
            file.allocated.map_or_else(|| ("not known".to_owned(), Value::Null), bytes),
            text(shown(&file.path)),
            text(holders.join(", ")),
        ]);
    }
    grid
}
