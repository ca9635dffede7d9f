//! The health of the disks behind a volume, and what it means for what lies there.
//!
//! Asks the kernel, and as root `smartctl` where it is installed; judges by what both say. What nobody tells is unknown, never
//! good.

mod smart;

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use serde::Serialize;

pub use smart::SmartFacts;

use crate::kernel::{self, BlockDevices, DeviceStack, DiskFacts, output_within};
use crate::state::State;
use crate::volume::{Class, Volume, volume_of};

/// How a disk does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Health {
    /// Neither the disk nor the kernel says how it does.
    #[default]
    Unknown,
    /// It says so itself, and nothing speaks against it.
    Good,
    /// It is still whole, but not for long, or something has begun.
    Worn,
    /// It is losing what lies on it, or says that it will.
    Failing,
}

impl Health {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Unknown => "unknown",
            Self::Good => "good",
            Self::Worn => "worn",
            Self::Failing => "failing",
        }
    }
}

/// One disk behind a volume.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drive {
    /// Its name, as in `/dev`.
    pub name: String,
    /// What the kernel says.
    pub kernel: DiskFacts,
    /// What the disk says of itself, if it could be asked.
    pub own: Option<SmartFacts>,
    /// How it does.
    pub health: Health,
    /// Why, one sentence each.
    pub reasons: Vec<String>,
}

impl Drive {
    /// Maker and model, as far as anybody knows.
    pub fn model(&self) -> Option<&str> {
        let own = self.own.as_ref().and_then(|own| own.model.as_deref());
        own.or(self.kernel.model.as_deref())
    }

    /// How warm it is in degrees Celsius, by its own answer or else by the kernel's.
    pub fn temperature(&self) -> Option<i64> {
        self.own.as_ref().and_then(|own| own.temperature).or(self.kernel.temperature)
    }
}

/// The disks behind one volume.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Drives {
    /// Each of them.
    pub disks: Vec<Drive>,
    /// What speaks against an array or a file system on them, one sentence each.
    pub troubles: Vec<String>,
    /// Why disks are not known: a network file system, one in memory.
    pub none: Option<String>,
}

impl Drives {
    /// How the worst of them does. One that nobody knows anything of is not better than the others are known to be.
    pub fn health(&self) -> Health {
        let worst = self.disks.iter().map(|disk| disk.health).max().unwrap_or_default();
        let unknown = self.disks.iter().any(|disk| disk.health == Health::Unknown);
        match worst {
            worst if !self.troubles.is_empty() => worst.max(Health::Worn),
            Health::Good if unknown => Health::Unknown,
            worst => worst,
        }
    }

    /// What is to be said of a place on them that is to keep something; nothing unless a disk is failing.
    pub fn warning(&self, place: &Path) -> Option<String> {
        (self.health() == Health::Failing).then(|| {
            let place = crate::shown::Shown(place);
            format!("{place} lies on a disk that is failing ({})", self.verdict())
        })
    }

    /// What it means, in a sentence.
    pub fn verdict(&self) -> String {
        let failing = self.disks.iter().filter(|disk| disk.health == Health::Failing);
        let names: Vec<&str> = failing.map(|disk| disk.name.as_str()).collect();
        match self.health() {
            Health::Failing => format!(
                "{} failing: copy first what only lies here",
                match &names[..] {
                    [one] => format!("{one} is"),
                    many => format!("{} are", many.join(", ")),
                }
            ),
            Health::Worn => {
                "worn, or something has begun: have a copy of what lies here".to_owned()
            }
            Health::Good => "good, as far as the disks say".to_owned(),
            Health::Unknown => match &self.none {
                Some(reason) => reason.clone(),
                None => "unknown".to_owned(),
            },
        }
    }
}

/// How disks are asked.
#[derive(Clone, Debug)]
pub struct Asking {
    /// The kernel's tree of devices.
    pub devices: BlockDevices,
    /// The program that asks disks; none is run if there is none.
    pub smartctl: Option<PathBuf>,
}

impl Asking {
    /// As this user can: disks themselves only as root, and where the program is installed.
    pub fn here() -> Self {
        let is_root = kernel::effective_user() == 0;
        let places = ["/usr/sbin/smartctl", "/usr/bin/smartctl", "/sbin/smartctl"];
        let installed = places.into_iter().map(PathBuf::from).find(|path| {
            // what cannot be looked at may be there: running it tells
            kernel::is_there(path).unwrap_or(true)
        });
        Self { devices: BlockDevices::default(), smartctl: installed.filter(|_| is_root) }
    }
}

/// How long one disk may take to answer.
const PATIENCE: Duration = Duration::from_secs(20);
/// As much of an answer is read.
const LONGEST_ANSWER: u64 = 4 << 20;

/// Asks about the disks behind volumes, each disk once. Gives them in the order of the volumes.
pub fn drives(volumes: &[Volume], asking: &Asking) -> Vec<Drives> {
    let mut known: HashMap<String, Drive> = HashMap::new();
    volumes.iter().map(|volume| behind(volume, asking, &mut known)).collect()
}

/// Asks about the disks behind the volume that holds a path; nothing if no volume does.
pub fn drives_of(path: &Path, state: &State, asking: &Asking) -> Option<Drives> {
    let volume = volume_of(path, state)?;
    Some(behind(&volume, asking, &mut HashMap::new()))
}

/// What is to be said of places that something is to be written to for keeps: those on disks that are failing, one sentence
/// each.
pub fn failing_places<'a>(
    places: impl IntoIterator<Item = &'a Path>,
    state: &State,
    asking: &Asking,
) -> Vec<String> {
    let mut warnings = Vec::new();
    for place in places {
        // what is not there yet is made on the volume of what is; what cannot be looked at may be there
        let is_there = |above: &&Path| kernel::is_there(above).unwrap_or(true);
        let there = place.ancestors().find(is_there).unwrap_or(place);
        let drives = drives_of(there, state, asking);
        warnings.extend(drives.and_then(|drives| drives.warning(place)));
    }
    warnings
}

fn behind(volume: &Volume, asking: &Asking, known: &mut HashMap<String, Drive>) -> Drives {
    let none = |reason: &str| Drives { none: Some(reason.to_owned()), ..Drives::default() };
    match volume.class {
        Class::Network => return none("on another machine: its disks are not known here"),
        Class::Memory => return none("in memory: there is no disk"),
        Class::Overlay => return none("layers over other file systems: see those"),
        Class::Kernel => return none("no storage"),
        Class::Simulated => return none("simulated: there is no disk"),
        Class::Storage => {}
    }
    let lies_on = FileSystem { dev: volume.dev, fs_type: &volume.fs_type, source: &volume.source };
    let (stack, mut troubles) = match stack_of(&lies_on, asking, 0) {
        Ok(found) => found,
        Err(reason) => return none(&reason.to_string()),
    };
    for (array, missing) in &stack.degraded {
        troubles.push(format!("{array} lacks {missing} of its members: one more may lose all"));
    }
    for (member, errors) in &stack.member_errors {
        troubles.push(format!("{member} had {errors} errors that its array has corrected"));
    }
    let disk = |name: &String| {
        let drive = known.entry(name.clone()).or_insert_with(|| ask(name, asking));
        drive.clone()
    };
    Drives { disks: stack.disks.iter().map(disk).collect(), troubles, none: None }
}

/// Why the disks behind a file system are not known.
#[derive(Debug, thiserror::Error)]
enum DisksUnknown {
    /// The kernel's tables cannot be read.
    #[error("what is behind it is not known: {0}")]
    Kernel(#[from] io::Error),
    /// It lies in a file, and no other mounted file system is known to hold the file.
    #[error("what is behind it is not known")]
    Holder,
}

/// A file system that lies on disks.
struct FileSystem<'a> {
    dev: u64,
    fs_type: &'a str,
    source: &'a Path,
}

/// File systems in files that lie in each other: more than this is a circle.
const DEEPEST: usize = 4;

/// What is behind a file system, and what it has counted itself.
fn stack_of(
    lower: &FileSystem<'_>,
    asking: &Asking,
    depth: usize,
) -> Result<(DeviceStack, Vec<String>), DisksUnknown> {
    let mut troubles = Vec::new();
    let mut stack = if lower.fs_type == "btrfs" {
        // its own device numbers are those of its subvolumes
        let source = lower.source.canonicalize().unwrap_or_else(|_| lower.source.to_owned());
        let name = source.file_name().unwrap_or_default().to_string_lossy().into_owned();
        for (device, counts) in asking.devices.btrfs_errors(&name)? {
            for (what, count) in counts {
                let what = what.trim_end_matches("_errs");
                troubles
                    .push(format!("btrfs has counted {count} errors ({what}) on device {device}"));
            }
        }
        asking.devices.btrfs_stack(&name)?
    } else {
        asking.devices.behind(lower.dev)?
    };
    // a file system in a file lies on what holds the file
    for file in std::mem::take(&mut stack.files) {
        let mounts = kernel::mounts()?;
        let holder = kernel::mount_of(&file, &mounts)
            .filter(|mount| depth < DEEPEST && mount.dev != lower.dev)
            .ok_or(DisksUnknown::Holder)?;
        let holder =
            FileSystem { dev: holder.dev, fs_type: &holder.fs_type, source: &holder.source };
        let (more, counted) = stack_of(&holder, asking, depth + 1)?;
        stack.disks.extend(more.disks);
        stack.degraded.extend(more.degraded);
        stack.member_errors.extend(more.member_errors);
        troubles.extend(counted);
    }
    Ok((stack, troubles))
}

fn ask(name: &str, asking: &Asking) -> Drive {
    let facts = asking.devices.facts(name);
    // what the machine around this one makes up has no health of its own to tell
    let own = match &asking.smartctl {
        Some(program) if !facts.is_virtual => {
            let mut command = Command::new(program);
            command
                .args(["--json", "--all", "--nocheck=standby"])
                .arg(Path::new("/dev").join(name));
            command.stdin(Stdio::null()).stderr(Stdio::null()).env_clear();
            // its exit code says what it found, so that an answer counts whatever it is
            let said = output_within(command, PATIENCE, LONGEST_ANSWER);
            said.and_then(|said| smart::read(&said.text))
        }
        _ => None,
    };
    let (health, reasons) = judge(&facts, own.as_ref());
    Drive { name: name.to_owned(), kernel: facts, own, health, reasons }
}

/// A disk that has used so much of its life is worn, in percent.
const WORN: u64 = 90;

/// How a disk does, and why.
fn judge(facts: &DiskFacts, own: Option<&SmartFacts>) -> (Health, Vec<String>) {
    let mut health = Health::Unknown;
    let mut reasons = Vec::new();
    let mut found = |how: Health, reason: String| {
        health = health.max(how);
        reasons.push(reason);
    };
    if let Some(state) = &facts.state
        && !matches!(state.as_str(), "running" | "live")
    {
        found(Health::Failing, format!("the kernel calls it {state}"));
    }
    if let (Some(degrees), Some(critical)) = (facts.temperature, facts.critical_temperature)
        && degrees >= critical
    {
        found(Health::Worn, format!("at {degrees} °C it is too hot: {critical} °C is critical"));
    }
    let Some(own) = own else {
        if facts.is_virtual {
            reasons.push("its machine makes it up: it says nothing of itself".to_owned());
        } else if health == Health::Unknown {
            reasons.push(
                "it could not be asked: smartctl has to be installed, and asks as root".to_owned(),
            );
        }
        return (health, reasons);
    };
    if own.passed == Some(true) {
        found(Health::Good, "it says that it is well".to_owned());
    }
    if own.passed == Some(false) {
        found(Health::Failing, "it says itself that it is failing".to_owned());
    }
    if own.critical_warning > 0 {
        found(Health::Failing, format!("its controller warns (bits {:#x})", own.critical_warning));
    }
    if let Some(pending) = own.pending.filter(|pending| *pending > 0) {
        found(Health::Failing, format!("{pending} sectors cannot be read"));
    }
    if let Some(errors) = own.media_errors.filter(|errors| *errors > 0) {
        found(Health::Failing, format!("{errors} errors that it could not correct"));
    }
    if let Some((spare, least)) = own.spare.zip(own.spare_least)
        && spare <= least
    {
        found(Health::Failing, format!("{spare} % of its spare room is left"));
    }
    if let Some(moved) = own.reallocated.filter(|moved| *moved > 0) {
        found(Health::Worn, format!("{moved} sectors have been replaced"));
    }
    if let Some(wear) = own.wear.filter(|wear| *wear >= WORN) {
        found(Health::Worn, format!("{wear} % of its life is used"));
    }
    (health, reasons)
}

#[cfg(test)]
mod tests;
