//! `fondaco rules`

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use fondaco_core::rule::{Circumstances, RuleSet, RuleState, kept_days, schema};
use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use fondaco_core::units::counted;

use super::look::{look_closer_at, tell_answer};
use super::{Outcome, obtain_with};
use crate::charts::{self, A4};
use crate::cli::{Rules, RulesAct, RulesPast, RulesTry};
use crate::environment::open_state;
use crate::output;
use crate::output::{ProgressLine, say, tell, usage};
use crate::query::{Answer, Past, RuleWords, Tried};

pub(super) fn run(arguments: &Rules, state: Option<PathBuf>) -> Result<Outcome> {
    match &arguments.act {
        RulesAct::Try(arguments) => try_out(arguments, state),
        RulesAct::Past(arguments) => past(arguments, state),
        RulesAct::Schema => {
            output::json(&schema())?;
            Ok(Outcome::AllDone)
        }
        RulesAct::Check { file } => {
            let state = open_state(state)?;
            let file = file.clone().unwrap_or_else(|| state.rules_file());
            let rules = read(&file, &state)?;
            let count = counted(rules.rules.len() as u64, "rule");
            say!("{}: {count}, nothing is wrong with it", Shown(&file));
            Ok(Outcome::AllDone)
        }
        RulesAct::Show { file, json } => {
            let state = open_state(state)?;
            let file = file.clone().unwrap_or_else(|| state.rules_file());
            let rules = read(&file, &state)?;
            let words = RuleWords { file: &file, rules: &rules };
            if *json {
                output::json(&words.document())?;
            } else {
                words.print()?;
            }
            Ok(Outcome::AllDone)
        }
    }
}

/// Reads a rule file that must be there and hold a rule.
pub(super) fn read(file: &Path, state: &State) -> Result<RuleSet> {
    let rules = RuleSet::read(file, state)?;
    let rules = rules.with_context(|| format!("there is no rule file {}", Shown(file)))?;
    if rules.rules.is_empty() {
        usage!("{} has no rule: a rule begins with [[rule]]", Shown(file));
    }
    Ok(rules)
}

fn try_out(arguments: &RulesTry, state: Option<PathBuf>) -> Result<Outcome> {
    let opened = open_state(state.clone())?;
    // before anything is scanned
    let rules = read(&arguments.file, &opened)?;
    let stores = rules.stores.clone();
    let catalog = obtain_with(&arguments.paths, &arguments.walk, stores, state)?.catalog;
    let catalog = match rules.wants_closer_look() && arguments.walk.saved.is_none() {
        true => look_closer_at(catalog, false)?,
        false => catalog,
    };
    for root in catalog.roots() {
        for warning in rules.names_nothing(&catalog, root.entry) {
            tell!("{}: {warning}", Shown(&arguments.file));
        }
    }
    let mut facts = Circumstances::now(&opened, catalog.origin(), catalog.roots())?;
    facts.look_for_leftovers(&rules, &catalog, &opened)?;
    let out = rules.try_on(&catalog, &facts);
    let all = arguments.all;
    let answer = Tried { rules, catalog: &catalog, volumes: facts.volumes, out, all };
    tell_answer(&answer, &arguments.form)?;
    let stopped = answer.out.rules.iter().any(|rule| matches!(rule.state, RuleState::OverLimit(_)));
    let outcome = Outcome::told_of_scan(&catalog);
    Ok(if stopped { Outcome::Refused } else { outcome })
}

fn past(arguments: &RulesPast, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    let rules = read(&arguments.file, &state)?;
    // a wrong name is told before anything is read
    if let Some(output) = &arguments.output {
        charts::is_to_be_chart(output)?;
    }
    let place = arguments.path.canonicalize().unwrap_or_else(|_| arguments.path.clone());
    let mut days = kept_days(&state, &place)?;
    if days.is_empty() {
        bail!(
            "no whole scan of {} is kept: fondaco scan {} --save keeps one, and fondaco scans lists them",
            Shown(&place),
            Shown(&place)
        );
    }
    days.drain(..days.len().saturating_sub(arguments.days));
    let whole = days.len();
    let mut line = ProgressLine::new();
    let past = rules.try_on_days(&state, &days, &mut |done| {
        line.show(&format!("tried on {done} of {whole} days"));
        ControlFlow::Continue(())
    })?;
    line.clear();
    let titles = rules.rules.iter().map(|rule| rule.title.clone()).collect();
    let past = Past { place, titles, days: past };
    if let Some(output) = &arguments.output {
        let chart = past.chart(&A4).context("there is no such chart")?;
        charts::write_chart(&chart, output)?;
        say!("written: {}", Shown(output));
    } else {
        tell_answer(&past, &arguments.form)?;
    }
    let failed = past.days.iter().any(|day| day.outcome.is_err());
    Ok(if failed { Outcome::Failed } else { Outcome::AllDone })
}
