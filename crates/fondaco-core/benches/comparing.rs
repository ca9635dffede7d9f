//! How long it takes to compare two scans, and how much memory: of a tree that is made up, of which in the second scan one
//! file in twenty has grown, one in fifty is gone, one in fifty is new, and one directory in a hundred lies elsewhere. Beside
//! it the floor: one pass over the names of both.
//!
//! `cargo bench -p fondaco-core --bench comparing -- ENTRIES [different|DIRECTORY]`; `different` compares with a tree that has
//! nothing in common with the first, and into a directory the two scans are written as files, for `fondaco compare`
#![allow(missing_docs, clippy::unwrap_used)]

use std::path::Path;
use std::time::Instant;

use fondaco_core::analysis::BreakdownBy;
use fondaco_core::catalog::{Batch, Catalog, EntryId};
use fondaco_core::history::{Measure, Side, compare};
use fondaco_core::kernel::{self, Kind, Stat};
use fondaco_core::lens::SystemAccounts;
use fondaco_core::units::Time;

const FILES: u64 = 10;

fn main() {
    let mut given = std::env::args().skip(1).filter(|argument| !argument.starts_with('-'));
    let entries: u64 = given.next().map_or(1_000_000, |count| count.parse().unwrap());
    let other = given.next();
    let is_other = other.as_deref() == Some("different");
    let before = made_up(entries, false, 0);
    let after = made_up(entries, true, if is_other { u64::from(u32::MAX) } else { 0 });
    if let Some(directory) = other.filter(|_| !is_other) {
        for (name, catalog) in [("before", &before), ("after", &after)] {
            let file = Path::new(&directory).join(format!("{name}.parquet"));
            fondaco_core::saved::write_to(&file, catalog, &SystemAccounts).unwrap();
        }
        return;
    }
    let held = kernel_says("VmRSS");
    println!("{} and {} entries, {held} MB with both", before.rows(), after.rows());
    for round in 0..5 {
        let begun = Instant::now();
        let side = |catalog: &Catalog, id: &EntryId| catalog.own_name(*id).len();
        let sum: usize =
            [&before, &after].iter().flat_map(|c| c.ids().map(|id| side(c, &id))).sum();
        let floor = begun.elapsed();
        std::hint::black_box(sum);
        let begun = Instant::now();
        let sides = [&before, &after]
            .map(|catalog| Side { seen: catalog.whole(), at: catalog.top().unwrap() });
        let found = compare(sides[0], sides[1], Measure::Allocated);
        let compared = begun.elapsed();
        let begun = Instant::now();
        let families = found.by(BreakdownBy::Family, &before, &after).slices.len();
        let sliced = begun.elapsed();
        let changes = found.place(found.root()).changes;
        if round == 0 {
            println!("{} places; {changes:?}; {families} families", found.places());
        }
        println!(
            "compared in {:.3} s, by family in {:.3} s, floor {:.3} s; at most {} MB more",
            compared.as_secs_f64(),
            sliced.as_secs_f64(),
            floor.as_secs_f64(),
            kernel_says("VmHWM") - held
        );
    }
}

/// Megabytes of this process (`proc_pid_status(5)`).
fn kernel_says(what: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with(what)).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
}

/// A tree in which every directory holds some files and some directories.
fn made_up(entries: u64, later: bool, other: u64) -> Catalog {
    let mut like = kernel::stat_path(Path::new("/")).unwrap();
    like.ino = 1;
    let mut catalog = Catalog::new(Time::at(2_000_000_000));
    let top = catalog.add_roots(&[("/srv/seamark".into(), like)]).unwrap()[0];
    let mut open = std::collections::VecDeque::from([(top, 0u64)]);
    let (mut made, mut directories) = (1, 0u64);
    while let Some((at, number)) = open.pop_front() {
        if made >= entries {
            break;
        }
        let mut batch = Batch::new(Time::at(2_000_000_000));
        let mut inside = Vec::new();
        for file in 0..FILES {
            let id = number * 64 + file + other;
            let (gone, new) = (id % 50 == 7, id % 50 == 8);
            if (later && gone) || (!later && new) {
                continue;
            }
            let grown = later && id % 20 == 3;
            let size = 4096 + id % 997 * 512 + if grown { 8192 } else { 0 };
            let written = Time::at(1_000_000_000 + (id % 1_000_003) as i64 + i64::from(grown));
            let stat =
                Stat { ino: 10 + id, size, blocks: size / 512, mtime: written, ..file_like(&like) };
            batch.push(format!("sounding-{id}-{file}.raw").as_bytes(), &stat);
        }
        for _ in 0..3 {
            directories += 1;
            let moved = later && directories % 100 == 42;
            let name = if moved { "moved" } else { "survey" };
            inside.push((batch.len() as u32, directories));
            let stat = Stat { ino: 10 + directories * 64 + 63 + other, ..like };
            batch.push(format!("{name}-{directories}-{other}").as_bytes(), &stat);
        }
        let first = catalog.append(at, None, &batch).unwrap();
        made += batch.len() as u64;
        open.extend(inside.iter().map(|(place, number)| (EntryId(first.0 + place), *number)));
    }
    catalog.finish(true);
    catalog
}

fn file_like(directory: &Stat) -> Stat {
    let mode = directory.mode & 0o777 | u32::from(Kind::File.mode_bits());
    Stat { kind: Kind::File, mode, links: 1, ..*directory }
}
