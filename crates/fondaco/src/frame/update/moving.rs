//! Where something is moved to: asked for when the move has been chosen.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use fondaco_core::plan::Deed;
use fondaco_core::shown::shown;
use fondaco_core::units::counted;
use fondaco_core::volume::Class;

use super::{ask, many, planning};
use crate::failure::Failure;
use crate::frame::message::Job;
use crate::frame::model::{Asking, Model, Overlay, TypedAnswer};

/// What is to be moved.
#[derive(Clone, Debug)]
pub enum Moving {
    /// One entry, by its path; whether it is on the plan already.
    One(PathBuf, bool),
    /// So many listed files.
    Many(u64),
}

/// Asks where to, unless that is known.
pub fn put(model: &mut Model, deed: Deed, moving: Moving) -> Vec<Job> {
    let is_open = matches!(&deed, Deed::Move { to, .. } if to.as_os_str().is_empty());
    match (is_open, &moving) {
        (true, _) => ask_where_to(model, moving),
        (false, Moving::One(path, changes)) => planning::put(model, path, deed, *changes),
        (false, Moving::Many(count)) => many::put(model, deed, *count),
    }
}

fn ask_where_to(model: &mut Model, moving: Moving) -> Vec<Job> {
    let what = match &moving {
        Moving::One(path, _) => shown(path.file_name().unwrap_or(path.as_os_str())),
        Moving::Many(count) => counted(*count, "file"),
    };
    let sentence = format!(
        "Move {what} below this directory, with the whole path that it has now. ↓ offers one."
    );
    let offered = offers(model);
    let jobs = ask(model, Asking::Own(Arc::new(WhereTo(moving))), sentence, None);
    if let Some(Overlay::Ask { offers, .. }) = &mut model.overlay {
        *offers = offered;
    }
    jobs
}

/// How many planned things are looked at for where they go.
const LOOKED_AT: usize = 2000;

/// Where other things on the plan go, then a directory on each other volume, the one with most free space first.
fn offers(model: &Model) -> Vec<String> {
    let destination = |deed: &Deed| match deed {
        Deed::Move { to, .. } => Some(to.clone()),
        _ => None,
    };
    // of very many only the last are looked at
    let planned = model.draft.planned().iter().rev().take(LOOKED_AT);
    let planned = planned.filter_map(|planned| destination(&planned.deed));
    let here = model.gauge_volume().map(|volume| volume.mount_point.clone());
    let mut others: Vec<_> = model
        .volumes
        .iter()
        .filter(|volume| Some(&volume.mount_point) != here.as_ref() && !volume.read_only)
        .filter(|volume| matches!(volume.class, Class::Storage | Class::Network))
        .filter_map(|volume| Some((volume.capacity.as_ref().ok()?.free_users, volume)))
        .collect();
    others.sort_by_key(|(free, _)| std::cmp::Reverse(*free));
    let others = others.into_iter().map(|(_, volume)| volume.mount_point.join("moved"));
    let mut offers: Vec<String> =
        planned.chain(others).filter_map(|path| path.to_str().map(str::to_owned)).collect();
    let mut seen = std::collections::HashSet::new();
    offers.retain(|offer| seen.insert(offer.clone()));
    offers
}

/// The directory that was asked for.
#[derive(Debug)]
struct WhereTo(Moving);

impl TypedAnswer for WhereTo {
    fn take(&self, model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure> {
        let to = PathBuf::from(typed);
        if !to.is_absolute() || to == Path::new("/") {
            return Err("the path of a directory begins with /".into());
        }
        Ok(put(model, Deed::Move { to, same_volume: false }, self.0.clone()))
    }
}
