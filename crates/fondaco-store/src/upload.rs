//! A new object that is being sent.

use std::fmt::Debug;
use std::io::{self, Read, Write};

use crate::StoreError;

/// An object of a store that is being written, as a stream. If it is dropped before it is finished it is withdrawn.
pub trait Upload: Write + Debug + Send {
    /// Whether what was written after [`Upload::keep_from`] can be taken back.
    fn can_take_back(&self) -> bool;

    /// What is written from here on may be taken back; what lies before may not any more.
    fn keep_from(&mut self);

    /// Takes back all that was written since [`Upload::keep_from`].
    ///
    /// # Errors
    ///
    /// That it cannot be done.
    fn take_back(&mut self) -> io::Result<()>;

    /// Sends what is left; when this returns the store has all of it.
    ///
    /// # Errors
    ///
    /// [`StoreError`].
    fn finish(&mut self) -> Result<(), StoreError>;

    /// Reads what the store has of it, from its beginning.
    ///
    /// # Errors
    ///
    /// [`StoreError`].
    fn read_back(&mut self) -> Result<Box<dyn Read + Send>, StoreError>;
}
