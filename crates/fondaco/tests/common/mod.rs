//! Driving the program from outside: commands, the screen, and pictures of trees.
#![allow(dead_code, missing_docs, clippy::unwrap_used)] // every test file uses its own part

pub mod disturbed;
#[path = "../../../fondaco-core/tests/common/mounted.rs"]
pub mod mounted;
pub mod servers;

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::{Duration, Instant};

use serde_json::Value;

pub const FONDACO: &str = env!("CARGO_BIN_EXE_fondaco");

/// A demo laid out in a directory of its own.
pub struct Demo {
    _directory: tempfile::TempDir,
    pub at: PathBuf,
}

impl Demo {
    /// The demo without its kept scans: what is saved in a test is then the first.
    pub fn new() -> Self {
        let demo = Self::with_kept_scans();
        std::fs::remove_dir_all(demo.at.join("state/scans")).unwrap();
        demo
    }

    pub fn with_kept_scans() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let at = directory.path().canonicalize().unwrap().join("demo");
        let demo = Self { _directory: directory, at };
        demo.fondaco(&["demo", "--lay-out", "--at", demo.at.to_str().unwrap()]).ok();
        demo
    }

    pub fn root(&self) -> PathBuf {
        self.at.join("seamark")
    }

    pub fn path(&self, below: &str) -> String {
        self.root().join(below).to_str().unwrap().to_owned()
    }

    /// Runs a command on the demo's own state directory.
    pub fn fondaco(&self, arguments: &[&str]) -> Ran {
        let state = self.at.join("state");
        let mut command = Command::new(FONDACO);
        if arguments[0] != "demo" {
            command.env("FONDACO_STATE", state);
        }
        Ran(command.args(arguments).current_dir("/").output().unwrap())
    }

    /// Share of the simulated volume in use, 0 to 1.
    pub fn level(&self) -> f64 {
        let used: u64 = picture(&self.root()).values().map(|seen| seen.blocks * 512).sum();
        used as f64 / f64::from(284 << 20)
    }
}

/// What a command came to.
#[derive(Debug)]
pub struct Ran(pub Output);

impl Ran {
    pub fn code(&self) -> i32 {
        self.0.status.code().unwrap_or(-1)
    }

    pub fn out(&self) -> String {
        String::from_utf8_lossy(&self.0.stdout).into_owned()
    }

    pub fn err(&self) -> String {
        String::from_utf8_lossy(&self.0.stderr).into_owned()
    }

    pub fn ok(self) -> Self {
        assert_eq!(self.code(), 0, "{}\n{}", self.out(), self.err());
        self
    }

    /// All done but for places that could not be read.
    pub fn with_unreadable(self) -> Self {
        assert_eq!(self.code(), 4, "{}\n{}", self.out(), self.err());
        self
    }

    pub fn json(&self) -> Value {
        serde_json::from_slice(&self.0.stdout).unwrap_or_else(|e| panic!("{e}: {}", self.out()))
    }
}

/// Everything about a name that must be the same after put back.
#[derive(Clone, Debug, PartialEq)]
pub struct Seen {
    pub what: String,
    pub blocks: u64,
}

/// A tree by its names: kind, mode, owners, times to the nanosecond, contents. Blocks are counted
/// with the first name of an inode.
pub fn picture(root: &Path) -> BTreeMap<PathBuf, Seen> {
    try_picture(root).unwrap()
}

/// Whether a tree that is being changed is again as it was; what goes while it is looked at makes it not so.
pub fn is_again(before: &BTreeMap<PathBuf, Seen>, root: &Path) -> bool {
    try_picture(root).is_ok_and(|now| differences(before, &now, &[]).is_empty())
}

fn try_picture(root: &Path) -> std::io::Result<BTreeMap<PathBuf, Seen>> {
    let mut picture = BTreeMap::new();
    let mut inodes = BTreeMap::new();
    let mut open = vec![root.to_owned()];
    while let Some(path) = open.pop() {
        let meta = path.symlink_metadata()?;
        let kind = meta.file_type();
        let contents = if kind.is_dir() {
            let names = std::fs::read_dir(&path)?.map(|entry| Ok(entry?.path()));
            let mut names = names.collect::<std::io::Result<Vec<_>>>()?;
            names.sort();
            open.extend(names.into_iter().rev());
            String::new()
        } else if kind.is_symlink() {
            format!("{:?}", std::fs::read_link(&path)?)
        } else {
            format!("{} {}", blake3::hash(&std::fs::read(&path)?), meta.nlink())
        };
        let size = if kind.is_dir() { 0 } else { meta.size() };
        let what = format!(
            "{:o} {}:{} {size} {}.{:09} {contents}",
            meta.mode(),
            meta.uid(),
            meta.gid(),
            meta.mtime(),
            meta.mtime_nsec()
        );
        let first = inodes.insert(meta.ino(), ()).is_none();
        picture.insert(path, Seen { what, blocks: if first { meta.blocks() } else { 0 } });
    }
    Ok(picture)
}

/// What two pictures do not have in common, but for names below some places.
pub fn differences(
    before: &BTreeMap<PathBuf, Seen>,
    after: &BTreeMap<PathBuf, Seen>,
    except: &[PathBuf],
) -> Vec<PathBuf> {
    let excepted = |path: &&PathBuf| except.iter().any(|place| path.starts_with(place));
    let names = before.keys().chain(after.keys()).filter(|path| !excepted(path));
    let mut different: Vec<PathBuf> = names
        .filter(|path| before.get(*path).map(|s| &s.what) != after.get(*path).map(|s| &s.what))
        .cloned()
        .collect();
    different.dedup();
    different
}

/// A terminal in a tmux server of its own.
pub struct Terminal {
    socket: String,
}

impl Terminal {
    /// Runs a shell command in a terminal of that size.
    pub fn run(columns: u16, rows: u16, command: &str) -> Self {
        use std::sync::atomic::{AtomicU32, Ordering};
        static COUNT: AtomicU32 = AtomicU32::new(0);
        let number = COUNT.fetch_add(1, Ordering::Relaxed);
        let terminal = Self { socket: format!("fondaco-test-{}-{number}", std::process::id()) };
        let (columns, rows) = (columns.to_string(), rows.to_string());
        // what the command leaves on the screen must stay to be seen
        let command = format!("{command}; echo ENDED $?; sleep 600");
        let arguments =
            ["-f", "/dev/null", "new-session", "-d", "-x", &columns, "-y", &rows, &command];
        terminal.tmux(&arguments);
        terminal
    }

    /// The application on a demo.
    pub fn on_demo(demo: &Demo, columns: u16, rows: u16) -> Self {
        let at = demo.at.display();
        let command = format!("LANG=C.UTF-8 {FONDACO} demo --at {at}");
        let terminal = Self::run(columns, rows, &command);
        terminal.shows(&["level", "waterline", "mounted at"]);
        terminal
    }

    fn tmux(&self, arguments: &[&str]) -> String {
        let output =
            Command::new("tmux").arg("-L").arg(&self.socket).args(arguments).output().unwrap();
        let words = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(output.status.success(), "tmux {arguments:?}: {words}");
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Types keys, as tmux names them.
    pub fn keys(&self, keys: &[&str]) -> &Self {
        let mut arguments = vec!["send-keys"];
        arguments.extend(keys);
        self.tmux(&arguments);
        self
    }

    /// Types text as it is.
    pub fn type_text(&self, text: &str) -> &Self {
        self.tmux(&["send-keys", "-l", text]);
        self
    }

    pub fn resize(&self, columns: u16, rows: u16) -> &Self {
        let (columns, rows) = (columns.to_string(), rows.to_string());
        self.tmux(&["resize-window", "-x", &columns, "-y", &rows]);
        self
    }

    /// Lets programs set the clipboard (OSC 52), which tmux keeps as its newest buffer.
    pub fn set_clipboard(&self) {
        self.tmux(&["set-option", "-s", "set-clipboard", "on"]);
    }

    /// What was set last.
    pub fn clipboard(&self) -> String {
        self.tmux(&["show-buffer"])
    }

    pub fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p"])
    }

    /// Waits until the screen is as wanted, and gives it.
    pub fn wait(&self, what: &str, wanted: impl Fn(&str) -> bool) -> String {
        let begun = Instant::now();
        loop {
            let screen = self.screen();
            if wanted(&screen) {
                return screen;
            }
            assert!(begun.elapsed() < Duration::from_secs(60), "waited for {what}:\n{screen}");
            std::thread::sleep(Duration::from_millis(15));
        }
    }

    /// Waits until the screen shows all these texts.
    pub fn shows(&self, texts: &[&str]) -> String {
        self.wait(&format!("{texts:?}"), |screen| texts.iter().all(|text| screen.contains(text)))
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = Command::new("tmux").arg("-L").arg(&self.socket).arg("kill-server").output();
    }
}

/// A number as people read it.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let groups: Vec<_> = digits.as_bytes().rchunks(3).rev().map(String::from_utf8_lossy).collect();
    groups.join(" ")
}

pub fn is_root() -> bool {
    std::fs::metadata("/proc/self").unwrap().uid() == 0
}

pub fn os(text: &str) -> &OsStr {
    OsStr::new(text)
}
