//! Everything that is a system call or a file below `/proc`, and nothing that decides.
//!
//! The rest of the crate asks here for facts (what an inode is, what is mounted, which processes have a file open)
//! and for acts that are bound to a directory descriptor, so that a path swapped in between cannot
//! turn them on something else.

mod beneath;
mod block_devices;
mod btrfs;
mod capacity;
mod deleted_files;
mod durable;
mod ext;
mod extents;
mod file_events;
mod file_lock;
mod identity;
mod inventory;
mod ioctl;
mod lease;
mod machine;
mod mounts;
mod open_files;
mod ownership;
mod private_mount;
mod process;
mod program;
mod quota;
mod read_dir;
mod remove_tree;
mod rotational;
mod share_extents;
mod space_map;
mod stat;
mod written_files;
mod xfs;

pub(crate) use beneath::directory_and_name;
pub use beneath::{
    CallError, Op, PrivateDir, open_beneath, open_directory, open_file, open_found_file, open_root,
    parent_of,
};
pub use block_devices::{BlockDevices, DeviceStack, DiskFacts};
pub use btrfs::{
    BtrfsExtent, BtrfsExtents, BtrfsFiles, BtrfsSpace, BtrfsSums, btrfs_extents,
    btrfs_file_extents, btrfs_subvolume, btrfs_sums,
};
pub use capacity::{Capacity, LevelFor, capacity};
pub use deleted_files::{DeletedFile, DeletedFiles, Hold};
pub use durable::{Aside, remove_abandoned, sync_directory, write_readable, write_whole};
pub use ext::{ExtHidden, ext_hidden};
pub use extents::{BlocksShared, Extent, blocks_shared, extents, first_place, settled_extents};
pub use file_events::{FileEvent, FileEvents};
pub use file_lock::FileLock;
pub use identity::{FileSystemId, file_system_id};
pub use inventory::{Facts, Inventory, InventoryWriter, Strictness};
pub use lease::{Lease, LeaseReturn, Leases, NoLease};
pub use machine::{
    addresses_are_scarce, effective_user, exposed_at, give_back_freed_memory, inode_clock,
    machine_id, node_name, outlive_file_size_limit, own_descriptor_table, processor_time,
    processor_wait, raise_descriptor_limit, random_id, running_release, stand_back,
    take_lowest_priority, times_waited,
};
pub use mounts::{AccessTimes, Mount, mount_of, mounts};
pub use open_files::{Holder, OpenFiles};
pub use ownership::{may_give_to, may_link};
pub use private_mount::private_mount;
pub use process::{Process, ProcessHandle};
pub use program::{Output, output_within, run_as};
pub use quota::{Quota, QuotaOf, quotas};
pub use read_dir::{DirReader, Listed, RawEntry, ReadOrder, names_in};
pub use remove_tree::{OwnChanges, Removal, RemovalError};
pub use rotational::is_rotational;
pub use share_extents::{ShareOutcome, can_share, share_extents};
pub use space_map::{Owner, Piece, space_map};
pub use stat::{
    Kind, PlainStat, Stat, is_there, stat_at, stat_descriptor, stat_for_catalog,
    stat_open_for_catalog, stat_path, stat_plain_at, stat_plain_open,
};
pub use written_files::{
    GrowingFile, WrittenFile, growing_file, growing_file_in, written_by, written_files,
};
pub use xfs::{XfsShape, xfs_shape};
