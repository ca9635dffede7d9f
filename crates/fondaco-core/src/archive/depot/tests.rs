//! What a depot of any kind promises: each test is run for every kind, and for one whose objects cannot take back what
//! was written, as in a store.

use std::io::{self, Read, Write};

use super::*;

/// A depot in which what was written stays written.
#[derive(Debug)]
struct Appending(Box<dyn Depot>);

#[derive(Debug)]
struct AppendedOnly(Box<dyn NewObject>);

impl Depot for Appending {
    fn identity(&self) -> String {
        self.0.identity()
    }

    fn object(&self, name: &str) -> PathBuf {
        self.0.object(name)
    }

    fn names(&self) -> Result<Vec<(OsString, Option<Bytes>)>, CallError> {
        self.0.names()
    }

    fn length(&self, name: &str) -> Result<Bytes, CallError> {
        self.0.length(name)
    }

    fn has(&self, name: &str) -> Result<bool, CallError> {
        self.0.has(name)
    }

    fn create(&self, name: &str) -> Result<Box<dyn NewObject>, DepotError> {
        Ok(Box::new(AppendedOnly(self.0.create(name)?)))
    }

    fn read(
        &self,
        name: &str,
        from: u64,
        length: Option<u64>,
    ) -> Result<Box<dyn Read + Send>, CallError> {
        self.0.read(name, from, length)
    }

    fn read_stored(&self, name: &str) -> Result<Box<dyn Read + Send>, CallError> {
        self.0.read_stored(name)
    }

    fn rename_new(&self, from: &str, to: &str) -> Result<(), DepotError> {
        self.0.rename_new(from, to)
    }

    fn sync(&self) -> Result<(), CallError> {
        self.0.sync()
    }

    fn remove(&self, name: &str) -> Result<(), CallError> {
        self.0.remove(name)
    }
}

impl Write for AppendedOnly {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl NewObject for AppendedOnly {
    fn can_take_back(&self) -> bool {
        false
    }

    fn keep_from(&mut self, _: u64) {}

    fn take_back_to(&mut self, _: u64) -> io::Result<()> {
        panic!("it was said that this cannot be done")
    }

    fn store(&mut self) -> io::Result<()> {
        self.0.store()
    }

    fn read_back(&mut self) -> io::Result<Box<dyn Read + Send + '_>> {
        self.0.read_back()
    }
}

/// One depot of each kind, in places of their own.
fn depots() -> (tempfile::TempDir, Vec<Box<dyn Depot>>) {
    let directory = tempfile::tempdir().unwrap();
    let home = directory.path().canonicalize().unwrap();
    let open = |name: &str| DepotAddress::from(home.join(name).as_path()).open().unwrap();
    let depots = vec![open("a/depot"), Box::new(Appending(open("b/depot"))) as Box<dyn Depot>];
    (directory, depots)
}

fn contents(depot: &dyn Depot, name: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    depot.read(name, 0, None).unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

#[test]
fn what_is_unfinished_is_cleared_and_what_has_its_name_is_kept() {
    let (_directory, depots) = depots();
    for depot in &depots {
        let write = |objects: &[&str]| {
            for object in objects {
                depot.create(object).unwrap().write_all(b"x").unwrap();
            }
        };
        let all = [".run.tar.zst.part", "run.json", "run.sha256", "other.tar.zst", "other.json"];
        let left = || all.iter().filter(|name| depot.has(name).unwrap()).collect::<Vec<_>>();
        write(&all);
        depot.clear_unfinished("run").unwrap();
        assert_eq!(left(), [&"other.tar.zst", &"other.json"], "{depot:?}");
        depot.clear_unfinished("run").unwrap();
        write(&[".other.tar.zst.part"]);
        depot.clear_unfinished("other").unwrap();
        assert_eq!(left(), [&"other.tar.zst", &"other.json"], "{depot:?}");
        assert!(!depot.has(".other.tar.zst.part").unwrap());
    }
}

#[test]
fn no_name_is_taken_that_something_has() {
    let (_directory, depots) = depots();
    for depot in &depots {
        depot.write_new("run.json", b"first").unwrap();
        assert!(matches!(depot.write_new("run.json", b"second"), Err(DepotError::Taken(_))));
        assert!(matches!(depot.create("run.json"), Err(DepotError::Taken(_))));
        depot.create("other").unwrap();
        assert!(matches!(depot.rename_new("other", "run.json"), Err(DepotError::Taken(_))));
        assert_eq!(contents(&**depot, "run.json"), b"first");
        assert!(depot.has("other").unwrap() && !depot.has(".run.json.part").unwrap());
    }
}

#[test]
fn what_is_stored_is_read_back_and_from_any_byte_on() {
    let (_directory, depots) = depots();
    for depot in &depots {
        let mut object = depot.create("archive").unwrap();
        object.write_all(b"tide and ").unwrap();
        object.write_all(b"buoy").unwrap();
        object.store().unwrap();
        let mut bytes = Vec::new();
        object.read_back().unwrap().read_to_end(&mut bytes).unwrap();
        assert_eq!(bytes, b"tide and buoy");
        drop(object);
        let mut end = Vec::new();
        depot.read("archive", 9, None).unwrap().read_to_end(&mut end).unwrap();
        assert_eq!(end, b"buoy");
        depot.sync().unwrap();
        depot.remove("archive").unwrap();
        depot.remove("archive").unwrap();
        assert!(!depot.has("archive").unwrap() && depot.read("archive", 0, None).is_err());
    }
}

/// A target that turns out to be another than was reviewed leaves nothing in the archive, also where what was written
/// cannot be taken back; those around it are whole.
#[test]
fn a_refused_target_leaves_no_trace_in_an_archive() {
    use crate::archive::{OpenArchive, Packing};
    use crate::kernel::PrivateDir;
    use crate::plan::{Touched, locate, survey};

    let (directory, depots) = depots();
    let home = directory.path().canonicalize().unwrap();
    for (number, depot) in depots.into_iter().enumerate() {
        let at = |name: &str| home.join(format!("{number}-{name}"));
        for name in ["first", "changed", "last"] {
            // more than a spool keeps in memory
            std::fs::write(at(name), name.repeat(2 << 20)).unwrap();
        }
        let surveyed = ["first", "changed", "last"].map(|name| survey(&at(name)).unwrap().target);
        std::fs::write(at("changed"), b"something else").unwrap();
        let archive = depot.object("run.tar.zst");
        let mut packing = Packing::begin(depot, "run".to_owned()).unwrap();
        let mut refused = Vec::new();
        for (action, target) in surveyed.iter().enumerate() {
            let located = locate(&target.path.0).unwrap();
            let added = packing.add(action as u32, target, &located, &Touched::default());
            refused.extend(added.err().map(|_| action));
        }
        assert_eq!(refused, [1]);
        let packed = packing.publish(crate::units::Time::at(2_000_000_000)).unwrap();
        assert_eq!(packed.actions, [0, 2]);
        assert_eq!(packed.bytes, std::fs::metadata(&archive).unwrap().len());
        let (root, area) = (crate::kernel::open_root(&home).unwrap(), format!("area-{number}"));
        let area = PrivateDir::open(&root, std::ffi::OsStr::new(&area), home.join(&area)).unwrap();
        let archive = OpenArchive::open(&archive).unwrap();
        for (action, name) in [(0, "first"), (2, "last")] {
            archive.unpack(action, &area, std::ffi::OsStr::new(name)).unwrap();
            let restored = std::fs::read(area.path().join(name)).unwrap();
            assert_eq!(restored, std::fs::read(at(name)).unwrap());
        }
    }
}

#[test]
fn a_place_is_refused_in_a_look_as_it_is_in_earnest() {
    let directory = tempfile::tempdir().unwrap();
    let home = directory.path().canonicalize().unwrap();
    std::fs::write(home.join("file"), b"x").unwrap();
    std::os::unix::fs::symlink("nowhere", home.join("broken")).unwrap();
    for path in ["file", "file/depot", "broken", "broken/depot", "a/../b"] {
        let path = home.join(path);
        let looked = DepotPlace::look(&path).unwrap_err().to_string();
        let opened = DepotAddress::from(path.as_path()).open().unwrap_err();
        assert_eq!(opened.to_string(), looked);
    }
    assert!(matches!(DepotPlace::look(Path::new("depot")), Err(DepotError::NotPlain(_))));
    std::os::unix::fs::symlink(".", home.join("here")).unwrap();
    let place = DepotPlace::look(&home.join("here/new/depot")).unwrap();
    assert_eq!((place.path, place.standing), (home.join("new/depot"), home));
}
