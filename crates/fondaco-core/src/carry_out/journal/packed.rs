//! Actions as the journal keeps them: lines of JSON, packed by the thousand.

use std::io;

use zstd::stream::{read::Decoder, write::Encoder};

use crate::plan::{Action, Lines, write_lines};

/// So many actions are packed together.
pub(super) const TOGETHER: usize = 1024;

/// Packs actions for a row of the journal.
pub(super) fn pack(actions: &[Action]) -> io::Result<Vec<u8>> {
    let mut out = Encoder::new(Vec::new(), 1)?;
    write_lines(&mut out, actions)?;
    out.finish()
}

/// Unpacks what [`pack`] has packed.
pub(super) fn unpack(list: &[u8]) -> io::Result<Vec<Action>> {
    let mut lines = Lines::of(Decoder::new(list)?);
    let mut actions = Vec::new();
    while let Some(line) = lines.next_line()? {
        actions.push(serde_json::from_slice(line)?);
    }
    Ok(actions)
}
