//! `fondaco plan`

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, anyhow, bail};
use fondaco_core::archive::{absolute, is_store};
use fondaco_core::catalog::Catalog;
use fondaco_core::drive::{Asking, failing_places};
use fondaco_core::duplicates::{Keep, Set};
use fondaco_core::kernel::{self, Aside, DeletedFile, DeletedFiles, Hold, Kind, Process};
use fondaco_core::packed_list::Record;
use fondaco_core::plan::{
    Action, Choice, Deed, Draft, PACKED_FROM, Plan, Planned, PlannedLeftovers, Put, Reviewer,
    is_plan, plan_copies, plan_emptied, plan_held,
};
use fondaco_core::rule::{RuleSet, RuleState};
use fondaco_core::shown::{DocPath, Shown, safe_json_pretty, shown};
use fondaco_core::state::State;
use fondaco_core::units::{Time, counted, grouped};
use fondaco_core::volume::root_of_held;

use super::actions::{self, ActionLine};
use super::rule_planning::{Conditions, TriedRules};
use super::{Outcome, binary, obtain_with, real_entry};
use crate::cli::{self, CopyDeed};
use crate::environment::open_state;
use crate::output::{self, Usage, say, tell, usage};
use crate::query::{Answer, Drafted, keeper_word};

pub(super) fn run(arguments: &cli::Plan, state: Option<PathBuf>) -> Result<Outcome> {
    let said = state.clone();
    let state = open_state(state)?;
    if let Some(file) = &arguments.output {
        may_be_written(file, arguments.force)?;
    }
    let mut making = Making {
        depot: match &arguments.depot {
            Some(depot) => absolute(depot)?,
            None => state.depot(),
        },
        draft: Draft::default(),
        protect: Vec::new(),
        given_up: Vec::new(),
        left_out: Vec::new(),
        roots: Vec::new(),
        mounts: kernel::mounts().unwrap_or_default(),
        state: &state,
    };
    for place in &arguments.give_up {
        let place =
            place.canonicalize().with_context(|| format!("cannot open {}", Shown(place)))?;
        making.given_up.push(DocPath(place));
    }
    if let Some(file) = &arguments.rules {
        if arguments.path.is_none() && arguments.walk.saved.is_none() {
            usage!("say what the rules are tried on: --rules FILE PATH, or --rules FILE --saved N");
        }
        let paths = arguments.path.as_slice();
        let stores = RuleSet::read(file, &state)?.unwrap_or_default().stores;
        let catalog = obtain_with(paths, &arguments.walk, stores, said)?.catalog;
        making.by_rules(file, catalog, arguments.confirm)?;
    }
    making.by_hand(arguments)?;
    making.releases(arguments)?;
    if arguments.clear_emptied {
        making.clear_emptied();
    }
    if arguments.rules.is_none() && making.draft.is_empty() && making.left_out.is_empty() {
        usage!(
            "nothing to plan: give --rules FILE PATH, or --delete, --set-aside, --archive or --move PATH, or \
             --end PID for what it holds"
        );
    }
    making.finish(arguments)
}

/// Plans what the arguments say for all copies of every set but the one that stays. What is protected or otherwise left
/// alone stays too.
pub(super) fn of_duplicates(
    catalog: &Catalog,
    sets: &[Set],
    keep: &Keep,
    arguments: &cli::Duplicates,
    state: &State,
) -> Result<Outcome> {
    let Some((deed, file)) = arguments.plan.zip(arguments.output.as_deref()) else {
        return Ok(Outcome::AllDone);
    };
    may_be_written(file, arguments.force)?;
    let deed = match (deed, &arguments.to) {
        (CopyDeed::Delete, _) => Deed::Delete,
        (CopyDeed::SetAside, _) => Deed::SetAside,
        (CopyDeed::Archive, _) => Deed::Archive { depot: state.depot() },
        (CopyDeed::Link, _) => Deed::Link,
        (CopyDeed::Share, _) => Deed::Share,
        (CopyDeed::Move, Some(to)) => {
            Deed::Move { to: std::path::absolute(to)?, same_volume: false }
        }
        (CopyDeed::Move, None) => return Err(Usage("--plan move needs --to DIR".into()).into()),
    };
    let reviewer = Reviewer::of_scan(state, catalog.origin(), catalog.roots(), Time::now());
    let mut draft = Draft::default();
    let mut left_out = Vec::new();
    let mut planned = Vec::new();
    for set in sets {
        let outcome = plan_copies(catalog, set, keep, &deed, &reviewer);
        planned.extend(outcome.planned);
        left_out.extend(outcome.left_out.iter().map(ToString::to_string));
    }
    draft.put_all(planned);
    if arguments.clear_emptied {
        let roots: Vec<PathBuf> = catalog.roots().iter().map(|root| root.path.clone()).collect();
        let (found, refused) = plan_emptied(draft.planned(), &roots, &reviewer);
        draft.put_all(found);
        left_out.extend(refused.iter().map(ToString::to_string));
    }
    finish(&draft, &reviewer, &left_out, file, arguments.all)
}

/// Writes the plan of what is left over.
pub(super) fn of_leftovers(
    found: PlannedLeftovers,
    reviewer: &Reviewer<'_>,
    arguments: &cli::Leftovers,
) -> Result<Outcome> {
    let Some(file) = arguments.output.as_deref() else { return Ok(Outcome::AllDone) };
    let mut draft = Draft::default();
    let mut known = std::collections::HashSet::new();
    // the same entry may be in several groups: the first has it
    let new = found.planned.into_iter().filter(|planned| known.insert(planned.path.clone()));
    draft.put_all(new);
    let left_out: Vec<String> = found.left_out.iter().map(ToString::to_string).collect();
    finish(&draft, reviewer, &left_out, file, arguments.all)
}

/// Writes a plan, prints it and tells what is not on it; `all` of it or what fits on a screen.
fn finish(
    draft: &Draft,
    reviewer: &Reviewer<'_>,
    left_out: &[String],
    file: &Path,
    all: bool,
) -> Result<Outcome> {
    let plan = draft.to_plan(reviewer.protected(), Time::now())?;
    write(&plan, file)?;
    print(&plan, all)?;
    warn_of_disks(&plan, reviewer.state());
    say!("Written to {}. Next: fondaco carry-out {} --rehearse", Shown(file), Shown(file));
    tell_left_out(left_out, if all { usize::MAX } else { LEFT_OUT });
    Ok(if left_out.is_empty() { Outcome::AllDone } else { Outcome::Refused })
}

/// Says if something is to be kept on a disk that is failing.
pub(super) fn warn_of_disks(plan: &Plan, state: &State) {
    let places = plan.destinations();
    let places = places.iter().map(PathBuf::as_path).filter(|place| !is_store(place));
    for warning in failing_places(places, state, &Asking::here()) {
        tell!("! {warning}");
    }
}

/// Tells the first reasons for which something is not on the plan, and how many more there are.
fn tell_left_out(reasons: &[String], most: usize) {
    for reason in reasons.iter().take(most) {
        tell!("left out: {reason}");
    }
    if reasons.len() > most {
        tell!("left out: {} more; --all lists them", grouped((reasons.len() - most) as u64));
    }
}

struct Making<'a> {
    state: &'a State,
    mounts: Vec<kernel::Mount>,
    depot: PathBuf,
    draft: Draft,
    protect: Vec<DocPath>,
    given_up: Vec<DocPath>,
    left_out: Vec<String>,
    /// What the rules are tried on.
    roots: Vec<PathBuf>,
}

impl Making<'_> {
    fn by_rules(&mut self, file: &Path, catalog: Catalog, confirmed: Option<u64>) -> Result<()> {
        let rules = super::rules::read(file, self.state)?;
        let (state, depot, given_up) = (self.state, self.depot.clone(), self.given_up.clone());
        let conditions = Conditions { state, depot, given_up, confirmed };
        let tried = TriedRules::new(rules, catalog, conditions)?;
        for warning in &tried.warnings {
            tell!("{}: {warning}", Shown(file));
        }
        let TriedRules { rules, catalog, tried: outcome, .. } = &tried;
        for (number, (rule, trial)) in rules.rules.iter().zip(&outcome.rules).enumerate() {
            let title = shown(&rule.title);
            for (by, sum) in outcome.keepers(catalog, number) {
                let (count, size) = (grouped(sum.entries), binary(sum.allocated));
                tell!("rule {title} leaves out {count} matches, {size}: {}", keeper_word(by));
            }
            match &trial.state {
                RuleState::Acts | RuleState::Off => {}
                RuleState::Rests(why) => tell!("rule {title} rests: {why}"),
                RuleState::OverLimit(why) => {
                    let entries = trial.takes.entries;
                    self.left_out.push(format!(
                        "all of rule {title}: {why}; to do it all the same say --confirm {entries}"
                    ));
                }
            }
        }
        let reviewed = tried.review(|planned| self.put(planned));
        let refused = reviewed.left_out.iter().map(|left_out| left_out.refusal.to_string());
        self.left_out.extend(refused);
        self.protect.extend(reviewed.protect);
        self.roots = reviewed.roots;
        Ok(())
    }

    /// Plans the directories that the rest of the plan empties.
    fn clear_emptied(&mut self) {
        let mut reviewer = Reviewer::new(self.state, Time::now());
        self.given_up.iter().for_each(|DocPath(place)| reviewer.give_up(place));
        reviewer.protect(self.protect.iter().map(|DocPath(place)| place.clone()).collect());
        let (found, left_out) = plan_emptied(self.draft.planned(), &self.roots, &reviewer);
        self.draft.put_all(found);
        self.left_out.extend(left_out.iter().map(ToString::to_string));
    }

    fn by_hand(&mut self, arguments: &cli::Plan) -> Result<()> {
        let cli::Plan { delete, set_aside, archive, move_paths, .. } = arguments;
        if [delete, set_aside, archive, move_paths].iter().all(|paths| paths.is_empty()) {
            return Ok(());
        }
        let state = self.state;
        let mut reviewer = Reviewer::new(state, Time::now());
        self.given_up.iter().for_each(|DocPath(place)| reviewer.give_up(place));
        let depot = self.depot.clone();
        let to = std::path::absolute(arguments.to.as_deref().unwrap_or(Path::new("/")))?;
        for (paths, deed) in [
            (delete, Deed::Delete),
            (set_aside, Deed::SetAside),
            (archive, Deed::Archive { depot }),
            (move_paths, Deed::Move { to, same_volume: false }),
        ] {
            for path in paths {
                match reviewer.plan(&Choice::Path(real_entry(path)?), &deed, "by hand") {
                    Ok(planned) => self.put(planned),
                    Err(refusal) => self.left_out.push(refusal.to_string()),
                }
            }
        }
        self.protect.extend(reviewer.protected());
        Ok(())
    }

    /// Puts a thing on the draft, and says what was resolved.
    fn put(&mut self, planned: Planned) {
        let path = planned.path.clone();
        match self.draft.put(planned) {
            Put::Added => {}
            Put::TookIn(count) => {
                tell!("{} takes in {count} planned below it", Shown(&path));
            }
            Put::InsideOf(above) => {
                tell!("{} goes with {} already", Shown(&path), Shown(&above));
            }
            Put::TakenOff => {
                let twice = format!("{} was given twice and is left out", Shown(&path));
                self.left_out.push(twice);
            }
        }
    }

    /// Deleted files that are to be let go of.
    fn releases(&mut self, arguments: &cli::Plan) -> Result<()> {
        let by_force = !arguments.kill.is_empty();
        let pids = if by_force { &arguments.kill } else { &arguments.end };
        let wanted = !pids.is_empty() || !arguments.cut.is_empty();
        if !wanted && arguments.save_and_cut.is_empty() {
            return Ok(());
        }
        let held = DeletedFiles::collect(Time::now());
        for pid in pids {
            let mut of_process = held
                .files
                .iter()
                .filter(|file| file.holds.iter().any(|hold| hold.process.pid == *pid))
                .peekable();
            if of_process.peek().is_none() {
                self.left_out.push(format!("pid {pid} holds no deleted file that can be seen"));
            }
            for file in of_process {
                self.end(file, &held, pids, by_force);
            }
        }
        for which in &arguments.cut {
            self.release(&held, *which, Deed::Cut);
        }
        for (which, to) in &arguments.save_and_cut {
            let to = real_entry(to)?;
            let beside = to.parent().and_then(|parent| kernel::stat_path(parent).ok());
            let file = behind(&held, *which);
            let same_volume = beside.zip(file).is_some_and(|(stat, file)| stat.dev == file.dev);
            self.release(&held, *which, Deed::Save { to, same_volume });
        }
        Ok(())
    }

    fn end(&mut self, file: &DeletedFile, held: &DeletedFiles, pids: &[u32], by_force: bool) {
        let other = file.holds.iter().find(|hold| !pids.contains(&hold.process.pid));
        if let Some(other) = other {
            let was = Shown(&file.path);
            let Process { pid, command, .. } = &other.process;
            let reason =
                format!("{was} (deleted) is held by pid {pid} ({command}) too: name it as well");
            if !self.left_out.contains(&reason) {
                self.left_out.push(reason);
            }
            return;
        }
        self.put_held(file, held, Deed::End { by_force });
    }

    fn release(&mut self, held: &DeletedFiles, which: (u32, u32), deed: Deed) {
        match behind(held, which) {
            Some(file) => self.put_held(file, held, deed),
            None => {
                let (pid, fd) = which;
                self.left_out
                    .push(format!("descriptor {fd} of pid {pid} leads to no deleted file"));
            }
        }
    }

    fn put_held(&mut self, file: &DeletedFile, held: &DeletedFiles, deed: Deed) {
        let volume = root_of_held(file, self.state, &self.mounts).unwrap_or_default();
        let planned = plan_held(file, held, deed, volume);
        // two of the named processes may hold it
        if !self.draft.is_planned(&planned.path) {
            self.put(planned);
        }
    }

    fn finish(self, arguments: &cli::Plan) -> Result<Outcome> {
        let mut plan = self.draft.to_plan(self.protect, Time::now())?;
        plan.give_up.extend(self.given_up);
        let volumes = plan.volumes();
        super::sample_levels(volumes.iter().map(|(path, _)| path.as_path()), self.state);
        if let Some(file) = &arguments.output {
            write(&plan, file)?;
        }
        if arguments.json {
            output::json(&plan)?;
        } else if arguments.csv {
            let grid = Drafted(self.draft, Time::now()).grid();
            grid.write_csv(&arguments.columns, std::io::stdout().lock())?;
        } else {
            print(&plan, arguments.all)?;
            warn_of_disks(&plan, self.state);
            match &arguments.output {
                Some(file) => say!(
                    "Written to {}. Next: fondaco carry-out {} --rehearse",
                    Shown(file),
                    Shown(file)
                ),
                None => say!("Not kept: say -o FILE to keep it."),
            }
        }
        let shown = if arguments.all { usize::MAX } else { LEFT_OUT };
        tell_left_out(&self.left_out, shown);
        Ok(if self.left_out.is_empty() { Outcome::AllDone } else { Outcome::Refused })
    }
}

/// Writes a plan to a file that may be written: as the JSON document, or packed if it is of many actions.
fn write(plan: &Plan, file: &Path) -> Result<()> {
    if plan.actions.len() < PACKED_FROM {
        let mut text = safe_json_pretty(plan)?;
        text.push(b'\n');
        return Ok(kernel::write_whole(file, &text)?);
    }
    let aside = Aside::create(file)?;
    let out = io::BufWriter::with_capacity(1 << 20, &aside.file);
    plan.write_packed(out).with_context(|| format!("cannot write {}", Shown(file)))?;
    Ok(aside.replace(file)?)
}

/// How many entries that are left out are listed, unless all are asked for.
const LEFT_OUT: usize = 20;

/// Makes sure before anything is scanned that a plan has a place, and overwrites nothing unless that is wanted, and
/// then nothing but an older plan.
pub(super) fn may_be_written(file: &Path, force: bool) -> Result<()> {
    output::has_place(file)?;
    let no_plan = || {
        anyhow!("{} exists and is no plan: nothing is overwritten, say another name", Shown(file))
    };
    match kernel::stat_path(file) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        Err(error) => bail!("cannot write {}: {error}", Shown(file)),
        Ok(_) if !force => {
            usage!("{} exists: say another name, or --force to replace it", Shown(file))
        }
        // a pipe or terminal would be waited for
        Ok(stat) if !matches!(stat.kind, Kind::File | Kind::Directory) => return Err(no_plan()),
        Ok(_) => {}
    }
    let older = File::open(file).with_context(|| format!("cannot write {}", Shown(file)))?;
    match is_plan(older).with_context(|| format!("cannot write {}", Shown(file)))? {
        true => Ok(()),
        false => Err(no_plan()),
    }
}

/// The deleted file behind a process's descriptor.
fn behind(held: &DeletedFiles, (pid, fd): (u32, u32)) -> Option<&DeletedFile> {
    let through = |hold: &Hold| hold.process.pid == pid && hold.descriptors.contains(&fd);
    held.files.iter().find(|file| file.holds.iter().any(through))
}

fn print(plan: &Plan, all: bool) -> Result<()> {
    let line = |action: Record<Action>| ActionLine {
        number: action.number,
        word: action.deed.word(),
        target: action.place().to_owned(),
        reason: action.reason.clone(),
        bytes: action.frees.now + action.frees.later,
        notes: action.notes.clone(),
        is_trouble: false,
    };
    actions::print(plan.actions.len(), plan.actions.iter().map(line), all)?;
    let frees = plan.frees();
    say!(
        "{}: {} freed now and {} later",
        counted(plan.actions.len() as u64, "action"),
        binary(frees.now),
        binary(frees.later)
    );
    for place in plan.destinations() {
        say!("goes to {}", Shown(&place));
    }
    Ok(())
}
