//! Files of one name: which of them hold the same, and which are other versions.

use anyhow::Result;
use fondaco_core::catalog::EntryId;
use fondaco_core::duplicates::{Keep, SameName};
use fondaco_core::shown::Shown;
use fondaco_core::units::{counted, grouped};
use serde_json::{Map, Value, json};

use super::cells::{bytes, text};
use super::{Answer, Subject};
use crate::output::{Grid, left, put_path, right, say};

/// Names that several files have, with the copies of each version in the order in which they would stay.
pub struct SameNames<'a> {
    /// What was asked about.
    pub of: Subject<'a>,
    /// Those that hold most first.
    pub names: &'a [SameName],
    /// Which copies of a version stay.
    pub keep: &'a Keep,
    /// So many names are told.
    pub top: usize,
}

impl SameNames<'_> {
    fn shown(&self) -> impl Iterator<Item = &SameName> {
        self.names.iter().take(self.top)
    }
}

impl Answer for SameNames<'_> {
    fn head(&self) -> Value {
        self.of.head("same-names")
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            left("name", "name"),
            right("version", "version"),
            right("length", "length"),
            right("written", "written"),
            left("stays", ""),
            left("path", "path"),
        ]);
        let catalog = self.of.catalog();
        for one in self.shown() {
            for (number, version) in one.versions.iter().enumerate() {
                let arranged = self.keep.arrange(catalog, &version.set);
                for (place, copy) in arranged.copies.iter().enumerate() {
                    let first = place == 0;
                    let name = Shown(&one.name).to_string();
                    let shown = if first && number == 0 { name.clone() } else { String::new() };
                    let written = catalog.modified(*copy);
                    let stays = first && arranged.copies.len() > 1;
                    grid.row(vec![
                        (shown, name.into()),
                        ((number + 1).to_string(), (number + 1).into()),
                        bytes(arranged.length),
                        (written.age(catalog.now()).to_string(), written.rfc3339().into()),
                        ((if stays { "stays" } else { "" }).to_owned(), stays.into()),
                        text(Shown(catalog.path(*copy)).to_string()),
                    ]);
                }
            }
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let catalog = self.of.catalog();
        let mut document = self.head();
        let name = |one: &SameName| {
            let versions = one.versions.iter().map(|version| {
                let arranged = self.keep.arrange(catalog, &version.set);
                let several = arranged.copies.len() > 1;
                let copy = |(place, id): (usize, &EntryId)| {
                    let mut copy = Map::new();
                    put_path(&mut copy, &catalog.path(*id));
                    copy.insert("stays".into(), (place == 0).into());
                    if place == 0 && several {
                        copy.insert("why".into(), arranged.why.clone().into());
                    }
                    copy.insert("written".into(), catalog.modified(*id).rfc3339().into());
                    Value::Object(copy)
                };
                json!({
                    "length": arranged.length,
                    "relief": arranged.relief,
                    "copies": arranged.copies.iter().enumerate().map(copy).collect::<Value>(),
                })
            });
            json!({
                "name": Shown(&one.name).to_string(),
                "files": one.files(),
                "versions": versions.collect::<Value>(),
            })
        };
        document["names"] = self.shown().map(name).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        let count = self.names.len();
        if count > self.top {
            say!("… and {} more names", grouped((count - self.top) as u64));
        }
        let (equal, different): (Vec<_>, Vec<_>) =
            self.names.iter().partition(|one| one.versions.len() == 1);
        say!(
            "{} of several files: {} with the same contents, {} with different ones",
            counted(count as u64, "name"),
            grouped(equal.len() as u64),
            grouped(different.len() as u64)
        );
        Ok(())
    }
}
