//! `fondaco books`

use std::path::{Path, PathBuf};

use anyhow::{Result, anyhow};
use fondaco_core::books::{Books, Figure, Item, Line, LineKind, Sure, books, settle_writes};
use fondaco_core::catalog::Catalog;
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::{Time, grouped};
use fondaco_core::volume::{Volume, volume_of};
use serde_json::{Map, Value, json};

use super::{Outcome, obtain};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, Lean, Table, put_path, say};

pub(super) fn run(arguments: &cli::Books, state: Option<PathBuf>) -> Result<Outcome> {
    let opened = open_state(state.clone())?;
    let volume = volume_at(&arguments.path, &opened)?;
    let walk = cli::Walk { saved: arguments.saved.clone(), ..cli::Walk::default() };
    if walk.saved.is_none() {
        settle_writes(&volume)?;
    }
    let catalog: Catalog = obtain(std::slice::from_ref(&volume.mount_point), &walk, state)?.catalog;
    // asked anew: the scan took its time
    let volume = volume_at(&arguments.path, &opened)?;
    let now = Time::now();
    let found = books(&volume, Some(&catalog), &DeletedFiles::collect(now), now)?;
    if arguments.json {
        output::json(&document(&found))?;
    } else {
        print(&found, arguments.open)?;
    }
    Ok(Outcome::AllDone)
}

/// The volume that holds a path.
pub(super) fn volume_at(path: &Path, state: &State) -> Result<Volume> {
    let real = path.canonicalize().map_err(|error| anyhow!("{}: {error}", Shown(path)))?;
    volume_of(&real, state).ok_or_else(|| anyhow!("no volume holds {}", Shown(&real)))
}

fn document(books: &Books) -> Value {
    let mut document = Map::new();
    document.insert("fondaco".into(), 1.into());
    document.insert("kind".into(), "books".into());
    document.insert("taken".into(), books.taken.rfc3339().into());
    document.insert("scanned".into(), json!(books.scanned.map(Time::rfc3339)));
    put_path(&mut document, &books.mount_point);
    document.insert("type".into(), books.fs_type.clone().into());
    document.insert("used".into(), books.used.get().into());
    document.insert("lines".into(), books.lines.iter().map(line).collect());
    document.insert("beside".into(), books.beside.iter().map(item).collect());
    document.insert("notes".into(), json!(books.notes));
    Value::Object(document)
}

fn line(line: &Line) -> Value {
    let Figure { bytes, sure } = line.figure;
    json!({
        "line": line.kind,
        "bytes": (sure != Sure::Unknown).then_some(bytes),
        "sure": sure,
        "count": line.kind.noun().map(|_| line.count),
        "items": line.items.iter().map(item).collect::<Vec<_>>(),
    })
}

fn item(item: &Item) -> Value {
    json!({"what": item.what, "bytes": item.bytes})
}

fn print(books: &Books, open: bool) -> Result<()> {
    say!("books of {} ({})", Shown(&books.mount_point), books.fs_type);
    let mut table =
        Table::new(&[("", Lean::Left), ("", Lean::Left), ("bytes", Lean::Right), ("", Lean::Left)]);
    for line in &books.lines {
        table.row(vec![
            line.kind.words().to_owned(),
            line.counted(),
            number(line.figure),
            worth(line).to_owned(),
        ]);
        for item in line.items.iter().filter(|_| open) {
            table.row(vec![format!("  {}", item.what), String::new(), bytes(item), String::new()]);
        }
    }
    let used = grouped(books.used.get());
    table.row(vec!["used, as the volume says".into(), String::new(), used, String::new()]);
    table.print()?;
    for item in &books.beside {
        say!("not part of it: {} {}", bytes(item), item.what);
    }
    for note in &books.notes {
        say!("{note}");
    }
    Ok(())
}

fn bytes(item: &Item) -> String {
    item.bytes.map_or_else(String::new, signed)
}

fn number(figure: Figure) -> String {
    match figure.sure {
        Sure::Unknown => "not known".to_owned(),
        _ => signed(figure.bytes),
    }
}

fn signed(bytes: i64) -> String {
    let sign = if bytes < 0 { "-" } else { "" };
    format!("{sign}{}", grouped(bytes.unsigned_abs()))
}

fn worth(line: &Line) -> &'static str {
    match (line.figure.sure, line.kind) {
        (Sure::AtMost, LineKind::Unreadable) => "at most, with what is unexplained",
        (Sure::AtMost, _) => "at most",
        (Sure::AtLeast, _) => "at least",
        (Sure::Exact | Sure::Unknown, _) => "",
    }
}
