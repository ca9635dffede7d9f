//! What is to go, as it was reviewed: the plan, its targets, and what it will free.
//!
//! Takes paths that a person or a rule chose; gives a [`Plan`], a document that can be kept,
//! reviewed, rehearsed and carried out later, perhaps by another process. Nothing is changed here.
//! What a target looked like when it was planned is its [`Target`] record; `carry_out` acts only on
//! what still fits that record.

mod compact;
mod copies;
mod document;
mod draft;
mod draft_plan;
mod emptied;
mod forecast;
mod free_directory;
mod held;
mod leftovers;
mod locator;
pub(crate) mod objects;
mod packed;
mod places;
mod proposal;
mod refusal;
mod reviewer;
mod rule_protection;
mod shared_extents;
mod survey;
mod tool;

pub(crate) use compact::CompactAction;
pub use copies::{CopyPair, PlannedCopies, plan_copies, plan_pairs};
pub use document::{Action, Deed, Overview, Plan, PlanError, VERSION, moved_place};
pub use draft::{Draft, Planned, Put, Review, Sums};
pub use emptied::plan_emptied;
pub use forecast::{Forecast, Forecaster, PlannedNames, notes};
pub(crate) use free_directory::FreeDirectory;
pub use held::{HeldBytes, HeldSurvey, HeldTarget, survey_held};
pub use leftovers::{
    PlannedLeftovers, plan_by_program, plan_leftovers, reason as reason_left_over, usual_deed,
};
pub use locator::{Located, Locator, locate};
pub use packed::{PACKED_FROM, is_plan};
pub use proposal::Proposal;
pub use refusal::Refusal;
pub use reviewer::{Choice, Reviewer, plan_held};
pub use rule_protection::{RuleProtection, protection_now};
pub use shared_extents::{Shared, SharedExtent};
pub use survey::{
    Each, Survey, Target, Touched, Visit, list_at, survey, survey_at, survey_with_open,
};
pub(crate) use tool::survey_object;
pub use tool::{ObjectTarget, ToolTarget, plan_journal, plan_packages};
