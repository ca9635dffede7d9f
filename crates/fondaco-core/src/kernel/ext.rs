//! What ext2, ext3 and ext4 keep for themselves, from the superblock on their device.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;

/// Blocks that an ext4 uses for itself although it counts them as used, not as its overhead.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ExtHidden {
    /// What for, and how many bytes.
    pub parts: Vec<(&'static str, u64)>,
    /// Bytes of the whole device, its tables included.
    pub device: u64,
}

/// Reads the superblock and the inodes that no directory names.
///
/// The layout is that of the Linux documentation, `filesystems/ext4/globals.rst`. Tables, bitmaps, the
/// journal and the places kept for more group descriptors are overhead, which `statfs(2)` takes off the
/// total; what is given here is counted as used.
///
/// # Errors
///
/// As `open(2)` and `pread(2)` on the device; [`io::ErrorKind::InvalidData`] if no such superblock is
/// there.
pub fn ext_hidden(device: &Path) -> io::Result<ExtHidden> {
    let device = File::open(device)?;
    let mut sb = [0u8; 1024];
    device.read_exact_at(&mut sb, 1024)?;
    let u16_at = |at: usize| u64::from(u16::from_le_bytes([sb[at], sb[at + 1]]));
    let u32_at =
        |at: usize| u64::from(u32::from_le_bytes([sb[at], sb[at + 1], sb[at + 2], sb[at + 3]]));
    if u16_at(0x38) != 0xEF53 {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "no ext4 superblock"));
    }
    let (compatible, incompatible) = (u32_at(0x5C), u32_at(0x60));
    let read_only_compatible = u32_at(0x64);
    let is_64bit = incompatible & 0x80 != 0;
    let high = |low: u64, at: usize| low | if is_64bit { u32_at(at) << 32 } else { 0 };
    let block = 1024u64 << u32_at(0x18).min(6);
    let blocks = high(u32_at(0x04), 0x150);
    let layout = Layout {
        block,
        inode_size: u16_at(0x58).max(128),
        inodes_per_group: u32_at(0x28).max(1),
        first_block: u32_at(0x14),
        descriptor: if is_64bit { u16_at(0xFE).max(64) } else { 32 },
        huge_file: read_only_compatible & 0x8 != 0,
        is_64bit,
        meta_groups: incompatible & 0x10 != 0,
    };
    let mut parts = Vec::new();
    let resize_inode = compatible & 0x10 != 0;
    if resize_inode && !layout.meta_groups {
        // its one block of pointers; the blocks that it points to are overhead
        parts.push(("map of the room kept for growing", block));
    }
    let quotas =
        [(0x240, "quotas of users"), (0x244, "quotas of groups"), (0x26C, "quotas of projects")];
    for (at, what) in quotas {
        if read_only_compatible & 0x100 != 0 && u32_at(at) != 0 {
            parts.push((what, layout.bytes_of_inode(&device, u32_at(at))?));
        }
    }
    if compatible & 0x1000 != 0 && u32_at(0x280) != 0 {
        parts.push(("list of orphans", layout.bytes_of_inode(&device, u32_at(0x280))?));
    }
    Ok(ExtHidden { parts, device: blocks * block })
}

struct Layout {
    block: u64,
    inode_size: u64,
    inodes_per_group: u64,
    first_block: u64,
    descriptor: u64,
    huge_file: bool,
    is_64bit: bool,
    meta_groups: bool,
}

impl Layout {
    /// Bytes on disk of an inode, read from its group's table.
    fn bytes_of_inode(&self, device: &File, inode: u64) -> io::Result<u64> {
        let group = (inode - 1) / self.inodes_per_group;
        if self.meta_groups && group > 0 {
            let words = "its group descriptors are scattered";
            return Err(io::Error::new(io::ErrorKind::Unsupported, words));
        }
        let descriptors = (self.first_block + 1) * self.block;
        let mut descriptor = [0u8; 64];
        let length = self.descriptor.min(64) as usize;
        device.read_exact_at(&mut descriptor[..length], descriptors + group * self.descriptor)?;
        let number = |bytes: &[u8], at: usize| {
            u64::from(u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]))
        };
        let above = if self.is_64bit { number(&descriptor, 0x28) << 32 } else { 0 };
        let table = number(&descriptor, 0x08) | above;
        let at = table * self.block + (inode - 1) % self.inodes_per_group * self.inode_size;
        let mut record = [0u8; 128];
        device.read_exact_at(&mut record, at)?;
        let blocks_high = u64::from(u16::from_le_bytes([record[0x74], record[0x75]]));
        let blocks = number(&record, 0x1C) | blocks_high << 32;
        let in_blocks = self.huge_file && number(&record, 0x20) & 0x4_0000 != 0;
        Ok(blocks * if in_blocks { self.block } else { 512 })
    }
}
