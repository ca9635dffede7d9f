//! The plan of what is on a draft.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::path::PathBuf;

use super::compact::transcribe;
use super::{Action, Deed, Draft, Forecast, Plan, PlanError, Planned, PlannedNames, Review};
use crate::analysis::is_kernel_part;
use crate::packed_list::PackedList;
use crate::shown::DocPath;
use crate::units::{Bytes, Time};

impl Draft {
    /// The draft as a plan: what has been reviewed and not refused.
    ///
    /// # Errors
    ///
    /// [`PlanError::NoId`].
    pub fn to_plan(&self, protect: Vec<DocPath>, now: Time) -> Result<Plan, PlanError> {
        let mut making = Making::of(self);
        let sums = self.sums();
        // of a million mostly nothing is to be said but what the record of each says itself
        let all = (sums.not_ready.is_empty() && sums.emptied.is_empty()).then(|| {
            let frees = self.frees();
            self.planned().transcribed(
                |places, packed, out| transcribe(places, packed, frees, out),
                |at, planned| making.action(at, planned, at as u32 + 1),
            )
        });
        let actions = match all.flatten() {
            Some(actions) => actions,
            None => {
                making = Making::of(self);
                making.one_by_one(self)
            }
        };
        let plan = Plan::of_numbered(actions, protect, now)?;
        Ok(Plan { give_up: making.give_up, ..plan })
    }
}

/// What is known while planned things become actions, one after the other.
struct Making<'a> {
    frees: &'a [Forecast],
    names: PlannedNames,
    /// The number of the first action of those that go together.
    first_of: HashMap<PathBuf, u32>,
    give_up: Vec<DocPath>,
}

impl<'a> Making<'a> {
    fn of(draft: &'a Draft) -> Self {
        let (frees, names) = (draft.frees(), draft.names());
        Self { frees, names, first_of: HashMap::new(), give_up: Vec::new() }
    }

    fn one_by_one(&mut self, draft: &Draft) -> PackedList<Action> {
        // what is emptied comes after what empties it, the deepest first
        let places = &draft.sums().emptied;
        let emptied = places.iter().flat_map(|at| draft.planned().range(*at..*at + 1));
        let mut emptied: Vec<(usize, Planned)> =
            places.iter().copied().zip(emptied.map(|planned| planned.clone())).collect();
        emptied
            .sort_by_cached_key(|(at, planned)| (Reverse(planned.path.components().count()), *at));
        // of what is packed only the list is copied, and each record is unpacked once to be taken apart
        let others = draft.planned().clone().into_iter().enumerate();
        let mut number = 0;
        let mut next = |(at, planned)| {
            let action = self.action(at, planned, number + 1);
            number += u32::from(action.is_some());
            action
        };
        others
            .filter(|(_, planned)| !planned.emptied)
            .chain(emptied)
            .filter_map(&mut next)
            .collect()
    }

    /// What becomes of what is planned at a place, if it is ready.
    fn action(&mut self, at: usize, planned: Planned, number: u32) -> Option<Action> {
        if is_kernel_part(&planned.path) {
            self.give_up.push(DocPath(planned.path.clone()));
        }
        let notes = planned.notes(&mut self.names);
        let Review::Ready(survey) = planned.review else { return None };
        let together = planned.together.map(|with| *self.first_of.entry(with).or_insert(number));
        Some(Action {
            number,
            reason: planned.reason,
            target: survey.target,
            volume: DocPath(planned.volume),
            frees: self.frees.get(at).copied().unwrap_or_default(),
            shared: match survey.shared.extents.is_empty() {
                true => Bytes::ZERO,
                false => Bytes::new(survey.shared.counted),
            },
            notes,
            held: survey.held.map(|held| held.target),
            tool: survey.tool,
            together,
            purge_after: planned.purge_after.filter(|_| planned.deed == Deed::SetAside),
            deed: planned.deed,
            stays: planned.stays,
            own: None,
            emptied: planned.emptied,
        })
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;
    use crate::kernel::{Holder, Kind};
    use crate::plan::{Shared, SharedExtent, Survey, Target};

    fn target(path: &Path, inode: u64) -> Target {
        Target {
            path: DocPath(path.to_owned()),
            device: 7,
            inode,
            kind: Kind::File,
            size: inode * 900,
            mtime: Time::at(1_700_000_000),
            ctime: Time { sec: -5, nsec: inode as u32 },
            links: 1,
            entries: 1,
            allocated: Bytes::new(inode * 1024),
            digest: None,
        }
    }

    /// Something planned of one of many sorts, mostly the plainest.
    fn planned(at: usize, sort: usize) -> Planned {
        let path = match sort {
            9 => PathBuf::from(format!("/boot/vmlinuz-0.1.{at}")),
            _ => PathBuf::from(format!("/srv/seamark/{}/{at}.log", at % 7)),
        };
        let target = target(&path, at as u64 + 1);
        let mut survey = Survey::of_target(target.clone(), Time::at(5));
        match sort {
            1 => {
                let bytes = survey.target.allocated;
                survey.linked.insert((7, at as u64 % 5), (3, 1, bytes));
                survey.single = Bytes::ZERO;
            }
            2 => {
                let holder = Holder { pid: 12, command: "recorder".to_owned() };
                survey.in_use = Some((path.clone(), holder));
            }
            3 => {
                let extent = SharedExtent { place: (7, at as u64), bytes: 512, references: None };
                survey.shared = Shared { counted: 4096, extents: vec![extent] };
            }
            _ => {}
        }
        let deed = match at % 5 {
            0 => Deed::SetAside,
            1 => Deed::Archive { depot: "/srv/depot".into() },
            2 => Deed::Move { to: "/mnt/large".into(), same_volume: sort == 4 },
            3 => Deed::Link,
            _ => Deed::Delete,
        };
        let reason = format!("rule: {}", at % 3);
        let mut planned = Planned::of_survey(path, deed, reason, "/srv".into(), survey);
        planned.depot_on_volume = sort == 4;
        planned.purge_after = (sort == 5).then_some(86_400);
        planned.stays = (sort == 6).then(|| Box::new(target.clone()));
        planned.differs = (sort == 7).then(|| "mode".to_owned()).into_iter().collect();
        planned.together = (sort == 8).then(|| format!("/srv/first/{}", at % 2).into());
        planned
    }

    proptest::proptest! {
        #![proptest_config(proptest::prelude::ProptestConfig::with_cases(40))]

        /// Some pages have nothing but plain things, others any.
        #[test]
        fn actions_made_of_packed_pages_are_those_that_are_made_one_by_one(
            count in 0usize..2600, sorts in proptest::collection::btree_map(0usize..2600, 0usize..10, 0..12)
        ) {
            let sort = |at: usize| sorts.get(&at).copied().unwrap_or(0);
            let mut draft = Draft::default();
            draft.put_all((0..count).map(|at| planned(at, sort(at))));
            let plan = draft.to_plan(Vec::new(), Time::at(0)).unwrap();
            let mut making = Making::of(&draft);
            let expected = making.one_by_one(&draft);
            proptest::prop_assert_eq!(plan.actions.len(), count);
            for (made, expected) in plan.actions.iter().zip(&expected) {
                proptest::prop_assert_eq!(&*made, &*expected);
            }
            proptest::prop_assert_eq!(&plan.give_up, &making.give_up);
            let (overview, one_by_one) = (plan.overview(), expected.sum());
            proptest::prop_assert_eq!(format!("{overview:?}"), format!("{one_by_one:?}"));
            let freed = plan.actions.iter().map(|action| action.frees.now).sum::<Bytes>();
            proptest::prop_assert_eq!(overview.frees.now, freed);
        }
    }
}
