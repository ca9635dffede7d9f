//! What proves the end of a saved scan before a library reads it.
//!
//! The footer of a Parquet file says where everything lies, and a bit that flipped in it can lead a reader anywhere.
//! In front of the footer, where readers of the format look at nothing, stands a seal: a mark, and the BLAKE3 hash of
//! all that follows it. Files from before there were seals, and files of others, have none: of these the sizes that
//! their footer states are held against its length before the library is let at them.

use std::io::{self, Write};

/// The mark that a seal begins with.
const MARK: &[u8; 16] = b"fondaco.seal.001";
/// Length of a seal.
pub(super) const LENGTH: usize = MARK.len() + blake3::OUT_LEN;
/// What a file ends with: the length of its footer in four bytes, and the mark of the format.
const END: usize = 8;
/// Deeper than any footer of a flat table is nested.
const DEPTH_MOST: usize = 24;

/// Passes on what is written, and knows its checksum. Once the rows are written it keeps back what follows, until that
/// can be sealed.
pub(super) struct Sealing<W> {
    out: W,
    pub(super) hasher: blake3::Hasher,
    kept_back: Option<Vec<u8>>,
}

impl<W: Write> Sealing<W> {
    pub(super) fn new(out: W) -> Self {
        Self { out, hasher: blake3::Hasher::new(), kept_back: None }
    }

    /// The rows are written: what follows is the room for a seal and the footer.
    pub(super) fn rows_are_written(&mut self) {
        self.kept_back = Some(Vec::new());
    }

    /// Seals what was kept back and writes it.
    pub(super) fn seal(mut self) -> io::Result<()> {
        let mut end = self.kept_back.take().unwrap_or_default();
        if end.len() < LENGTH || footer_of(&end).is_none_or(|footer| end.len() - footer != LENGTH) {
            return Err(io::Error::other("there is no room for a seal before the footer"));
        }
        let hash = blake3::hash(&end[LENGTH..]);
        end[..MARK.len()].copy_from_slice(MARK);
        end[MARK.len()..LENGTH].copy_from_slice(hash.as_bytes());
        self.out.write_all(&end)?;
        self.out.flush()
    }
}

impl<W: Write> Write for Sealing<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if let Some(kept) = &mut self.kept_back {
            kept.extend_from_slice(bytes);
            return Ok(bytes.len());
        }
        let written = self.out.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// How the end of a file stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Proof {
    /// It is what was written.
    Sealed,
    /// It has no seal, and states no sizes that it cannot have.
    Plain,
}

/// Proves the end of a file.
///
/// # Errors
///
/// What is wrong with it.
pub(super) fn prove(file: &[u8]) -> Result<Proof, &'static str> {
    let footer = footer_of(file).ok_or("it does not end as a table does")?;
    let before = file.len() - footer;
    if let Some(seal) = before.checked_sub(LENGTH).map(|from| &file[from..before])
        && seal.starts_with(MARK)
    {
        let hash = blake3::hash(&file[before..]);
        return match hash.as_bytes()[..] == seal[MARK.len()..] {
            true => Ok(Proof::Sealed),
            false => Err("its footer is not what was written"),
        };
    }
    let mut rest = &file[before..file.len() - END];
    structure(&mut rest, 0).ok_or("its footer states sizes that it cannot have")?;
    Ok(Proof::Plain)
}

/// The length of the footer of a file with all that follows it, if the file ends as the format wants it.
pub(super) fn footer_of(file: &[u8]) -> Option<usize> {
    let end = file.len().checked_sub(END).map(|from| &file[from..])?;
    let length = u32::from_le_bytes(end[..4].try_into().ok()?) as usize;
    let whole = length.checked_add(END)?;
    (&end[4..] == b"PAR1" && whole <= file.len()).then_some(whole)
}

/// Goes through a structure as Thrift's compact protocol writes it (`thrift-compact-protocol.md` of Apache Thrift),
/// keeps nothing, and makes sure that no text or list says that it holds more than is left.
fn structure(rest: &mut &[u8], depth: usize) -> Option<()> {
    if depth > DEPTH_MOST {
        return None;
    }
    loop {
        let head = take(rest, 1)?[0];
        if head == 0 {
            return Some(());
        }
        if head >> 4 == 0 {
            number(rest)?; // the field's number stands by itself
        }
        // a field that is true or false has its value in its head
        if !matches!(head & 0x0f, 1 | 2) {
            value(rest, head & 0x0f, depth)?;
        }
    }
}

fn value(rest: &mut &[u8], kind: u8, depth: usize) -> Option<()> {
    match kind {
        1..=3 => take(rest, 1).map(|_| ()),
        4..=6 => number(rest).map(|_| ()),
        7 => take(rest, 8).map(|_| ()),
        8 => {
            let length = number(rest)?;
            take(rest, usize::try_from(length).ok()?).map(|_| ())
        }
        9 | 10 => {
            let head = take(rest, 1)?[0];
            let count = if head >> 4 == 15 { number(rest)? } else { u64::from(head >> 4) };
            // each takes a byte at least
            if count > rest.len() as u64 {
                return None;
            }
            (0..count).try_for_each(|_| value(rest, head & 0x0f, depth + 1))
        }
        12 => structure(rest, depth + 1),
        _ => None,
    }
}

fn take<'a>(rest: &mut &'a [u8], length: usize) -> Option<&'a [u8]> {
    let (taken, left) = rest.split_at_checked(length)?;
    *rest = left;
    Some(taken)
}

fn number(rest: &mut &[u8]) -> Option<u64> {
    let mut found = 0u64;
    for shift in (0..64).step_by(7) {
        let byte = take(rest, 1)?[0];
        found |= u64::from(byte & 0x7f) << shift;
        if byte < 0x80 {
            return Some(found);
        }
    }
    None
}
