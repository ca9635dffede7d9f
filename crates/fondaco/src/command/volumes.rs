//! `fondaco volumes`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::history::{Forecast, History, Outlook};
use fondaco_core::kernel::{Capacity, Quota};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Level, Time, UnitStyle};
use fondaco_core::volume::{Place, Volume, interfaces, volumes};
use serde_json::{Map, Value, json};

use super::{Outcome, binary};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, Lean, Table, path_value, put_path, say};
use crate::words::{full_in, in_words, owner_name, quota_line, range, rise};

pub(super) fn run(arguments: &cli::Volumes, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let now = Time::now();
    let volumes = volumes(&state);
    let sampled = History::open(&state.history_file())
        .and_then(|mut history| history.sample(&volumes, now).map(|_| history));
    if arguments.sample {
        sampled?;
        return Ok(Outcome::AllDone);
    }
    // without a history the levels are still worth telling
    let history = sampled.map_err(|error| eprintln!("fondaco: {error}")).ok();
    let outlook = |volume: &Volume| {
        let known = history.as_ref().and_then(|history| history.outlook(volume, now).ok());
        known.unwrap_or(Outlook::NotYet)
    };
    let known: Vec<(Volume, Outlook)> =
        volumes.into_iter().map(|volume| (outlook(&volume), volume)).map(|(o, v)| (v, o)).collect();
    if arguments.json {
        let documents: Vec<Value> = known.iter().map(|(v, o)| document(v, o, &state)).collect();
        output::json(&json!({
            "fondaco": 1,
            "kind": "volumes",
            "asked": now.rfc3339(),
            "volumes": documents,
            "kernel_interfaces": interfaces(),
        }))?;
    } else {
        print(&known, &state)?;
    }
    Ok(Outcome::AllDone)
}

fn document(volume: &Volume, outlook: &Outlook, state: &State) -> Value {
    let percent = |level: Level| (level.share() * 1000.0).round() / 10.0;
    let mut document = Map::new();
    put_path(&mut document, &volume.mount_point);
    document.insert("source".into(), path_value(&volume.source));
    document.insert("type".into(), volume.fs_type.clone().into());
    document.insert("class".into(), volume.class.word().into());
    document.insert("read_only".into(), volume.read_only.into());
    document.insert("removable".into(), volume.removable.into());
    document.insert("root".into(), path_value(&volume.root));
    document.insert("also_mounted".into(), volume.also.iter().map(place).collect());
    document.insert("waterline".into(), percent(volume.waterline).into());
    match &volume.capacity {
        Ok(capacity) => {
            document.insert("level".into(), percent(capacity.level()).into());
            document.insert("to_find".into(), volume.to_find(Bytes::ZERO).get().into());
            document.insert("inode_level".into(), json!(capacity.inode_level().map(percent)));
            document.insert("short_of_inodes".into(), volume.short_of_inodes().into());
            document.insert("capacity".into(), json!(capacity));
            document.insert("trend".into(), json!(outlook.trend()));
            document.insert("full_in_days".into(), json!(forecast(outlook)));
            let quotas = volume.quotas.iter().map(|quota| quota_document(quota, state));
            document.insert("quotas".into(), quotas.collect());
        }
        Err(reason) => {
            document.insert("error".into(), reason.clone().into());
        }
    }
    Value::Object(document)
}

fn place(place: &Place) -> Value {
    json!({
        "path": path_value(&place.mount_point),
        "root": path_value(&place.root),
        "read_only": place.read_only,
    })
}

fn forecast(outlook: &Outlook) -> Option<Forecast> {
    match outlook {
        Outlook::Full(_, forecast) => Some(*forecast),
        _ => None,
    }
}

fn quota_document(quota: &Quota, state: &State) -> Value {
    let percent = |level: Level| (level.share() * 1000.0).round() / 10.0;
    let mut document = json!(quota);
    document["name"] = json!(owner_name(quota, state));
    document["level"] = json!(quota.level().map(percent));
    document["inode_level"] = json!(quota.inode_level().map(percent));
    document
}

fn print(volumes: &[(Volume, Outlook)], state: &State) -> Result<()> {
    use Lean::{Left, Right};
    let mut table = Table::new(&[
        ("level", Right),
        ("waterline", Right),
        ("to find", Right),
        ("used", Right),
        ("free to root", Right),
        ("to users", Right),
        ("inodes", Right),
        ("rise a day", Right),
        ("full in", Right),
        ("type", Left),
        ("class", Left),
        ("source", Left),
        ("mounted at", Left),
    ]);
    for (volume, outlook) in volumes {
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
            inodes(volume),
            rise(outlook, UnitStyle::Binary),
            full_in(outlook),
            volume.fs_type.clone(),
            sort(volume),
            Shown(&volume.source).to_string(),
            Shown(&volume.mount_point).to_string(),
        ]);
    }
    table.print()?;
    for (volume, outlook) in volumes {
        let at = Shown(&volume.mount_point);
        if let Err(reason) = &volume.capacity {
            say!("{at}: {reason}");
        }
        for place in &volume.also {
            say!("{at}: also at {}, the same space", in_words(place));
        }
        for quota in &volume.quotas {
            say!("{at}: {}", quota_line(quota, state, UnitStyle::Binary));
        }
        if let Outlook::Full(_, forecast) = outlook {
            say!("{at}: full in {}", range(forecast));
        }
    }
    say!("{} of the kernel's own file systems, which hold no data, are not listed", interfaces());
    Ok(())
}

fn inodes(volume: &Volume) -> String {
    let level = volume.capacity.as_ref().ok().and_then(Capacity::inode_level);
    let warning = if volume.short_of_inodes() { "! " } else { "" };
    level.map_or_else(String::new, |level| format!("{warning}{level}"))
}

fn sort(volume: &Volume) -> String {
    let more = [(volume.removable, ", removable"), (volume.read_only, ", read-only")];
    let more: String = more.iter().filter(|(is, _)| *is).map(|(_, word)| *word).collect();
    format!("{}{more}", volume.class.word())
}
