//! Libraries that read files of others, run so that a fault of theirs costs only what they were asked for.
//!
//! A damaged or hostile file may make a decoder panic. It runs in a thread of its own here, whose end by a panic is an
//! error like any other.

use std::any::Any;
use std::sync::mpsc::{RecvTimeoutError, sync_channel};
use std::thread::Builder;
use std::time::Duration;

/// The name of threads whose panics are expected and told as errors, so that a panic hook does not take them for the
/// end of the program.
const NAME: &str = "contained";

/// Why something contained came to nothing.
#[derive(Debug, thiserror::Error)]
pub enum Contained {
    /// It panicked, and this is what it said.
    #[error("a library that reads it gave up: {0}")]
    Panicked(String),
    /// It was not ready in time. Its thread goes on by itself, and what it brings is not taken.
    #[error("a library that reads it did not come to an end within {} s", .0.as_secs())]
    TookTooLong(Duration),
    /// No thread could be begun for it.
    #[error("no thread could be begun: {0}")]
    NoThread(std::io::Error),
}

/// Runs something in a thread of its own.
///
/// # Errors
///
/// [`Contained`], if it panics or no thread can be begun.
pub fn contained<T: Send>(act: impl FnOnce() -> T + Send) -> Result<T, Contained> {
    std::thread::scope(|scope| {
        let begun = thread().spawn_scoped(scope, act).map_err(Contained::NoThread)?;
        begun.join().map_err(|panic| Contained::Panicked(words(&*panic)))
    })
}

/// As [`contained`], for what must be ready in time.
///
/// # Errors
///
/// [`Contained`], if it panics, is late or no thread can be begun.
pub fn contained_within<T: Send + 'static>(
    limit: Duration,
    act: impl FnOnce() -> T + Send + 'static,
) -> Result<T, Contained> {
    let (done, result) = sync_channel(1);
    let act = move || {
        // the receiver may have given up by now
        let _ = done.send(act());
    };
    let begun = thread().spawn(act).map_err(Contained::NoThread)?;
    match result.recv_timeout(limit) {
        Ok(made) => Ok(made),
        Err(RecvTimeoutError::Timeout) => Err(Contained::TookTooLong(limit)),
        Err(RecvTimeoutError::Disconnected) => match begun.join() {
            Err(panic) => Err(Contained::Panicked(words(&*panic))),
            // it sends before it ends
            Ok(()) => result.try_recv().map_err(|_| Contained::TookTooLong(limit)),
        },
    }
}

/// A thread that may be begun by something contained, so that its panics count as contained too.
pub fn thread() -> Builder {
    Builder::new().name(NAME.to_owned())
}

/// Whether the calling thread is one whose panics are expected: for the program's own panic hook.
pub fn is_contained() -> bool {
    std::thread::current().name() == Some(NAME)
}

fn words(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("it panicked").to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_come_to_an_end_is_given_up() {
        assert_eq!(contained_within(Duration::from_secs(60), || 41 + 1).unwrap(), 42);
        let (stay, wait) = sync_channel::<()>(0);
        let late = contained_within(Duration::from_millis(20), move || wait.recv().is_ok());
        assert!(matches!(late, Err(Contained::TookTooLong(_))), "{late:?}");
        drop(stay);
    }

    #[test]
    fn a_panic_in_what_is_contained_is_an_error_with_its_words() {
        assert_eq!(contained(|| 41 + 1).unwrap(), 42);
        let hook = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |panic| {
            if !is_contained() {
                hook(panic);
            }
        }));
        let error = contained(|| -> u8 { panic!("offset {} is out of range", 7) }).unwrap_err();
        assert!(error.to_string().ends_with("offset 7 is out of range"), "{error}");
    }
}
