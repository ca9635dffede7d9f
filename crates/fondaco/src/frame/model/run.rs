//! The rehearsal or run that goes on, and what the last ones came to.

use fondaco_core::carry_out::{Figures, Rehearsal, RunSummary};

/// What is going on.
#[derive(Clone, Debug, Default)]
pub enum RunStage {
    /// Nothing goes on.
    #[default]
    Idle,
    /// Checks are run.
    Rehearsing(Figures),
    /// The plan is carried out; the bytes that its volumes say are less in use.
    Running(Figures, Option<i64>),
    /// Something is put back or purged.
    Returning(&'static str),
}

/// The run at hand, and what the last ones came to.
#[derive(Clone, Debug, Default)]
pub struct Run {
    /// What is going on.
    pub stage: RunStage,
    /// The last rehearsal of the draft as it stands.
    pub rehearsal: Option<Rehearsal>,
    /// What the last run came to.
    pub summary: Option<RunSummary>,
    /// What runs is the draft, which is emptied when it is done.
    pub of_draft: bool,
    /// A stop has been asked for.
    pub stopping: bool,
    /// A rehearsal has been asked for while targets were still being looked at.
    pub rehearse_when_ready: bool,
}

impl Run {
    /// Whether anything is going on.
    pub fn is_active(&self) -> bool {
        !matches!(self.stage, RunStage::Idle)
    }

    /// Whether it can be stopped.
    pub fn can_stop(&self) -> bool {
        !self.stopping && matches!(self.stage, RunStage::Rehearsing(_) | RunStage::Running(..))
    }
}
