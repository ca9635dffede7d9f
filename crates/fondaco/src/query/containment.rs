//! Which directory is contained in which.

use anyhow::Result;
use fondaco_chart::{Chart, ContainedLine};
use fondaco_core::catalog::EntryId;
use fondaco_core::duplicates::{Contained, Containment, Count, Relation};
use fondaco_core::shown::Shown;
use fondaco_core::units::{Bytes, counted, share_words};
use serde_json::{Map, Value, json};

use super::cells::{bytes, text};
use super::{Answer, Paper, Subject};
use crate::output::{Grid, left, path_value, put_path, right, say};

/// Pairs of directories of which one holds much of what is in the other.
pub struct Pairs<'a> {
    /// What was searched.
    pub of: Subject<'a>,
    /// Largest relief first.
    pub rows: Vec<Contained>,
    /// So many are told.
    pub top: usize,
    /// How many sets of equal files there are, and what goes if one of each stays; for the chart.
    pub sets: (u64, Bytes),
}

fn number(count: u64) -> (String, Value) {
    (fondaco_core::units::grouped(count), count.into())
}

impl Answer for Pairs<'_> {
    fn head(&self) -> Value {
        self.of.head("containment")
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            right("share", "there"),
            right("relief", "relief"),
            right("same", "same"),
            right("elsewhere", "elsewhere"),
            right("only_here", "only here"),
            right("differs", "differs"),
            right("newer_here", "newer here"),
            left("tree", "tree"),
            left("in", "is in"),
        ]);
        let catalog = self.of.catalog();
        for row in self.rows.iter().take(self.top) {
            grid.row(vec![
                (share_words(row.share), row.share.into()),
                bytes(row.relief),
                number(row.same.files),
                number(row.elsewhere.files),
                number(row.only_here.files),
                number(row.differs.files),
                number(row.newer_here),
                text(Shown(catalog.path(row.tree)).to_string()),
                text(Shown(catalog.path(row.within)).to_string()),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let catalog = self.of.catalog();
        let mut document = self.head();
        let count = |count: Count| json!({ "files": count.files, "bytes": count.bytes });
        let pair = |row: &Contained| {
            let mut differs = count(row.differs);
            differs["newer_here"] = row.newer_here.into();
            json!({
                "tree": path_value(&catalog.path(row.tree)),
                "in": path_value(&catalog.path(row.within)),
                "share": row.share,
                "same": count(row.same),
                "elsewhere": count(row.elsewhere),
                "only_here": count(row.only_here),
                "differs": differs,
                "relief": row.relief,
            })
        };
        document["pairs"] = self.rows.iter().take(self.top).map(pair).collect();
        Ok(document)
    }

    fn chart(&self, paper: &Paper) -> Option<Chart> {
        let catalog = self.of.catalog();
        let line = |row: &Contained| ContainedLine {
            tree: Shown(catalog.path(row.tree)).to_string(),
            within: Shown(catalog.path(row.within)).to_string(),
            share: row.share,
            relief: row.relief,
        };
        let lines: Vec<_> = self.rows.iter().take(self.top).map(line).collect();
        let (more, (sets, relief)) = (self.rows.len() - lines.len(), self.sets);
        let context = self.of.context(paper);
        Some(fondaco_chart::containment(&lines, more, sets, relief, &context))
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        say!(
            "{} of directories of which one holds much of the other",
            counted(self.rows.len() as u64, "pair")
        );
        Ok(())
    }
}

/// The files of a tree that are not in another one.
pub struct NotThere<'a> {
    /// What was searched.
    pub of: Subject<'a>,
    /// What of the tree is there.
    pub row: Contained,
    /// Its files that are not, with what they are.
    pub files: Vec<(EntryId, Relation)>,
}

impl<'a> NotThere<'a> {
    /// Compares one tree with another.
    pub fn new(
        of: Subject<'a>,
        containment: &Containment<'_>,
        tree: EntryId,
        within: EntryId,
    ) -> Self {
        let row = containment.compare(tree, within);
        let is_not = |(_, relation): &(EntryId, Relation)| {
            matches!(relation, Relation::OnlyHere | Relation::Differs { .. })
        };
        let mut files: Vec<_> = containment.relations(tree, within).filter(is_not).collect();
        files.sort_by_cached_key(|(entry, _)| of.catalog().path(*entry));
        Self { of, row, files }
    }

    fn as_pair(&self) -> Pairs<'a> {
        Pairs { of: self.of, rows: vec![self.row.clone()], top: 1, sets: (0, Bytes::ZERO) }
    }
}

/// What a file that is not in another tree is, in words.
fn relation_words(relation: Relation) -> &'static str {
    match relation {
        Relation::Same => "same",
        Relation::Elsewhere => "elsewhere there",
        Relation::Differs { newer_here: true } => "differs, newer here",
        Relation::Differs { newer_here: false } => "differs, newer there",
        Relation::OnlyHere => "only here",
    }
}

impl Answer for NotThere<'_> {
    fn head(&self) -> Value {
        self.of.head("containment")
    }

    fn grid(&self) -> Grid {
        let mut grid =
            Grid::new(&[right("length", "length"), left("what", "what"), left("path", "path")]);
        let catalog = self.of.catalog();
        for (entry, relation) in &self.files {
            grid.row(vec![
                bytes(catalog.apparent(*entry)),
                text(relation_words(*relation)),
                text(Shown(catalog.path(*entry)).to_string()),
            ]);
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let pairs = self.as_pair();
        let mut document = pairs.document()?;
        let catalog = self.of.catalog();
        let file = |(entry, relation): &(EntryId, Relation)| {
            let mut file = Map::new();
            put_path(&mut file, &catalog.path(*entry));
            file.insert("length".into(), json!(catalog.apparent(*entry)));
            file.insert("what".into(), relation_words(*relation).into());
            Value::Object(file)
        };
        document["not_there"] = self.files.iter().map(file).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.as_pair().grid().print(&[])?;
        self.grid().print(columns)?;
        say!("{} not there", counted(self.files.len() as u64, "file"));
        Ok(())
    }
}
