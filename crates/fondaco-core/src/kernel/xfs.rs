//! What XFS says about itself.

use std::io;
use std::os::fd::AsFd;

use super::ioctl::{call, gives, u32_at, u64_at};

/// The shape of an XFS, and how many inodes it has (`xfsctl(3)`, `ioctl_xfs_fsgeometry(2)`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct XfsShape {
    /// Bytes of a block.
    pub block: u64,
    /// Allocation groups: each has tables of its own.
    pub groups: u64,
    /// Bytes of an inode.
    pub inode: u64,
    /// Inodes for which there is room in the chunks on the device.
    pub inodes: u64,
    /// Roots of tables that each group has at least, its header counted as one.
    pub roots: u64,
    /// Files can share extents.
    pub reflink: bool,
}

const GEOMETRY_SIZE: usize = 256;
const GEOMETRY: u32 = gives(b'X', 126, GEOMETRY_SIZE);
const COUNTS_SIZE: usize = 32;
const COUNTS: u32 = gives(b'X', 113, COUNTS_SIZE);
// XFS_FSOP_GEOM_FLAGS_…
const FREE_INODE_TREE: u32 = 1 << 18;
const RMAP_TREE: u32 = 1 << 19;
const REFLINK: u32 = 1 << 20;

/// Asks the XFS that `directory` lies on.
///
/// # Errors
///
/// As `ioctl(2)`: `ENOTTY` if it is no XFS.
pub fn xfs_shape(directory: impl AsFd) -> io::Result<XfsShape> {
    let mut geometry = [0u8; GEOMETRY_SIZE];
    call(&directory, GEOMETRY, &mut geometry, GEOMETRY_SIZE)?;
    let mut counts = [0u8; COUNTS_SIZE];
    call(&directory, COUNTS, &mut counts, COUNTS_SIZE)?;
    let flags = u32_at(&geometry, 92);
    let has = |flag: u32| u64::from(flags & flag != 0);
    Ok(XfsShape {
        block: u32_at(&geometry, 0).into(),
        groups: u32_at(&geometry, 12).into(),
        inode: u32_at(&geometry, 24).into(),
        inodes: u64_at(&counts, 24),
        // header; free space by place and by size; inodes
        roots: 4 + has(FREE_INODE_TREE) + has(RMAP_TREE) + has(REFLINK),
        reflink: flags & REFLINK != 0,
    })
}
