//! The mounted volumes, how full they are, and how much is missing to their waterline.
//!
//! Takes the kernel's mount table and the [`State`]'s settings, gives [`Volume`]s. A server that
//! does not answer costs a bounded wait and is shown as not answering.

mod simulated;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use serde::Serialize;

pub use simulated::used_below;

use crate::archive::{is_store, managed_name};
use crate::kernel::{
    self, AccessTimes, Capacity, DeletedFile, LevelFor, Mount, Quota, capacity, quotas,
};
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
    /// On a server.
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

/// Another place where a volume is mounted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// Where it is mounted.
    pub mount_point: PathBuf,
    /// What part of it.
    pub root: PathBuf,
    /// Nothing can be changed there.
    pub read_only: bool,
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
    /// How it keeps times of reading.
    pub access_times: AccessTimes,
    /// Its device number, as the mount table has it.
    pub dev: u64,
    /// What part of the file system is mounted there: `/`, or a directory or subvolume of it.
    pub root: PathBuf,
    /// Where else the same file system is mounted, wholly or in part: the same space, counted once.
    pub also: Vec<Place>,
    /// The device can be pulled out.
    pub removable: bool,
    /// Limits of users, groups and projects, the fullest first.
    pub quotas: Vec<Quota>,
    /// Its room, or why that is not known.
    pub capacity: Result<Capacity, NoCapacity>,
    /// The level that it should be below.
    pub waterline: Level,
    /// Whose free space its level is reckoned with.
    pub level_for: LevelFor,
}

impl Volume {
    /// How much of a path is the way to this volume, in components; `None` if it does not lie below any
    /// place where it is mounted.
    pub fn depth_above(&self, path: &Path) -> Option<usize> {
        let places = self.also.iter().map(|place| &place.mount_point);
        let above = places.chain([&self.mount_point]).filter(|point| path.starts_with(point));
        above.map(|point| point.components().count()).max()
    }

    /// Its level, if it answered.
    pub fn level(&self) -> Option<Level> {
        Some(self.capacity.as_ref().ok()?.level_for(self.level_for))
    }

    /// What its level is a share of, if it answered.
    pub fn whole(&self) -> Option<Bytes> {
        Some(self.capacity.as_ref().ok()?.whole_for(self.level_for))
    }

    /// Inodes stand above the waterline: soon no file can be made although there is room.
    pub fn short_of_inodes(&self) -> bool {
        let level = self.capacity.as_ref().ok().and_then(Capacity::inode_level);
        level.is_some_and(|level| level > self.waterline)
    }

    /// Limits of which more is in use than the waterline allows.
    pub fn tight_quotas(&self) -> impl Iterator<Item = &Quota> {
        let tight = |quota: &&Quota| {
            quota.level() > Some(self.waterline) || quota.inode_level() > Some(self.waterline)
        };
        self.quotas.iter().filter(tight)
    }

    /// Bytes still missing to bring the level below the waterline once `relief` has been freed.
    pub fn to_find(&self, relief: Bytes) -> Bytes {
        match &self.capacity {
            Ok(c) => {
                let most = self.waterline.of_capacity(c.whole_for(self.level_for));
                c.used.less(relief).less(most)
            }
            Err(_) => Bytes::ZERO,
        }
    }
}

/// All volumes that hold data, simulated and real ones first. A file system that is mounted in
/// several places is listed once, where its root is or else where it was mounted first.
pub fn volumes(state: &State) -> Vec<Volume> {
    let mut mounts = reachable(kernel::mounts().unwrap_or_default());
    mounts.retain(|mount| class_of(&mount.fs_type) != Class::Kernel);
    let asked: Vec<_> =
        grouped(mounts).into_iter().map(|(mount, also)| (ask(&mount), mount, also)).collect();
    // all of them together, however many do not answer
    let since = Instant::now();
    let real = asked
        .into_iter()
        .map(|(answer, mount, also)| from_mount(mount, also, &answer, since, state));
    let mut found: Vec<Volume> = state
        .settings
        .simulated
        .iter()
        .map(|volume| simulated::volume(volume, state))
        .chain(real)
        .filter(|volume| !matches!(&volume.capacity, Ok(c) if c.total == Bytes::ZERO))
        .collect();
    found.sort_by(|a, b| (a.class, &a.mount_point).cmp(&(b.class, &b.mount_point)));
    found
}

/// How many mounts are interfaces of the kernel, which hold nobody's data and are not listed.
pub fn interfaces() -> usize {
    let mounts = kernel::mounts().unwrap_or_default();
    mounts.iter().filter(|mount| class_of(&mount.fs_type) == Class::Kernel).count()
}

/// Without what another mount covers, which cannot be reached.
fn reachable(mut mounts: Vec<Mount>) -> Vec<Mount> {
    let newest: HashMap<PathBuf, u64> =
        mounts.iter().map(|mount| (mount.mount_point.clone(), mount.id)).collect();
    mounts.retain(|mount| newest.get(&mount.mount_point) == Some(&mount.id));
    mounts
}

/// The mounts of one file system together: first where its root is, or else where it was mounted first.
fn grouped(mut mounts: Vec<Mount>) -> Vec<(Mount, Vec<Place>)> {
    mounts.sort_by_key(|mount| mount.root != Path::new("/"));
    let mut groups: Vec<(Mount, Vec<Place>)> = Vec::new();
    for mount in mounts {
        let same = |first: &Mount| first.dev == mount.dev && first.fs_type == mount.fs_type;
        match groups.iter_mut().find(|(first, _)| same(first)) {
            Some((_, also)) => also.push(Place {
                mount_point: mount.mount_point,
                root: mount.root,
                read_only: mount.read_only,
            }),
            None => groups.push((mount, Vec::new())),
        }
    }
    groups
}

/// The volume that holds `path`, freshly asked.
pub fn volume_of(path: &Path, state: &State) -> Option<Volume> {
    let simulated = state.settings.simulated.iter().find(|volume| path.starts_with(&volume.path));
    if let Some(volume) = simulated {
        return Some(simulated::volume(volume, state));
    }
    let mounts = kernel::mounts().ok()?;
    let on = kernel::mount_of(path, &mounts)?.clone();
    let same = |mount: &Mount| mount.dev == on.dev && mount.fs_type == on.fs_type;
    let of_volume = reachable(mounts).into_iter().filter(same).collect();
    let (mount, also) = grouped(of_volume).into_iter().next().unwrap_or((on, Vec::new()));
    let answer = ask(&mount);
    Some(from_mount(mount, also, &answer, Instant::now(), state))
}

/// Bytes in use on the volume that holds `path`, if it answers. Only a server needs the bounded wait of [`volume_of`]: a
/// local file system is asked without a thread of its own. `mounts` tell what is one.
pub(crate) fn used_of_volume(path: &Path, state: &State, mounts: &[Mount]) -> Option<Bytes> {
    let is_simulated = || state.settings.simulated.iter().any(|v| path.starts_with(&v.path));
    let is_local = !is_remote(&kernel::mount_of(path, mounts)?.fs_type);
    match is_local && !is_simulated() {
        true => Some(capacity(path).ok()?.used),
        false => Some(volume_of(path, state)?.capacity.ok()?.used),
    }
}

/// Where the volume that holds `path` is mounted, as [`volumes`] has it; asks no file system.
pub fn volume_root(path: &Path, state: &State, mounts: &[Mount]) -> PathBuf {
    let simulated = state.settings.simulated.iter().find(|volume| path.starts_with(&volume.path));
    let simulated = simulated.map(|volume| volume.path.clone());
    let real = || {
        let on = kernel::mount_of(path, mounts)?;
        let same = |mount: &&Mount| mount.dev == on.dev && mount.fs_type == on.fs_type;
        let first = grouped(reachable(mounts.iter().filter(same).cloned().collect()));
        Some(first.into_iter().next().map_or_else(|| on.clone(), |(mount, _)| mount).mount_point)
    };
    if is_store(path) {
        // what is removed in a store frees nothing on any volume of this machine
        return store_of(path);
    }
    simulated.or_else(real).unwrap_or_else(|| "/".into())
}

/// The bucket or host of an object.
fn store_of(path: &Path) -> PathBuf {
    // `s3:` and the bucket, `https:` and the host; of a managed store its name is all
    let parts = if managed_name(path).is_some() { 1 } else { 2 };
    let is_store = |above: &&Path| above.components().count() == parts;
    path.ancestors().find(is_store).unwrap_or(path).into()
}

/// Where the volume is mounted that a deleted file takes space on, as [`volumes`] has it; asks no file
/// system. `None` if it is mounted nowhere that this process sees.
pub fn root_of_held(file: &DeletedFile, state: &State, mounts: &[Mount]) -> Option<PathBuf> {
    let simulated = state.settings.simulated.iter().find(|v| file.path.starts_with(&v.path));
    if let Some(volume) = simulated {
        return Some(volume.path.clone());
    }
    let mount = mounts.iter().rfind(|mount| mount.dev == file.volume)?;
    Some(volume_root(&mount.mount_point, state, mounts))
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
        "tmpfs" | "ramfs" | "rootfs" => Class::Memory,
        "overlay" | "aufs" => Class::Overlay,
        "nfs" | "nfs4" | "cifs" | "smb3" | "smbfs" | "9p" | "ceph" | "afs" | "ncpfs"
        | "glusterfs" | "fuse.glusterfs" | "fuse.sshfs" | "fuse.ceph" | "lustre" | "davfs"
        | "virtiofs" => Class::Network,
        _ => Class::Storage,
    }
}

/// What a file system says: its room, and the limits that it keeps.
type Answer = mpsc::Receiver<(std::io::Result<Capacity>, Vec<Quota>)>;

/// Asks on a thread of its own: a dead server can hold the question for ever.
fn ask(mount: &Mount) -> Answer {
    let (answer, wait) = mpsc::channel();
    let (mount_point, source) = (mount.mount_point.clone(), mount.source.clone());
    let is_local = class_of(&mount.fs_type) == Class::Storage && source.is_absolute();
    let refused = answer.clone();
    let begun = std::thread::Builder::new().spawn(move || {
        let capacity = capacity(&mount_point);
        // who may not ask for limits sees none
        let quotas = if is_local { quotas(&source).unwrap_or_default() } else { Vec::new() };
        // the receiver may have given up by now
        let _ = answer.send((capacity, quotas));
    });
    if let Err(error) = begun {
        // the receiver is still in this function
        let _ = refused.send((Err(error), Vec::new()));
    }
    wait
}

/// Whether the kernel says of a device, or of the disk that it is a part of, that it can be pulled out.
fn is_removable(dev: u64) -> bool {
    let (major, minor) = (rustix::fs::major(dev), rustix::fs::minor(dev));
    let device = PathBuf::from(format!("/sys/dev/block/{major}:{minor}"));
    [device.join("removable"), device.join("../removable")]
        .iter()
        .find_map(|file| std::fs::read_to_string(file).ok())
        .is_some_and(|text| text.trim() == "1")
}

/// Why a volume does not say how large and how full it is.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoCapacity {
    /// It has not answered within the time that it was given.
    #[error("does not answer")]
    Silent,
    /// The kernel has answered with this error.
    #[error("{0}")]
    Refused(String),
}

/// How long file systems have to answer.
const PATIENCE: Duration = Duration::from_secs(2);

fn from_mount(
    mount: Mount,
    also: Vec<Place>,
    answer: &Answer,
    asked: Instant,
    state: &State,
) -> Volume {
    let (capacity, quotas) = match answer.recv_timeout(PATIENCE.saturating_sub(asked.elapsed())) {
        Ok((answer, quotas)) => {
            (answer.map_err(|error| NoCapacity::Refused(error.to_string())), quotas)
        }
        Err(_) => (Err(NoCapacity::Silent), Vec::new()),
    };
    Volume {
        waterline: state.waterline(&mount.mount_point),
        class: class_of(&mount.fs_type),
        mount_point: mount.mount_point,
        source: mount.source,
        fs_type: mount.fs_type,
        read_only: mount.read_only,
        access_times: mount.access_times,
        dev: mount.dev,
        root: mount.root,
        also,
        removable: is_removable(mount.dev),
        quotas,
        capacity,
        level_for: state.settings.level_for,
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;

    /// A volume of a thousand bytes, 913 of them in use.
    pub(crate) fn volume(mount_point: &Path, source: &Path) -> Volume {
        let capacity = Capacity {
            total: Bytes::new(1000),
            used: Bytes::new(913),
            free_root: Bytes::new(87),
            free_users: Bytes::new(87),
            ..Capacity::default()
        };
        Volume {
            mount_point: mount_point.to_owned(),
            source: source.to_owned(),
            fs_type: "ext4".into(),
            class: Class::Storage,
            read_only: false,
            access_times: AccessTimes::Relative,
            dev: 0,
            root: "/".into(),
            also: Vec::new(),
            removable: false,
            quotas: Vec::new(),
            capacity: Ok(capacity),
            waterline: Level::from_permille(800),
            level_for: LevelFor::Users,
        }
    }

    #[test]
    fn what_is_reserved_for_root_is_not_free_for_users() {
        let mut volume = volume(Path::new("/srv"), Path::new("/dev/a"));
        let capacity = Capacity {
            used: Bytes::new(78),
            free_root: Bytes::new(922),
            free_users: Bytes::new(277),
            ..volume.capacity.unwrap()
        };
        volume.capacity = Ok(capacity);
        assert_eq!(volume.level(), Some(Level::from_permille(220)));
        volume.waterline = Level::from_permille(100);
        // a tenth of what is in use and free for users
        assert_eq!(volume.to_find(Bytes::ZERO), Bytes::new(43));
        volume.level_for = LevelFor::Root;
        assert_eq!(volume.level(), Some(Level::from_permille(78)));
        assert_eq!(volume.to_find(Bytes::ZERO), Bytes::ZERO);
    }

    #[test]
    fn what_is_to_find_is_what_stands_above_the_waterline() {
        let volume = volume(Path::new("/srv"), Path::new("/dev/a"));
        let to_find = |relief| volume.to_find(Bytes::new(relief)).get();
        assert_eq!((to_find(0), to_find(100), to_find(113), to_find(500)), (113, 13, 0, 0));
        assert_eq!(volume.level(), Some(Level::from_permille(913)));
    }

    #[test]
    fn the_mounts_of_one_file_system_are_one_group_and_what_is_covered_is_in_none() {
        let mount = |id, dev, root: &str, at: &str| Mount {
            id,
            parent: 0,
            dev,
            root: root.into(),
            mount_point: at.into(),
            read_only: id == 4,
            access_times: AccessTimes::Relative,
            fs_type: "btrfs".into(),
            source: "/dev/a".into(),
        };
        let table = vec![
            mount(1, 7, "/@home", "/home"),
            mount(2, 9, "/", "/srv"),
            mount(3, 7, "/", "/"),
            mount(4, 7, "/@home/tide", "/mnt/tide"),
            mount(5, 8, "/", "/srv"),
        ];
        let groups = grouped(reachable(table));
        let seen: Vec<(&Path, Vec<&Path>)> = groups
            .iter()
            .map(|(first, also)| {
                (&*first.mount_point, also.iter().map(|place| &*place.mount_point).collect())
            })
            .collect();
        let p = Path::new;
        assert_eq!(seen, [(p("/"), vec![p("/home"), p("/mnt/tide")]), (p("/srv"), vec![])]);
        assert!(groups[0].1[1].read_only && !groups[0].1[0].read_only);
        assert_eq!(groups[1].0.dev, 8, "the mount that covers, not the covered one");
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
