//! Real file systems for tests, in image files.

use std::ffi::OsStr;
use std::io::Write;
use std::path::PathBuf;
use std::process::Command;

/// Says loudly that something was not tested; not by `eprintln`, which the test runner keeps to itself.
#[allow(clippy::explicit_write)]
pub fn skipped(what: &str) {
    writeln!(std::io::stderr(), "SKIPPED: {what}").unwrap();
}

/// Whether what needs root can be tested; says so loudly if not.
pub fn is_root(what: &str) -> bool {
    let root = rustix::process::geteuid().is_root();
    if !root {
        skipped(&format!("needs root: {what}"));
    }
    root
}

/// Runs a command that must succeed; gives its output.
pub fn run(program: &str, arguments: &[&OsStr]) -> String {
    let output = Command::new(program).args(arguments).output().unwrap();
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{program} {arguments:?}: {words}");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// A file system of its own in an image file, mounted until dropped.
pub struct Mounted {
    directory: tempfile::TempDir,
}

impl Mounted {
    /// `None`, said loudly, where that cannot be done: no root, no such file system.
    pub fn new(fs_type: &str, mebibytes: u64) -> Option<Self> {
        Self::new_with(fs_type, mebibytes, &[])
    }

    /// As [`Mounted::new`], with options for the program that makes it; those with nothing to them are
    /// left out with the one before.
    pub fn new_with(fs_type: &str, mebibytes: u64, options: &[&str]) -> Option<Self> {
        if !is_root(&format!("a mounted {fs_type}")) {
            return None;
        }
        let mounted = Self { directory: tempfile::tempdir().unwrap() };
        let (image, at) = (mounted.directory.path().join("image"), mounted.path());
        std::fs::create_dir(&at).unwrap();
        let o = OsStr::new;
        if fs_type == "tmpfs" {
            let size = format!("size={mebibytes}m");
            run("mount", &[o("-t"), o("tmpfs"), o("-o"), o(&size), o("tmpfs"), at.as_os_str()]);
            return Some(mounted);
        }
        std::fs::File::create(&image).unwrap().set_len(mebibytes << 20).unwrap();
        let make = format!("mkfs.{fs_type}");
        let mut arguments = vec![o(if fs_type == "ext4" { "-Fq" } else { "-fq" })];
        if options.last().is_some_and(|last| !last.is_empty()) {
            arguments.extend(options.iter().map(|option| o(option)));
        }
        arguments.push(image.as_os_str());
        run(&make, &arguments);
        run("mount", &[o("-o"), o("loop"), image.as_os_str(), at.as_os_str()]);
        Some(mounted)
    }

    pub fn path(&self) -> PathBuf {
        self.directory.path().canonicalize().unwrap().join("mnt")
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        // a test may have unmounted it already
        let quiet = std::process::Stdio::null;
        let _ = Command::new("umount").arg("-R").arg(self.path()).stderr(quiet()).status();
    }
}
