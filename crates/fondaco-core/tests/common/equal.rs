//! Equal files and plans for them.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use fondaco_core::carry_out::{RunSummary, carry_out};
use fondaco_core::catalog::Catalog;
use fondaco_core::duplicates::{Candidates, Found, Keep, Known, search};
use fondaco_core::plan::{Deed, Draft, Plan, Reviewer, plan_copies};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::Time;

use super::{NOW, Place, set_old};

/// A plan for all copies below the root but those that an order of preference keeps.
pub fn plan(place: &Place, keep: &[&str], deed: &Deed) -> Plan {
    let options = Options { threads: 1, ..Options::new(Time::now()) };
    let mut scan = Scan::start(std::slice::from_ref(&place.root), &options).unwrap();
    scan.wait();
    let catalog: &Catalog = &scan.catalog();
    let candidates = Candidates::of(catalog.whole(), &[catalog.roots()[0].entry]);
    let go_on = &mut |_: &_, _: &[_]| ControlFlow::Continue(());
    let found: Found = search(candidates, catalog, &Known::nothing(), go_on);
    let reviewer = Reviewer::of_scan(&place.state, catalog.origin(), catalog.roots(), Time::now());
    let keep = Keep::parse(keep).unwrap();
    let mut draft = Draft::default();
    for set in &found.sets {
        let copies = plan_copies(catalog, set, &keep, deed, &reviewer);
        assert!(copies.left_out.is_empty(), "{:?}", copies.left_out);
        draft.put_all(copies.planned);
    }
    draft.to_plan(Vec::new(), NOW).unwrap()
}

pub fn do_it(plan: &Plan, place: &Place) -> RunSummary {
    carry_out(plan, &place.state, &|| NOW, &|_| ControlFlow::Continue(())).unwrap()
}

/// Rewrites a file in its place and sets its time back.
pub fn rewrite(path: &Path) {
    let length = std::fs::metadata(path).unwrap().len();
    std::fs::write(path, vec![b'!'; length as usize]).unwrap();
    set_old(path, 0);
}

pub fn two(place: &Place) -> (PathBuf, PathBuf) {
    let (stays, goes) = (place.root.join("stays/a.raw"), place.root.join("goes/a.raw"));
    for path in [&stays, &goes] {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, vec![7; 100_000]).unwrap();
        set_old(path, 0);
    }
    (stays, goes)
}
