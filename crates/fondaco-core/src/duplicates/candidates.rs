//! Files that could be equal: those of one length.

use std::collections::BTreeSet;
use std::num::NonZeroU32;
use std::ops::Range;

use super::search::{HEARD, NotRead};
use crate::catalog::{EntryId, Seen};
use crate::kernel::{self, Kind, Stat};
use crate::units::{Bytes, Time};

/// A file that could be equal to another one. Of an inode with several names it is the first that was met.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Candidate {
    /// The file in its catalog.
    pub entry: EntryId,
    /// When it was last written, in whole seconds.
    pub(super) written: u32,
    /// When its inode was last changed, in whole seconds; nothing where the scan knows only the day.
    pub(super) changed: Option<NonZeroU32>,
    device: ShortDevice,
    pub(super) inode: u64,
    pub(super) length: u64,
}

/// A device number in the four bytes that the kernel keeps it in: twelve bits for the major part, twenty for the minor
/// (`linux/kdev_t.h`).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct ShortDevice(u32);

impl ShortDevice {
    /// Nothing for a number that is none of the kernel's.
    fn of(device: u64) -> Option<Self> {
        let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
        (major < 1 << 12 && minor < 1 << 20).then_some(Self(major << 20 | minor))
    }

    fn device(self) -> u64 {
        rustix::fs::makedev(self.0 >> 20, self.0 & 0xf_ffff)
    }
}

impl Candidate {
    /// The number of its device.
    pub(super) fn device(&self) -> u64 {
        self.device.device()
    }

    /// Refuses what is not the file that was scanned.
    pub(super) fn is_as_scanned(&self, stat: &Stat) -> Result<(), NotRead> {
        let written = stat.mtime.sec.clamp(0, i64::from(u32::MAX)) as u32;
        let same = stat.kind == Kind::File
            && (stat.dev, stat.ino, stat.size) == (self.device(), self.inode, self.length)
            && written == self.written;
        if same { Ok(()) } else { Err(NotRead::Changed) }
    }

    /// Whether it is the file that was scanned, and its inode has not been changed since either.
    pub(super) fn is_quite_as_scanned(&self, stat: &Stat) -> bool {
        let changed = stat.ctime.sec.clamp(0, i64::from(u32::MAX)) as u32;
        self.is_as_scanned(stat).is_ok() && self.changed.is_some_and(|then| then.get() == changed)
    }
}

/// Files that could be equal, by their length. 32 bytes for each.
#[derive(Clone, Debug, Default)]
pub struct Candidates {
    /// By length, device and inode.
    pub(super) files: Vec<Candidate>,
    /// Where the files of one length lie in `files`.
    pub(super) groups: Vec<Range<u32>>,
}

impl Candidates {
    /// The files below some directories that are seen, have bytes, and have a length in common with another inode.
    pub fn of(seen: Seen<'_>, at: &[EntryId]) -> Self {
        let catalog = seen.catalog();
        let mut files = Vec::new();
        let mut open: Vec<EntryId> = at.to_vec();
        while let Some(id) = open.pop() {
            if catalog.is_directory(id) {
                open.extend(seen.children(id));
                continue;
            }
            let length = catalog.apparent(id).get();
            if catalog.kind(id) == Kind::File && length > 0 && seen.has(id) {
                let (device, inode) = catalog.device_and_inode(id);
                let Some(device) = ShortDevice::of(device) else { continue };
                let seconds = |time: Time| time.sec.clamp(0, i64::from(u32::MAX)) as u32;
                let written = seconds(catalog.modified(id));
                let changed = match catalog.knows_seconds() {
                    true => NonZeroU32::new(seconds(catalog.changed(id))),
                    false => None,
                };
                files.push(Candidate { entry: id, written, changed, device, inode, length });
            }
        }
        files.sort_unstable_by_key(|file| (file.length, file.device, file.inode, file.entry));
        files.dedup_by_key(|file| (file.device, file.inode));
        let mut groups = Vec::new();
        let mut kept = 0;
        let mut from = 0;
        while from < files.len() {
            let length = files[from].length;
            let same = files[from..].iter().take_while(|file| file.length == length).count();
            if same > 1 {
                files.copy_within(from..from + same, kept);
                groups.push(kept as u32..(kept + same) as u32);
                kept += same;
            }
            from += same;
        }
        files.truncate(kept);
        files.shrink_to_fit();
        let mut candidates = Self { files, groups };
        candidates.order();
        candidates
    }

    /// Large files come first, those that could free most before all others; the rest in the order of their inodes,
    /// which is about that of the device.
    fn order(&mut self) {
        const LARGE: u64 = 1 << 20;
        let files = &self.files;
        self.groups.sort_by_key(|group| {
            let first = &files[group.start as usize];
            let could_free = first.length * (group.len() as u64 - 1);
            match first.length >= LARGE {
                true => (0, u64::MAX - could_free, 0),
                false => (1, first.device(), first.inode),
            }
        });
    }

    /// Leaves some groups out, by their places; all of them if it goes on no longer.
    pub(super) fn leave_out(&mut self, taken: &[bool], goes_on: impl Fn() -> bool) {
        if !taken.contains(&true) {
            return;
        }
        // what is left moves to the front, in the order in which it lies there
        let is_left = |at: &usize| !taken[*at];
        let mut left: Vec<usize> = (0..self.groups.len()).filter(is_left).collect();
        left.sort_unstable_by_key(|at| self.groups[*at].start);
        let mut kept = 0;
        for at in &left {
            let group = self.groups[*at].clone();
            let from = kept;
            for start in group.clone().step_by(HEARD) {
                if !goes_on() {
                    return self.groups.clear();
                }
                let end = group.end.min(start + HEARD as u32);
                self.files.copy_within(start as usize..end as usize, kept as usize);
                kept += end - start;
            }
            self.groups[*at] = from..kept;
        }
        left.sort_unstable();
        self.groups = left.into_iter().map(|at| self.groups[at].clone()).collect();
        self.files.truncate(kept as usize);
    }

    /// The devices that they lie on, each with whether it turns: of such a one a single file is read at a time.
    pub(super) fn devices(&self) -> Vec<(u64, bool)> {
        // neighbours mostly lie on one device
        let of_neighbours = self.files.chunk_by(|one, other| one.device == other.device);
        let devices: BTreeSet<_> = of_neighbours.map(|files| files[0].device).collect();
        let devices = devices.into_iter().map(ShortDevice::device);
        devices.map(|device| (device, kernel::is_rotational(device))).collect()
    }

    /// How many files could be equal to another.
    pub fn len(&self) -> usize {
        self.files.len()
    }

    /// Whether no file could be equal to another.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty()
    }

    /// Bytes of all of them: so many have to be read at most.
    pub fn bytes(&self) -> Bytes {
        Bytes::new(self.files.iter().map(|file| file.length).sum())
    }
}
