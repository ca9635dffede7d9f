//! `fondaco plan`

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, anyhow, bail};
use fondaco_core::analysis::Protection;
use fondaco_core::catalog::{Catalog, Root};
use fondaco_core::kernel::{self, DeletedFile, DeletedFiles, Hold, OpenFiles, Process};
use fondaco_core::plan::{
    Deed, Draft, Plan, Planned, Put, Refusal, Review, survey_held, survey_with_open,
};
use fondaco_core::rule::{DeedWord, RuleSet};
use fondaco_core::shown::{DocPath, Shown, safe_json_pretty};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, counted, grouped};
use fondaco_core::volume::{root_of_held, volume_root};

use super::look::look_closer_at;
use super::{Outcome, binary, obtain, real_entry};
use crate::cli;
use crate::environment::open_state;
use crate::output::{self, Lean, Table, say, tell};

pub(super) fn run(arguments: &cli::Plan, state: Option<PathBuf>) -> Result<Outcome> {
    let said = state.clone();
    let state = open_state(state)?;
    let mut making = Making {
        protection: Protection::of_system(&state),
        depot: match &arguments.depot {
            Some(depot) => std::path::absolute(depot)?,
            None => state.depot(),
        },
        draft: Draft::default(),
        found: Vec::new(),
        protect: Vec::new(),
        given_up: Vec::new(),
        left_out: Vec::new(),
        mounts: kernel::mounts().unwrap_or_default(),
        state: &state,
        open: OpenFiles::collect(Time::now()),
    };
    if let Some(file) = &arguments.output {
        may_be_written(file)?;
    }
    for place in &arguments.give_up {
        let place =
            place.canonicalize().with_context(|| format!("cannot open {}", Shown(place)))?;
        making.protection.give_up(&place);
        making.given_up.push(DocPath(place));
    }
    if let Some(file) = &arguments.rules {
        if arguments.path.is_none() && arguments.walk.saved.is_none() {
            bail!("say what the rules are tried on: --rules FILE PATH, or --rules FILE --saved N");
        }
        let paths = arguments.path.as_slice();
        making.by_rules(file, obtain(paths, &arguments.walk, said)?.catalog)?;
    }
    let depot = making.depot.clone();
    for (paths, deed) in [
        (&arguments.delete, Deed::Delete),
        (&arguments.set_aside, Deed::SetAside),
        (&arguments.archive, Deed::Archive { depot }),
    ] {
        for path in paths {
            making.by_hand(path, &deed)?;
        }
    }
    making.releases(arguments)?;
    making.resolve();
    if arguments.rules.is_none() && making.draft.is_empty() && making.left_out.is_empty() {
        bail!(
            "nothing to plan: give --rules FILE PATH, or --delete, --set-aside or --archive PATH, or \
             --end PID for what it holds"
        );
    }
    making.finish(arguments)
}

struct Making<'a> {
    state: &'a State,
    mounts: Vec<kernel::Mount>,
    open: OpenFiles,
    protection: Protection,
    depot: PathBuf,
    draft: Draft,
    found: Vec<Planned>,
    protect: Vec<DocPath>,
    given_up: Vec<DocPath>,
    left_out: Vec<String>,
}

impl Making<'_> {
    fn by_rules(&mut self, file: &Path, catalog: Catalog) -> Result<()> {
        let text = std::fs::read_to_string(file)
            .with_context(|| format!("cannot read the rule file {}", Shown(file)))?;
        let rules = RuleSet::parse(file, &text, self.state)?;
        let catalog = match rules.wants_closer_look() {
            true => look_closer_at(catalog, false)?,
            false => catalog,
        };
        for root in catalog.roots() {
            self.try_on(&catalog, root, &rules);
        }
        Ok(())
    }

    fn try_on(&mut self, catalog: &Catalog, root: &Root, rules: &RuleSet) {
        let tried = rules.matches(catalog, root.entry, self.state);
        self.protect.extend(rules.protected_below(&root.path).into_iter().map(DocPath));
        if tried.protected > 0 {
            tell!("{} matches are protected and left out", grouped(tried.protected));
        }
        for found in &tried.matches {
            let rule = &rules.rules[found.rule];
            let depot = rule.depot.clone().unwrap_or_else(|| self.depot.clone());
            let deed = match rule.action {
                DeedWord::Delete => Deed::Delete,
                DeedWord::SetAside => Deed::SetAside,
                DeedWord::Archive => Deed::Archive { depot: root.path.join(depot) },
            };
            self.put(found.path.clone(), &deed, format!("rule: {}", rule.title));
        }
    }

    fn by_hand(&mut self, path: &Path, deed: &Deed) -> Result<()> {
        let path = real_entry(path)?;
        self.put(path, deed, "by hand".to_owned());
        Ok(())
    }

    fn put(&mut self, path: PathBuf, deed: &Deed, reason: String) {
        let refused = self
            .protection
            .reason(&path)
            .map(|reason| Refusal::Protected { path: path.clone(), reason });
        let surveyed = match refused {
            Some(refusal) => Err(refusal),
            None => survey_with_open(&path, &self.open),
        };
        let survey = match surveyed {
            Ok(survey) => survey,
            Err(refusal) => return self.left_out.push(refusal.to_string()),
        };
        let volume = volume_root(&path, self.state, &self.mounts);
        let depot_on_volume = match deed {
            Deed::Archive { depot } => volume_root(depot, self.state, &self.mounts) == volume,
            _ => false,
        };
        self.found.push(Planned {
            path,
            deed: deed.clone(),
            reason,
            volume,
            depot_on_volume,
            estimate: Bytes::ZERO,
            entries: survey.target.entries,
            review: Review::Ready(Box::new(survey)),
        });
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
        let survey = survey_held(file, held);
        let path = survey.target.path.0.clone();
        if self.found.iter().any(|planned| planned.path == path) {
            return; // two of the named processes hold it
        }
        self.found.push(Planned {
            path,
            deed,
            reason: "deleted, but held by a process".to_owned(),
            volume: root_of_held(file, self.state, &self.mounts).unwrap_or_default(),
            depot_on_volume: false,
            estimate: survey.target.allocated,
            entries: 1,
            review: Review::Ready(Box::new(survey)),
        });
    }

    /// Puts all that was found on the draft, and says what was resolved.
    fn resolve(&mut self) {
        let found = std::mem::take(&mut self.found);
        let paths: Vec<PathBuf> = found.iter().map(|planned| planned.path.clone()).collect();
        for (path, put) in paths.iter().zip(self.draft.put_all(found)) {
            match put {
                Put::Added => {}
                Put::TookIn(count) => {
                    tell!("{} takes in {count} planned below it", Shown(path));
                }
                Put::InsideOf(above) => {
                    tell!("{} goes with {} already", Shown(path), Shown(above));
                }
                Put::TakenOff => {
                    self.left_out.push(format!("{} was given twice and is left out", Shown(path)));
                }
            }
        }
    }

    fn finish(self, arguments: &cli::Plan) -> Result<Outcome> {
        let mut plan = self.draft.to_plan(self.protect, Time::now())?;
        plan.give_up = self.given_up;
        let volumes = plan.volumes();
        super::sample_levels(volumes.iter().map(|(path, _)| path.as_path()), self.state);
        if let Some(file) = &arguments.output {
            let mut text = safe_json_pretty(&plan)?;
            text.push(b'\n');
            kernel::write_whole(file, &text)?;
        }
        if arguments.json {
            output::json(&plan)?;
        } else if arguments.csv {
            let grid = crate::tables::plan(&self.draft);
            grid.write_csv(&arguments.columns, std::io::stdout().lock())?;
        } else {
            print(&plan)?;
            match &arguments.output {
                Some(file) => say!(
                    "Written to {}. Next: fondaco carry-out {} --rehearse",
                    Shown(file),
                    Shown(file)
                ),
                None => say!("Not kept: say -o FILE to keep it."),
            }
        }
        for reason in &self.left_out {
            tell!("left out: {reason}");
        }
        Ok(if self.left_out.is_empty() { Outcome::AllDone } else { Outcome::Refused })
    }
}

/// Makes sure before anything is scanned that a plan has a place, and overwrites nothing but an older plan.
fn may_be_written(file: &Path) -> Result<()> {
    #[derive(serde::Deserialize)]
    struct Head {
        fondaco: u32,
        kind: String,
    }
    output::has_place(file)?;
    let no_plan = || {
        anyhow!("{} exists and is no plan: nothing is overwritten, say another name", Shown(file))
    };
    // a pipe or terminal would be waited for
    if file.metadata().is_ok_and(|meta| !meta.is_file() && !meta.is_dir()) {
        return Err(no_plan());
    }
    let older = match File::open(file) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        older => older.with_context(|| format!("cannot write {}", Shown(file)))?,
    };
    match serde_json::from_reader::<_, Head>(io::BufReader::new(older)) {
        Ok(head) if head.fondaco > 0 && head.kind == "plan" => Ok(()),
        Err(error) if error.is_io() => bail!("cannot write {}: {error}", Shown(file)),
        _ => Err(no_plan()),
    }
}

/// The deleted file behind a process's descriptor.
fn behind(held: &DeletedFiles, (pid, fd): (u32, u32)) -> Option<&DeletedFile> {
    let through = |hold: &Hold| hold.process.pid == pid && hold.descriptors.contains(&fd);
    held.files.iter().find(|file| file.holds.iter().any(through))
}

fn print(plan: &Plan) -> Result<()> {
    use Lean::{Left, Right};
    let mut table = Table::new(&[
        ("no", Right),
        ("action", Left),
        ("frees now", Right),
        ("frees later", Right),
        ("entries", Right),
        ("reason", Left),
        ("target", Left),
    ]);
    for action in &plan.actions {
        table.row(vec![
            action.number.to_string(),
            action.deed.word().to_owned(),
            binary(action.frees.now),
            binary(action.frees.later),
            grouped(action.target.entries),
            fondaco_core::shown::shown(&action.reason),
            Shown(action.place()).to_string(),
        ]);
    }
    table.print()?;
    for action in &plan.actions {
        for note in &action.notes {
            say!("{}: {note}", action.number);
        }
    }
    let frees = plan.frees();
    say!(
        "{}: {} freed now and {} later",
        counted(plan.actions.len() as u64, "action"),
        binary(frees.now),
        binary(frees.later)
    );
    Ok(())
}
