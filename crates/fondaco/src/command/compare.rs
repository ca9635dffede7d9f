//! `fondaco compare`

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use fondaco_core::archive::is_store;
use fondaco_core::catalog::{Catalog, EntryId};
use fondaco_core::history::{Measure, Side, as_they_are, compare_through, same_place};
use fondaco_core::lens::AccountsOf;
use fondaco_core::rule::kept_days;
use fondaco_core::saved;
use fondaco_core::shown::Shown;

use super::look::{accounts, parse, tell_answer};
use super::{Obtained, Outcome, obtain};
use crate::charts::{self, A4};
use crate::cli::{self, Walk};
use crate::environment::open_state;
use crate::output::{say, tell, usage};
use crate::query::{Answer, Compared, WholeComparison};

pub(super) fn run(arguments: &cli::Compare, state: Option<PathBuf>) -> Result<Outcome> {
    let system = accounts(state.clone());
    if let Some(text) = &arguments.look.lens {
        // a wrong lens is told before anything is scanned
        parse(text, &*system)?;
    }
    if let Some(output) = &arguments.output {
        charts::is_to_be_chart(output)?;
    }
    let (before, after) = both(arguments, state)?;
    let names = AccountsOf { origin: after.origin(), system: &*system };
    let is_tree_now = arguments.after.as_deref().is_some_and(is_tree);
    let (was, is) = places((&arguments.before, &before), (is_tree_now, &after))
        .context("one of the two scans is empty")?;
    let inner = arguments
        .below
        .as_deref()
        .map(|below| inside(&before, was, below).or(inside(&after, is, below)).map(|_| below));
    let inner = inner.transpose()?;
    let lens = arguments.look.lens.as_deref().map(|text| parse(text, &names)).transpose()?;
    let chosen = lens.as_ref().map(|lens| lens.select(&after, &names));
    let measure = if arguments.apparent { Measure::Apparent } else { Measure::Allocated };
    let compare = |was, is| {
        let side = Side { seen: after.seen(chosen.as_ref()), at: is };
        compare_through(lens.as_ref(), &names, (&before, was), side, measure)
    };
    // all of it, so that what moved out of a directory is known as such there
    let mut found = compare(was, is);
    let mut place = found.root();
    if let Some(below) = inner {
        let (then, now) = (inside(&before, was, below), inside(&after, is, below));
        let known = now.as_ref().ok().and_then(|id| found.place_after(*id, &after));
        let known = known.or(then.as_ref().ok().and_then(|id| found.place_before(*id, &before)));
        match (known, then, now) {
            (Some(known), ..) => place = known,
            // nothing changed in it
            (None, Ok(was), Ok(is)) => {
                found = compare(was, is);
                place = found.root();
            }
            (None, Err(error), _) | (None, _, Err(error)) => return Err(error),
        }
    }
    let answer = WholeComparison {
        compared: Compared { before: &before, after: &after, found: &found },
        place,
        by: arguments.by.property(),
        top: arguments.top,
        accounts: &names,
        lens: arguments.look.lens.as_deref(),
    };
    if let Some(output) = &arguments.output {
        let chart = answer.chart(&A4).context("there is no such chart")?;
        charts::write_chart(&chart, output)?;
        say!("written: {}", Shown(output));
    } else {
        tell_answer(&answer, &arguments.form)?;
    }
    if !arguments.form.is_for_programs() {
        notes(&before, &after, measure);
    }
    let whole = before.unreadable().is_empty() && after.unreadable().is_empty();
    Ok(if whole { Outcome::AllDone } else { Outcome::Unreadable })
}

/// What may make the comparison say less than it seems to.
fn notes(before: &Catalog, after: &Catalog, measure: Measure) {
    if before.now() > after.now() {
        tell!(
            "the first of the two was scanned after the second: new is what came before, gone what came since"
        );
    }
    for (word, catalog) in [("earlier", before), ("later", after)] {
        if !catalog.is_complete() {
            tell!("the {word} scan was stopped: what it did not come to looks new or gone");
        }
        let unreadable = catalog.unreadable().len();
        if unreadable > 0 {
            tell!(
                "the {word} scan could not read {unreadable} places: what lies there looks new or gone"
            );
        }
    }
    let kind = |catalog: &Catalog| {
        catalog.origin().volumes.first().map(|volume| volume.file_system.clone())
    };
    if measure == Measure::Allocated
        && let (Some(was), Some(is)) = (kind(before), kind(after))
        && was != is
    {
        tell!(
            "the two lie on {was} and {is}, which store the same file in different ways: --apparent compares lengths"
        );
    }
}

/// The directory below the compared one that is looked at.
fn inside(catalog: &Catalog, at: EntryId, below: &Path) -> Result<EntryId> {
    let found = below.iter().try_fold(at, |at, name| catalog.find_in(at, name));
    let found = found.filter(|id| catalog.is_directory(*id));
    found.with_context(|| {
        format!("there is no directory {} below {}", Shown(below), Shown(catalog.path(at)))
    })
}

/// The two scans that are compared.
fn both(arguments: &cli::Compare, state: Option<PathBuf>) -> Result<(Catalog, Catalog)> {
    if let Some(after) = &arguments.after {
        return Ok((moment(&arguments.before, state.clone())?, moment(after, state)?));
    }
    let given = Path::new(&arguments.before);
    if is_tree(&arguments.before) {
        let place = match is_store(given) {
            true => given.to_owned(),
            false => {
                given.canonicalize().with_context(|| format!("cannot open {}", Shown(given)))?
            }
        };
        let kept = kept_days(&open_state(state.clone())?, &place)?;
        let Some(last) = kept.last() else {
            bail!(
                "no whole scan of {} is kept: fondaco scan {} --save keeps one, and fondaco scans lists them",
                Shown(&place),
                Shown(&place)
            );
        };
        let before = saved::open_file(&last.path)?;
        tell!(
            "compared with kept scan {}, {} old",
            last.number,
            before.now().age(fondaco_core::units::Time::now())
        );
        return Ok((before, live(place, state)?));
    }
    let before = moment(&arguments.before, state.clone())?;
    let [root] = before.roots() else {
        usage!("the scan is of several places: say what it is compared with");
    };
    let place = root.path.clone();
    let after = live(place, state)?;
    Ok((before, after))
}

/// The directories that are compared: two trees as they are now wherever they lie, else what is one place.
pub(super) fn places(
    (text, before): (&str, &Catalog),
    (is_tree_now, after): (bool, &Catalog),
) -> Option<(EntryId, EntryId)> {
    match is_tree_now && is_tree(text) {
        true => as_they_are(before, after),
        false => same_place(before, after),
    }
}

/// Whether it is a directory or a store as it is now, and no scan of one.
fn is_tree(text: &str) -> bool {
    !is_number(text) && (is_store(Path::new(text)) || Path::new(text).is_dir())
}

fn is_number(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_digit())
}

/// A kept scan, the file of one, or a directory as it is now.
pub(super) fn moment(text: &str, state: Option<PathBuf>) -> Result<Catalog> {
    if is_number(text) {
        return super::open_saved(text, state);
    }
    match Path::new(text).is_file() {
        true => Ok(saved::open_file(Path::new(text))?),
        false => live(PathBuf::from(text), state),
    }
}

fn live(path: PathBuf, state: Option<PathBuf>) -> Result<Catalog> {
    let Obtained { catalog, .. } = obtain(&[path], &Walk::default(), state)?;
    Ok(catalog)
}
