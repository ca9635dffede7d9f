//! The demo's process: it has a log open that was deleted, as it happens to real ones.

use std::fs::OpenOptions;
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, Result};

use super::Place;

/// What the deleted log takes.
const HELD: usize = 8 << 20;
/// The name that the process goes by.
const NAME: &std::ffi::CStr = c"tide-logger";

/// The process, which ends with this.
pub struct Logger(Child);

impl Logger {
    /// Starts it, and waits until its log has been deleted.
    ///
    /// # Errors
    ///
    /// If it cannot be started, or the log cannot be written.
    pub fn start(place: &Place) -> Result<Self> {
        let home = place.root.join("telemetry");
        let log = home.join("tide-logger.log");
        let dated = std::fs::metadata(&home);
        let program = std::env::current_exe().context("the program's own file is not known")?;
        let child = Command::new(program)
            .args(["demo", "--hold"])
            .arg(&log)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("the demo's logger cannot be started")?;
        let mut logger = Self(child);
        let since = Instant::now();
        let (mut was_there, deadline) = (false, Duration::from_secs(5));
        while since.elapsed() < deadline && logger.0.try_wait()?.is_none() {
            let is_there = log.exists();
            if was_there && !is_there {
                break;
            }
            was_there |= is_there;
            std::thread::sleep(Duration::from_millis(5));
        }
        // coming and going must not make the directory look newer than the demo says
        if let Ok(times) = dated.and_then(|meta| Ok((meta.accessed()?, meta.modified()?))) {
            let times = std::fs::FileTimes::new().set_accessed(times.0).set_modified(times.1);
            // a demo that was half deleted by its user may lack it
            let _ = std::fs::File::open(&home).and_then(|home| home.set_times(times));
        }
        Ok(logger)
    }
}

impl Drop for Logger {
    fn drop(&mut self) {
        // it may have been ended by a plan
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Is that process: writes a log, deletes it, and keeps it open until it is asked to end or the
/// application that began it has ended.
///
/// # Errors
///
/// If the log cannot be written.
pub fn hold(file: &Path) -> Result<()> {
    rustix::process::set_parent_process_death_signal(Some(rustix::process::Signal::TERM))?;
    rustix::thread::set_name(NAME)?;
    let log = write_and_delete(file)?;
    loop {
        std::thread::sleep(Duration::from_secs(3600));
        // held until here, whatever an optimiser thinks
        log.sync_all()?;
    }
}

fn write_and_delete(file: &Path) -> io::Result<std::fs::File> {
    let mut log = OpenOptions::new().write(true).create_new(true).mode(0o640).open(file)?;
    let line = b"gauge MAR level 3.41 m, battery 12.6 V, link lost, trying again\n";
    let block: Vec<u8> = line.iter().copied().cycle().take(1 << 16).collect();
    for _ in 0..HELD / block.len() {
        log.write_all(&block)?;
    }
    log.sync_all()?;
    // long enough for the process that waits to have seen it
    std::thread::sleep(Duration::from_millis(30));
    std::fs::remove_file(file)?;
    Ok(log)
}
