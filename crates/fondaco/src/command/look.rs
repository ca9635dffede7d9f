//! What is shown of a scan: a lens, a closer look, and tables of it.

use std::ops::ControlFlow;
use std::path::PathBuf;

use anyhow::{Context, Result, bail};
use fondaco_core::analysis::Classes;
use fondaco_core::catalog::{Catalog, EntryId, Seen, Selection};
use fondaco_core::lens::{Accounts, Lens, SystemAccounts};
use fondaco_core::scan::look_closer;
use fondaco_core::units::{counted, grouped};
use serde_json::Value;

use super::{Obtained, binary, obtain, stop_asked};
use crate::cli::{Form, Look, Scanned, Walk};
use crate::environment::state_if_any;
use crate::output::{self, Grid, ProgressLine};

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
    pub(super) accounts: Box<dyn Accounts>,
    /// Of the lens, if there is one.
    pub(super) selection: Option<Selection>,
    /// The lens as it was typed.
    pub(super) lens: Option<String>,
}

impl Looked {
    /// What a command says is to be scanned or opened, see [`Looked::obtain`].
    pub(super) fn of(scanned: &Scanned, closer: Closer, state: Option<PathBuf>) -> Result<Self> {
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
        let accounts = accounts(state.clone());
        // a wrong lens is told before anything is scanned
        let lens = look.lens.as_deref().map(|text| parse(text, &*accounts)).transpose()?;
        let Obtained { mut catalog, .. } = obtain(paths, walk, state)?;
        if closer != Closer::No || lens.as_ref().is_some_and(Lens::wants_closer_look) {
            if walk.saved.is_some() {
                bail!(
                    "births and the attributes immutable and append-only are not kept in a saved scan: \
                     scan anew"
                );
            }
            catalog = look_closer_at(catalog, closer == Closer::Into)?;
        }
        let selection = lens.map(|lens| lens.select(&catalog, &*accounts));
        Ok(Self { catalog, accounts, selection, lens: look.lens.clone() })
    }

    pub(super) fn seen(&self) -> Seen<'_> {
        self.catalog.seen(self.selection.as_ref())
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
            crate::tables::percent(part, whole)
        ))
    }

    /// What a document says of the lens: nothing without one.
    pub(super) fn put_lens(&self, document: &mut Value) {
        let (Some(lens), Some(top)) = (&self.lens, self.catalog.top()) else { return };
        document["lens"] = lens.as_str().into();
        document["whole_allocated"] = self.catalog.allocated(top).get().into();
        document["whole_entries"] = self.catalog.entries(top).into();
    }
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
        anyhow::anyhow!("the lens cannot be read: {error}\n  {shown}\n  {mark}")
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

/// Writes a table of a scan as CSV, or with chosen columns as JSON; says whether that is what was asked for.
pub(super) fn written(grid: &Grid, form: &Form, kind: &str, looked: &Looked) -> Result<bool> {
    let mut document = serde_json::json!({
        "fondaco": 1,
        "kind": kind,
        "scanned": looked.catalog.now().rfc3339(),
    });
    looked.put_lens(&mut document);
    written_as(grid, form, document)
}

/// As [`written`], of anything; `document` is what stands around the rows.
pub(super) fn written_as(grid: &Grid, form: &Form, mut document: Value) -> Result<bool> {
    if form.csv {
        grid.write_csv(&form.columns, std::io::stdout().lock())?;
        return Ok(true);
    }
    if form.json && !form.columns.is_empty() {
        document["rows"] = grid.to_json(&form.columns)?.into();
        output::json(&document)?;
        return Ok(true);
    }
    Ok(false)
}
