//! What is asked of a catalog, and saving and loading one, each beside the least that it could take: going
//! once through as many numbers, writing and syncing as many bytes, reading as many.
//!
//! `cargo bench --bench catalog -- TREE` scans an existing tree first. The median of the rounds is printed;
//! floor and work take turns.
#![allow(missing_docs, clippy::unwrap_used)]

use std::hint::black_box;
use std::io::{Read, Write};
use std::path::PathBuf;
use std::time::Instant;

use fondaco_core::catalog::{Catalog, EntryId, Order};
use fondaco_core::saved;
use fondaco_core::scan::{Options, Scan, replace};
use fondaco_core::state::State;
use fondaco_core::units::Time;

const ROUNDS: usize = 5;

fn main() {
    let given = std::env::args().skip(1).find(|argument| !argument.starts_with('-'));
    let tree = PathBuf::from(given.expect("say which tree: cargo bench --bench catalog -- TREE"));
    let scan = |path: PathBuf| Scan::start(&[path], &Options::new(Time::now())).unwrap();
    let catalog = scan(tree.clone()).into_catalog();
    let top = catalog.top().unwrap();
    let directories = || catalog.ids().filter(|id| catalog.is_directory(*id));
    let widest = directories().max_by_key(|id| catalog.children(*id).len()).unwrap();
    println!(
        "{} entries; the widest directory holds {}",
        catalog.rows(),
        catalog.children(widest).len()
    );

    println!("{:<44} {:>10} {:>10}", "", "work", "floor");
    for order in [Order::Allocated, Order::Apparent, Order::Entries, Order::Newest, Order::Name] {
        let what = format!("widest directory by {}, first 50", order.word());
        measure(&what, || catalog.ranking(widest, order, 50).rows.len(), || once(&catalog, widest));
    }
    let whole = "widest directory by allocated, whole";
    let rank = || catalog.ranking(widest, Order::Allocated, usize::MAX).rows.len();
    measure(whole, rank, || once(&catalog, widest));
    measure("100 largest files of all", || catalog.largest_below(top, 100).len(), || 0);
    measure("100 largest files of the widest", || catalog.largest_below(widest, 100).len(), || 0);
    let profiles = || directories().map(|id| catalog.age_profile(id)[0] as usize).sum();
    measure("age profiles of all directories", profiles, || directories().count());

    let home = tempfile::tempdir_in(tree.parent().unwrap()).unwrap();
    std::fs::set_permissions(home.path(), std::os::unix::fs::PermissionsExt::from_mode(0o700))
        .unwrap();
    let state = State::open(home.path()).unwrap();
    let number = saved::save(&state, &catalog, false).unwrap();
    let file = state.scans_directory().join(format!("{number}.parquet"));
    let bytes = std::fs::read(&file).unwrap();
    println!("saved: {:.2} bytes an entry", bytes.len() as f64 / catalog.rows() as f64);
    let written = || {
        let mut file = tempfile::NamedTempFile::new_in(home.path()).unwrap();
        file.write_all(&bytes).unwrap();
        file.as_file().sync_all().unwrap();
        bytes.len()
    };
    measure("save", || saved::save(&state, &catalog, false).unwrap() as usize, written);
    let read = || std::fs::File::open(&file).unwrap().read(&mut vec![0; bytes.len()]).unwrap();
    measure("load", || saved::open(&state, number).unwrap().rows(), read);

    let part = catalog.path(catalog.ranking(top, Order::Entries, 1).rows[0]);
    let found = scan(part.clone()).into_catalog();
    let mend = || replace(&catalog, &part, &found).unwrap().rows();
    measure("mend after one directory was scanned again", mend, || 0);
}

/// Goes once through the children.
fn once(catalog: &Catalog, directory: EntryId) -> usize {
    catalog.children(directory).map(|id| catalog.allocated(id).get() as usize).sum()
}

fn measure(what: &str, work: impl Fn() -> usize, floor: impl Fn() -> usize) {
    let time = |act: &dyn Fn() -> usize| {
        let begun = Instant::now();
        black_box(act());
        begun.elapsed().as_secs_f64() * 1000.0
    };
    let (mut works, mut floors) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        floors.push(time(&floor));
        works.push(time(&work));
    }
    println!("{what:<44} {:>7.2} ms {:>7.2} ms", median(&mut works), median(&mut floors));
}

fn median(numbers: &mut [f64]) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers[numbers.len() / 2]
}
