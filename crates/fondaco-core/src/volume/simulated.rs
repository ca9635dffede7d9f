//! A directory that stands for a volume of fixed capacity.

use std::collections::HashSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use super::{Class, NoCapacity, Volume};
use crate::kernel::{self, Capacity, DeletedFiles, DirReader, Kind};
use crate::state::{SimulatedVolume, State};
use crate::units::{Bytes, Time};

/// Bytes on disk below a directory, itself included, every inode once. For trees of demo size: it
/// goes one by one. What cannot be read is left out.
pub fn used_below(root: &Path) -> Bytes {
    let mut used = Bytes::ZERO;
    let mut linked = HashSet::new();
    let mut open = vec![root.to_owned()];
    let mut reader = DirReader::default();
    used += kernel::stat_path(root).map_or(Bytes::ZERO, |stat| stat.allocated());
    while let Some(path) = open.pop() {
        let Ok(fd) = kernel::open_root(&path) else { continue };
        let _ = reader.read(&fd, |entry| {
            if let Ok(stat) = kernel::stat_at(&fd, entry.name) {
                if stat.kind == Kind::Directory {
                    open.push(path.join(OsStr::from_bytes(entry.name.to_bytes())));
                    used += stat.allocated();
                } else if stat.links < 2 || linked.insert((stat.dev, stat.ino)) {
                    used += stat.allocated();
                }
            }
            true
        });
    }
    used
}

impl SimulatedVolume {
    /// Its room with so much in use; inodes are made as needed.
    pub(crate) fn with_used(&self, used: Bytes) -> Capacity {
        let free = self.capacity.less(used);
        Capacity {
            total: self.capacity,
            used,
            free_root: free,
            free_users: free,
            inodes: 0,
            inodes_free: 0,
            block: 4096,
        }
    }
}

pub(super) fn volume(simulated: &SimulatedVolume, state: &State) -> Volume {
    let held = DeletedFiles::collect(Time::now());
    let held = held.below(&simulated.path).filter_map(|file| file.allocated);
    let used = used_below(&simulated.path) + held.sum();
    let stat = kernel::stat_path(&simulated.path);
    let capacity = match &stat {
        Ok(_) => Ok(simulated.with_used(used)),
        Err(error) => Err(NoCapacity::Refused(error.to_string())),
    };
    let mounts = kernel::mounts().unwrap_or_default();
    let mounted = kernel::mount_of(&simulated.path, &mounts);
    Volume {
        mount_point: simulated.path.clone(),
        source: simulated.path.clone(),
        fs_type: "simulated".to_owned(),
        class: Class::Simulated,
        read_only: false,
        access_times: mounted.map(|mount| mount.access_times).unwrap_or_default(),
        dev: stat.map_or(0, |stat| stat.dev),
        root: "/".into(),
        also: Vec::new(),
        removable: false,
        quotas: Vec::new(),
        capacity,
        waterline: state.waterline(&simulated.path),
        level_for: state.settings.level_for,
    }
}
