//! Asking about the disks behind the volumes: now and then, since it takes a while.

use std::collections::HashMap;
use std::path::PathBuf;

use fondaco_core::drive::{Asking, Drives, drives};
use fondaco_core::volume::Volume;

use crate::frame::message::{Job, News, Work};
use crate::frame::model::Model;

/// They are asked again after so many seconds.
const AGAIN: i64 = 600;

/// Asks, if that has not been done lately.
pub(super) fn ask(model: &mut Model) -> Option<Job> {
    let is_due = model.drives_asked.is_none_or(|asked| model.now.sec - asked.sec >= AGAIN);
    if !is_due || model.volumes.is_empty() {
        return None;
    }
    model.drives_asked = Some(model.now);
    Some(Job::Work(Box::new(AskDisks(model.volumes.clone()))))
}

#[derive(Debug)]
struct AskDisks(Vec<Volume>);

impl Work for AskDisks {
    fn run(self: Box<Self>) -> Box<dyn News> {
        let found = drives(&self.0, &Asking::here());
        let points = self.0.into_iter().map(|volume| volume.mount_point);
        Box::new(DisksFound(points.zip(found).collect()))
    }
}

/// What disks say.
#[derive(Debug)]
pub(super) struct DisksFound(pub(super) HashMap<PathBuf, Drives>);

impl News for DisksFound {
    fn take(self: Box<Self>, model: &mut Model) -> Vec<Job> {
        model.drives = self.0;
        Vec::new()
    }
}
