//! Deleted files that processes hold, as targets of a plan.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::{Survey, Target};
use crate::kernel::{DeletedFile, DeletedFiles, Process};
use crate::shown::DocPath;
use crate::units::{Bytes, Time};

/// The processes behind a held file, as they were reviewed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct HeldTarget {
    /// Its path as it was.
    pub was: DocPath,
    /// The processes that hold it.
    pub holders: Vec<Process>,
    /// A process and a descriptor of it through which it can be reached, if it has one.
    pub through: Option<(u32, u32)>,
    /// Somebody has it mapped into memory: to cut it would crash that process.
    pub mapped: bool,
}

/// A file that is freed when the last of some processes ends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HeldBytes {
    /// Device and inode.
    pub inode: (u64, u64),
    /// Bytes on disk.
    pub bytes: Bytes,
    /// Numbers of those who hold it.
    pub holders: Vec<u32>,
}

/// What was found about a held file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HeldSurvey {
    /// Whom it is about.
    pub target: HeldTarget,
    /// What its holders hold on the same volume, itself included: freed with them.
    pub together: Vec<HeldBytes>,
}

/// The record of a held file, for a plan. Its path is one below `/proc`, which no other target has.
pub fn survey_held(file: &DeletedFile, all: &DeletedFiles) -> Survey {
    let through =
        file.holds.iter().find_map(|hold| Some((hold.process.pid, *hold.descriptors.first()?)));
    let first = file.holds.first().map_or(0, |hold| hold.process.pid);
    let path = match through {
        Some((pid, fd)) => PathBuf::from(format!("/proc/{pid}/fd/{fd}")),
        None => PathBuf::from(format!("/proc/{first}/maps/{}", file.ino)),
    };
    let allocated = file.allocated.unwrap_or(Bytes::ZERO);
    let pids = |file: &DeletedFile| -> Vec<u32> {
        file.holds.iter().map(|hold| hold.process.pid).collect()
    };
    let ours = pids(file);
    let together = all
        .on_volume(file.volume)
        .filter(|other| pids(other).iter().any(|pid| ours.contains(pid)))
        .map(|other| HeldBytes {
            inode: (other.dev, other.ino),
            bytes: other.allocated.unwrap_or(Bytes::ZERO),
            holders: pids(other),
        });
    let target = Target {
        path: DocPath(path),
        device: file.dev,
        inode: file.ino,
        kind: file.kind,
        size: file.size,
        mtime: file.written,
        ctime: file.changed,
        links: 0,
        entries: 1,
        allocated,
        digest: None,
    };
    Survey {
        held: Some(HeldSurvey {
            target: HeldTarget {
                was: DocPath(file.path.clone()),
                holders: file.holds.iter().map(|hold| hold.process.clone()).collect(),
                through,
                mapped: file.holds.iter().any(|hold| hold.mapped),
            },
            together: together.collect(),
        }),
        ..Survey::of_target(target, Time::default())
    }
}
