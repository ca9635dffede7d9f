//! What is planned on the screen.

use anyhow::Result;
use fondaco_core::plan::{Draft, Review};
use fondaco_core::shown::shown;
use fondaco_core::units::Time;
use serde_json::{Value, json};

use super::Answer;
use super::cells::{bytes, text};
use crate::output::{Grid, left, right};

/// A draft at a moment.
#[derive(Debug)]
pub struct Drafted(pub Draft, pub Time);

impl Answer for Drafted {
    fn head(&self) -> Value {
        json!({ "fondaco": 1, "kind": "plan", "made": self.1.rfc3339() })
    }

    fn grid(&self) -> Grid {
        grid(&self.0)
    }

    /// The plan itself, as `plan -o` writes it and `carry-out` takes it.
    fn document(&self) -> Result<Value> {
        Ok(serde_json::to_value(self.0.to_plan(Vec::new(), self.1)?)?)
    }
}

/// What is planned.
fn grid(draft: &Draft) -> Grid {
    let mut grid = Grid::new(&[
        left("action", "action"),
        left("target", "target"),
        right("frees_now", "frees now"),
        right("frees_later", "later"),
        left("reason", "reason"),
        left("volume", "volume"),
        left("reviewed", "reviewed"),
    ]);
    for (planned, frees) in draft.planned().iter().zip(draft.frees()) {
        let reviewed = match &planned.review {
            Review::Pending => "not yet".to_owned(),
            Review::Ready(_) => "yes".to_owned(),
            Review::Refused(reason) => format!("refused: {reason}"),
        };
        grid.row(vec![
            text(planned.deed.word()),
            text(shown(planned.place())),
            bytes(frees.now),
            bytes(frees.later),
            text(shown(&planned.reason)),
            text(shown(&planned.volume)),
            text(reviewed),
        ]);
    }
    grid
}
