//! Which installed package owns a file: by the lists of dpkg, or by asking rpm.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::kernel::output_within;

/// Who owns an entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ownership {
    /// Nothing is known: there is no database of packages that can be read here.
    Unknown,
    /// No package does.
    Nobody,
    /// This package does.
    Package {
        /// Its name.
        name: String,
        /// Who says so.
        source: &'static str,
    },
    /// It is a directory in which so many packages have files.
    Several {
        /// The first of them.
        names: Vec<String>,
        /// How many there are.
        count: usize,
        /// Who says so.
        source: &'static str,
    },
}

/// Databases of packages.
#[derive(Debug)]
pub struct Packages {
    /// Paths in order, each with the place of its package.
    files: Vec<(Box<[u8]>, u32)>,
    names: Vec<String>,
    /// Where lists were found.
    has_dpkg: bool,
    rpm: Option<PathBuf>,
}

/// Directories that are links into `/usr` on most systems; lists may have either.
const MERGED: [&str; 4] = ["bin", "lib", "lib64", "sbin"];

impl Packages {
    /// The databases of a system whose root is there: `/var/lib/dpkg/info/*.list` (`dpkg(1)`), and the program
    /// `rpm` where its database is.
    pub fn of_system(root: &Path) -> Self {
        let mut packages =
            Self { files: Vec::new(), names: Vec::new(), has_dpkg: false, rpm: None };
        packages.read_lists(&root.join("var/lib/dpkg/info"));
        let database = ["var/lib/rpm", "usr/lib/sysimage/rpm"].map(|place| root.join(place));
        let program = root.join("usr/bin/rpm");
        let holds_any =
            |place: &PathBuf| place.read_dir().is_ok_and(|mut found| found.next().is_some());
        packages.rpm = (program.exists() && database.iter().any(holds_any)).then_some(program);
        packages
    }

    fn read_lists(&mut self, directory: &Path) {
        let Ok(lists) = directory.read_dir() else { return };
        for list in lists.flatten() {
            let name = list.file_name();
            let Some(package) = name.as_bytes().strip_suffix(b".list") else { continue };
            let Ok(text) = std::fs::read(list.path()) else { continue };
            self.has_dpkg = true;
            let number = self.names.len() as u32;
            self.names.push(crate::shown::shown(OsStr::from_bytes(package)));
            let paths = text.split(|byte| *byte == b'\n');
            let paths = paths.filter(|path| path.len() > 1 && *path != b"/.");
            self.files.extend(paths.map(|path| (path.into(), number)));
        }
        self.files.sort_unstable();
    }

    /// Who owns an entry, or what is below it.
    pub fn owner(&self, path: &Path, is_directory: bool) -> Ownership {
        if !self.has_dpkg {
            return match &self.rpm {
                Some(program) => ask_rpm(program, path),
                None => Ownership::Unknown,
            };
        }
        let mut owners = BTreeSet::new();
        for path in spellings(path) {
            self.below(path.as_os_str().as_bytes(), is_directory, &mut owners);
        }
        let source = "dpkg";
        let name = |number: &u32| self.names[*number as usize].clone();
        match owners.len() {
            0 => Ownership::Nobody,
            1 => Ownership::Package { name: owners.iter().map(name).collect(), source },
            count => Ownership::Several {
                names: owners.iter().take(3).map(name).collect(),
                count,
                source,
            },
        }
    }

    /// Packages that have a file there: with a directory those that have one below it, and if that is none those
    /// that own it.
    fn below(&self, path: &[u8], is_directory: bool, owners: &mut BTreeSet<u32>) {
        let first = self.files.partition_point(|(file, _)| &**file < path);
        let itself = self.files[first..].iter().take_while(|(file, _)| &**file == path);
        let itself: Vec<u32> = itself.map(|(_, number)| *number).collect();
        if is_directory {
            let inside = [path, b"/"].concat();
            let first = self.files.partition_point(|(file, _)| **file < *inside);
            let below =
                self.files[first..].iter().take_while(|(file, _)| file.starts_with(&inside));
            owners.extend(below.map(|(_, number)| *number));
        }
        if owners.is_empty() {
            owners.extend(itself);
        }
    }
}

/// The path as it is, and as it was before its first directory was merged into `/usr`, or after.
fn spellings(path: &Path) -> Vec<PathBuf> {
    let mut all = vec![path.to_owned()];
    let text = path.as_os_str().as_bytes();
    for merged in MERGED {
        let (short, long) = (format!("/{merged}/"), format!("/usr/{merged}/"));
        if let Some(rest) = text.strip_prefix(long.as_bytes()) {
            all.push(Path::new(&short).join(OsStr::from_bytes(rest)));
        } else if let Some(rest) = text.strip_prefix(short.as_bytes()) {
            all.push(Path::new(&long).join(OsStr::from_bytes(rest)));
        }
    }
    all
}

/// Asks `rpm(8)`; of a directory only who owns it itself.
fn ask_rpm(program: &Path, path: &Path) -> Ownership {
    let mut command = Command::new(program);
    command.args(["-qf", "--qf", "%{NAME}\\n", "--"]).arg(path).env_clear().env("LC_ALL", "C");
    command.stdin(Stdio::null()).stderr(Stdio::null());
    let Some(output) = output_within(command, Duration::from_secs(3)) else {
        return Ownership::Unknown;
    };
    if !output.success {
        return Ownership::Nobody;
    }
    let text = String::from_utf8_lossy(&output.text).into_owned();
    let names: Vec<String> = text.lines().map(crate::shown::shown).collect();
    match &names[..] {
        [] => Ownership::Nobody,
        [name] => Ownership::Package { name: name.clone(), source: "rpm" },
        _ => {
            let count = names.len();
            Ownership::Several { names: names.into_iter().take(3).collect(), count, source: "rpm" }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_lists_of_dpkg_say_which_package_owns_a_file_or_what_is_below() {
        let root = tempfile::tempdir().unwrap();
        assert_eq!(
            Packages::of_system(root.path()).owner(Path::new("/x"), false),
            Ownership::Unknown
        );
        let info = root.path().join("var/lib/dpkg/info");
        std::fs::create_dir_all(&info).unwrap();
        let lists = [
            ("tide-tools:amd64.list", "/.\n/usr\n/usr/bin\n/usr/bin/tide\n/lib/tide.so\n"),
            ("buoy-tools.list", "/.\n/usr\n/usr/bin\n/usr/bin/buoy\n/var/lib/buoy\n"),
            ("buoy-tools.md5sums", "not a list"),
        ];
        for (name, text) in lists {
            std::fs::write(info.join(name), text).unwrap();
        }
        let packages = Packages::of_system(root.path());
        let one = |name: &str| Ownership::Package { name: name.to_owned(), source: "dpkg" };
        let owner = |path: &str, is_directory| packages.owner(Path::new(path), is_directory);
        assert_eq!(owner("/usr/bin/tide", false), one("tide-tools:amd64"));
        assert_eq!(owner("/usr/lib/tide.so", false), one("tide-tools:amd64"), "merged into /usr");
        assert_eq!(owner("/usr/bin/tid", false), Ownership::Nobody);
        assert_eq!(owner("/var/lib/buoy", true), one("buoy-tools"));
        assert_eq!(owner("/var/lib/buoy/data", false), Ownership::Nobody);
        let several = owner("/usr", true);
        assert!(matches!(several, Ownership::Several { count: 2, .. }), "{several:?}");
    }
}
