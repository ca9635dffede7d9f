//! Who writes now: two processes that fill a volume, held against how much their files grow.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::path::{Path, PathBuf};
use std::process::{Child, Command};
use std::time::{Duration, Instant};

use common::Mounted;
use fondaco_core::activity::{Activity, Watch};
use fondaco_core::state::State;

/// Writes on and on, so many bytes twenty times a second.
struct Filling(Child);

impl Filling {
    fn begin(script: &str) -> Self {
        Self(Command::new("sh").arg("-c").arg(script).spawn().unwrap())
    }
}

impl Drop for Filling {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn length_below(directory: &Path) -> u64 {
    let files = std::fs::read_dir(directory).into_iter().flatten().flatten();
    files.map(|file| file.metadata().map_or(0, |meta| meta.len())).sum()
}

/// Watches for some seconds, and gives what was seen and by how many bytes a second the directories grew meanwhile.
fn watched(watch: &mut Watch, directories: &[PathBuf]) -> (Activity, Vec<f64>) {
    let lengths = || directories.iter().map(|path| length_below(path)).collect::<Vec<u64>>();
    let (begun, before) = (Instant::now(), lengths());
    for _ in 0..8 {
        std::thread::sleep(Duration::from_millis(500));
        watch.tick().unwrap();
    }
    let (after, seconds) = (lengths(), begun.elapsed().as_secs_f64());
    let rate = |(before, after): (&u64, &u64)| (after - before) as f64 / seconds;
    (watch.activity(), before.iter().zip(&after).map(rate).collect())
}

fn near(found: f64, expected: f64) -> bool {
    (found - expected).abs() <= 0.1 * expected
}

#[test]
fn the_process_and_directory_that_fill_a_volume_lead_with_their_rates() {
    for file_system in ["ext4", "xfs", "btrfs"] {
        let Some(volume) = Mounted::new(file_system, 320) else { continue };
        let root = volume.path();
        let (logs, spool) = (root.join("logs"), root.join("spool"));
        [&logs, &spool].into_iter().for_each(|path| std::fs::create_dir(path).unwrap());
        let state = tempfile::tempdir().unwrap();
        let state = State::open(&state.path().join("state")).unwrap();
        // one holds its file open, the other makes a new one each time
        let fast = Filling::begin(&format!(
            "exec 3>>'{}/buoy.log'; while :; do printf '%65536s' '' >&3; sleep 0.05 3>&-; done",
            logs.display()
        ));
        let slow = Filling::begin(&format!(
            "n=0; while :; do n=$((n+1)); printf '%16384s' '' > '{}/part-'$n; sleep 0.05 3>&-; done",
            spool.display()
        ));
        let mut watch = Watch::begin(&root, &state, None).unwrap();
        assert_eq!(watch.activity().writers, []);
        let (activity, rates) = watched(&mut watch, &[logs.clone(), spool.clone()]);
        drop((fast, slow));
        assert_eq!(activity.no_events, None, "{file_system}");
        assert!(!activity.lost && !activity.estimated);
        let places: Vec<&Path> = activity.directories.iter().map(|d| d.path.as_path()).collect();
        assert_eq!(places, [logs.as_path(), spool.as_path()], "{file_system}");
        for (number, directory) in activity.directories.iter().enumerate() {
            let expected = rates[number];
            assert!(near(directory.rate, expected), "{file_system} {directory:?} {expected}");
            let writer = &activity.writers[number];
            assert!(near(writer.rate, expected), "{file_system} {writer:?} {expected}");
            assert_eq!(writer.process.as_ref().unwrap().command, "sh");
        }
        assert_eq!(activity.writers[0].largest, Some(logs.join("buoy.log")));
        assert!(activity.directories[1].made > 20 && activity.writers[1].made > 20);
        // not less than what was asked for, and the volume says about the same
        assert!(rates[0] > 300_000.0, "{rates:?}");
        let full_in = activity.full_in().unwrap();
        assert!(full_in > 60.0 && full_in < 3600.0, "{full_in}");
    }
}
