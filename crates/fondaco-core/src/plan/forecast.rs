//! What a list of actions will free, to the byte, as far as names and blocks can tell.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::{Deed, Survey};
use crate::units::Bytes;

/// Bytes that an action frees.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Forecast {
    /// As soon as it is done.
    pub now: Bytes,
    /// Once the holding area is purged.
    pub later: Bytes,
}

/// The forecasts of actions carried out in this order.
///
/// An inode is freed by the action that takes its last name, so what several actions share is
/// credited once, to the last of them; to none if a name stays elsewhere. If one of the names is
/// only set aside, its bytes come later. An archive's own size is not counted against its relief.
pub fn forecast<'a>(actions: impl IntoIterator<Item = (&'a Deed, &'a Survey)>) -> Vec<Forecast> {
    let mut gone: HashMap<(u64, u64), (u32, bool)> = HashMap::new();
    let mut forecasts = Vec::new();
    for (deed, survey) in actions {
        let held = matches!(deed, Deed::SetAside);
        let mut frees = Forecast::default();
        let mut credit = |bytes: Bytes, later: bool| {
            if later { frees.later += bytes } else { frees.now += bytes }
        };
        credit(survey.single, held);
        for (inode, (links, below, bytes)) in &survey.linked {
            let so_far = gone.entry(*inode).or_insert((0, false));
            so_far.0 += below;
            so_far.1 |= held;
            if so_far.0 >= *links {
                credit(*bytes, so_far.1);
            }
        }
        forecasts.push(frees);
    }
    forecasts
}
