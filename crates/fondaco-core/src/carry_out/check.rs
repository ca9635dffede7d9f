//! The checks that every target passes before it is touched, in a rehearsal and in a run alike.

use std::os::fd::AsFd;
use std::path::Path;

use crate::analysis::Protection;
use crate::kernel::OpenFiles;
use crate::plan::{Action, Deed, Located, Plan, Refusal, Survey, Touched, locate, survey_at};
use crate::state::State;
use crate::units::Time;

/// What the checks of one run know.
pub(super) struct Checks {
    protection: Protection,
    open: OpenFiles,
}

impl Checks {
    pub(super) fn new(plan: &Plan, state: &State, open: OpenFiles) -> Self {
        let mut protection = Protection::of_system(state);
        for place in &plan.protect {
            protection.add(place.0.clone(), "protected by a rule");
        }
        for action in &plan.actions {
            if let Deed::Archive { depot } = &action.deed {
                let depot = depot.canonicalize().unwrap_or_else(|_| depot.clone());
                protection.add(depot, "the depot of this plan");
            }
        }
        Self { protection, open }
    }

    /// Looks again who has what open, if the last look is some seconds old.
    pub(super) fn refresh(&mut self, now: Time) {
        if now.sec - self.open.taken.sec > 5 {
            self.open = OpenFiles::collect(now);
        }
    }

    /// Opens the target's directory and makes sure that the target is what was reviewed, is not
    /// protected, and is not in use. Changes nothing.
    pub(super) fn target(
        &self,
        action: &Action,
        touched: &Touched,
    ) -> Result<(Located, Survey), Refusal> {
        let path = &action.target.path.0;
        self.protected(path)?;
        let located = locate(path)?;
        let mut in_use = None;
        let survey =
            survey_at(located.parent.as_fd(), &located.name, path, touched, &mut |visit| {
                if in_use.is_none() && self.open.is_open(visit.stat.dev, visit.stat.ino) {
                    let holder = self.open.holders(visit.stat.dev, visit.stat.ino);
                    in_use =
                        holder.into_iter().next().map(|holder| (path.join(visit.below), holder));
                }
                Ok(())
            })?;
        if let Some(difference) = action.target.difference(&survey.target, false) {
            return Err(Refusal::Changed { path: path.clone(), difference });
        }
        if let Some((path, holder)) = in_use {
            // joining an empty path leaves a slash
            let path = path.components().collect();
            return Err(Refusal::InUse { path, holder });
        }
        if let (Deed::Archive { .. }, Some(socket)) = (&action.deed, &survey.socket) {
            let reason = "it is a socket, which means nothing without its process".to_owned();
            return Err(Refusal::NotArchivable { path: socket.clone(), reason });
        }
        Ok((located, survey))
    }

    pub(super) fn protected(&self, path: &Path) -> Result<(), Refusal> {
        match self.protection.reason(path) {
            Some(reason) => Err(Refusal::Protected { path: path.to_owned(), reason }),
            None => Ok(()),
        }
    }
}
