//! What an archive is said to hold.

use crate::units::Bytes;

/// What an archive holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listing {
    /// In the order of the archive.
    pub entries: Vec<Listed>,
    /// There are more than were listed.
    pub more: bool,
}

/// One thing in an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// Display form of its name.
    pub name: String,
    /// Its length, if the archive says so.
    pub length: Option<Bytes>,
}
