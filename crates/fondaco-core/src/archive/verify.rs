//! Reading an archive back and comparing it, entry by entry, with what the originals were.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use rustix::fs::Advice;
use sha2::{Digest, Sha256};
use tar::Entry;

use super::pack::{ContentHash, hex};
use super::tar_form::{kind_of, read_sparse_map};
use super::{ArchivedEntry, ArchivedTarget, DepotError};
use crate::kernel::{CallError, Kind, Op};
use crate::shown::shown;

/// Reads the whole archive from the device, compares it with the index, and gives its SHA-256.
///
/// # Errors
///
/// [`DepotError::Differs`] for the first difference, [`DepotError::Call`] if it cannot be read.
pub(super) fn read_back(
    file: &mut File,
    path: &Path,
    targets: &[ArchivedTarget],
) -> Result<String, DepotError> {
    // it was synced: let go of the cached pages, so that the device is asked
    let _ = rustix::fs::fadvise(&*file, 0, None, Advice::DontNeed);
    file.seek(SeekFrom::Start(0)).map_err(CallError::on(Op::Read, path))?;
    let differs = |reason: String| DepotError::Differs { path: path.to_owned(), reason };
    let mut hashed = Hashed { file, hash: Sha256::new() };
    let decoder = zstd::stream::read::Decoder::new(&mut hashed);
    let mut decoder = decoder.map_err(CallError::on(Op::Read, path))?;
    let mut archive = tar::Archive::new(&mut decoder);
    let mut expected = targets.iter().flat_map(|target| &target.entries);
    for entry in archive.entries().map_err(CallError::on(Op::Read, path))? {
        let mut entry = entry.map_err(|error| differs(error.to_string()))?;
        let Some(wanted) = expected.next() else {
            return Err(differs("it holds more than was packed".to_owned()));
        };
        if let Some(what) = compare(&mut entry, wanted).map_err(|e| differs(e.to_string()))? {
            return Err(differs(format!("{what} of {}", shown(&wanted.name.0))));
        }
    }
    if let Some(missing) = expected.next() {
        return Err(differs(format!("{} is missing", shown(&missing.name.0))));
    }
    // the trailer, and whatever else may follow
    io::copy(&mut decoder, &mut io::sink()).map_err(|error| differs(error.to_string()))?;
    drop(decoder);
    io::copy(&mut hashed, &mut io::sink()).map_err(CallError::on(Op::Read, path))?;
    Ok(hex(&hashed.hash.finalize()))
}

/// What is different, if anything.
fn compare(entry: &mut Entry<'_, impl Read>, wanted: &ArchivedEntry) -> io::Result<Option<String>> {
    let header = entry.header().clone();
    let name = entry_name(entry)?;
    let owner = (header.uid().ok(), header.gid().ok());
    let link = entry.link_name_bytes().map(|link| link.into_owned());
    let checks = [
        ("the name", name == wanted.name.0),
        ("the kind", kind_of(header.entry_type()) == Some(wanted.kind)),
        ("the mode", header.mode()? == wanted.mode & 0o7777),
        ("the owner", owner == (Some(u64::from(wanted.uid)), Some(u64::from(wanted.gid)))
            || wanted.uid > 0o7_777_777 || wanted.gid > 0o7_777_777),
        ("the link", link.as_deref()
            == wanted.link.as_ref().map(|link| link.0.as_os_str().as_bytes())),
    ];
    if let Some((what, _)) = checks.iter().find(|(_, same)| !same) {
        return Ok(Some((*what).to_owned()));
    }
    if wanted.kind != Kind::File || wanted.is_other_name() {
        return Ok(None);
    }
    let hash = content(entry, wanted.size, &mut |_, _| Ok(()))?;
    Ok((Some(hash) != wanted.sha256).then(|| "the contents".to_owned()))
}

/// The entry's name in the archive, sparse or not.
pub(super) fn entry_name(entry: &mut Entry<'_, impl Read>) -> io::Result<PathBuf> {
    let mut name = entry.path_bytes().into_owned();
    if let Some(sparse) = pax_value(entry, "GNU.sparse.name")? {
        name = sparse;
    }
    while name.len() > 1 && name.ends_with(b"/") {
        name.pop();
    }
    Ok(std::ffi::OsStr::from_bytes(&name).into())
}

/// Reads a file's contents out of an archive; `each` gets every piece with its offset, holes left
/// out. Gives the hash of the whole, holes read as zeros.
pub(super) fn content(
    entry: &mut Entry<'_, impl Read>,
    size: u64,
    each: &mut dyn FnMut(u64, &[u8]) -> io::Result<()>,
) -> io::Result<String> {
    let stretches = match pax_value(entry, "GNU.sparse.major")? {
        Some(_) => read_sparse_map(entry)?,
        None => vec![(0, size)],
    };
    let mut hash = ContentHash::default();
    let mut buffer = vec![0u8; 256 * 1024];
    for (offset, length) in stretches {
        hash.zeros_up_to(offset);
        let mut done = 0;
        while done < length {
            let most = buffer.len().min((length - done) as usize);
            let got = entry.read(&mut buffer[..most])?;
            if got == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            hash.update(&buffer[..got]);
            each(offset + done, &buffer[..got])?;
            done += got as u64;
        }
    }
    hash.zeros_up_to(size);
    Ok(hash.finish())
}

fn pax_value(entry: &mut Entry<'_, impl Read>, key: &str) -> io::Result<Option<Vec<u8>>> {
    let Some(records) = entry.pax_extensions()? else { return Ok(None) };
    for record in records {
        let record = record?;
        if record.key_bytes() == key.as_bytes() {
            return Ok(Some(record.value_bytes().to_owned()));
        }
    }
    Ok(None)
}

struct Hashed<'a> {
    file: &'a mut File,
    hash: Sha256,
}

impl Read for Hashed<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.file.read(buffer)?;
        self.hash.update(&buffer[..got]);
        Ok(got)
    }
}
