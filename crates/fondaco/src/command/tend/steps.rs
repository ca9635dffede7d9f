//! The steps of an unattended run, each of which depends on those before it.

use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::path::PathBuf;
use std::time::Duration;

use fondaco_core::archive::{is_store, managed_name, prove_again};
use fondaco_core::carry_out::{
    CarryOutError, Due, EntryState, Figures, RunState, RunSummary, carry_out, due, next_due,
    purge_while, rehearse, settle,
};
use fondaco_core::catalog::Catalog;
use fondaco_core::history::{History, Outlook, keep_scan};
use fondaco_core::plan::{Draft, Plan};
use fondaco_core::rule::{RuleSet, RuleState};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::shown::{DocPath, Shown, shown};
use fondaco_core::unattended::{CarriedOut, Grade, RuleRecord, Step, Undone, VolumeRecord};
use fondaco_core::units::{Bytes, Time, counted, grouped};
use fondaco_core::volume::volume_of;

use super::super::binary;
use super::super::carry_out::settled_words;
use super::super::depots::todays_archives;
use super::super::rule_planning::{Conditions, Reviewed, TriedRules};
use super::{Tending, fill_of};
use crate::failure::Failure;
use crate::query::keeper_word;

/// A step that could not be taken, or after which nothing more is to be done. It has been told.
struct EndsHere;

type Taken<T> = Result<T, EndsHere>;

impl<'s> Tending<'s> {
    /// All steps up to the report.
    pub(super) fn go_through(&mut self) {
        // each of them has told why it ended
        let _ = self.settle().and_then(|()| {
            self.purge_due();
            self.levels();
            let rules = self.read_rules()?;
            let plan = self.plan_all(&rules)?;
            self.rehearse(&plan)?;
            self.carry_out(&plan)
        });
        self.note_next_purge();
        if let Some(budget) = self.state.settings.unattended.verify {
            self.verify(budget);
        }
    }

    /// Scans, tries and plans: directories together, buckets together, and each managed store for itself. What cannot be
    /// scanned keeps the others from nothing.
    fn plan_all(&mut self, rules: &RuleSet) -> Taken<Plan> {
        let mut groups: Vec<Vec<PathBuf>> = vec![Vec::new(), Vec::new()];
        for path in self.paths.clone() {
            match (managed_name(&path), is_store(&path)) {
                (Some(_), _) => groups.push(vec![path]),
                (None, true) => groups[1].push(path),
                (None, false) => groups[0].push(path),
            }
        }
        let (mut draft, mut protect, mut left_out) = (Draft::default(), BTreeSet::new(), 0);
        for paths in groups.into_iter().filter(|paths| !paths.is_empty()) {
            let Ok(catalog) = self.scan(&paths, rules) else { continue };
            self.save(&catalog);
            let Some(tried) = self.try_rules(rules.clone(), catalog)? else { continue };
            let reviewed = self.review(&tried, &mut draft);
            left_out += reviewed.left_out.len() as u64;
            protect.extend(reviewed.protect);
        }
        self.plan(&draft, protect.into_iter().collect(), left_out)
    }

    fn failed(&mut self, step: Step, error: impl std::fmt::Display) -> EndsHere {
        self.telling.tell(step, Grade::Failed, error.to_string());
        EndsHere
    }

    /// Finishes or undoes what earlier runs had begun.
    fn settle(&mut self) -> Taken<()> {
        let settled =
            settle(self.state, Time::now()).map_err(|error| self.failed(Step::Settle, error))?;
        for one in &settled {
            let grade = if one.failed > 0 { Grade::Failed } else { Grade::Done };
            self.telling.tell(Step::Settle, grade, settled_words(one));
        }
        Ok(())
    }

    /// Before anything else is removed: what has been held for long enough is what was decided first.
    fn purge_due(&mut self) {
        let all = match due(self.state, Time::now()) {
            Ok(all) => all,
            Err(error) => {
                self.failed(Step::Purge, error);
                return;
            }
        };
        for Due { run, actions } in all {
            let goes_on = || !self.time_is_up();
            let purged = purge_while(run, Some(&actions), self.state, Time::now(), &goes_on);
            let purged = match purged {
                Ok(purged) => purged,
                Err(error) => {
                    self.failed(Step::Purge, error);
                    continue;
                }
            };
            self.telling.record.purged.actions += purged.done.len() as u64;
            self.telling.record.purged.freed += purged.freed;
            for (entry, why) in &purged.refused {
                let path = DocPath(entry.action.place().to_owned());
                let (reason, why) = (format!("purge of run {run}"), shown(why));
                self.telling.record.refused.add(|| Undone { path, reason, why });
            }
            for (entry, _) in &purged.in_part {
                let path = DocPath(entry.action.place().to_owned());
                let (reason, why) = (format!("purge of run {run}"), shown(entry.summary()));
                self.telling.record.failed.add(|| Undone { path, reason, why });
            }
            let grade = match (purged.in_part.is_empty(), purged.refused.is_empty()) {
                (false, _) => Grade::Failed,
                (true, false) => Grade::Refused,
                (true, true) => Grade::Done,
            };
            let done = counted(purged.done.len() as u64, "held action");
            let freed = binary(purged.freed);
            let words = match purged.refused.len() + purged.in_part.len() {
                0 => format!("run {run}: {done} purged, {freed} freed"),
                left => format!("run {run}: {done} purged, {freed} freed; {left} left alone"),
            };
            self.telling.tell(Step::Purge, grade, words);
            if purged.done.len() + purged.refused.len() + purged.in_part.len() < actions.len() {
                self.telling.tell(Step::Purge, Grade::Refused, Self::why_it_ends());
                return;
            }
        }
    }

    fn levels(&mut self) {
        super::super::sample_levels(self.paths.iter().map(std::path::PathBuf::as_path), self.state);
        let told: Vec<(Grade, String)> = self
            .telling
            .record
            .volumes
            .iter()
            .map(|volume| match volume.before {
                Some(fill) => (
                    Grade::Done,
                    format!(
                        "{} is at {}, waterline {}",
                        Shown(&volume.path.0),
                        fill.level,
                        volume.waterline
                    ),
                ),
                None => (Grade::Refused, format!("{} does not answer", Shown(&volume.path.0))),
            })
            .collect();
        for (grade, words) in told {
            self.telling.tell(Step::Levels, grade, words);
        }
    }

    /// A file with a mistake does nothing at all; so it is read before anything is scanned.
    fn read_rules(&mut self) -> Taken<RuleSet> {
        match RuleSet::read(&self.rules_file, self.state) {
            Ok(Some(rules)) if !rules.rules.is_empty() => Ok(rules),
            Ok(_) => {
                let words = format!("there is no rule in {}", Shown(&self.rules_file));
                Err(self.failed(Step::Try, words))
            }
            Err(error) => Err(self.failed(Step::Try, error)),
        }
    }

    fn scan(&mut self, paths: &[PathBuf], rules: &RuleSet) -> Taken<Catalog> {
        let stores = rules.stores.clone();
        let scan = Scan::start(paths, &Options { stores, ..Options::new(Time::now()) })
            .map_err(|error| self.failed(Step::Scan, error))?;
        while !scan.wait_for(Duration::from_millis(200)) {
            if self.time_is_up() {
                scan.stop();
            }
        }
        let seconds = scan.progress().elapsed.as_secs_f64();
        let catalog = scan.into_catalog();
        if !catalog.is_complete() {
            let why = Self::why_it_ends();
            let words = format!("{why} while it scanned; rules are not tried on a part");
            self.telling.tell(Step::Scan, Grade::Refused, words);
            return Err(EndsHere);
        }
        let entries = grouped(catalog.rows() as u64);
        let unreadable = catalog.unreadable().len() as u64;
        let (grade, rest) = match catalog.unreadable().first() {
            None => (Grade::Done, String::new()),
            Some(first) => {
                let places = counted(unreadable, "place");
                let words = format!(
                    "; {places} could not be read, the first {}: {}",
                    Shown(&first.path),
                    first.error
                );
                (Grade::Refused, words)
            }
        };
        self.telling.tell(Step::Scan, grade, format!("{entries} entries in {seconds:.1} s{rest}"));
        Ok(catalog)
    }

    /// The run does not depend on whether its scan can be kept.
    fn save(&mut self, catalog: &Catalog) {
        if self.state.settings.scans_kept == 0 {
            return;
        }
        match keep_scan(self.state, catalog, true) {
            Ok((number, forgotten)) => {
                self.telling.tell(Step::Scan, Grade::Done, format!("kept as scan {number}"));
                if forgotten > 0 {
                    let words = format!("{} forgotten", counted(forgotten, "older scan"));
                    self.telling.tell(Step::Thin, Grade::Done, words);
                }
            }
            Err(error) => {
                self.telling.tell(Step::Scan, Grade::Refused, format!("not kept: {error}"));
            }
        }
    }

    /// What the rules take; `None` if that is nothing.
    fn try_rules(&mut self, rules: RuleSet, catalog: Catalog) -> Taken<Option<TriedRules<'s>>> {
        let depot = self.state.depot();
        let conditions =
            Conditions { state: self.state, depot, given_up: Vec::new(), confirmed: None };
        let tried = TriedRules::new(rules, catalog, conditions)
            .map_err(|error| self.failed(Step::Try, error))?;
        // a misspelt place would protect nothing: nobody is there to see the warning
        if !tried.warnings.is_empty() {
            for warning in &tried.warnings {
                self.telling.tell(Step::Try, Grade::Failed, warning.clone());
            }
            let file = Shown(&self.rules_file);
            let words =
                format!("nothing is done by rules that name what is not there: mend {file}");
            return Err(self.failed(Step::Try, words));
        }
        for (number, (rule, trial)) in tried.rules.rules.iter().zip(&tried.tried.rules).enumerate()
        {
            if rule.is_elsewhere(tried.catalog.origin()).is_some() {
                continue;
            }
            let title = shown(&rule.title);
            let held_back = tried.tried.keepers(&tried.catalog, number).into_iter();
            let held_back =
                held_back.map(|(by, sum)| (keeper_word(by).to_owned(), sum.entries)).collect();
            let mut record = RuleRecord {
                title: title.clone(),
                action: rule.action.words().to_owned(),
                rests: None,
                over_limit: false,
                entries: trial.takes.entries,
                allocated: trial.takes.allocated,
                held_back,
            };
            let takes = (grouped(trial.takes.entries), binary(trial.takes.allocated));
            let (grade, words) = match &trial.state {
                RuleState::Acts => {
                    (Grade::Done, format!("{title}: takes {} entries, {}", takes.0, takes.1))
                }
                RuleState::Off => {
                    record.rests = Some("switched off".to_owned());
                    (Grade::Done, format!("{title}: switched off"))
                }
                RuleState::Rests(why) => {
                    record.rests = Some(why.clone());
                    (Grade::Done, format!("{title}: rests, {why}"))
                }
                RuleState::OverLimit(why) => {
                    record.over_limit = true;
                    record.rests = Some(why.clone());
                    (Grade::Refused, format!("{title}: nothing of it is done, {why}"))
                }
            };
            if record.rests.is_some() && !record.over_limit {
                (record.entries, record.allocated) = Default::default();
            }
            self.telling.record.rules.push(record);
            self.telling.tell(Step::Try, grade, words);
        }
        Ok(tried.tried.takes_something().then_some(tried))
    }

    fn review(&mut self, tried: &TriedRules<'_>, draft: &mut Draft) -> Reviewed {
        let reviewed = tried.review(|planned| drop(draft.put(planned)));
        for left_out in &reviewed.left_out {
            self.telling.record.refused.add(|| Undone {
                path: DocPath(left_out.path.clone()),
                reason: shown(&left_out.reason),
                why: left_out.refusal.to_string(),
            });
        }
        reviewed
    }

    fn plan(&mut self, draft: &Draft, protect: Vec<DocPath>, left_out: u64) -> Taken<Plan> {
        let count = draft.planned().len();
        if count == 0 && left_out == 0 {
            // quiet success, or what failed has been told
            return Err(EndsHere);
        }
        let grade = if left_out > 0 { Grade::Refused } else { Grade::Done };
        if count == 0 {
            let words =
                format!("{} left out, and nothing is left to do", counted(left_out, "entry"));
            self.telling.tell(Step::Plan, grade, words);
            return Err(EndsHere);
        }
        let plan =
            draft.to_plan(protect, Time::now()).map_err(|error| self.failed(Step::Plan, error))?;
        let frees = plan.frees();
        let mut words = format!(
            "{}: {} freed now and {} later",
            counted(count as u64, "action"),
            binary(frees.now),
            binary(frees.later)
        );
        if left_out > 0 {
            words += &format!("; {} left out", counted(left_out, "entry"));
        }
        self.telling.tell(Step::Plan, grade, words);
        Ok(plan)
    }

    /// Refusals of single actions are no reason to leave the others; what speaks against the whole is.
    fn rehearse(&mut self, plan: &Plan) -> Taken<()> {
        let goes_on = |_: &Figures| match self.time_is_up() {
            true => ControlFlow::Break(()),
            false => ControlFlow::Continue(()),
        };
        let rehearsal = rehearse(plan, self.state, Time::now(), &goes_on);
        let rehearsal = rehearsal.map_err(|error| self.failed(Step::Rehearse, error))?;
        if self.time_is_up() {
            let words = format!("{} before anything was done", Self::why_it_ends());
            self.telling.tell(Step::Rehearse, Grade::Refused, words);
            return Err(EndsHere);
        }
        let refused = rehearsal.refused() as u64;
        let words = format!("{} would be refused", counted(refused, "action"));
        self.telling.tell(Step::Rehearse, Grade::Done, words);
        for warning in &rehearsal.warnings {
            self.telling.tell(Step::Rehearse, Grade::Refused, warning.clone());
        }
        if self.arguments.rehearse {
            self.telling.tell(Step::Rehearse, Grade::Done, "nothing more was asked for");
            return Err(EndsHere);
        }
        // the run tells why of each that is refused
        Ok(())
    }

    fn carry_out(&mut self, plan: &Plan) -> Taken<()> {
        let goes_on = |_: &Figures| match self.time_is_up() {
            true => ControlFlow::Break(()),
            false => ControlFlow::Continue(()),
        };
        let summary = match carry_out(plan, self.state, &Time::now, &goes_on) {
            Ok(summary) => summary,
            Err(error @ CarryOutError::Busy(_)) => {
                let words = format!("nothing was done: {error}");
                self.telling.tell(Step::CarryOut, Grade::Refused, words);
                return Err(EndsHere);
            }
            Err(error) => return Err(self.failed(Step::CarryOut, error)),
        };
        self.note_run(&summary);
        Ok(())
    }

    fn note_run(&mut self, summary: &RunSummary) {
        let record = &mut self.telling.record;
        for entry in summary.entries.iter().filter(|entry| entry.state.is_trouble()) {
            let undone = || Undone {
                path: DocPath(entry.action.place().to_owned()),
                reason: shown(&entry.action.reason),
                why: shown(entry.summary()),
            };
            match entry.state {
                EntryState::Refused => record.refused.add(undone),
                _ => record.failed.add(undone),
            }
        }
        let done: u64 =
            summary.counts.iter().filter(|(state, _)| state.is_done()).map(|(_, n)| n).sum();
        let count = |state| summary.count(state) as u64;
        let (refused, failed) = (count(EntryState::Refused), count(EntryState::Failed));
        let not_begun = count(EntryState::Waiting);
        record.run = Some(CarriedOut {
            run: summary.run,
            done,
            not_begun,
            forecast: (summary.forecast.now, summary.forecast.later),
            freed: summary.freed,
            measured: summary.measured,
            reasons: summary.reasons.clone(),
        });
        let grade = match () {
            () if failed > 0 => Grade::Failed,
            () if refused > 0 || summary.state == RunState::Stopped => Grade::Refused,
            () => Grade::Done,
        };
        let mut words = format!(
            "run {}: {} done, {refused} refused, {failed} failed; {} freed",
            summary.run,
            counted(done, "action"),
            binary(summary.freed)
        );
        if summary.state == RunState::Stopped {
            words += &format!(
                "; {}, {} left: fondaco journal {} --finish",
                Self::why_it_ends(),
                counted(not_begun, "action"),
                summary.run
            );
        }
        self.telling.tell(Step::CarryOut, grade, words);
    }

    fn note_next_purge(&mut self) {
        match next_due(self.state) {
            Ok(next) => {
                let next = next.map(|next| (next.actions, next.allocated, next.at.rfc3339()));
                self.telling.record.next_purge = next;
            }
            Err(error) => {
                self.failed(Step::Purge, error);
            }
        }
    }

    /// Reads archives back that have their turn today.
    fn verify(&mut self, budget: Bytes) {
        let archives = match todays_archives(self.state, budget) {
            Ok(archives) => archives,
            Err(error) => {
                self.failed(Step::Verify, Failure::with_causes(error.as_ref()));
                return;
            }
        };
        let (mut count, mut bytes) = (0, Bytes::ZERO);
        for archive in archives {
            if self.time_is_up() {
                self.telling.tell(Step::Verify, Grade::Refused, Self::why_it_ends());
                break;
            }
            match prove_again(&archive.path) {
                Ok(()) => (count, bytes) = (count + 1, bytes + archive.length),
                Err(error) => {
                    self.failed(Step::Verify, error);
                }
            }
        }
        if count > 0 {
            let words = format!("{}, {}, as written", counted(count, "archive"), binary(bytes));
            self.telling.tell(Step::Verify, Grade::Done, words);
        }
    }

    /// How full the volumes are after all that, and where they are going.
    pub(super) fn note_levels_after(&mut self) {
        let history = History::open(&self.state.history_file());
        if let Err(error) = &history {
            self.telling.tell(Step::Levels, Grade::Refused, error.to_string());
        }
        let mut told = Vec::new();
        for record in &mut self.telling.record.volumes {
            let Some(volume) = volume_of(&record.path.0, self.state) else { continue };
            record.after = fill_of(&volume);
            let outlook = history.as_ref().ok();
            let outlook = outlook.and_then(|history| history.outlook(&volume, Time::now()).ok());
            if let Some(outlook) = outlook {
                note_outlook(record, &outlook);
            }
            if record.is_above() {
                let level = record.after.or(record.before).map(|fill| fill.level.to_string());
                told.push(format!(
                    "{} is at {}, still above its waterline of {}",
                    Shown(&record.path.0),
                    level.unwrap_or_default(),
                    record.waterline
                ));
            }
        }
        for words in told {
            self.telling.tell(Step::Levels, Grade::Done, words);
        }
    }
}

fn note_outlook(record: &mut VolumeRecord, outlook: &Outlook) {
    record.rise_a_day = outlook.trend().map(|trend| trend.rise as i64);
    if let Outlook::Full(_, forecast) = outlook {
        let days = |days: f64| days.max(0.0) as u64;
        record.full_in_days = Some((days(forecast.soonest), forecast.latest.map(days)));
    }
}
