//! Which installed package owns a file: by the lists of dpkg and the database of rpm.

use std::collections::BTreeSet;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::kernel::output_within;

/// What the package databases say about the owner of an entry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ownership {
    /// Nothing is known: there is no database of packages that can be read here.
    Unknown,
    /// No package does.
    Nobody,
    /// This package does.
    Package {
        /// Name of the package.
        name: String,
        /// The package database that says so.
        source: &'static str,
    },
    /// It is a directory in which so many packages have files.
    Several {
        /// The first of them.
        names: Vec<String>,
        /// How many there are.
        count: usize,
        /// The package database that says so.
        source: &'static str,
    },
}

/// Databases of packages.
#[derive(Debug, Default)]
pub struct Packages {
    /// Paths in order, each with the place of its package.
    files: Vec<(Box<[u8]>, u32)>,
    /// Names of packages, and who knows them.
    names: Vec<(String, &'static str)>,
    /// A database was read.
    has_any: bool,
    /// A database could not be read: a file without an owner may yet have one.
    has_unread: bool,
}

/// How long `rpm` may take to list all files, and how much it may say.
const RPM_PATIENCE: Duration = Duration::from_secs(60);
const RPM_MOST: u64 = 256 << 20;

/// Directories that are links into `/usr` on most systems; lists may have either.
const MERGED: [&str; 4] = ["bin", "lib", "lib64", "sbin"];

impl Packages {
    /// The databases of a system whose root is there: `/var/lib/dpkg/info/*.list` (`dpkg(1)`), and what its
    /// program `rpm(8)` lists where there is a database of it.
    pub fn of_system(root: &Path) -> Self {
        let mut packages = Self::default();
        packages.read_lists(&root.join("var/lib/dpkg/info"));
        let database = ["var/lib/rpm", "usr/lib/sysimage/rpm"].map(|place| root.join(place));
        let program = root.join("usr/bin/rpm");
        let holds_any =
            |place: &PathBuf| place.read_dir().is_ok_and(|mut found| found.next().is_some());
        if let Some(database) = database.iter().find(|place| holds_any(place)) {
            packages.ask_rpm(&program, database);
        }
        packages.files.sort_unstable();
        packages
    }

    fn read_lists(&mut self, directory: &Path) {
        let Ok(lists) = directory.read_dir() else { return };
        for list in lists.flatten() {
            let name = list.file_name();
            let Some(package) = name.as_bytes().strip_suffix(b".list") else { continue };
            let Ok(text) = std::fs::read(list.path()) else {
                self.has_unread = true;
                continue;
            };
            self.has_any = true;
            let number = self.names.len() as u32;
            self.names.push((crate::shown::shown(OsStr::from_bytes(package)), "dpkg"));
            let paths = text.split(|byte| *byte == b'\n');
            let paths = paths.filter(|path| path.len() > 1 && *path != b"/.");
            self.files.extend(paths.map(|path| (path.into(), number)));
        }
    }

    /// Has `rpm` list the files of all packages, a line each: the package and the path, package by package.
    fn ask_rpm(&mut self, program: &Path, database: &Path) {
        let mut command = Command::new(program);
        command.arg("--dbpath").arg(database).args(["-qa", "--qf", "[%{=NAME}\\t%{FILENAMES}\\n]"]);
        command.env_clear().env("LC_ALL", "C").stdin(Stdio::null()).stderr(Stdio::null());
        let said = output_within(command, RPM_PATIENCE, RPM_MOST);
        let Some(output) = said.filter(|output| output.success) else {
            self.has_unread = true;
            return;
        };
        self.has_any = true;
        let mut last: &[u8] = &[];
        for line in output.text.split(|byte| *byte == b'\n') {
            let Some(tab) = line.iter().position(|byte| *byte == b'\t') else { continue };
            let (package, path) = (&line[..tab], &line[tab + 1..]);
            if package != last || self.names.is_empty() {
                last = package;
                self.names.push((crate::shown::shown(OsStr::from_bytes(package)), "rpm"));
            }
            self.files.push((path.into(), self.names.len() as u32 - 1));
        }
    }

    /// The package that owns an entry, or the packages that own something below it.
    pub fn owner(&self, path: &Path, is_directory: bool) -> Ownership {
        if !self.has_any {
            return Ownership::Unknown;
        }
        let mut owners = BTreeSet::new();
        for path in spellings(path) {
            self.below(path.as_os_str().as_bytes(), is_directory, &mut owners);
        }
        let mut names = owners.iter().map(|number| &self.names[*number as usize]);
        let count = owners.len();
        match names.next() {
            None if self.has_unread => Ownership::Unknown,
            None => Ownership::Nobody,
            Some((name, source)) if count == 1 => Ownership::Package { name: name.clone(), source },
            Some((name, source)) => {
                let others = names.take(2).map(|(name, _)| name.clone());
                let names = std::iter::once(name.clone()).chain(others).collect();
                Ownership::Several { names, count, source }
            }
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
        // a list that cannot be read may name what the others do not
        std::fs::create_dir(info.join("reef-tools.list")).unwrap();
        let packages = Packages::of_system(root.path());
        assert_eq!(packages.owner(Path::new("/usr/bin/tid"), false), Ownership::Unknown);
        assert_eq!(packages.owner(Path::new("/usr/bin/tide"), false), one("tide-tools:amd64"));
    }

    #[test]
    fn a_database_of_rpm_says_it_too_and_a_damaged_one_leaves_it_unknown() {
        let root = tempfile::tempdir().unwrap();
        let (tools, database) = (root.path().join("usr/bin"), root.path().join("var/lib/rpm"));
        std::fs::create_dir_all(&tools).unwrap();
        std::fs::create_dir_all(&database).unwrap();
        if !Path::new("/usr/bin/rpmbuild").exists() {
            eprintln!("SKIPPED: there is no rpmbuild to make a package with");
            return;
        }
        std::os::unix::fs::symlink("/usr/bin/rpm", tools.join("rpm")).unwrap();
        let spec = "Name: tide-tools\nVersion: 1\nRelease: 1\nSummary: Tides\nLicense: none\n\
                    BuildArch: noarch\n%description\nTides.\n%install\n\
                    mkdir -p %{buildroot}/srv/tide/bin %{buildroot}/etc\n\
                    echo 1 > %{buildroot}/srv/tide/bin/tide\necho 2 > %{buildroot}/etc/tide\n\
                    %files\n/srv/tide\n/etc/tide\n";
        std::fs::write(root.path().join("tide.spec"), spec).unwrap();
        let run = |program: &str, arguments: &[&str]| {
            let home = root.path().join("home");
            let output = Command::new(program)
                .args(arguments)
                .current_dir(root.path())
                .env("HOME", &home)
                .output()
                .unwrap();
            assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        };
        let top = format!("_topdir {}", root.path().join("build").display());
        run("rpmbuild", &["-bb", "--quiet", "--define", &top, "tide.spec"]);
        let place = database.to_str().unwrap();
        let package = "build/RPMS/noarch/tide-tools-1-1.noarch.rpm";
        run("rpm", &["--dbpath", place, "-i", "--justdb", "--nodeps", package]);
        let packages = Packages::of_system(root.path());
        let owner = |path: &str, is_directory| packages.owner(Path::new(path), is_directory);
        let tide = Ownership::Package { name: "tide-tools".to_owned(), source: "rpm" };
        assert_eq!(owner("/srv/tide/bin/tide", false), tide);
        assert_eq!(owner("/srv", true), tide);
        assert_eq!(owner("/srv/tide/bin/tides", false), Ownership::Nobody);
        for file in database.read_dir().unwrap() {
            std::fs::write(file.unwrap().path(), "damaged").unwrap();
        }
        let packages = Packages::of_system(root.path());
        assert_eq!(packages.owner(Path::new("/etc/tide"), false), Ownership::Unknown);
    }
}
