//! `fondaco volumes`

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::history::{Forecast, History, Outlook};
use fondaco_core::kernel::Quota;
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Level, Time, UnitStyle};
use fondaco_core::volume::{Place, Volume, interfaces, volumes};
use serde_json::{Map, Value, json};

use super::Outcome;
use super::look::written_as;
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, path_value, put_path, say, tell};
use crate::tables;
use crate::words::{in_words, owner_name, quota_line, range};

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
    let history = sampled.map_err(|error| tell!("{error}")).ok();
    let outlook = |volume: &Volume| {
        let known = history.as_ref().and_then(|history| history.outlook(volume, now).ok());
        known.unwrap_or(Outlook::NotYet)
    };
    let known: Vec<(Volume, Outlook)> =
        volumes.into_iter().map(|volume| (outlook(&volume), volume)).map(|(o, v)| (v, o)).collect();
    let around = json!({ "fondaco": 1, "kind": "volumes", "asked": now.rfc3339() });
    let grid = tables::volumes(&known);
    if written_as(&grid, &arguments.form, around)? {
        return Ok(Outcome::AllDone);
    }
    if arguments.form.json {
        let documents: Vec<Value> = known.iter().map(|(v, o)| document(v, o, &state)).collect();
        output::json(&json!({
            "fondaco": 1,
            "kind": "volumes",
            "asked": now.rfc3339(),
            "volumes": documents,
            "kernel_interfaces": interfaces(),
        }))?;
    } else {
        grid.print(&arguments.form.columns)?;
        print_notes(&known, &state)?;
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

fn print_notes(volumes: &[(Volume, Outlook)], state: &State) -> Result<()> {
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
