//! Many things that were looked at closely on a thread of their own, so that they can be planned.

use std::path::Path;

use fondaco_core::plan::{Draft, Planned, Refusal};

/// Many things that were looked at closely so that they can be planned.
#[derive(Debug, Default)]
pub struct Surveyed {
    /// Those that can be.
    pub draft: Draft,
    /// How many were chosen twice.
    pub twice: u64,
    /// How many cannot be planned.
    pub refused: u64,
    /// Why the first of them cannot.
    pub first_refusal: Option<Refusal>,
}

impl Surveyed {
    /// Adds what a close look at one of them came to.
    pub fn add(&mut self, path: &Path, look: impl FnOnce() -> Result<Planned, Refusal>) {
        if self.draft.covering(path).is_some() {
            self.twice += 1;
            return;
        }
        match look() {
            Ok(planned) => {
                self.draft.put(planned);
            }
            Err(refusal) => {
                self.refused += 1;
                self.first_refusal.get_or_insert(refusal);
            }
        }
    }
}
