//! The promises of the calls that removal stands on: beneath a root, by descriptor, never overwriting.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::fd::AsFd;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use common::{Mounted, bytes_path, picture, run};
use fondaco_core::kernel::{
    self, DirReader, Inventory, Kind, Leases, OpenFiles, OwnChanges, PrivateDir, RawEntry,
    ReadOrder, Removal, RemovalError, Stat, Strictness, exposed_at, mount_of, mounts, open_beneath,
    open_root, parent_of, stat_path, write_whole,
};
use fondaco_core::plan::{Touched, list_at};
use fondaco_core::units::Time;
use rustix::fs::OFlags;
use rustix::io::Errno;

struct Home {
    _directory: tempfile::TempDir,
    path: PathBuf,
}

impl Home {
    fn new() -> Self {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().canonicalize().unwrap();
        Self { _directory: directory, path }
    }

    fn directory(&self, name: &str) -> PathBuf {
        let path = self.path.join(name);
        std::fs::create_dir_all(&path).unwrap();
        path
    }

    fn private(&self) -> PrivateDir {
        let root = open_root(&self.path).unwrap();
        PrivateDir::open(&root, OsStr::new("private"), self.path.join("private")).unwrap()
    }
}

fn errno(error: &std::io::Error) -> Option<Errno> {
    Errno::from_io_error(error)
}

#[test]
fn nothing_is_opened_through_a_link_upwards_or_across_mounts() {
    let home = Home::new();
    home.directory("root/a/b");
    home.directory("outside/b");
    symlink("../outside", home.path.join("root/link")).unwrap();
    symlink("a", home.path.join("root/inner")).unwrap();
    symlink("/", home.path.join("root/top")).unwrap();
    let root = open_root(&home.path.join("root")).unwrap();
    let open =
        |path: &str| open_beneath(&root, Path::new(path), OFlags::RDONLY | OFlags::DIRECTORY);
    for good in ["", ".", "a", "a/b", "a/./b"] {
        assert!(open(good).is_ok(), "{good}");
    }
    for (bad, wanted) in [
        ("link/b", Errno::LOOP),
        ("link", Errno::NOTDIR),
        ("inner/b", Errno::LOOP),
        ("top/etc", Errno::LOOP),
        ("../outside", Errno::XDEV),
        ("a/../../outside", Errno::XDEV),
        ("/etc", Errno::XDEV),
        ("a/nowhere", Errno::NOENT),
    ] {
        assert_eq!(errno(&open(bad).unwrap_err()), Some(wanted), "{bad}");
    }
    assert!(open_root(&home.path.join("root/link")).is_err(), "nor is a root a link");
    assert!(parent_of(Path::new("/proc"), &home.path).is_err(), "a path must lie below its root");
    assert!(parent_of(&home.path, &home.path).is_err(), "and be something below it");

    let Some(mounted) = Mounted::new("tmpfs", 1) else { return };
    let above = open_root(mounted.path().parent().unwrap()).unwrap();
    let crossed = open_beneath(&above, Path::new("mnt"), OFlags::RDONLY);
    assert_eq!(errno(&crossed.unwrap_err()), Some(Errno::XDEV));
}

#[test]
fn paths_longer_than_the_kernel_takes_are_opened_piece_by_piece() {
    let home = Home::new();
    let name = "n".repeat(200);
    let mut at = open_root(&home.path).unwrap();
    let mut long = PathBuf::new();
    for _ in 0..60 {
        rustix::fs::mkdirat(&at, &*name, 0o755.into()).unwrap();
        at = kernel::open_directory(&at, &*name).unwrap();
        long.push(&name);
    }
    rustix::fs::mkdirat(&at, "bottom", 0o755.into()).unwrap();
    assert!(long.as_os_str().len() > 2 * 4096);
    let root = open_root(&home.path).unwrap();
    let bottom = open_beneath(&root, &long.join("bottom"), OFlags::RDONLY).unwrap();
    assert_eq!(kernel::stat_descriptor(&bottom).unwrap().kind, Kind::Directory);
    assert!(open_beneath(&root, &long.join("../bottom"), OFlags::RDONLY).is_err());
    run("rm", &["-rf".as_ref(), home.path.join(&name).as_os_str()]);
}

#[test]
fn a_private_directory_is_ours_alone_and_overwrites_nothing() {
    let home = Home::new();
    let private = home.private();
    let meta = home.path.join("private").metadata().unwrap();
    assert_eq!(meta.mode() & 0o7777, 0o700);
    let root = open_root(&home.path).unwrap();
    std::fs::write(home.path.join("a"), b"first").unwrap();
    let (a, held) = (OsStr::new("a"), OsStr::new("1"));
    private.take(&root, a, held).unwrap();
    assert!(!home.path.join("a").exists());
    std::fs::write(home.path.join("a"), b"second").unwrap();
    let again = private.take(&root, a, held).unwrap_err();
    assert_eq!(again.kind(), std::io::ErrorKind::AlreadyExists);
    let back = private.give(held, &root, a).unwrap_err();
    assert_eq!(back.kind(), std::io::ErrorKind::AlreadyExists);
    assert_eq!(std::fs::read(home.path.join("a")).unwrap(), b"second");
    assert_eq!(std::fs::read(home.path.join("private/1")).unwrap(), b"first");
    assert_eq!(private.names().unwrap(), ["1"]);
    assert_eq!(private.stat(held).unwrap().unwrap().size, 5);
    assert_eq!(private.stat(a).unwrap(), None);

    // what others may enter, or what is no directory, is not taken for one
    let open = |name: &str| PrivateDir::open(&root, OsStr::new(name), home.path.join(name));
    std::fs::set_permissions(home.directory("loose"), PermissionsExt::from_mode(0o755)).unwrap();
    symlink("private", home.path.join("linked")).unwrap();
    for name in ["loose", "linked", "a"] {
        assert!(open(name).is_err(), "{name}");
    }
    let missing = PrivateDir::open_existing(&root, OsStr::new("no"), home.path.join("no"));
    assert!(missing.is_err() && !home.path.join("no").exists());
}

/// The list of the entry `1` of a private directory.
fn list(private: &PrivateDir) -> Inventory {
    let (fd, path) = (private.fd().as_fd(), Path::new("/target"));
    list_at(fd, OsStr::new("1"), path, &Touched::default(), &mut |_| Ok(())).unwrap().1
}

/// Removes what a list has of the entry `1`.
fn remove(
    private: &PrivateDir,
    inventory: &Inventory,
    gone: &mut (dyn FnMut(&Stat, Option<&Stat>) + Send),
) -> Result<(), RemovalError> {
    let path = Path::new("/target");
    let (strictness, own) = (Strictness::Exact, &mut OwnChanges::default());
    let leases = &Leases::default();
    let mut removal = Removal { inventory, strictness, leases, is_unused: false, path, own, gone };
    private.remove(OsStr::new("1"), &mut removal)
}

#[test]
fn a_tree_is_removed_bottom_up_whatever_its_names_and_nothing_beside_it() {
    // each directory on the way down is open
    fondaco_core::kernel::raise_descriptor_limit();
    let home = Home::new();
    let private = home.private();
    let tree = home.path.join("private/1");
    std::fs::create_dir_all(tree.join("x/y/z")).unwrap();
    std::fs::write(home.path.join("precious"), b"keep me").unwrap();
    std::fs::hard_link(home.path.join("precious"), tree.join("x/other-name")).unwrap();
    symlink(&home.path, tree.join("x/y/up")).unwrap();
    for name in [&b"a\nb"[..], b"\xff", &[b'n'; 255]] {
        std::fs::write(bytes_path(&tree, name), b"1234").unwrap();
    }
    let mut deep = kernel::open_directory(private.fd(), "1").unwrap();
    for _ in 0..1500 {
        rustix::fs::mkdirat(&deep, "down", 0o700.into()).unwrap();
        deep = kernel::open_directory(&deep, "down").unwrap();
    }
    drop(deep);
    let (mut names, mut kept) = (0, Vec::new());
    let list = list(&private);
    remove(&private, &list, &mut |before, after| {
        names += 1;
        kept.extend(after.map(|after| (before.links, after.links)));
    })
    .unwrap();
    assert_eq!(names, 4 + 1 + 1 + 3 + 1500, "every name is told once");
    assert_eq!(kept, [(2, 1)], "and what another name keeps is told as it is after");
    assert!(!tree.exists());
    assert_eq!(std::fs::read(home.path.join("precious")).unwrap(), b"keep me");
    assert!(private.names().unwrap().is_empty());
}

/// Somebody has a directory open and changes it while it is emptied: what was not listed stays, and is named.
#[test]
fn what_was_not_listed_ends_a_removal_and_stays() {
    type Act = fn(&Path);
    let cases: [(&str, Act); 3] = [
        ("d/newcomer", |tree| std::fs::write(tree.join("d/newcomer"), b"mine").unwrap()),
        ("d/3", |tree| {
            std::fs::write(tree.join("other"), b"mine").unwrap();
            std::fs::rename(tree.join("other"), tree.join("d/3")).unwrap();
        }),
        ("d/3", |tree| {
            let file = std::fs::File::options().append(true).open(tree.join("d/3")).unwrap();
            let written = file.metadata().unwrap().modified().unwrap();
            std::io::Write::write_all(&mut &file, b"mine").unwrap();
            file.set_modified(written).unwrap();
        }),
    ];
    for (name, act) in cases {
        let home = Home::new();
        let private = home.private();
        let tree = home.path.join("private/1");
        std::fs::create_dir_all(tree.join("d")).unwrap();
        std::fs::set_permissions(&tree, PermissionsExt::from_mode(0o2775)).unwrap();
        (0..5).for_each(|n| std::fs::write(tree.join(format!("d/{n}")), b"old").unwrap());
        let list = list(&private);
        let mut gone = 0;
        let error = remove(&private, &list, &mut |_, _| {
            gone += 1;
            if gone == 2 {
                act(&tree);
            }
        })
        .unwrap_err();
        assert!(error.to_string().contains(&format!("/target/{name}")), "{error}");
        assert!(std::fs::read(tree.join(name)).unwrap().ends_with(b"mine"));
        let mode = tree.metadata().unwrap().mode() & 0o7777;
        assert_eq!(mode, 0o2775, "closed to others only while it is emptied");
        assert_eq!(
            std::fs::read_dir(tree.join("d")).unwrap().count(),
            if gone == 5 { 1 } else { 2 }
        );
    }
}

#[test]
fn a_removal_stops_before_another_volume() {
    let Some(mounted) = Mounted::new("ext4", 16) else { return };
    let home = mounted.path();
    let root = open_root(&home).unwrap();
    let private = PrivateDir::open(&root, OsStr::new("p"), home.join("p")).unwrap();
    std::fs::create_dir_all(home.join("p/1/below/mnt")).unwrap();
    let at = home.join("p/1/below/mnt");
    let list = list(&private);
    run("mount", &["-t".as_ref(), "tmpfs".as_ref(), "tmpfs".as_ref(), at.as_os_str()]);
    std::fs::write(at.join("precious"), b"x").unwrap();
    let RemovalError::Call(error) = remove(&private, &list, &mut |_, _| {}).unwrap_err() else {
        panic!("a call is refused")
    };
    assert_eq!(errno(&error.source), Some(Errno::XDEV), "{error}");
    assert!(at.join("precious").exists());
}

#[test]
fn a_file_is_written_whole_or_not_at_all_and_never_into_what_somebody_put_there() {
    let home = Home::new();
    let path = home.path.join("plan.json");
    write_whole(&path, b"one").unwrap();
    assert_eq!(path.metadata().unwrap().mode() & 0o777, 0o600);
    let trap = home.path.join(format!(".plan.json.{}-0.part", std::process::id()));
    symlink(home.path.join("elsewhere"), &trap).unwrap();
    write_whole(&path, b"two").unwrap();
    assert_eq!(std::fs::read(&path).unwrap(), b"two");
    assert!(!home.path.join("elsewhere").exists());
    std::fs::remove_file(trap).unwrap();
    assert!(write_whole(&home.path.join("no/such/plan.json"), b"x").is_err());

    let Some(small) = Mounted::new("tmpfs", 1) else { return };
    let full = small.path().join("plan.json");
    write_whole(&full, b"old").unwrap();
    let error = write_whole(&full, &vec![b'x'; 2 << 20]).unwrap_err();
    assert_eq!(error.source.kind(), std::io::ErrorKind::StorageFull);
    assert_eq!(std::fs::read(&full).unwrap(), b"old", "the old file is untouched");
    assert_eq!(picture(&small.path()).len(), 2, "and nothing is left beside it");
}

#[test]
fn who_could_swap_a_path_is_found_on_its_way() {
    let home = Home::new();
    let deep = home.directory("a/b/c");
    assert_eq!(exposed_at(&deep).unwrap(), None);
    let set = |name: &str, mode| {
        std::fs::set_permissions(home.path.join(name), PermissionsExt::from_mode(mode)).unwrap();
    };
    set("a/b", 0o775);
    assert_eq!(exposed_at(&deep).unwrap(), Some(home.path.join("a/b")));
    set("a/b", 0o1777);
    assert_eq!(exposed_at(&deep).unwrap(), None, "a sticky directory keeps names where they are");
    if common::is_root("directories of others") {
        std::os::unix::fs::chown(home.path.join("a"), Some(60_101), None).unwrap();
        assert_eq!(exposed_at(&deep).unwrap(), Some(home.path.join("a")));
    }
}

#[test]
fn who_has_a_file_open_mapped_or_works_in_a_directory_is_known() {
    let home = Home::new();
    let (file, directory) = (home.path.join("live.log"), home.directory("work"));
    std::fs::write(&file, b"x").unwrap();
    let mut sleeper = std::process::Command::new("sleep")
        .arg("60")
        .stdin(std::fs::File::open(&file).unwrap())
        .current_dir(&directory)
        .spawn()
        .unwrap();
    let program = std::fs::canonicalize("/bin/sleep").unwrap();
    let open = OpenFiles::collect(Time::now());
    for path in [&file, &directory, &program] {
        let stat = stat_path(path).unwrap();
        let holders = open.holders(stat.dev, stat.ino);
        let found = holders.iter().any(|h| h.pid == sleeper.id() && h.command == "sleep");
        // between fork and exec the child is not `sleep` yet
        assert!(found || holders.iter().any(|h| h.pid == sleeper.id()), "{path:?}: {holders:?}");
    }
    sleeper.kill().unwrap();
    sleeper.wait().unwrap();
    let stat = stat_path(&file).unwrap();
    assert!(!OpenFiles::collect(Time::now()).is_open(stat.dev, stat.ino));
}

#[test]
fn the_mount_table_agrees_with_what_the_kernel_says_of_a_path() {
    let table = mounts().unwrap();
    for path in ["/", "/proc/self", "/dev"] {
        let stat = stat_path(&Path::new(path).canonicalize().unwrap()).unwrap();
        let mount = mount_of(Path::new(path), &table).unwrap();
        assert_eq!(mount.id, stat.mount, "{path}");
    }
}

#[test]
fn a_directory_is_read_whole_and_lists_another_inode_where_something_is_mounted() {
    if !common::is_root("mounts in a directory") {
        return;
    }
    for fs_type in ["ext4", "xfs", "btrfs", "tmpfs"] {
        let Some(volume) = Mounted::new(fs_type, 300) else { continue };
        let at = |name: &str| volume.path().join(name);
        for name in ["data", "plain", "bind", "over", "many", "few"] {
            std::fs::create_dir(at(name)).unwrap();
        }
        (0..5000).for_each(|n| drop(std::fs::File::create(at("many").join(format!("file-{n}")))));
        std::fs::write(at("few/one"), b"").unwrap();
        let mount = |arguments: &[&OsStr]| run("mount", arguments);
        mount(&["--bind".as_ref(), at("data").as_ref(), at("bind").as_ref()]);
        mount(&["-t".as_ref(), "tmpfs".as_ref(), "none".as_ref(), at("over").as_ref()]);
        let root = open_root(&volume.path()).unwrap();
        let dev = kernel::stat_plain_open(&root).unwrap().dev();
        for order in [ReadOrder::Directory, ReadOrder::Inode] {
            let read = |name: &str| {
                let (mut listed, path) = (HashMap::new(), at(name));
                let each = |entry: RawEntry<'_>| {
                    listed.insert(entry.name.to_str().unwrap().to_owned(), entry.inode).is_none()
                };
                DirReader::default().read_in(order, open_root(&path).unwrap(), each).unwrap();
                listed
            };
            let names = [("many", 5000), ("few", 1), ("plain", 0)];
            names
                .iter()
                .for_each(|(name, count)| assert_eq!(read(name).len(), *count, "{fs_type}"));
            let listed = read("");
            let as_listed = |name: &str| {
                let fd = kernel::open_directory(&root, OsStr::new(name)).unwrap();
                let seen = kernel::stat_plain_open(&fd).unwrap().on_mount(0);
                (seen.ino, seen.dev) == (listed[name], dev)
            };
            let found = ["data", "plain", "many", "bind", "over"].map(as_listed);
            assert_eq!(found, [true, true, true, false, false], "{fs_type}, {order:?}");
        }
        for name in ["bind", "over"] {
            run("umount", &[at(name).as_ref()]);
        }
    }
}
