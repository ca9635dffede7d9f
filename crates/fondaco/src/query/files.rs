//! Files, however deep they lie.

use anyhow::Result;
use fondaco_core::analysis::{AgeBy, FileList, FileOrder, byte_years, first_files};
use fondaco_core::catalog::{Catalog, EntryId, Seen};
use fondaco_core::lens::Accounts;
use fondaco_core::shown::Shown;
use fondaco_core::units::{Age, Bytes, counted};
use serde_json::{Map, Value, json};

use super::cells::{binary, bytes, text, user};
use super::{Answer, Query, Subject};
use crate::output::{Grid, left, put_path, right, say};

/// The first files in an order.
#[derive(Clone, Copy, Debug)]
pub struct Files {
    /// Largest, oldest, or both multiplied.
    pub order: FileOrder,
    /// Which time says how old a file is.
    pub by: AgeBy,
    /// How many are listed.
    pub top: usize,
}

impl Files {
    /// Finds the files below a directory.
    pub fn ask(&self, seen: Seen<'_>, at: EntryId) -> FileList {
        first_files(seen, at, self.order, self.by, None, self.top)
    }
}

impl Query for Files {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        Box::new(Found { of, query: *self, list: self.ask(of.seen, of.at) })
    }
}

struct Found<'a> {
    of: Subject<'a>,
    query: Files,
    list: FileList,
}

impl Answer for Found<'_> {
    fn head(&self) -> Value {
        self.of.head("files")
    }

    fn grid(&self) -> Grid {
        grid(self.of.catalog(), &self.list.first, self.query.by, self.of.accounts)
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        document["order"] = json!(self.query.order);
        document["by"] = json!(self.query.by);
        document["whole"] = json!(self.list.whole);
        let file = |id: &EntryId| file(self.of, *id, self.query.by);
        document["files"] = self.list.first.iter().map(file).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        let allocated = |id: &EntryId| self.of.catalog().allocated(*id);
        let sum: Bytes = self.list.first.iter().map(allocated).sum();
        say!(
            "{} of {}, {} of {} on disk",
            self.list.first.len(),
            counted(self.list.whole.entries, "file"),
            binary(sum),
            binary(self.list.whole.allocated)
        );
        Ok(())
    }
}

fn file(of: Subject<'_>, id: EntryId, by: AgeBy) -> Value {
    let catalog = of.catalog();
    let mut file = Map::new();
    put_path(&mut file, &catalog.path(id));
    file.insert("type".into(), catalog.kind(id).word().into());
    file.insert("allocated".into(), catalog.allocated(id).get().into());
    file.insert("apparent".into(), catalog.apparent(id).get().into());
    for by in AgeBy::ALL {
        if let Some(time) = by.of(catalog, id) {
            let key = by.words().trim_start_matches("last ");
            file.insert(key.into(), time.rfc3339().into());
        }
    }
    file.insert("byte_years".into(), (weight(catalog, id, by).round() as u64).into());
    file.insert("owner".into(), user(of.accounts, catalog.owner(id).0).into());
    Value::Object(file)
}

/// Files, however deep they lie.
fn grid(catalog: &Catalog, found: &[EntryId], by: AgeBy, accounts: &dyn Accounts) -> Grid {
    let mut grid = Grid::new(&[
        right("allocated", "allocated"),
        right("written", "written"),
        right("read", "read"),
        right("byte_years", "byte-years"),
        left("owner", "owner"),
        left("path", "path"),
    ]);
    for id in found {
        let ago = |by: AgeBy| {
            let time = by.of(catalog, *id);
            let shown = time.map_or(Age::default(), |time| time.age(catalog.now())).to_string();
            (shown, time.map_or(Value::Null, |time| time.rfc3339().into()))
        };
        let weight = weight(catalog, *id, by);
        grid.row(vec![
            bytes(catalog.allocated(*id)),
            ago(AgeBy::Written),
            ago(AgeBy::Read),
            (format!("{} y", binary(Bytes::new(weight as u64))), (weight.round() as u64).into()),
            text(user(accounts, catalog.owner(*id).0)),
            text(Shown(catalog.path(*id)).to_string()),
        ]);
    }
    grid
}

/// Bytes on disk times years of age; nothing where no age is known.
pub fn weight(catalog: &Catalog, id: EntryId, by: AgeBy) -> f64 {
    byte_years(catalog.allocated(id), by.age(catalog, id).unwrap_or_default())
}
