//! The mounted volumes, how full they are, and how much is missing to their waterline.
//!
//! Takes the kernel's mount table and the [`State`]'s settings, gives [`Volume`]s. A server that
//! does not answer costs a bounded wait and is shown as not answering.

mod simulated;

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use serde::Serialize;

pub use simulated::used_below;

use crate::kernel::{self, Capacity, Mount, capacity};
use crate::state::State;
use crate::units::{Bytes, Level};

/// What sort of storage is behind a volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Class {
    /// A directory that stands for a volume; the demo's.
    Simulated,
    /// A file system on a device.
    Storage,
    /// A server's.
    Network,
    /// Layers over other file systems.
    Overlay,
    /// Kept in memory.
    Memory,
    /// No storage: the kernel's own interfaces.
    Kernel,
}

impl Class {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Simulated => "simulated",
            Self::Storage => "storage",
            Self::Network => "network",
            Self::Overlay => "overlay",
            Self::Memory => "memory",
            Self::Kernel => "kernel",
        }
    }
}

/// One mounted file system.
#[derive(Clone, Debug)]
pub struct Volume {
    /// Where it is mounted.
    pub mount_point: PathBuf,
    /// Device, export or directory it comes from.
    pub source: PathBuf,
    /// Type of the file system.
    pub fs_type: String,
    /// What is behind it.
    pub class: Class,
    /// Nothing on it can be changed.
    pub read_only: bool,
    /// Its device number.
    pub dev: u64,
    /// Its room, or why that is not known.
    pub capacity: Result<Capacity, String>,
    /// The level that it should be below.
    pub waterline: Level,
}

impl Volume {
    /// Its level, if it answered.
    pub fn level(&self) -> Option<Level> {
        self.capacity.as_ref().ok().map(Capacity::level)
    }

    /// Bytes still missing to bring the level below the waterline once `relief` has been freed.
    pub fn to_find(&self, relief: Bytes) -> Bytes {
        match &self.capacity {
            Ok(c) => c.used.less(relief).less(self.waterline.of_capacity(c.used + c.free_root)),
            Err(_) => Bytes::ZERO,
        }
    }
}

/// All volumes that hold data, simulated and real ones first. A file system that is mounted in
/// several places is listed once, where its root is or else where it was mounted first.
pub fn volumes(state: &State) -> Vec<Volume> {
    let mut seen = HashSet::new();
    let mut mounts = kernel::mounts().unwrap_or_default();
    // what another mount covers cannot be reached
    let newest: HashMap<PathBuf, u64> =
        mounts.iter().map(|mount| (mount.mount_point.clone(), mount.id)).collect();
    mounts.retain(|mount| newest.get(&mount.mount_point) == Some(&mount.id));
    mounts.sort_by_key(|mount| mount.root != Path::new("/"));
    let real = mounts.into_iter().filter(|mount| {
        class_of(&mount.fs_type) != Class::Kernel && seen.insert((mount.dev, mount.source.clone()))
    });
    let asked: Vec<_> = real.map(|mount| (ask(mount.mount_point.clone()), mount)).collect();
    // all of them together, however many do not answer
    let since = Instant::now();
    let mut found: Vec<Volume> = state
        .settings
        .simulated
        .iter()
        .map(|volume| simulated::volume(volume, state))
        .chain(asked.into_iter().map(|(answer, mount)| from_mount(mount, &answer, since, state)))
        .filter(|volume| !matches!(&volume.capacity, Ok(c) if c.total == Bytes::ZERO))
        .collect();
    found.sort_by(|a, b| (a.class, &a.mount_point).cmp(&(b.class, &b.mount_point)));
    found
}

/// The volume that holds `path`, freshly asked.
pub fn volume_of(path: &Path, state: &State) -> Option<Volume> {
    let simulated = state.settings.simulated.iter().find(|volume| path.starts_with(&volume.path));
    if let Some(volume) = simulated {
        return Some(simulated::volume(volume, state));
    }
    let mounts = kernel::mounts().ok()?;
    let mount = kernel::mount_of(path, &mounts)?.clone();
    let answer = ask(mount.mount_point.clone());
    Some(from_mount(mount, &answer, Instant::now(), state))
}

/// Where the volume that holds `path` is mounted; asks no file system.
pub fn volume_root(path: &Path, state: &State, mounts: &[Mount]) -> PathBuf {
    let simulated = state.settings.simulated.iter().find(|volume| path.starts_with(&volume.path));
    let simulated = simulated.map(|volume| volume.path.clone());
    simulated
        .or_else(|| Some(kernel::mount_of(path, mounts)?.mount_point.clone()))
        .unwrap_or_else(|| "/".into())
}

/// Whether a file system type is an interface of the kernel and holds nobody's data.
pub fn is_kernel_interface(fs_type: &str) -> bool {
    class_of(fs_type) == Class::Kernel
}

/// Whether a file system may mount something by itself when a directory of it is opened: referrals and
/// submounts of servers.
pub fn is_remote(fs_type: &str) -> bool {
    class_of(fs_type) == Class::Network || fs_type.starts_with("fuse")
}

fn class_of(fs_type: &str) -> Class {
    match fs_type {
        "proc" | "sysfs" | "devtmpfs" | "devpts" | "cgroup" | "cgroup2" | "securityfs"
        | "debugfs" | "tracefs" | "pstore" | "bpf" | "configfs" | "fusectl" | "mqueue"
        | "hugetlbfs" | "autofs" | "rpc_pipefs" | "binfmt_misc" | "efivarfs" | "nsfs"
        | "selinuxfs" | "nfsd" | "fuse.gvfsd-fuse" | "fuse.portal" | "binder" | "resctrl" => {
            Class::Kernel
        }
        "tmpfs" | "ramfs" => Class::Memory,
        "overlay" | "aufs" => Class::Overlay,
        "nfs" | "nfs4" | "cifs" | "smb3" | "smbfs" | "9p" | "ceph" | "afs" | "ncpfs"
        | "glusterfs" | "fuse.glusterfs" | "fuse.sshfs" | "fuse.ceph" | "lustre" | "davfs"
        | "virtiofs" => Class::Network,
        _ => Class::Storage,
    }
}

type Answer = mpsc::Receiver<std::io::Result<Capacity>>;

/// Asks on a thread of its own: a dead server can hold the question for ever.
fn ask(mount_point: PathBuf) -> Answer {
    let (answer, wait) = mpsc::channel();
    std::thread::spawn(move || {
        // nobody may be waiting any more
        let _ = answer.send(capacity(&mount_point));
    });
    wait
}

/// How long file systems have to answer.
const PATIENCE: Duration = Duration::from_secs(2);

fn from_mount(mount: Mount, answer: &Answer, asked: Instant, state: &State) -> Volume {
    let capacity = match answer.recv_timeout(PATIENCE.saturating_sub(asked.elapsed())) {
        Ok(answer) => answer.map_err(|error| error.to_string()),
        Err(_) => Err("does not answer".to_owned()),
    };
    Volume {
        waterline: state.waterline(&mount.mount_point),
        class: class_of(&mount.fs_type),
        mount_point: mount.mount_point,
        source: mount.source,
        fs_type: mount.fs_type,
        read_only: mount.read_only,
        dev: mount.dev,
        capacity,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_to_find_is_what_stands_above_the_waterline() {
        let capacity = Capacity {
            total: Bytes::new(1000),
            used: Bytes::new(913),
            free_root: Bytes::new(87),
            ..Capacity::default()
        };
        let volume = Volume {
            mount_point: "/srv".into(),
            source: "/dev/a".into(),
            fs_type: "ext4".into(),
            class: Class::Storage,
            read_only: false,
            dev: 0,
            capacity: Ok(capacity),
            waterline: Level::from_permille(800),
        };
        let to_find = |relief| volume.to_find(Bytes::new(relief)).get();
        assert_eq!((to_find(0), to_find(100), to_find(113), to_find(500)), (113, 13, 0, 0));
        assert_eq!(volume.level(), Some(Level::from_permille(913)));
    }

    #[test]
    fn a_simulated_volume_counts_each_inode_once_and_covers_the_real_one() {
        let directory = tempfile::tempdir().unwrap();
        let root = directory.path().canonicalize().unwrap().join("seamark");
        std::fs::create_dir_all(root.join("a")).unwrap();
        std::fs::write(root.join("a/tide"), vec![1u8; 100_000]).unwrap();
        let before = used_below(&root);
        std::fs::hard_link(root.join("a/tide"), root.join("tide-again")).unwrap();
        assert_eq!(used_below(&root), before);
        assert!(before >= Bytes::new(100_000) && before < Bytes::new(200_000));

        let mut state = State::open(&directory.path().join("state")).unwrap();
        let capacity = Bytes::new(1 << 20);
        state
            .settings
            .simulated
            .push(crate::state::SimulatedVolume { path: root.clone(), capacity });
        let volume = volume_of(&root.join("a/tide"), &state).unwrap();
        assert_eq!((volume.class, volume.mount_point), (Class::Simulated, root));
        assert_eq!(volume.capacity.unwrap().used, before);
    }
}
