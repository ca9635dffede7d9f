//! What archives hold: tar, also within gzip or zstd, and zip. Nothing is unpacked but what the list needs.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::os::unix::ffi::OsStrExt;

use super::{Inside, LimitedReader, Listed, Listing};
use crate::shown::shown;
use crate::units::Bytes;

/// More are not listed.
const MOST: usize = 1000;
/// So much of the file is read, and so much of what it unpacks to.
const READ: u64 = 64 << 20;
const UNPACKED: u64 = 256 << 20;

pub(super) fn look(
    file: &mut File,
    head: &[u8],
    length: u64,
    name: &[u8],
) -> Option<(String, Inside)> {
    let found = match head {
        [b'P', b'K', 3 | 5, 4 | 6, ..] => zip(file).map(|listing| ("zip archive", listing)),
        [0x1f, 0x8b, ..] => packed(file, name, b".gz", flate2::read::MultiGzDecoder::new, "gzip"),
        [0x28, 0xb5, 0x2f, 0xfd, ..] => {
            let decoder = zstd::Decoder::new(LimitedReader::new(file, READ)).ok()?;
            unpacked(decoder, name, b".zst", "zstd")
        }
        _ if head.get(257..262) == Some(b"ustar") => {
            tar(file.take(length.min(1 << 40))).map(|listing| ("tar archive", listing))
        }
        _ => None,
    };
    file.seek(SeekFrom::Start(0)).ok()?;
    found.map(|(sort, listing)| (sort.to_owned(), Inside::Archive(listing)))
}

fn zip(file: &mut File) -> Option<Listing> {
    let mut archive = zip::ZipArchive::new(LimitedReader::new(file, READ)).ok()?;
    let mut listing = Listing { more: archive.len() > MOST, ..Listing::default() };
    for number in 0..archive.len().min(MOST) {
        let entry = archive.by_index_raw(number).ok()?;
        let name = shown(std::ffi::OsStr::from_bytes(entry.name_raw()));
        listing.entries.push(Listed { name, length: Some(Bytes::new(entry.size())) });
    }
    Some(listing)
}

fn packed<'a, D: Read>(
    file: &'a mut File,
    name: &[u8],
    ending: &[u8],
    decoder: impl FnOnce(LimitedReader<'a>) -> D,
    sort: &'static str,
) -> Option<(&'static str, Listing)> {
    unpacked(decoder(LimitedReader::new(file, READ)), name, ending, sort)
}

/// Something packed: the list of the tar in it, or itself as the one thing that it holds.
fn unpacked(
    decoder: impl Read,
    name: &[u8],
    ending: &[u8],
    sort: &'static str,
) -> Option<(&'static str, Listing)> {
    let mut decoder = decoder.take(UNPACKED);
    let mut head = [0; 512];
    let mut read = 0;
    while read < head.len() {
        match decoder.read(&mut head[read..]) {
            Ok(0) | Err(_) => break,
            Ok(more) => read += more,
        }
    }
    if head.get(257..262) == Some(b"ustar") {
        let listing = tar(std::io::Cursor::new(head).chain(decoder))?;
        return Some((
            if sort == "gzip" { "tar archive in gzip" } else { "tar archive in zstd" },
            listing,
        ));
    }
    let inner = name.strip_suffix(ending).unwrap_or(name);
    let name = shown(std::ffi::OsStr::from_bytes(inner));
    let one = Listed { name, length: None };
    Some((
        if sort == "gzip" { "gzip" } else { "zstd" },
        Listing { entries: vec![one], more: false },
    ))
}

fn tar(from: impl Read) -> Option<Listing> {
    let mut archive = tar::Archive::new(from);
    let mut listing = Listing::default();
    for entry in archive.entries().ok()? {
        let Ok(entry) = entry else {
            // cut off, or too large: what was found is shown
            listing.more = true;
            break;
        };
        if listing.entries.len() == MOST {
            listing.more = true;
            break;
        }
        let name = shown(std::ffi::OsStr::from_bytes(&entry.path_bytes()));
        listing.entries.push(Listed { name, length: Some(Bytes::new(entry.size())) });
    }
    (!listing.entries.is_empty()).then_some(listing)
}
