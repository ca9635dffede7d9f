//! Sets of equal files, and which copy of each stays.

use std::sync::Arc;

use anyhow::Result;
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::duplicates::{Arranged, Contained, Found, Keep, NotRead};
use fondaco_core::shown::Shown;
use fondaco_core::units::{Bytes, counted, grouped};
use serde_json::{Map, Value, json};

use super::cells::{binary, bytes, text};
use super::{Answer, Pairs, Query, Subject};
use crate::output::{Grid, left, put_path, right, say};

/// What a search for equal files has found, with the copies in the order in which they would stay.
pub struct Duplicates<'a> {
    of: Subject<'a>,
    found: Arc<Found>,
    /// Largest relief first.
    sets: Vec<Arranged>,
    /// So many sets are told.
    top: usize,
}

impl<'a> Duplicates<'a> {
    /// Puts the copies of every set in order of preference.
    pub fn new(of: Subject<'a>, found: Arc<Found>, keep: &Keep, top: usize) -> Self {
        let catalog = of.catalog();
        let mut sets: Vec<Arranged> =
            found.sets.iter().map(|set| keep.arrange(catalog, set)).collect();
        sets.sort_by_cached_key(|set| (std::cmp::Reverse(set.relief), catalog.path(set.copies[0])));
        Self { of, found, sets, top }
    }

    /// What goes if of every set only the first copy stays.
    pub fn relief(&self) -> Bytes {
        self.sets.iter().map(|set| set.relief).sum()
    }

    fn shown(&self) -> impl Iterator<Item = &Arranged> {
        self.sets.iter().take(self.top)
    }
}

/// How many names the inode of a copy has.
fn names(catalog: &Catalog, copy: EntryId) -> u32 {
    catalog.names_of_inode(copy).map_or(1, |(_, links)| links)
}

impl Answer for Duplicates<'_> {
    fn head(&self) -> Value {
        self.of.head("duplicates")
    }

    fn grid(&self) -> Grid {
        let mut grid = Grid::new(&[
            right("set", "set"),
            right("length", "length"),
            right("relief", "relief"),
            left("stays", ""),
            right("names", "names"),
            right("written", "written"),
            left("path", "path"),
        ]);
        let catalog = self.of.catalog();
        for (number, set) in self.shown().enumerate() {
            for (place, copy) in set.copies.iter().enumerate() {
                let first = place == 0;
                let written = catalog.modified(*copy);
                let number = number + 1;
                grid.row(vec![
                    (if first { number.to_string() } else { String::new() }, number.into()),
                    if first {
                        bytes(set.length)
                    } else {
                        (String::new(), set.length.get().into())
                    },
                    if first {
                        bytes(set.relief)
                    } else {
                        (String::new(), set.relief.get().into())
                    },
                    ((if first { "stays" } else { "" }).to_owned(), first.into()),
                    (names(catalog, *copy).to_string(), names(catalog, *copy).into()),
                    (written.age(catalog.now()).to_string(), written.rfc3339().into()),
                    text(Shown(catalog.path(*copy)).to_string()),
                ]);
            }
        }
        grid
    }

    fn document(&self) -> Result<Value> {
        let catalog = self.of.catalog();
        let figures = &self.found.figures;
        let mut document = self.head();
        document["searched"] = json!({
            "candidates": figures.candidates,
            "read": figures.read,
            "known": figures.known,
            "seconds": figures.elapsed.as_secs_f64(),
        });
        document["relief"] = json!(self.relief());
        let set = |set: &Arranged| {
            let copy = |(place, id): (usize, &EntryId)| {
                let mut copy = Map::new();
                put_path(&mut copy, &catalog.path(*id));
                copy.insert("stays".into(), (place == 0).into());
                if place == 0 {
                    copy.insert("why".into(), set.why.clone().into());
                }
                copy.insert("allocated".into(), json!(catalog.allocated(*id)));
                copy.insert("names".into(), names(catalog, *id).into());
                copy.insert("written".into(), catalog.modified(*id).rfc3339().into());
                Value::Object(copy)
            };
            json!({
                "length": set.length,
                "relief": set.relief,
                "copies": set.copies.iter().enumerate().map(copy).collect::<Value>(),
            })
        };
        document["sets"] = self.shown().map(set).collect();
        let not_read = |(_, path, reason): &(EntryId, std::path::PathBuf, NotRead)| {
            let mut one = Map::new();
            put_path(&mut one, path);
            let operation = match reason {
                NotRead::Call(error) => error.op.words(),
                _ => "read",
            };
            one.insert("operation".into(), operation.into());
            one.insert("error".into(), reason.to_string().into());
            Value::Object(one)
        };
        document["not_read"] = self.found.not_read.iter().map(not_read).collect();
        Ok(document)
    }

    fn print(&self, columns: &[String]) -> Result<()> {
        self.grid().print(columns)?;
        let figures = &self.found.figures;
        let sets = self.found.sets.len() as u64;
        if sets > self.top as u64 {
            say!("… and {} more sets", grouped(sets - self.top as u64));
        }
        say!(
            "{} of equal files, {} if one of each stays; {} could be equal, {} read in {:.1} s",
            counted(sets, "set"),
            binary(self.relief()),
            counted(figures.candidates, "file"),
            binary(figures.read),
            figures.elapsed.as_secs_f64()
        );
        Ok(())
    }
}

/// What a search has found, asked for as sets of equal files or as pairs of trees.
#[derive(Debug)]
pub struct FoundCopies {
    /// What the search has come to.
    pub found: Arc<Found>,
    /// Pairs of trees, largest relief first.
    pub pairs: Vec<Contained>,
    /// What goes if one copy of each set stays.
    pub relief: Bytes,
    /// Which copies stay.
    pub keep: Keep,
    /// The sets are asked for, and not the pairs.
    pub sets: bool,
}

impl Query for FoundCopies {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        if self.sets {
            return Box::new(Duplicates::new(of, Arc::clone(&self.found), &self.keep, usize::MAX));
        }
        let sets = (self.found.sets.len() as u64, self.relief);
        Box::new(Pairs { of, rows: self.pairs.clone(), top: usize::MAX, sets })
    }
}
