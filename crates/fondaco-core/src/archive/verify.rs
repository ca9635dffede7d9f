//! Reading an archive back and comparing it, entry by entry, with what the originals were.

use std::io::{self, Read};
use std::path::Path;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};

use sha2::{Digest, Sha256};

use super::ahead::{Ahead, PIECES, hand_over};
use super::original::hex;
use super::tar_read::{TarReader, has_content};
use super::{ArchivedEntry, ArchivedTarget, DepotError};
use crate::kernel::{CallError, Op};
use crate::shown::shown;

/// With fewer bytes of contents a thread takes longer to begin than it saves.
const WORTH_A_THREAD: u64 = 4 << 20;

/// Reads the whole archive as it is stored, compares it with the index, and gives its SHA-256. A large one is read, hashed and
/// unpacked on a thread of its own, while this one hashes what is in it.
///
/// # Errors
///
/// [`DepotError::Differs`] for the first difference, [`DepotError::Call`] if it cannot be read.
pub(super) fn read_back(
    stored: impl Read + Send,
    path: &Path,
    targets: &[ArchivedTarget],
) -> Result<String, DepotError> {
    let entries = targets.iter().flat_map(|target| &target.entries);
    if entries.map(|entry| entry.size).sum::<u64>() < WORTH_A_THREAD {
        return read_back_here(stored, path, targets);
    }
    let waiting = Mutex::new(Some(stored));
    let take = || waiting.lock().unwrap_or_else(PoisonError::into_inner).take();
    let ahead = std::thread::scope(|scope| {
        let (send, receive) = sync_channel(PIECES);
        let take = &take;
        let thread = std::thread::Builder::new()
            .name("proof".to_owned())
            .spawn_scoped(scope, move || take().map(|stored| unpack_and_hash(stored, &send)));
        let Ok(thread) = thread else { return None };
        let compared = compare_all(Ahead::of(receive), path, targets);
        // the receiver is gone with what was compared, so that the thread ends whatever came of it
        let hash = match thread.join() {
            Ok(hash) => hash?,
            Err(panic) => std::panic::resume_unwind(panic),
        };
        Some(compared.and_then(|()| {
            let hash = hash.map_err(CallError::on(Op::Read, path))?;
            let reason = "not all of it was read".to_owned();
            hash.ok_or_else(|| DepotError::Differs { path: path.to_owned(), reason })
        }))
    });
    match (ahead, take()) {
        (Some(done), _) => done,
        (None, Some(stored)) => read_back_here(stored, path, targets),
        (None, None) => {
            let lost = io::Error::other("the thread that reads it has ended");
            Err(CallError::on(Op::Read, path)(lost).into())
        }
    }
}

fn read_back_here(
    stored: impl Read,
    path: &Path,
    targets: &[ArchivedTarget],
) -> Result<String, DepotError> {
    let mut hashed = Hashed { stored, hash: Sha256::new() };
    let decoder = zstd::stream::read::Decoder::new(&mut hashed);
    compare_all(decoder.map_err(CallError::on(Op::Read, path))?, path, targets)?;
    io::copy(&mut hashed, &mut io::sink()).map_err(CallError::on(Op::Read, path))?;
    Ok(hex(&hashed.hash.finalize()))
}

/// Unpacks what is stored and hands it over; gives the hash of all that is stored, if all of it was taken.
fn unpack_and_hash(
    stored: impl Read,
    pieces: &SyncSender<io::Result<Vec<u8>>>,
) -> io::Result<Option<String>> {
    let mut hashed = Hashed { stored, hash: Sha256::new() };
    let unpacked = zstd::stream::read::Decoder::new(&mut hashed)
        .and_then(|mut decoder| hand_over(&mut decoder, pieces));
    match unpacked {
        Ok(true) => {
            io::copy(&mut hashed, &mut io::sink())?;
            Ok(Some(hex(&hashed.hash.finalize())))
        }
        // a difference was found
        Ok(false) => Ok(None),
        Err(error) => {
            // it is told to the one who compares, unless a difference was found before
            let _ = pieces.send(Err(error));
            Ok(None)
        }
    }
}

/// Compares what was unpacked, to its very end, with the index.
fn compare_all(
    unpacked: impl Read,
    path: &Path,
    targets: &[ArchivedTarget],
) -> Result<(), DepotError> {
    let differs = |reason: String| DepotError::Differs { path: path.to_owned(), reason };
    let mut archive = TarReader::new(unpacked);
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
    let rest = io::copy(&mut archive.into_inner(), &mut io::sink());
    rest.map(drop).map_err(|error| differs(error.to_string()))
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
