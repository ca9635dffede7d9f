//! Restoring one target from an archive into a private directory.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read};
use std::os::fd::OwnedFd;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use rustix::fs::{AtFlags, Mode, OFlags};

use super::ahead::with_ahead;
use super::dress::{dress, make_without_contents};
use super::original::ContentHash;
use super::siblings::Siblings;
use super::tar_form::plain_name;
use super::tar_read::{Member, TarReader};
use super::writers::{Failed, LONGEST, NewFile, Writers};
use super::{ArchiveFiles, ArchivedEntry, ArchivedTarget, Depot, DepotAddress, DepotError, Index};
use crate::kernel::{self, CallError, Kind, Op, PrivateDir, open_beneath};
use crate::shown::{DocPath, Shown};

/// What was restored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Unpacked {
    /// How many names were restored.
    pub entries: u64,
}

/// An archive that is open, with its index read: many of its targets can be unpacked one after the other.
#[derive(Debug)]
pub struct OpenArchive {
    path: PathBuf,
    pub(super) depot: Box<dyn Depot>,
    /// The name of its object in the depot.
    pub(super) object: String,
    pub(super) index: Index,
    /// Places of targets in the index, by the number of their action.
    by_action: HashMap<u32, usize>,
    /// Inodes with several names, by the name that was packed with the contents: places of target and entry of each.
    pub(super) links: HashMap<DocPath, Vec<(usize, usize)>>,
}

impl OpenArchive {
    /// Opens an archive by its path.
    ///
    /// # Errors
    ///
    /// [`DepotError`] if it or its index cannot be read, or others could have changed it.
    pub fn open(archive: &Path) -> Result<Self, DepotError> {
        let differs =
            |reason: &str| DepotError::Differs { path: archive.to_owned(), reason: reason.into() };
        // what others can write to is not read back either
        let address = DepotAddress::from(archive.parent().unwrap_or(archive));
        let depot = address.open_existing()?;
        let files = archive.file_name().and_then(OsStr::to_str);
        let name = files.and_then(|name| name.strip_suffix(".tar.zst"));
        let name = name.ok_or_else(|| differs("its name is not that of an archive"))?;
        let files = ArchiveFiles::of(name);
        let index = read_index(&*depot, &files.index)?;
        let actions = index.targets.iter().enumerate();
        let by_action = actions.map(|(place, target)| (target.action, place)).collect();
        let links = links(&index);
        let (path, object) = (archive.to_owned(), files.archive);
        Ok(Self { path, depot, object, index, by_action, links })
    }

    /// Whether a file is just what the archive holds for an action: contents, owner, mode and time. So it is after a put back
    /// that was cut off before the journal knew of it.
    pub(crate) fn has_as(&self, action: u32, parent: &OwnedFd, name: &OsStr) -> io::Result<bool> {
        let Some(place) = self.by_action.get(&action) else { return Ok(false) };
        let [wanted] = self.index.targets[*place].entries.as_slice() else { return Ok(false) };
        if wanted.kind != Kind::File || wanted.same_as.is_some() {
            return Ok(false);
        }
        let mut file = kernel::open_file(parent, name)?;
        let found = kernel::stat_descriptor(&file)?;
        let facts =
            (found.kind, found.size, found.mtime, found.mode & 0o7777, found.uid, found.gid);
        if facts
            != (Kind::File, wanted.size, wanted.mtime, wanted.mode & 0o7777, wanted.uid, wanted.gid)
        {
            return Ok(false);
        }
        let (mut hash, mut buffer) = (ContentHash::default(), vec![0; 256 << 10]);
        loop {
            match file.read(&mut buffer)? {
                0 => return Ok(Some(&hash.finish()) == wanted.sha256.as_ref()),
                got => hash.update(&buffer[..got]),
            }
        }
    }

    /// Its targets, each with the number of its action and where it was.
    pub fn targets(&self) -> Vec<(u32, PathBuf)> {
        self.index.targets.iter().map(ArchivedTarget::place).collect()
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Restores the target of one action into `area` under the name `held`: contents, owners, modes,
    /// times and extended attributes. Every file is compared with the index while it is written.
    /// Nothing outside `area` is touched; names are resolved beneath it without following links.
    ///
    /// # Errors
    ///
    /// [`DepotError`]; what was restored so far then lies in `area` and can be removed.
    pub fn unpack(
        &self,
        action: u32,
        area: &PrivateDir,
        held: &OsStr,
    ) -> Result<Unpacked, DepotError> {
        self.unpack_with(action, area, held, true)
    }

    /// As [`OpenArchive::unpack`]; what was restored is not durable before [`PrivateDir::sync_volume`], if that does it there.
    ///
    /// # Errors
    ///
    /// As [`OpenArchive::unpack`].
    pub(crate) fn unpack_unsynced(
        &self,
        action: u32,
        area: &PrivateDir,
        held: &OsStr,
    ) -> Result<Unpacked, DepotError> {
        self.unpack_with(action, area, held, false)
    }

    fn unpack_with(
        &self,
        action: u32,
        area: &PrivateDir,
        held: &OsStr,
        is_synced: bool,
    ) -> Result<Unpacked, DepotError> {
        let differs = |reason: String| DepotError::Differs { path: self.path.clone(), reason };
        let place = self.by_action.get(&action);
        let place = *place.ok_or_else(|| differs(format!("it does not hold action {action}")))?;
        let target = &self.index.targets[place];
        let frame = self.depot.read(&self.object, target.offset, Some(target.length))?;
        let decoder = zstd::stream::read::Decoder::new(frame);
        let decoder = decoder.map_err(CallError::on(Op::Read, &self.path))?;
        let top = plain_name(&target.original.0).to_owned();
        let siblings = Siblings::new(self, place);
        let size: u64 = target.entries.iter().map(|entry| entry.size).sum();
        let is_large = target.entries.len() > WORTH_ONE_SYNC || size >= WORTH_THREADS;
        let is_together = (is_large || !is_synced) && area.syncs_as_volume();
        let sync = if is_together { Sync::Together } else { Sync::Each };
        // writers leave their files to the sync of the volume
        if size < WORTH_THREADS || sync == Sync::Each {
            let restore = Restore { area, held, top, siblings, sync, writers: None };
            self.restore_all(decoder, target, &restore)?;
        } else {
            let failed = Failed::default();
            with_ahead(decoder, |stream| {
                Writers::with(&failed, |writers| {
                    let writers = Some(writers);
                    let restore = Restore { area, held, top, siblings, sync, writers };
                    self.restore_all(stream, target, &restore)
                })
            })?;
        }
        // a directory's times and mode last: filling it changes the one and may need the other
        let directories = target.entries.iter().rev().filter(|e| e.kind == Kind::Directory);
        for directory in directories {
            let place = place_of(held, plain_name(&target.original.0), &directory.name.0)?;
            let path = area.path().join(&place);
            let fd = open_beneath(area.fd(), &place, OFlags::RDONLY | OFlags::DIRECTORY)
                .map_err(CallError::on(Op::Open, &path))?;
            dress(&fd, directory, &path)?;
            if sync == Sync::Each {
                rustix::fs::fsync(&fd).map_err(CallError::on(Op::Sync, area.path()))?;
            }
        }
        match sync {
            Sync::Each => area.sync()?,
            Sync::Together if is_synced => area.sync_volume()?,
            Sync::Together => {}
        }
        Ok(Unpacked { entries: target.entries.len() as u64 })
    }

    /// Restores all entries of a target from its frame.
    fn restore_all<'a>(
        &self,
        stream: impl Read,
        target: &'a ArchivedTarget,
        restore: &Restore<'a, '_>,
    ) -> Result<(), DepotError> {
        let differs = |reason: String| DepotError::Differs { path: self.path.clone(), reason };
        let mut tar = TarReader::new(stream);
        for wanted in &target.entries {
            let member = tar.next().map_err(|error| differs(error.to_string()))?;
            let member =
                member.ok_or_else(|| differs("it holds less than its index says".to_owned()))?;
            let difference =
                member.difference(wanted).map_err(|error| differs(error.to_string()))?;
            if let Some(what) = difference {
                return Err(differs(format!("{what} of {}", Shown(&wanted.name.0))));
            }
            restore.make(&mut tar, &member, wanted)?;
        }
        Ok(())
    }
}

/// Inodes with several names in an index, see [`OpenArchive`].
fn links(index: &Index) -> HashMap<DocPath, Vec<(usize, usize)>> {
    let all = || {
        let targets = index.targets.iter().enumerate();
        targets.flat_map(|(place, target)| {
            target.entries.iter().enumerate().map(move |(number, entry)| (place, number, entry))
        })
    };
    let mut links: HashMap<DocPath, Vec<(usize, usize)>> = HashMap::new();
    for (place, number, entry) in all() {
        if let Some(first) = &entry.same_as {
            links.entry(first.clone()).or_default().push((place, number));
        }
    }
    if !links.is_empty() {
        for (place, number, entry) in all().filter(|(.., entry)| entry.same_as.is_none()) {
            if let Some(names) = links.get_mut(&entry.name) {
                names.push((place, number));
            }
        }
    }
    links
}

pub(super) fn read_index(depot: &dyn Depot, name: &str) -> Result<Index, DepotError> {
    let path = depot.object(name);
    let mut text = Vec::new();
    depot.read(name, 0, None)?.read_to_end(&mut text).map_err(CallError::on(Op::Read, &path))?;
    Index::parse(&text).map_err(|error| DepotError::Differs { path, reason: error.to_string() })
}

/// A target with fewer bytes is restored before threads have begun.
const WORTH_THREADS: u64 = 4 << 20;
/// With more entries, one sync of the volume takes less time than one for each.
const WORTH_ONE_SYNC: usize = 64;

/// How what was restored is made durable.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sync {
    /// Each file and directory when it is whole.
    Each,
    /// The volume, when all is: that takes less time than one sync for each of many files.
    Together,
}

/// Where an entry goes, below the private directory.
fn place_of(held: &OsStr, top: &Path, name: &Path) -> Result<PathBuf, CallError> {
    let below = name.strip_prefix(top).map_err(|_| {
        CallError::on(Op::Create, name)(std::io::Error::other("it lies outside its target"))
    })?;
    let mut place = PathBuf::from(held);
    place.extend(below);
    Ok(place)
}

struct Restore<'a, 'w> {
    area: &'a PrivateDir,
    held: &'a OsStr,
    top: PathBuf,
    siblings: Siblings<'a>,
    sync: Sync,
    writers: Option<&'w Writers<'a>>,
}

impl<'a> Restore<'a, '_> {
    fn place(&self, name: &Path) -> Result<PathBuf, CallError> {
        place_of(self.held, &self.top, name)
    }

    fn make(
        &self,
        tar: &mut TarReader<impl Read>,
        member: &Member,
        wanted: &'a ArchivedEntry,
    ) -> Result<(), DepotError> {
        let place = self.place(&wanted.name.0)?;
        let path = self.area.path().join(&place);
        let none = Path::new("");
        let parent = place.parent().unwrap_or(none);
        let parent = open_beneath(self.area.fd(), parent, OFlags::RDONLY | OFlags::DIRECTORY)
            .map_err(CallError::on(Op::OpenDirectory, &path))?;
        let name = place.file_name().unwrap_or(self.held);
        let within = |first: &&DocPath| first.0.starts_with(&self.top);
        if let Some(first) = wanted.same_as.as_ref().filter(within) {
            let first = self.place(&first.0)?;
            let holder = first.parent().unwrap_or(none);
            let holder = open_beneath(self.area.fd(), holder, OFlags::PATH | OFlags::DIRECTORY)
                .map_err(CallError::on(Op::OpenDirectory, &path))?;
            let first = first.file_name().unwrap_or(self.held);
            rustix::fs::linkat(&holder, first, &parent, name, AtFlags::empty())
                .map_err(CallError::on(Op::Create, &path))?;
            return Ok(());
        }
        // another name of it, which belongs to another target, may be in its place again
        if self.siblings.link(&wanted.name, &parent, name)? {
            return Ok(());
        }
        if let Some(first) = &wanted.same_as {
            return self.siblings.read(first, &mut |tar, member, content| {
                make_new(tar, member, content, (&parent, name), &path, self.sync)
            });
        }
        if let Some(writers) = self.writers
            && wanted.kind == Kind::File
            && member.length() <= LONGEST
        {
            let fd = new_file(&parent, name, &path)?;
            let pieces = tar.pieces(member, wanted.size);
            let pieces = pieces.map_err(CallError::on(Op::Read, &path))?;
            return writers.write(NewFile { fd, pieces, wanted, path });
        }
        make_new(tar, member, wanted, (&parent, name), &path, self.sync)
    }
}

/// A new file that only this user may read.
fn new_file(parent: &OwnedFd, name: &OsStr, path: &Path) -> Result<OwnedFd, CallError> {
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    rustix::fs::openat(parent, name, flags, Mode::RUSR | Mode::WUSR)
        .map_err(CallError::on(Op::Create, path))
}

/// Makes an entry that is no other name of one that is there.
fn make_new(
    tar: &mut TarReader<impl Read>,
    member: &Member,
    wanted: &ArchivedEntry,
    (parent, name): (&OwnedFd, &OsStr),
    path: &Path,
    sync: Sync,
) -> Result<(), DepotError> {
    if wanted.kind == Kind::File {
        return make_file(tar, member, wanted, (parent, name), path, sync);
    }
    Ok(make_without_contents(parent, name, wanted).map_err(CallError::on(Op::Create, path))?)
}

/// Writes a file, and compares what was written with the index.
fn make_file(
    tar: &mut TarReader<impl Read>,
    member: &Member,
    wanted: &ArchivedEntry,
    (parent, name): (&OwnedFd, &OsStr),
    path: &Path,
    sync: Sync,
) -> Result<(), DepotError> {
    let file = File::from(new_file(parent, name, path)?);
    let hash = tar
        .content(member, wanted.size, &mut |at, data| file.write_all_at(data, at))
        .map_err(CallError::on(Op::Write, path))?;
    if Some(&hash) != wanted.sha256.as_ref() {
        let reason = "its contents are not those of the original".to_owned();
        return Err(DepotError::Differs { path: path.to_owned(), reason });
    }
    file.set_len(wanted.size).map_err(CallError::on(Op::Write, path))?;
    let fd = OwnedFd::from(file);
    dress(&fd, wanted, path)?;
    match sync {
        Sync::Each => Ok(rustix::fs::fsync(&fd).map_err(CallError::on(Op::Sync, path))?),
        Sync::Together => Ok(()),
    }
}
