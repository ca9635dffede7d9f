//! The list of all that a target consists of, as it was looked at in the private directory.
//!
//! Only what stands in this list is ever removed. It is kept compressed, some 20 bytes an entry, and is read
//! from its beginning: a directory comes before what it holds, so that no directory has to be read again to
//! know what may go. The journal keeps it while a removal goes on.

use std::ffi::{CStr, OsStr, OsString};
use std::io::{self, BufReader, Read, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::PathBuf;

use zstd::stream::{read::Decoder, write::Encoder};

use super::stat::{Kind, Stat};
use crate::units::Time;

/// What an inode was when it was looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Facts {
    /// What it is.
    pub kind: Kind,
    /// `st_mode`, with the type bits.
    pub mode: u32,
    /// Number of the user that owns it.
    pub uid: u32,
    /// Number of the group that owns it.
    pub gid: u32,
    /// Device number of its file system.
    pub dev: u64,
    /// Its inode number there.
    pub ino: u64,
    /// Number of its names.
    pub links: u32,
    /// Length in bytes.
    pub size: u64,
    /// When its contents were last written.
    pub mtime: Time,
    /// Last change of the inode.
    pub ctime: Time,
}

/// How exactly an inode must still be what it was.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Strictness {
    /// Nothing has touched it since.
    Exact,
    /// A removal that was cut off may have removed other names of it, or some of what a directory held.
    AfterCrash,
}

impl Facts {
    /// The facts of an inode that was just looked at.
    pub fn of(stat: &Stat) -> Self {
        let Stat { kind, mode, uid, gid, dev, ino, links, size, mtime, ctime, .. } = *stat;
        Self { kind, mode, uid, gid, dev, ino, links, size, mtime, ctime }
    }

    /// What is different now, if anything is.
    pub fn difference(&self, found: &Stat, strictness: Strictness) -> Option<&'static str> {
        self.compare(&Self::of(found), strictness)
    }

    fn compare(&self, now: &Self, strictness: Strictness) -> Option<&'static str> {
        if (self.dev, self.ino, self.kind) != (now.dev, now.ino, now.kind) {
            return Some("another entry has its name");
        }
        let relaxed = strictness == Strictness::AfterCrash;
        match self.kind {
            Kind::Directory if relaxed => None,
            Kind::Directory => {
                (self.ctime != now.ctime).then_some("something was put in or taken out")
            }
            // removing one name of an inode changes the change time that its others show
            _ if relaxed && self.links > 1 => ((self.size, self.mtime) != (now.size, now.mtime)
                || now.links > self.links)
                .then_some("it was written to"),
            _ => (self != now).then_some("it was changed"),
        }
    }

    fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.mode.to_le_bytes());
        for number in [self.uid, self.gid, self.links, self.mtime.nsec, self.ctime.nsec] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        for number in [self.dev, self.ino, self.size] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        for number in [self.mtime.sec, self.ctime.sec] {
            out.extend_from_slice(&number.to_le_bytes());
        }
    }

    fn read(from: &mut impl Read) -> io::Result<Self> {
        let [mode, uid, gid, links, written, changed] = read_numbers::<6>(from)?;
        let mut wide = [0u64; 5];
        for number in &mut wide {
            let mut bytes = [0; 8];
            from.read_exact(&mut bytes)?;
            *number = u64::from_le_bytes(bytes);
        }
        let [dev, ino, size, mtime, ctime] = wide;
        Ok(Self {
            kind: Kind::of_mode(mode),
            mode,
            uid,
            gid,
            dev,
            ino,
            links,
            size,
            mtime: Time { sec: mtime as i64, nsec: written },
            ctime: Time { sec: ctime as i64, nsec: changed },
        })
    }
}

fn read_numbers<const N: usize>(from: &mut impl Read) -> io::Result<[u32; N]> {
    let mut numbers = [0; N];
    for number in &mut numbers {
        let mut bytes = [0; 4];
        from.read_exact(&mut bytes)?;
        *number = u32::from_le_bytes(bytes);
    }
    Ok(numbers)
}

/// See the [module](self).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inventory {
    compressed: Vec<u8>,
}

/// One entry of an [`Inventory`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// How many directories of the target lie above it; 0 for the target itself.
    pub depth: u32,
    /// Its name with the zero that ends it; of the target itself, the one that it had in its place.
    name: Vec<u8>,
    /// What it was.
    pub facts: Facts,
}

impl Listed {
    /// The name without that zero.
    pub fn name(&self) -> &OsStr {
        OsStr::from_bytes(self.name.strip_suffix(b"\0").unwrap_or(&self.name))
    }

    /// Its name, as the kernel takes it.
    pub fn c_name(&self) -> &CStr {
        // a name that was read from the kernel has no zero in it; a damaged list names nothing
        CStr::from_bytes_until_nul(&self.name).unwrap_or(c"")
    }
}

impl Inventory {
    /// One that was kept.
    pub fn from_compressed(compressed: Vec<u8>) -> Self {
        Self { compressed }
    }

    /// As it is kept.
    pub fn compressed(&self) -> &[u8] {
        &self.compressed
    }

    /// Its entries, one after the other.
    ///
    /// # Errors
    ///
    /// If it is damaged; so may each entry be.
    pub fn entries(&self) -> io::Result<impl Iterator<Item = io::Result<Listed>> + use<'_>> {
        let mut reader = BufReader::new(Decoder::new(self.compressed.as_slice())?);
        Ok(std::iter::from_fn(move || next(&mut reader).transpose()))
    }

    /// The paths of all entries below the target, each with what it was; the target itself has an empty one.
    ///
    /// # Errors
    ///
    /// As [`Inventory::entries`].
    pub fn paths(
        &self,
    ) -> io::Result<impl Iterator<Item = io::Result<(PathBuf, Facts)>> + use<'_>> {
        let mut above: Vec<OsString> = Vec::new();
        Ok(self.entries()?.map(move |listed| {
            let listed = listed?;
            above.truncate((listed.depth as usize).saturating_sub(1));
            if listed.depth > 0 {
                above.push(OsString::from_vec(listed.name().as_bytes().to_vec()));
            }
            Ok((above.iter().collect(), listed.facts))
        }))
    }
}

impl Inventory {
    /// Where a later list of the same target differs, and how; what removing other names of an inode changes is no
    /// difference.
    ///
    /// # Errors
    ///
    /// As [`Inventory::entries`].
    pub fn difference(&self, later: &Self) -> io::Result<Option<(PathBuf, &'static str)>> {
        let (mut then, mut now) = (self.paths()?, later.paths()?);
        loop {
            let (then, now) = (then.next().transpose()?, now.next().transpose()?);
            return Ok(match (then, now) {
                (None, None) => None,
                (Some((path, _)), None) => Some((path, "it is gone")),
                (None, Some((path, _))) => Some((path, CAME_LATER)),
                (Some((path, then)), Some((other, now))) if path == other => {
                    let strictness = match then.kind {
                        Kind::Directory => Strictness::Exact,
                        _ => Strictness::AfterCrash,
                    };
                    match then.compare(&now, strictness) {
                        Some(difference) => Some((path, difference)),
                        None => continue,
                    }
                }
                (Some((path, _)), Some((other, _))) => match path < other {
                    true => Some((path, "it is gone")),
                    false => Some((other, CAME_LATER)),
                },
            });
        }
    }
}

const CAME_LATER: &str = "it came there later";

fn next(reader: &mut impl Read) -> io::Result<Option<Listed>> {
    let mut first = [0u8; 1];
    if reader.read(&mut first)? == 0 {
        return Ok(None);
    }
    let [depth, length] = read_numbers::<2>(reader)?;
    if length > 4096 {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "the list is damaged"));
    }
    let mut name = vec![0; length as usize + 1];
    reader.read_exact(&mut name[..length as usize])?;
    Ok(Some(Listed { depth, name, facts: Facts::read(reader)? }))
}

/// Writes an [`Inventory`] entry by entry.
pub struct InventoryWriter {
    out: Encoder<'static, Vec<u8>>,
    /// What the compressor has not been given yet: it costs less to give it much at a time.
    waiting: Vec<u8>,
}

/// How much the compressor is given at a time.
const PIECE: usize = 64 * 1024;

impl InventoryWriter {
    /// An empty list.
    ///
    /// # Errors
    ///
    /// If the compressor cannot be made.
    pub fn new() -> io::Result<Self> {
        Ok(Self { out: Encoder::new(Vec::new(), 1)?, waiting: Vec::new() })
    }

    /// Adds an entry; a directory comes before what it holds.
    ///
    /// # Errors
    ///
    /// If it cannot be compressed.
    pub fn add(&mut self, depth: usize, name: &OsStr, stat: &Stat) -> io::Result<()> {
        self.waiting.push(1);
        for number in [depth as u32, name.len() as u32] {
            self.waiting.extend_from_slice(&number.to_le_bytes());
        }
        self.waiting.extend_from_slice(name.as_bytes());
        Facts::of(stat).write(&mut self.waiting);
        if self.waiting.len() < PIECE { Ok(()) } else { self.pass_on() }
    }

    fn pass_on(&mut self) -> io::Result<()> {
        self.out.write_all(&self.waiting)?;
        self.waiting.clear();
        Ok(())
    }

    /// Ends the list.
    ///
    /// # Errors
    ///
    /// If it cannot be compressed.
    pub fn finish(mut self) -> io::Result<Inventory> {
        self.pass_on()?;
        Ok(Inventory { compressed: self.out.finish()? })
    }
}
