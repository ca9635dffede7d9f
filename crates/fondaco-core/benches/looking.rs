//! How long it takes to look at a scan: lens, ages, breakdown, files, map. Beside each the floor: one pass over
//! all entries that adds up their bytes.
//!
//! `cargo bench -p fondaco-core --bench looking -- TREE [ONLY]`, with a part of the names of what is to be measured
#![allow(missing_docs, clippy::unwrap_used)]

use std::path::PathBuf;
use std::time::{Duration, Instant};

use fondaco_core::analysis::{
    AgeBy, BreakdownBy, Classes, FileOrder, MapShape, Place, breakdown, first_files, map, matrix,
};
use fondaco_core::catalog::{Catalog, Order};
use fondaco_core::leftovers::{Homes, Table, find};
use fondaco_core::lens::{Lens, SystemAccounts};
use fondaco_core::scan::{Options, Scan};
use fondaco_core::units::Time;

fn main() {
    let given = std::env::args().skip(1).find(|argument| !argument.starts_with('-'));
    let tree = PathBuf::from(given.expect("say which tree: cargo bench --bench looking -- TREE"));
    let scan = Scan::start(&[tree], &Options::new(Time::now())).unwrap();
    let catalog = scan.into_catalog();
    let top = catalog.top().unwrap();
    println!("{} entries", catalog.rows());
    println!("{:<52} {:>10} {:>10}", "", "median", "floor");
    let lenses = [
        "larger:64k",
        "older:1y larger:4k",
        "kind:audio,video",
        "not owner:root",
        "is:hidden",
        "name:*a*.log",
        "needle",
        "family:file-#",
        "under:0 newer:90d",
        "kind:log older:30d not owner:unknown length:5-20",
    ];
    for text in lenses {
        let lens = Lens::parse(text, &SystemAccounts).unwrap();
        measure(&format!("lens {text}"), &catalog, || {
            lens.select(&catalog, &SystemAccounts).len() as usize
        });
    }
    let lens = Lens::parse("older:90d larger:4k", &SystemAccounts).unwrap();
    let selection = lens.select(&catalog, &SystemAccounts);
    for (what, seen) in [("", catalog.whole()), (", under a lens", catalog.seen(Some(&selection)))]
    {
        measure(&format!("directories{what}"), &catalog, || {
            seen.ranking(top, Order::Allocated, 50).rows.len()
        });
        measure(&format!("ages{what}"), &catalog, || {
            matrix(seen, top, AgeBy::Written, Classes::default()).whole().entries as usize
        });
        for by in BreakdownBy::ALL {
            measure(&format!("breakdown by {}{what}", by.words()), &catalog, || {
                breakdown(seen, top, by).slices.len()
            });
        }
        for order in [FileOrder::Allocated, FileOrder::ByteYears] {
            measure(&format!("files by {order:?}{what}"), &catalog, || {
                first_files(seen, top, order, AgeBy::Written, None, 1000).first.len()
            });
        }
        let whole = Place { x: 0.0, y: 0.0, width: 97.0, height: 41.0 };
        let shape = MapShape {
            whole,
            tallness: 2.0,
            margin: (1.0, 1.0, 0.0, 0.0),
            least: (3.0, 1.0),
            least_open: (10.0, 3.0),
        };
        measure(&format!("map{what}"), &catalog, || map(seen, top, &shape).len());
        let table = Table::with(None, None, &Homes::of("")).0;
        measure(&format!("leftovers by the scan alone{what}"), &catalog, || {
            find(seen, &table, &SystemAccounts, None, &|| false).groups.len()
        });
    }
}

/// The median of eleven, beside the floor of the same run.
fn measure(what: &str, catalog: &Catalog, mut work: impl FnMut() -> usize) {
    let arguments = std::env::args().skip(1).filter(|argument| !argument.starts_with('-'));
    if arguments.skip(1).any(|only| !what.contains(&only)) {
        return;
    }
    let median = |work: &mut dyn FnMut() -> usize| -> Duration {
        let mut times: Vec<Duration> = (0..11)
            .map(|_| {
                let begun = Instant::now();
                std::hint::black_box(work());
                begun.elapsed()
            })
            .collect();
        times.sort();
        times[times.len() / 2]
    };
    let found = median(&mut work);
    let floor = median(&mut || {
        catalog.ids().map(|id| catalog.own_allocated(id).get()).sum::<u64>() as usize
    });
    let ms = |time: Duration| time.as_secs_f64() * 1000.0;
    println!("{what:<52} {:>7.1} ms {:>7.1} ms", ms(found), ms(floor));
}
