//! Where an attack takes place: a file system of its own, a tree in it, the program, and the count of what was lost.

use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use serde_json::Value;

use super::common::{FONDACO, Ran, is_root};

/// The user that attacks where root does not.
pub const OTHER: u32 = 60_101;

/// Makes the calling thread, and no other, act as a user.
pub fn become_user(user: u32) {
    if user != 0 {
        let (uid, gid) = (rustix::fs::Uid::from_raw(user), rustix::fs::Gid::from_raw(user));
        rustix::thread::set_thread_res_gid(gid, gid, gid).unwrap();
        rustix::thread::set_thread_res_uid(uid, uid, uid).unwrap();
    }
}

/// What an attack came to.
#[derive(Debug, Default)]
pub struct Tally {
    /// How often an attacker did what it is to do.
    pub tries: u64,
    /// Actions of all rounds, and those that were done all the same.
    pub actions: usize,
    pub done: usize,
    pub losses: Vec<String>,
}

impl Tally {
    pub fn lost(&mut self, is_lost: bool, what: impl FnOnce() -> String) {
        if is_lost {
            self.losses.push(what());
        }
    }
}

/// Lets an attack go on for its time on each file system, and fails if anything was lost.
#[allow(clippy::explicit_write)] // the test runner keeps `eprintln` to itself
pub fn on_each_file_system(name: &str, mut round: impl FnMut(&mut Field, &mut Tally)) {
    if !is_root() {
        writeln!(std::io::stderr(), "SKIPPED: needs root: {name}").unwrap();
        return;
    }
    let seconds = std::env::var("ATTACK_SECONDS").ok().and_then(|text| text.parse().ok());
    let time = Duration::from_secs_f64(seconds.unwrap_or(1.0));
    for fs_type in ["ext4", "xfs", "btrfs", "tmpfs"] {
        let mut tally = Tally::default();
        let begun = Instant::now();
        let mut rounds = 0;
        // on a busy machine a whole round may pass before the attacker's thread has its turn
        let missed = |tally: &Tally| tally.tries == 0 || tally.done == 0;
        while rounds < 3 || begun.elapsed() < time || missed(&tally) && rounds < 80 {
            let deed = [Deed::Delete, Deed::Archive, Deed::SetAside, Deed::Move][rounds % 4];
            let mut field = Field::new(fs_type, deed);
            round(&mut field, &mut tally);
            rounds += 1;
        }
        let lost = tally.losses.len();
        let tries = tally.tries;
        let (done, actions) = (tally.done, tally.actions);
        let line = format!(
            "attack: {name} on {fs_type}: {rounds} rounds, {tries} tries, {done} of {actions} actions done, \
             {lost} lost\n"
        );
        if seconds.is_some() {
            std::io::stderr().write_all(line.as_bytes()).unwrap();
        }
        // neither may all have come too late, nor all have been refused at once
        assert!(tries > 0 && done > 0, "{line}: the attack missed");
        assert_eq!(tally.losses, [] as [String; 0], "{line}");
    }
}

/// What the plan of a round does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Deed {
    Delete,
    SetAside,
    Archive,
    /// To another file system.
    Move,
}

/// A mounted file system with a tree, a depot and a state directory.
pub struct Field {
    directory: tempfile::TempDir,
    pub root: PathBuf,
    home: PathBuf,
    /// On another file system.
    elsewhere: tempfile::TempDir,
    deed: Deed,
}

/// The numbers of targets, each once, in another order each time: the first as soon as the run has taken the first
/// target, the others at about the pace at which it takes them. Before that, whatever is done is only seen by its first
/// look.
pub fn one_by_one(targets: &[PathBuf], stop: &AtomicBool) -> impl Iterator<Item = usize> {
    while !stop.load(Relaxed) && targets[0].symlink_metadata().is_ok() {
        std::hint::spin_loop();
    }
    shuffled(targets.len()).into_iter().inspect(|n| pause(40 + (*n as u64 * 37) % 160))
}

/// Lets so many microseconds pass, more exactly than sleeping does.
pub fn pause(microseconds: u64) {
    let until = Instant::now() + Duration::from_micros(microseconds);
    while Instant::now() < until {
        std::hint::spin_loop();
    }
}

fn shuffled(count: usize) -> Vec<usize> {
    static SEED: AtomicU64 = AtomicU64::new(7);
    let mut order: Vec<usize> = (0..count).collect();
    for at in (1..count).rev() {
        let seed = SEED.fetch_add(0x9E37_79B9_7F4A_7C15, Relaxed);
        let mixed = (seed ^ (seed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) >> 33;
        order.swap(at, mixed as usize % (at + 1));
    }
    order
}

/// What a run said it did.
pub struct Run {
    document: Value,
}

impl Run {
    fn action(&self, path: &Path) -> &Value {
        let actions = self.document["actions"].as_array().unwrap();
        actions
            .iter()
            .find(|action| action["path"] == path.to_str().unwrap())
            .unwrap_or(&Value::Null)
    }

    /// State and message of the action on a path.
    pub fn told(&self, path: &Path) -> String {
        let action = self.action(path);
        format!("{}: {}", self.state_of(path), action["message"].as_str().unwrap_or(""))
    }

    pub fn state_of(&self, path: &Path) -> String {
        self.action(path)["state"].as_str().unwrap_or("not planned").to_owned()
    }

    /// All states with their messages.
    pub fn states(&self) -> Vec<String> {
        let actions = self.document["actions"].as_array().unwrap();
        let text = |value: &Value| value.as_str().unwrap_or("").to_owned();
        actions.iter().map(|a| format!("{}: {}", text(&a["state"]), text(&a["message"]))).collect()
    }
}

impl Field {
    fn new(fs_type: &str, deed: Deed) -> Self {
        let directory = tempfile::tempdir().unwrap();
        std::fs::set_permissions(directory.path(), PermissionsExt::from_mode(0o755)).unwrap();
        let at = directory.path().canonicalize().unwrap();
        let mount = at.join("mnt");
        std::fs::create_dir(&mount).unwrap();
        let run = |program: &str, arguments: &[&str]| {
            let output = Command::new(program).args(arguments).output().unwrap();
            let words = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(output.status.success(), "{program} {arguments:?}: {words}");
        };
        let mount_text = mount.to_str().unwrap();
        if fs_type == "tmpfs" {
            run("mount", &["-t", "tmpfs", "-o", "size=64m", "tmpfs", mount_text]);
        } else {
            let image = at.join("image");
            let size = if fs_type == "xfs" { 320 << 20 } else { 128 << 20 };
            std::fs::File::create(&image).unwrap().set_len(size).unwrap();
            let force = if fs_type == "ext4" { "-Fq" } else { "-fq" };
            run(&format!("mkfs.{fs_type}"), &[force, image.to_str().unwrap()]);
            run("mount", &["-o", "loop", image.to_str().unwrap(), mount_text]);
        }
        std::fs::set_permissions(&mount, PermissionsExt::from_mode(0o755)).unwrap();
        let root = mount.join("seamark");
        std::fs::create_dir(&root).unwrap();
        let memory = Path::new("/dev/shm");
        let elsewhere = tempfile::tempdir_in(if memory.is_dir() { memory } else { &at }).unwrap();
        let field = Self { directory, root, home: mount, elsewhere, deed };
        field.owned_by_other(&field.root);
        field
    }

    pub fn owned_by_other(&self, path: &Path) {
        chown(path, Some(OTHER), Some(OTHER)).unwrap();
    }

    /// A directory of the attacker's beside the tree.
    pub fn nest(&self) -> PathBuf {
        let nest = self.root.join("nest");
        let made = std::fs::DirBuilder::new().mode(0o777).create(&nest);
        assert!(made.is_ok() || nest.is_dir());
        self.owned_by_other(&nest);
        nest
    }

    /// Files named by two digits in a directory of the tree, all of them the attacker's.
    pub fn files(&self, directory: &str, count: usize, size: usize) -> Vec<PathBuf> {
        let mut at = self.root.clone();
        for part in Path::new(directory) {
            at.push(part);
            if !at.is_dir() {
                std::fs::create_dir(&at).unwrap();
                self.owned_by_other(&at);
            }
        }
        (0..count)
            .map(|n| {
                let path = at.join(format!("{n:02}"));
                let mut contents = vec![b'a' + (n % 26) as u8; size + n];
                contents.push(b'\n');
                std::fs::write(&path, contents).unwrap();
                self.owned_by_other(&path);
                path
            })
            .collect()
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        let state = self.home.join("state");
        Ran(Command::new(FONDACO).arg("--state").arg(state).args(arguments).output().unwrap())
    }

    /// Plans this round's deed for all of them.
    pub fn plan(&self, targets: &[PathBuf]) -> PathBuf {
        let plan = self.home.join("plan.json");
        let depot = self.home.join("depot");
        let word = match self.deed {
            Deed::Delete => "--delete",
            Deed::SetAside => "--set-aside",
            Deed::Archive => "--archive",
            Deed::Move => "--move",
        };
        let mut arguments =
            vec!["plan", "-o", plan.to_str().unwrap(), "--depot", depot.to_str().unwrap()];
        let elsewhere = self.elsewhere.path().join("moved");
        if self.deed == Deed::Move {
            arguments.extend(["--to", elsewhere.to_str().unwrap()]);
        }
        targets.iter().for_each(|target| arguments.extend([word, target.to_str().unwrap()]));
        self.fondaco(&arguments).ok();
        plan
    }

    /// Carries a plan out while so many attackers are at work, each in a thread of its own.
    pub fn attacked(
        &self,
        tally: &mut Tally,
        plan: &Path,
        attackers: usize,
        attacker: &(dyn Fn(&AtomicBool) + Sync),
    ) -> Run {
        let stop = AtomicBool::new(false);
        let ran = std::thread::scope(|scope| {
            for _ in 0..attackers {
                scope.spawn(|| attacker(&stop));
            }
            std::thread::sleep(Duration::from_millis(2));
            let ran = self.fondaco(&["carry-out", plan.to_str().unwrap(), "--json"]);
            stop.store(true, Relaxed);
            ran
        });
        assert!([0, 1, 3].contains(&ran.code()), "{} {}", ran.out(), ran.err());
        let run = Run { document: ran.json() };
        let actions = run.document["actions"].as_array().unwrap();
        let is_done = |action: &&Value| {
            ["deleted", "archived", "set aside", "moved"]
                .map(Value::from)
                .contains(&action["state"])
        };
        tally.actions += actions.len();
        tally.done += actions.iter().filter(is_done).count();
        run
    }

    /// What lies under a path now, or is held or archived of it.
    pub fn contents(&self, run: &Run, path: &Path) -> Vec<Vec<u8>> {
        let action = run.action(path);
        let held = action["held"].as_str().or(action["moved"].as_str()).map(PathBuf::from);
        let mut found: Vec<Vec<u8>> =
            held.iter().chain([&path.to_owned()]).filter_map(|p| std::fs::read(p).ok()).collect();
        if let Some(archive) = action["archive"].as_str() {
            let name = path.strip_prefix("/").unwrap().to_str().unwrap();
            let out = Command::new("tar").args(["--zstd", "-xOf", archive, name]).output().unwrap();
            found.push(out.stdout);
        }
        found
    }

    /// The contents of all files that are anywhere: in the tree, in the holding area, in archives, moved.
    pub fn everything(&self, _: &Run) -> Contents {
        let mut all = Vec::new();
        let mut open = vec![self.home.clone(), self.elsewhere.path().to_owned()];
        while let Some(path) = open.pop() {
            let Ok(meta) = path.symlink_metadata() else { continue };
            if meta.is_dir() {
                open.extend(std::fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
            } else if path.to_str().is_some_and(|name| name.ends_with(".tar.zst")) {
                let out =
                    Command::new("tar").arg("--zstd").arg("-xOf").arg(&path).output().unwrap();
                all.push(out.stdout);
            } else if meta.is_file() && meta.size() < 1 << 20 {
                all.push(std::fs::read(&path).unwrap());
            }
        }
        Contents(all)
    }

    /// Puts everything back that can be, and makes sure that the program does not say otherwise afterwards.
    pub fn put_back(&self) {
        let ran = self.fondaco(&["put-back", "1"]);
        assert!([0, 1, 3].contains(&ran.code()), "{} {}", ran.out(), ran.err());
    }
}

impl Drop for Field {
    fn drop(&mut self) {
        let mount = self.directory.path().join("mnt");
        let _ = Command::new("umount").arg("-R").arg(mount).status();
    }
}

/// The contents of many files.
pub struct Contents(Vec<Vec<u8>>);

impl Contents {
    /// Whether one of them begins with, or consists of, this.
    pub fn contains(&self, text: &[u8]) -> bool {
        let holds = |contents: &Vec<u8>| contents.windows(text.len()).any(|window| window == text);
        self.0.iter().any(holds)
    }
}
