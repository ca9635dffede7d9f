//! The lens over all stations, and the questions to the scan that are under way.

use std::collections::HashMap;
use std::sync::{Arc, Weak};
use std::time::Duration;

use fondaco_core::catalog::Selection;
use fondaco_core::lens::{Completion, Lens, LensError};

use super::Model;
use crate::frame::Field;

/// The lens over all stations.
#[derive(Clone, Debug, Default)]
pub struct LensState {
    /// As it holds; empty if everything is shown.
    pub text: String,
    /// The same, read.
    pub lens: Lens,
    /// What it chooses; nothing until that has been found out.
    pub selection: Option<Arc<Selection>>,
    /// Its choice is being made.
    pub waiting: bool,
    /// It is being typed.
    pub typing: Option<Typing>,
}

impl LensState {
    /// The lens in words with one more term.
    pub fn narrowed(&self, term: &str) -> String {
        format!("{} {term}", self.text).trim().to_owned()
    }
}

/// A lens that is being typed.
#[derive(Clone, Debug, Default)]
pub struct Typing {
    /// What has been typed so far.
    pub text: Field,
    /// What held before, for stepping back.
    pub before: String,
    /// Why it is none yet.
    pub error: Option<LensError>,
    /// How it could go on.
    pub offers: Vec<Completion>,
    /// The offer that has been gone to with the arrows.
    pub cursor: Option<usize>,
}

/// Questions to the scan.
#[derive(Clone, Debug, Default)]
pub struct Questions {
    /// How many of each sort have been asked: of two the answer to the later one is believed.
    pub asked: HashMap<&'static str, u64>,
    /// While a scan grows, nothing is asked anew before it has gone on for so long.
    pub rest_until: Duration,
    /// A closer look is going on: how many entries it has seen.
    pub closer: Option<u64>,
    /// What is to be done with all files is asked when their list stands.
    pub plans_when_ready: bool,
}

/// The part of a scan that a search is about: what is found is right as long as it equals [`Model::searched`].
#[derive(Clone, Debug, Default)]
pub struct Searched {
    /// The number of the scan.
    pub scan: u64,
    /// What the lens chooses of it. Held weakly: its contents go with the lens, its address is not used again.
    selection: Option<Weak<Selection>>,
}

impl PartialEq for Searched {
    fn eq(&self, other: &Self) -> bool {
        let is_same = match (&self.selection, &other.selection) {
            (Some(one), Some(other)) => one.ptr_eq(other),
            (None, None) => true,
            _ => false,
        };
        self.scan == other.scan && is_same
    }
}

impl Model {
    /// What a search would be about now.
    pub fn searched(&self) -> Searched {
        let selection = self.lens.selection.as_ref().map(Arc::downgrade);
        Searched { scan: self.scan.number, selection }
    }
}
