//! Depots, their archives, and what one archive holds.

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::archive::{AboutArchive, DepotError, StoredArchive};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::{Bytes, counted, grouped};
use serde_json::{Map, Value, json};

use super::Answer;
use super::cells::{binary, bytes, text};
use crate::output::{Grid, left, path_value, put_path, right, say};
use crate::words::dated;

/// A depot as it was found.
#[derive(Debug)]
pub struct FoundDepot {
    /// Directory that it is.
    pub path: PathBuf,
    /// Whether it has been made yet; if not, the first run that needs it makes it.
    pub is_made: bool,
    /// What can still be written there, if that is known.
    pub free: Option<Bytes>,
    /// The archives in it, or why they cannot be listed.
    pub archives: Result<Vec<FoundArchive>, DepotError>,
}

/// An archive as it was found.
#[derive(Debug)]
pub struct FoundArchive {
    /// Where it is, and how long.
    pub stored: StoredArchive,
    /// What it holds, or why that cannot be told.
    pub about: Result<AboutArchive, DepotError>,
}

impl From<StoredArchive> for FoundArchive {
    fn from(stored: StoredArchive) -> Self {
        Self { about: stored.about(), stored }
    }
}

/// Depots that are known.
#[derive(Debug)]
pub struct DepotsFound(pub Vec<FoundDepot>);

impl DepotsFound {
    /// Whether all of them can be listed, and every archive has its index.
    pub fn is_whole(&self) -> bool {
        let is_whole = |archives: &Vec<FoundArchive>| archives.iter().all(|one| one.about.is_ok());
        self.0.iter().all(|depot| depot.archives.as_ref().is_ok_and(is_whole))
    }

    fn archives(&self) -> impl Iterator<Item = &FoundArchive> {
        self.0.iter().filter_map(|depot| depot.archives.as_ref().ok()).flatten()
    }
}

impl Answer for DepotsFound {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "depots" })
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            left("created", "created"),
            right("length", "length"),
            right("contents", "contents"),
            right("entries", "entries"),
            left("machine", "machine"),
            left("archive", "archive"),
        ]);
        for archive in self.archives() {
            let about = archive.about.as_ref().ok();
            let none = || (String::new(), Value::Null);
            let path = Shown(&archive.stored.path).to_string();
            grid.row(vec![
                about.map_or_else(
                    || text("damaged"),
                    |about| (dated(&about.created), about.created.clone().into()),
                ),
                bytes(archive.stored.length),
                about.map_or_else(none, |about| bytes(about.contents)),
                about.map_or_else(none, |about| (grouped(about.entries), about.entries.into())),
                about.map_or_else(none, |about| text(shown(&about.machine))),
                (path, path_value(&archive.stored.path)),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let archive = |archive: &FoundArchive| {
            let mut one = Map::new();
            put_path(&mut one, &archive.stored.path);
            one.insert("length".into(), archive.stored.length.get().into());
            match &archive.about {
                Ok(about) => {
                    one.insert("created".into(), about.created.clone().into());
                    one.insert("machine".into(), about.machine.clone().into());
                    one.insert("targets".into(), about.targets.len().into());
                    one.insert("entries".into(), about.entries.into());
                    one.insert("contents".into(), about.contents.get().into());
                }
                Err(error) => {
                    one.insert("error".into(), error.to_string().into());
                }
            }
            Value::Object(one)
        };
        let depot = |depot: &FoundDepot| {
            let mut one = Map::new();
            put_path(&mut one, &depot.path);
            one.insert("free".into(), json!(depot.free.map(Bytes::get)));
            match &depot.archives {
                Ok(archives) => {
                    one.insert("archives".into(), archives.iter().map(archive).collect());
                }
                Err(error) => {
                    one.insert("error".into(), error.to_string().into());
                }
            }
            Value::Object(one)
        };
        let mut document = self.head();
        document["depots"] = self.0.iter().map(depot).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        if self.archives().next().is_some() || !columns.is_empty() {
            self.grid().print(columns)?;
        }
        for archive in self.archives() {
            if let Err(error) = &archive.about {
                say!("{}: {error}", Shown(&archive.stored.path));
            }
        }
        for depot in &self.0 {
            let path = Shown(&depot.path);
            match &depot.archives {
                Err(error) => {
                    say!("{path}: {error}");
                }
                Ok(_) if !depot.is_made => {
                    say!("{path}: not there yet, the first run that needs it makes it");
                }
                Ok(archives) => {
                    let sum: Bytes = archives.iter().map(|archive| archive.stored.length).sum();
                    let count = counted(archives.len() as u64, "archive");
                    let free = depot.free.map_or_else(
                        || "how much is free is not told".to_owned(),
                        |free| format!("{} free", binary(free)),
                    );
                    say!("{path}: {count}, {}; {free}", binary(sum));
                }
            }
        }
        Ok(())
    }
}

/// What an archive holds.
#[derive(Debug)]
pub struct ArchiveTargets {
    /// Path of the archive's file.
    pub path: PathBuf,
    /// What it holds.
    pub about: AboutArchive,
}

impl Answer for ArchiveTargets {
    fn head(&self) -> Value {
        let mut head = Map::new();
        head.insert("fondaco".into(), 1.into());
        head.insert("kind".into(), "archive".into());
        put_path(&mut head, &self.path);
        head.insert("created".into(), self.about.created.clone().into());
        head.insert("machine".into(), self.about.machine.clone().into());
        Value::Object(head)
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[right("action", "action"), left("original", "original")]);
        for (action, original) in &self.about.targets {
            grid.row(vec![
                (action.to_string(), (*action).into()),
                (Shown(original).to_string(), path_value(original)),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let target = |(action, original): &(u32, PathBuf)| json!({ "action": action, "original": path_value(original) });
        let mut document = self.head();
        document["targets"] = self.about.targets.iter().map(target).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        if columns.is_empty() {
            say!(
                "{}, {}, archived {} on {}",
                counted(self.about.entries, "entry"),
                binary(self.about.contents),
                dated(&self.about.created),
                shown(&self.about.machine)
            );
        }
        Ok(())
    }
}
