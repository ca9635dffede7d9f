//! Forecasts against what is really freed, on trees whose files share inodes in every way.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::path::PathBuf;

use common::{NOW, Place};
use fondaco_core::carry_out::{EntryRecord, EntryState, carry_out, purge, put_back};
use fondaco_core::plan::{Deed, Draft, Plan, Planned, Put, Review, survey};
use fondaco_core::units::Bytes;
use fondaco_core::volume::used_below;
use proptest::prelude::*;

/// Directories, and files with one or several names in them.
fn build(place: &Place, names: &[(u8, u8)]) -> Vec<PathBuf> {
    let mut made: BTreeSet<PathBuf> = BTreeSet::new();
    for directory in ["a", "b", "b/c"] {
        std::fs::create_dir_all(place.root.join(directory)).unwrap();
        made.insert(place.root.join(directory));
    }
    for (at, (directory, inode)) in names.iter().enumerate() {
        let directory = place.root.join(["", "a", "b", "b/c"][usize::from(directory % 4)]);
        let path = directory.join(format!("{inode}-{at}"));
        let first = made.iter().find(|path| {
            let name = path.file_name().unwrap().to_str().unwrap();
            name.starts_with(&format!("{inode}-"))
        });
        match first {
            Some(first) => std::fs::hard_link(first, &path).unwrap(),
            None => std::fs::write(&path, vec![1; 5000 * (usize::from(*inode) + 1)]).unwrap(),
        }
        made.insert(path);
    }
    made.into_iter().collect()
}

/// A plan of some of these things; what lies inside another goes with it.
fn plan(place: &Place, things: &[PathBuf], chosen: &[(u16, u8)]) -> Plan {
    let mut draft = Draft::default();
    for (at, deed) in chosen {
        let path = &things[usize::from(*at) % things.len()];
        if draft.planned().iter().any(|planned| planned.path == *path) {
            continue;
        }
        let deed = match deed % 3 {
            0 => Deed::Delete,
            1 => Deed::SetAside,
            _ => place.archive(),
        };
        let put = draft.put(Planned {
            path: path.clone(),
            deed,
            reason: "by hand".into(),
            volume: place.root.clone(),
            estimate: Bytes::ZERO,
            entries: 1,
            review: Review::Pending,
        });
        if !matches!(put, Put::InsideOf(_)) {
            draft.reviewed(path, survey(path));
        }
    }
    for (one, two) in draft.planned().iter().zip(draft.planned().iter().skip(1)) {
        assert!(!one.path.starts_with(&two.path) && !two.path.starts_with(&one.path));
    }
    draft.to_plan(Vec::new(), NOW).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn what_is_forecast_is_freed_and_what_is_put_back_is_in_use_again(
        names in proptest::collection::vec((any::<u8>(), 0..6u8), 1..24),
        chosen in proptest::collection::vec((any::<u16>(), any::<u8>()), 1..8),
    ) {
        let place = Place::new();
        let things = build(&place, &names);
        let plan = plan(&place, &things, &chosen);
        let forecast = plan.frees();
        let before = used_below(&place.root);
        let go_on = |_: &_| ControlFlow::Continue(());
        let summary = carry_out(&plan, &place.state, &|| NOW, &go_on).unwrap();
        for entry in &summary.entries {
            let done = matches!(
                entry.state,
                EntryState::Deleted | EntryState::Held | EntryState::Archived
            );
            let line = |e: &EntryRecord| {
                let (number, deed) = (e.action.number, e.action.deed.word());
                let path = e.action.target.path.0.strip_prefix(&place.root).unwrap().to_owned();
                format!("{number} {deed} {} {}: {}", path.display(), e.state.word(), e.message)
            };
            let all: Vec<String> = summary.entries.iter().map(line).collect();
            prop_assert!(done, "{:#?}", all);
        }
        // names that one action takes must not make the next one look changed
        prop_assert_eq!(summary.freed, forecast.now);
        let held = summary.count(EntryState::Held) > 0;
        let areas = if held { Bytes::new(2 * 4096) } else { Bytes::ZERO };
        prop_assert_eq!(before + areas, used_below(&place.root) + forecast.now);
        let purged = purge(summary.run, None, &place.state, NOW).unwrap();
        prop_assert!(purged.refused.is_empty());
        let freed = before.less(used_below(&place.root));
        prop_assert_eq!(freed, forecast.now + forecast.later);
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        prop_assert!(returned.refused.is_empty(), "{:?}", returned.refused);
        prop_assert_eq!(returned.done.len(), summary.count(EntryState::Archived));
        for entry in &returned.done {
            prop_assert!(entry.action.target.path.0.exists());
        }
    }
}
