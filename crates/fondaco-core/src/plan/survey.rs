//! Looking at one target closely: the record that it is later compared with.

use std::collections::HashMap;
use std::ffi::{CStr, OsStr};
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::locator::DirectoryFacts;
use super::{HeldSurvey, Locator, Refusal, Shared};
use crate::kernel::{
    self, CallError, DirReader, Holder, Inventory, InventoryWriter, Kind, Op, OpenFiles, Stat,
};
use crate::shown::DocPath;
use crate::units::{Bytes, Time};

/// A target as it was reviewed. Only what still fits this is ever removed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Target {
    /// Its whole path, without links.
    pub path: DocPath,
    /// Device number of its file system.
    pub device: u64,
    /// Inode number on that file system.
    pub inode: u64,
    /// What it is.
    pub kind: Kind,
    /// Length in bytes.
    pub size: u64,
    /// When its contents were last written.
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
        let found = Self::of_inode(path, found);
        let alone = Self { entries: self.entries, digest: self.digest.clone(), ..found };
        self.difference(&alone, false)
    }

    /// Says what is different about a file's identity, length and time of writing; another name more or less is not.
    pub(crate) fn contents_difference(&self, found: &Stat) -> Option<String> {
        let found = Self::of_inode(&self.path.0, found);
        let as_reviewed = Self { ctime: found.ctime, links: found.links, ..self.clone() };
        let found = Self { entries: self.entries, allocated: self.allocated, ..found };
        as_reviewed.difference(&found, false)
    }

    /// Says what is different, if anything is. `moved`: it has been renamed since the review, which
    /// by itself changes the inode's change time.
    pub fn difference(&self, found: &Target, moved: bool) -> Option<String> {
        /// In words, if they differ; nothing is put into words as long as they do not.
        fn differs<T: PartialEq>(
            what: &str,
            then: &T,
            now: &T,
            word: impl Fn(&T) -> String,
        ) -> Option<String> {
            (then != now).then(|| format!("{what} was {} and is {}", word(then), word(now)))
        }
        let kind = |kind: &Kind| kind.word().to_owned();
        let change = if moved { &self.ctime } else { &found.ctime };
        differs("kind", &self.kind, &found.kind, kind)
            .or_else(|| differs("device", &self.device, &found.device, u64::to_string))
            .or_else(|| differs("inode", &self.inode, &found.inode, u64::to_string))
            .or_else(|| differs("size", &self.size, &found.size, u64::to_string))
            .or_else(|| differs("last written", &self.mtime, &found.mtime, Time::to_string))
            .or_else(|| differs("links", &self.links, &found.links, u32::to_string))
            .or_else(|| differs("inode changed", &self.ctime, change, Time::to_string))
            .or_else(|| differs("entries", &self.entries, &found.entries, u64::to_string))
            .or_else(|| {
                (self.digest != found.digest).then(|| "something below it is different".to_owned())
            })
    }
}

/// What a close look at one target found.
#[derive(Clone, Debug)]
pub struct Survey {
    /// The record of the target that a plan keeps.
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
    /// What a program of the system is to remove, if it is about that.
    pub tool: Option<Box<super::ToolTarget>>,
}

impl Survey {
    /// Of a target that nothing more is known of yet. All that it takes is counted as having one name.
    pub(crate) fn of_target(target: Target, changed: Time) -> Self {
        Self {
            single: target.allocated,
            target,
            linked: HashMap::new(),
            socket: None,
            shared: Shared::default(),
            held: None,
            in_use: None,
            changed,
            tool: None,
        }
    }
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
    survey_located(path, open, &mut Locator::default(), &|_| Ok(()))
}

/// As [`survey_with_open`], one of many. `is_meant` is asked of the target itself, as it is, before anything below it.
///
/// # Errors
///
/// As [`survey`], and what `is_meant` refuses.
pub(super) fn survey_located(
    path: &Path,
    open: &OpenFiles,
    locator: &mut Locator,
    is_meant: &dyn Fn(&Stat) -> Result<(), Refusal>,
) -> Result<Survey, Refusal> {
    for _ in 0..ATTEMPTS {
        let begun = kernel::inode_clock();
        let survey = survey_once(path, open, locator, is_meant)?;
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

fn survey_once(
    path: &Path,
    open: &OpenFiles,
    locator: &mut Locator,
    is_meant: &dyn Fn(&Stat) -> Result<(), Refusal>,
) -> Result<Survey, Refusal> {
    let located = locator.locate(path)?;
    let parent = located.parent.as_fd();
    let facts = locator.directory_facts(&located);
    let DirectoryFacts { mount, sharing } = facts.map_err(CallError::on(Op::Examine, path))?;
    let (mut shared, mut in_use) = (Shared::default(), None);
    let place = (parent, located.name.as_os_str());
    let mut survey = survey_on(mount, place, path, &Touched::default(), &mut |visit| {
        if visit.below.as_os_str().is_empty() {
            is_meant(visit.found)?;
        }
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
    let directory = kernel::stat_descriptor(parent).map_err(CallError::on(Op::Examine, path))?;
    survey_on(directory.mount, (parent, name), path, touched, each)
}

/// As [`survey_at`], if it is known what mount the open directory is on.
fn survey_on(
    mount: u64,
    (parent, name): (BorrowedFd<'_>, &OsStr),
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
    if top.mount != mount {
        return Err(Refusal::MountBelow(path.to_owned()));
    }
    let mut walk = Walk {
        survey: Survey {
            single: Bytes::ZERO,
            ..Survey::of_target(Target::of_inode(path, &top), top.ctime)
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

/// A directory on the way down.
struct Level {
    fd: OwnedFd,
    /// Its names one behind the other, each with the zero that ends it.
    names: Vec<u8>,
    /// Where the names begin that are still to be looked at, the first of them last.
    left: Vec<u32>,
    /// How long the path of the directory is.
    path_length: usize,
}

/// The name that begins at a place of [`Level::names`].
fn name_at(names: &[u8], at: u32) -> &CStr {
    // every name has its zero
    CStr::from_bytes_until_nul(&names[at as usize..]).unwrap_or_default()
}

impl Walk<'_> {
    fn below(
        &mut self,
        parent: BorrowedFd<'_>,
        name: &OsStr,
        each: &mut Each<'_>,
    ) -> Result<(), Refusal> {
        let mut hash = blake3::Hasher::new();
        let mut record = Vec::new();
        let mut reader = DirReader::default();
        // the path of the entry at hand below the target: its bytes, since a path is costly to cut
        let mut path = Vec::new();
        let mut levels = vec![self.open(&mut reader, parent, name, &path)?];
        loop {
            let depth = levels.len();
            let Some(Level { fd, names, left, path_length }) = levels.last_mut() else { break };
            let Some(at) = left.pop() else {
                levels.pop();
                hash.update(b"\0up");
                continue;
            };
            let c_name = name_at(names, at);
            let name = OsStr::from_bytes(c_name.to_bytes());
            path.truncate(*path_length);
            if !path.is_empty() {
                path.push(b'/');
            }
            path.extend_from_slice(name.as_bytes());
            let below = Path::new(OsStr::from_bytes(&path));
            let found = kernel::stat_at(&*fd, c_name)
                .map_err(|error| CallError::on(Op::Examine, self.path.join(below))(error))?;
            let stat = self.touched.as_reviewed(found);
            if stat.mount != self.mount {
                return Err(Refusal::MountBelow(self.path.join(below)));
            }
            self.count(below, &stat)?;
            each(Visit { parent: fd.as_fd(), name, below, depth, stat: &stat, found: &found })?;
            write_record(&mut record, name, &stat);
            hash.update(&record);
            record.clear();
            if stat.kind == Kind::Directory {
                let next = self.open(&mut reader, fd.as_fd(), name, &path)?;
                levels.push(next);
            }
        }
        self.survey.target.digest = Some(hash.finalize().to_hex().to_string());
        Ok(())
    }

    fn open(
        &self,
        reader: &mut DirReader,
        parent: BorrowedFd<'_>,
        name: &OsStr,
        path: &[u8],
    ) -> Result<Level, CallError> {
        let place = || self.path.join(OsStr::from_bytes(path));
        let fd = kernel::open_directory(parent, name)
            .map_err(|error| CallError::on(Op::OpenDirectory, place())(error))?;
        let (mut names, mut left) = (Vec::new(), Vec::new());
        reader
            .read(&fd, |entry| {
                left.push(names.len() as u32);
                names.extend_from_slice(entry.name.to_bytes_with_nul());
                true
            })
            .map_err(|error| CallError::on(Op::ReadDirectory, place())(error))?;
        left.sort_unstable_by(|a, b| name_at(&names, *b).cmp(name_at(&names, *a)));
        Ok(Level { fd, names, left, path_length: path.len() })
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
fn write_record(out: &mut Vec<u8>, name: &OsStr, stat: &Stat) {
    let is_directory = stat.kind == Kind::Directory;
    let (size, links) = if is_directory { (0, 0) } else { (stat.size, stat.links) };
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
}
