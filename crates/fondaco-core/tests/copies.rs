//! Copies that go because another one stays: whatever happens in between, the contents are still there.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::cell::Cell;
use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use common::equal::{do_it, plan, rewrite, two};
use common::{NOW, Place, set_old};
use fondaco_core::carry_out::{EntryState, Figures, carry_out, put_back, rehearse};
use fondaco_core::plan::Deed;
use proptest::prelude::*;

#[test]
fn a_copy_goes_only_while_the_one_that_stays_is_there_and_the_same() {
    type Act = fn(&Path);
    let acts: [(&str, Act, &str); 5] = [
        ("nothing", |_| {}, ""),
        ("removed", |stays| std::fs::remove_file(stays).unwrap(), "is gone"),
        ("rewritten", rewrite, "does not hold the same"),
        ("longer", |stays| std::fs::write(stays, vec![7; 100_001]).unwrap(), "has changed"),
        (
            "another file",
            |stays| {
                let other = stays.with_extension("other");
                std::fs::copy(stays, &other).unwrap();
                std::fs::rename(other, stays).unwrap();
            },
            "has changed",
        ),
    ];
    for deed in [Deed::Delete, Deed::SetAside, Deed::Link] {
        for (what, act, reason) in acts {
            let place = Place::new();
            let (stays, goes) = two(&place);
            let plan = plan(&place, &["stays/"], &deed);
            assert_eq!(plan.actions.len(), 1);
            act(&stays);
            let rehearsal =
                rehearse(&plan, &place.state, NOW, &|_| ControlFlow::Continue(())).unwrap();
            let summary = do_it(&plan, &place);
            let entry = &summary.entries[0];
            assert_eq!(entry.state.is_done(), reason.is_empty(), "{what}: {entry:?}");
            assert!(entry.message.contains(reason), "{what}: {}", entry.message);
            // bytes are compared only by the run
            let may_differ = what == "rewritten";
            let is_refused = !reason.is_empty() && !may_differ;
            assert_eq!(rehearsal.refused(), usize::from(is_refused), "{what}");
            assert_eq!(goes.exists(), !reason.is_empty() || deed == Deed::Link, "{what}");
            if deed != Deed::Delete && reason.is_empty() {
                put_back(summary.run, None, &place.state, NOW).unwrap();
                assert_eq!(std::fs::read(&goes).unwrap(), std::fs::read(&stays).unwrap());
            }
        }
    }
}

#[test]
fn a_copy_that_is_changed_removed_or_swapped_at_any_step_of_the_run_keeps_the_other_whole() {
    // whether it could be done: nobody can open what is leased without waiting for the run, which would wait for us
    type Act = fn(&Path) -> bool;
    let acts: [Act; 3] = [
        |stays| {
            let mut open = std::fs::OpenOptions::new();
            open.write(true).custom_flags(libc::O_NONBLOCK);
            open.open(stays).is_ok_and(|file| {
                file.write_all_at(&vec![b'!'; 100_000], 0).unwrap();
                set_old(stays, 0);
                true
            })
        },
        |stays| std::fs::remove_file(stays).is_ok(),
        |stays| {
            let other = stays.with_extension("other");
            std::fs::write(&other, "something else").unwrap();
            std::fs::rename(other, stays).is_ok()
        },
    ];
    let mut refused = 0;
    let all = acts.iter().flat_map(|act| [Deed::Delete, Deed::Link].map(|deed| (act, deed)));
    for (act, deed) in all {
        for step in 0.. {
            let place = Place::new();
            let (stays, goes) = two(&place);
            let plan = plan(&place, &["stays/"], &deed);
            let (met, acted) = (Cell::new(0), Cell::new(false));
            let watch = |_: &Figures| {
                if met.replace(met.get() + 1) == step {
                    acted.set(act(&stays));
                }
                ControlFlow::Continue(())
            };
            let summary = carry_out(&plan, &place.state, &|| NOW, &watch).unwrap();
            let is_there =
                |path: &Path| std::fs::read(path).is_ok_and(|bytes| bytes == vec![7; 100_000]);
            assert!(is_there(&goes) || is_there(&stays), "step {step}: {summary:?}");
            let was_refused = summary.entries[0].state == EntryState::Refused;
            assert_eq!(is_there(&goes), was_refused || deed == Deed::Link, "step {step}");
            // once it is linked, the file has another name
            let may_be_done = deed == Deed::Link && is_there(&goes);
            assert!(!acted.get() || was_refused || may_be_done, "step {step}: {summary:?}");
            refused += u32::from(acted.get());
            if met.get() <= step {
                break;
            }
        }
    }
    assert!(refused >= 5, "only {refused} of the acts came in between");
}

#[test]
fn two_plans_that_keep_what_the_other_takes_leave_one_and_so_does_one_plan_of_both() {
    let place = Place::new();
    let (stays, goes) = two(&place);
    let one = plan(&place, &["stays/"], &Deed::Delete);
    let other = plan(&place, &["goes/"], &Deed::Delete);
    let mut both = one.clone();
    both.id = "both".to_owned();
    both.actions.extend(other.actions.clone());
    for at in 0..both.actions.len() {
        both.actions[at].number = at as u32 + 1;
    }
    let summary = do_it(&both, &place);
    assert_eq!(summary.count(EntryState::Refused), 2, "{:?}", summary.entries);
    assert!(summary.entries[0].message.contains("which was to stay"));
    assert!(stays.exists() && goes.exists());
    assert_eq!(do_it(&one, &place).count(EntryState::Deleted), 1);
    let summary = do_it(&other, &place);
    assert_eq!(summary.count(EntryState::Refused), 1);
    assert!(summary.entries[0].message.contains("is gone"), "{:?}", summary.entries);
    assert!(stays.exists() && !goes.exists());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn every_content_that_was_there_is_still_there_once(
        files in prop::collection::vec((0..4usize, 0..3u8, prop::bool::weighted(0.2)), 2..16),
        keep in prop::sample::subsequence(vec!["newest", "d1/", "deepest", "*.x", "oldest"], 0..4),
        deed in prop::sample::select(vec![Deed::Delete, Deed::SetAside, Deed::Link]),
    ) {
        let place = Place::new();
        let mut last: Option<PathBuf> = None;
        for (number, (directory, content, linked)) in files.iter().enumerate() {
            let path = place.root.join(["", "d1", "d1/d2", "d3.x"][*directory]).join(number.to_string());
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            match (&last, linked) {
                (Some(last), true) => std::fs::hard_link(last, &path).unwrap(),
                _ => std::fs::write(&path, vec![*content; 3000]).unwrap(),
            }
            last = Some(path);
        }
        let contents = || -> BTreeSet<Vec<u8>> {
            let below = common::picture(&place.root);
            below.keys().filter(|path| path.is_file()).map(|path| std::fs::read(path).unwrap()).collect()
        };
        let (before, as_it_was) = (contents(), common::picture(&place.root));
        let plan = plan(&place, &keep, &deed);
        if !plan.actions.is_empty() {
            let summary = do_it(&plan, &place);
            let done = summary.entries.iter().filter(|entry| entry.state.is_done()).count();
            prop_assert_eq!(done, plan.actions.len(), "{:?}", summary.entries);
            if deed == Deed::Link {
                prop_assert_eq!(&contents(), &before);
                let linked = common::picture(&place.root);
                prop_assert!(linked.keys().eq(as_it_was.keys()));
                put_back(summary.run, None, &place.state, NOW).unwrap();
            } else if deed == Deed::SetAside {
                // what is set aside is not among what is there
                let held = place.root.join(format!(".fondaco-held-{}", rustix::process::geteuid().as_raw()));
                std::fs::rename(&held, place.depot.with_file_name("held")).unwrap();
                prop_assert_eq!(&contents(), &before);
                std::fs::rename(place.depot.with_file_name("held"), &held).unwrap();
                put_back(summary.run, None, &place.state, NOW).unwrap();
                prop_assert_eq!(common::picture(&place.root).len(), as_it_was.len());
            }
        }
        prop_assert_eq!(contents(), before);
    }
}
