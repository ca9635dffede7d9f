//! Lines and bytes.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

use crate::shown::shown;
use crate::units::Bytes;

/// The beginning and the end of a text, in the display form.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Text {
    /// Its first lines.
    pub head: Vec<String>,
    /// What lies between them and the last ones.
    pub between: Bytes,
    /// Its last lines; none if the first are all.
    pub tail: Vec<String>,
}

/// Up to sixteen bytes in hexadecimal, with the text that they are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HexRow {
    /// Where they begin.
    pub offset: u64,
    /// In pairs of digits.
    pub hex: String,
    /// The printable characters, with a dot for every other byte.
    pub text: String,
}

const FIRST: u64 = 48 << 10;
const LAST: u64 = 16 << 10;
/// A line may be a whole document: no more than this of one is shown.
const LINE: usize = 400;

fn read(file: &File, from: u64, length: u64) -> io::Result<Vec<u8>> {
    let mut bytes = vec![0; length as usize];
    let mut read = 0;
    while read < bytes.len() {
        match file.read_at(&mut bytes[read..], from + read as u64) {
            // it has become shorter
            Ok(0) => break,
            Ok(more) => read += more,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    bytes.truncate(read);
    Ok(bytes)
}

pub(super) fn text(file: &File, length: u64) -> io::Result<Text> {
    if length <= FIRST + LAST {
        return Ok(Text { head: lines(&read(file, 0, length)?), ..Text::default() });
    }
    let mut head = lines(&read(file, 0, FIRST)?);
    let mut tail = lines(&read(file, length - LAST, LAST)?);
    // both are cut in the middle of a line
    if head.len() > 1 {
        head.pop();
    }
    if tail.len() > 1 {
        tail.remove(0);
    }
    Ok(Text { head, between: Bytes::new(length - FIRST - LAST), tail })
}

fn lines(bytes: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(bytes);
    let line = |line: &str| {
        let cut: String = line.chars().take(LINE).collect();
        let more = if cut.len() < line.len() { "…" } else { "" };
        format!("{}{more}", shown(cut.replace('\t', "    ")))
    };
    text.lines().map(line).collect()
}

pub(super) fn bytes(file: &File, length: u64) -> io::Result<(Vec<HexRow>, Vec<HexRow>)> {
    const ENDS: u64 = 4096;
    if length <= 2 * ENDS {
        return Ok((rows(&read(file, 0, length)?, 0), Vec::new())).map(|(all, none)| {
            // a short file has an end too
            if all.len() > 64 {
                let (first, last) = all.split_at(all.len() / 2);
                (first.to_vec(), last.to_vec())
            } else {
                (all, none)
            }
        });
    }
    let from = (length - ENDS) / 16 * 16;
    Ok((rows(&read(file, 0, ENDS)?, 0), rows(&read(file, from, length - from)?, from)))
}

fn rows(bytes: &[u8], from: u64) -> Vec<HexRow> {
    let row = |(number, chunk): (usize, &[u8])| {
        let pairs: Vec<String> = chunk.iter().map(|byte| format!("{byte:02x}")).collect();
        let sign = |byte: &u8| if (0x20..0x7f).contains(byte) { char::from(*byte) } else { '.' };
        HexRow {
            offset: from + number as u64 * 16,
            hex: pairs.join(" "),
            text: chunk.iter().map(sign).collect(),
        }
    };
    bytes.chunks(16).enumerate().map(row).collect()
}
