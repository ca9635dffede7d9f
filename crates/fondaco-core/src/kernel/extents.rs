//! Where the contents of a file lie on its device.

use std::io;
use std::os::fd::AsFd;

use super::ioctl::{both_ways, call, put, put_u32, u32_at, u64_at};

/// One piece of a file that lies in one place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Extent {
    /// Where in the file, in bytes.
    pub logical: u64,
    /// Where on the device, in bytes.
    pub physical: u64,
    /// How long, in bytes.
    pub length: u64,
    /// Another file, or another part of this one, lies there too.
    pub shared: bool,
    /// The place and the length are those of the contents before they were compressed or packed.
    pub encoded: bool,
}

const HEAD: usize = 32;
const EACH: usize = 56;
const ROOM: usize = 256;
const FIEMAP: u32 = both_ways(b'f', 11, HEAD);
/// `FIEMAP_FLAG_SYNC`: the file is written back before its pieces are told.
const SYNC: u32 = 0x1;
const LAST: u32 = 0x1;
/// No place is known, or none that others could have in common: delayed, inline, packed in a tail.
const NOWHERE: u32 = 0x2 | 0x4 | 0x200 | 0x400;
const ENCODED: u32 = 0x8;
const SHARED: u32 = 0x2000;

// linux/magic.h
const XFS: u32 = 0x5846_5342;
const BTRFS: u32 = 0x9123_683E;
const OCFS2: u32 = 0x7461_636F;

/// How files of a file system can have blocks in common.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BlocksShared {
    /// They cannot, or it is not known that they can.
    Never,
    /// Its pieces say that they are shared, and not by how many.
    Flagged,
    /// As before, and the trees of btrfs count the references.
    Counted,
}

/// How the file system of an open file or directory lets files have blocks in common.
pub fn blocks_shared(at: impl AsFd) -> BlocksShared {
    match rustix::fs::fstatfs(at).map(|fs| fs.f_type as u32) {
        Ok(BTRFS) => BlocksShared::Counted,
        Ok(XFS | OCFS2) => BlocksShared::Flagged,
        _ => BlocksShared::Never,
    }
}

/// All pieces of an open file that have a place of their own, in the order of the file.
///
/// # Errors
///
/// As the `FIEMAP` call (Linux documentation, `filesystems/fiemap.rst`): `EOPNOTSUPP` where the file
/// system does not tell.
pub fn extents(file: impl AsFd) -> io::Result<Vec<Extent>> {
    pieces(file, 0)
}

/// As [`extents`], after all that was written to the file has got its place.
///
/// # Errors
///
/// As [`extents`], and what `fsync(2)` says.
pub fn settled_extents(file: impl AsFd) -> io::Result<Vec<Extent>> {
    pieces(file, SYNC)
}

/// Where on the device the contents of an open file begin; nothing if they have no place of their own.
///
/// # Errors
///
/// As [`extents`].
pub fn first_place(file: impl AsFd) -> io::Result<Option<u64>> {
    let mut buffer = [0u8; HEAD + EACH];
    put(&mut buffer, 8, u64::MAX);
    put_u32(&mut buffer, 24, 1);
    call(&file, FIEMAP, &mut buffer, HEAD + EACH)?;
    let has_place = u32_at(&buffer, 20) == 1 && u32_at(&buffer, HEAD + 40) & NOWHERE == 0;
    Ok(has_place.then(|| u64_at(&buffer, HEAD + 8)))
}

fn pieces(file: impl AsFd, flags: u32) -> io::Result<Vec<Extent>> {
    let mut buffer = vec![0u8; HEAD + ROOM * EACH];
    let mut found = Vec::new();
    let mut start = 0u64;
    loop {
        buffer[..HEAD].fill(0);
        put(&mut buffer, 0, start);
        put(&mut buffer, 8, u64::MAX - start);
        put_u32(&mut buffer, 16, flags);
        put_u32(&mut buffer, 24, ROOM as u32);
        let reach = buffer.len();
        call(&file, FIEMAP, &mut buffer, reach)?;
        let count = (u32_at(&buffer, 20) as usize).min(ROOM);
        for i in 0..count {
            let at = HEAD + i * EACH;
            let flags = u32_at(&buffer, at + 40);
            let extent = Extent {
                logical: u64_at(&buffer, at),
                physical: u64_at(&buffer, at + 8),
                length: u64_at(&buffer, at + 16),
                shared: flags & SHARED != 0,
                encoded: flags & ENCODED != 0,
            };
            if flags & NOWHERE == 0 {
                found.push(extent);
            }
            let end = u64_at(&buffer, at).saturating_add(extent.length);
            if flags & LAST != 0 || end <= start {
                return Ok(found);
            }
            start = end;
        }
        if count == 0 {
            return Ok(found);
        }
    }
}
