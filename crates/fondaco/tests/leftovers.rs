//! Leftovers on a whole Debian system: planted things are found, what only looks like them is not, and packages go through
//! the package manager.
//!
//! The system is this one below an overlay, entered with chroot(8), so that nothing outside of it is changed. With
//! `LEFTOVERS_TREE=DIR` it is a tree of its own, such as debootstrap(8) makes; then nothing but what was planted may be
//! found in most groups.
#![allow(clippy::unwrap_used)] // a test stops at the first surprise

mod common;

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::Command;

use rustix::fs::{AtFlags, CWD, Timespec, Timestamps};
use serde_json::Value;

use common::Ran;

const DAY: i64 = 86_400;
/// Where it is looked for leftovers in the system.
const PLACES: [&str; 9] = [
    "/boot",
    "/usr/lib/modules",
    "/usr/src",
    "/usr/local",
    "/usr/bin",
    "/var",
    "/tmp",
    "/home",
    "/srv",
];

/// A Debian system that can be changed.
struct System {
    root: PathBuf,
    mounts: Vec<PathBuf>,
    is_bare: bool,
    /// Path, and the group in which it must be.
    planted: BTreeMap<String, &'static str>,
    /// What must never be planned.
    traps: BTreeSet<String>,
    _directory: tempfile::TempDir,
}

impl Drop for System {
    fn drop(&mut self) {
        for place in self.mounts.iter().rev() {
            run("umount", &["-l", place.to_str().unwrap()]);
        }
    }
}

fn run(program: &str, arguments: &[&str]) -> bool {
    Command::new(program).args(arguments).output().is_ok_and(|output| output.status.success())
}

impl System {
    /// Nothing if there is none here, which is said.
    fn new() -> Option<Self> {
        let skip = |why: &str| {
            eprintln!("SKIPPED: leftovers of a whole system: {why}");
            None
        };
        if !common::is_root() {
            return skip("only root can enter one");
        }
        if !Path::new("/var/lib/dpkg/status").exists() || !Path::new("/usr/bin/apt-get").exists() {
            return skip("this is no Debian system");
        }
        let directory = tempfile::tempdir().unwrap();
        let base = directory.path().canonicalize().unwrap();
        let own = std::env::var_os("LEFTOVERS_TREE").map(PathBuf::from);
        let mut system = Self {
            root: base.join("root"),
            mounts: Vec::new(),
            is_bare: own.is_some(),
            planted: BTreeMap::new(),
            traps: BTreeSet::new(),
            _directory: directory,
        };
        let space = base.join("space");
        std::fs::create_dir(&space).unwrap();
        std::fs::create_dir(&system.root).unwrap();
        if !run("mount", &["-t", "tmpfs", "-o", "size=1g,inode32", "none", space.to_str().unwrap()])
        {
            return skip("nothing can be mounted here");
        }
        system.mounts.push(space.clone());
        for name in ["upper", "work"] {
            std::fs::create_dir(space.join(name)).unwrap();
        }
        let lower = own.unwrap_or_else(|| "/".into());
        let options = format!(
            "xino=on,lowerdir={},upperdir={},workdir={}",
            lower.display(),
            space.join("upper").display(),
            space.join("work").display()
        );
        if !run("mount", &["-t", "overlay", "-o", &options, "none", system.root.to_str().unwrap()])
        {
            return skip("an overlay cannot be mounted here");
        }
        system.mounts.push(system.root.clone());
        // what others do there while the test runs is none of its business; only the overlay loses it
        let temporary = system.at("/tmp");
        run("rm", &["-rf", "--one-file-system", temporary.to_str().unwrap()]);
        run("mkdir", &["-p", "-m", "1777", temporary.to_str().unwrap()]);
        for name in ["proc", "dev"] {
            let place = system.root.join(name);
            std::fs::create_dir_all(&place).unwrap();
            if run("mount", &["--bind", &format!("/{name}"), place.to_str().unwrap()]) {
                system.mounts.push(place);
            }
        }
        std::fs::copy(common::FONDACO, system.root.join("usr/local/bin/fondaco-tried")).unwrap();
        Some(system)
    }

    /// Runs a program in the system.
    fn enter(&self, program: &str, arguments: &[&str]) -> Ran {
        let mut command = Command::new("chroot");
        command.arg(&self.root).arg(program).args(arguments).env_clear();
        command.env("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin");
        command.env("LC_ALL", "C").env("HOME", "/root").env("TZ", "UTC");
        command.env("DEBIAN_FRONTEND", "noninteractive");
        Ran(command.output().unwrap())
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        let own = ["--state", "/var/lib/fondaco-tried"];
        self.enter("/usr/local/bin/fondaco-tried", &[&own[..], arguments].concat())
    }

    fn leftovers(&self, more: &[&str]) -> Ran {
        let places: Vec<&str> =
            PLACES.into_iter().filter(|place| self.at(place).exists()).collect();
        self.fondaco(&[&["leftovers", "--system"], &places[..], more].concat())
    }

    /// Plans packages and kernels, and gives the actions.
    fn plan_packages(&self) -> Vec<Value> {
        let groups = ["--group", "packages", "--group", "kernels"];
        let plan = ["--plan", "usual", "-o", "/var/tmp/plan.json"];
        self.leftovers(&[groups, plan].concat()).ok();
        self.planned()
    }

    /// The actions of the plan that was written last. One of many actions is packed: a line for each, after the first.
    fn planned(&self) -> Vec<Value> {
        let unpacked = Command::new("zstd").arg("-dcf").arg(self.at("/var/tmp/plan.json")).output();
        let unpacked = Ran(unpacked.unwrap()).ok().out();
        if let Ok(whole) = serde_json::from_str::<Value>(&unpacked)
            && let Some(actions) = whole["actions"].as_array()
        {
            return actions.clone();
        }
        let lines = unpacked.lines().skip(1);
        lines.map(|line| serde_json::from_str(line).unwrap()).collect()
    }

    fn at(&self, path: &str) -> PathBuf {
        self.root.join(path.strip_prefix('/').unwrap())
    }

    /// Makes a file of that age, with its directories.
    fn file(&self, path: &str, contents: &[u8], days: i64) {
        let place = self.at(path);
        std::fs::create_dir_all(place.parent().unwrap()).unwrap();
        std::fs::write(&place, contents).unwrap();
        age(&place, days);
    }

    /// Makes directories of that age.
    fn directory(&self, path: &str, days: i64) {
        let place = self.at(path);
        std::fs::create_dir_all(&place).unwrap();
        age(&place, days);
    }

    fn link(&self, path: &str, to: &str) {
        let place = self.at(path);
        std::fs::create_dir_all(place.parent().unwrap()).unwrap();
        symlink(to, place).unwrap();
    }

    fn plant(&mut self, path: &str, group: &'static str) {
        self.planted.insert(path.to_owned(), group);
    }

    fn planted_file(&mut self, path: &str, contents: &[u8], days: i64, group: &'static str) {
        self.file(path, contents, days);
        self.plant(path, group);
    }

    fn trap(&mut self, path: &str, contents: &[u8]) {
        self.file(path, contents, 400);
        self.traps.insert(path.to_owned());
    }

    /// Builds and installs a package with these files.
    fn install(&self, name: &str, version: &str, fields: &str, files: &[(&str, &[u8])]) {
        let build = self.at("/var/tmp/build").join(name);
        std::fs::create_dir_all(build.join("DEBIAN")).unwrap();
        let control = format!(
            "Package: {name}\nVersion: {version}\nArchitecture: all\nMaintainer: Seamark <station@seamark.example>\n\
             Installed-Size: {}\n{fields}Description: made for a test\n",
            files.iter().map(|(_, bytes)| bytes.len() / 1024 + 1).sum::<usize>()
        );
        std::fs::write(build.join("DEBIAN/control"), control).unwrap();
        for (path, bytes) in files {
            let place = build.join(path.strip_prefix('/').unwrap());
            std::fs::create_dir_all(place.parent().unwrap()).unwrap();
            std::fs::write(place, bytes).unwrap();
        }
        let archive = format!("/var/tmp/build/{name}.deb");
        self.enter("dpkg-deb", &["--build", &format!("/var/tmp/build/{name}"), &archive]).ok();
        self.enter("dpkg", &["--install", &archive]).ok();
    }
}

fn age(place: &Path, days: i64) {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    let spec = Timespec { tv_sec: now.as_secs() as i64 - days * DAY, tv_nsec: 0 };
    let times = Timestamps { last_access: spec, last_modification: spec };
    rustix::fs::utimensat(CWD, place, &times, AtFlags::SYMLINK_NOFOLLOW).unwrap();
}

/// The head of a file that holds the memory of a program.
fn core_of(program: &str) -> Vec<u8> {
    let mut head = vec![0u8; 8192];
    head[..6].copy_from_slice(b"\x7fELF\x02\x01");
    (head[16], head[32], head[54], head[56]) = (4, 64, 56, 1);
    (head[64], head[72]) = (4, 128);
    (head[128], head[132], head[136]) = (5, 136, 3);
    head[188..188 + program.len()].copy_from_slice(program.as_bytes());
    head
}

/// An image of a kernel that says its release.
fn image_of(release: &str) -> Vec<u8> {
    let mut image = vec![0u8; 16 << 10];
    image[0x202..0x206].copy_from_slice(b"HdrS");
    image[0x20e..0x210].copy_from_slice(&0x100u16.to_le_bytes());
    image[0x300..0x300 + release.len()].copy_from_slice(release.as_bytes());
    image[0x300 + release.len()] = b' ';
    image
}

fn running_release() -> String {
    rustix::system::uname().release().to_string_lossy().into_owned()
}

/// The swap file of an editor that a process of this machine wrote.
fn swap_of(pid: u32) -> Vec<u8> {
    let mut block = vec![0u8; 4096];
    block[..2].copy_from_slice(b"b0");
    block[24..28].copy_from_slice(&pid.to_le_bytes());
    let host = rustix::system::uname();
    let host = host.nodename().to_bytes();
    block[68..68 + host.len()].copy_from_slice(host);
    block
}

fn plant_files(system: &mut System) {
    let old = 60;
    system.planted_file("/usr/local/share/seamark/empty.dat", b"", old, "empty-files");
    system.directory("/usr/local/lib/seamark-old/deep/deeper", old);
    system.directory("/usr/local/lib/seamark-old/deep", old);
    system.directory("/usr/local/lib/seamark-old", old);
    system.plant("/usr/local/lib/seamark-old", "empty-directories");
    system.link("/usr/local/share/seamark/gone", "/opt/seamark-none/tool");
    system.plant("/usr/local/share/seamark/gone", "broken-links");
    system.link("/usr/local/share/seamark/circle", "circle");
    system.plant("/usr/local/share/seamark/circle", "link-circles");
    system.file("/tmp/seamark-build/part/object", b"x", old);
    system.directory("/tmp/seamark-build/part", old);
    system.directory("/tmp/seamark-build", old);
    system.plant("/tmp/seamark-build", "temporaries");
    let home = "/home/acoustics";
    system.planted_file(&format!("{home}/field.tmp"), b"x", old, "temporaries");
    system.planted_file(&format!("{home}/chart.zip.part"), b"x", old, "partial-downloads");
    system.planted_file(&format!("{home}/notes.txt~"), b"x", old, "editor-remains");
    // no process has the highest number there is
    system.planted_file(
        &format!("{home}/.notes.txt.swp"),
        &swap_of(4_194_303),
        old,
        "editor-remains",
    );
    system.planted_file(&format!("{home}/model.pid"), b"4194303\n", old, "editor-remains");
    system.planted_file(&format!("{home}/core"), &core_of("tide-model"), old, "crash-dumps");
    system.planted_file("/var/crash/_usr_bin_tide.1000.crash", b"x", old, "crash-dumps");
    for bin in [&format!("{home}/.local/share/Trash"), "/srv/.Trash-1000"] {
        let thrown = format!("{bin}/files/old chart.png");
        system.planted_file(&thrown, b"chart", 300, "bins");
        let info =
            b"[Trash Info]\nPath=sketches/old%20chart.png\nDeletionDate=2021-03-07T08:09:10\n";
        system.file(&format!("{bin}/info/old chart.png.trashinfo"), info, old);
        system.planted_file(&format!("{bin}/info/lost.trashinfo"), info, old, "bins");
    }
    system.file(&format!("{home}/.cache/tide/a"), &vec![7; 9000], old);
    system.directory(&format!("{home}/.cache/tide"), old);
    system.plant(&format!("{home}/.cache/tide"), "caches");
    let tag = b"Signature: 8a477f597d28d172789f06886806bc55\n";
    system.file("/srv/grid/CACHEDIR.TAG", tag, old);
    system.directory("/srv/grid", old);
    system.plant("/srv/grid", "caches");
    system.file(&format!("{home}/.npm/_cacache/index"), b"x", old);
    system.directory(&format!("{home}/.npm/_cacache"), old);
    system.plant(&format!("{home}/.npm/_cacache"), "package-caches");
    system.planted_file("/var/cache/distfiles/tide-1.1.tar.gz", b"x", 400, "source-archives");
    system.file("/var/cache/distfiles/tide-1.2.tar.gz", b"x", old);
    plant_more(system);
}

/// Logs, dumps, and what is only told.
fn plant_more(system: &mut System) {
    let (old, home) = (60, "/home/acoustics");
    for number in 1..=9 {
        let path = format!("/var/log/seamark-tide.log.{number}");
        system.file(&path, b"x", 30 + number * 7);
        if number > 7 {
            system.plant(&path, "rotated-logs");
        }
    }
    for month in 1..=5 {
        let path = format!("/srv/backup/tide-2021-0{month}-01.sql.gz");
        system.file(&path, b"x", 900 - month * 30);
        if month < 3 {
            system.plant(&path, "dumps");
        }
    }
    for number in 1..=12 {
        let path = format!("/srv/images/disk-{number:02}.img");
        system.file(&path, &vec![7; 300_000], 300 - number);
        if number < 10 {
            system.plant(&path, "generations");
        }
    }
    system.planted_file("/srv/left/by-somebody.csv", b"x", old, "unowned");
    rustix::fs::chown(
        system.at("/srv/left/by-somebody.csv"),
        Some(rustix::fs::Uid::from_raw(48_211)),
        None,
    )
    .unwrap();
    system.file(&format!("{home}/Maildir/.Spam/cur/1"), b"x", old);
    for part in ["cur", ""] {
        system.directory(&format!("{home}/Maildir/.Spam/{part}"), old);
    }
    system.plant(&format!("{home}/Maildir/.Spam"), "mail");
    for mbox in [".thunderbird/x1.default/ImapMail/seamark.example/Trash", "letters/Junk.mbox"] {
        system.planted_file(&format!("{home}/{mbox}"), b"From -", old, "mail");
    }
    system.planted_file("/usr/local/lib/libtide.so.1.1", b"x", old, "libraries");
    system.file("/usr/local/lib/libtide.so.1.2", b"y", old);
    system.planted_file("/srv/names/tide ", b"x", old, "fragile-names");
    system.planted_file("/srv/names/Chart", b"x", old, "fragile-names");
    system.planted_file("/srv/names/chart", b"x", old, "fragile-names");
    system.planted_file("/usr/local/bin/setter", b"#!", old, "oddities");
    std::fs::set_permissions(system.at("/usr/local/bin/setter"), PermissionsExt::from_mode(0o4755))
        .unwrap();
    system.file("/usr/local/bin/ls", b"#!/bin/sh\n", old);
    std::fs::set_permissions(system.at("/usr/local/bin/ls"), PermissionsExt::from_mode(0o755))
        .unwrap();
    system.plant("/usr/bin/ls", "shadowed");
    system.planted_file("/srv/ahead", b"x", -400, "oddities");
    system.file("/var/lib/docker/overlay2/x/diff/y", b"x", old);
    system.plant("/var/lib/docker", "containers");
    let journal = "/var/log/journal/0123456789abcdef0123456789abcdef";
    for day in 0..3u64 {
        let micros = (1_500_000_000 + day * 86_400) * 1_000_000;
        let name = format!(
            "{journal}/system@0123456789abcdef0123456789abcdef-{day:016x}-{micros:016x}.journal"
        );
        system.file(&name, &[0; 4096], 400);
        if day == 0 {
            system.plant(&name, "journals");
        }
    }
    system.file(&format!("{journal}/system.journal"), &[0; 4096], 0);
}

fn plant_traps(system: &mut System) {
    let home = "/home/acoustics";
    system.trap("/srv/cache/only-copy.wav", b"x");
    system.trap("/srv/source/core/main.c", b"x");
    system.trap("/srv/text/core", b"the core of the matter");
    system.trap("/srv/data/target/heading.csv", b"x");
    system.trap("/srv/python/__init__.py", b"");
    system.trap("/srv/web/.gitkeep", b"");
    system.trap("/var/lib/seamark/marker", b"");
    system.trap(&format!("{home}/.live.txt.swp"), &swap_of(std::process::id()));
    system.trap(&format!("{home}/live.pid"), format!("{}\n", std::process::id()).as_bytes());
    system.trap(&format!("{home}/Cargo.lock"), b"version = 4\n");
    system.trap("/srv/kept/tide.log.1", b"x");
    system.trap("/srv/grid-notes/CACHEDIR.TAG", b"no tag at all");
    system.directory("/srv/lost+found", 400);
    system.traps.insert("/srv/lost+found".into());
    system.file("/tmp/seamark-young", b"x", 1);
    system.traps.insert("/tmp/seamark-young".into());
    system.link("/srv/later", "/mnt/seamark-backup/x");
    let fstab = std::fs::read_to_string(system.at("/etc/fstab")).unwrap_or_default();
    let fstab = format!("{fstab}\nUUID=1 /mnt/seamark-backup ext4 noauto 0 0\n");
    std::fs::write(system.at("/etc/fstab"), fstab).unwrap();
    system.traps.insert("/srv/later".into());
    // the running kernel under another name
    system.trap("/boot/vmlinuz-0.0.1-renamed", &image_of(&running_release()));
}

fn plant_packages(system: &mut System) {
    system.install(
        "libseamark1",
        "1.0",
        "",
        &[("/usr/lib/seamark/libseamark.dat", &vec![7; 300_000])],
    );
    system.enter("apt-mark", &["auto", "libseamark1"]).ok();
    system.plant("libseamark1", "packages");
    let data = vec![7; 24 << 20];
    system.install("seamark-charts", "2.0", "", &[("/usr/share/seamark/charts.dat", &data)]);
    age(&system.at("/usr/share/seamark/charts.dat"), 400);
    system.plant("seamark-charts", "unread-packages");
    system.install("seamark-tools", "1:1.5-1", "", &[("/usr/bin/seamark-tool", b"#!/bin/sh\n")]);
    for (name, group) in [
        ("seamark-tools_1%3a1.5-1_all.deb", "apt-installed"),
        ("seamark-tools_1%3a1.4-1_all.deb", "apt-older"),
        ("seamark-other_3_all.deb", "apt-others"),
    ] {
        system.planted_file(&format!("/var/cache/apt/archives/{name}"), &vec![7; 5000], 3, group);
    }
    for (number, is_superseded) in [(1, true), (2, true), (3, false), (4, false)] {
        let release = format!("999.9.{number}-seamark");
        let (image, module) =
            (format!("/boot/vmlinuz-{release}"), format!("/lib/modules/{release}/tide.ko"));
        let name = format!("linux-image-{release}");
        let module = module.replace("/lib/", "/usr/lib/");
        system.install(
            &name,
            "1",
            "",
            &[(&image, &image_of(&release)), (&module, &vec![7; 50_000])],
        );
        age(&system.at(&image), 100);
        if is_superseded {
            system.plant(&name, "kernels");
        } else {
            system.traps.insert(image);
        }
    }
    // one that was installed by hand
    system.planted_file("/boot/vmlinuz-3.3.3-hand", &image_of("3.3.3-hand"), 100, "kernels");
    system.file("/boot/initrd.img-3.3.3-hand", &vec![7; 40_000], 100);
    system.file("/usr/lib/modules/3.3.3-hand/tide.ko", &vec![7; 40_000], 100);
}

fn plant_build(system: &mut System) {
    let model = "/home/acoustics/model";
    system.file(&format!("{model}/Cargo.toml"), b"[package]\n", 60);
    system.file(&format!("{model}/.gitignore"), b"target\n", 60);
    let git = |arguments: &[&str]| {
        let own =
            ["-C", model, "-c", "user.name=Seamark", "-c", "user.email=station@seamark.example"];
        system.enter("git", &[&own[..], arguments].concat()).ok();
    };
    git(&["init", "-q"]);
    git(&["add", "."]);
    git(&["commit", "-q", "-m", "model"]);
    system.file(&format!("{model}/target/debug/tide"), &vec![7; 20_000], 60);
    for part in ["target/debug", "target"] {
        system.directory(&format!("{model}/{part}"), 60);
    }
    // what others own is asked as they are
    system.enter("chown", &["-R", "1000:1000", model]).ok();
    system.plant(&format!("{model}/target"), "builds");
}

/// What was found: name, group, and why it stays if it does.
fn found(document: &Value) -> Vec<(String, String, Option<String>)> {
    let mut found = Vec::new();
    for group in document["groups"].as_array().unwrap() {
        let key = group["group"].as_str().unwrap().to_owned();
        for item in group["items"].as_array().unwrap() {
            let name = item["path"].as_str().or_else(|| item["packages"][0].as_str()).unwrap();
            let stays = item["stays"].as_str().map(str::to_owned);
            found.push((name.to_owned(), key.clone(), stays));
        }
    }
    found
}

#[test]
fn what_was_planted_is_found_and_what_looks_like_it_stays() {
    let Some(mut system) = System::new() else { return };
    plant_packages(&mut system);
    plant_files(&mut system);
    plant_build(&mut system);
    plant_traps(&mut system);

    let document = system.leftovers(&["--json"]);
    let document = document.json();
    let found = found(&document);
    let missed: Vec<_> = system
        .planted
        .iter()
        .filter(|(name, group)| !found.iter().any(|(path, key, _)| path == *name && key == *group))
        .collect();
    assert!(missed.is_empty(), "missed: {missed:#?}");
    let unexpected = |(path, key, stays): &&(String, String, Option<String>)| {
        stays.is_none() && system.planted.get(path).copied() != Some(key.as_str())
    };
    let unexpected: Vec<_> = found.iter().filter(unexpected).collect();
    eprintln!("{} planted, {} found, {} more", system.planted.len(), found.len(), unexpected.len());
    if system.is_bare {
        for (path, key, _) in unexpected.iter().filter(|(_, key, _)| key != "apt-installed") {
            eprintln!("unexpected in {key}: {path}");
        }
    }
    let trapped: Vec<_> = found
        .iter()
        .filter(|(path, _, stays)| stays.is_none() && system.traps.contains(path))
        .collect();
    assert!(trapped.is_empty(), "{trapped:?}");

    // what is planned are those that do not stay, and no trap
    let plan = system.leftovers(&[
        "--group",
        "all",
        "--plan",
        "usual",
        "-o",
        "/var/tmp/plan.json",
        "--all",
    ]);
    assert!(matches!(plan.code(), 0 | 3), "{}{}", plan.out(), plan.err());
    let actions = system.planned();
    let targets: Vec<&str> =
        actions.iter().map(|action| action["target"]["path"].as_str().unwrap()).collect();
    let holds_trap =
        |target: &&&str| system.traps.iter().any(|trap| Path::new(trap).starts_with(target));
    let trapped: Vec<_> = targets.iter().filter(holds_trap).collect();
    assert!(trapped.is_empty(), "{trapped:?}");
    the_sums_are_what_is_forecast(&document, &actions);
}

/// The sum of a group is what planning it forecasts, and the total counts what is in several groups once.
fn the_sums_are_what_is_forecast(document: &Value, actions: &[Value]) {
    let forecast = |title: &str| -> u64 {
        let reason = format!("left over: {title}");
        let of_group = actions.iter().filter(|action| action["reason"] == reason.as_str());
        of_group
            .map(|action| {
                action["frees"]["now"].as_u64().unwrap()
                    + action["frees"]["later"].as_u64().unwrap()
            })
            .sum()
    };
    for group in document["groups"].as_array().unwrap() {
        let key = group["group"].as_str().unwrap();
        // groups that others have a part of, and journals that begin no earlier than younger ones
        let is_whole = [
            "crash-dumps",
            "bins",
            "caches",
            "apt-older",
            "packages",
            "unowned",
            "kernels",
            "mail",
        ];
        if is_whole.contains(&key) {
            let planned = forecast(group["title"].as_str().unwrap());
            assert_eq!(group["allocated"].as_u64().unwrap(), planned, "{key}");
        }
    }
}

#[test]
fn packages_and_kernels_are_planned_as_they_go_and_a_kernel_goes_whole_or_not_at_all() {
    let Some(mut system) = System::new() else { return };
    plant_packages(&mut system);
    let actions = system.plan_packages();
    let of_tool: Vec<&Value> =
        actions.iter().filter(|action| action["do"] == "remove-packages").collect();
    assert_eq!(of_tool.len(), 2, "{actions:#?}");
    let by_hand = actions.iter().filter(|action| action["do"] == "set-aside").count();
    assert_eq!(by_hand, 3, "image, initial file system and modules: {actions:#?}");
    system.fondaco(&["carry-out", "/var/tmp/plan.json", "--rehearse"]).ok();

    // a kernel goes whole or not at all
    std::fs::write(system.at("/boot/initrd.img-3.3.3-hand"), "made anew").unwrap();
    let rehearsed = system.fondaco(&["carry-out", "/var/tmp/plan.json", "--rehearse"]);
    assert_eq!(rehearsed.code(), 3, "{}", rehearsed.out());
    let together =
        rehearsed.out().matches("it goes only together with /boot/initrd.img-3.3.3-hand").count();
    assert_eq!(together, 2, "{}", rehearsed.out());
    let done = system.fondaco(&["carry-out", "/var/tmp/plan.json"]);
    assert_eq!(done.code(), 3, "{}", done.out());
    for place in ["/boot/vmlinuz-3.3.3-hand", "/usr/lib/modules/3.3.3-hand/tide.ko"] {
        assert!(system.at(place).exists(), "{place}");
    }
}

#[test]
fn a_package_that_others_came_to_need_stays_and_the_rest_goes() {
    let Some(mut system) = System::new() else { return };
    plant_packages(&mut system);
    let actions = system.plan_packages();
    let of_tool: Vec<&Value> =
        actions.iter().filter(|action| action["do"] == "remove-packages").collect();
    // a package that came to need one of them meanwhile would go too: that is refused, and the rest is done
    system.install(
        "seamark-model",
        "1",
        "Depends: libseamark1\n",
        &[("/usr/bin/seamark-model", b"#!/bin/sh\n")],
    );
    let done = system.fondaco(&["carry-out", "/var/tmp/plan.json"]);
    assert_eq!(done.code(), 3, "{}{}", done.out(), done.err());
    assert!(done.out().contains("seamark-model=1 would go too now"), "{}", done.out());
    let installed = |name: &str| {
        system.enter("dpkg-query", &["-W", "-f", "${Status}", name]).out().contains("installed")
    };
    assert!(installed("libseamark1") && installed("seamark-model"));
    for number in [1, 2] {
        let release = format!("999.9.{number}-seamark");
        assert!(!system.at(&format!("/boot/vmlinuz-{release}")).exists());
        assert!(!system.at(&format!("/usr/lib/modules/{release}/tide.ko")).exists());
    }
    assert!(system.at("/boot/vmlinuz-999.9.3-seamark").exists());
    assert!(!system.at("/boot/vmlinuz-3.3.3-hand").exists(), "set aside");
    let journal = system.fondaco(&["journal", "1", "--json"]).ok().json();
    let entries = journal["actions"].as_array().unwrap();
    let tool: Vec<&Value> =
        entries.iter().filter(|entry| entry["state"] == "removed by its program").collect();
    assert_eq!(tool.len(), 1, "{entries:#?}");
    let forecast = of_tool
        .iter()
        .find(|action| action["reason"].as_str().unwrap().contains("kernels"))
        .unwrap();
    assert_eq!(tool[0]["freed"], forecast["frees"]["now"], "{tool:#?}");
    assert!(
        tool[0]["message"].as_str().unwrap().contains("Removing linux-image-999.9.1-seamark"),
        "{tool:#?}"
    );
    // what was set aside comes back as one
    system.fondaco(&["put-back", "1"]);
    for place in [
        "/boot/vmlinuz-3.3.3-hand",
        "/boot/initrd.img-3.3.3-hand",
        "/usr/lib/modules/3.3.3-hand/tide.ko",
    ] {
        assert!(system.at(place).exists(), "{place}");
    }
}

#[test]
fn a_rule_takes_what_programs_remove_until_boot_has_room_again() {
    let Some(mut system) = System::new() else { return };
    let boot = system.at("/boot");
    std::fs::create_dir_all(&boot).unwrap();
    assert!(run("mount", &["-t", "tmpfs", "-o", "size=16m", "none", boot.to_str().unwrap()]));
    system.mounts.push(boot.clone());
    plant_packages(&mut system);
    // made when the kernel was installed, and removed with it
    let made = "/boot/initrd.img-999.9.1-seamark";
    system.file(made, &vec![7; 3 << 20], 100);
    let script = system.at("/var/lib/dpkg/info/linux-image-999.9.1-seamark.postrm");
    std::fs::write(&script, format!("#!/bin/sh\nrm -f {made}\n")).unwrap();
    std::fs::set_permissions(&script, std::fs::Permissions::from_mode(0o755)).unwrap();
    let rules = "[[rule]]\ntitle = \"unneeded packages\"\naction = \"delete\"\nleftovers = [\"packages\"]\n\
                 larger = \"200 KiB\"\nolder = \"0 d\"\n\n\
                 [[rule]]\ntitle = \"kernels\"\naction = \"delete\"\nleftovers = [\"kernels\"]\n\
                 above = \"15 %\"\nuntil = \"10 %\"\n";
    system.file("/var/tmp/rules.toml", rules.as_bytes(), 0);
    let tried = system.fondaco(&["rules", "try", "/var/tmp/rules.toml", "/boot", "--json"]).ok();
    let tried = tried.json();
    let names: Vec<&str> = tried["by_program"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["name"].as_str().unwrap())
        .collect();
    assert!(names.contains(&"libseamark1"), "{tried:#}");
    let kernels: Vec<&&str> = names.iter().filter(|name| name.starts_with("linux-image")).collect();
    assert_eq!(kernels, [&"linux-image-999.9.1-seamark"], "the largest is enough: {tried:#}");
    let plan = ["-o", "/var/tmp/plan.json"];
    let planning = [&["plan", "--rules", "/var/tmp/rules.toml", "/boot"][..], &plan].concat();
    system.fondaco(&planning).ok();
    let actions = system.planned();
    let kernel = actions.iter().find(|action| action["reason"] == "rule: kernels").unwrap();
    let elsewhere = &kernel["tool"]["elsewhere"][0];
    assert_eq!(elsewhere["volume"], "/boot", "{kernel:#}");
    assert!(elsewhere["allocated"].as_u64().unwrap() > 3 << 20, "{kernel:#}");
    let done = system.fondaco(&["carry-out", "/var/tmp/plan.json", "--json"]).ok().json();
    for action in done["actions"].as_array().unwrap() {
        assert_eq!(action["state"], "removed by its program", "{action:#}");
        assert_eq!(action["freed"], action["frees"]["now"], "{action:#}");
    }
    assert!(!system.at(made).exists() && system.at("/boot/vmlinuz-999.9.2-seamark").exists());
    let mistaken = rules.replace("action = \"delete\"", "action = \"set-aside\"");
    system.file("/var/tmp/rules.toml", mistaken.as_bytes(), 0);
    let refused = system.fondaco(&["rules", "check", "/var/tmp/rules.toml"]);
    assert!(refused.err().contains("say action = \"delete\""), "{}", refused.err());
}

#[test]
fn the_journal_is_cut_down_by_its_own_program_and_only_what_was_reviewed_goes() {
    let Some(system) = System::new() else { return };
    if !system.at("/usr/bin/journalctl").exists() {
        eprintln!("SKIPPED: the system's journal: there is no journalctl");
        return;
    }
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let directory = "/var/log/journal/0123456789abcdef0123456789abcdef";
    // a file that holds an entry: its header says how many (systemd's journal file format)
    let mut contents = vec![0; 8192];
    contents[..8].copy_from_slice(b"LPKSHHRH");
    contents[152] = 1;
    let file = |days: u64, written: i64| {
        // entries are numbered as they come
        let (micros, number) = ((now - days * 86_400) * 1_000_000, 1000 - days);
        let name =
            format!("system@0123456789abcdef0123456789abcdef-{number:016x}-{micros:016x}.journal");
        system.file(&format!("{directory}/{name}"), &contents, written);
        system.at(directory).join(name)
    };
    // the last one began early and was written to until some days ago
    let (old, young) =
        ([file(300, 200), file(200, 100), file(150, 90)], [file(120, 5), file(20, 10)]);
    system.file(&format!("{directory}/system.journal"), &contents, 0);
    let journals = ["--group", "journals", "--plan", "usual", "-o", "/var/tmp/plan.json"];
    system.leftovers(&journals).ok();
    system.fondaco(&["carry-out", "/var/tmp/plan.json", "--rehearse"]).ok();
    let done = system.fondaco(&["carry-out", "/var/tmp/plan.json", "--json"]).ok().json();
    assert!(old.iter().all(|file| !file.exists()), "{done:#}");
    assert!(young.iter().all(|file| file.exists()), "{done:#}");
    assert!(system.at(directory).join("system.journal").exists());
    let action = &done["actions"][0];
    assert_eq!(action["state"], "removed by its program", "{done:#}");
    assert_eq!(action["freed"], action["frees"]["now"], "{done:#}");
    // what has come in between and would go too ends it
    let again = file(400, 300);
    system.leftovers(&[&journals[..], &["--force"]].concat()).ok();
    let newcomer = file(500, 3);
    let refused = system.fondaco(&["carry-out", "/var/tmp/plan.json"]);
    assert_eq!(refused.code(), 3, "{}", refused.out());
    assert!(refused.out().contains("would go too now"), "{}", refused.out());
    assert!(again.exists() && newcomer.exists());
}

#[test]
fn what_lies_in_a_bin_goes_back_to_where_it_was_and_to_no_other_place() {
    let directory = tempfile::tempdir().unwrap();
    let base = directory.path().canonicalize().unwrap();
    let (state, home) = (base.join("state"), base.join("acoustics"));
    let bin = home.join(".local/share/Trash");
    for part in ["files", "info"] {
        std::fs::create_dir_all(bin.join(part)).unwrap();
    }
    std::fs::create_dir_all(home.join("sketches")).unwrap();
    std::fs::create_dir_all(home.join("others")).unwrap();
    std::fs::write(home.join("sketches/taken.png"), "newer").unwrap();
    let thrown = [
        ("old chart.png", home.join("sketches/old chart.png"), true),
        ("taken.png", home.join("sketches/taken.png"), false),
        ("nowhere.png", home.join("gone/nowhere.png"), false),
        ("protected.png", PathBuf::from("/etc/cron.d/protected"), false),
        ("others.png", home.join("others/others.png"), !common::is_root()),
        ("elsewhere.png", base.join("elsewhere.png"), false),
    ];
    for (name, place, _) in &thrown {
        std::fs::write(bin.join("files").join(name), name).unwrap();
        let info =
            format!("[Trash Info]\nPath={}\nDeletionDate=2021-03-07T08:09:10\n", place.display());
        let info = info.replace(' ', "%20").replace("[Trash%20Info]", "[Trash Info]");
        std::fs::write(bin.join("info").join(format!("{name}.trashinfo")), info).unwrap();
    }
    if common::is_root() {
        // what somebody else's bin says of places is not believed beyond what is his
        for place in ["", "sketches", ".local/share/Trash/files", ".local/share/Trash/info"] {
            let place = home.join(place);
            rustix::fs::chown(&place, Some(rustix::fs::Uid::from_raw(48_211)), None).unwrap();
        }
    }
    let plan = base.join("plan.json");
    let fondaco = |arguments: &[&str]| {
        let own = ["--state", state.to_str().unwrap()];
        Ran(Command::new(common::FONDACO).args(own).args(arguments).output().unwrap())
    };
    let plan = plan.to_str().unwrap();
    let all = fondaco(&["leftovers", home.to_str().unwrap(), "--plan", "usual", "-o", plan]);
    assert_eq!(all.code(), 2, "which groups are planned has to be said: {}", all.err());
    // what was not in this home is not even planned: it may be the bin of a backup
    let planned = fondaco(&[
        "leftovers",
        home.to_str().unwrap(),
        "--group",
        "bins",
        "--plan",
        "restore",
        "-o",
        plan,
    ]);
    assert_eq!(planned.code(), 3, "{}", planned.err());
    assert_eq!(planned.err().matches("left out").count(), 2, "{}", planned.err());
    let rehearsed = fondaco(&["carry-out", plan, "--rehearse"]);
    let done = fondaco(&["carry-out", plan]);
    assert_eq!((rehearsed.code(), done.code()), (3, 3), "{}{}", done.out(), done.err());
    for (name, place, goes) in &thrown {
        let is_in_bin = bin.join("files").join(name).exists();
        let has_info = bin.join("info").join(format!("{name}.trashinfo")).exists();
        let is_back = std::fs::read_to_string(place).is_ok_and(|text| text == *name);
        assert_eq!((is_in_bin, has_info, is_back), (!goes, !goes, *goes), "{name}: {}", done.out());
    }
    assert_eq!(std::fs::read_to_string(home.join("sketches/taken.png")).unwrap(), "newer");
}
