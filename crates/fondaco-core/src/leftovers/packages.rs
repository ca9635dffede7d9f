//! Packages that may go. The package manager says which, and it is what removes them.

use std::collections::{HashMap, HashSet};
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::dpkg::{self, Dpkg, Installed, OnDisk};
use super::found::{Leftover, What};
use super::group::GroupName;
use crate::catalog::{Catalog, EntryId};
use crate::kernel::{self, AccessTimes, CallError, Mount, Op, output_within};
use crate::shown::DocPath;
use crate::units::{Bytes, Time};

/// Packages that the package manager is to remove together.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackageRemoval {
    /// What people know it by: its packages, the first of them by name.
    pub label: String,
    /// The packages, with `:architecture` where they need it.
    pub packages: Vec<String>,
    /// Everything that goes with them, each as `name=version`; empty as long as it has not been tried.
    pub removes: Vec<String>,
    /// Bytes on disk of their files.
    pub allocated: Bytes,
    /// How many files they have.
    pub entries: u64,
    /// The list of the files of the first of them: it is another file as soon as the package is another.
    pub list: PathBuf,
    /// Files that no package has and that go with them all the same, counted with theirs: what was made for a kernel when
    /// it was installed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub beside: Vec<DocPath>,
    /// What of it does not lie on the volume of `/usr`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub elsewhere: Vec<OnVolume>,
}

/// Bytes on disk that lie on one volume.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OnVolume {
    /// Where it is mounted.
    pub volume: DocPath,
    /// How many they are.
    pub allocated: Bytes,
}

/// Why a package manager did not say what it would do.
#[derive(Debug, thiserror::Error)]
pub enum ManagerError {
    /// There is none that Fondaco knows.
    #[error("there is no apt-get on this machine")]
    None,
    /// Whether there is one is not known.
    #[error("{}", .0.whole())]
    Call(#[from] CallError),
    /// It did not answer in time.
    #[error("apt-get did not answer in time")]
    NoAnswer,
    /// It refuses, in its words.
    #[error("apt-get refuses: {0}")]
    Refused(String),
}

/// How long apt-get may take to say what it would do.
const PATIENCE: Duration = Duration::from_secs(60);
const MOST: u64 = 16 << 20;
const APT: &str = "/usr/bin/apt-get";

/// apt-get(8), in a plain environment. `-s` never changes anything and asks for no rights.
fn apt(arguments: &[&str]) -> Result<String, ManagerError> {
    match kernel::stat_path(Path::new(APT)) {
        Ok(_) => {}
        Err(error) if error.kind() == ErrorKind::NotFound => return Err(ManagerError::None),
        Err(error) => return Err(CallError::on(Op::Examine, APT)(error).into()),
    }
    let mut command = Command::new(APT);
    command.args([
        "-s",
        "-y",
        "-o",
        "Debug::NoLocking=true",
        "-o",
        "APT::Get::Show-User-Simulation-Note=false",
    ]);
    command.args(arguments).stdin(Stdio::null()).stderr(Stdio::null());
    command.env_clear().env("LC_ALL", "C").env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
    command.env("DEBIAN_FRONTEND", "noninteractive");
    let said = output_within(command, PATIENCE, MOST).ok_or(ManagerError::NoAnswer)?;
    let text = String::from_utf8_lossy(&said.text).into_owned();
    match said.success {
        true => Ok(text),
        false => {
            let last =
                text.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or("without a word");
            Err(ManagerError::Refused(crate::shown::safe_text(last)))
        }
    }
}

/// What a simulation says would be removed, each as `name=version`, and whether it would do anything else.
fn removals(text: &str) -> (Vec<String>, Option<String>) {
    let mut removed = Vec::new();
    let mut other = None;
    for line in text.lines() {
        let mut words = line.split_whitespace();
        match (words.next(), words.next(), words.next()) {
            (Some("Remv" | "Purg"), Some(name), Some(version)) => {
                let version = version.trim_start_matches('[').trim_end_matches(']');
                removed.push(format!("{name}={version}"));
            }
            (Some("Inst"), Some(name), _) => {
                other = other.or_else(|| Some(format!("install {name}")));
            }
            _ => {}
        }
    }
    removed.sort();
    (removed, other)
}

/// What goes if these packages are removed, by a simulation.
///
/// # Errors
///
/// [`ManagerError`]; also if more than removals would be done.
pub fn simulate(packages: &[String]) -> Result<Vec<String>, ManagerError> {
    let mut arguments = vec!["remove", "--"];
    arguments.extend(packages.iter().map(String::as_str));
    let (removed, other) = removals(&apt(&arguments)?);
    match other {
        Some(other) => {
            Err(ManagerError::Refused(format!("it would also {}", crate::shown::safe_text(&other))))
        }
        None => Ok(removed),
    }
}

/// The packages of a machine.
pub(super) struct System<'a> {
    pub(super) dpkg: &'a Dpkg,
    pub(super) root: &'a Path,
    pub(super) mounts: &'a [Mount],
    pub(super) now: Time,
}

impl System<'_> {
    fn removal(&self, package: &Installed, name: String) -> Option<PackageRemoval> {
        let mut sizes = OnDisk::default();
        sizes.add_package(package, self.root).ok()?;
        let list = package.list(self.root);
        Some(PackageRemoval::of(vec![name], Vec::new(), sizes, list, self.mounts))
    }

    /// Packages that others needed and nothing needs any more.
    pub(super) fn unneeded(&self) -> (Vec<(GroupName, Leftover)>, Option<String>) {
        let said = match apt(&["autoremove"]) {
            Ok(said) => said,
            Err(ManagerError::None) => return (Vec::new(), None),
            Err(error) => return (Vec::new(), Some(error.to_string())),
        };
        let (names, _) = removals(&said);
        let found = names.iter().filter_map(|name| {
            let (name, version) = name.split_once('=')?;
            let removal = self.removal(self.dpkg.find(name)?, name.to_owned())?;
            let note =
                format!("version {}: no installed package needs it", crate::shown::shown(version));
            let since = list_written(&removal.list);
            Some((GroupName::Packages, leftover(removal, since, note.into())))
        });
        (found.collect(), None)
    }

    /// Large packages that were chosen by hand and of which no file has been read for long.
    pub(super) fn unread(&self) -> (Vec<(GroupName, Leftover)>, Option<String>) {
        const LARGE: u64 = 20 << 10;
        let usr = kernel::mount_of(Path::new("/usr"), self.mounts);
        let kept = usr.map(|mount| mount.access_times).unwrap_or_default();
        if kept == AccessTimes::Not {
            let why = "times of reading are not kept on the volume of /usr (noatime)".to_owned();
            return (Vec::new(), Some(why));
        }
        let automatic = automatic(self.root);
        let least = GroupName::UnreadPackages.group().least_age().secs() as i64;
        let mut found = Vec::new();
        for package in &self.dpkg.installed {
            let is_chosen = !automatic.contains(&package.name) && !package.is_needed;
            // what is read when the machine starts leaves no trace
            let not_read_by_name = ["linux-", "firmware-", "grub", "shim"];
            let is_special = not_read_by_name.iter().any(|head| package.name.starts_with(head))
                || package.name.ends_with("-microcode")
                || package.section.ends_with("kernel");
            if package.size < LARGE || !is_chosen || is_special {
                continue;
            }
            let Ok(files) = package.files(self.root) else { continue };
            let read = files.iter().filter_map(|path| kernel::stat_path(path).ok());
            let files = read.filter(|stat| stat.kind == kernel::Kind::File);
            let Some(last) = files.map(|stat| stat.atime.sec).max() else { continue };
            if self.now.sec.saturating_sub(last) < least {
                continue;
            }
            let Some(removal) = self.removal(package, package.name.clone()) else { continue };
            let how = match kept {
                AccessTimes::Relative => {
                    "as far as the volume keeps times of reading: once a day (relatime)"
                }
                _ => "by times of reading that the volume keeps exactly",
            };
            let note = format!("none of its files was read, {how}");
            found.push((GroupName::UnreadPackages, leftover(removal, Time::at(last), note.into())));
        }
        (found, None)
    }
}

pub(super) fn leftover(removal: PackageRemoval, since: Time, note: Arc<str>) -> Leftover {
    Leftover {
        allocated: removal.allocated,
        entries: removal.entries,
        what: What::Package(Box::new(removal)),
        since,
        note,
        stays: None,
    }
}

pub(super) fn list_written(list: &Path) -> Time {
    kernel::stat_path(list).map_or(Time::at(0), |stat| stat.mtime)
}

/// Packages that were installed because others needed them (`apt-mark(8)`).
fn automatic(root: &Path) -> HashSet<String> {
    let text = std::fs::read(root.join("var/lib/apt/extended_states")).unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    let is_automatic = |paragraph: &&str| paragraph.lines().any(|line| line == "Auto-Installed: 1");
    let name = |paragraph: &str| {
        paragraph.lines().find_map(|line| line.strip_prefix("Package: ")).map(str::to_owned)
    };
    text.split("\n\n").filter(is_automatic).filter_map(name).collect()
}

/// Sorts the package files in apt's archive by what is installed.
pub(super) fn archives(
    catalog: &Catalog,
    files: &[EntryId],
    dpkg: &Dpkg,
) -> Vec<(GroupName, Leftover)> {
    let mut found = Vec::new();
    for id in files {
        let Some((name, version, architecture)) = dpkg::of_archive(catalog.own_name(*id)) else {
            continue;
        };
        let installed = dpkg.find(&format!("{name}:{architecture}")).or_else(|| dpkg.find(&name));
        let (group, note) = match installed {
            Some(one) if one.version == version => {
                (GroupName::AptInstalled, "this version is installed".to_owned())
            }
            Some(one) => {
                (GroupName::AptOlder, format!("{} is installed", crate::shown::shown(&one.version)))
            }
            None => (GroupName::AptOthers, "no version of it is installed".to_owned()),
        };
        found.push((group, Leftover::entry(catalog, *id, note.into())));
    }
    found
}

impl PackageRemoval {
    fn of(
        packages: Vec<String>,
        beside: Vec<DocPath>,
        sizes: OnDisk,
        list: PathBuf,
        mounts: &[Mount],
    ) -> Self {
        let volume =
            |path: &Path| kernel::mount_of(path, mounts).map(|mount| mount.mount_point.clone());
        let main = volume(Path::new("/usr"));
        let mut elsewhere: Vec<OnVolume> = Vec::new();
        for (_, file, allocated) in sizes.by_device {
            let Some(other) = volume(&file).filter(|other| Some(other) != main.as_ref()) else {
                continue;
            };
            match elsewhere.iter_mut().find(|known| known.volume.0 == other) {
                Some(known) => known.allocated += allocated,
                None => elsewhere.push(OnVolume { volume: DocPath(other), allocated }),
            }
        }
        Self {
            label: label(&packages),
            packages,
            removes: Vec::new(),
            allocated: sizes.allocated,
            entries: sizes.entries,
            list,
            beside,
            elsewhere,
        }
    }
}

/// Several packages together, and what goes with them of files that no package has.
pub(super) fn together(
    dpkg: &Dpkg,
    root: &Path,
    names: &[String],
    beside: Vec<PathBuf>,
    mounts: &[Mount],
) -> Option<PackageRemoval> {
    let packages: Vec<&Installed> = names.iter().filter_map(|name| dpkg.find(name)).collect();
    let list = packages.first()?.list(root);
    let mut sizes = OnDisk::default();
    for package in &packages {
        sizes.add_package(package, root).ok()?;
    }
    beside.iter().for_each(|file| sizes.add(file.clone()));
    let beside = beside.into_iter().map(DocPath).collect();
    Some(PackageRemoval::of(names.to_vec(), beside, sizes, list, mounts))
}

/// What people know packages by.
fn label(names: &[String]) -> String {
    let shown =
        |names: &[String]| names.iter().map(crate::shown::shown).collect::<Vec<_>>().join(", ");
    match names {
        [one] => format!("package {}", crate::shown::shown(one)),
        few if few.len() <= 3 => format!("packages {}", shown(few)),
        many => format!("packages {} and {} more", shown(&many[..2]), many.len() - 2),
    }
}

/// Several removals as one.
pub fn as_one(removals: &[&PackageRemoval]) -> Option<PackageRemoval> {
    let mut whole = (*removals.first()?).clone();
    let mut known: HashMap<&String, ()> = whole.packages.iter().map(|name| (name, ())).collect();
    let mut packages = Vec::new();
    for other in &removals[1..] {
        packages
            .extend(other.packages.iter().filter(|name| known.insert(name, ()).is_none()).cloned());
    }
    drop(known);
    whole.packages.extend(packages);
    for other in &removals[1..] {
        whole.beside.extend(other.beside.iter().cloned());
        for there in &other.elsewhere {
            match whole.elsewhere.iter_mut().find(|known| known.volume == there.volume) {
                Some(known) => known.allocated += there.allocated,
                None => whole.elsewhere.push(there.clone()),
            }
        }
    }
    whole.label = label(&whole.packages);
    whole.allocated = removals.iter().map(|one| one.allocated).sum();
    whole.entries = removals.iter().map(|one| one.entries).sum();
    whole.removes.clear();
    Some(whole)
}

/// What the files of packages, each named as `name=version`, and these files besides take on disk; nothing if that is not
/// known.
pub fn sizes_of(removes: &[String], beside: &[DocPath]) -> Option<OnDisk> {
    let root = Path::new("/");
    let dpkg = Dpkg::of_system(root).ok()?;
    let mut sizes = OnDisk::default();
    for name in removes {
        let package = dpkg.find(name.split_once('=')?.0)?;
        sizes.add_package(package, root).ok()?;
    }
    beside.iter().for_each(|file| sizes.add(file.0.clone()));
    Some(sizes)
}

/// The packages that are installed, each as `name=version`, sorted.
///
/// # Errors
///
/// As `read(2)` of the status of dpkg.
pub fn installed() -> std::io::Result<Vec<String>> {
    let dpkg = Dpkg::of_system(Path::new("/"))?;
    let mut names: Vec<String> =
        dpkg.installed.iter().map(|one| format!("{}={}", one.name, one.version)).collect();
    names.sort();
    Ok(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_simulation_says_what_would_be_removed_and_whether_more_would_be_done() {
        let text = "NOTE: x\nRemv tide-tools [1:2.0-1]\nRemv libtide:i386 [3] [x:y ]\n";
        let (removed, other) = removals(text);
        assert_eq!(removed, ["libtide:i386=3", "tide-tools=1:2.0-1"]);
        assert_eq!(other, None);
        let (_, other) = removals("Remv a [1]\nInst b [1] (2 Debian:12 [amd64])\n");
        assert_eq!(other.as_deref(), Some("install b"));
    }
}
