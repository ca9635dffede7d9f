//! Libraries that read files of others, run so that a fault of theirs costs only what they were asked for.
//!
//! A damaged or hostile file may make a decoder panic. It runs in a thread of its own here, whose end by a panic is an
//! error like any other.

use std::any::Any;
use std::thread::Builder;

/// The name of threads whose panics are expected and told as errors, so that nobody else takes them for the end of the
/// program.
const NAME: &str = "contained";

/// Why something contained came to nothing.
#[derive(Debug, thiserror::Error)]
pub enum Contained {
    /// It panicked, and this is what it said.
    #[error("a library that reads it gave up: {0}")]
    Panicked(String),
    /// No thread could be begun for it.
    #[error("no thread could be begun: {0}")]
    NoThread(std::io::Error),
}

/// Runs something in a thread of its own.
///
/// # Errors
///
/// [`Contained`].
pub fn contained<T: Send>(act: impl FnOnce() -> T + Send) -> Result<T, Contained> {
    std::thread::scope(|scope| {
        let begun = thread().spawn_scoped(scope, act).map_err(Contained::NoThread)?;
        begun.join().map_err(|panic| Contained::Panicked(words(&*panic)))
    })
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
