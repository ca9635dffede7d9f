//! `fondaco chart`

use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use fondaco_chart::Look;
use fondaco_core::analysis::AgeBy;
use fondaco_core::catalog::Order;
use fondaco_core::history::{LOOKED_BACK, Outlook};
use fondaco_core::shown::Shown;
use fondaco_core::units::{Time, UnitStyle};
use fondaco_core::volume::volumes;

use super::look::{Closer, Looked, classes};
use super::{Outcome, duplicates, history};
use crate::charts;
use crate::cli::{self, ChartWord};
use crate::environment::open_state;
use crate::output::{self, say};
use crate::query::{self, Answer, Paper, Query};

pub(super) fn run(arguments: &cli::Chart, state: Option<PathBuf>) -> Result<Outcome> {
    let look = if arguments.screen { Look::Screen } else { Look::Paper };
    // a wrong name is told before anything is scanned
    let ending = arguments.output.extension().and_then(|ending| ending.to_str());
    if !matches!(ending, Some("svg" | "pdf")) {
        bail!("{}: the name must end in .svg or .pdf", Shown(&arguments.output));
    }
    let paper = Paper { units: UnitStyle::Binary, look, size: arguments.size, top: arguments.top };
    if arguments.what == ChartWord::Volumes {
        let state = open_state(state)?;
        let outlook = |volume| (volume, Outlook::NotYet);
        let known = volumes(&state).into_iter().map(outlook).collect();
        let volumes = query::Volumes { known, drives: Vec::new(), asked: Time::now(), state };
        return write(&volumes, &paper, &arguments.output, Outcome::AllDone);
    }
    if arguments.what == ChartWord::Tide {
        let state = open_state(state)?;
        let [place] = &arguments.paths[..] else {
            bail!("say of which volume or directory: one PATH");
        };
        let now = Time::now();
        let tide = history::of_path(place, Time::at(now.sec - LOOKED_BACK), now, &state)?;
        return write(&tide, &paper, &arguments.output, Outcome::AllDone);
    }
    if arguments.paths.is_empty() && arguments.walk.saved.is_none() {
        bail!("say of what: a PATH, or --saved N");
    }
    output::is_to_be_new(&arguments.output)?;
    let (by, classes) = (arguments.time, classes(&[], &[], state.clone())?);
    let closer = Closer::if_needed(arguments.what == ChartWord::Ages && by == AgeBy::Born);
    let looked =
        Looked::obtain(&arguments.paths, &arguments.look, &arguments.walk, closer, state.clone())?;
    let at = looked.below(arguments.below.as_deref())?;
    let directories = query::Directories { order: Order::Allocated, top: arguments.top };
    let accounts = looked.accounts();
    let subject = looked.subject(at, &accounts);
    if arguments.what == ChartWord::Duplicates {
        let pairs = duplicates::pairs(&looked, subject, arguments.top, state)?;
        return write(&pairs, &paper, &arguments.output, looked.outcome());
    }
    let query: Box<dyn Query> = match arguments.what {
        ChartWord::Cascade => Box::new(directories),
        ChartWord::Map => Box::new(query::Map(directories)),
        ChartWord::Ages => Box::new(query::Ages { by, classes }),
        ChartWord::Breakdown | ChartWord::Duplicates | ChartWord::Tide | ChartWord::Volumes => {
            Box::new(query::Breakdown { by: arguments.by, top: None })
        }
    };
    let answer = query.answer(subject);
    write(&*answer, &paper, &arguments.output, looked.outcome())
}

fn write(answer: &dyn Answer, paper: &Paper, file: &Path, outcome: Outcome) -> Result<Outcome> {
    let chart = answer.chart(paper).context("there is no such chart")?;
    charts::write_chart(&chart, file)?;
    say!("written: {}", Shown(file));
    Ok(outcome)
}
