//! The bytes of a pax archive: headers, extended records, sparse maps.
//!
//! Sources: POSIX.1-2017 `pax`, "pax Interchange Format"; GNU tar manual, "Storing Sparse Files"
//! (format 1.0); `SCHILY.xattr.` records as star, GNU tar and bsdtar write them.
//! Written here rather than by the tar library's builder because each target is a zstd frame of its
//! own and the builder ends every stream with a trailer.

use std::io::{self, Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use tar::{EntryType, Header};

use super::ArchivedEntry;
use crate::kernel::Kind;
use crate::units::Time;

const BLOCK: u64 = 512;

/// A stretch of a file that has data: offset and length.
pub(super) type Stretch = (u64, u64);

/// Writes the headers of one entry. `stretches`: of a sparse file, where its data lies.
/// What follows is the file's data, then [`pad`].
pub(super) fn write_header(
    out: &mut impl Write,
    entry: &ArchivedEntry,
    stretches: Option<&[Stretch]>,
) -> io::Result<()> {
    let mut name = entry.name.0.as_os_str().as_bytes().to_owned();
    if entry.kind == Kind::Directory {
        name.push(b'/');
    }
    let map = stretches.map(sparse_map);
    let mut records = Vec::new();
    let mut record = |key: &str, value: &[u8]| pax_record(&mut records, key, value);
    let stored = match (&map, stretches) {
        (Some(map), Some(stretches)) => {
            record("GNU.sparse.major", b"1");
            record("GNU.sparse.minor", b"0");
            record("GNU.sparse.name", &name);
            record("GNU.sparse.realsize", entry.size.to_string().as_bytes());
            map.len() as u64 + stretches.iter().map(|(_, length)| length).sum::<u64>()
        }
        _ => {
            record("path", &name);
            if entry.kind == Kind::File && !entry.is_other_name() { entry.size } else { 0 }
        }
    };
    record("size", stored.to_string().as_bytes());
    record("mtime", pax_time(entry.mtime).as_bytes());
    record("atime", pax_time(entry.atime).as_bytes());
    record("uid", entry.uid.to_string().as_bytes());
    record("gid", entry.gid.to_string().as_bytes());
    if let Some(link) = entry.same_as.as_ref().or(entry.link.as_ref()) {
        record("linkpath", link.0.as_os_str().as_bytes());
    }
    for (key, value) in &entry.attributes {
        let value = STANDARD.decode(value).map_err(io::Error::other)?;
        record(&attribute_key(key), &value);
    }
    let mut extended = plain_header(b"PaxHeaders/entry", records.len() as u64)?;
    extended.set_entry_type(EntryType::XHeader);
    extended.set_cksum();
    out.write_all(extended.as_bytes())?;
    out.write_all(&records)?;
    pad(out, records.len() as u64)?;

    let mut header = plain_header(&name, stored)?;
    header.set_entry_type(entry_type(entry));
    header.set_mode(entry.mode & 0o7777);
    header.set_uid(u64::from(entry.uid));
    header.set_gid(u64::from(entry.gid));
    header.set_mtime(entry.mtime.sec.max(0) as u64);
    if matches!(header.entry_type(), EntryType::Char | EntryType::Block) {
        header.set_device_major(rustix::fs::major(entry.device))?;
        header.set_device_minor(rustix::fs::minor(entry.device))?;
    }
    header.set_cksum();
    out.write_all(header.as_bytes())?;
    out.write_all(&map.unwrap_or_default())
}

/// The zeros that fill up the last block after `length` bytes of data.
pub(super) fn pad(out: &mut impl Write, length: u64) -> io::Result<()> {
    let short = (BLOCK - length % BLOCK) % BLOCK;
    out.write_all(&[0; BLOCK as usize][..short as usize])
}

/// The two empty blocks that end an archive.
pub(super) fn write_end(out: &mut impl Write) -> io::Result<()> {
    out.write_all(&[0; 2 * BLOCK as usize])
}

/// Reads the map in front of a sparse file's data.
pub(super) fn read_sparse_map(data: &mut impl Read) -> io::Result<Vec<Stretch>> {
    let mut block = [0u8; BLOCK as usize];
    let mut text: Vec<u8> = Vec::new();
    let mut wanted = None;
    loop {
        let complete = text.iter().filter(|b| **b == b'\n').count();
        if wanted.is_some_and(|wanted: usize| complete > wanted) {
            break;
        }
        data.read_exact(&mut block)?;
        text.extend_from_slice(&block);
        if wanted.is_none() {
            wanted = first_number(&text).map(|pairs| 2 * pairs);
        }
    }
    let bad = || io::Error::new(io::ErrorKind::InvalidData, "a sparse map is damaged");
    let mut numbers = text
        .split(|b| *b == b'\n')
        .take(wanted.unwrap_or(0) + 1)
        .map(|line| std::str::from_utf8(line).ok()?.parse::<u64>().ok());
    let pairs = numbers.next().flatten().ok_or_else(bad)?;
    (0..pairs)
        .map(|_| match (numbers.next().flatten(), numbers.next().flatten()) {
            (Some(offset), Some(length)) => Ok((offset, length)),
            _ => Err(bad()),
        })
        .collect()
}

fn first_number(text: &[u8]) -> Option<usize> {
    let end = text.iter().position(|b| *b == b'\n')?;
    std::str::from_utf8(&text[..end]).ok()?.parse().ok()
}

fn sparse_map(stretches: &[Stretch]) -> Vec<u8> {
    let mut map = format!("{}\n", stretches.len()).into_bytes();
    for (offset, length) in stretches {
        map.extend_from_slice(format!("{offset}\n{length}\n").as_bytes());
    }
    map.resize(map.len().next_multiple_of(BLOCK as usize), 0);
    map
}

/// The record that holds an extended attribute. A key ends at its first equals sign, so GNU tar writes that, and the
/// percent sign, as escapes (`xattr_encode_keyword` in its `xheader.c`).
pub(super) fn attribute_key(name: &str) -> String {
    format!("SCHILY.xattr.{}", name.replace('%', "%25").replace('=', "%3D"))
}

/// A record is its own length, a space, `key=value` and a newline.
fn pax_record(records: &mut Vec<u8>, key: &str, value: &[u8]) {
    let rest = 3 + key.len() + value.len();
    let mut length = rest + 1;
    while length != rest + length.to_string().len() {
        length = rest + length.to_string().len();
    }
    records.extend_from_slice(format!("{length} {key}=").as_bytes());
    records.extend_from_slice(value);
    records.push(b'\n');
}

/// Seconds with a decimal fraction; before 1970 the whole number is negative (POSIX).
fn pax_time(time: Time) -> String {
    if time.sec < 0 && time.nsec > 0 {
        format!("-{}.{:09}", -(time.sec + 1), 1_000_000_000 - time.nsec)
    } else {
        format!("{}.{:09}", time.sec, time.nsec)
    }
}

fn plain_header(name: &[u8], size: u64) -> io::Result<Header> {
    let mut header = Header::new_ustar();
    let short = &name[name.len().saturating_sub(100)..];
    if let Some(fields) = header.as_ustar_mut() {
        fields.name[..short.len()].copy_from_slice(short);
    }
    header.set_size(size);
    header.set_mode(0o600);
    header.set_uid(0);
    header.set_gid(0);
    header.set_mtime(0);
    Ok(header)
}

fn entry_type(entry: &ArchivedEntry) -> EntryType {
    match (entry.kind, entry.mode & 0o170_000) {
        _ if entry.is_other_name() => EntryType::Link,
        (Kind::File, _) => EntryType::Regular,
        (Kind::Directory, _) => EntryType::Directory,
        (Kind::Link, _) => EntryType::Symlink,
        (Kind::Special, 0o020_000) => EntryType::Char,
        (Kind::Special, 0o060_000) => EntryType::Block,
        (Kind::Special, _) => EntryType::Fifo,
    }
}

/// The kind of file that a header stands for; nothing for another name and for forms that are never written here.
pub(super) fn kind_of(kind: EntryType) -> Option<Kind> {
    match kind {
        EntryType::Regular => Some(Kind::File),
        EntryType::Directory => Some(Kind::Directory),
        EntryType::Symlink => Some(Kind::Link),
        EntryType::Char | EntryType::Block | EntryType::Fifo => Some(Kind::Special),
        _ => None,
    }
}

/// A name as archives have it: no leading slash, no trailing one.
pub(super) fn plain_name(name: &Path) -> &Path {
    name.strip_prefix("/").unwrap_or(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_record_counts_its_own_length() {
        for length in [0, 1, 88, 89, 90, 91, 988, 989, 990, 5000] {
            let mut records = Vec::new();
            pax_record(&mut records, "path", &vec![b'x'; length]);
            let text = String::from_utf8(records.clone()).unwrap();
            assert_eq!(text.split_once(' ').unwrap().0.parse(), Ok(records.len()));
        }
    }

    #[test]
    fn a_sparse_map_is_read_as_it_was_written() {
        for count in [0u64, 1, 3, 200] {
            let map: Vec<Stretch> = (0..count).map(|i| (i * 1_000_000, 4096 + i)).collect();
            let mut bytes = sparse_map(&map);
            bytes.extend_from_slice(b"data");
            let mut data = bytes.as_slice();
            assert_eq!(read_sparse_map(&mut data).unwrap(), map);
            assert_eq!(data, b"data");
        }
    }
}
