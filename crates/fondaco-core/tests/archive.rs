//! Archives of any tree come back as they were, and no damage goes unnoticed.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::ops::ControlFlow;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use common::{NOW, Place, picture, set_old};
use fondaco_core::archive::Index;
use fondaco_core::carry_out::{EntryState, RunSummary, carry_out, put_back};
use proptest::prelude::*;

#[derive(Clone, Debug)]
enum Thing {
    Directory,
    File(Vec<u8>),
    Sparse { size: u32, islands: Vec<(u32, u16)> },
    Link(String),
    OtherName,
}

type Named = (u16, Vec<u8>, Thing, u16, i64);

fn named() -> impl Strategy<Value = Named> {
    let name = proptest::collection::vec(any::<u8>(), 1..90)
        .prop_map(|bytes| bytes.into_iter().map(|b| if b == 0 || b == b'/' { b'_' } else { b }))
        .prop_map(std::iter::Iterator::collect::<Vec<u8>>)
        .prop_filter("dots", |name| !matches!(&name[..], b"." | b".."));
    let islands = proptest::collection::vec((0..4_000_000u32, 1..9000u16), 0..5);
    let thing = prop_oneof![
        2 => Just(Thing::Directory),
        4 => proptest::collection::vec(any::<u8>(), 0..3000).prop_map(Thing::File),
        1 => (1..6_000_000u32, islands).prop_map(|(size, islands)| Thing::Sparse { size, islands }),
        1 => "[a-z/.\n]{1,120}".prop_map(Thing::Link),
        1 => Just(Thing::OtherName),
    ];
    let time = prop_oneof![4 => 0..2_000_000_000i64, 1 => -2_000_000_000..0i64];
    (any::<u16>(), name, thing, 0..0o10000u16, time)
}

/// Makes what can be made below `root`: a name that is taken is passed over.
fn build(root: &Path, things: &[Named]) {
    std::fs::create_dir(root).unwrap();
    let (mut directories, mut files, mut made) = (vec![root.to_owned()], Vec::new(), Vec::new());
    for (at, name, thing, mode, time) in things {
        let path = directories[usize::from(*at) % directories.len()]
            .join(std::ffi::OsStr::from_bytes(name));
        if path.symlink_metadata().is_ok() {
            continue;
        }
        match thing {
            Thing::Directory => {
                std::fs::create_dir(&path).unwrap();
                directories.push(path.clone());
            }
            Thing::File(contents) => std::fs::write(&path, contents).unwrap(),
            Thing::Sparse { size, islands } => {
                let file = std::fs::File::create(&path).unwrap();
                file.set_len(u64::from(*size)).unwrap();
                for (offset, length) in islands {
                    let data = vec![b'#'; usize::from(*length)];
                    file.write_all_at(&data, u64::from(*offset)).unwrap();
                }
            }
            Thing::Link(to) => symlink(to, &path).unwrap(),
            Thing::OtherName => match files.last() {
                Some(file) => std::fs::hard_link(file, &path).unwrap(),
                None => continue,
            },
        }
        if matches!(thing, Thing::File(_) | Thing::Sparse { .. }) {
            files.push(path.clone());
        }
        made.push((path, *mode, *time, matches!(thing, Thing::Link(_))));
    }
    for (path, mode, time, is_link) in made.iter().rev() {
        if !is_link {
            // we must be able to read it ourselves
            let mode = u32::from(*mode) | if path.is_dir() { 0o700 } else { 0o400 };
            std::fs::set_permissions(path, PermissionsExt::from_mode(mode)).unwrap();
        }
        set_old(path, *time - 1_400_000_000);
    }
    set_old(root, 3);
}

fn archive(place: &Place, target: &Path) -> RunSummary {
    let plan = place.plan(&[(target, place.archive())]);
    let summary = carry_out(&plan, &place.state, &|| NOW, &|_| ControlFlow::Continue(())).unwrap();
    assert_eq!(summary.entries[0].state, EntryState::Archived, "{:?}", summary.entries);
    summary
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]
    #[test]
    fn any_tree_comes_back_from_its_archive_as_it_was(
        things in proptest::collection::vec(named(), 0..40)
    ) {
        let place = Place::new();
        let target = place.root.join("tree");
        build(&target, &things);
        let before = picture(&target);
        let summary = archive(&place, &target);
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        prop_assert!(returned.refused.is_empty(), "{:?}", returned.refused);
        let after = picture(&target);
        // blocks of sparse files depend on how they were written
        let plain = |line: &String| {
            let mut words: Vec<String> = line.split(' ').map(str::to_owned).collect();
            if let Some(at) = words.iter().position(|word| word == "blocks") {
                words[at + 1].clear();
            }
            words
        };
        for (path, line) in &before {
            prop_assert_eq!(after.get(path).map(plain), Some(plain(line)), "{:?}", path);
        }
        prop_assert_eq!(after.len(), before.len());
    }
}

#[test]
fn a_byte_changed_anywhere_is_noticed_and_the_place_stays_empty() {
    let place = Place::new();
    place.file("tree/below/a.raw", 20_000);
    place.file("tree/b.csv", 700);
    let target = place.root.join("tree");
    let before = picture(&target);
    let summary = archive(&place, &target);
    let file = summary.entries[0].archive.clone().unwrap();
    let whole = std::fs::read(&file).unwrap();
    let index: Index = read_index(&file);
    // the frame of the target is what put back reads; the rest is the end of the archive
    let frame = index.targets[0].length as usize;
    for at in (0..frame).step_by((frame / 60).max(1)) {
        let mut damaged = whole.clone();
        damaged[at] ^= 0x10;
        std::fs::write(&file, damaged).unwrap();
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        if returned.refused.is_empty() {
            // a bit that zstd does not use: what came back must be the original all the same
            assert_eq!(picture(&target), before, "byte {at}");
            std::fs::write(&file, &whole).unwrap();
            return;
        }
        assert!(!target.exists(), "byte {at}: what is not the original takes no place");
    }
    for cut in [0, 1, frame / 2, frame - 1] {
        std::fs::write(&file, &whole[..cut]).unwrap();
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        assert!(!returned.refused.is_empty() && !target.exists(), "cut to {cut}");
    }
    std::fs::write(&file, &whole).unwrap();
    assert!(put_back(summary.run, None, &place.state, NOW).unwrap().refused.is_empty());
    assert_eq!(picture(&target), before);
}

fn read_index(archive: &Path) -> Index {
    let name = archive.to_str().unwrap().replace(".tar.zst", ".json");
    serde_json::from_slice(&std::fs::read(name).unwrap()).unwrap()
}

#[test]
fn an_index_cannot_lead_the_unpacking_out_of_its_place() {
    let place = Place::new();
    place.file("tree/a.raw", 100);
    let target = place.root.join("tree");
    let summary = archive(&place, &target);
    let file = summary.entries[0].archive.clone().unwrap();
    let name = PathBuf::from(file.to_str().unwrap().replace(".tar.zst", ".json"));
    let good = std::fs::read_to_string(&name).unwrap();
    let inside = target.strip_prefix("/").unwrap().join("a.raw");
    for evil in ["../../../../tmp/evil", "/tmp/evil", "elsewhere/evil"] {
        std::fs::write(&name, good.replace(inside.to_str().unwrap(), evil)).unwrap();
        let returned = put_back(summary.run, None, &place.state, NOW).unwrap();
        assert_eq!(returned.refused.len(), 1, "{evil}");
        assert!(!Path::new("/tmp/evil").exists() && !target.exists());
    }
    for (from, to) in [("\"fondaco\":2", "\"fondaco\":3"), ("{", "[")] {
        std::fs::write(&name, good.replacen(from, to, 1)).unwrap();
        assert_eq!(put_back(summary.run, None, &place.state, NOW).unwrap().refused.len(), 1);
    }
    std::fs::write(&name, good).unwrap();
    assert!(put_back(summary.run, None, &place.state, NOW).unwrap().refused.is_empty());
    assert_eq!(std::fs::read(target.join("a.raw")).unwrap().len(), 100);
}
