//! The log: what was scanned, saved, carried out, put back and settled, in files of the state directory, a new one each
//! day. Nothing of it is written to the screen.

use std::os::unix::fs::DirBuilderExt;
use std::sync::Once;

use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use tracing_appender::rolling::{RollingFileAppender, Rotation};

use crate::output::tell;

/// Files of so many days are kept.
const DAYS: usize = 30;

/// Begins to write the log, once. Whatever the program is run for does not depend on it.
pub fn begin(state: &State) {
    static BEGUN: Once = Once::new();
    BEGUN.call_once(|| {
        let directory = state.log_directory();
        let made = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&directory);
        let file = made.map_err(|error| error.to_string()).and_then(|()| {
            RollingFileAppender::builder()
                .rotation(Rotation::DAILY)
                .filename_prefix("fondaco")
                .filename_suffix("log")
                .max_log_files(DAYS)
                .build(&directory)
                .map_err(|error| error.to_string())
        });
        match file {
            Ok(file) => {
                // texts that others have written are escaped where they are put into events
                let log = tracing_subscriber::fmt().with_writer(std::sync::Mutex::new(file));
                log.with_ansi(false).with_target(false).log_internal_errors(false).init();
            }
            Err(error) => tell!("no log is kept in {}: {error}", Shown(&directory)),
        }
    });
}
