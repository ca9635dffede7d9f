//! Reading ahead: one thread unpacks, and hands over piece by piece to the one that works on what was unpacked.

use std::io::{self, Read};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Mutex, PoisonError};

/// So many bytes are handed over at once, and so many times before the reader waits.
pub(super) const PIECE: usize = 256 << 10;
pub(super) const PIECES: usize = 16;

/// Reads what another thread hands over.
pub(super) struct Ahead {
    receive: Receiver<io::Result<Vec<u8>>>,
    piece: Vec<u8>,
    at: usize,
}

impl Ahead {
    pub(super) fn of(receive: Receiver<io::Result<Vec<u8>>>) -> Self {
        Self { receive, piece: Vec::new(), at: 0 }
    }
}

impl Read for Ahead {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at == self.piece.len() {
            match self.receive.recv() {
                Ok(piece) => (self.piece, self.at) = (piece?, 0),
                // the other thread has come to the end
                Err(_) => return Ok(0),
            }
        }
        let got = buffer.len().min(self.piece.len() - self.at);
        buffer[..got].copy_from_slice(&self.piece[self.at..self.at + got]);
        self.at += got;
        Ok(got)
    }
}

/// Hands over all of a stream; says whether all of it was taken.
///
/// # Errors
///
/// That of the stream.
pub(super) fn hand_over(
    stream: &mut impl Read,
    pieces: &SyncSender<io::Result<Vec<u8>>>,
) -> io::Result<bool> {
    loop {
        let mut piece = Vec::with_capacity(PIECE);
        if stream.take(PIECE as u64).read_to_end(&mut piece)? == 0 {
            return Ok(true);
        }
        if pieces.send(Ok(piece)).is_err() {
            return Ok(false);
        }
    }
}

/// Does work on a stream that a thread of its own reads ahead; where none can be begun it is read here.
pub(super) fn with_ahead<T>(stream: impl Read + Send, work: impl FnOnce(&mut dyn Read) -> T) -> T {
    let waiting = Mutex::new(Some(stream));
    let take = || waiting.lock().unwrap_or_else(PoisonError::into_inner).take();
    std::thread::scope(|scope| {
        let (send, receive) = sync_channel(PIECES);
        let read = move || {
            let Some(mut stream) = take() else { return };
            if let Err(error) = hand_over(&mut stream, &send) {
                // whoever works on it is told, unless that has ended
                let _ = send.send(Err(error));
            }
        };
        match std::thread::Builder::new().name("unpacking".to_owned()).spawn_scoped(scope, read) {
            Ok(_) => work(&mut Ahead::of(receive)),
            Err(_) => match take() {
                Some(mut stream) => work(&mut stream),
                None => work(&mut io::empty()),
            },
        }
    })
}
