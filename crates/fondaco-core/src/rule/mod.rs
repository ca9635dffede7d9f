//! Rules: what should go, at what age and size, how much of it stays, and what is protected.
//!
//! Takes the text of a rule file ([`RuleSet::parse`]) and a [`Catalog`](crate::catalog::Catalog); gives what each rule
//! takes, why, and what keeps the rest back ([`RuleSet::try_on`]). Nothing is planned or changed here. The language is
//! described in `docs/rules.md`.

mod change;
mod circumstances;
mod directories;
mod file;
mod generations;
mod keepers;
mod model;
mod outcome;
mod past;
mod places;
mod schema;
mod stored;
mod trial;
mod words;

pub use change::{ChangeError, NewRule, rule_lines, switched, with_rule};
pub use circumstances::{Circumstances, VolumeFacts};
pub use file::{RuleError, RuleFileError};
pub use model::{DeedWord, Enough, GroupOf, Limits, Order, Rule, RuleSet, Takes, Thin};
pub use outcome::{
    Frees, HeldBack, Keeper, Match, ProgramMatch, RuleState, RuleTrial, Sum, TryOut,
};
pub use past::{DayTried, PastDay, PastError, PastLevels, kept_days};
pub use schema::schema;
pub use stored::{RuleText, SaveError};
pub use words::{Form, RuleWord, WORDS, WordOf};
