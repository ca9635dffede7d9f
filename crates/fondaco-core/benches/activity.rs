//! How much of a processor it takes to watch who writes, under a storm of events: a process of its own makes, writes and
//! renames so many files a second.
//!
//! `cargo bench -p fondaco-core --bench activity -- DIRECTORY [EVENTS_A_SECOND]`, as root
#![allow(missing_docs, clippy::unwrap_used)]

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

use fondaco_core::activity::Watch;
use fondaco_core::kernel::processor_time;
use fondaco_core::state::State;

const SECONDS: u64 = 12;

fn main() {
    let given: Vec<String> =
        std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let directory = PathBuf::from(given.first().expect("say where: a directory"));
    let rate: u64 = given.get(1).map_or(10_000, |rate| rate.parse().unwrap());
    if given.get(2).is_some() {
        return storm(&directory, rate);
    }
    let state = tempfile::tempdir().unwrap();
    let state = State::open(&state.path().join("state")).unwrap();
    let mut writer = Command::new(std::env::current_exe().unwrap())
        .arg(&directory)
        .arg(rate.to_string())
        .arg("storm")
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(500));
    for tick in [1000, 500] {
        let mut watch = Watch::begin(&directory, &state, Some(10)).unwrap();
        let (begun, before) = (Instant::now(), processor_time());
        while begun.elapsed() < Duration::from_secs(4) {
            std::thread::sleep(Duration::from_millis(tick));
            watch.tick().unwrap();
        }
        let used =
            processor_time().saturating_sub(before).as_secs_f64() / begun.elapsed().as_secs_f64();
        let activity = watch.activity();
        println!(
            "a look every {tick} ms: {:.2} % of a processor, {:.0} events a second, lost: {}, estimated: {}, {:.0} bytes/s",
            used * 100.0,
            activity.events as f64 / activity.seconds,
            activity.lost,
            activity.estimated,
            activity.rate
        );
    }
    writer.kill().unwrap();
    writer.wait().unwrap();
}

/// Makes about so many events a second: of each five, one file is made, one renamed, and three are writes.
fn storm(directory: &Path, rate: u64) {
    let begun = Instant::now();
    let mut made = 0u64;
    while begun.elapsed() < Duration::from_secs(SECONDS) {
        let due = begun.elapsed().as_micros() as u64 * rate / 1_000_000;
        while made < due {
            let place = directory.join(format!("part-{}", made / 5 % 64));
            std::fs::create_dir_all(&place).unwrap();
            let name = place.join(format!("file-{}", made / 5 % 20_000));
            let mut file = std::fs::File::create(&name).unwrap();
            file.write_all(&[1; 512]).unwrap();
            let log = place.join("log");
            let mut log = std::fs::File::options().create(true).append(true).open(log).unwrap();
            log.write_all(&[1; 64]).unwrap();
            std::fs::rename(&name, name.with_extension("done")).unwrap();
            made += 5;
        }
        std::thread::sleep(Duration::from_millis(1));
    }
}
