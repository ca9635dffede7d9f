//! What rules take from a scan, reviewed and ready to be planned: for `fondaco plan --rules` and unattended runs.

use std::path::PathBuf;

use anyhow::Result;
use fondaco_core::catalog::Catalog;
use fondaco_core::plan::{Planned, Proposal, Refusal, Reviewer, plan_by_program, reason_left_over};
use fondaco_core::rule::{Circumstances, Match, ProgramMatch, RuleSet, TryOut};
use fondaco_core::shown::DocPath;
use fondaco_core::state::State;
use fondaco_core::units::Time;

use super::look::look_closer_at;

/// What the planning depends on beside the rules and the scan.
pub(super) struct Conditions<'a> {
    pub(super) state: &'a State,
    /// Where archives go, unless a rule says otherwise.
    pub(super) depot: PathBuf,
    /// Depots and holding areas that may be removed.
    pub(super) given_up: Vec<DocPath>,
    /// The number of entries for which a rule may pass its limit.
    pub(super) confirmed: Option<u64>,
}

/// Rules tried on a scan.
pub(super) struct TriedRules<'a> {
    conditions: Conditions<'a>,
    pub(super) rules: RuleSet,
    pub(super) catalog: Catalog,
    pub(super) tried: TryOut,
    /// Words of the rules that name nothing which is there.
    pub(super) warnings: Vec<String>,
}

impl<'a> TriedRules<'a> {
    /// Tries the rules.
    pub(super) fn new(
        rules: RuleSet,
        catalog: Catalog,
        conditions: Conditions<'a>,
    ) -> Result<Self> {
        let catalog = match rules.wants_closer_look() {
            true => look_closer_at(catalog, false)?,
            false => catalog,
        };
        let roots = catalog.roots();
        let named = roots.iter().flat_map(|root| rules.names_nothing(&catalog, root.entry));
        let warnings = named.collect();
        let mut facts = Circumstances::now(conditions.state, catalog.origin(), roots)?;
        for DocPath(place) in &conditions.given_up {
            facts.protection.give_up(place);
        }
        facts.confirmed = conditions.confirmed;
        facts.look_for_leftovers(&rules, &catalog, conditions.state)?;
        let tried = rules.try_on(&catalog, &facts);
        drop(facts);
        Ok(Self { conditions, rules, catalog, tried, warnings })
    }

    /// Looks at all that the rules take as it is now, and hands over what can be planned, in the order of the rules.
    pub(super) fn review(&self, mut plan: impl FnMut(Planned)) -> Reviewed {
        let Conditions { state, depot, given_up, .. } = &self.conditions;
        let (catalog, now) = (&self.catalog, Time::now());
        let mut reviewer = Reviewer::of_scan(state, catalog.origin(), catalog.roots(), now);
        given_up.iter().for_each(|DocPath(place)| reviewer.give_up(place));
        for root in catalog.roots() {
            reviewer.protect(self.rules.protected_below(&root.path));
        }
        let mut reviewed = Reviewed {
            left_out: Vec::new(),
            protect: Vec::new(),
            roots: catalog.roots().iter().map(|root| root.path.clone()).collect(),
        };
        let proposal = |found: &Match| {
            let rule = &self.rules.rules[usize::from(found.rule)];
            Proposal::of_rule(catalog, rule, found, depot)
        };
        let matches = &self.tried.matches;
        reviewer.plan_all(matches, proposal, |Proposal { choice, reason, .. }, came_of| {
            match came_of {
                Ok(planned) => plan(planned),
                Err(refusal) => {
                    let path = choice.path().to_owned();
                    reviewed.left_out.push(LeftOut { path, reason, refusal });
                }
            }
        });
        let by_program: Vec<&ProgramMatch> = self.tried.by_program.iter().collect();
        for (group, outcome) in plan_by_program(catalog, &self.rules, &by_program, &mut reviewer) {
            outcome.planned.into_iter().for_each(&mut plan);
            reviewed.left_out.extend(outcome.left_out.into_iter().map(|refusal| LeftOut {
                path: PathBuf::from(group.group().title),
                reason: reason_left_over(group),
                refusal,
            }));
        }
        reviewed.protect = reviewer.protected();
        reviewed
    }
}

/// What is to be said of what rules take, as it is now.
pub(super) struct Reviewed {
    pub(super) left_out: Vec<LeftOut>,
    /// What the rules protect, for the plan.
    pub(super) protect: Vec<DocPath>,
    /// What was scanned.
    pub(super) roots: Vec<PathBuf>,
}

/// What a rule takes and must not be planned.
pub(super) struct LeftOut {
    pub(super) path: PathBuf,
    pub(super) reason: String,
    pub(super) refusal: Refusal,
}
