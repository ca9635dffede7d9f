//! Objects in stores over HTTP: what an archive depot elsewhere and a scan of a bucket need of one.
//!
//! ```text
//!   address ──┐
//!             ├▶ s3 ──┐
//!   access ───┤       ├▶ Store: facts, open, put, begin, list, remove
//!             ├▶ dav ─┘      ▲
//!   http ─────┘              └ read (goes on where a connection was cut)
//! ```
//!
//! Nothing here waits without an end, follows a redirect to another host, or keeps more than [`PART`] bytes three times in
//! memory. No key, password or signed address is in any message.

mod access;
mod address;
mod dav;
mod error;
mod http;
mod managed;
mod read;
mod s3;
mod secret;
mod upload;

use std::fmt::Debug;
use std::io::Read;
use std::sync::Arc;

pub use access::Environment;
pub use address::StoreAddress;
pub use error::StoreError;
pub use http::{Client, Patience};
pub use managed::{Managed, ManagedStore, Members};
pub use secret::{SecretError, read_secret};
pub use upload::Upload;

/// Length in bytes of the parts in which a large object is sent to an S3 store.
pub const PART: usize = 20 << 20;

/// What a store tells of an object.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Facts {
    /// Its length in bytes.
    pub length: u64,
    /// When it was last written, in seconds since 1970, if the store says.
    pub written: Option<i64>,
    /// What the store calls this version of it (RFC 9110, `ETag`), if it says.
    pub tag: Option<String>,
}

/// An object in a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// Its name, below the address of the store.
    pub name: String,
    /// Its length in bytes.
    pub length: u64,
    /// When it was last written, in seconds since 1970, if the store says.
    pub written: Option<i64>,
}

/// What lies directly below a directory of a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Below {
    /// An object, by the last part of its name.
    Object(Listed),
    /// A directory, by the last part of its name.
    Directory(String),
}

/// A store that is open at one address. It does nothing behind one's back: each call is one request, or the same one again
/// where that is worth trying.
pub trait Store: Debug + Send + Sync {
    /// Which place it is: equal for two that are open at the same.
    fn identity(&self) -> String;

    /// What is told of an object; `None` if there is none.
    ///
    /// # Errors
    ///
    /// [`StoreError`] for any answer but that it is there or is not.
    fn facts(&self, name: &str) -> Result<Option<Facts>, StoreError>;

    /// Reads an object from a byte on: so many bytes of it, or all that follow. A connection that is cut is made again.
    ///
    /// # Errors
    ///
    /// [`StoreError`], [`StoreError::Absent`] if there is none.
    fn open(
        self: Arc<Self>,
        name: &str,
        from: u64,
        length: Option<u64>,
    ) -> Result<Box<dyn Read + Send>, StoreError>;

    /// Writes a small object whole. Whatever has that name stays.
    ///
    /// # Errors
    ///
    /// [`StoreError::Taken`] if something has; others.
    fn put_new(&self, name: &str, contents: &[u8]) -> Result<(), StoreError>;

    /// Begins a new object, of which nothing is to be seen under this name before [`Upload::finish`].
    ///
    /// # Errors
    ///
    /// [`StoreError::Taken`] if something has that name; others.
    fn begin(self: Arc<Self>, name: &str) -> Result<Box<dyn Upload>, StoreError>;

    /// Whether an object can get another name. Where it cannot, an object that is begun gets its last name at once.
    fn renames(&self) -> bool;

    /// Gives an object another name, which must be free: whatever has it stays.
    ///
    /// # Errors
    ///
    /// [`StoreError::Taken`] if something has it; others.
    fn rename_new(&self, from: &str, to: &str) -> Result<(), StoreError>;

    /// Withdraws what has been begun under a name and was not finished, by whomever.
    ///
    /// # Errors
    ///
    /// [`StoreError`].
    fn withdraw(&self, name: &str) -> Result<(), StoreError>;

    /// Removes an object, if it is there.
    ///
    /// # Errors
    ///
    /// [`StoreError`].
    fn remove(&self, name: &str) -> Result<(), StoreError>;

    /// Names what lies directly below a directory of the store, which is what names have in common up to a slash; `""` is
    /// the store itself. `visit` says whether to go on.
    ///
    /// # Errors
    ///
    /// [`StoreError`]; then not all have been named.
    fn level(
        &self,
        directory: &str,
        visit: &mut dyn FnMut(Below) -> bool,
    ) -> Result<(), StoreError>;

    /// Names all objects, also those that lie deeper if the store tells them; `visit` says whether to go on.
    ///
    /// # Errors
    ///
    /// [`StoreError`]; then not all have been named.
    fn list(&self, visit: &mut dyn FnMut(Listed) -> bool) -> Result<(), StoreError>;
}

/// Opens a store. Nothing is asked of it yet, but a collection that is missing is made where the store needs one.
///
/// # Errors
///
/// [`StoreError::Access`] if it is not known how to come in, others.
pub fn open(
    address: &StoreAddress,
    environment: &Environment,
    patience: Patience,
) -> Result<Arc<dyn Store>, StoreError> {
    match address {
        StoreAddress::S3 { bucket, prefix } => {
            Ok(Arc::new(s3::S3::new(bucket, prefix, environment, patience)?))
        }
        StoreAddress::WebDav { url } => Ok(Arc::new(dav::WebDav::new(url, environment, patience)?)),
    }
}
