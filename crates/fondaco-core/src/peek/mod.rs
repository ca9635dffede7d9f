//! A look into one file: the beginning and end of a text, bytes, the list of an archive, the size of a picture
//! or sound.
//!
//! Only regular files are opened, nothing is waited for, and no more than a little is read, however large the
//! file is or claims to be. What is read is data: it is shown in its display form and never obeyed.
//!
//! The libraries that take archives, pictures and sounds apart are confined: to so many bytes, to some seconds, and
//! to a thread that may die of them. Without the feature `look-inside` there are none of them, and such files are
//! bytes.

#[cfg(feature = "look-inside")]
mod archive;
mod listing;
#[cfg(feature = "look-inside")]
mod media;
mod plain;

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use crate::kernel::{self, CallError, Op};
use crate::naming::{HEAD, is_text};
use crate::shown::Shown;
use crate::units::Bytes;

pub use listing::{Listed, Listing};
pub use plain::{HexRow, Text};

/// What a look has shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Peek {
    /// What sort of contents it is, in words.
    pub sort: String,
    /// Its length when it was opened.
    pub length: Bytes,
    /// What is in it.
    pub inside: Inside,
}

/// What a look inside has found, by the sort of file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Inside {
    /// Not a byte.
    Nothing,
    /// The first and last lines of a text.
    Text(Text),
    /// Bytes at the beginning, and if there are more at the end.
    Bytes(Vec<HexRow>, Vec<HexRow>),
    /// What an archive holds.
    Archive(Listing),
    /// What is known of a picture or sound: names and values.
    Media(Vec<(&'static str, String)>),
}

/// Why a file cannot be looked into.
#[derive(Debug, thiserror::Error)]
pub enum PeekError {
    /// It is a directory, a link, a device or a pipe.
    #[error("{} is no regular file: only those are looked into", Shown(.0))]
    NoFile(PathBuf),
    /// The kernel refused.
    #[error(transparent)]
    Call(#[from] CallError),
}

/// Looks into a file.
///
/// # Errors
///
/// [`PeekError`] if it cannot be opened or read, or is no regular file.
pub fn peek(path: &Path) -> Result<Peek, PeekError> {
    let error = |op| CallError::on(op, path);
    let (parent, name) = (path.parent().unwrap_or(Path::new("/")), path.file_name());
    let directory = kernel::open_root(parent).map_err(error(Op::Open))?;
    let opened = kernel::open_file(&directory, name.unwrap_or_default());
    let mut file = match opened {
        Err(cause) if cause.raw_os_error() == Some(libc::EINVAL) => {
            return Err(PeekError::NoFile(path.to_owned()));
        }
        opened => opened.map_err(error(Op::Open))?,
    };
    let length = file.metadata().map_err(error(Op::Examine))?.len();
    let head = head(&mut file).map_err(error(Op::Read))?;
    #[cfg(feature = "look-inside")]
    if let Some((sort, inside)) = taken_apart(&file, &head, length, name.unwrap_or_default()) {
        return Ok(Peek { sort, length: Bytes::new(length), inside });
    }
    let (sort, inside) = look(&mut file, &head, length).map_err(error(Op::Read))?;
    Ok(Peek { sort, length: Bytes::new(length), inside })
}

/// So long a library may take for a file. One that takes longer goes on by itself until its bytes are used up.
#[cfg(feature = "look-inside")]
const TAKEN_APART_WITHIN: std::time::Duration = std::time::Duration::from_secs(10);

/// What libraries for archives, pictures and sounds find in a file; nothing if they fail, in whatever way.
#[cfg(feature = "look-inside")]
fn taken_apart(
    file: &File,
    head: &[u8],
    length: u64,
    name: &std::ffi::OsStr,
) -> Option<(String, Inside)> {
    // a place in the file of its own: a library that is late must not move ours
    let own = format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(file));
    let mut file = File::open(own).ok()?;
    let (head, name) = (head.to_vec(), name.as_encoded_bytes().to_vec());
    let look = move || {
        let archive = archive::look(&mut file, &head, length, &name);
        archive.or_else(|| media::look(&mut file, &head))
    };
    crate::contained::contained_within(TAKEN_APART_WITHIN, look).ok().flatten()
}

fn head(file: &mut File) -> io::Result<Vec<u8>> {
    let mut head = Vec::with_capacity(HEAD);
    file.take(HEAD as u64).read_to_end(&mut head)?;
    file.seek(SeekFrom::Start(0))?;
    Ok(head)
}

fn look(file: &mut File, head: &[u8], length: u64) -> io::Result<(String, Inside)> {
    if head.is_empty() {
        return Ok(("empty".to_owned(), Inside::Nothing));
    }
    if is_text(head) {
        return Ok(("text".to_owned(), Inside::Text(plain::text(file, length)?)));
    }
    let sort = infer::get(head).map_or("bytes", |found| found.mime_type());
    let (first, last) = plain::bytes(file, length)?;
    Ok((sort.to_owned(), Inside::Bytes(first, last)))
}

/// Reads no more than so many bytes in all, wherever they lie.
#[cfg(feature = "look-inside")]
struct LimitedReader<'a> {
    file: &'a mut File,
    left: u64,
}

#[cfg(feature = "look-inside")]
impl<'a> LimitedReader<'a> {
    fn new(file: &'a mut File, left: u64) -> Self {
        Self { file, left }
    }
}

#[cfg(feature = "look-inside")]
impl Read for LimitedReader<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        if self.left == 0 {
            return Err(io::Error::other("it is too large to be looked into"));
        }
        let most = into.len().min(self.left as usize);
        let read = self.file.read(&mut into[..most])?;
        self.left -= read as u64;
        Ok(read)
    }
}

#[cfg(feature = "look-inside")]
impl Seek for LimitedReader<'_> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}

#[cfg(test)]
#[cfg(feature = "look-inside")]
mod tests {
    use super::*;
    use std::io::Write;
    use std::os::unix::ffi::OsStrExt;

    fn at(directory: &Path, name: &str, bytes: &[u8]) -> Peek {
        let path = directory.join(name);
        std::fs::write(&path, bytes).unwrap();
        peek(&path).unwrap()
    }

    #[test]
    fn texts_bytes_archives_pictures_and_sounds_are_told_apart() {
        let directory = tempfile::tempdir().unwrap();
        let at = |name: &str, bytes: &[u8]| at(directory.path(), name, bytes);
        assert_eq!(at("none", b"").inside, Inside::Nothing);
        let log: String = (0..20_000).map(|n| format!("{n} tide\x1b[2J high\n")).collect();
        let Inside::Text(text) = at("log", log.as_bytes()).inside else { panic!("no text") };
        assert_eq!(text.head[0], "0 tide\\x1b[2J high");
        assert_eq!(text.tail.last().unwrap(), "19999 tide\\x1b[2J high");
        assert!(text.between.get() > 100_000 && text.head.len() + text.tail.len() < 4000);
        let Inside::Bytes(first, last) = at("core", &[0; 5000]).inside else { panic!("no bytes") };
        assert_eq!((first[0].offset, last.last().unwrap().offset), (0, 4992));
        let mut wav = b"RIFF\0\0\0\0WAVEfmt \x10\0\0\0\x01\0\x02\0".to_vec();
        wav.extend(48_000u32.to_le_bytes());
        wav.extend((48_000u32 * 4).to_le_bytes());
        wav.extend([4, 0, 16, 0]);
        wav.extend(b"data");
        wav.extend((48_000u32 * 4 * 2).to_le_bytes());
        wav.extend(vec![0; 48_000 * 4 * 2]);
        let riff = (wav.len() as u32 - 8).to_le_bytes();
        wav[4..8].copy_from_slice(&riff);
        let Inside::Media(facts) = at("north.wav", &wav).inside else { panic!("no sound") };
        assert!(facts.contains(&("duration", "2.0 s".to_owned())), "{facts:?}");
        let png = b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\x02\x80\0\0\x01\xe0\x08\x06\0\0\0";
        let Inside::Media(facts) = at("still.png", png).inside else { panic!("no picture") };
        assert!(facts.contains(&("size", "640 × 480".to_owned())), "{facts:?}");
    }

    #[test]
    fn archives_are_listed_and_hostile_ones_are_bytes() {
        let directory = tempfile::tempdir().unwrap();
        let mut tar = tar::Builder::new(Vec::new());
        for (name, size) in [("tide/a.csv", 700), ("tide/\u{1b}[2Jb", 3)] {
            let mut header = tar::Header::new_gnu();
            header.set_size(size);
            header.set_mode(0o644);
            header.set_cksum();
            tar.append_data(&mut header, name, &vec![b'x'; size as usize][..]).unwrap();
        }
        let tar = tar.into_inner().unwrap();
        let zst = zstd::encode_all(&tar[..], 1).unwrap();
        let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gz.write_all(&tar).unwrap();
        let gz = gz.finish().unwrap();
        for (name, bytes) in [("a.tar", &tar), ("a.tar.zst", &zst), ("a.tgz", &gz)] {
            let Inside::Archive(found) = at(directory.path(), name, bytes).inside else {
                panic!("{name}")
            };
            let names: Vec<&str> = found.entries.iter().map(|entry| entry.name.as_str()).collect();
            assert_eq!(names, ["tide/a.csv", "tide/\\x1b[2Jb"], "{name}");
            assert_eq!(found.entries[0].length, Some(Bytes::new(700)), "{name}");
            // cut off anywhere, it is still looked into without harm
            for cut in (1..bytes.len()).step_by(97) {
                at(directory.path(), name, &bytes[..cut]);
            }
        }
        let zip = b"PK\x05\x06\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0";
        let Inside::Archive(found) = at(directory.path(), "none.zip", zip).inside else { panic!() };
        assert!(found.entries.is_empty());
        // claims entries that are not there
        let mut lies = *zip;
        (lies[8], lies[10], lies[12]) = (9, 9, 200);
        assert!(matches!(at(directory.path(), "lies.zip", &lies).inside, Inside::Bytes(..)));
        // a little that becomes a lot is not unpacked to its end
        let bomb = zstd::encode_all(io::repeat(0).take(1 << 30), 1).unwrap();
        let begun = std::time::Instant::now();
        at(directory.path(), "bomb.zst", &bomb);
        assert!(begun.elapsed().as_secs() < 20);
    }

    #[test]
    fn nothing_but_a_regular_file_is_opened() {
        let directory = tempfile::tempdir().unwrap();
        let pipe = directory.path().join("pipe");
        let fifo = rustix::fs::FileType::Fifo;
        let mode = rustix::fs::Mode::from(0o644);
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, fifo, mode, 0).unwrap();
        let link = directory.path().join("link");
        std::os::unix::fs::symlink("/dev/zero", &link).unwrap();
        for path in [&pipe, &link] {
            assert!(matches!(peek(path), Err(PeekError::NoFile(_))), "{path:?}");
        }
        let odd = directory.path().join(std::ffi::OsStr::from_bytes(b"\xff\n"));
        std::fs::write(&odd, "tide").unwrap();
        assert_eq!(peek(&odd).unwrap().sort, "text");
    }
}
