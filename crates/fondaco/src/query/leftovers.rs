//! What nobody may need, in groups.

use std::sync::Arc;

use anyhow::Result;
use fondaco_core::catalog::Catalog;
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::leftovers::{Found, FoundGroup, Leftover, Sum, What};
use fondaco_core::shown::Shown;
use fondaco_core::units::{counted, grouped};
use serde_json::{Map, Value, json};

use super::cells::{binary, bytes, text};
use super::{Answer, Query, Subject};
use crate::output::{Grid, left, put_path, right, say};

/// Leftovers of a scan.
pub struct Leftovers<'a> {
    /// What was asked about.
    pub of: Subject<'a>,
    /// What was found.
    pub found: Arc<Found>,
    /// Deleted files that processes hold; items of their group lead here.
    pub held: DeletedFiles,
    /// So many leftovers of each group are told to people.
    pub top: usize,
    /// People see the leftovers of each group, and not only the groups.
    pub with_items: bool,
}

/// The name that people know a leftover by.
fn name_of(
    of: &Leftover,
    path: impl Fn(fondaco_core::catalog::EntryId) -> std::path::PathBuf,
    held: &DeletedFiles,
) -> String {
    match &of.what {
        What::Package(removal) => removal.packages.join(", "),
        What::Held(place) => {
            held.files.get(*place).map_or_else(String::new, |file| Shown(&file.path).to_string())
        }
        What::Entry(_) | What::Entries(_) => {
            of.id().map_or_else(String::new, |id| Shown(path(id)).to_string())
        }
    }
}

/// The name that people know a leftover of a scan by, if it is none that a process holds.
pub fn name_of_whole(catalog: &Catalog, item: &Leftover) -> String {
    name_of(item, |id| catalog.path(id), &DeletedFiles::default())
}

impl Leftovers<'_> {
    fn name(&self, item: &Leftover) -> String {
        let catalog = self.of.catalog();
        name_of(item, |id| catalog.path(id), &self.held)
    }

    fn item(&self, item: &Leftover) -> Value {
        let catalog = self.of.catalog();
        let mut one = Map::new();
        match &item.what {
            What::Package(removal) => {
                one.insert("packages".into(), removal.packages.clone().into());
            }
            What::Held(place) => {
                if let Some(file) = self.held.files.get(*place) {
                    put_path(&mut one, &file.path);
                }
            }
            What::Entry(_) | What::Entries(_) => {
                if let Some(id) = item.id() {
                    put_path(&mut one, &catalog.path(id));
                }
            }
        }
        if let What::Entries(ids) = &item.what {
            let with = ids[1..].iter().map(|id| crate::output::path_value(&catalog.path(*id)));
            one.insert("with".into(), with.collect());
        }
        one.insert("allocated".into(), json!(item.allocated));
        one.insert("entries".into(), item.entries.into());
        one.insert("since".into(), item.since.rfc3339().into());
        one.insert("note".into(), (&*item.note).into());
        if let Some(stays) = &item.stays {
            one.insert("stays".into(), (&**stays).into());
        }
        Value::Object(one)
    }

    fn group(&self, found: &FoundGroup) -> Value {
        let group = found.group();
        let mut one = json!({
            "group": group.key,
            "title": group.title,
            "what": group.what,
            "for": group.speaks_for,
            "against": group.against,
            "sure": group.sure.words(),
            "allocated": found.goes.allocated,
            "entries": found.goes.entries,
            "stays": sum(found.stays),
            "items": found.items.iter().map(|item| self.item(item)).collect::<Value>(),
        });
        if !found.troubles.is_empty() {
            one["troubles"] = found.troubles.clone().into();
        }
        one
    }
}

fn sum(sum: Sum) -> Value {
    json!({ "items": sum.items, "entries": sum.entries, "allocated": sum.allocated })
}

impl Answer for Leftovers<'_> {
    fn head(&self) -> Value {
        self.of.head("leftovers")
    }

    /// One row for each leftover.
    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            left("group", "group"),
            right("allocated", "allocated"),
            right("entries", "entries"),
            right("since", "since"),
            left("stays", "stays because"),
            left("note", "note"),
            left("path", "what"),
        ]);
        let now = self.of.catalog().now();
        for found in &self.found.groups {
            for item in &found.items {
                let since = item.since;
                grid.row(vec![
                    text(found.group().key),
                    bytes(item.allocated),
                    (grouped(item.entries), item.entries.into()),
                    (since.age(now).to_string(), since.rfc3339().into()),
                    text(item.stays.as_deref().unwrap_or_default()),
                    text(&*item.note),
                    text(self.name(item)),
                ]);
            }
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let mut document = self.head();
        document["groups"] = self.found.groups.iter().map(|group| self.group(group)).collect();
        document["total"] = sum(self.found.total);
        document["in_several_groups"] = json!(self.found.twice);
        if let Some(why) = &self.found.not_looked_closer {
            document["not_looked_closer"] = why.as_str().into();
        }
        Ok(document)
    }

    /// The groups, and what lies in them.
    fn print(&self, columns: &[String]) -> Result<()> {
        if !columns.is_empty() {
            return self.grid().print(columns);
        }
        let mut table = Grid::new(&[
            left("group", "group"),
            right("allocated", "allocated"),
            right("leftovers", "leftovers"),
            right("stay", "stay"),
            left("sure", "how sure"),
        ]);
        for found in &self.found.groups {
            let counted = if found.group().can_go() { found.goes } else { found.stays };
            let stay = if found.group().can_go() { found.stays.items } else { 0 };
            table.row(vec![
                text(found.group().key),
                bytes(counted.allocated),
                (grouped(counted.items), counted.items.into()),
                ((if stay == 0 { String::new() } else { grouped(stay) }), stay.into()),
                text(if found.group().can_go() { found.group().sure.words() } else { "only told" }),
            ]);
        }
        table.print(&[])?;
        if self.with_items {
            for found in &self.found.groups {
                self.print_items(found)?;
            }
        }
        let total = self.found.total;
        say!("{} in {} that may go", binary(total.allocated), counted(total.items, "leftover"));
        if self.found.twice.get() > 0 {
            say!("{} are in more than one group, and counted once here", binary(self.found.twice));
        }
        if let Some(why) = &self.found.not_looked_closer {
            say!("Told by the scan alone, without a closer look: {why}");
        }
        Ok(())
    }
}

/// Leftovers that have been found, to be told with the scan that they are of.
#[derive(Debug)]
pub struct FoundLeftovers {
    /// What was found.
    pub found: Arc<Found>,
    /// Deleted files that processes hold.
    pub held: DeletedFiles,
}

impl Query for FoundLeftovers {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        Box::new(Leftovers {
            of,
            found: Arc::clone(&self.found),
            held: self.held.clone(),
            top: usize::MAX,
            with_items: true,
        })
    }
}

impl Leftovers<'_> {
    fn print_items(&self, found: &FoundGroup) -> Result<()> {
        let group = found.group();
        say!("");
        say!("{}: {}", group.title, group.what);
        say!("  for: {}; against: {}", group.speaks_for, group.against);
        for trouble in &found.troubles {
            say!("  not known: {trouble}");
        }
        let now = self.of.catalog().now();
        for item in found.items.iter().take(self.top) {
            let stays =
                item.stays.as_ref().map_or_else(String::new, |why| format!("; stays: {why}"));
            say!(
                "  {:>10}  {:>6}  {}  ({}{stays})",
                binary(item.allocated),
                item.since.age(now).to_string(),
                self.name(item),
                item.note
            );
        }
        if found.items.len() > self.top {
            say!("  … and {} more", grouped((found.items.len() - self.top) as u64));
        }
        Ok(())
    }
}
