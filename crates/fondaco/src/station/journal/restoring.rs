//! Restoring what a run has archived into another place: a copy, while the archive and the journal stay as they are.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use fondaco_core::archive::OpenArchive;
use fondaco_core::carry_out::{EntryRecord, restore_into};
use fondaco_core::shown::Shown;

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Asking, Model, RunStage, TypedAnswer};
use crate::frame::update::ask;

/// An archived target: its archive, the number of its action, and where it was.
type Archived = (PathBuf, u32, PathBuf);

/// The marked actions, or the selected one, as far as an archive holds their targets.
pub(super) fn chosen(model: &Model) -> Vec<Archived> {
    let Some(open) = &model.rooms.journal.open else { return Vec::new() };
    let of_entry = |entry: &EntryRecord| {
        let archive = entry.archive.clone()?;
        Some((archive, entry.action.number, entry.action.target.path.0.clone()))
    };
    if open.marked.is_empty() {
        let selected = open.entries.get(open.cursor);
        return selected.and_then(of_entry).into_iter().collect();
    }
    // actions have their numbers from 1 in order
    let marked = open.marked.iter().filter_map(|number| open.entries.get(*number as usize - 1));
    marked.filter_map(of_entry).collect()
}

pub(super) fn ask_where(model: &mut Model) -> Vec<Job> {
    let chosen = chosen(model);
    let what = match chosen.as_slice() {
        [] => return Vec::new(),
        [(_, _, original)] => Shown(original).to_string(),
        more => format!("{} things", more.len()),
    };
    let sentence = format!(
        "A copy of {what} is restored from the archive into a directory: type which one. Nothing there is replaced, and the \
         archive stays."
    );
    ask(model, Asking::Own(Arc::new(Where(chosen))), sentence, None)
}

/// Waits for a directory.
#[derive(Debug)]
struct Where(Vec<Archived>);

impl TypedAnswer for Where {
    fn take(&self, model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure> {
        let directory = Path::new(typed);
        if !directory.is_absolute() {
            return Err("type the whole path of a directory, from / on".into());
        }
        let directory = directory
            .canonicalize()
            .map_err(|error| Failure::from(format!("{}: {error}", Shown(directory))))?;
        model.run.stage = RunStage::Returning("restoring");
        Ok(vec![Job::Work(Box::new(Restore { chosen: self.0.clone(), directory }))])
    }
}

#[derive(Debug)]
struct Restore {
    chosen: Vec<Archived>,
    directory: PathBuf,
}

impl Work for Restore {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let mut archives: BTreeMap<&Path, Result<OpenArchive, Failure>> = BTreeMap::new();
        let (mut done, mut refused) = (0, Vec::new());
        for (archive, action, original) in &self.chosen {
            let open = archives
                .entry(archive)
                .or_insert_with(|| OpenArchive::open(archive).map_err(Failure::of));
            let restored = match open {
                Ok(open) => {
                    restore_into(open, *action, original, &self.directory).map_err(Failure::of)
                }
                Err(error) => Err(error.clone()),
            };
            match restored {
                Ok(_) => done += 1,
                Err(reason) => refused.push(reason),
            }
        }
        Box::new(Restored { done, refused, directory: self.directory })
    }
}

#[derive(Debug)]
struct Restored {
    done: usize,
    refused: Vec<Failure>,
    directory: PathBuf,
}

impl News for Restored {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        model.run.stage = RunStage::Idle;
        let (done, place) = (self.done, Shown(&self.directory));
        match self.refused.first() {
            None => model.say(format!("{done} restored into {place}; the archive stays")),
            Some(reason) => {
                let refused = self.refused.len();
                model.say_trouble(format!("{done} restored into {place}, {refused} not: {reason}"));
            }
        }
        Vec::new()
    }
}
