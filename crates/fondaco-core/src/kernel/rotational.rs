//! Whether a device turns, so that reading in two places at once costs more than it gains.

use std::path::Path;

/// Whether the device of a file system turns, as the kernel knows it (`queue/rotational` in sysfs,
/// `Documentation/ABI/stable/sysfs-block`); `false` where it does not know, as for file systems without a device.
pub fn is_rotational(device: u64) -> bool {
    let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
    says_so(Path::new("/sys/dev/block"), &format!("{major}:{minor}"))
}

/// As [`is_rotational`], with sysfs elsewhere. A partition has no queue of its own: that of its disk is one level up.
fn says_so(block: &Path, device: &str) -> bool {
    let of = |queue: &str| std::fs::read_to_string(block.join(device).join(queue)).ok();
    let found = of("queue/rotational").or_else(|| of("../queue/rotational"));
    found.is_some_and(|text| text.trim() == "1")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_partition_turns_if_its_disk_does() {
        let sysfs = tempfile::tempdir().unwrap();
        for (disk, turns) in [("sda", "1"), ("nvme0n1", "0")] {
            let queue = sysfs.path().join(disk).join("queue");
            std::fs::create_dir_all(&queue).unwrap();
            std::fs::create_dir(sysfs.path().join(disk).join("part")).unwrap();
            std::fs::write(queue.join("rotational"), format!("{turns}\n")).unwrap();
        }
        for (device, turns) in
            [("sda", true), ("sda/part", true), ("nvme0n1/part", false), ("none", false)]
        {
            assert_eq!(says_so(sysfs.path(), device), turns, "{device}");
        }
    }
}
