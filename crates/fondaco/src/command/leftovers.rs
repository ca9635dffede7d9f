//! `fondaco leftovers`

use std::path::{Path, PathBuf};

use anyhow::Result;
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::leftovers::{self, Found, GroupName, Leftover, What};
use fondaco_core::plan::{
    Deed, PlannedLeftovers, Reviewer, plan_leftovers, protection_now, usual_deed,
};
use fondaco_core::state::State;
use fondaco_core::units::Time;

use super::look::{Closer, Looked, tell_answer};
use super::{Outcome, excluded_line, plan, stop_asked};
use crate::cli;
use crate::environment::open_state;
use crate::output::{Usage, say, tell, usage};
use crate::query;

pub(super) fn run(arguments: &cli::Leftovers, state: Option<PathBuf>) -> Result<Outcome> {
    let groups = arguments.group.iter().map(|key| group(key)).collect::<Result<Vec<_>>>()?.concat();
    if arguments.plan.is_some() && groups.is_empty() {
        usage!("say which groups are planned: --group bins --group caches, or --group all");
    }
    if let Some(file) = &arguments.output {
        plan::may_be_written(file, arguments.force)?;
    }
    let settings = open_state(state.clone())?;
    let looked = looked(arguments, state)?;
    stop_asked();
    let seen = looked.seen();
    let roots = looked.catalog.roots().iter().map(|root| root.path.as_path());
    let protection = protection_now(&settings, roots);
    let mut found = leftovers::look(seen, &settings, protection, arguments.system, &stop_asked)?;
    let here = looked.catalog.origin().elsewhere().is_none();
    let held = match here {
        true => leftovers::held_of(seen, DeletedFiles::collect(Time::now())),
        false => DeletedFiles::default(),
    };
    if !held.files.is_empty() {
        found.add(&looked.catalog, leftovers::held(&held));
    }
    if !groups.is_empty() {
        found.only(&looked.catalog, &groups);
    }
    if let Some(word) = arguments.plan {
        return planned(arguments, word, &looked, &found, &settings);
    }
    let accounts = looked.accounts();
    let answer = query::Leftovers {
        of: looked.subject(looked.top()?, &accounts),
        found: std::sync::Arc::new(found),
        held,
        top: arguments.top,
        with_items: !groups.is_empty() || arguments.items,
    };
    tell_answer(&answer, &arguments.form)?;
    if !arguments.form.is_for_programs() {
        for line in looked.part_line().into_iter().chain(excluded_line(&looked.catalog)) {
            say!("{line}");
        }
    }
    Ok(looked.outcome())
}

/// What the arguments say is to be scanned; places of the machine if nothing else is.
fn looked(arguments: &cli::Leftovers, state: Option<PathBuf>) -> Result<Looked> {
    let cli::Leftovers { paths, look, walk, system, .. } = arguments;
    if !paths.is_empty() || walk.saved.is_some() {
        return Looked::obtain(paths, look, walk, Closer::No, state);
    }
    if !system {
        usage!("say where: fondaco leftovers PATH, or --system for what belongs to this machine");
    }
    let places = leftovers::places_of_machine(Path::new("/"));
    Looked::obtain(&places, look, walk, Closer::No, state)
}

/// The groups of a word.
fn group(key: &str) -> Result<Vec<GroupName>> {
    if key == "all" {
        return Ok(GroupName::ALL.to_vec());
    }
    GroupName::of_key(key).map(|name| vec![name]).ok_or_else(|| {
        let keys: Vec<&str> = GroupName::ALL.iter().map(|name| name.group().key).collect();
        Usage(format!("there is no group `{key}`; there are all, {}", keys.join(", "))).into()
    })
}

/// Plans all that can go of the groups that were found.
fn planned(
    arguments: &cli::Leftovers,
    word: cli::LeftoverDeed,
    looked: &Looked,
    found: &Found,
    state: &State,
) -> Result<Outcome> {
    let catalog = &looked.catalog;
    let mut reviewer = Reviewer::of_scan(state, catalog.origin(), catalog.roots(), Time::now());
    let chosen = chosen_deed(word, arguments.to.as_deref(), state)?;
    let mut all = PlannedLeftovers::default();
    let only_bins = matches!(chosen, Some(Deed::Restore { .. }));
    let wanted = |name: GroupName| name.group().can_go() && (!only_bins || name == GroupName::Bins);
    for group in found.groups.iter().filter(|group| wanted(group.name)) {
        // what is usual may differ within a group: kernels of packages, and those installed by hand
        let mut by_deed: Vec<(Deed, Vec<&Leftover>)> = Vec::new();
        for item in group.that_go() {
            let Some(usual) = usual_deed(group.name, item) else {
                tell!("what processes hold is planned one by one: fondaco plan --end, --cut");
                break;
            };
            let deed = match &item.what {
                What::Package(_) => usual,
                _ => chosen.clone().unwrap_or(usual),
            };
            match by_deed.iter_mut().find(|(known, _)| *known == deed) {
                Some((_, items)) => items.push(item),
                None => by_deed.push((deed, vec![item])),
            }
        }
        for (deed, items) in by_deed {
            let PlannedLeftovers { planned, left_out } =
                plan_leftovers(catalog, group.name, items, &deed, &mut reviewer);
            all.planned.extend(planned);
            all.left_out.extend(left_out);
        }
    }
    plan::of_leftovers(all, &reviewer, arguments)
}

/// The action that was chosen for all; nothing if each group gets what is usual for it.
fn chosen_deed(word: cli::LeftoverDeed, to: Option<&Path>, state: &State) -> Result<Option<Deed>> {
    Ok(match (word, to) {
        (cli::LeftoverDeed::Usual, _) => None,
        (cli::LeftoverDeed::SetAside, _) => Some(Deed::SetAside),
        (cli::LeftoverDeed::Delete, _) => Some(Deed::Delete),
        (cli::LeftoverDeed::Archive, _) => Some(Deed::Archive { depot: state.depot() }),
        (cli::LeftoverDeed::Move, Some(to)) => {
            Some(Deed::Move { to: std::path::absolute(to)?, same_volume: false })
        }
        (cli::LeftoverDeed::Restore, _) => {
            Some(Deed::Restore { place: PathBuf::new(), info: None })
        }
        (cli::LeftoverDeed::Move, None) => {
            return Err(Usage("--plan move needs --to DIR".into()).into());
        }
    })
}
