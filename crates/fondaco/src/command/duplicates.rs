//! `fondaco duplicates` and `fondaco containment`

use std::cell::RefCell;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::sync::Arc;

use anyhow::{Context, Result};
use fondaco_core::archive::is_store;
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::duplicates::{
    Candidates, Containment, Found, Keep, Known, NotRead, SameName, Set, same_names, search,
};
use fondaco_core::shown::Shown;
use fondaco_core::units::{Bytes, Time, counted, grouped};

use super::look::{Closer, Looked, tell_answer};
use super::{Outcome, binary, excluded_line, plan, stop_asked};
use crate::cli::{self, SameBy};
use crate::environment::open_state;
use crate::failure::Failure;
use crate::output::{ProgressLine, Usage, say, tell, usage};
use crate::query::{self, NotThere, Pairs};

pub(super) fn run(arguments: &cli::Duplicates, state: Option<PathBuf>) -> Result<Outcome> {
    let keep = keep(&arguments.keep)?;
    let looked = Looked::of(&arguments.scanned, Closer::No, state.clone())?;
    if let Some(root) = looked.catalog.roots().iter().find(|root| is_store(&root.path)) {
        usage!(
            "{}: objects of a store are not compared, their contents are not read",
            Shown(&root.path)
        );
    }
    let found = Arc::new(find(&looked, arguments.fresh, state.clone())?);
    let accounts = looked.accounts();
    let names = match arguments.by {
        SameBy::Content => None,
        SameBy::Name => Some(same_names(looked.seen(), &roots(&looked.catalog), &found.sets)),
    };
    if arguments.plan.is_some() {
        let state = open_state(state)?;
        // names say nothing of what is in the files: only equal contents go
        let equal: Vec<Set> = names.iter().flatten().flat_map(equal_versions).collect();
        let sets = if names.is_some() { &equal } else { &found.sets };
        let outcome = plan::of_duplicates(&looked.catalog, sets, &keep, arguments, &state)?;
        let read = ended(&looked, &found, true)?;
        return Ok(if outcome == Outcome::AllDone { read } else { outcome });
    }
    let subject = looked.subject(looked.top()?, &accounts);
    if let Some(names) = &names {
        let answer = query::SameNames { of: subject, names, keep: &keep, top: arguments.top };
        tell_answer(&answer, &arguments.form)?;
        return ended(&looked, &found, arguments.form.is_for_programs());
    }
    let answer = query::Duplicates::new(subject, Arc::clone(&found), &keep, arguments.top);
    tell_answer(&answer, &arguments.form)?;
    ended(&looked, &found, arguments.form.is_for_programs())
}

/// The versions of a name that several files have.
fn equal_versions(name: &SameName) -> impl Iterator<Item = Set> + '_ {
    let versions = name.versions.iter().filter(|version| version.set.copies.len() > 1);
    versions.map(|version| version.set.clone())
}

pub(super) fn containment(arguments: &cli::Containment, state: Option<PathBuf>) -> Result<Outcome> {
    let looked = Looked::of(&arguments.scanned, Closer::No, state.clone())?;
    let found = find(&looked, arguments.fresh, state)?;
    let accounts = looked.accounts();
    let subject = looked.subject(looked.top()?, &accounts);
    let containment = Containment::new(looked.seen(), &roots(&looked.catalog), &found.sets);
    if let (Some(tree), Some(within)) = (&arguments.of, &arguments.within) {
        let tree = directory(&looked, tree)?;
        let within = directory(&looked, within)?;
        let answer = NotThere::new(subject, &containment, tree, within);
        tell_answer(&answer, &arguments.form)?;
    } else {
        let least = arguments.least.share();
        let rows = containment.rows(least);
        let sets = sums(&looked.catalog, &found);
        let answer = Pairs { of: subject, rows, top: arguments.top, sets };
        tell_answer(&answer, &arguments.form)?;
    }
    ended(&looked, &found, arguments.form.is_for_programs())
}

/// How many sets were found, and what goes if one copy of each stays.
fn sums(catalog: &Catalog, found: &Found) -> (u64, Bytes) {
    let keep = Keep::default();
    let relief = found.sets.iter().map(|set| keep.arrange(catalog, set).relief).sum();
    (found.sets.len() as u64, relief)
}

/// Searches for equal files, and tells the pairs of trees that have at least a quarter of the one in the other, for a
/// chart or a report.
pub(super) fn pairs<'a>(
    looked: &'a Looked,
    subject: query::Subject<'a>,
    top: usize,
    state: Option<PathBuf>,
) -> Result<Pairs<'a>> {
    let found = find(looked, false, state)?;
    let containment = Containment::new(looked.seen(), &roots(&looked.catalog), &found.sets);
    let sets = sums(&looked.catalog, &found);
    Ok(Pairs { of: subject, rows: containment.rows(0.25), top, sets })
}

fn directory(looked: &Looked, path: &std::path::Path) -> Result<EntryId> {
    let real = path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let found = looked.catalog.find(&real).filter(|id| looked.catalog.is_directory(*id));
    found.with_context(|| format!("the scan met no directory {}", Shown(path)))
}

fn keep(words: &[String]) -> Result<Keep> {
    Ok(Keep::parse(words).map_err(|error| Usage(format!("--keep: {error}")))?)
}

fn roots(catalog: &Catalog) -> Vec<EntryId> {
    catalog.roots().iter().map(|root| root.entry).collect()
}

/// Searches what is seen, with a line of progress.
fn find(looked: &Looked, fresh: bool, state: Option<PathBuf>) -> Result<Found> {
    let candidates = Candidates::of(looked.seen(), &roots(&looked.catalog));
    // what is read is remembered there, also if nothing else has been yet
    let known = open_state(state)
        .and_then(|state| Ok(Known::open(&state.hashes_file(), fresh, Time::now())?));
    let known = known.unwrap_or_else(|error| {
        let why = Failure::with_causes(error.as_ref());
        tell!("everything is read, and nothing of it is remembered: {why}");
        Known::nothing()
    });
    let line = RefCell::new(ProgressLine::new());
    stop_asked();
    let catalog = &looked.catalog;
    let found = search(candidates, catalog, &known, &mut |figures, _| {
        let (act, done) = match figures.looked_at < figures.candidates {
            true => ("looking at the beginnings of", figures.looked_at),
            false => ("comparing", figures.done),
        };
        line.borrow_mut().show(&format!(
            "{act} {} of {}  read {}",
            grouped(done),
            counted(figures.candidates, "file"),
            binary(figures.read)
        ));
        if stop_asked() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    line.borrow().clear();
    if let Some(error) = &found.not_remembered {
        tell!("what was read is not remembered: {error}");
    }
    if found.stopped {
        tell!("stopped: what follows is what was known by then");
    }
    Ok(found)
}

fn ended(looked: &Looked, found: &Found, for_programs: bool) -> Result<Outcome> {
    for (_, path, reason) in found.not_read.iter().take(10) {
        match reason {
            NotRead::Call(error) => tell!("left out: {}", error.whole()),
            _ => tell!("left out: {}: {reason}", Shown(path)),
        }
    }
    if found.not_read.len() > 10 {
        tell!("left out: {} more", grouped(found.not_read.len() as u64 - 10));
    }
    if !for_programs {
        for line in looked.part_line().into_iter().chain(excluded_line(&looked.catalog)) {
            say!("{line}");
        }
    }
    Ok(if found.not_read.is_empty() { looked.outcome() } else { Outcome::Unreadable })
}
