//! Which disks are behind a device, through what the kernel stacks on them, and what it says of them.
//!
//! Sources: `Documentation/ABI/stable/sysfs-block`, `Documentation/admin-guide/md.rst` (`md/degraded`, `md/dev-*/errors`),
//! `/sys/fs/btrfs/UUID/devinfo` in `btrfs(5)` and `Documentation/hwmon/sysfs-interface.rst` of the kernel.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::io;
use std::path::{Path, PathBuf};

use super::read_dir::names_in;
use super::stat::is_there;

/// The deepest stack of devices that is followed: more than this is a circle.
const DEEPEST: usize = 16;

/// What was counted, and how often.
pub type Counted = (String, u64);

/// The kernel's tree of devices.
#[derive(Clone, Debug)]
pub struct BlockDevices {
    sysfs: PathBuf,
}

/// What lies between a file system and its disks, and the disks.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DeviceStack {
    /// Names of the disks, as in `/dev`.
    pub disks: BTreeSet<String>,
    /// Arrays on the way, by name, that miss members: how many.
    pub degraded: Vec<(String, u64)>,
    /// Members of arrays that had errors: the member, and how many the array has corrected.
    pub member_errors: Vec<(String, u64)>,
    /// Files that a device is made of (`losetup(8)`): what holds them is behind it.
    pub files: Vec<PathBuf>,
}

/// What the kernel itself knows of a disk.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DiskFacts {
    /// Maker and model.
    pub model: Option<String>,
    /// Its platters turn, so that jumping from place to place takes time.
    pub rotational: bool,
    /// What its driver says of its state, such as `running`, `live` or `offline`.
    pub state: Option<String>,
    /// How warm it is, in degrees Celsius.
    pub temperature: Option<i64>,
    /// Degrees above which its maker calls it critical.
    pub critical_temperature: Option<i64>,
    /// It is one that is made up by the machine that this one runs in, and says nothing of itself.
    pub is_virtual: bool,
}

impl Default for BlockDevices {
    fn default() -> Self {
        Self { sysfs: "/sys".into() }
    }
}

impl BlockDevices {
    /// The tree at another place.
    pub fn at(sysfs: &Path) -> Self {
        Self { sysfs: sysfs.to_owned() }
    }

    /// What is behind a device.
    ///
    /// # Errors
    ///
    /// `NotFound` for what is no block device, as the root of a network file system; as `read(2)`.
    pub fn behind(&self, device: u64) -> io::Result<DeviceStack> {
        let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
        let start = self.sysfs.join("dev/block").join(format!("{major}:{minor}"));
        let mut stack = DeviceStack::default();
        Self::follow(&start.canonicalize()?, 0, &mut stack)?;
        Ok(stack)
    }

    fn follow(device: &Path, depth: usize, stack: &mut DeviceStack) -> io::Result<()> {
        if depth > DEEPEST {
            return Err(io::Error::other("devices lie on each other in a circle"));
        }
        let name = name_of(device);
        if let Some(missing) = number(&device.join("md/degraded")).filter(|missing| *missing > 0) {
            stack.degraded.push((name.clone(), missing));
        }
        for member in names_if_any(&device.join("md"))? {
            let Some(member) = member.to_str().and_then(|name| name.strip_prefix("dev-")) else {
                continue;
            };
            let errors = number(&device.join(format!("md/dev-{member}/errors")));
            if let Some(errors) = errors.filter(|errors| *errors > 0) {
                stack.member_errors.push((member.to_owned(), errors));
            }
        }
        if let Some(file) = text(&device.join("loop/backing_file")) {
            stack.files.push(file.trim_end_matches(" (deleted)").into());
            return Ok(());
        }
        // a partition has no such directory
        let below = names_if_any(&device.join("slaves"))?;
        if !below.is_empty() {
            for name in below {
                let next = device.join("slaves").join(name).canonicalize()?;
                Self::follow(&next, depth + 1, stack)?;
            }
            return Ok(());
        }
        match device.parent() {
            Some(disk) if is_there(&device.join("partition"))? => {
                Self::follow(&disk.canonicalize()?, depth + 1, stack)
            }
            _ => {
                stack.disks.insert(name);
                Ok(())
            }
        }
    }

    /// What the kernel says of a disk.
    pub fn facts(&self, disk: &str) -> DiskFacts {
        let home = self.sysfs.join("class/block").join(disk.replace('/', "!"));
        let device = home.join("device");
        let model = [text(&device.join("vendor")), text(&device.join("model"))];
        let model: Vec<String> = model
            .into_iter()
            .flatten()
            // a number in its place tells nobody anything
            .filter(|word| !word.starts_with("0x") && word != "ATA")
            .collect();
        let temperature = sensors(&device).into_iter().find_map(|sensor| {
            let degrees = |what: &str| Some(number_signed(&sensor.join(what))? / 1000);
            Some((degrees("temp1_input")?, degrees("temp1_crit")))
        });
        let driver = home.canonicalize().unwrap_or_else(|_| home.clone());
        let is_virtual = ["/virtio", "/virtual/", "/vbd-", "/xen"]
            .iter()
            .any(|sign| driver.to_string_lossy().contains(sign));
        DiskFacts {
            model: (!model.is_empty()).then(|| model.join(" ")),
            rotational: number(&home.join("queue/rotational")) == Some(1),
            state: text(&device.join("state")),
            temperature: temperature.map(|(degrees, _)| degrees),
            critical_temperature: temperature.and_then(|(_, critical)| critical),
            is_virtual,
        }
    }

    /// The directory of the btrfs that lies on a device, by the name of the device.
    fn btrfs_home(&self, device: &str) -> io::Result<PathBuf> {
        let all = self.sysfs.join("fs/btrfs");
        for name in names_in(&all)? {
            let home = all.join(name);
            if is_there(&home.join("devices").join(device))? {
                return Ok(home);
            }
        }
        Err(io::ErrorKind::NotFound.into())
    }

    /// The errors that btrfs counts on the devices of a file system, by the name of one of them: number of each device and
    /// what was counted. Kernels before Linux 5.14 do not tell.
    ///
    /// # Errors
    ///
    /// As `read(2)`; `NotFound` if no such file system is mounted.
    pub fn btrfs_errors(&self, device: &str) -> io::Result<Vec<(String, Vec<Counted>)>> {
        let home = self.btrfs_home(device)?.join("devinfo");
        let mut found = Vec::new();
        for device in names_if_any(&home)? {
            let text = match std::fs::read_to_string(home.join(&device).join("error_stats")) {
                Ok(text) => text,
                Err(error) if error.kind() == io::ErrorKind::NotFound => continue,
                Err(error) => return Err(error),
            };
            let counts = text.lines().filter_map(|line| {
                let (what, count) = line.split_once(' ')?;
                let count = count.trim().parse::<u64>().ok().filter(|count| *count > 0)?;
                Some((what.to_owned(), count))
            });
            found.push((device.to_string_lossy().into_owned(), counts.collect()));
        }
        Ok(found)
    }

    /// What a btrfs file system lies on, by the name of one of its devices.
    ///
    /// # Errors
    ///
    /// As [`BlockDevices::btrfs_errors`].
    pub fn btrfs_stack(&self, device: &str) -> io::Result<DeviceStack> {
        let home = self.btrfs_home(device)?.join("devices");
        let mut stack = DeviceStack::default();
        for device in names_in(&home)? {
            Self::follow(&home.join(device).canonicalize()?, 0, &mut stack)?;
        }
        Ok(stack)
    }
}

fn name_of(device: &Path) -> String {
    let name = device.file_name().map(|name| name.to_string_lossy().into_owned());
    crate::shown::shown(name.unwrap_or_default().replace('!', "/"))
}

/// The names in a directory; none if there is no such directory.
fn names_if_any(directory: &Path) -> io::Result<Vec<OsString>> {
    match names_in(directory) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        names => names,
    }
}

/// Where the temperature of a disk may be told: its own sensors, or those of its controller.
fn sensors(device: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for place in [device.join("hwmon"), device.to_owned(), device.join("device/hwmon")] {
        let names = names_in(&place).unwrap_or_default();
        let sensor = names.into_iter().filter(|name| name.to_string_lossy().starts_with("hwmon"));
        found.extend(sensor.map(|name| place.join(name)));
    }
    found
}

/// What an attribute says; nothing if it says nothing, or cannot be read: then it is not known.
fn text(attribute: &Path) -> Option<String> {
    let text = std::fs::read_to_string(attribute).ok()?;
    let text = text.trim();
    (!text.is_empty()).then(|| crate::shown::shown(text))
}

fn number(attribute: &Path) -> Option<u64> {
    text(attribute)?.parse().ok()
}

fn number_signed(attribute: &Path) -> Option<i64> {
    text(attribute)?.parse().ok()
}
