//! The order of preference: which copies stay.

use std::sync::Arc;

use fondaco_core::duplicates::Keep;

use super::searching;
use crate::failure::Failure;
use crate::frame::Field;
use crate::frame::message::Job;
use crate::frame::model::{Asking, Model, Overlay, TypedAnswer};
use crate::frame::update::ask;

/// Asks for the order of preference, as it stands.
pub(super) fn ask_for(model: &mut Model) -> Vec<Job> {
    let sentence =
        "Which copies stay: patterns over paths, newest, oldest, shortest, deepest. The first \
                    that tells copies apart decides."
            .to_owned();
    let now = model.state.settings.keep.join(" ");
    let jobs = ask(model, Asking::Own(Arc::new(NewKeep)), sentence, None);
    if let Some(Overlay::Ask { typed, .. }) = &mut model.overlay {
        *typed = Field::of(&now);
    }
    jobs
}

#[derive(Debug)]
struct NewKeep;

impl TypedAnswer for NewKeep {
    fn take(&self, model: &mut Model, typed: &str) -> Result<Vec<Job>, Failure> {
        let words: Vec<String> = typed.split_whitespace().map(str::to_owned).collect();
        Keep::parse(&words).map_err(Failure::of)?;
        model.state.settings.keep = words;
        let mut jobs = vec![Job::Save(model.state.clone())];
        jobs.extend(searching::rearrange(model));
        Ok(jobs)
    }
}
