//! What is to go, as it was reviewed: the plan, its targets, and what it will free.
//!
//! Takes paths that a person or a rule chose; gives a [`Plan`], a document that can be kept,
//! reviewed, rehearsed and carried out later, perhaps by another process. Nothing is changed here.
//! What a target looked like when it was planned is its [`Target`] record; `carry_out` acts only on
//! what still fits that record.

mod document;
mod draft;
mod forecast;
mod held;
mod refusal;
mod shared_extents;
mod survey;

pub use document::{Action, Deed, Plan, PlanError, VERSION};
pub use draft::{Draft, Planned, Put, Review};
pub use forecast::{Forecast, forecast, notes};
pub use held::{HeldBytes, HeldSurvey, HeldTarget, survey_held};
pub use refusal::Refusal;
pub use shared_extents::{Shared, SharedExtent};
pub use survey::{
    Each, Located, Survey, Target, Touched, Visit, list_at, locate, survey, survey_at,
    survey_with_open,
};
