//! The books of real file systems: what is in use is explained to the byte.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::ffi::OsStr;
use std::fs::File;
use std::path::Path;
use std::process::{Child, Command};

use common::{Mounted, NOW, run};
use fondaco_core::books::{Books, LineKind, Sure, books, settle_writes};
use fondaco_core::kernel::DeletedFiles;
use fondaco_core::scan::{Options, Scan};
use fondaco_core::state::State;
use fondaco_core::units::{Bytes, Time};
use fondaco_core::volume::{volume_of, volumes};

const MIB: usize = 1 << 20;

fn o(text: &str) -> &OsStr {
    OsStr::new(text)
}

/// Contents that no file system packs.
fn noise(length: usize) -> Vec<u8> {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&length.to_le_bytes());
    let mut bytes = vec![0; length];
    hasher.finalize_xof().fill(&mut bytes);
    bytes
}

/// A process that has a file open which was deleted; ended when dropped.
struct Holder(Child);

impl Holder {
    fn of(path: &Path, length: usize) -> Self {
        std::fs::write(path, noise(length)).unwrap();
        let child =
            Command::new("sleep").arg("600").stdin(File::open(path).unwrap()).spawn().unwrap();
        std::fs::remove_file(path).unwrap();
        Self(child)
    }
}

impl Drop for Holder {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The books of the volume mounted there, with a fresh scan of it.
fn drawn_up(at: &Path) -> Books {
    let directory = tempfile::tempdir().unwrap();
    let state = State::open(directory.path()).unwrap();
    settle_writes(&volume_of(at, &state).unwrap()).unwrap();
    let volume = volume_of(at, &state).unwrap();
    let mut scan =
        Scan::start(std::slice::from_ref(&volume.mount_point), &Options::new(NOW)).unwrap();
    scan.wait();
    let held = DeletedFiles::collect(Time::now());
    books(&volume, Some(&scan.into_catalog()), &held, NOW).unwrap()
}

fn bytes(books: &Books, kind: LineKind) -> i64 {
    books.line(kind).unwrap().figure.bytes
}

/// Everything that makes counting hard.
fn fill(at: &Path) {
    for i in 1..8 {
        std::fs::write(at.join(format!("survey-{i}.raw")), noise(i * MIB)).unwrap();
    }
    std::fs::create_dir_all(at.join("tide/small")).unwrap();
    for i in 0..700 {
        std::fs::write(at.join(format!("tide/small/{i}")), format!("{i}")).unwrap();
    }
    std::fs::hard_link(at.join("survey-3.raw"), at.join("tide/again")).unwrap();
    File::create(at.join("sparse")).unwrap().set_len(40 << 20).unwrap();
    let file = File::create(at.join("preallocated")).unwrap();
    rustix::fs::fallocate(&file, rustix::fs::FallocateFlags::empty(), 0, 3 << 20).unwrap();
    // beneath a mount point: one file of its own, and another name of a visible one
    std::fs::create_dir(at.join("mnt")).unwrap();
    std::fs::write(at.join("mnt/hidden"), noise(2 * MIB)).unwrap();
    std::fs::hard_link(at.join("survey-5.raw"), at.join("mnt/visible-too")).unwrap();
    run("mount", &[o("-t"), o("tmpfs"), o("over"), at.join("mnt").as_os_str()]);
}

#[test]
fn the_books_of_ext4_and_tmpfs_close_at_0_and_those_of_xfs_and_btrfs_nearly() {
    for fs_type in ["ext4", "tmpfs", "xfs", "btrfs"] {
        let Some(mounted) = Mounted::new(fs_type, 400) else { return };
        let at = mounted.path();
        fill(&at);
        let holder = Holder::of(&at.join("deleted.log"), 5 * MIB);
        let books = drawn_up(&at);
        let held = books.line(LineKind::Held).unwrap();
        assert_eq!((held.count, held.figure.bytes), (1, 5 * MIB as i64), "{fs_type}: {books:#?}");
        assert!(held.items[0].what.contains(&format!("pid {}", holder.0.id())), "{held:?}");
        let beneath = bytes(&books, LineKind::Beneath);
        // the file, and at most a block for the directory
        assert!(
            (2 * MIB as i64..=2 * MIB as i64 + 4096).contains(&beneath),
            "{fs_type}: {beneath}"
        );
        let unexplained = books.unexplained();
        let sum: i64 = books.lines.iter().map(|line| line.figure.bytes).sum();
        assert_eq!(sum, books.used.get() as i64, "{fs_type}: the lines add up");
        if fs_type == "ext4" || fs_type == "tmpfs" {
            assert!(books.balance(), "{fs_type}: {books:#?}");
        } else {
            let most = books.used.get() as i64 / 1000;
            assert!(unexplained.bytes.abs() <= most, "{fs_type}: {books:#?}");
        }
        drop(holder);
    }
}

#[test]
fn what_files_share_and_pack_is_taken_off_on_xfs_with_and_without_owners_and_on_btrfs() {
    for (fs_type, option) in [("xfs", "rmapbt=0"), ("xfs", "rmapbt=1"), ("btrfs", "")] {
        let Some(mounted) = Mounted::new_with(fs_type, 400, &["-m", option]) else { return };
        let at = mounted.path();
        std::fs::write(at.join("a"), noise(9 * MIB)).unwrap();
        std::fs::write(at.join("alone"), noise(MIB)).unwrap();
        for copy in ["b", "c"] {
            let (from, to) = (at.join("a"), at.join(copy));
            run("cp", &[o("--reflink=always"), from.as_os_str(), to.as_os_str()]);
        }
        if fs_type == "btrfs" {
            // a snapshot shares, a compressed file packs, an overwritten part is kept whole
            let (tide, snapshot) = (at.join("tide"), at.join("snapshot"));
            run("btrfs", &[o("subvolume"), o("create"), tide.as_os_str()]);
            std::fs::write(tide.join("text"), "gauge\n".repeat(1 << 19)).unwrap();
            run("chattr", &[o("+c"), tide.as_os_str()]);
            std::fs::write(tide.join("packed"), "gauge\n".repeat(1 << 19)).unwrap();
            run("btrfs", &[o("subvolume"), o("snapshot"), tide.as_os_str(), snapshot.as_os_str()]);
            run("sync", &[]);
            let file = File::options().write(true).open(at.join("alone")).unwrap();
            std::os::unix::fs::FileExt::write_all_at(&file, &noise(MIB / 2), 4096).unwrap();
        }
        let books = drawn_up(&at);
        let shared = bytes(&books, LineKind::Shared);
        match fs_type {
            "xfs" => assert_eq!(shared, -18 * MIB as i64, "{option}: {books:#?}"),
            _ => assert!(shared < -20 * MIB as i64, "{books:#?}"),
        }
        let most = books.used.get() as i64 / 1000;
        assert!(books.unexplained().bytes.abs() <= most, "{fs_type} {option}: {books:#?}");
    }
}

#[test]
fn a_subvolume_mounted_alone_is_the_same_volume_and_the_others_are_a_line_of_their_own() {
    let Some(mounted) = Mounted::new("btrfs", 200) else { return };
    let at = mounted.path();
    for name in ["tide", "hydrophone"] {
        run("btrfs", &[o("subvolume"), o("create"), at.join(name).as_os_str()]);
        std::fs::write(at.join(name).join("data"), noise(4 * MIB)).unwrap();
    }
    let alone = tempfile::tempdir().unwrap();
    let device = run("findmnt", &[o("-no"), o("SOURCE"), at.as_os_str()]);
    let place = alone.path().canonicalize().unwrap();
    run("mount", &[o("-o"), o("subvol=tide"), o(device.trim()), place.as_os_str()]);
    let directory = tempfile::tempdir().unwrap();
    let state = State::open(directory.path()).unwrap();
    // together: one volume, at its root, and the other place below it
    let all = volumes(&state);
    let one: Vec<_> = all.iter().filter(|v| v.source == Path::new(device.trim())).collect();
    assert_eq!(one.len(), 1);
    assert_eq!((&one[0].mount_point, &one[0].also[0].mount_point), (&at, &place));
    assert_eq!(one[0].also[0].root, Path::new("/tide"));
    assert_eq!(volume_of(&place.join("data"), &state).unwrap().mount_point, at);
    // alone: what is in the other subvolumes is not visible, but known
    run("umount", &[at.as_os_str()]);
    let books = drawn_up(&place);
    run("umount", &[place.as_os_str()]);
    assert_eq!(bytes(&books, LineKind::Visible), 4 * MIB as i64);
    let other = books.line(LineKind::OtherSubvolumes).unwrap();
    assert_eq!(other.count, 2, "the top one, and the one that is not mounted: {books:#?}");
    assert!(other.figure.bytes >= 4 * MIB as i64);
    assert!(books.unexplained().bytes.abs() <= books.used.get() as i64 / 1000, "{books:#?}");
}

#[test]
fn without_a_scan_what_is_visible_and_unexplained_is_not_known_and_nothing_is_made_up() {
    let directory = tempfile::tempdir().unwrap();
    let state = State::open(directory.path()).unwrap();
    let volume = volume_of(directory.path(), &state).unwrap();
    let books = books(&volume, None, &DeletedFiles::default(), NOW).unwrap();
    for kind in [LineKind::Visible, LineKind::Unreadable, LineKind::Unexplained] {
        assert_eq!(books.line(kind).unwrap().figure.sure, Sure::Unknown, "{kind:?}");
    }
    assert!(books.used > Bytes::ZERO && !books.balance());
    assert!(books.notes.iter().any(|note| note.contains("after a scan")), "{:?}", books.notes);
}
