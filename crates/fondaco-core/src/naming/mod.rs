//! What names, and the first bytes of files, tell: the sort of contents that an ending stands for, the family that a
//! name belongs to, and the date that it carries.
//!
//! Asks nothing of the system; the first bytes of a file are given to it.

mod content;
mod date;
mod family;
mod kinds;

pub use content::{HEAD, is_text, kind_of_content};
pub use date::date_in;
pub use family::{Family, family};
pub(crate) use family::{is_of as is_of_family, write as write_family};
pub use kinds::{FileKind, extension};
