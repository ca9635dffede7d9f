//! Disks that are made up, stacked and judged.

use std::os::unix::fs::symlink;

use super::*;

/// A tree of devices as the kernel lays it out.
struct Sysfs(tempfile::TempDir);

impl Sysfs {
    fn new() -> Self {
        let sysfs = tempfile::tempdir().unwrap();
        for place in ["dev/block", "class/block", "devices"] {
            std::fs::create_dir_all(sysfs.path().join(place)).unwrap();
        }
        Self(sysfs)
    }

    fn device(&self, place: &str, numbers: &str, attributes: &[(&str, &str)]) {
        let home = self.0.path().join("devices").join(place);
        std::fs::create_dir_all(home.join("slaves")).unwrap();
        for (name, value) in attributes {
            let path = home.join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, format!("{value}\n")).unwrap();
        }
        let name = home.file_name().unwrap().to_owned();
        symlink(&home, self.0.path().join("dev/block").join(numbers)).unwrap();
        symlink(&home, self.0.path().join("class/block").join(name)).unwrap();
    }

    fn lies_on(&self, upper: &str, lower: &str) {
        let upper = self.0.path().join("devices").join(upper).join("slaves");
        let lower = self.0.path().join("devices").join(lower);
        symlink(&lower, upper.join(lower.file_name().unwrap())).unwrap();
    }
}

fn asking(sysfs: &Sysfs, smartctl: Option<PathBuf>) -> Asking {
    Asking { devices: BlockDevices::at(sysfs.0.path()), smartctl }
}

fn volume(dev: u64) -> Volume {
    let mut volume = crate::volume::tests::volume(Path::new("/srv"), Path::new("/dev/made-up"));
    (volume.dev, volume.class, volume.fs_type) = (dev, Class::Storage, "ext4".to_owned());
    volume
}

/// A program that answers as was recorded, by the name of the disk.
fn recorded(directory: &Path, answers: &[(&str, &str)]) -> PathBuf {
    use std::os::unix::fs::PermissionsExt;
    let program = directory.join("smartctl");
    let mut script = "#!/bin/sh\ncase $4 in\n".to_owned();
    for (disk, answer) in answers {
        let file = directory.join(format!("{disk}.json"));
        std::fs::write(&file, answer).unwrap();
        script += &format!("/dev/{disk}) /bin/cat '{}'; exit 64;;\n", file.display());
    }
    std::fs::write(&program, script + "*) exit 2;;\nesac\n").unwrap();
    std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
    program
}

const WELL: &str = r#"{"json_format_version":[1,0],"model_name":"Brine NV 1","smart_status":{"passed":true},
    "temperature":{"current":41},"power_on_time":{"hours":5120},
    "nvme_smart_health_information_log":{"critical_warning":0,"available_spare":100,
    "available_spare_threshold":10,"percentage_used":7,"media_errors":0}}"#;
const LOSING: &str = r#"{"model_name":"Shoal 4T","smart_status":{"passed":true},"temperature":{"current":38},
    "ata_smart_attributes":{"table":[{"id":5,"value":90,"raw":{"value":24}},
    {"id":197,"value":100,"raw":{"value":8}},{"id":231,"value":55,"raw":{"value":55}}]}}"#;
const WORN_OUT: &str = r#"{"smart_status":{"passed":true},
    "nvme_smart_health_information_log":{"percentage_used":97,"available_spare":60,"available_spare_threshold":10}}"#;

/// Numbers of a device.
fn dev(major: u32, minor: u32) -> u64 {
    rustix::fs::makedev(major, minor)
}

#[test]
fn disks_are_found_through_partitions_mappers_and_arrays_and_judged_by_what_they_say() {
    let sysfs = Sysfs::new();
    sysfs.device("nvme0n1", "259:0", &[("queue/rotational", "0"), ("device/state", "live")]);
    sysfs.device("nvme0n1/nvme0n1p2", "259:2", &[("partition", "2")]);
    sysfs.device("sda", "8:0", &[("queue/rotational", "1"), ("device/vendor", "ATA")]);
    sysfs.device("sda/sda1", "8:1", &[("partition", "1")]);
    sysfs.device("sdb", "8:16", &[("device/model", "Shoal 2T"), ("device/state", "running")]);
    let md = [("md/degraded", "1"), ("md/dev-sda1/errors", "3"), ("md/dev-sdb/errors", "0")];
    sysfs.device("md0", "9:0", &md);
    sysfs.lies_on("md0", "sda/sda1");
    sysfs.lies_on("md0", "sdb");
    sysfs.device("dm-0", "253:0", &[]);
    sysfs.lies_on("dm-0", "md0");
    // a btrfs over two disks, one of which had errors
    let btrfs = sysfs.0.path().join("fs/btrfs/0a1b2c3d");
    for (number, counts) in
        [("1", "write_errs 0\nread_errs 0\n"), ("2", "write_errs 2\nread_errs 0\n")]
    {
        std::fs::create_dir_all(btrfs.join("devinfo").join(number)).unwrap();
        std::fs::write(btrfs.join("devinfo").join(number).join("error_stats"), counts).unwrap();
    }
    std::fs::create_dir_all(btrfs.join("devices")).unwrap();
    for (name, place) in [("nvme0n1p2", "nvme0n1/nvme0n1p2"), ("sdb", "sdb")] {
        symlink(sysfs.0.path().join("devices").join(place), btrfs.join("devices").join(name))
            .unwrap();
    }
    let mut over_two = volume(dev(0, 44));
    (over_two.fs_type, over_two.source) = ("btrfs".to_owned(), "/dev/sdb".into());
    let programs = tempfile::tempdir().unwrap();
    let answers = [("nvme0n1", WELL), ("sda", LOSING)];
    let asking = asking(&sysfs, Some(recorded(programs.path(), &answers)));
    let found =
        drives(&[volume(dev(259, 2)), volume(dev(253, 0)), volume(dev(7, 7)), over_two], &asking);

    let [well, array, unknown, over_two] = &found[..] else { panic!("{found:?}") };
    assert_eq!((well.disks.len(), well.health()), (1, Health::Good));
    assert_eq!(well.disks[0].model(), Some("Brine NV 1"));
    assert_eq!(well.disks[0].temperature(), Some(41));
    assert_eq!(well.disks[0].own.as_ref().unwrap().wear, Some(7));

    let names: Vec<&str> = array.disks.iter().map(|disk| disk.name.as_str()).collect();
    assert_eq!(names, ["sda", "sdb"]);
    assert_eq!(array.health(), Health::Failing);
    assert_eq!(array.verdict(), "sda is failing: copy first what only lies here");
    assert!(array.disks[0].reasons.contains(&"8 sectors cannot be read".to_owned()));
    assert_eq!(array.disks[0].own.as_ref().unwrap().reallocated, Some(24));
    assert_eq!(array.disks[1].health, Health::Unknown, "it did not answer");
    assert_eq!(array.disks[1].model(), Some("Shoal 2T"));
    assert!(array.troubles.iter().any(|trouble| trouble.contains("md0 lacks 1")));
    assert!(array.troubles.iter().any(|trouble| trouble.contains("sda1 had 3 errors")));

    assert_eq!(over_two.disks.len(), 2);
    assert_eq!(over_two.troubles, ["btrfs has counted 2 errors (write) on device 2"]);
    assert_eq!(over_two.health(), Health::Worn);

    assert_eq!(unknown.health(), Health::Unknown);
    assert!(unknown.verdict().contains("not known"), "{}", unknown.verdict());
}

#[test]
fn nothing_that_is_not_said_is_good() {
    let no_own = |state: Option<&str>| {
        judge(&DiskFacts { state: state.map(str::to_owned), ..DiskFacts::default() }, None).0
    };
    assert_eq!(no_own(None), Health::Unknown);
    assert_eq!(no_own(Some("running")), Health::Unknown);
    assert_eq!(no_own(Some("offline")), Health::Failing);
    let says = |answer: &str| {
        judge(&DiskFacts::default(), Some(&smart::read(answer.as_bytes()).unwrap())).0
    };
    assert_eq!(
        [says(WELL), says(LOSING), says(WORN_OUT)],
        [Health::Good, Health::Failing, Health::Worn]
    );
    assert_eq!(says(r#"{"smart_status":{"passed":false}}"#), Health::Failing);
    assert_eq!(says(r#"{"temperature":{"current":30}}"#), Health::Unknown);
    for nonsense in ["", "{}", "[1]", "\u{0}", r#"{"smart_status":7}"#, r#"{"exit_status":2}"#] {
        assert_eq!(smart::read(nonsense.as_bytes()), None, "{nonsense}");
    }
    // one that is well beside one that says nothing is not known to be well
    let disk = |health| Drive {
        name: "sda".into(),
        kernel: DiskFacts::default(),
        own: None,
        health,
        reasons: Vec::new(),
    };
    let both =
        Drives { disks: vec![disk(Health::Good), disk(Health::Unknown)], ..Drives::default() };
    assert_eq!(both.health(), Health::Unknown);
}

#[test]
fn a_device_that_lies_on_itself_ends() {
    let sysfs = Sysfs::new();
    sysfs.device("dm-0", "253:0", &[]);
    sysfs.device("dm-1", "253:1", &[]);
    sysfs.lies_on("dm-0", "dm-1");
    sysfs.lies_on("dm-1", "dm-0");
    let found = drives(&[volume(dev(253, 0))], &asking(&sysfs, None));
    assert_eq!(found[0].health(), Health::Unknown);
    assert!(found[0].verdict().contains("circle"), "{}", found[0].verdict());
}
