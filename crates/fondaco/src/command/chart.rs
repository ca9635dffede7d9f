//! `fondaco chart`

use std::path::PathBuf;

use anyhow::{Context, Result, bail};
use fondaco_chart::Look;
use fondaco_core::analysis::{AgeBy, breakdown, matrix};
use fondaco_core::shown::Shown;
use fondaco_core::units::UnitStyle;
use fondaco_core::volume::volumes;

use super::Outcome;
use super::look::{Closer, Looked, classes};
use crate::charts;
use crate::cli::{self, ChartWord};
use crate::environment::open_state;
use crate::output::{self, say};

pub(super) fn run(arguments: &cli::Chart, state: Option<PathBuf>) -> Result<Outcome> {
    let look = if arguments.screen { Look::Screen } else { Look::Paper };
    // a wrong name is told before anything is scanned
    let ending = arguments.output.extension().and_then(|ending| ending.to_str());
    if !matches!(ending, Some("svg" | "pdf")) {
        bail!("{}: the name must end in .svg or .pdf", Shown(&arguments.output));
    }
    if arguments.what == ChartWord::Volumes {
        let chart = charts::of_volumes(
            &volumes(&open_state(state)?),
            UnitStyle::Binary,
            look,
            arguments.size,
        );
        charts::write_chart(&chart, &arguments.output)?;
        say!("written: {}", Shown(&arguments.output));
        return Ok(Outcome::AllDone);
    }
    if arguments.paths.is_empty() && arguments.walk.saved.is_none() {
        bail!("say of what: a PATH, or --saved N");
    }
    output::is_to_be_new(&arguments.output)?;
    let (by, classes) = (arguments.time, classes(&[], &[], state.clone())?);
    let closer = Closer::if_needed(arguments.what == ChartWord::Ages && by == AgeBy::Born);
    let looked = Looked::obtain(&arguments.paths, &arguments.look, &arguments.walk, closer, state)?;
    let seen = looked.seen();
    let at = match &arguments.below {
        None => looked.top()?,
        Some(below) => {
            let root = looked.catalog.roots().first().context("the scan has no root")?;
            let path: PathBuf = root.path.join(below).components().collect();
            let found = looked.catalog.find(&path).filter(|id| looked.catalog.is_directory(*id));
            found.with_context(|| format!("the scan met no directory {}", Shown(&path)))?
        }
    };
    let lens = looked.lens.as_deref();
    let context = charts::context(seen, at, lens, UnitStyle::Binary, look, arguments.size);
    let chart = match arguments.what {
        ChartWord::Cascade => fondaco_chart::cascade(seen, at, arguments.top, &context),
        ChartWord::Map => fondaco_chart::map(seen, at, &context),
        ChartWord::Ages => fondaco_chart::ages(&matrix(seen, at, by, classes), by, &context),
        ChartWord::Breakdown | ChartWord::Volumes => {
            let found = breakdown(seen, at, arguments.by);
            charts::of_breakdown(&found, arguments.top, &*looked.accounts, &context)
        }
    };
    charts::write_chart(&chart, &arguments.output)?;
    say!("written: {}", Shown(&arguments.output));
    Ok(Outcome::AllDone)
}
