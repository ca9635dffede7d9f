//! A catalog that is mended is the one that a new scan would give.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::path::{Path, PathBuf};

use common::NOW;
use common::tree::{build, make, reference, totals};
use fondaco_core::catalog::Catalog;
use fondaco_core::scan::{Options, Scan, reconcile};
use fondaco_core::units::Bytes;
use proptest::prelude::*;

fn scan(roots: &[PathBuf]) -> Catalog {
    let catalog = Scan::start(roots, &Options::new(NOW)).unwrap().into_catalog();
    assert_eq!(catalog.unreadable(), []);
    catalog
}

fn paths(catalog: &Catalog) -> Vec<PathBuf> {
    let mut paths: Vec<_> = catalog.ids().map(|id| catalog.path(id)).collect();
    paths.sort();
    paths
}

/// Removes, rewrites or moves some of what is there; says which places were touched.
fn disturb(catalog: &Catalog, root: &Path, choices: &[(usize, u8)]) -> Vec<PathBuf> {
    let known = paths(catalog);
    let mut touched = Vec::new();
    for (place, what) in choices {
        let path = &known[place % known.len()];
        if path == root || path.symlink_metadata().is_err() {
            continue;
        }
        touched.push(path.clone());
        match what % 4 {
            0 if path.is_dir() && !path.is_symlink() => std::fs::remove_dir_all(path).unwrap(),
            0 => std::fs::remove_file(path).unwrap(),
            1 if path.is_dir() && !path.is_symlink() => {
                let (new, file) = (path.join("come").join("deep"), path.join("come/deep/new"));
                std::fs::create_dir_all(&new).unwrap();
                std::fs::write(&file, [1; 9000]).unwrap();
                touched.push(file);
            }
            2 => {
                let to = root.join(format!("moved-{place}"));
                if std::fs::rename(path, &to).is_ok() {
                    touched.push(to);
                }
            }
            _ => {
                let to = root.join(format!("linked-{place}"));
                if path.is_file() && !path.is_symlink() && std::fs::hard_link(path, &to).is_ok() {
                    touched.push(to);
                }
            }
        }
    }
    touched
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn only_the_touched_places_are_looked_at_and_all_totals_are_those_of_a_new_scan(
        steps in proptest::collection::vec(make(), 1..60),
        choices in proptest::collection::vec((0..1000usize, 0..4u8), 1..8),
        split in any::<bool>(),
    ) {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap();
        build(&root, &steps);
        // one root, or one for every directory in it
        let inner = root.read_dir().unwrap().map(|entry| entry.unwrap());
        let inner: Vec<_> = inner.filter(|e| e.file_type().unwrap().is_dir()).map(|e| e.path()).collect();
        let roots = if split && inner.len() > 1 { inner } else { vec![root.clone()] };
        let before = scan(&roots);
        let touched = disturb(&before, &root, &choices);
        let touched: Vec<_> = touched.into_iter().filter(|path| !roots.contains(path)).collect();
        let stands = roots.iter().all(|root| root.is_dir());
        prop_assume!(stands);
        let mended = reconcile(&before, &touched, &Options::new(NOW)).unwrap();
        let new = scan(&roots);
        prop_assert_eq!(paths(&mended), paths(&new));
        prop_assert_eq!(totals(&mended), totals(&new));
        prop_assert!(mended.is_complete());
        for id in new.ids() {
            let same = mended.find(&new.path(id));
            if new.path(id).as_os_str().is_empty() {
                continue;
            }
            let same = same.unwrap();
            prop_assert_eq!(mended.kind(same), new.kind(id));
            prop_assert_eq!(mended.inode(same), new.inode(id));
            prop_assert_eq!(mended.newest(same), new.newest(id));
            prop_assert_eq!(mended.exclusive(same), new.exclusive(id));
        }
        if let [root] = &roots[..] {
            prop_assert_eq!(totals(&mended), reference(root));
        }
    }
}

#[test]
fn several_roots_stand_below_one_top_and_are_counted_together() {
    let directory = tempfile::tempdir().unwrap();
    let root = directory.path().canonicalize().unwrap();
    for name in ["tide", "model"] {
        std::fs::create_dir(root.join(name)).unwrap();
    }
    std::fs::write(root.join("tide/a"), [1; 8192]).unwrap();
    std::fs::hard_link(root.join("tide/a"), root.join("model/a")).unwrap();
    let catalog = scan(&[root.join("tide"), root.join("model")]);
    let top = catalog.top().unwrap();
    assert_eq!(catalog.path(top), PathBuf::new());
    let roots: Vec<_> = catalog.children(top).collect();
    assert_eq!(roots, catalog.roots().iter().map(|root| root.entry).collect::<Vec<_>>());
    let own: Bytes = roots.iter().map(|id| catalog.exclusive(*id)).sum();
    let [tide, model] = [roots[0], roots[1]].map(|id| catalog.allocated(id));
    assert_eq!(tide + model, own + Bytes::new(2 * 8192));
    assert_eq!(catalog.allocated(top), own + Bytes::new(8192), "a linked inode counts once");
    assert_eq!(catalog.exclusive(top), catalog.allocated(top));
}
