//! Reading one original: its facts, attributes and contents, with the hash of what was read.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{self, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use rustix::fs::{Mode, OFlags};
use sha2::{Digest, Sha256};

use super::ArchivedEntry;
use super::tar_form::{self, Stretch};
use crate::kernel::{self, CallError, Facts, Kind, Lease, NoLease, Op, Strictness};
use crate::plan::{Refusal, Visit};
use crate::shown::{DocPath, Shown};

/// The first names of inodes that have several.
pub(super) struct Names<'a> {
    /// In targets that are packed already.
    pub(super) before: &'a HashMap<(u64, u64), DocPath>,
    /// In the target at hand.
    pub(super) new: HashMap<(u64, u64), DocPath>,
}

/// One original that is being read.
pub(super) struct Source<'a> {
    pub(super) visit: &'a Visit<'a>,
    pub(super) path: &'a Path,
}

impl Source<'_> {
    /// What its index says of it, without attributes and hash.
    pub(super) fn entry(
        &self,
        name: DocPath,
        names: &mut Names<'_>,
    ) -> Result<ArchivedEntry, Refusal> {
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

    /// Writes it as a member of an archive; tells what its index says of it.
    pub(super) fn write(
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
        let original = self.open()?;
        entry.attributes = self.attributes(&original)?;
        if entry.kind == Kind::Directory {
            tar_form::write_header(out, &entry, None).map_err(write_error)?;
            return Ok(entry);
        }
        let contents = self.contents(&original, entry.size)?;
        let sparse = entry.size > 0 && contents.stretches != [(0, entry.size)];
        let map = sparse.then_some(&contents.stretches[..]);
        tar_form::write_header(out, &entry, map).map_err(write_error)?;
        let hash = contents.copy(&mut |_, bytes| out.write_all(bytes).map_err(write_error))?;
        tar_form::pad(out, contents.stretches.iter().map(|(_, length)| length).sum())
            .map_err(write_error)?;
        self.is_unchanged(original.fd())?;
        entry.sha256 = Some(hash);
        Ok(entry)
    }

    /// All extended attributes of what is open.
    pub(super) fn attributes(
        &self,
        original: &Original,
    ) -> Result<BTreeMap<String, String>, Refusal> {
        Ok(attributes(original.fd()).map_err(CallError::on(Op::Read, self.path))?)
    }

    /// The contents of a file that is open, of so many bytes.
    pub(super) fn contents<'o>(
        &'o self,
        original: &'o Original,
        size: u64,
    ) -> Result<Contents<'o>, Refusal> {
        let file = original.fd().try_clone().map_err(CallError::on(Op::Open, self.path))?;
        let file = File::from(file);
        let stretches = stretches(&file, size).map_err(CallError::on(Op::Read, self.path))?;
        Ok(Contents { original, file, path: self.path, size, stretches })
    }

    /// Opens a file or directory, and keeps a file still while it is read, where leases are to be had.
    pub(super) fn open(&self) -> Result<Original, Refusal> {
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
    pub(super) fn is_unchanged(&self, original: &OwnedFd) -> Result<(), Refusal> {
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
pub(super) enum Original {
    /// A regular file that nobody else has open.
    Leased(Lease),
    /// A directory, or a file where leases are not to be had.
    Open(OwnedFd),
}

impl Original {
    pub(super) fn fd(&self) -> &OwnedFd {
        match self {
            Self::Leased(lease) => lease.file(),
            Self::Open(fd) => fd,
        }
    }
}

/// Takes a piece of a file's contents, with its offset in the file.
pub(super) type TakePiece<'a> = dyn FnMut(u64, &[u8]) -> Result<(), Refusal> + 'a;

/// The contents of an original, which are kept still by a lease while they are read, where leases are to be had.
pub(super) struct Contents<'a> {
    original: &'a Original,
    file: File,
    path: &'a Path,
    size: u64,
    /// Where there are data; the rest are holes.
    pub(super) stretches: Vec<Stretch>,
}

impl Contents<'_> {
    /// Tells the data piece by piece, each with its offset in the file, and gives the hash of the contents, holes read as
    /// zeros.
    pub(super) fn copy(&self, each: &mut TakePiece<'_>) -> Result<String, Refusal> {
        let mut hash = ContentHash::default();
        let mut buffer = vec![0; 256 * 1024];
        for (offset, length) in &self.stretches {
            hash.zeros_up_to(*offset);
            let (mut at, end) = (*offset, offset + length);
            while at < end {
                let most = (buffer.len() as u64).min(end - at) as usize;
                let got = self.file.read_at(&mut buffer[..most], at);
                let got = got.map_err(CallError::on(Op::Read, self.path))?;
                if got == 0 {
                    let difference = "it became shorter while it was read".to_owned();
                    return Err(Refusal::Changed { path: self.path.to_owned(), difference });
                }
                hash.update(&buffer[..got]);
                each(at, &buffer[..got])?;
                at += got as u64;
                self.is_still()?;
            }
        }
        hash.zeros_up_to(self.size);
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
pub(super) fn stretches(file: &File, size: u64) -> io::Result<Vec<Stretch>> {
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
pub(super) fn attributes(fd: &OwnedFd) -> io::Result<BTreeMap<String, String>> {
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
