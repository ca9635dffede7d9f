//! What a file system keeps for itself, by its own interfaces.

use std::collections::BTreeMap;
use std::io;
use std::os::fd::OwnedFd;
use std::path::PathBuf;

use super::shared::overlap;
use super::{Draft, Figure, Item, Line, LineKind, Sure};
use crate::kernel::{
    self, BtrfsExtents, Capacity, Owner, btrfs_extents, btrfs_subvolume, btrfs_sums, ext_hidden,
    space_map, xfs_shape,
};
use crate::units::Bytes;
use crate::volume::{Class, Volume};

/// The lines that the file system itself has to tell: metadata, and what is shared or packed.
pub(super) fn ask(draft: &mut Draft<'_>) -> Vec<Line> {
    let volume = draft.volume;
    if volume.class == Class::Simulated {
        return vec![Line::new(LineKind::Metadata, Figure::exact(0))];
    }
    let Ok(capacity) = &volume.capacity else { return Vec::new() };
    let reserve = capacity.free_root.less(capacity.free_users);
    if reserve > Bytes::ZERO {
        draft.beside.push(Item::new("free, but kept for root", reserve.get() as i64));
    }
    let lines = match volume.fs_type.as_str() {
        "ext2" | "ext3" | "ext4" => ext(draft, capacity),
        "xfs" => xfs(capacity, volume),
        "btrfs" => btrfs(draft, volume),
        // pages of files, and nothing else, are counted
        "tmpfs" | "ramfs" => Ok(vec![Line::new(LineKind::Metadata, Figure::exact(0))]),
        _ => {
            draft.notes.push(format!("{} does not tell what it keeps for itself.", volume.fs_type));
            Ok(vec![Line::new(LineKind::Metadata, Figure::UNKNOWN)])
        }
    };
    lines.unwrap_or_else(|error| {
        draft.notes.push(match error.kind() {
            io::ErrorKind::PermissionDenied if kernel::effective_user() != 0 => {
                "What the file system keeps for itself can be asked for by root only.".to_owned()
            }
            _ => format!("What the file system keeps for itself could not be asked for: {error}."),
        });
        vec![Line::new(LineKind::Metadata, Figure::UNKNOWN)]
    })
}

/// The device node of a volume: the kernel's own name for it, since the mount table may have another.
fn device(volume: &Volume) -> PathBuf {
    let (major, minor) = (rustix::fs::major(volume.dev), rustix::fs::minor(volume.dev));
    let uevent = std::fs::read_to_string(format!("/sys/dev/block/{major}:{minor}/uevent"));
    let name = uevent.ok().and_then(|text| {
        text.lines().find_map(|line| line.strip_prefix("DEVNAME=").map(str::to_owned))
    });
    name.map_or_else(|| volume.source.clone(), |name| PathBuf::from("/dev").join(name))
}

fn ext(draft: &mut Draft<'_>, capacity: &Capacity) -> io::Result<Vec<Line>> {
    let hidden = ext_hidden(&device(draft.volume))?;
    let overhead = hidden.device.saturating_sub(capacity.total.get());
    draft.beside.push(Item::new("tables, bitmaps and journal", overhead as i64));
    let sum: u64 = hidden.parts.iter().map(|(_, bytes)| bytes).sum();
    let mut line = Line::new(LineKind::Metadata, Figure::exact(sum as i64));
    line.items = hidden.parts.iter().map(|(what, bytes)| Item::new(*what, *bytes as i64)).collect();
    Ok(vec![line])
}

/// `XFS_FMR_OWN_…` (`ioctl_getfsmap(2)`): what pieces of the file system's own are for.
const XFS_LOG: u32 = 2;
const XFS_OWN: [(u32, &str); 7] = [
    (1, "headers of the groups"),
    (3, "free space and owners: tables"),
    (4, "inodes: tables"),
    (5, "inodes"),
    (6, "shared extents: tables"),
    (7, "copies being written"),
    (8, "defective blocks"),
];
/// Blocks that each group keeps at hand for its tables, at the least.
const XFS_FREE_LIST: u64 = 4;

fn xfs(capacity: &Capacity, volume: &Volume) -> io::Result<Vec<Line>> {
    let root: OwnedFd = kernel::open_root(&volume.mount_point)?;
    let shape = xfs_shape(&root)?;
    let (mut free, mut unknown) = (0u64, 0u64);
    let mut own: BTreeMap<u32, u64> = BTreeMap::new();
    let mut shared: Vec<(u64, u64)> = Vec::new();
    space_map(&root, &mut |piece| match piece.owner {
        Owner::Free => free += piece.length,
        Owner::Unknown => unknown += piece.length,
        Owner::FileSystem(number) => *own.entry(number).or_default() += piece.length,
        Owner::Inode(_) if piece.shared => shared.push((piece.physical, piece.length)),
        Owner::Inode(_) => {}
    })?;
    // the device says what is free; the file system offers less than that
    let kept = free as i64 - capacity.free_root.get() as i64;
    let mut line = Line::new(LineKind::Metadata, Figure::exact(kept));
    line.items.push(Item::new("free on the device, but kept back for its own tables", kept));
    let mut lines = Vec::new();
    if unknown == 0 {
        own.remove(&XFS_LOG);
        for (number, bytes) in own {
            let what = XFS_OWN.iter().find(|(known, _)| *known == number);
            line.items.push(Item::new(what.map_or("other tables", |(_, what)| what), bytes as i64));
            line.figure.bytes += bytes as i64;
        }
        shared.sort_unstable();
        let again = -(overlap(&shared) as i64);
        if shape.reflink {
            let mut line = Line::new(LineKind::Shared, Figure::exact(again));
            line.items = vec![Item::new("extents that files have in common", again)];
            lines.push(line);
        }
    } else {
        // without its table of owners only the smallest size of the others is known
        let groups = shape.groups * shape.block;
        let parts = [
            ("inodes", shape.inodes * shape.inode),
            ("headers and roots of tables", groups * shape.roots),
            ("blocks at hand for tables", groups * XFS_FREE_LIST),
        ];
        line.figure.sure = Sure::AtLeast;
        for (what, bytes) in parts {
            line.items.push(Item::new(what, bytes as i64));
            line.figure.bytes += bytes as i64;
        }
        if shape.reflink {
            // asked for file by file, should there be a need
            lines.push(Line::new(LineKind::Shared, Figure { bytes: 0, sure: Sure::AtMost }));
        }
    }
    lines.push(line);
    Ok(lines)
}

fn btrfs(draft: &mut Draft<'_>, volume: &Volume) -> io::Result<Vec<Line>> {
    let unsupported = |words: &str| io::Error::new(io::ErrorKind::Unsupported, words.to_owned());
    let sums = btrfs_sums(&volume.source)
        .ok_or_else(|| unsupported("there is nothing about it in /sys/fs/btrfs"))?;
    // the volume counts by what a byte of data takes, with its copies
    let copies = (sums.data.disk_used.max(1) / sums.data.used.max(1)).max(1);
    let part = |bytes: u64| (bytes / copies) as i64;
    let (metadata, system) = (part(sums.metadata.disk_used), part(sums.system.disk_used));
    let reserve = sums.reserve as i64;
    let mut line = Line::new(LineKind::Metadata, Figure::exact(metadata + system + reserve));
    line.items = vec![
        Item::new("trees, with their copies", metadata),
        Item::new("where the rest is", system),
        Item::new("kept back so that something can always be deleted", reserve),
    ];
    let root = kernel::open_root(&volume.mount_point)?;
    let block = rustix::fs::fstatvfs(&root)?.f_bsize;
    let found = match btrfs_extents(&root, block) {
        Ok(found) => found,
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            draft.notes.push("What files share and pack can be seen by root only.".to_owned());
            return Ok(vec![line, Line::new(LineKind::Shared, Figure::UNKNOWN)]);
        }
        Err(error) => return Err(error),
    };
    let mut lines = vec![line];
    let here = btrfs_subvolume(&root)?;
    let elsewhere: Vec<_> =
        found.files.iter().filter(|files| !lies_in(&found, files.subvolume, here)).collect();
    let other: u64 = elsewhere.iter().map(|files| files.counted).sum();
    if !elsewhere.is_empty() {
        let mut line = Line::new(LineKind::OtherSubvolumes, Figure::exact(other as i64));
        line.count = elsewhere.len() as u64;
        line.items = elsewhere
            .iter()
            .map(|files| Item::new(format!("subvolume {}", files.subvolume), files.counted as i64))
            .collect();
        lines.push(line);
    }
    let inline: u64 = found.files.iter().map(|files| files.inline).sum();
    let items = [
        ("small files and tops, kept in the trees", -(inline as i64)),
        ("extents that files have in common", -found.shared),
        ("saved by compression", -found.compressed),
        ("kept of extents that are partly overwritten", found.partial),
    ];
    let sum = items.iter().map(|(_, bytes)| bytes).sum();
    let mut line = Line::new(LineKind::Shared, Figure::exact(sum));
    let telling = items.iter().filter(|(_, bytes)| *bytes != 0);
    line.items = telling.map(|(what, bytes)| Item::new(*what, *bytes)).collect();
    lines.push(line);
    Ok(lines)
}

/// Whether a subvolume is another, or lies in it at any depth.
fn lies_in(found: &BtrfsExtents, subvolume: u64, above: u64) -> bool {
    let mut at = Some(subvolume);
    while let Some(number) = at {
        if number == above {
            return true;
        }
        at = found.above.get(&number).copied();
    }
    false
}
