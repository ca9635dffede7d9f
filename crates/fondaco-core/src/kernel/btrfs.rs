//! What btrfs says about itself: its sums from `/sys`, and its trees.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::io;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use super::ioctl::{both_ways, call, put, put_u32, u32_at, u64_at};

/// Sums over the block groups of one sort, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct BtrfsSpace {
    /// In use, each byte once.
    pub used: u64,
    /// In use on the devices, every copy counted.
    pub disk_used: u64,
}

/// How a btrfs uses its devices (`/sys/fs/btrfs/UUID/allocation`).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct BtrfsSums {
    /// Contents of files.
    pub data: BtrfsSpace,
    /// Trees: directories, inodes, extents, checksums, small files.
    pub metadata: BtrfsSpace,
    /// Where the rest is.
    pub system: BtrfsSpace,
    /// Kept back so that something can always be deleted; counted as used.
    pub reserve: u64,
}

/// The sums of the btrfs that has this device; `None` if there is none, or it does not tell.
pub fn btrfs_sums(device: &Path) -> Option<BtrfsSums> {
    // a device mapper's name is a link to the kernel's name
    let device = device.canonicalize().ok()?;
    let home = btrfs_home(device.file_name()?)?;
    let number = |name: &str| -> Option<u64> {
        std::fs::read_to_string(home.join("allocation").join(name)).ok()?.trim().parse().ok()
    };
    let space = |name: &str| {
        let used = number(&format!("{name}/bytes_used"))?;
        Some(BtrfsSpace { used, disk_used: number(&format!("{name}/disk_used"))? })
    };
    Some(BtrfsSums {
        data: space("data").or_else(|| space("mixed"))?,
        metadata: space("metadata").unwrap_or_default(),
        system: space("system")?,
        reserve: number("global_rsv_size")?,
    })
}

fn btrfs_home(device: &OsStr) -> Option<PathBuf> {
    let all = Path::new("/sys/fs/btrfs");
    let homes = super::names_in(all).ok()?.into_iter().map(|name| all.join(name));
    homes.into_iter().find(|home| super::stat_path(&home.join("devices").join(device)).is_ok())
}

/// The files of one subvolume, as its tree has them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BtrfsFiles {
    /// Number of the subvolume.
    pub subvolume: u64,
    /// Bytes on disk of its files as `stat(2)` counts them: lengths before compression, what is shared
    /// in full, in whole blocks.
    pub counted: u64,
    /// Of these, what is kept with the metadata.
    pub inline: u64,
}

/// All files of a btrfs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BtrfsExtents {
    /// Each subvolume, the top one (5) included.
    pub files: Vec<BtrfsFiles>,
    /// The subvolume that each subvolume lies in.
    pub above: HashMap<u64, u64>,
    /// Bytes of the extents that files refer to, each extent once and whole.
    pub extents: u64,
    /// Bytes that several references to one extent have in common.
    pub shared: i64,
    /// Bytes saved by compression.
    pub compressed: i64,
    /// Bytes of extents that no file refers to any more, kept because other parts of the same extent are.
    pub partial: i64,
}

const KEY: usize = 104;
const HEAD: usize = KEY + 8;
const ROOM: usize = 256 * 1024;
const TREE_SEARCH_V2: u32 = both_ways(0x94, 17, HEAD);
const LOOKUP_SIZE: usize = 4096;
const INO_LOOKUP: u32 = both_ways(0x94, 18, LOOKUP_SIZE);
const ROOT_TREE: u64 = 1;
const EXTENT_TREE: u64 = 2;
const TOP_SUBVOLUME: u64 = 5;
const FIRST_SUBVOLUME: u64 = 256;
const LAST_SUBVOLUME: u64 = u64::MAX - 255;
const INODE_ITEM: u32 = 1;
const ROOT_ITEM: u32 = 132;
const ROOT_BACKREF: u32 = 144;
const EXTENT_DATA: u32 = 108;
const EXTENT_ITEM: u32 = 168;

/// Number of the subvolume that an open file or directory lies in.
///
/// # Errors
///
/// As `ioctl(2)`: `ENOTTY` if it is no btrfs.
pub fn btrfs_subvolume(directory: impl AsFd) -> io::Result<u64> {
    let mut buffer = vec![0u8; LOOKUP_SIZE];
    put(&mut buffer, 8, FIRST_SUBVOLUME);
    call(directory, INO_LOOKUP, &mut buffer, LOOKUP_SIZE)?;
    Ok(u64_at(&buffer, 0))
}

/// Reads the trees of all subvolumes. Takes time and memory with the number of extents (24 bytes each).
///
/// # Errors
///
/// As `ioctl(2)`: `EPERM` without `CAP_SYS_ADMIN`.
pub fn btrfs_extents(directory: impl AsFd, block: u64) -> io::Result<BtrfsExtents> {
    let fd = directory.as_fd();
    let mut found = BtrfsExtents::default();
    let mut subvolumes = vec![TOP_SUBVOLUME];
    search(fd, ROOT_TREE, (FIRST_SUBVOLUME, LAST_SUBVOLUME), (ROOT_ITEM, ROOT_BACKREF), |item| {
        match item.kind {
            ROOT_ITEM => subvolumes.push(item.object),
            ROOT_BACKREF => {
                found.above.insert(item.object, item.offset);
            }
            _ => {}
        }
    })?;
    subvolumes.dedup();
    // place and length of the extent; how much of it is referred to, before compression
    let mut extents: Vec<(u64, u64, u64)> = Vec::new();
    let mut references: u64 = 0;
    for subvolume in subvolumes {
        let mut files = BtrfsFiles { subvolume, ..BtrfsFiles::default() };
        let mut at = (0, 0u64);
        let whole = |bytes: u64| bytes.next_multiple_of(block);
        search(fd, subvolume, (0, u64::MAX), (EXTENT_DATA, EXTENT_DATA), |item| {
            if at.0 != item.object {
                files.counted += whole(at.1);
                at = (item.object, 0);
            }
            // struct btrfs_file_extent_item, as it is on the device
            let ram = le_at(item.data, 8);
            if item.data.get(20) == Some(&0) {
                at.1 += ram;
                files.inline += whole(ram);
                return;
            }
            let (place, length) = (le_at(item.data, 21), le_at(item.data, 29));
            let referred = le_at(item.data, 45);
            if place != 0 {
                at.1 += referred;
                references += referred;
                extents.push((place, length, ram));
            }
        })?;
        files.counted += whole(at.1);
        // the top directory is said to take a block of the tree that it lies in
        let top = (FIRST_SUBVOLUME, FIRST_SUBVOLUME);
        search(fd, subvolume, top, (INODE_ITEM, INODE_ITEM), |item| {
            if item.object == FIRST_SUBVOLUME {
                files.counted += le_at(item.data, 24);
                files.inline += le_at(item.data, 24);
            }
        })?;
        found.files.push(files);
    }
    extents.sort_unstable();
    extents.dedup();
    let unpacked: u64 = extents.iter().map(|(.., ram)| ram).sum();
    found.extents = extents.iter().map(|(_, length, _)| length).sum();
    found.compressed = unpacked as i64 - found.extents as i64;
    // what is referred to more often than once, less what is not referred to at all
    let surplus = references as i64 - unpacked as i64;
    found.shared = surplus.max(0);
    found.partial = (-surplus).max(0);
    Ok(found)
}

/// A number as the device has it: little-endian.
fn le_at(data: &[u8], at: usize) -> u64 {
    u64::from_le(u64_at(data, at))
}

/// An extent that a file refers to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BtrfsExtent {
    /// Where it is, in the file system's own count.
    pub place: u64,
    /// Bytes on disk, all of it.
    pub length: u64,
    /// Bytes that the file refers to, before compression.
    pub referred: u64,
    /// How many references there are in all; each file that has some part of it has at least one.
    pub references: u64,
}

/// The extents of a file, by its subvolume's tree and the tree of extents. Small files have none.
///
/// # Errors
///
/// As `ioctl(2)`: `EPERM` without `CAP_SYS_ADMIN`, `ENOTTY` if it is no btrfs.
pub fn btrfs_file_extents(file: impl AsFd, inode: u64) -> io::Result<Vec<BtrfsExtent>> {
    let fd = file.as_fd();
    let mut found = Vec::new();
    // tree 0 stands for the one that the descriptor lies in
    search(fd, 0, (inode, inode), (EXTENT_DATA, EXTENT_DATA), |item| {
        let place = le_at(item.data, 21);
        if item.object == inode && item.data.get(20) != Some(&0) && place != 0 {
            found.push(BtrfsExtent {
                place,
                length: le_at(item.data, 29),
                referred: le_at(item.data, 45),
                references: 0,
            });
        }
    })?;
    for extent in &mut found {
        let here = (extent.place, extent.place);
        search(fd, EXTENT_TREE, here, (EXTENT_ITEM, EXTENT_ITEM), |item| {
            if item.object == extent.place {
                extent.references = le_at(item.data, 0);
            }
        })?;
    }
    Ok(found)
}

struct Item<'a> {
    object: u64,
    offset: u64,
    kind: u32,
    data: &'a [u8],
}

/// Tells all items of a tree between two objects and two kinds.
fn search(
    fd: impl AsFd,
    tree: u64,
    objects: (u64, u64),
    kinds: (u32, u32),
    mut each: impl FnMut(Item<'_>),
) -> io::Result<()> {
    let mut buffer = vec![0u8; HEAD + ROOM];
    let (mut object, mut kind, mut offset) = (objects.0, kinds.0, 0u64);
    loop {
        buffer[..HEAD].fill(0);
        let key = [tree, object, objects.1, offset, u64::MAX, 0, u64::MAX];
        for (i, number) in key.into_iter().enumerate() {
            put(&mut buffer, i * 8, number);
        }
        put_u32(&mut buffer, 56, kind);
        put_u32(&mut buffer, 60, kinds.1);
        put_u32(&mut buffer, 64, u32::MAX);
        put(&mut buffer, KEY, ROOM as u64);
        let reach = buffer.len();
        call(&fd, TREE_SEARCH_V2, &mut buffer, reach)?;
        let count = u32_at(&buffer, 64);
        let mut at = HEAD;
        for _ in 0..count {
            let length = u32_at(&buffer, at + 28) as usize;
            let Some(data) = buffer.get(at + 32..at + 32 + length) else { break };
            (object, offset, kind) =
                (u64_at(&buffer, at + 8), u64_at(&buffer, at + 16), u32_at(&buffer, at + 24));
            // the range is one of whole keys: kinds between may be others
            if (kinds.0..=kinds.1).contains(&kind) {
                each(Item { object, offset, kind, data });
            }
            at += 32 + length;
        }
        if count == 0 {
            return Ok(());
        }
        // the key behind the last
        if offset < u64::MAX {
            offset += 1;
        } else if kind < u32::from(u8::MAX) {
            (kind, offset) = (kind + 1, 0);
        } else if object < objects.1 {
            (object, kind, offset) = (object + 1, kinds.0, 0);
        } else {
            return Ok(());
        }
    }
}
