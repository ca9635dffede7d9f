//! How long frames take, for who measures: `FONDACO_FRAME_TIMES=FILE` keeps the time of each.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::time::Duration;

/// Writes a line for each frame: microseconds for taking in what has happened, and for drawing.
pub struct FrameTimes(Option<BufWriter<File>>);

impl FrameTimes {
    /// Where the environment says; nowhere if it says nothing or that file cannot be made.
    pub fn of_environment() -> Self {
        let file =
            std::env::var_os("FONDACO_FRAME_TIMES").and_then(|path| File::create_new(path).ok());
        Self(file.map(BufWriter::new))
    }

    /// Keeps one frame.
    pub fn keep(&mut self, update: Duration, draw: Duration) {
        if let Some(out) = &mut self.0 {
            // a measurement that cannot be kept is no reason to stop
            let _ = writeln!(out, "{} {}", update.as_micros(), draw.as_micros());
        }
    }
}
