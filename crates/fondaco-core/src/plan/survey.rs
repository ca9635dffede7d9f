//! Looking at one target closely: the record that it is later compared with.

use std::collections::HashMap;
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::shared_extents::Sharing;
use super::{HeldSurvey, Refusal, Shared};
use crate::kernel::{
    self, CallError, DirReader, Holder, Inventory, InventoryWriter, Kind, Op, OpenFiles, Stat,
};
use crate::shown::DocPath;
use crate::units::{Bytes, Time};

/// A target as it was reviewed. Only what still fits this is ever removed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Target {
    /// Where.
    pub path: DocPath,
    /// Device number of its file system.
    pub device: u64,
    /// Inode number.
    pub inode: u64,
    /// What it is.
    pub kind: Kind,
    /// Length in bytes.
    pub size: u64,
    /// Last written.
    pub mtime: Time,
    /// Last change of the inode.
    pub ctime: Time,
    /// Number of its names.
    pub links: u32,
    /// Names in it: itself and all below it.
    pub entries: u64,
    /// Bytes on disk, itself and all below it, every inode once.
    pub allocated: Bytes,
    /// Of a directory: a BLAKE3 hash over the records of all below it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
}

impl Target {
    /// The record of one inode by itself, without what lies below it.
    pub(crate) fn of_inode(path: &Path, stat: &Stat) -> Self {
        Self {
            path: DocPath(path.to_owned()),
            device: stat.dev,
            inode: stat.ino,
            kind: stat.kind,
            size: stat.size,
            mtime: stat.mtime,
            ctime: stat.ctime,
            links: if stat.kind == Kind::Directory { 0 } else { stat.links },
            entries: 0,
            allocated: Bytes::ZERO,
            digest: None,
        }
    }

    /// Says what is different about the inode itself, whatever lies below it.
    pub(crate) fn inode_difference(&self, path: &Path, found: &Stat) -> Option<String> {
        let alone = Self { entries: 0, digest: None, ..self.clone() };
        alone.difference(&Self::of_inode(path, found), false)
    }

    /// Says what is different, if anything is. `moved`: it has been renamed since the review, which
    /// by itself changes the inode's change time.
    pub fn difference(&self, found: &Target, moved: bool) -> Option<String> {
        let differs = |what: &str, then: String, now: String| {
            (then != now).then(|| format!("{what} was {then} and is {now}"))
        };
        differs("kind", self.kind.word().into(), found.kind.word().into())
            .or_else(|| differs("device", self.device.to_string(), found.device.to_string()))
            .or_else(|| differs("inode", self.inode.to_string(), found.inode.to_string()))
            .or_else(|| differs("size", self.size.to_string(), found.size.to_string()))
            .or_else(|| differs("last written", self.mtime.to_string(), found.mtime.to_string()))
            .or_else(|| differs("links", self.links.to_string(), found.links.to_string()))
            .or_else(|| {
                let (then, now) = (self.ctime.to_string(), found.ctime.to_string());
                if moved { None } else { differs("inode changed", then, now) }
            })
            .or_else(|| differs("entries", self.entries.to_string(), found.entries.to_string()))
            .or_else(|| {
                (self.digest != found.digest).then(|| "something below it is different".to_owned())
            })
    }
}

/// What a close look at one target found.
#[derive(Clone, Debug)]
pub struct Survey {
    /// The record.
    pub target: Target,
    /// Bytes on disk of what has one name only.
    pub single: Bytes,
    /// Inodes with several names: device, inode → names in all, names below the target, bytes.
    pub linked: HashMap<(u64, u64), (u32, u32, Bytes)>,
    /// Whether there is a socket, which no archive can keep; its path.
    pub socket: Option<PathBuf>,
    /// What it shares with others on a file system where files can.
    pub shared: Shared,
    /// Of a deleted file: who holds it.
    pub held: Option<HeldSurvey>,
    /// Something of it that is open, and by whom: as long as that is so it is left alone.
    pub in_use: Option<(PathBuf, Holder)>,
    /// When an inode of it was last changed.
    pub changed: Time,
}

/// Inodes whose names or change times this run itself has altered, so that another name of the
/// same inode can still be recognised as what was reviewed.
#[derive(Debug, Default)]
pub struct Touched {
    inodes: HashMap<(u64, u64), (Stat, Stat)>,
}

impl Touched {
    /// Notes what an inode was as reviewed and what it is after our own act.
    pub fn note(&mut self, before: &Stat, after: &Stat) {
        let key = (before.dev, before.ino);
        let reviewed = self.as_reviewed(*before);
        self.inodes.insert(key, (reviewed, *after));
    }

    /// The facts as they were before our own acts, if nobody else has changed the inode since.
    pub fn as_reviewed(&self, found: Stat) -> Stat {
        match self.inodes.get(&(found.dev, found.ino)) {
            Some((reviewed, after)) if (after.ctime, after.links) == (found.ctime, found.links) => {
                Stat { ctime: reviewed.ctime, links: reviewed.links, ..found }
            }
            _ => found,
        }
    }
}

/// A target's parent directory, opened safely.
#[derive(Debug)]
pub struct Located {
    /// The directory that holds it.
    pub parent: OwnedFd,
    /// Its name there.
    pub name: OsString,
    /// The root of the mount that it lies on.
    pub mount_point: PathBuf,
}

/// Opens the directory that holds a target: from the root of its mount, beneath it, no links.
///
/// # Errors
///
/// [`Refusal::Gone`], [`Refusal::MountBelow`] for a mount's root, [`Refusal::Call`].
pub fn locate(path: &Path) -> Result<Located, Refusal> {
    let gone = |error: CallError| match error.source.kind() {
        io::ErrorKind::NotFound => Refusal::Gone(path.to_owned()),
        _ => Refusal::Call(error),
    };
    let parent = path.parent().unwrap_or(path);
    let on = kernel::stat_path(parent).map_err(CallError::on(Op::Examine, parent)).map_err(gone)?;
    let mounts = kernel::mounts().map_err(CallError::on(Op::Read, "/proc/self/mountinfo"))?;
    let mount = mounts
        .iter()
        .find(|mount| mount.id == on.mount && path.starts_with(&mount.mount_point))
        .or_else(|| kernel::mount_of(parent, &mounts))
        .ok_or_else(|| Refusal::Gone(path.to_owned()))?;
    if mount.mount_point == path {
        return Err(Refusal::MountBelow(path.to_owned()));
    }
    let (parent, name) = kernel::parent_of(&mount.mount_point, path).map_err(gone)?;
    Ok(Located { parent, name: name.to_owned(), mount_point: mount.mount_point.clone() })
}

/// One entry that a survey meets.
#[derive(Debug)]
pub struct Visit<'a> {
    /// The directory that holds it.
    pub parent: BorrowedFd<'a>,
    /// Its name there.
    pub name: &'a OsStr,
    /// Its path below the target; empty for the target itself.
    pub below: &'a Path,
    /// How many directories of the target lie above it.
    pub depth: usize,
    /// The facts about it as they were reviewed: what this run itself has changed is left out.
    pub stat: &'a Stat,
    /// The facts about it as they are.
    pub found: &'a Stat,
}

/// What a survey tells of every entry, directories before what they hold.
pub type Each<'a> = dyn FnMut(Visit<'_>) -> Result<(), Refusal> + 'a;

/// Looks at a target and all below it, one by one in the order of names, and changes nothing.
///
/// # Errors
///
/// [`Refusal`]: gone, another volume below it, immutable, or not readable.
pub fn survey(path: &Path) -> Result<Survey, Refusal> {
    survey_with_open(path, &OpenFiles::default())
}

/// As [`survey`], and notes what of it is open.
///
/// # Errors
///
/// As [`survey`].
pub fn survey_with_open(path: &Path, open: &OpenFiles) -> Result<Survey, Refusal> {
    for _ in 0..ATTEMPTS {
        let begun = kernel::inode_clock();
        let survey = survey_once(path, open)?;
        if tells_changes_apart(survey.changed, begun) {
            return Ok(survey);
        }
        while !tells_changes_apart(survey.changed, kernel::inode_clock()) {
            std::thread::sleep(Duration::from_millis(1));
        }
    }
    Err(Refusal::Unsettled(path.to_owned()))
}

/// How often a target is looked at that is changed while it is looked at.
const ATTEMPTS: usize = 5;

/// Whether a change that is made from `now` on gives an inode another change time than the last one has: the
/// clock that stamps inodes moves in steps of some milliseconds, on some file systems of a second.
fn tells_changes_apart(changed: Time, now: Time) -> bool {
    let is_past = if changed.nsec == 0 { changed.sec < now.sec } else { changed < now };
    // a stamp from a time when the clock was ahead is not given again soon
    is_past || changed.sec > now.sec + 1
}

fn survey_once(path: &Path, open: &OpenFiles) -> Result<Survey, Refusal> {
    let located = locate(path)?;
    let parent = located.parent.as_fd();
    let sharing = Sharing::of(parent);
    let (mut shared, mut in_use) = (Shared::default(), None);
    let mut survey = survey_at(parent, &located.name, path, &Touched::default(), &mut |visit| {
        sharing.note(&visit, &mut shared);
        if in_use.is_none() && open.is_open(visit.stat.dev, visit.stat.ino) {
            let holder = open.holders(visit.stat.dev, visit.stat.ino).into_iter().next();
            in_use = holder.map(|holder| (path.join(visit.below).components().collect(), holder));
        }
        Ok(())
    })?;
    (survey.shared, survey.in_use) = (shared, in_use);
    Ok(survey)
}

/// As [`survey`], for an entry of an open directory. `path` is the name it goes by in the record;
/// `each` is told every entry, and can end the survey with a refusal of its own.
///
/// # Errors
///
/// As [`survey`], and what `each` refuses.
pub fn survey_at(
    parent: BorrowedFd<'_>,
    name: &OsStr,
    path: &Path,
    touched: &Touched,
    each: &mut Each<'_>,
) -> Result<Survey, Refusal> {
    let found = match kernel::stat_at(parent, name) {
        Ok(stat) => stat,
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            return Err(Refusal::Gone(path.to_owned()));
        }
        Err(error) => return Err(CallError::on(Op::Examine, path)(error).into()),
    };
    let top = touched.as_reviewed(found);
    let directory = kernel::stat_descriptor(parent).map_err(CallError::on(Op::Examine, path))?;
    if top.mount != directory.mount {
        return Err(Refusal::MountBelow(path.to_owned()));
    }
    let mut walk = Walk {
        survey: Survey {
            target: Target::of_inode(path, &top),
            single: Bytes::ZERO,
            linked: HashMap::new(),
            socket: None,
            shared: Shared::default(),
            held: None,
            in_use: None,
            changed: top.ctime,
        },
        mount: top.mount,
        path,
        touched,
    };
    walk.count(Path::new(""), &top)?;
    each(Visit { parent, name, below: Path::new(""), depth: 0, stat: &top, found: &found })?;
    if top.kind == Kind::Directory {
        walk.below(parent, name, each)?;
    }
    let survey = &mut walk.survey;
    survey.target.allocated =
        survey.single + survey.linked.values().map(|(_, _, bytes)| *bytes).sum();
    Ok(walk.survey)
}

/// As [`survey_at`], and lists all that was met, as it is, for its removal.
///
/// # Errors
///
/// As [`survey_at`].
pub fn list_at(
    parent: BorrowedFd<'_>,
    name: &OsStr,
    path: &Path,
    touched: &Touched,
    each: &mut Each<'_>,
) -> Result<(Survey, Inventory), Refusal> {
    let failed = |error: io::Error| CallError::on(Op::Write, path)(error);
    let mut list = InventoryWriter::new().map_err(failed)?;
    let survey = survey_at(parent, name, path, touched, &mut |visit| {
        list.add(visit.depth, visit.name, visit.found).map_err(failed)?;
        each(visit)
    })?;
    Ok((survey, list.finish().map_err(failed)?))
}

struct Walk<'a> {
    survey: Survey,
    mount: u64,
    path: &'a Path,
    touched: &'a Touched,
}

/// A directory on the way down: its descriptor, and the names still to be looked at, last first.
struct Level {
    fd: OwnedFd,
    names: Vec<OsString>,
}

impl Walk<'_> {
    fn below(
        &mut self,
        parent: BorrowedFd<'_>,
        name: &OsStr,
        each: &mut Each<'_>,
    ) -> Result<(), Refusal> {
        let mut hash = blake3::Hasher::new();
        let mut at = PathBuf::new();
        let mut levels = vec![self.open(parent, name, &at)?];
        loop {
            let depth = levels.len();
            let Some(level) = levels.last_mut() else { break };
            let Some(name) = level.names.pop() else {
                levels.pop();
                at.pop();
                hash.update(b"\0up");
                continue;
            };
            at.push(&name);
            let found = kernel::stat_at(&level.fd, name.as_os_str())
                .map_err(CallError::on(Op::Examine, self.path.join(&at)))?;
            let stat = self.touched.as_reviewed(found);
            if stat.mount != self.mount {
                return Err(Refusal::MountBelow(self.path.join(&at)));
            }
            self.count(&at, &stat)?;
            let parent = level.fd.as_fd();
            each(Visit { parent, name: &name, below: &at, depth, stat: &stat, found: &found })?;
            hash.update(&record(&name, &stat));
            if stat.kind == Kind::Directory {
                let next = self.open(level.fd.as_fd(), &name, &at)?;
                levels.push(next);
            } else {
                at.pop();
            }
        }
        self.survey.target.digest = Some(hash.finalize().to_hex().to_string());
        Ok(())
    }

    fn open(&self, parent: BorrowedFd<'_>, name: &OsStr, at: &Path) -> Result<Level, CallError> {
        let path = || self.path.join(at);
        let fd = kernel::open_directory(parent, name)
            .map_err(|error| CallError::on(Op::OpenDirectory, path())(error))?;
        let mut names = Vec::new();
        DirReader::default()
            .read(&fd, |entry| {
                names.push(OsStr::from_bytes(entry.name.to_bytes()).to_owned());
                true
            })
            .map_err(|error| CallError::on(Op::ReadDirectory, path())(error))?;
        names.sort_unstable_by(|a, b| b.cmp(a));
        Ok(Level { fd, names })
    }

    fn count(&mut self, at: &Path, stat: &Stat) -> Result<(), Refusal> {
        if stat.immutable || stat.append_only {
            return Err(Refusal::Immutable(self.path.join(at)));
        }
        self.survey.target.entries += 1;
        self.survey.changed = self.survey.changed.max(stat.ctime);
        if stat.kind != Kind::Directory && stat.links > 1 {
            let new = (stat.links, 0, stat.allocated());
            self.survey.linked.entry((stat.dev, stat.ino)).or_insert(new).1 += 1;
        } else {
            self.survey.single += stat.allocated();
        }
        const SOCKET: u32 = 0o140_000;
        if stat.mode & 0o170_000 == SOCKET && self.survey.socket.is_none() {
            self.survey.socket = Some(self.path.join(at));
        }
        Ok(())
    }
}

/// One entry as the digest takes it. A directory's own size and links follow from what it holds.
fn record(name: &OsStr, stat: &Stat) -> Vec<u8> {
    let is_directory = stat.kind == Kind::Directory;
    let (size, links) = if is_directory { (0, 0) } else { (stat.size, stat.links) };
    let mut out = Vec::with_capacity(name.len() + 72);
    out.extend_from_slice(&(name.len() as u32).to_le_bytes());
    out.extend_from_slice(name.as_bytes());
    for number in [
        u64::from(stat.mode),
        u64::from(stat.uid) << 32 | u64::from(stat.gid),
        stat.dev,
        stat.ino,
        size,
        u64::from(links),
        stat.mtime.sec as u64,
        u64::from(stat.mtime.nsec),
        stat.ctime.sec as u64,
        u64::from(stat.ctime.nsec),
    ] {
        out.extend_from_slice(&number.to_le_bytes());
    }
    out
}
