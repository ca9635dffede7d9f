//! Copying targets to another volume as they are: contents with their holes, owners, modes, times, attributes, links.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io::Read;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustix::fs::{Advice, AtFlags, Mode, OFlags};

use super::ArchivedEntry;
use super::dress::{dress, make_without_contents};
use super::original::{ContentHash, Names, Source, attributes};
use crate::kernel::{self, CallError, Kind, Op, PrivateDir, Stat, open_beneath};
use crate::plan::{Located, Refusal, Target, Touched, Visit, survey_at};
use crate::shown::{DocPath, Shown};
use crate::units::Time;

/// Copies in a private directory, where nobody else can reach them: first all are made, then the device has them, then
/// each is read back and compared.
#[derive(Debug)]
pub(crate) struct Copying<'a> {
    area: &'a PrivateDir,
    /// What was copied, by the name of the copy.
    copies: HashMap<String, Vec<ArchivedEntry>>,
    /// Of inodes with several names, the copy that was made first: the others are links to it.
    names: HashMap<(u64, u64), DocPath>,
    /// The inodes of these copies, and of those that have got their places.
    inodes: HashMap<DocPath, u64>,
}

/// Copies that have got their places and whose originals had more names, by the original's device and inode.
#[derive(Debug, Default)]
pub(crate) struct Links(HashMap<(u64, u64), Placed>);

#[derive(Debug)]
struct Placed {
    path: PathBuf,
    inode: u64,
    /// Of the original: its number may soon be another file's.
    size: u64,
    mtime: Time,
}

impl<'a> Copying<'a> {
    /// Copies that are to lie in a private directory on the volume where they are wanted.
    pub(crate) fn into(area: &'a PrivateDir) -> Self {
        Self { area, copies: HashMap::new(), names: HashMap::new(), inodes: HashMap::new() }
    }

    /// Adds to `links` what was copied to the name `held`, which has got the place `path`.
    pub(crate) fn note_links(&self, held: &str, path: &Path, links: &mut Links) {
        for (original, place) in &self.names {
            let entry = self
                .copies
                .get(held)
                .and_then(|entries| entries.iter().find(|entry| entry.name == *place));
            if let (Ok(below), Some(inode), Some(entry)) =
                (place.0.strip_prefix(held), self.inodes.get(place), entry)
            {
                let path = path.join(below).components().collect();
                let (inode, size, mtime) = (*inode, entry.size, entry.mtime);
                links.0.insert(*original, Placed { path, inode, size, mtime });
            }
        }
    }

    /// Copies one target from its place, which is only read, to the name `held` in the private directory. What has its
    /// place already as another name of the same inode is linked.
    ///
    /// # Errors
    ///
    /// [`Refusal`]: it is not as in its record, or cannot be read or written. What was copied so far then lies in the
    /// private directory and can be removed.
    pub(crate) fn add(
        &mut self,
        held: &str,
        target: &Target,
        located: &Located,
        touched: &Touched,
        links: &Links,
    ) -> Result<(), Refusal> {
        let path = &target.path.0;
        let mut names = Names { before: &self.names, new: HashMap::new() };
        let (mut entries, mut placed) = (Vec::new(), HashMap::new());
        let parent = located.parent.as_fd();
        let found = survey_at(parent, &located.name, path, touched, &mut |visit: Visit<'_>| {
            let whole = path.join(visit.below).components().collect::<PathBuf>();
            let source = Source { visit: &visit, path: &whole };
            let place = Path::new(held).join(visit.below).components().collect();
            let mut entry = source.entry(DocPath(place), &mut names)?;
            let link = links.0.get(&(visit.stat.dev, visit.stat.ino));
            if let Some(link) = link.filter(|link| {
                (link.size, link.mtime) == (entry.size, entry.mtime)
                    && entry.kind != Kind::Directory
            }) {
                placed.insert(DocPath(link.path.clone()), link.inode);
                entry.same_as = Some(DocPath(link.path.clone()));
                entry.link = None;
            }
            entries.push(self.make(&source, entry)?);
            Ok(())
        })?;
        if let Some(difference) = target.difference(&found.target, false) {
            return Err(Refusal::Changed { path: path.clone(), difference });
        }
        // a directory's times and mode last: filling it changes the one and may need the other
        for directory in entries.iter().rev().filter(|entry| entry.kind == Kind::Directory) {
            let flags = OFlags::RDONLY | OFlags::DIRECTORY;
            let fd = self.open(&directory.name.0, flags)?;
            dress(&fd, directory, &self.path(&directory.name.0))?;
        }
        self.inodes.extend(placed);
        let mut new = names.new;
        new.retain(|original, _| !links.0.contains_key(original));
        for place in new.values() {
            let (parent, name) = self.holder(&place.0)?;
            let stat = kernel::stat_at(parent, name);
            let stat = stat.map_err(CallError::on(Op::Examine, self.path(&place.0)))?;
            self.inodes.insert(place.clone(), stat.ino);
        }
        self.names.extend(new);
        self.copies.insert(held.to_owned(), entries);
        Ok(())
    }

    /// Brings all that was copied to the device.
    ///
    /// # Errors
    ///
    /// [`CallError`], also if something could not be written back meanwhile (`syncfs(2)`).
    pub(crate) fn sync(&self) -> Result<(), CallError> {
        rustix::fs::syncfs(self.area.fd()).map_err(CallError::on(Op::Sync, self.area.path()))
    }

    /// Reads a copy back and compares it with what the original was; tells the facts about the copy.
    ///
    /// # Errors
    ///
    /// [`Refusal::Copy`] for the first difference, [`Refusal::Call`].
    pub(crate) fn prove(&self, held: &str) -> Result<Stat, Refusal> {
        let differs = |name: &Path, what: &str| {
            let reason = format!("its copy has {what} of {} wrong", Shown(name));
            Refusal::Copy { path: self.path(name), reason }
        };
        let Some(entries) = self.copies.get(held) else {
            return Err(differs(Path::new(held), "all"));
        };
        for entry in entries {
            if let Some(what) = self.difference(entry)? {
                return Err(differs(&entry.name.0, what));
            }
        }
        let stat = self.area.stat(held.as_ref())?;
        stat.ok_or_else(|| Refusal::Gone(self.path(Path::new(held))))
    }

    fn path(&self, place: &Path) -> PathBuf {
        self.area.path().join(place)
    }

    fn open(&self, place: &Path, flags: OFlags) -> Result<OwnedFd, CallError> {
        let opened = open_beneath(self.area.fd(), place, flags);
        opened.map_err(CallError::on(Op::Open, self.path(place)))
    }

    /// The directory of the private one that holds a place, and the last part of its name. A whole path is that of a
    /// copy which has got its place.
    fn holder<'p>(&self, place: &'p Path) -> Result<(Arc<OwnedFd>, &'p OsStr), Refusal> {
        if place.is_absolute() {
            let parent = crate::plan::locate(place)?.parent;
            return Ok((parent, place.file_name().unwrap_or_default()));
        }
        let parent = place.parent().unwrap_or(Path::new(""));
        let parent = self.open(parent, OFlags::RDONLY | OFlags::DIRECTORY)?;
        Ok((parent.into(), place.file_name().unwrap_or_default()))
    }

    /// Makes one entry of a copy; directories get their own facts when they are full.
    fn make(
        &self,
        source: &Source<'_>,
        mut entry: ArchivedEntry,
    ) -> Result<ArchivedEntry, Refusal> {
        let place = entry.name.0.clone();
        let path = self.path(&place);
        let (parent, name) = self.holder(&place)?;
        let create_error = |error: rustix::io::Errno| CallError::on(Op::Create, &path)(error);
        if let Some(first) = &entry.same_as {
            let (holder, first) = self.holder(&first.0)?;
            rustix::fs::linkat(holder, first, parent, name, AtFlags::empty())
                .map_err(create_error)?;
            return Ok(entry);
        }
        if !matches!(entry.kind, Kind::File | Kind::Directory) {
            make_without_contents(&parent, name, &entry)
                .map_err(CallError::on(Op::Create, &path))?;
            return Ok(entry);
        }
        let original = source.open()?;
        entry.attributes = source.attributes(&original)?;
        if entry.kind == Kind::Directory {
            make_without_contents(&parent, name, &entry)
                .map_err(CallError::on(Op::Create, &path))?;
            return Ok(entry);
        }
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW;
        let mode = Mode::RUSR | Mode::WUSR;
        let copy = rustix::fs::openat(&parent, name, flags | OFlags::CLOEXEC, mode);
        let copy = File::from(copy.map_err(create_error)?);
        let contents = source.contents(&original, entry.size)?;
        let hash = contents.copy(&mut |at, bytes| {
            Ok(copy.write_all_at(bytes, at).map_err(CallError::on(Op::Write, &path))?)
        })?;
        copy.set_len(entry.size).map_err(CallError::on(Op::Write, &path))?;
        source.is_unchanged(original.fd())?;
        dress(&OwnedFd::from(copy), &entry, &path)?;
        entry.sha256 = Some(hash);
        Ok(entry)
    }

    /// What of a copy is not as it was copied, if anything.
    fn difference(&self, entry: &ArchivedEntry) -> Result<Option<&'static str>, Refusal> {
        let place = &entry.name.0;
        let (parent, name) = self.holder(place)?;
        let examine = |error| CallError::on(Op::Examine, self.path(place))(error);
        let stat = kernel::stat_at(&parent, name).map_err(examine)?;
        if let Some(first) = &entry.same_as {
            return Ok((self.inodes.get(first) != Some(&stat.ino)).then_some("the link"));
        }
        let size = if stat.kind == Kind::File { stat.size } else { 0 };
        let wrong = [
            (stat.kind != entry.kind, "the kind"),
            (entry.kind != Kind::Link && stat.mode != entry.mode, "the mode"),
            ((stat.uid, stat.gid) != (entry.uid, entry.gid), "the owner"),
            (size != entry.size, "the length"),
            (stat.mtime != entry.mtime, "the time of writing"),
            (entry.kind == Kind::Special && stat.rdev != entry.device, "the device"),
        ];
        if let Some((_, what)) = wrong.into_iter().find(|(is_wrong, _)| *is_wrong) {
            return Ok(Some(what));
        }
        let read_error = |error| CallError::on(Op::Read, self.path(place))(error);
        match entry.kind {
            Kind::Special => Ok(None),
            Kind::Link => {
                let to = rustix::fs::readlinkat(&parent, name, Vec::new());
                let to = to.map_err(|error| read_error(error.into()))?;
                let wanted = entry.link.as_ref().map(|link| link.0.as_os_str().as_bytes());
                Ok((Some(to.to_bytes()) != wanted).then_some("the place it points to"))
            }
            Kind::File | Kind::Directory => {
                let fd = self.open(place, OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOATIME)?;
                let mut found = attributes(&fd).map_err(read_error)?;
                let mut wanted = entry.attributes.clone();
                if kernel::effective_user() != 0 {
                    // labels of the kernel's security modules are set by root only
                    found.retain(|name, _| !name.starts_with("security."));
                    wanted.retain(|name, _| !name.starts_with("security."));
                }
                if found != wanted {
                    return Ok(Some("the extended attributes"));
                }
                if entry.kind == Kind::Directory {
                    return Ok(None);
                }
                let hash = hash_of(File::from(fd)).map_err(read_error)?;
                Ok((Some(hash) != entry.sha256).then_some("the contents"))
            }
        }
    }
}

/// SHA-256 of a file as the device has it, and not as it is remembered.
pub(super) fn hash_of(mut file: File) -> std::io::Result<String> {
    // only advice: what is not heeded is read from memory
    let _ = rustix::fs::fadvise(file.as_fd(), 0, None, Advice::DontNeed);
    let mut hash = ContentHash::default();
    let mut buffer = vec![0; 256 * 1024];
    loop {
        match file.read(&mut buffer) {
            Ok(0) => return Ok(hash.finish()),
            Ok(got) => hash.update(&buffer[..got]),
            Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
}
