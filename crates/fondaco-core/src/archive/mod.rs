//! Packs targets into a depot, proves the archive, and unpacks from it; copies targets to other volumes.
//!
//! Takes targets as reviewed and a [`Depot`]; gives `NAME.tar.zst`, `NAME.sha256` and `NAME.json`.
//! [`Packing`] reads originals in their places and changes nothing; [`Packing::publish`] syncs,
//! reads everything back from the device, compares it with hashes taken from the originals, and
//! only then gives the files their names. [`OpenArchive::unpack`] restores one target into a private directory.
//!
//! [`Copying`] makes and proves copies that need no unpacking.
//!
//! The archive is POSIX pax inside zstd, one zstd frame per target, so that `tar`, `zstd` and
//! `sha256sum` can check and unpack it without Fondaco, and one target can be unpacked alone.

mod ahead;
mod copy;
mod depot;
mod dress;
mod index;
mod metadata;
mod open_copy;
mod original;
mod pack;
mod siblings;
mod stock;
mod tar_form;
mod tar_read;
mod unpack;
mod verify;
mod writers;

pub(crate) use copy::{Copying, Links};
pub use depot::{
    ArchiveFiles, Depot, DepotAddress, DepotError, DepotPlace, DirectoryDepot, NewObject,
    StoreDepot, absolute, is_store, managed_name,
};
pub(crate) use dress::times;
pub use index::{ArchivedEntry, ArchivedTarget, Index};
pub use metadata::Metadata;
pub(crate) use open_copy::copy_open_file;
pub use pack::{Packed, Packing};
pub use stock::{AboutArchive, StoredArchive, archives_in, prove_again, round_trip};
pub use unpack::{OpenArchive, Unpacked};
