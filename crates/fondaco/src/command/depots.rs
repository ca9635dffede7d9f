//! `fondaco depots`

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result, bail};
use fondaco_core::archive::{
    OpenArchive, StoredArchive, absolute, archives_in, is_store, prove_again, round_trip,
};
use fondaco_core::carry_out::restore_into;
use fondaco_core::kernel::capacity;
use fondaco_core::shown::{DocPath, Shown};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time, counted};

use super::look::tell_answer;
use super::{Outcome, binary};
use crate::cli::{self, DepotsAct};
use crate::environment::open_state;
use crate::output::{ProgressLine, say, tell, usage};
use crate::query::{ArchiveTargets, DepotsFound, FoundArchive, FoundDepot};

pub(super) fn run(arguments: &cli::Depots, state: Option<PathBuf>) -> Result<Outcome> {
    let state = open_state(state)?;
    match &arguments.act {
        None => list(&state, &arguments.form),
        Some(DepotsAct::Check { depots }) => check(&chosen(depots, &state)?),
        Some(DepotsAct::Show { archive, form }) => {
            let found = find(archive)?;
            let about =
                found.about().with_context(|| format!("{} cannot be used", Shown(archive)))?;
            tell_answer(&ArchiveTargets { path: found.path, about }, form)?;
            Ok(Outcome::AllDone)
        }
        Some(DepotsAct::Verify { archives, at_most }) => verify(archives, *at_most, &state),
        Some(DepotsAct::Restore { archive, to, originals }) => restore(archive, to, originals),
    }
}

/// Depots that runs have used, and the one that the settings name; those of the arguments if there are any.
fn chosen(said: &[PathBuf], state: &State) -> Result<Vec<PathBuf>> {
    if !said.is_empty() {
        return said.iter().map(|path| Ok(absolute(path)?)).collect();
    }
    Ok(known(state)?.into_iter().collect())
}

fn known(state: &State) -> Result<BTreeSet<PathBuf>> {
    let used = state.places()?.depots.into_iter().map(|DocPath(path)| path);
    Ok(used.chain([state.depot()]).collect())
}

fn list(state: &State, form: &cli::Form) -> Result<Outcome> {
    let mut depots = Vec::new();
    for path in known(state)? {
        if !is_there(&path)? {
            // the usual one is made by the first run that needs it
            let archives = Ok(Vec::new());
            depots.push(FoundDepot { path, is_made: false, free: None, archives });
            continue;
        }
        let free = free_in(&path).ok().flatten();
        let archives = archives_in(&path);
        let archives = archives.map(|all| all.into_iter().map(FoundArchive::from).collect());
        depots.push(FoundDepot { path, is_made: true, free, archives });
    }
    let found = DepotsFound(depots);
    tell_answer(&found, form)?;
    Ok(if found.is_whole() { Outcome::AllDone } else { Outcome::Failed })
}

/// Whether a depot is there. Of a store its first answer tells.
fn is_there(path: &Path) -> Result<bool> {
    if is_store(path) {
        return Ok(true);
    }
    match fondaco_core::kernel::stat_path(path) {
        Ok(_) => Ok(true),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error).with_context(|| format!("cannot examine {}", Shown(path))),
    }
}

/// Free space of a depot; a store does not tell.
fn free_in(depot: &Path) -> std::io::Result<Option<Bytes>> {
    match is_store(depot) {
        true => Ok(None),
        false => capacity(depot).map(|capacity| Some(capacity.free())),
    }
}

fn check(depots: &[PathBuf]) -> Result<Outcome> {
    let mut outcome = Outcome::AllDone;
    for depot in depots {
        if !is_there(depot)? {
            say!("{}: not there yet, the first run that needs it makes it", Shown(depot));
            continue;
        }
        match round_trip(depot) {
            Ok(()) => {
                let free = match free_in(depot) {
                    Ok(Some(free)) => format!("; {} free", binary(free)),
                    Ok(None) => String::new(),
                    Err(error) => format!("; how much is free is not known ({error})"),
                };
                say!("{}: a sample was written, read back and removed{free}", Shown(depot));
            }
            Err(error) => {
                say!("{}: cannot be used: {error}", Shown(depot));
                outcome = Outcome::Failed;
            }
        }
    }
    Ok(outcome)
}

/// An archive by its path.
fn find(archive: &Path) -> Result<StoredArchive> {
    let archive = absolute(archive)?;
    let depot = archive.parent().unwrap_or(&archive);
    let found = archives_in(depot).with_context(|| format!("cannot use {}", Shown(depot)))?;
    let is_it = |found: &StoredArchive| found.path.file_name() == archive.file_name();
    found
        .into_iter()
        .find(is_it)
        .with_context(|| format!("there is no archive {}", Shown(&archive)))
}

fn verify(said: &[PathBuf], at_most: Option<Bytes>, state: &State) -> Result<Outcome> {
    let mut archives = Vec::new();
    for path in chosen(said, state)? {
        let is_archive = path.to_str().is_some_and(|path| path.ends_with(".tar.zst"));
        match is_archive {
            true => archives.push(find(&path)?),
            false if said.is_empty() && !is_there(&path)? => {}
            false => archives.extend(list_depot(&path)?),
        }
    }
    if archives.is_empty() {
        say!("there is no archive to verify");
        return Ok(Outcome::AllDone);
    }
    let total = archives.len();
    if let Some(budget) = at_most {
        archives = sample(archives, budget, Time::now());
    }
    let (mut outcome, mut bytes) = (Outcome::AllDone, Bytes::ZERO);
    let mut line = ProgressLine::new();
    for archive in &archives {
        line.show(&format!("{}  {}", binary(archive.length), Shown(&archive.path)));
        let proved = prove_again(&archive.path);
        line.clear();
        bytes += archive.length;
        match proved {
            Ok(()) => say!("{}: as it was written", Shown(&archive.path)),
            Err(error) => {
                say!("{}: {error}", Shown(&archive.path));
                tracing::error!(archive = %Shown(&archive.path), "{error}");
                outcome = Outcome::Failed;
            }
        }
    }
    say!("{} of {}, {} read", archives.len(), counted(total as u64, "archive"), binary(bytes));
    Ok(outcome)
}

fn list_depot(path: &Path) -> Result<Vec<StoredArchive>> {
    archives_in(path).with_context(|| format!("cannot use {}", Shown(path)))
}

/// The archives of all known depots that have their turn today, within a budget of bytes.
pub(super) fn todays_archives(state: &State, budget: Bytes) -> Result<Vec<StoredArchive>> {
    let mut archives = Vec::new();
    for depot in known(state)? {
        if is_there(&depot)? {
            archives.extend(list_depot(&depot)?);
        }
    }
    Ok(sample(archives, budget, Time::now()))
}

/// Archives for one day: as many as the budget allows, and one at least, beginning with another one each day so that all of
/// them have their turn.
fn sample(mut archives: Vec<StoredArchive>, budget: Bytes, now: Time) -> Vec<StoredArchive> {
    let count = archives.len();
    let day = usize::try_from(now.sec.div_euclid(86_400)).unwrap_or(0);
    archives.sort_by(|a, b| a.path.cmp(&b.path));
    // a step that has nothing in common with most numbers of archives
    archives.rotate_left(day.wrapping_mul(7919) % count.max(1));
    let mut bytes = Bytes::ZERO;
    let mut taken = 0;
    archives.retain(|archive| {
        let fits = taken == 0 || bytes + archive.length <= budget;
        if fits {
            (taken, bytes) = (taken + 1, bytes + archive.length);
        }
        fits
    });
    archives
}

fn restore(archive: &Path, to: &Path, originals: &[PathBuf]) -> Result<Outcome> {
    let archive = absolute(archive)?;
    let to = to.canonicalize().with_context(|| format!("cannot open {}", Shown(to)))?;
    let open = OpenArchive::open(&archive);
    let open = open.with_context(|| format!("{} cannot be used", Shown(&archive)))?;
    let targets = open.targets();
    for original in originals {
        if !targets.iter().any(|(_, target)| target == original) {
            usage!(
                "{} holds nothing from {}; `fondaco depots show` lists what it holds",
                Shown(&archive),
                Shown(original)
            );
        }
    }
    let wanted = |target: &&(u32, PathBuf)| originals.is_empty() || originals.contains(&target.1);
    let (mut done, mut refused) = (0, 0);
    for (action, original) in targets.iter().filter(wanted) {
        match restore_into(&open, *action, original, &to) {
            Ok(place) => {
                say!("{}", Shown(&place));
                done += 1;
            }
            Err(refusal) => {
                tell!("{}: {refusal}", Shown(original));
                refused += 1;
            }
        }
    }
    say!("{done} restored, {refused} refused");
    match (done, refused) {
        (0, 0) => bail!("{} holds nothing", Shown(&archive)),
        (_, 0) => Ok(Outcome::AllDone),
        _ => Ok(Outcome::Refused),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_archive_has_its_turn_within_the_budget_of_a_day() {
        let archives = || -> Vec<StoredArchive> {
            let one = |n: u64| StoredArchive {
                path: format!("/srv/depot/{n:02}.tar.zst").into(),
                length: Bytes::new(100 + n),
            };
            (0..12).map(one).collect()
        };
        let mut seen = BTreeSet::new();
        for day in 0..12 {
            let sample =
                sample(archives(), Bytes::new(250), Time::at(2_000_000_000 + day * 86_400));
            assert!((1..=2).contains(&sample.len()), "{}", sample.len());
            seen.extend(sample.into_iter().map(|archive| archive.path));
        }
        assert_eq!(seen.len(), 12);
        assert_eq!(sample(archives(), Bytes::ZERO, Time::at(0)).len(), 1);
    }
}
