//! Reading back the pax archives that are written here.
//!
//! The tar library's reader takes records apart at newlines, and so cannot read a name that has
//! one; a record says its own length (POSIX.1-2017 `pax`), and is read by that here. Headers are
//! the library's.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::io::{self, Read};
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use tar::{EntryType, Header};

use super::ArchivedEntry;
use super::original::ContentHash;
use super::tar_form::{attribute_key, kind_of, read_sparse_map};
use crate::kernel::Kind;

const BLOCK: u64 = 512;
/// Contents of large files are read by so many bytes.
const BUFFER: usize = 256 << 10;
/// More than names, links and all attributes of one file can come to (`xattr(7)`: 64 KiB each).
const RECORDS_MOST: u64 = 64 << 20;

/// An archive that is read from its beginning, or a frame of one.
pub(super) struct TarReader<R> {
    inner: R,
    /// Bytes to the end of the member at hand, its padding included.
    left: u64,
    buffer: Vec<u8>,
}

/// Contents of a small file: pieces with their offsets, holes left out.
pub(super) type Pieces = Vec<(u64, Vec<u8>)>;

/// One member; its data is read through [`TarReader::content`].
pub(super) struct Member {
    header: Header,
    records: HashMap<Vec<u8>, Vec<u8>>,
    length: u64,
}

impl<R: Read> TarReader<R> {
    pub(super) fn new(inner: R) -> Self {
        Self { inner, left: 0, buffer: Vec::new() }
    }

    /// What is left behind the last member.
    pub(super) fn into_inner(self) -> R {
        self.inner
    }

    /// The next member, or nothing at the end.
    pub(super) fn next(&mut self) -> io::Result<Option<Member>> {
        let mut records: HashMap<Vec<u8>, Vec<u8>> = HashMap::new();
        loop {
            let skipped = io::copy(&mut (&mut self.inner).take(self.left), &mut io::sink())?;
            if skipped < self.left {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            self.left = 0;
            let Some(header) = self.header()? else { return Ok(None) };
            let length = match records.get(&b"size"[..]) {
                Some(size) => number(size.as_slice())?,
                None => header.size()?,
            };
            self.left = length.next_multiple_of(BLOCK);
            if header.entry_type() != EntryType::XHeader {
                return Ok(Some(Member { header, records, length }));
            }
            records = parse_records(&self.take_data(length)?)?;
        }
    }

    fn header(&mut self) -> io::Result<Option<Header>> {
        let mut header = Header::new_ustar();
        let block = header.as_mut_bytes();
        let mut filled = 0;
        while filled < block.len() {
            match self.inner.read(&mut block[filled..])? {
                0 if filled == 0 => return Ok(None),
                0 => return Err(io::ErrorKind::UnexpectedEof.into()),
                got => filled += got,
            }
        }
        if block.iter().all(|b| *b == 0) {
            return Ok(None);
        }
        // the sum counts its own field, bytes 148 to 155, as spaces
        let sum =
            |(at, b): (usize, &u8)| u32::from(if (148..156).contains(&at) { b' ' } else { *b });
        let wanted: u32 = block.iter().enumerate().map(sum).sum();
        if header.cksum()? != wanted { Err(bad("a header's sum")) } else { Ok(Some(header)) }
    }

    fn take_data(&mut self, length: u64) -> io::Result<Vec<u8>> {
        if length > RECORDS_MOST {
            return Err(bad("the length of a record"));
        }
        let mut data = Vec::new();
        (&mut self.inner).take(length).read_to_end(&mut data)?;
        self.left -= data.len() as u64;
        if (data.len() as u64) < length {
            Err(io::ErrorKind::UnexpectedEof.into())
        } else {
            Ok(data)
        }
    }

    /// Reads the contents of a small file, to be hashed and written elsewhere.
    pub(super) fn pieces(&mut self, member: &Member, size: u64) -> io::Result<Pieces> {
        let mut data = (&mut self.inner).take(member.length);
        let stretches = match member.records.get(&b"GNU.sparse.major"[..]) {
            Some(_) => read_sparse_map(&mut data)?,
            None => vec![(0, size)],
        };
        let mut pieces = Vec::with_capacity(stretches.len());
        for (offset, length) in stretches {
            let mut piece = Vec::new();
            (&mut data).take(length).read_to_end(&mut piece)?;
            if (piece.len() as u64) < length {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            pieces.push((offset, piece));
        }
        self.left -= member.length - data.limit();
        Ok(pieces)
    }

    /// Reads a file's contents; `each` gets every piece with its offset, holes left out. Gives the
    /// hash of the whole, holes read as zeros.
    pub(super) fn content(
        &mut self,
        member: &Member,
        size: u64,
        each: &mut dyn FnMut(u64, &[u8]) -> io::Result<()>,
    ) -> io::Result<String> {
        let mut data = (&mut self.inner).take(member.length);
        let stretches = match member.records.get(&b"GNU.sparse.major"[..]) {
            Some(_) => read_sparse_map(&mut data)?,
            None => vec![(0, size)],
        };
        let mut hash = ContentHash::default();
        // a buffer for each file would be cleared for each
        self.buffer.resize(BUFFER, 0);
        let buffer = &mut self.buffer;
        for (offset, length) in stretches {
            hash.zeros_up_to(offset);
            let mut done = 0;
            while done < length {
                let most = buffer.len().min((length - done) as usize);
                let got = data.read(&mut buffer[..most])?;
                if got == 0 {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                hash.update(&buffer[..got]);
                each(offset + done, &buffer[..got])?;
                done += got as u64;
            }
        }
        hash.zeros_up_to(size);
        self.left -= member.length - data.limit();
        Ok(hash.finish())
    }
}

impl Member {
    /// Length of its data in the archive.
    pub(super) fn length(&self) -> u64 {
        self.length
    }

    /// Its name, without the slash that ends a directory's.
    pub(super) fn name(&self) -> PathBuf {
        let name = self.records.get(&b"GNU.sparse.name"[..]).or(self.records.get(&b"path"[..]));
        let mut name: &[u8] = name.map_or(&[], |name| name);
        while name.len() > 1 && name.ends_with(b"/") {
            name = &name[..name.len() - 1];
        }
        PathBuf::from(OsStr::from_bytes(name))
    }

    /// What is different from the index, if anything is; contents aside.
    pub(super) fn difference(&self, wanted: &ArchivedEntry) -> io::Result<Option<&'static str>> {
        let record = |key: &str| self.records.get(key.as_bytes());
        let same_number = |key: &str, wanted: u32| {
            record(key).is_some_and(|value| number(value).ok() == Some(u64::from(wanted)))
        };
        let link = wanted.same_as.as_ref().or(wanted.link.as_ref());
        let link = link.map(|link| link.0.as_os_str().as_bytes());
        let kind = self.header.entry_type();
        let same_kind = match wanted.is_other_name() {
            true => kind == EntryType::Link,
            false => kind_of(kind) == Some(wanted.kind),
        };
        let checks = [
            ("the name", self.name() == wanted.name.0),
            ("the kind", same_kind),
            ("the mode", self.header.mode()? == wanted.mode & 0o7777),
            ("the owner", same_number("uid", wanted.uid) && same_number("gid", wanted.gid)),
            ("the link", record("linkpath").map(Vec::as_slice) == link),
            ("the attributes", self.has_attributes(wanted)),
        ];
        Ok(checks.iter().find(|(_, same)| !same).map(|(what, _)| *what))
    }

    fn has_attributes(&self, wanted: &ArchivedEntry) -> bool {
        let found = self.records.keys().filter(|key| key.starts_with(b"SCHILY.xattr."));
        let same = |(name, value): (&String, &String)| {
            let found = self.records.get(attribute_key(name).as_bytes());
            found.is_some_and(|found| STANDARD.encode(found) == *value)
        };
        found.count() == wanted.attributes.len() && wanted.attributes.iter().all(same)
    }
}

/// Whether the index says that contents follow.
pub(super) fn has_content(entry: &ArchivedEntry) -> bool {
    entry.kind == Kind::File && !entry.is_other_name()
}

fn parse_records(mut data: &[u8]) -> io::Result<HashMap<Vec<u8>, Vec<u8>>> {
    let mut records = HashMap::new();
    while !data.is_empty() {
        let space = data.iter().position(|b| *b == b' ').ok_or_else(|| bad("a record"))?;
        let length = number(&data[..space])? as usize;
        if length <= space + 1 || length > data.len() || data[length - 1] != b'\n' {
            return Err(bad("a record"));
        }
        let record = &data[space + 1..length - 1];
        let equals = record.iter().position(|b| *b == b'=').ok_or_else(|| bad("a record"))?;
        records.insert(record[..equals].to_owned(), record[equals + 1..].to_owned());
        data = &data[length..];
    }
    Ok(records)
}

fn number(text: &[u8]) -> io::Result<u64> {
    let parsed = std::str::from_utf8(text).ok().and_then(|text| text.parse().ok());
    parsed.ok_or_else(|| bad("a number"))
}

fn bad(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("{what} is damaged"))
}
