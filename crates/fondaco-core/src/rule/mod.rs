//! Rules: what should go, at what age and size, and what is protected.
//!
//! Takes the text of a rule file ([`RuleSet::parse`]) and a [`Catalog`]; gives the entries that
//! each rule takes ([`RuleSet::matches`]). Rules take regular files. Where several rules would take
//! the same file, the first one in the file does. Nothing is planned or changed here.
//! The form of the file is described in `docs/formats.md`.

mod matching;
mod model;

pub use matching::{Match, TryOut};
pub use model::{DeedWord, Rule, RuleError, RuleSet};
