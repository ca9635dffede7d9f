//! Packs targets into a depot, proves the archive, and unpacks from it.
//!
//! Takes targets as reviewed and a [`Depot`]; gives `NAME.tar.zst`, `NAME.sha256` and `NAME.json`.
//! [`Packing`] reads originals in their places and changes nothing; [`Packing::publish`] syncs,
//! reads everything back from the device, compares it with hashes taken from the originals, and
//! only then gives the files their names. [`OpenArchive::unpack`] restores one target into a private directory.
//!
//! The archive is POSIX pax inside zstd, one zstd frame per target, so that `tar`, `zstd` and
//! `sha256sum` can check and unpack it without Fondaco, and one target can be unpacked alone.

mod depot;
mod index;
mod pack;
mod siblings;
mod tar_form;
mod tar_read;
mod unpack;
mod verify;

pub use depot::{
    ArchiveFiles, Depot, DepotAddress, DepotError, DepotPlace, DirectoryDepot, NewObject,
};
pub use index::{ArchivedEntry, ArchivedTarget, Index};
pub use pack::{Packed, Packing};
pub(crate) use unpack::times;
pub use unpack::{OpenArchive, Unpacked};
