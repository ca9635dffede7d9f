//! Comparing with something that is no kept scan of the place: the file of a scan, or a directory such as a mounted snapshot.

use std::path::PathBuf;
use std::sync::Arc;

use fondaco_core::catalog::Catalog;
use fondaco_core::saved;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::shown::Shown;
use fondaco_core::units::Time;

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Asking, Model, TypedAnswer};
use crate::frame::update::{ask, growth};

pub(super) fn ask_for(model: &mut Model) -> Vec<Job> {
    let sentence = "Compare the scan at hand with the file of a scan, or with a directory: a mounted snapshot, a backup, another \
                    tree. A directory is scanned for that. Type its path."
        .to_owned();
    ask(model, Asking::Own(Arc::new(Where)), sentence, None)
}

/// Waits for a path.
#[derive(Debug)]
struct Where;

impl TypedAnswer for Where {
    fn take(&self, model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure> {
        let path = PathBuf::from(typed);
        let cannot = |error| format!("{}: {error}", Shown(&path));
        let path = path.canonicalize().map_err(cannot)?;
        let meta = path.metadata().map_err(|error| format!("{}: {error}", Shown(&path)))?;
        if !meta.is_file() && !meta.is_dir() {
            return Err(format!("{} is no directory and no file of a scan", Shown(&path)).into());
        }
        model.say(format!("Looking at {} …", Shown(&path)));
        let (number, now) = (model.scan.number, model.now);
        Ok(vec![Job::Work(Box::new(OpenOther { number, path, is_file: meta.is_file(), now }))])
    }
}

#[derive(Debug)]
struct OpenOther {
    number: u64,
    path: PathBuf,
    is_file: bool,
    now: Time,
}

impl Work for OpenOther {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let opened = match self.is_file {
            true => saved::open_file(&self.path).map_err(Failure::of),
            false => {
                let options = Options { stand_back: true, ..Options::new(self.now) };
                let scan = Scan::start(std::slice::from_ref(&self.path), &options);
                scan.map(Scan::into_catalog).map_err(Failure::of)
            }
        };
        Box::new(OtherOpened { number: self.number, path: self.path, opened: opened.map(Arc::new) })
    }
}

#[derive(Debug)]
struct OtherOpened {
    number: u64,
    path: PathBuf,
    opened: Result<Arc<Catalog>, Failure>,
}

impl News for OtherOpened {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if model.scan.number != self.number {
            return Vec::new();
        }
        match self.opened {
            Ok(catalog) => {
                model.rooms.history.tree.later = None;
                model.rooms.history.tree.way.clear();
                growth::compare_with(model, catalog, self.path)
            }
            Err(reason) => {
                model.say_trouble(format!("{}: {reason}", Shown(&self.path)));
                Vec::new()
            }
        }
    }
}
