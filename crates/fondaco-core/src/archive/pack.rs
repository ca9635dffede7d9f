//! Writing an archive, target by target.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use rustix::fs::{Mode, OFlags};
use sha2::{Digest, Sha256};
use zstd::stream::write::Encoder;

use super::depot::{ArchiveFiles, NewObject, unfinished};
use super::index::VERSION;
use super::tar_form::{self, Stretch};
use super::{ArchivedEntry, ArchivedTarget, Depot, DepotError, Index, verify};
use crate::kernel::{self, CallError, Facts, Kind, Lease, NoLease, Op, Strictness};
use crate::plan::{Located, Refusal, Target, Touched, Visit, survey_at};
use crate::shown::{DocPath, Shown, safe_json};
use crate::units::Time;

/// An archive that is being written under a temporary name.
#[derive(Debug)]
pub struct Packing {
    depot: Box<dyn Depot>,
    name: String,
    object: Box<dyn NewObject>,
    /// Bytes of it that stay.
    length: u64,
    targets: Vec<ArchivedTarget>,
    /// Of inodes with several names, the one that was packed first: the others are links to it.
    names: HashMap<(u64, u64), DocPath>,
}

/// An archive that has been proved and has its name.
#[derive(Clone, Debug)]
pub struct Packed {
    /// The archive's file.
    pub path: PathBuf,
    /// Length of the archive in bytes.
    pub bytes: u64,
    /// Numbers of the actions whose targets it holds.
    pub actions: Vec<u32>,
}

impl Packing {
    /// Begins the archive NAME in a depot, where no archive may have that name.
    ///
    /// # Errors
    ///
    /// [`DepotError::Taken`] if one has, [`DepotError::Call`].
    pub fn begin(depot: Box<dyn Depot>, name: String) -> Result<Self, DepotError> {
        let files = ArchiveFiles::of(&name);
        for file in [&files.archive, &files.index, &files.sums] {
            if depot.has(file)? {
                return Err(DepotError::Taken(depot.object(file)));
            }
        }
        let object = depot.create(&unfinished(&files.archive))?;
        let (targets, names) = (Vec::new(), HashMap::new());
        Ok(Self { depot, name, object, length: 0, targets, names })
    }

    /// Whether nothing has been packed.
    pub fn is_empty(&self) -> bool {
        self.targets.is_empty()
    }

    /// Packs one target from its place, which is only read. If it turns out to be different from
    /// the record, or cannot be read or written, nothing of it stays in the archive.
    ///
    /// # Errors
    ///
    /// [`Refusal::Changed`], [`Refusal::NotArchivable`], [`Refusal::Archive`], [`Refusal::Call`].
    pub fn add(
        &mut self,
        action: u32,
        target: &Target,
        located: &Located,
        touched: &Touched,
    ) -> Result<(), Refusal> {
        let packed = match self.object.can_take_back() {
            true => self.frame_in_place(target, located, touched)?,
            false => self.frame_through_spool(target, located, touched)?,
        };
        let (entries, length) = packed?;
        let original = target.path.clone();
        let offset = self.length;
        self.targets.push(ArchivedTarget { action, original, offset, length, entries });
        self.length += length;
        Ok(())
    }

    /// Writes a target's frame to the archive and takes it back if it is refused; an error of that stops the packing.
    fn frame_in_place(
        &mut self,
        target: &Target,
        located: &Located,
        touched: &Touched,
    ) -> Result<Framed, Refusal> {
        let part = self.path();
        let mut out = Counting { out: &mut self.object, bytes: 0 };
        let framed = frame(target, located, touched, &mut out, &part, &mut self.names);
        let length = out.bytes;
        match framed {
            Ok(entries) => Ok(Ok((entries, length))),
            Err(refusal) => {
                let back = self.object.take_back_to(self.length);
                back.map_err(CallError::on(Op::Write, part))?;
                Ok(Err(refusal))
            }
        }
    }

    /// Writes a target's frame aside first: only what is not refused goes to the archive.
    fn frame_through_spool(
        &mut self,
        target: &Target,
        located: &Located,
        touched: &Touched,
    ) -> Result<Framed, Refusal> {
        let part = self.path();
        let mut spool = tempfile::spooled_tempfile(SPOOLED_IN_MEMORY);
        let framed = frame(target, located, touched, &mut spool, &part, &mut self.names);
        let entries = match framed {
            Ok(entries) => entries,
            Err(refusal) => return Ok(Err(refusal)),
        };
        let moved = spool.rewind().and_then(|()| io::copy(&mut spool, &mut self.object));
        let write_error = |error| Refusal::Archive(CallError::on(Op::Write, part)(error).whole());
        Ok(Ok((entries, moved.map_err(write_error)?)))
    }

    /// Syncs the archive, reads it back from the device, compares it with the hashes of the
    /// originals, writes checksum and index, and gives all three their names.
    ///
    /// # Errors
    ///
    /// [`DepotError`]; then no file of that name is left in the depot.
    pub fn publish(mut self, created: Time) -> Result<Packed, DepotError> {
        let result = self.finish(created);
        if result.is_err() {
            self.discard();
        }
        result
    }

    /// Gives the archive up and removes its temporary file.
    pub fn discard(self) {
        // what cannot be removed now is removed when the run is settled
        let _ = self.depot.clear_unfinished(&self.name);
    }

    fn finish(&mut self, created: Time) -> Result<Packed, DepotError> {
        let part = self.path();
        let mut out = Counting { out: &mut self.object, bytes: 0 };
        let mut end = Encoder::new(&mut out, LEVEL).map_err(CallError::on(Op::Write, &part))?;
        tar_form::write_end(&mut end)
            .and_then(|()| end.finish().map(|_| ()))
            .map_err(CallError::on(Op::Write, &part))?;
        let bytes = self.length + out.bytes;
        self.object.store().map_err(CallError::on(Op::Write, &part))?;
        let stored = self.object.read_back().map_err(CallError::on(Op::Read, &part))?;
        let sha256 = verify::read_back(stored, &part, &self.targets)?;
        let files = ArchiveFiles::of(&self.name);
        let index = Index {
            fondaco: VERSION,
            kind: "archive-index".to_owned(),
            archive: files.archive.clone(),
            sha256: sha256.clone(),
            created: created.rfc3339(),
            machine: kernel::machine_id(),
            targets: std::mem::take(&mut self.targets),
        };
        let json = safe_json(&index).map_err(CallError::on(Op::Write, &part))?;
        let sums = format!("{sha256}  {}\n", files.archive);
        self.depot.write_new(&files.index, &json)?;
        self.depot.write_new(&files.sums, sums.as_bytes())?;
        self.depot.rename_new(&unfinished(&files.archive), &files.archive)?;
        self.depot.sync()?;
        let path = self.depot.object(&files.archive);
        let actions = index.targets.iter().map(|target| target.action).collect();
        Ok(Packed { path, bytes, actions })
    }

    fn path(&self) -> PathBuf {
        self.depot.object(&unfinished(&ArchiveFiles::of(&self.name).archive))
    }
}

/// What a target's frame holds and how long it is, or why there is none.
type Framed = Result<(Vec<ArchivedEntry>, u64), Refusal>;

/// A frame that is spooled is kept in memory up to so many bytes, and in a file without a name beyond.
const SPOOLED_IN_MEMORY: usize = 8 << 20;

/// Counts what is written.
struct Counting<'a> {
    out: &'a mut dyn Write,
    bytes: u64,
}

impl Write for Counting<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.out.write(bytes)?;
        self.bytes += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// Writes one target as a frame of its own; `part` is what the archive is called in messages.
fn frame(
    target: &Target,
    located: &Located,
    touched: &Touched,
    out: &mut impl Write,
    part: &Path,
    known: &mut HashMap<(u64, u64), DocPath>,
) -> Result<Vec<ArchivedEntry>, Refusal> {
    let write_error =
        |error: io::Error| Refusal::Archive(CallError::on(Op::Write, part)(error).whole());
    let top = tar_form::plain_name(&target.path.0).to_owned();
    let mut out = Encoder::new(out, LEVEL).map_err(write_error)?;
    let mut entries = Vec::new();
    let mut names = Names { before: known, new: HashMap::new() };
    let path = &target.path.0;
    let found =
        survey_at(located.parent.as_fd(), &located.name, path, touched, &mut |visit: Visit<
            '_,
        >| {
            let whole = path.join(visit.below);
            let name = DocPath(below(&top, visit.below));
            let source = Source { visit: &visit, path: &whole };
            let entry = source.entry(name, &mut names)?;
            entries.push(source.write(entry, &mut out, &write_error)?);
            Ok(())
        })?;
    if let Some(difference) = target.difference(&found.target, false) {
        return Err(Refusal::Changed { path: path.clone(), difference });
    }
    out.finish().map_err(write_error)?;
    // what is refused leaves no name that others could be links to
    let new = names.new;
    known.extend(new);
    Ok(entries)
}

const LEVEL: i32 = 3;

/// The first names of inodes that have several.
struct Names<'a> {
    /// In targets that are packed already.
    before: &'a HashMap<(u64, u64), DocPath>,
    /// In the target at hand.
    new: HashMap<(u64, u64), DocPath>,
}

fn below(top: &Path, rest: &Path) -> PathBuf {
    if rest.as_os_str().is_empty() { top.to_owned() } else { top.join(rest) }
}

/// One original that is being read.
struct Source<'a> {
    visit: &'a Visit<'a>,
    path: &'a Path,
}

impl Source<'_> {
    fn entry(&self, name: DocPath, names: &mut Names<'_>) -> Result<ArchivedEntry, Refusal> {
        let stat = self.visit.stat;
        let mut link = None;
        let mut same_as = None;
        if stat.kind != Kind::Directory && stat.links > 1 {
            let inode = (stat.dev, stat.ino);
            same_as = names.before.get(&inode).or_else(|| names.new.get(&inode)).cloned();
            if same_as.is_none() {
                names.new.insert(inode, name.clone());
            }
        }
        match stat.kind {
            Kind::Link if same_as.is_none() => {
                let to = rustix::fs::readlinkat(self.visit.parent, self.visit.name, Vec::new())
                    .map_err(CallError::on(Op::Read, self.path))?;
                link = Some(DocPath(std::ffi::OsStr::from_bytes(to.to_bytes()).into()));
            }
            Kind::Special if stat.mode & 0o170_000 == 0o140_000 => {
                let reason = "it is a socket, which means nothing without its process".to_owned();
                return Err(Refusal::NotArchivable { path: self.path.to_owned(), reason });
            }
            _ => {}
        }
        Ok(ArchivedEntry {
            name,
            kind: stat.kind,
            mode: stat.mode,
            uid: stat.uid,
            gid: stat.gid,
            size: if stat.kind == Kind::File { stat.size } else { 0 },
            mtime: stat.mtime,
            atime: stat.atime,
            sha256: None,
            link,
            same_as,
            device: stat.rdev,
            attributes: BTreeMap::new(),
        })
    }

    fn write(
        &self,
        mut entry: ArchivedEntry,
        out: &mut impl Write,
        write_error: &dyn Fn(io::Error) -> Refusal,
    ) -> Result<ArchivedEntry, Refusal> {
        let opens = matches!(entry.kind, Kind::File | Kind::Directory);
        if !opens || entry.is_other_name() {
            tar_form::write_header(out, &entry, None).map_err(write_error)?;
            return Ok(entry);
        }
        let read_error = |error: io::Error| CallError::on(Op::Read, self.path)(error);
        let original = self.open()?;
        entry.attributes = attributes(original.fd()).map_err(read_error)?;
        if entry.kind == Kind::Directory {
            tar_form::write_header(out, &entry, None).map_err(write_error)?;
            return Ok(entry);
        }
        let file = original.fd().try_clone().map_err(CallError::on(Op::Open, self.path))?;
        let mut file = File::from(file);
        let stretches = stretches(&file, entry.size).map_err(read_error)?;
        let sparse = entry.size > 0 && stretches != [(0, entry.size)];
        let map = sparse.then_some(&stretches[..]);
        tar_form::write_header(out, &entry, map).map_err(write_error)?;
        let mut reading =
            Reading { original: &original, path: self.path, buffer: vec![0; 256 * 1024] };
        let hash = reading.copy(&mut file, &stretches, entry.size, out, write_error)?;
        tar_form::pad(out, stretches.iter().map(|(_, length)| length).sum())
            .map_err(write_error)?;
        self.is_unchanged(original.fd())?;
        entry.sha256 = Some(hash);
        Ok(entry)
    }

    /// Opens a file or directory, and keeps a file still while it is read, where leases are to be had.
    fn open(&self) -> Result<Original, Refusal> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let (parent, name) = (self.visit.parent, self.visit.name);
        let fd = match rustix::fs::openat(parent, name, flags | OFlags::NOATIME, Mode::empty()) {
            Err(rustix::io::Errno::PERM) => rustix::fs::openat(parent, name, flags, Mode::empty()),
            opened => opened,
        }
        .map_err(CallError::on(Op::Open, self.path))?;
        let original = match self.visit.stat.kind {
            Kind::File => match Lease::take(fd) {
                Ok(lease) => Original::Leased(lease),
                Err((_, NoLease::InUse)) => {
                    return Err(Refusal::InUse { path: self.path.to_owned(), holder: None });
                }
                Err((fd, NoLease::Unavailable(_))) => Original::Open(fd),
            },
            _ => Original::Open(fd),
        };
        self.is_unchanged(original.fd())?;
        Ok(original)
    }

    /// Holds what is open against what was found under its name.
    fn is_unchanged(&self, original: &OwnedFd) -> Result<(), Refusal> {
        let now =
            kernel::stat_descriptor(original).map_err(CallError::on(Op::Examine, self.path))?;
        let then = Facts::of(self.visit.found);
        match then.difference(&now, Strictness::Exact) {
            None => Ok(()),
            Some(difference) => {
                let difference = difference.to_owned();
                Err(Refusal::Changed { path: self.path.to_owned(), difference })
            }
        }
    }
}

/// An original that is open.
enum Original {
    /// A regular file that nobody else has open.
    Leased(Lease),
    /// A directory, or a file where leases are not to be had.
    Open(OwnedFd),
}

impl Original {
    fn fd(&self) -> &OwnedFd {
        match self {
            Self::Leased(lease) => lease.file(),
            Self::Open(fd) => fd,
        }
    }
}

/// An original whose contents are being read.
struct Reading<'a> {
    original: &'a Original,
    path: &'a Path,
    buffer: Vec<u8>,
}

impl Reading<'_> {
    /// Copies the data and gives the hash of the contents, holes read as zeros.
    fn copy(
        &mut self,
        file: &mut File,
        data: &[Stretch],
        size: u64,
        out: &mut impl Write,
        write_error: &dyn Fn(io::Error) -> Refusal,
    ) -> Result<String, Refusal> {
        let read_error = |error: io::Error| CallError::on(Op::Read, self.path)(error);
        let mut hash = ContentHash::default();
        for (offset, length) in data {
            hash.zeros_up_to(*offset);
            file.seek(SeekFrom::Start(*offset)).map_err(read_error)?;
            let mut left = *length;
            while left > 0 {
                let most = self.buffer.len().min(left as usize);
                let got = file.read(&mut self.buffer[..most]).map_err(read_error)?;
                if got == 0 {
                    let difference = "it became shorter while it was read".to_owned();
                    return Err(Refusal::Changed { path: self.path.to_owned(), difference });
                }
                hash.update(&self.buffer[..got]);
                out.write_all(&self.buffer[..got]).map_err(write_error)?;
                left -= got as u64;
                self.is_still()?;
            }
        }
        hash.zeros_up_to(size);
        self.is_still()?;
        Ok(hash.finish())
    }

    /// Makes sure that no process waits to open the file: one that does has the right of way.
    fn is_still(&self) -> Result<(), Refusal> {
        let Original::Leased(lease) = self.original else { return Ok(()) };
        match lease.is_unbroken().map_err(CallError::on(Op::Examine, self.path))? {
            true => Ok(()),
            false => Err(Refusal::InUse { path: self.path.to_owned(), holder: None }),
        }
    }
}

/// SHA-256 of a file's contents, with holes as the zeros they stand for.
#[derive(Default)]
pub(super) struct ContentHash {
    hash: Sha256,
    at: u64,
}

impl ContentHash {
    pub(super) fn update(&mut self, bytes: &[u8]) {
        self.hash.update(bytes);
        self.at += bytes.len() as u64;
    }

    pub(super) fn zeros_up_to(&mut self, offset: u64) {
        static ZEROS: [u8; 64 * 1024] = [0; 64 * 1024];
        while self.at < offset {
            let step = (offset - self.at).min(ZEROS.len() as u64);
            self.update(&ZEROS[..step as usize]);
        }
    }

    pub(super) fn finish(self) -> String {
        hex(&self.hash.finalize())
    }
}

/// Bytes as lower-case hexadecimal, as checksum tools write them.
pub(super) fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// Where a file has data (`lseek(2)`, `SEEK_DATA`); the whole file where that is not known.
fn stretches(file: &File, size: u64) -> io::Result<Vec<Stretch>> {
    use rustix::fs::SeekFrom::{Data, Hole};
    let mut found = Vec::new();
    let mut at = 0;
    while at < size {
        let begins = match rustix::fs::seek(file, Data(at)) {
            Ok(begins) if begins < size => begins,
            Ok(_) | Err(rustix::io::Errno::NXIO) => break,
            Err(rustix::io::Errno::INVAL) => return Ok(vec![(0, size)]),
            Err(error) => return Err(error.into()),
        };
        let ends = rustix::fs::seek(file, Hole(begins))?.min(size);
        found.push((begins, ends - begins));
        at = ends;
    }
    // a hole at the end is known to other programs by an empty stretch behind it
    if found.last().is_none_or(|(offset, length)| offset + length < size) && size > 0 {
        found.push((size, 0));
    }
    Ok(found)
}

/// All extended attributes, in base64. A file system without them has none.
fn attributes(fd: &OwnedFd) -> io::Result<BTreeMap<String, String>> {
    use rustix::io::Errno;
    let mut list = vec![0u8; 64 * 1024]; // XATTR_LIST_MAX
    let used = match rustix::fs::flistxattr(fd, &mut list) {
        Ok(used) => used,
        Err(Errno::OPNOTSUPP) => 0,
        Err(error) => return Err(error.into()),
    };
    let mut found = BTreeMap::new();
    let mut value = vec![0u8; 64 * 1024]; // XATTR_SIZE_MAX
    for name in list[..used].split(|b| *b == 0).filter(|name| !name.is_empty()) {
        match rustix::fs::fgetxattr(fd, name, &mut value) {
            Ok(length) => {
                let Ok(name) = std::str::from_utf8(name) else {
                    let words = format!(
                        "an extended attribute is named {}",
                        Shown(std::ffi::OsStr::from_bytes(name))
                    );
                    return Err(io::Error::other(words));
                };
                found.insert(name.to_owned(), STANDARD.encode(&value[..length]));
            }
            Err(Errno::NODATA) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(found)
}
