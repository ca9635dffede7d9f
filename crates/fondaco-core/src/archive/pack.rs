//! Writing an archive, target by target.

use std::collections::HashMap;
use std::io::{self, Seek, Write};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};

use zstd::stream::write::Encoder;
use zstd::stream::{raw, zio};

use super::depot::{ArchiveFiles, NewObject, unfinished};
use super::index::VERSION;
use super::original::{Names, Source};
use super::tar_form;
use super::{ArchivedEntry, ArchivedTarget, Depot, DepotError, Index, verify};
use crate::kernel::{self, CallError, Op};
use crate::plan::{Located, Refusal, Target, Touched, Visit, survey_at};
use crate::shown::{DocPath, safe_json};
use crate::units::{Bytes, Time};

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
    compressor: Compressor,
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
        let compressor = Compressor::default();
        Ok(Self { depot, name, object, length: 0, targets, names, compressor })
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
        let is_spooled = !self.object.can_take_back() && target.allocated <= MOST_SPOOLED;
        let packed = match is_spooled {
            false => self.frame_in_place(target, located, touched)?,
            true => self.frame_through_spool(target, located, touched)?,
        };
        let (entries, length) = packed?;
        let original = target.path.clone();
        let offset = self.length;
        self.targets.push(ArchivedTarget { action, original, offset, length, entries });
        self.length += length;
        Ok(())
    }

    /// Writes a target's frame to the archive and takes it back if it is refused; an error of that stops the packing. Where
    /// nothing can be taken back, a refusal stops it.
    fn frame_in_place(
        &mut self,
        target: &Target,
        located: &Located,
        touched: &Touched,
    ) -> Result<Framed, Refusal> {
        let part = self.path();
        self.object.keep_from(self.length);
        let mut out = Counting { out: &mut self.object, bytes: 0 };
        let framed = frame(
            target,
            located,
            touched,
            &mut out,
            &part,
            (&mut self.names, &mut self.compressor),
        );
        let length = out.bytes;
        match framed {
            Ok(entries) => Ok(Ok((entries, length))),
            Err(refusal) if self.object.can_take_back() => {
                let back = self.object.take_back_to(self.length);
                back.map_err(CallError::on(Op::Write, part))?;
                Ok(Err(refusal))
            }
            Err(refusal @ Refusal::Archive(_)) => Err(refusal),
            Err(refusal) => Err(Refusal::Archive(format!(
                "{refusal}; it is too large to be kept aside, and what was sent cannot be taken back"
            ))),
        }
    }

    /// Writes a target's frame aside first: only what is not refused goes to the archive.
    fn frame_through_spool(
        &mut self,
        target: &Target,
        located: &Located,
        touched: &Touched,
    ) -> Result<Framed, Refusal> {
        let (part, directory) = (self.path(), spool_directory());
        let mut spool = tempfile::spooled_tempfile_in(SPOOLED_IN_MEMORY, &directory);
        let framed = frame(
            target,
            located,
            touched,
            &mut spool,
            &directory,
            (&mut self.names, &mut self.compressor),
        );
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
        // the index is the last one: where it is, the archive has been proved
        self.depot.write_new(&files.sums, sums.as_bytes())?;
        self.depot.write_new(&files.index, &json)?;
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
/// A target that takes more is not spooled.
const MOST_SPOOLED: Bytes = Bytes::new(4 << 30);

/// Where frames are spooled: `TMPDIR`, or else where files are kept that may be large. `/tmp` often lies in memory.
fn spool_directory() -> PathBuf {
    std::env::var_os("TMPDIR").map_or_else(|| PathBuf::from("/var/tmp"), PathBuf::from)
}

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

/// What a target is compressed with, kept from one to the next: to make it anew takes longer than to compress a small one.
#[derive(Default)]
struct Compressor(Option<raw::Encoder<'static>>);

impl std::fmt::Debug for Compressor {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Compressor").finish_non_exhaustive()
    }
}

impl Compressor {
    fn ready(&mut self) -> io::Result<raw::Encoder<'static>> {
        let mut encoder = match self.0.take() {
            Some(used) => used,
            None => raw::Encoder::new(LEVEL)?,
        };
        raw::Operation::reinit(&mut encoder)?;
        Ok(encoder)
    }
}

/// Writes one target as a frame of its own; `part` is what the archive is called in messages.
fn frame(
    target: &Target,
    located: &Located,
    touched: &Touched,
    out: &mut impl Write,
    part: &Path,
    (known, compressor): (&mut HashMap<(u64, u64), DocPath>, &mut Compressor),
) -> Result<Vec<ArchivedEntry>, Refusal> {
    let write_error =
        |error: io::Error| Refusal::Archive(CallError::on(Op::Write, part)(error).whole());
    if target.allocated >= WORTH_THREADS {
        // while the library compresses what was read, this thread reads and hashes what comes next
        let mut out = Encoder::new(out, LEVEL).map_err(write_error)?;
        out.multithread(crate::parallel::threads() as u32).map_err(write_error)?;
        let entries = fill(target, located, touched, &mut out, &write_error, known)?;
        out.finish().map_err(write_error)?;
        return Ok(entries);
    }
    let mut out = zio::Writer::new(out, compressor.ready().map_err(write_error)?);
    let entries = fill(target, located, touched, &mut out, &write_error, known)?;
    out.finish().map_err(write_error)?;
    compressor.0 = Some(out.into_inner().1);
    Ok(entries)
}

/// Writes all entries of a target.
fn fill(
    target: &Target,
    located: &Located,
    touched: &Touched,
    out: &mut impl Write,
    write_error: &dyn Fn(io::Error) -> Refusal,
    known: &mut HashMap<(u64, u64), DocPath>,
) -> Result<Vec<ArchivedEntry>, Refusal> {
    let top = tar_form::plain_name(&target.path.0).to_owned();
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
            entries.push(source.write(entry, out, write_error)?);
            Ok(())
        })?;
    if let Some(difference) = target.difference(&found.target, false) {
        return Err(Refusal::Changed { path: path.clone(), difference });
    }
    // what is refused leaves no name that others could be links to
    let new = names.new;
    known.extend(new);
    Ok(entries)
}

const LEVEL: i32 = 3;

/// Smaller targets are compressed before the library has begun threads for them.
const WORTH_THREADS: Bytes = Bytes::new(8 << 20);

fn below(top: &Path, rest: &Path) -> PathBuf {
    if rest.as_os_str().is_empty() { top.to_owned() } else { top.join(rest) }
}
