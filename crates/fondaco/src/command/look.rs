//! What is shown of a scan: a lens, a closer look, and tables of it.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use fondaco_core::analysis::Classes;
use fondaco_core::catalog::{Catalog, EntryId, Seen, Selection};
use fondaco_core::lens::{Accounts, AccountsOf, Lens, SystemAccounts};
use fondaco_core::scan::look_closer;
use fondaco_core::shown::Shown;
use fondaco_core::units::{counted, grouped};

use super::{Obtained, Outcome, excluded_line, obtain, stop_asked};
use crate::cli::{Form, Look, Scanned, Walk};
use crate::environment::state_if_any;
use crate::output::{self, Grid, ProgressLine, Usage, say, usage};
use crate::query::{Answer, Query, Subject, binary, percent};

/// Whether every entry is looked at once more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Closer {
    /// Only if the lens needs it.
    No,
    /// For births and attributes.
    Yes,
    /// And into files whose names tell nothing.
    Into,
}

impl Closer {
    pub(super) fn if_needed(needed: bool) -> Self {
        if needed { Self::Yes } else { Self::No }
    }
}

/// A catalog with what a lens chooses of it.
pub(super) struct Looked {
    pub(super) catalog: Catalog,
    system: Box<dyn Accounts>,
    /// Of the lens, if there is one.
    pub(super) selection: Option<Selection>,
    /// The lens as it was typed.
    pub(super) lens: Option<String>,
}

impl Looked {
    /// What a command says is to be scanned or opened, see [`Looked::obtain`].
    pub(super) fn of(scanned: &Scanned, closer: Closer, state: Option<PathBuf>) -> Result<Self> {
        if scanned.paths.is_empty() && scanned.walk.saved.is_none() {
            usage!("say what is scanned: PATH, or --saved N for a saved scan");
        }
        Self::obtain(&scanned.paths, &scanned.look, &scanned.walk, closer, state)
    }

    /// Scans or opens, looks closer if that is asked for or the lens needs it, and applies the lens.
    pub(super) fn obtain(
        paths: &[PathBuf],
        look: &Look,
        walk: &Walk,
        closer: Closer,
        state: Option<PathBuf>,
    ) -> Result<Self> {
        let system = accounts(state.clone());
        // a wrong lens is told before anything is scanned
        let mut lens = None;
        if let (None, Some(text)) = (&walk.saved, &look.lens) {
            lens = Some(parse(text, &*system)?);
        }
        let Obtained { mut catalog, .. } = obtain(paths, walk, state)?;
        // a saved scan may know names that this machine does not
        if let (Some(_), Some(text)) = (&walk.saved, &look.lens) {
            lens = Some(parse(text, &accounts_of(&catalog, &*system))?);
        }
        if closer != Closer::No || lens.as_ref().is_some_and(Lens::wants_closer_look) {
            if walk.saved.is_some() {
                usage!(
                    "births and the attributes immutable and append-only are not kept in a saved scan: \
                     scan anew"
                );
            }
            catalog = look_closer_at(catalog, closer == Closer::Into)?;
        }
        let select = |lens: Lens| lens.select(&catalog, &accounts_of(&catalog, &*system));
        let selection = lens.map(select);
        Ok(Self { catalog, system, selection, lens: look.lens.clone() })
    }

    /// The names of the owners of what was scanned.
    pub(super) fn accounts(&self) -> AccountsOf<'_> {
        accounts_of(&self.catalog, &*self.system)
    }

    pub(super) fn seen(&self) -> Seen<'_> {
        self.catalog.seen(self.selection.as_ref())
    }

    /// How a command ends that could say all that it was asked for but what could not be read, which is told.
    pub(super) fn outcome(&self) -> Outcome {
        Outcome::told_of_scan(&self.catalog)
    }

    pub(super) fn top(&self) -> Result<EntryId> {
        self.catalog.top().context("the scan has no root")
    }

    /// Under a lens one line that says both the part and the whole.
    pub(super) fn part_line(&self) -> Option<String> {
        self.lens.as_ref()?;
        let (seen, top) = (self.seen(), self.catalog.top()?);
        let (part, whole) = (seen.allocated(top), self.catalog.allocated(top));
        Some(format!(
            "lens: {} of {}, {} of {} ({})",
            grouped(seen.entries(top)),
            counted(self.catalog.entries(top), "entry"),
            binary(part),
            binary(whole),
            percent(part, whole)
        ))
    }

    /// The directory below the root that was asked for; all without one.
    pub(super) fn below(&self, subpath: Option<&Path>) -> Result<EntryId> {
        let Some(subpath) = subpath else { return self.top() };
        let root = self.catalog.roots().first().context("the scan has no root")?;
        // an absolute path takes the root's place, and must lie below it
        let path: PathBuf = root.path.join(subpath).components().collect();
        match self.catalog.find(&path) {
            None => bail!("the scan met no directory {}", Shown(path)),
            Some(at) if !self.catalog.is_directory(at) => {
                bail!("{} is not a directory", Shown(path))
            }
            Some(at) => Ok(at),
        }
    }

    /// What queries are asked of.
    pub(super) fn subject<'a>(&'a self, at: EntryId, accounts: &'a AccountsOf<'a>) -> Subject<'a> {
        Subject { seen: self.seen(), at, accounts, lens: self.lens.as_deref() }
    }

    /// Asks something and tells the answer as was wanted.
    pub(super) fn tell(&self, query: &dyn Query, at: EntryId, form: &Form) -> Result<Outcome> {
        let accounts = self.accounts();
        let answer = query.answer(self.subject(at, &accounts));
        tell_answer(&*answer, form)?;
        if !form.is_for_programs() {
            for line in self.part_line().into_iter().chain(excluded_line(&self.catalog)) {
                say!("{line}");
            }
        }
        Ok(self.outcome())
    }
}

fn accounts_of<'a>(catalog: &'a Catalog, system: &'a dyn Accounts) -> AccountsOf<'a> {
    AccountsOf { origin: catalog.origin(), system }
}

/// The accounts of the system, and those of the settings if there is a state directory.
pub(super) fn accounts(state: Option<PathBuf>) -> Box<dyn Accounts> {
    match state_if_any(state) {
        Some(state) => Box::new(state),
        None => Box::new(SystemAccounts),
    }
}

/// Classes of size and age that end there; where nothing is said, those of the settings, or the usual ones.
pub(super) fn classes(
    sizes: &[String],
    ages: &[String],
    state: Option<PathBuf>,
) -> Result<Classes> {
    let settings = state_if_any(state).map(|state| state.settings).unwrap_or_default();
    let sizes = if sizes.is_empty() { &settings.size_classes } else { sizes };
    let ages = if ages.is_empty() { &settings.age_classes } else { ages };
    Ok(Classes::of_texts(sizes, ages)?)
}

/// Reads a lens; what is wrong is marked below it.
pub(super) fn parse(text: &str, accounts: &dyn Accounts) -> Result<Lens> {
    Lens::parse(text, accounts).map_err(|error| {
        let before = text.get(..error.at.start).map_or(0, |before| before.chars().count());
        let marked = text.get(error.at.clone()).map_or(1, |part| part.chars().count().max(1));
        let shown = fondaco_core::shown::shown(text);
        let mark = format!("{}{}", " ".repeat(before), "^".repeat(marked));
        Usage(format!("the lens cannot be read: {error}\n  {shown}\n  {mark}")).into()
    })
}

/// Looks at every entry once more, for births and attributes of the file system.
pub(super) fn look_closer_at(mut catalog: Catalog, into: bool) -> Result<Catalog> {
    let line = std::cell::RefCell::new(ProgressLine::new());
    let closer = look_closer(&catalog, into, &|looked| {
        line.borrow_mut().show(&format!("looking closer: {} entries", grouped(looked)));
        if stop_asked() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    line.borrow().clear();
    catalog.set_closer(closer.context("stopped")?);
    Ok(catalog)
}

/// Tells an answer for people, spreadsheets or programs.
pub(super) fn tell_answer(answer: &dyn Answer, form: &Form) -> Result<()> {
    if !form.columns.is_empty() {
        // before anything is written
        answer.grids().take(1).try_for_each(|grid| grid.has_columns(&form.columns))?;
    }
    if form.csv {
        return Grid::write_all_csv(answer.grids(), &form.columns, std::io::stdout().lock());
    }
    if form.json && !form.columns.is_empty() {
        let mut document = answer.head();
        document["rows"] = answer.grid().to_json(&form.columns)?.into();
        return Ok(output::json(&document)?);
    }
    if form.json {
        return answer.write_document(&mut std::io::stdout().lock());
    }
    answer.print(&form.columns)
}
