//! What lies in a directory.

use anyhow::Result;
use fondaco_chart::Chart;
use fondaco_core::catalog::{EntryId, Order, Ranking, Seen};
use fondaco_core::shown::{Shown, shown};
use fondaco_core::units::grouped;
use serde_json::{Map as Object, Value, json};

use super::cells::{binary, bytes, share, text};
use super::{Answer, Paper, Query, Subject, named};
use crate::output::{Grid, left, put_path, right, say};

/// The entries of a directory in an order.
#[derive(Clone, Copy, Debug)]
pub struct Directories {
    /// What they are ranked by.
    pub order: Order,
    /// So many are listed; the rest is summed.
    pub top: usize,
}

impl Directories {
    fn ask(self, of: Subject<'_>) -> Ranking {
        let mut ranking = of.seen.ranking(of.at, self.order, self.top);
        ranking.count_inodes_once(of.seen, of.at);
        ranking
    }
}

impl Query for Directories {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        Box::new(Found { of, ranking: self.ask(of), as_map: false })
    }
}

/// The same entries, drawn as areas within areas.
#[derive(Clone, Copy, Debug)]
pub struct Map(pub Directories);

impl Query for Map {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        Box::new(Found { of, ranking: self.0.ask(of), as_map: true })
    }
}

struct Found<'a> {
    of: Subject<'a>,
    ranking: Ranking,
    as_map: bool,
}

impl Answer for Found<'_> {
    fn head(&self) -> Value {
        self.of.head("directories")
    }

    fn grid(&self) -> Grid {
        grid(self.of.seen, self.of.at, &self.ranking)
    }

    fn document(&self) -> Result<Value> {
        let Subject { seen, at, .. } = self.of;
        let mut document = self.head();
        if let Some(document) = document.as_object_mut() {
            put_path(document, &self.of.catalog().path(at));
        }
        document["allocated"] = seen.allocated(at).get().into();
        document["children"] = self.ranking.rows.iter().map(|id| child(seen, *id)).collect();
        if self.ranking.tail.children > 0 {
            document["tail"] = json!(self.ranking.tail);
        }
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        let Subject { seen, at, .. } = self.of;
        say!("{}  {}", binary(seen.allocated(at)), Shown(self.of.catalog().path(at)));
        let plain =
            named(&["allocated", "share", "apparent", "exclusive", "entries", "newest", "name"]);
        self.grid().print(if columns.is_empty() { &plain } else { columns })?;
        if self.ranking.tail.children > 0 {
            let tail = self.ranking.tail;
            say!(
                "tail: {} more, {} entries, {}",
                grouped(tail.children),
                grouped(tail.entries),
                binary(tail.allocated)
            );
        }
        Ok(())
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        let Subject { seen, at, .. } = self.of;
        let context = self.of.context(paper);
        Some(match self.as_map {
            true => fondaco_chart::map(seen, at, &context),
            false => fondaco_chart::cascade(seen, at, paper.top, &context),
        })
    }
}

fn child(seen: Seen<'_>, id: EntryId) -> Value {
    let catalog = seen.catalog();
    let mut child = Object::new();
    let name = catalog.name(id);
    let text = name.to_str().map_or_else(|| shown(name), str::to_owned);
    child.insert("name".into(), text.into());
    put_path(&mut child, &catalog.path(id));
    child.insert("type".into(), catalog.kind(id).word().into());
    child.insert("allocated".into(), seen.allocated(id).get().into());
    child.insert("apparent".into(), seen.apparent(id).get().into());
    child.insert("exclusive".into(), seen.exclusive(id).get().into());
    child.insert("entries".into(), seen.entries(id).into());
    child.insert("newest".into(), seen.newest(id).rfc3339().into());
    Value::Object(child)
}

/// What lies in a directory.
fn grid(seen: Seen<'_>, at: EntryId, ranking: &Ranking) -> Grid {
    let (catalog, whole) = (seen.catalog(), seen.allocated(at));
    let mut grid = Grid::new(&[
        right("allocated", "allocated"),
        right("share", "share"),
        right("apparent", "apparent"),
        right("exclusive", "exclusive"),
        right("entries", "entries"),
        right("newest", "newest"),
        left("type", "type"),
        left("name", "name"),
        left("path", "path"),
    ]);
    for id in &ranking.rows {
        let slash = if catalog.is_directory(*id) { "/" } else { "" };
        let name = shown(catalog.name(*id));
        let newest = seen.newest(*id);
        grid.row(vec![
            bytes(seen.allocated(*id)),
            share(seen.allocated(*id), whole),
            bytes(seen.apparent(*id)),
            bytes(seen.exclusive(*id)),
            (grouped(seen.entries(*id)), seen.entries(*id).into()),
            (newest.age(catalog.now()).to_string(), newest.rfc3339().into()),
            text(catalog.kind(*id).word()),
            (format!("{name}{slash}"), name.into()),
            text(shown(catalog.path(*id))),
        ]);
    }
    grid
}
