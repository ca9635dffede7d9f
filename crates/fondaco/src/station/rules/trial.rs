//! Trying the rule file on the scan at hand, and planning what it takes.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::sync::{Arc, RwLock};

use fondaco_core::carry_out::{Journal, LastOfReason};
use fondaco_core::catalog::Catalog;
use fondaco_core::kernel;
use fondaco_core::packed_list::PackedList;
use fondaco_core::plan::{PlannedLeftovers, Proposal, Reviewer, plan_by_program};
use fondaco_core::rule::{
    Circumstances, Frees, Keeper, ProgramMatch, Rule, RuleSet, Sum, TryOut, VolumeFacts,
};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, counted};

use crate::failure::Failure;
use crate::frame::message::{Job, News, Work};
use crate::frame::model::{Model, read};
use crate::frame::surveyed::Surveyed;
use crate::frame::update::many::plan_looked;
use crate::query::{Answer, Query, Subject, Tried, name_of_whole};
use crate::timer;

/// So many entries of each rule are kept for the panel.
const LISTED: usize = 200;

/// A rule file as it was tried, with all that the panel shows of it.
#[derive(Debug)]
pub(super) struct TriedRules {
    /// The rules; there is none if there is no file.
    pub rules: RuleSet,
    /// What came of them.
    pub out: TryOut,
    /// For each rule what keeps entries back.
    pub keepers: Vec<Vec<(Keeper, Sum)>>,
    /// For each rule the first entries that it takes.
    pub listed: Vec<Vec<Taken>>,
    /// The volumes with their levels, and what is freed on each.
    pub volumes: Vec<(VolumeFacts, Frees)>,
    /// Places that the rules name and that are not there.
    pub not_there: Vec<String>,
    /// There is a rule file.
    pub has_file: bool,
    /// For each rule what it did when it last did something.
    pub last: Vec<Option<LastOfReason>>,
    /// When the rules are carried out next, in words, if a timer is known of.
    pub next: Option<String>,
}

/// An entry that a rule takes, as it is listed.
#[derive(Clone, Debug)]
pub(super) struct Taken {
    /// Below the scanned directory, if there is but one.
    pub path: PathBuf,
    pub allocated: Bytes,
    pub age: String,
    /// Its place among the generations, and how far the cap was passed.
    pub place: String,
}

/// What was tried, for an export.
#[derive(Debug)]
pub(super) struct AsTried(pub Arc<TriedRules>);

impl Query for AsTried {
    fn answer<'a>(&self, of: Subject<'a>) -> Box<dyn Answer + 'a> {
        let Self(tried) = self;
        Box::new(Tried {
            rules: tried.rules.clone(),
            catalog: of.catalog(),
            volumes: tried.volumes.iter().map(|(volume, _)| volume.clone()).collect(),
            out: tried.out.clone(),
            all: true,
        })
    }
}

/// Reads the rule file and tries it.
#[derive(Debug)]
struct TryRules {
    number: u64,
    catalog: Arc<RwLock<Catalog>>,
    state: State,
}

impl Work for TryRules {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let outcome = self.tried().map(Arc::new);
        Box::new(RulesTried { number: self.number, outcome })
    }
}

impl TryRules {
    fn tried(&self) -> Result<TriedRules, Failure> {
        let read_file =
            RuleSet::read(&self.state.rules_file(), &self.state).map_err(Failure::of)?;
        let has_file = read_file.is_some();
        let rules = read_file.unwrap_or(RuleSet::default());
        let (origin, roots) = {
            let catalog = read(&self.catalog);
            (catalog.origin().clone(), catalog.roots().to_vec())
        };
        let mut facts = Circumstances::now(&self.state, &origin, &roots).map_err(Failure::of)?;
        // before the catalog is held: reading the journal and asking volumes may take long
        let last = last_runs(&rules, &self.state)?;
        let next = timer::next_run();
        let catalog = read(&self.catalog);
        facts.look_for_leftovers(&rules, &catalog, &self.state).map_err(Failure::of)?;
        let out = rules.try_on(&catalog, &facts);
        let roots = catalog.roots().iter();
        let not_there = roots.flat_map(|root| rules.names_nothing(&catalog, root.entry)).collect();
        let answer = Tried { rules, catalog: &catalog, volumes: facts.volumes, out, all: false };
        let mut listed = vec![Vec::new(); answer.rules.rules.len()];
        for found in &answer.out.matches {
            let list = &mut listed[usize::from(found.rule)];
            if list.len() < LISTED {
                list.push(Taken {
                    path: match catalog.roots() {
                        [_] => catalog.path_below_root(found.entry),
                        _ => catalog.path(found.entry),
                    },
                    allocated: catalog.allocated(found.entry),
                    age: answer.age(found),
                    place: answer.place(found),
                });
            }
        }
        for found in &answer.out.by_program {
            let list = &mut listed[usize::from(found.rule)];
            if list.len() < LISTED {
                list.push(Taken {
                    path: PathBuf::from(name_of_whole(&catalog, &found.item)),
                    allocated: found.item.allocated,
                    age: found.item.since.age(catalog.now()).to_string(),
                    place: String::new(),
                });
            }
        }
        let count = answer.rules.rules.len();
        let keepers = (0..count).map(|rule| answer.out.keepers(&catalog, rule)).collect();
        let freed = |volume: VolumeFacts| {
            let frees = answer.out.frees_on(&catalog, volume.device);
            (volume, frees)
        };
        let volumes = answer.volumes.iter().cloned().map(freed).collect();
        let Tried { rules, out, .. } = answer;
        Ok(TriedRules { rules, out, keepers, listed, volumes, not_there, has_file, last, next })
    }
}

/// For each rule what it did when it last did something, as far as the journal's last runs tell.
fn last_runs(rules: &RuleSet, state: &State) -> Result<Vec<Option<LastOfReason>>, Failure> {
    const MOST_RUNS: usize = 40;
    let file = state.journal_file();
    let known = match kernel::stat_path(&file) {
        // it is made by the first run
        Err(error) if error.kind() == ErrorKind::NotFound => Vec::new(),
        _ => Journal::open(&file)
            .and_then(|journal| journal.last_of_reasons(MOST_RUNS))
            .map_err(Failure::of)?,
    };
    let of = |rule: &Rule| {
        let reason = Proposal::reason(rule);
        known.iter().find(|last| last.reason == reason).cloned()
    };
    Ok(rules.rules.iter().map(of).collect())
}

/// The rules have been tried.
#[derive(Debug)]
struct RulesTried {
    number: u64,
    outcome: Result<Arc<TriedRules>, Failure>,
}

impl News for RulesTried {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        let state = &mut model.rooms.rules;
        if state.number == self.number {
            state.waiting = false;
            let count = self.outcome.as_ref().map_or(0, |tried| tried.rules.rules.len());
            state.cursor = state.cursor.min(count.saturating_sub(1));
            state.tried = Some(self.outcome);
        }
        Vec::new()
    }
}

/// Tries the rules on the scan at hand, if it has ended.
pub(super) fn try_out(model: &mut Model) -> Option<Job> {
    if model.scan.running {
        return None;
    }
    let catalog = model.scan.catalog.clone()?;
    let state = &mut model.rooms.rules;
    state.number += 1;
    state.waiting = true;
    let (number, state) = (state.number, model.state.clone());
    Some(Job::Work(Box::new(TryRules { number, catalog, state })))
}

/// Looks closely at all that the rules take.
#[derive(Debug)]
struct SurveyAll {
    scan: u64,
    catalog: Arc<RwLock<Catalog>>,
    tried: Arc<TriedRules>,
    state: State,
    /// Only what this rule takes.
    only: Option<u16>,
}

impl Work for SurveyAll {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let (choices, mut reviewer) = {
            let catalog = read(&self.catalog);
            let (rules, depot) = (&self.tried.rules, self.state.depot());
            let choice = |found: &fondaco_core::rule::Match| {
                let rule = &rules.rules[usize::from(found.rule)];
                Proposal::of_rule(&catalog, rule, found, &depot)
            };
            let wanted = |found: &&fondaco_core::rule::Match| {
                self.only.is_none_or(|only| only == found.rule)
            };
            let matches = self.tried.out.matches.iter().filter(wanted);
            let choices: PackedList<Proposal> = matches.map(choice).collect();
            let (origin, roots) = (catalog.origin().clone(), catalog.roots().to_vec());
            drop(catalog);
            let mut reviewer = Reviewer::of_scan(&self.state, &origin, &roots, Time::now());
            for root in &roots {
                reviewer.protect(rules.protected_below(&root.path));
            }
            (choices, reviewer)
        };
        let mut looked = Surveyed::default();
        let by_program = self.tried.out.by_program.iter();
        let is_wanted = |found: &&ProgramMatch| self.only.is_none_or(|only| only == found.rule);
        let by_program: Vec<&ProgramMatch> = by_program.filter(is_wanted).collect();
        if !by_program.is_empty() {
            let catalog = read(&self.catalog);
            let outcomes = plan_by_program(&catalog, &self.tried.rules, &by_program, &mut reviewer);
            drop(catalog);
            for (group, PlannedLeftovers { planned, left_out }) in outcomes {
                for planned in planned {
                    let path = planned.path.clone();
                    looked.add(&path, || Ok(planned));
                }
                let name = Path::new(group.group().title);
                left_out.into_iter().for_each(|refusal| looked.add(name, || Err(refusal)));
            }
        }
        reviewer.plan_all(choices, std::convert::identity, |chosen, came_of| {
            looked.add(chosen.choice.path(), || came_of);
        });
        Box::new(AllSurveyed { scan: self.scan, looked })
    }
}

/// All that the rules take has been looked at.
#[derive(Debug)]
struct AllSurveyed {
    scan: u64,
    looked: Surveyed,
}

impl News for AllSurveyed {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        if self.scan != model.scan.number {
            model.say_trouble("Another scan is at hand: nothing has been planned");
            return Vec::new();
        }
        plan_looked(model, "by the rules", self.looked)
    }
}

/// Plans all that the rules take.
pub(super) fn plan_all(model: &mut Model) -> Vec<Job> {
    plan(model, None)
}

/// Plans what the selected rule takes.
pub(super) fn plan_one(model: &mut Model) -> Vec<Job> {
    let cursor = model.rooms.rules.cursor;
    plan(model, Some(cursor as u16))
}

fn plan(model: &mut Model, only: Option<u16>) -> Vec<Job> {
    if model.run.is_active() {
        model.say_trouble("A run is going on: plan more when it has ended");
        return Vec::new();
    }
    let (Some(catalog), Some(Ok(tried))) =
        (model.scan.catalog.clone(), model.rooms.rules.tried.clone())
    else {
        return Vec::new();
    };
    let wanted = |found: &&fondaco_core::rule::Match| only.is_none_or(|only| only == found.rule);
    let by_program = tried.out.by_program.iter();
    let by_program = by_program.filter(|found| only.is_none_or(|only| only == found.rule)).count();
    let count = (tried.out.matches.iter().filter(wanted).count() + by_program) as u64;
    model.say(format!("Looking closely at {} of the rules …", counted(count, "match")));
    let (scan, state) = (model.scan.number, model.state.clone());
    vec![Job::Work(Box::new(SurveyAll { scan, catalog, tried, state, only }))]
}
