//! Of which machine and which file systems a catalog tells. Device numbers and paths mean something on one machine
//! only, and there only as long as nothing else is mounted.

use std::collections::BTreeMap;
use std::io;
use std::path::{Path, PathBuf};

use fondaco_store::ManagedStore;
use serde::{Deserialize, Serialize};

use super::{Catalog, Reading};
use crate::kernel::{self, Capacity, FileSystemId};
use crate::shown::{DocPath, Shown, shown};
use crate::units::Bytes;

/// See the [module](self).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Origin {
    /// The machine's `machine-id(5)`, or its node name; empty in scans that an earlier version saved.
    pub machine: String,
    /// The machine's node name, for people.
    pub host: String,
    /// The file systems that were scanned.
    pub volumes: Vec<ScannedVolume>,
    /// Names of the owners there are, by their numbers, as they were known on that machine.
    pub users: BTreeMap<u32, String>,
    /// As `users`, of groups.
    pub groups: BTreeMap<u32, String>,
    /// The managed store that was listed, if it was one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub store: Option<ListedStore>,
}

/// A managed store as it was when it was listed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ListedStore {
    /// How it is listed, and how something is removed from it.
    pub definition: ManagedStore,
    /// Bytes of all that it held.
    pub used: Bytes,
}

/// A file system as it was when it was scanned.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ScannedVolume {
    /// Its device number then.
    pub device: u64,
    /// A directory of it that was scanned.
    pub place: DocPath,
    /// Where it was mounted.
    pub mount_point: DocPath,
    /// Its type: `ext4`, `xfs` …
    pub file_system: String,
    /// The identity of the file system.
    pub id: FileSystemId,
    /// Its size and what was free when it was scanned.
    pub capacity: Capacity,
}

impl ScannedVolume {
    /// The file system that holds a directory now.
    ///
    /// # Errors
    ///
    /// As `open(2)`, `statfs(2)` and `statx(2)`.
    pub fn look(place: &Path) -> io::Result<Self> {
        let mounts = kernel::mounts()?;
        let stat = kernel::stat_path(place)?;
        let mount = mounts.iter().find(|mount| mount.id == stat.mount);
        let mount = mount.or_else(|| kernel::mount_of(place, &mounts));
        let point = mount.map_or_else(|| PathBuf::from("/"), |mount| mount.mount_point.clone());
        Ok(Self {
            device: stat.dev,
            place: DocPath(place.to_owned()),
            mount_point: DocPath(point),
            file_system: mount.map_or_else(String::new, |mount| mount.fs_type.clone()),
            id: kernel::file_system_id(place)?,
            capacity: kernel::capacity(place)?,
        })
    }
}

/// Why nothing on this machine can be taken for what was scanned.
#[derive(Debug, thiserror::Error)]
pub enum Elsewhere {
    /// An earlier version saved the scan, which did not keep where it comes from.
    #[error("the scan does not say of which machine it is")]
    NotStated,
    /// The node name of the machine that was scanned.
    #[error("it was scanned on another machine, {}", shown(.0))]
    OtherMachine(String),
    /// A place on the file system cannot be looked at now.
    #[error("{} cannot be examined: {source}", Shown(place))]
    NotExamined {
        /// A directory that was scanned.
        place: PathBuf,
        /// The kernel's answer.
        source: io::Error,
    },
    /// Another file system is mounted where this directory was scanned.
    #[error("another file system is mounted at {} now", Shown(.0))]
    OtherFileSystem(PathBuf),
}

impl Origin {
    /// This machine, with none of its file systems.
    pub fn of_this_machine() -> Self {
        let (machine, host) = (kernel::machine_id(), kernel::node_name());
        Self { machine, host, ..Self::default() }
    }

    /// Why nothing that is found on this machine says anything about what was scanned; nothing if it was scanned here.
    pub fn elsewhere(&self) -> Option<Elsewhere> {
        if self.machine.is_empty() {
            return Some(Elsewhere::NotStated);
        }
        (self.machine != kernel::machine_id()).then(|| Elsewhere::OtherMachine(self.host.clone()))
    }

    /// The number that a scanned device has now. A device of which nothing is known has the one that it had.
    ///
    /// # Errors
    ///
    /// [`Elsewhere`] if its file system is not mounted in its place any more, or that cannot be seen.
    pub fn device_now(&self, device: u64) -> Result<u64, Elsewhere> {
        let Some(then) = self.volumes.iter().find(|volume| volume.device == device) else {
            return Ok(device);
        };
        let place = &then.place.0;
        let now = ScannedVolume::look(place)
            .map_err(|source| Elsewhere::NotExamined { place: place.clone(), source })?;
        let same = (&then.id, &then.file_system) == (&now.id, &now.file_system);
        // what says nothing of itself keeps its number as long as it is mounted
        let is_known = then.id != FileSystemId::Unknown || then.device == now.device;
        match same && is_known {
            true => Ok(now.device),
            false => Err(Elsewhere::OtherFileSystem(place.clone())),
        }
    }
}

impl Catalog {
    /// Of which machine and file systems it tells.
    pub fn origin(&self) -> &Origin {
        &self.origin
    }

    /// Says of which machine and file systems it tells.
    pub fn set_origin(&mut self, origin: Origin) {
        self.origin = origin;
    }

    /// Adds file systems that it tells of.
    pub fn add_volumes(&mut self, more: Vec<ScannedVolume>) {
        self.origin.volumes.extend(more);
    }

    /// For each device a directory on it that was read.
    pub fn places_by_device(&self) -> Vec<(u64, PathBuf)> {
        let mut places = Vec::new();
        let mut known = vec![false; self.devices.len()];
        for row in self.directories.iter().filter(|row| row.reading == Reading::Done) {
            let device = usize::from(row.device);
            let is_top = self.top.is_some_and(|top| top.0 == row.entry);
            if is_top || known.get(device).is_none_or(|known| *known) {
                continue;
            }
            known[device] = true;
            places.push((self.devices[device], self.path(super::EntryId(row.entry))));
        }
        places
    }
}
