//! `fondaco volumes`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::kernel::Capacity;
use fondaco_core::shown::Shown;
use fondaco_core::units::{Bytes, Level, Time};
use fondaco_core::volume::{Volume, volumes};
use serde_json::{Map, Value, json};

use super::{Outcome, binary};
use crate::environment::open_state;
use crate::output::{self, Lean, Table, path_value, put_path, say};

pub(super) fn run(as_json: bool, state: Option<PathBuf>) -> Result<Outcome> {
    let volumes = volumes(&open_state(state)?);
    if as_json {
        let documents: Vec<Value> = volumes.iter().map(document).collect();
        let asked = Time::now().rfc3339();
        output::json(
            &json!({"fondaco": 1, "kind": "volumes", "asked": asked, "volumes": documents}),
        )?;
    } else {
        print(&volumes)?;
    }
    Ok(Outcome::AllDone)
}

fn document(volume: &Volume) -> Value {
    let percent = |level: Level| (level.share() * 1000.0).round() / 10.0;
    let mut document = Map::new();
    put_path(&mut document, &volume.mount_point);
    document.insert("source".into(), path_value(&volume.source));
    document.insert("type".into(), volume.fs_type.clone().into());
    document.insert("class".into(), volume.class.word().into());
    document.insert("read_only".into(), volume.read_only.into());
    document.insert("waterline".into(), percent(volume.waterline).into());
    match &volume.capacity {
        Ok(capacity) => {
            document.insert("level".into(), percent(capacity.level()).into());
            document.insert("to_find".into(), volume.to_find(Bytes::ZERO).get().into());
            document.insert("inode_level".into(), json!(capacity.inode_level().map(percent)));
            document.insert("capacity".into(), json!(capacity));
        }
        Err(reason) => {
            document.insert("error".into(), reason.clone().into());
        }
    }
    Value::Object(document)
}

fn print(volumes: &[Volume]) -> Result<()> {
    use Lean::{Left, Right};
    let mut table = Table::new(&[
        ("level", Right),
        ("waterline", Right),
        ("to find", Right),
        ("used", Right),
        ("free to root", Right),
        ("to users", Right),
        ("inodes", Right),
        ("type", Left),
        ("class", Left),
        ("source", Left),
        ("mounted at", Left),
    ]);
    for volume in volumes {
        let capacity = volume.capacity.as_ref().ok();
        let of = |what: fn(&Capacity) -> String| capacity.map_or_else(|| "?".to_owned(), what);
        let to_find = volume.to_find(Bytes::ZERO);
        table.row(vec![
            of(|c| c.level().to_string()),
            volume.waterline.to_string(),
            if to_find == Bytes::ZERO { String::new() } else { binary(to_find) },
            of(|c| binary(c.used)),
            of(|c| binary(c.free_root)),
            of(|c| binary(c.free_users)),
            of(|c| c.inode_level().map_or(String::new(), |level| level.to_string())),
            volume.fs_type.clone(),
            volume.class.word().to_owned(),
            Shown(&volume.source).to_string(),
            Shown(&volume.mount_point).to_string(),
        ]);
    }
    table.print()?;
    for volume in volumes {
        if let Err(reason) = &volume.capacity {
            say!("{}: {reason}", Shown(&volume.mount_point));
        }
    }
    Ok(())
}
