//! Reading an archive back and comparing it, entry by entry, with what the originals were.

use std::io::{self, Read};
use std::path::Path;

use sha2::{Digest, Sha256};

use super::original::hex;
use super::tar_read::{TarReader, has_content};
use super::{ArchivedEntry, ArchivedTarget, DepotError};
use crate::kernel::{CallError, Op};
use crate::shown::shown;

/// Reads the whole archive as it is stored, compares it with the index, and gives its SHA-256.
///
/// # Errors
///
/// [`DepotError::Differs`] for the first difference, [`DepotError::Call`] if it cannot be read.
pub(super) fn read_back(
    stored: impl Read,
    path: &Path,
    targets: &[ArchivedTarget],
) -> Result<String, DepotError> {
    let differs = |reason: String| DepotError::Differs { path: path.to_owned(), reason };
    let mut hashed = Hashed { stored, hash: Sha256::new() };
    let decoder = zstd::stream::read::Decoder::new(&mut hashed);
    let mut archive = TarReader::new(decoder.map_err(CallError::on(Op::Read, path))?);
    for wanted in targets.iter().flat_map(|target| &target.entries) {
        let difference =
            compare(&mut archive, wanted).map_err(|error| differs(error.to_string()))?;
        if let Some(what) = difference {
            return Err(differs(format!("{what} of {}", shown(&wanted.name.0))));
        }
    }
    match archive.next() {
        Ok(None) => {}
        Ok(Some(_)) => return Err(differs("it holds more than was packed".to_owned())),
        Err(error) => return Err(differs(error.to_string())),
    }
    let mut decoder = archive.into_inner();
    io::copy(&mut decoder, &mut io::sink()).map_err(|error| differs(error.to_string()))?;
    drop(decoder);
    io::copy(&mut hashed, &mut io::sink()).map_err(CallError::on(Op::Read, path))?;
    Ok(hex(&hashed.hash.finalize()))
}

/// What is different, if anything.
fn compare(
    archive: &mut TarReader<impl Read>,
    wanted: &ArchivedEntry,
) -> io::Result<Option<&'static str>> {
    let Some(member) = archive.next()? else { return Ok(Some("all")) };
    if let Some(what) = member.difference(wanted)? {
        return Ok(Some(what));
    }
    if !has_content(wanted) {
        return Ok(None);
    }
    let hash = archive.content(&member, wanted.size, &mut |_, _| Ok(()))?;
    Ok((Some(hash) != wanted.sha256).then_some("the contents"))
}

struct Hashed<R> {
    stored: R,
    hash: Sha256,
}

impl<R: Read> Read for Hashed<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let got = self.stored.read(buffer)?;
        self.hash.update(&buffer[..got]);
        Ok(got)
    }
}
