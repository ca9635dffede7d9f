//! The log: what was scanned, saved, carried out, put back and settled, in files of the state directory, a new one each
//! day; under systemd in its journal too. Nothing of it is written to the screen.

use std::fmt;
use std::io;
use std::os::fd::AsFd;
use std::os::unix::fs::DirBuilderExt;
use std::sync::{Mutex, Once};

use fondaco_core::shown::Shown;
use fondaco_core::state::State;
use tracing::{Event, Level, Subscriber};
use tracing_appender::rolling::{RollingFileAppender, Rotation};
use tracing_subscriber::filter::LevelFilter;
use tracing_subscriber::fmt::format::{Format, Full, Writer};
use tracing_subscriber::fmt::{FmtContext, FormatEvent, FormatFields};
use tracing_subscriber::layer::SubscriberExt;
use tracing_subscriber::registry::LookupSpan;
use tracing_subscriber::util::SubscriberInitExt;

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
        let file = match file {
            Ok(file) => Some(Mutex::new(file)),
            Err(error) => {
                tell!("no log is kept in {}: {error}", Shown(&directory));
                None
            }
        };
        // texts that others have written are escaped where they are put into events
        let file = file.map(|file| {
            let layer = tracing_subscriber::fmt::layer().with_writer(file);
            layer.with_ansi(false).with_target(false).log_internal_errors(false)
        });
        let journal = is_journal().then(|| {
            let layer = tracing_subscriber::fmt::layer().with_writer(io::stderr).with_ansi(false);
            layer.log_internal_errors(false).event_format(WithPriority::new())
        });
        tracing_subscriber::registry().with(LevelFilter::INFO).with(file).with(journal).init();
    });
}

/// Whether standard error goes to the journal of systemd (`JOURNAL_STREAM` in `systemd.exec(5)`).
fn is_journal() -> bool {
    let Ok(stream) = std::env::var("JOURNAL_STREAM") else { return false };
    let stat = rustix::fs::fstat(io::stderr().as_fd());
    stat.is_ok_and(|stat| stream == format!("{}:{}", stat.st_dev, stat.st_ino))
}

/// Lines as the journal of systemd takes them: the priority in front, and no time, which it has itself (`sd-daemon(3)`).
struct WithPriority(Format<Full, ()>);

impl WithPriority {
    fn new() -> Self {
        Self(Format::default().without_time().with_level(false).with_target(false).with_ansi(false))
    }
}

impl<S, N> FormatEvent<S, N> for WithPriority
where
    S: Subscriber + for<'a> LookupSpan<'a>,
    N: for<'a> FormatFields<'a> + 'static,
{
    fn format_event(
        &self,
        context: &FmtContext<'_, S, N>,
        mut writer: Writer<'_>,
        event: &Event<'_>,
    ) -> fmt::Result {
        let priority = match *event.metadata().level() {
            Level::ERROR => 3,
            Level::WARN => 4,
            Level::INFO => 6,
            _ => 7,
        };
        write!(writer, "<{priority}>")?;
        self.0.format_event(context, writer, event)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    #[derive(Clone, Default)]
    struct Kept(Arc<Mutex<Vec<u8>>>);

    impl io::Write for Kept {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.lock().unwrap().extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    #[test]
    fn each_line_for_the_journal_begins_with_its_priority() {
        let kept = Kept::default();
        let writer = kept.clone();
        let layer = tracing_subscriber::fmt::layer().with_writer(move || writer.clone());
        let layer = layer.with_ansi(false).event_format(WithPriority::new());
        tracing::subscriber::with_default(tracing_subscriber::registry().with(layer), || {
            tracing::info!(run = 3, "run begun");
            tracing::warn!("not done");
            tracing::error!("failed");
        });
        let text = String::from_utf8(kept.0.lock().unwrap().clone()).unwrap();
        assert_eq!(text, "<6>run begun run=3\n<4>not done\n<3>failed\n");
    }
}
