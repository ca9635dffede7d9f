//! The list of all that a target consists of, as it was looked at in the private directory.
//!
//! Only what stands in this list is ever removed. It is kept compressed, some 20 bytes an entry, or as it is if it is
//! short, and is read from its beginning: a directory comes before what it holds, so that no directory has to be read again to
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
        for number in [self.mode, self.uid, self.gid, self.links, self.mtime.nsec, self.ctime.nsec]
        {
            out.extend_from_slice(&number.to_le_bytes());
        }
        let (mtime, ctime) = (self.mtime.sec as u64, self.ctime.sec as u64);
        for number in [self.dev, self.ino, self.size, mtime, ctime] {
            out.extend_from_slice(&number.to_le_bytes());
        }
    }

    fn read(from: &[u8; FACTS_LENGTH]) -> Self {
        let narrow = |at: usize| {
            let at = at * 4;
            u32::from_le_bytes([from[at], from[at + 1], from[at + 2], from[at + 3]])
        };
        // six numbers of four bytes come before those of eight
        let wide = |at: usize| {
            let low = u64::from(narrow(6 + 2 * at));
            low | u64::from(narrow(7 + 2 * at)) << 32
        };
        let mode = narrow(0);
        Self {
            kind: Kind::of_mode(mode),
            mode,
            uid: narrow(1),
            gid: narrow(2),
            links: narrow(3),
            dev: wide(0),
            ino: wide(1),
            size: wide(2),
            mtime: Time { sec: wide(3) as i64, nsec: narrow(4) },
            ctime: Time { sec: wide(4) as i64, nsec: narrow(5) },
        }
    }
}

/// Length of the facts about an entry as they are kept.
const FACTS_LENGTH: usize = 6 * 4 + 5 * 8;

/// See the [module](self).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Inventory {
    kept: Vec<u8>,
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
    pub fn from_kept(kept: Vec<u8>) -> Self {
        Self { kept }
    }

    /// As it is kept.
    pub fn kept(&self) -> &[u8] {
        &self.kept
    }

    /// Its entries, one after the other.
    ///
    /// # Errors
    ///
    /// If it is damaged; so may each entry be.
    pub fn entries(&self) -> io::Result<impl Iterator<Item = io::Result<Listed>> + use<'_>> {
        let kept = self.kept.as_slice();
        let mut reader: Box<dyn Read + '_> = match kept.starts_with(&ZSTD) {
            true => Box::new(BufReader::new(Decoder::new(kept)?)),
            false => Box::new(kept),
        };
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
    let mut head = [0u8; 9];
    if reader.read(&mut head[..1])? == 0 {
        return Ok(None);
    }
    reader.read_exact(&mut head[1..])?;
    let [_, depth @ .., l0, l1, l2, l3] = head;
    let (depth, length) = (u32::from_le_bytes(depth), u32::from_le_bytes([l0, l1, l2, l3]));
    if length > 4096 {
        return Err(io::Error::new(io::ErrorKind::InvalidData, "the list is damaged"));
    }
    let mut name = vec![0; length as usize + 1];
    reader.read_exact(&mut name[..length as usize])?;
    let mut facts = [0; FACTS_LENGTH];
    reader.read_exact(&mut facts)?;
    Ok(Some(Listed { depth, name, facts: Facts::read(&facts) }))
}

/// What a compressed list begins with (RFC 8878). An entry that is not compressed begins with a 1.
const ZSTD: [u8; 4] = [0x28, 0xB5, 0x2F, 0xFD];

/// A list of so many bytes is not worth compressing: that of a file, mostly.
const SHORT: usize = 512;

/// Writes an [`Inventory`] entry by entry.
pub struct InventoryWriter {
    /// Made when there is enough to compress.
    out: Option<Encoder<'static, Vec<u8>>>,
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
        // the list of a single file is not to grow in steps
        Ok(Self { out: None, waiting: Vec::with_capacity(128) })
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
        let out = match &mut self.out {
            Some(out) => out,
            none => none.insert(Encoder::new(Vec::new(), 1)?),
        };
        out.write_all(&self.waiting)?;
        self.waiting.clear();
        Ok(())
    }

    /// Ends the list.
    ///
    /// # Errors
    ///
    /// If it cannot be compressed.
    pub fn finish(mut self) -> io::Result<Inventory> {
        if self.out.is_none() && self.waiting.len() <= SHORT {
            return Ok(Inventory { kept: self.waiting });
        }
        self.pass_on()?;
        let kept = self.out.take().map_or_else(|| Ok(Vec::new()), Encoder::finish)?;
        Ok(Inventory { kept })
    }
}
