//! What dpkg(1) says is installed: `/var/lib/dpkg/status`, in the form of deb822(5).

use std::collections::HashMap;
use std::ffi::OsStr;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use crate::units::Bytes;

/// A package as it is installed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Installed {
    pub(super) name: String,
    pub(super) architecture: String,
    pub(super) version: String,
    /// As the package says, in KiB.
    pub(super) size: u64,
    /// The system does not work without it (`Essential`, `Protected`, priority `required` or `important`).
    pub(super) is_needed: bool,
    pub(super) section: String,
    /// Others can be of the same name for other architectures.
    is_multi_arch_same: bool,
}

impl Installed {
    /// The list of its files below `/var/lib/dpkg/info`.
    pub(super) fn list(&self, root: &Path) -> PathBuf {
        let info = root.join("var/lib/dpkg/info");
        match self.is_multi_arch_same {
            true => info.join(format!("{}:{}.list", self.name, self.architecture)),
            false => info.join(format!("{}.list", self.name)),
        }
    }

    /// Its files and directories.
    ///
    /// # Errors
    ///
    /// As `read(2)` of its list.
    pub(super) fn files(&self, root: &Path) -> io::Result<Vec<PathBuf>> {
        let text = std::fs::read(self.list(root))?;
        let lines = text.split(|byte| *byte == b'\n').filter(|line| line.len() > 2);
        Ok(lines.map(|line| root.join(OsStr::from_bytes(&line[1..]))).collect())
    }
}

/// All that is installed, by name. See the [module](self).
#[derive(Clone, Debug, Default)]
pub(super) struct Dpkg {
    pub(super) installed: Vec<Installed>,
    by_name: HashMap<String, Vec<usize>>,
}

impl Dpkg {
    /// Reads the status of the system below a root.
    ///
    /// # Errors
    ///
    /// As `read(2)`; [`io::ErrorKind::NotFound`] where there is no dpkg.
    pub(super) fn of_system(root: &Path) -> io::Result<Self> {
        let text = std::fs::read(root.join("var/lib/dpkg/status"))?;
        Ok(Self::parse(&String::from_utf8_lossy(&text)))
    }

    fn parse(text: &str) -> Self {
        let mut new = Self::default();
        for paragraph in text.split("\n\n") {
            let mut package = Installed::default();
            let mut is_installed = false;
            for line in paragraph.lines().filter(|line| !line.starts_with([' ', '\t'])) {
                let Some((field, value)) = line.split_once(':') else { continue };
                let value = value.trim();
                match field {
                    "Package" => value.clone_into(&mut package.name),
                    "Architecture" => value.clone_into(&mut package.architecture),
                    "Version" => value.clone_into(&mut package.version),
                    "Section" => value.clone_into(&mut package.section),
                    "Installed-Size" => package.size = value.parse().unwrap_or(0),
                    "Status" => is_installed = value.ends_with(" installed"),
                    "Multi-Arch" => package.is_multi_arch_same = value == "same",
                    "Essential" | "Protected" => package.is_needed |= value == "yes",
                    "Priority" => package.is_needed |= matches!(value, "required" | "important"),
                    _ => {}
                }
            }
            if is_installed && !package.name.is_empty() {
                let place = new.installed.len();
                new.by_name.entry(package.name.clone()).or_default().push(place);
                new.installed.push(package);
            }
        }
        new
    }

    /// The installed packages of a name, `name:architecture` too.
    pub(super) fn find(&self, name: &str) -> Option<&Installed> {
        let (name, architecture) = name.split_once(':').map_or((name, None), |(n, a)| (n, Some(a)));
        let mut of_name = self.by_name.get(name)?.iter().map(|place| &self.installed[*place]);
        of_name.find(|one| architecture.is_none_or(|wanted| one.architecture == wanted))
    }
}

/// What a file in apt's archive is of: package, version and architecture. Nothing if its name is not made like that.
pub(super) fn of_archive(name: &[u8]) -> Option<(String, String, String)> {
    let text = std::str::from_utf8(name).ok()?.strip_suffix(".deb")?;
    let mut parts = text.split('_');
    let (name, version, architecture) = (parts.next()?, parts.next()?, parts.next()?);
    let is_whole = parts.next().is_none() && !name.is_empty();
    // apt escapes what cannot stand in a name
    is_whole.then(|| (name.to_owned(), version.replace("%3a", ":"), architecture.to_owned()))
}

/// How much files take on disk. Directories stay as long as others are in them, and count nothing; a file with further
/// names counts.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OnDisk {
    /// Bytes on disk.
    pub allocated: Bytes,
    /// How many files they are.
    pub entries: u64,
    /// The bytes of each file system, by its device number, with one of its files.
    pub by_device: Vec<(u64, PathBuf, Bytes)>,
    inodes: std::collections::HashSet<(u64, u64)>,
}

impl OnDisk {
    /// Adds a file, if it is there.
    pub(super) fn add(&mut self, path: PathBuf) {
        let Ok(stat) = crate::kernel::stat_path(&path) else { return };
        if stat.kind == crate::kernel::Kind::Directory {
            return;
        }
        self.entries += 1;
        if !self.inodes.insert((stat.dev, stat.ino)) {
            return;
        }
        self.allocated += stat.allocated();
        match self.by_device.iter_mut().find(|(device, _, _)| *device == stat.dev) {
            Some((_, _, bytes)) => *bytes += stat.allocated(),
            None => self.by_device.push((stat.dev, path, stat.allocated())),
        }
    }

    /// Adds the files of a package.
    ///
    /// # Errors
    ///
    /// As `read(2)` of its list.
    pub(super) fn add_package(&mut self, package: &Installed, root: &Path) -> io::Result<()> {
        package.files(root)?.into_iter().for_each(|path| self.add(path));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const STATUS: &str = "Package: tide-tools\nStatus: install ok installed\nPriority: optional\n\
        Installed-Size: 12\nArchitecture: amd64\nMulti-Arch: same\nVersion: 1:2.0-1\nDescription: x\n Package: no\n\n\
        Package: gone\nStatus: deinstall ok config-files\nVersion: 1\n\n\
        Package: base\nEssential: yes\nStatus: install ok installed\nArchitecture: all\nVersion: 3\n";

    #[test]
    fn only_what_is_installed_is_told_and_archives_by_their_names() {
        let dpkg = Dpkg::parse(STATUS);
        assert_eq!(dpkg.installed.len(), 2);
        let tide = dpkg.find("tide-tools").unwrap();
        assert_eq!((tide.version.as_str(), tide.size, tide.is_needed), ("1:2.0-1", 12, false));
        assert!(tide.list(Path::new("/")).ends_with("tide-tools:amd64.list"));
        assert!(dpkg.find("tide-tools:amd64").is_some() && dpkg.find("tide-tools:i386").is_none());
        assert!(dpkg.find("gone").is_none() && dpkg.find("no").is_none());
        assert!(dpkg.find("base").unwrap().is_needed);
        let parts = |name: &str| of_archive(name.as_bytes());
        let tide = ("tide-tools".to_owned(), "1:2.0-1".to_owned(), "amd64".to_owned());
        assert_eq!(parts("tide-tools_1%3a2.0-1_amd64.deb"), Some(tide));
        assert_eq!(parts("tide.deb"), None);
        assert_eq!(parts("a_b_c_d.deb"), None);
    }
}
