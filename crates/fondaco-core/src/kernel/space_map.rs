//! What each piece of a device is used for, as its file system says.

use std::io;
use std::os::fd::AsFd;

use super::ioctl::{both_ways, call, put, put_u32, u32_at, u64_at};

/// What btrfs says about the owner of an extent.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Owner {
    /// The piece is not in use.
    Free,
    /// In use; the file system keeps no record of what for.
    Unknown,
    /// The file with this inode number.
    Inode(u64),
    /// The file system itself; a number that only its type gives a meaning.
    FileSystem(u32),
}

/// One piece of a device.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Piece {
    /// Where, in bytes.
    pub physical: u64,
    /// How long, in bytes.
    pub length: u64,
    /// What the piece is used for.
    pub owner: Owner,
    /// Several own it, and each has a record.
    pub shared: bool,
}

const HEAD: usize = 192;
const EACH: usize = 64;
const ROOM: usize = 1024;
const GETFSMAP: u32 = both_ways(b'X', 59, HEAD);
const SHARED: u32 = 0x8;
const SPECIAL: u32 = 0x10;
const LAST: u32 = 0x20;

/// Tells every piece of the device of the file system that `directory` lies on, in the order of places.
///
/// # Errors
///
/// As `ioctl_getfsmap(2)`: `EOPNOTSUPP` where the file system does not tell.
pub fn space_map(directory: impl AsFd, each: &mut dyn FnMut(Piece)) -> io::Result<()> {
    let mut buffer = vec![0u8; HEAD + ROOM * EACH];
    let mut low = [0u8; EACH];
    loop {
        buffer[..HEAD].fill(0);
        put_u32(&mut buffer, 8, ROOM as u32);
        buffer[64..128].copy_from_slice(&low);
        put_u32(&mut buffer, 128, u32::MAX);
        put_u32(&mut buffer, 132, u32::MAX);
        for at in [136, 144, 152] {
            put(&mut buffer, at, u64::MAX);
        }
        let reach = buffer.len();
        call(&directory, GETFSMAP, &mut buffer, reach)?;
        let count = (u32_at(&buffer, 12) as usize).min(ROOM);
        for i in 0..count {
            let at = HEAD + i * EACH;
            let flags = u32_at(&buffer, at + 4);
            let owner = u64_at(&buffer, at + 16);
            // linux/fsmap.h: the upper half says which table the lower half belongs to
            let owner = match (flags & SPECIAL != 0, owner >> 32, owner as u32) {
                (false, ..) => Owner::Inode(owner),
                (true, 0, 1) => Owner::Free,
                (true, 0, 2) => Owner::Unknown,
                (true, _, number) => Owner::FileSystem(number),
            };
            each(Piece {
                physical: u64_at(&buffer, at + 8),
                length: u64_at(&buffer, at + 32),
                owner,
                shared: flags & SHARED != 0,
            });
            if flags & LAST != 0 {
                return Ok(());
            }
        }
        if count == 0 {
            return Ok(());
        }
        low.copy_from_slice(&buffer[HEAD + (count - 1) * EACH..HEAD + count * EACH]);
    }
}
