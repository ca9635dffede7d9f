//! Rows of what is known of files: how they are written, and how a file is found in one.

use std::cmp::Ordering;

use super::{AsRead, KnownFile, Reach, Read, TOGETHER};
use crate::units::Time;

/// A row: how many files it has, for each its place among the neighbours and where its record begins behind that table, in
/// the order of places; then the records. Numbers are little-endian. So a file is found without reading the others.
pub(super) fn row_of(records: &[(u16, &[u8])]) -> Vec<u8> {
    let mut row = Vec::new();
    row.extend_from_slice(&(records.len() as u32).to_le_bytes());
    let mut at = 0u32;
    for (low, record) in records {
        row.extend_from_slice(&low.to_le_bytes());
        row.extend_from_slice(&at.to_le_bytes());
        at += record.len() as u32;
    }
    records.iter().for_each(|(_, record)| row.extend_from_slice(record));
    row
}

/// Bytes of each line of the table of a row.
pub(super) const LINE: usize = 6;

/// The table of a row, and its records; nothing if it is damaged.
fn parts_of(row: &[u8]) -> Option<(&[u8], &[u8])> {
    let (count, rest) = row.split_first_chunk()?;
    rest.split_at_checked((u32::from_le_bytes(*count) as usize).checked_mul(LINE)?)
}

/// A line of the table: the place among the neighbours, and where the record begins.
fn line_of(line: &[u8]) -> Option<(u16, usize)> {
    let (low, at) = line.split_first_chunk()?;
    Some((u16::from_le_bytes(*low), u32::from_le_bytes(*at.first_chunk()?) as usize))
}

/// A row of the database, in memory.
#[derive(Debug)]
pub(super) struct Row {
    list: Box<[u8]>,
    /// For each place among the neighbours one more than where its record begins, or nothing; of rows with many files.
    index: Option<Box<[u32]>>,
}

impl Row {
    pub(super) fn new(list: &[u8]) -> Self {
        /// With so many files an index takes no more than half of what they take.
        const MANY: usize = 512;
        let index =
            parts_of(list).filter(|(table, _)| table.len() >= MANY * LINE).map(|(table, _)| {
                let mut index = vec![0; TOGETHER as usize];
                for (low, at) in table.chunks_exact(LINE).filter_map(line_of) {
                    if let Some(place) = index.get_mut(usize::from(low)) {
                        *place = at as u32 + 1;
                    }
                }
                index.into_boxed_slice()
            });
        Self { list: list.into(), index }
    }

    pub(super) fn find(&self, low: u16) -> Option<KnownFile<'_>> {
        let (table, records) = parts_of(&self.list)?;
        let at = match &self.index {
            Some(index) => index.get(usize::from(low))?.checked_sub(1)? as usize,
            None => place_in(table, low)?,
        };
        take_one(&mut records.get(at..)?)
    }
}

/// Where the record of a file begins, by the table of its row.
fn place_in(table: &[u8], low: u16) -> Option<usize> {
    let (mut from, mut to) = (0, table.len() / LINE);
    while from < to {
        let middle = from.midpoint(to);
        let (found, at) = line_of(&table[middle * LINE..])?;
        match found.cmp(&low) {
            Ordering::Less => from = middle + 1,
            Ordering::Greater => to = middle,
            Ordering::Equal => return Some(at),
        }
    }
    None
}

/// All records of a row, in order; of a damaged one as far as they can be read.
pub(super) fn records_of(row: &[u8]) -> Vec<(u16, &[u8])> {
    let Some((table, records)) = parts_of(row) else { return Vec::new() };
    let record = |(low, at): (u16, usize)| {
        let from = records.get(at..)?;
        let mut rest = from;
        take_one(&mut rest)?;
        Some((low, &from[..from.len() - rest.len()]))
    };
    table.chunks_exact(LINE).filter_map(line_of).filter_map(record).collect()
}

/// Writes the record of a file: numbers of eight bytes, then how many steps and whether there is the digest of all, then
/// those.
pub(super) fn write_one(list: &mut Vec<u8>, as_read: &AsRead, read: &Read) {
    let born = as_read.born.map_or(i64::MIN, nanoseconds);
    let times = [nanoseconds(as_read.mtime), nanoseconds(as_read.ctime), born];
    for number in std::iter::once(as_read.size).chain(times.map(|time| time as u64)) {
        list.extend_from_slice(&number.to_le_bytes());
    }
    let steps = read.steps.len().min(usize::from(u8::MAX));
    list.extend_from_slice(&[steps as u8, u8::from(read.whole.is_some())]);
    for step in &read.steps[..steps] {
        list.extend_from_slice(&step.to_le_bytes());
    }
    list.extend_from_slice(read.whole.as_ref().map_or(&[], |whole| &whole[..]));
}

pub(super) fn number(list: &mut &[u8]) -> Option<u64> {
    let (number, rest) = list.split_first_chunk()?;
    *list = rest;
    Some(u64::from_le_bytes(*number))
}

/// How far the file of a record was read, by how many steps it has and whether it has the digest of all.
pub(super) fn reach_of(record: &[u8]) -> Reach {
    match record.get(32..34) {
        Some([steps, has_whole]) if *steps > 1 || *steps == 1 && *has_whole != 0 => Reach::Further,
        _ => Reach::Beginning,
    }
}

/// Takes what [`write_one`] has written from the front; nothing if it is damaged.
pub(super) fn take_one<'a>(list: &mut &'a [u8]) -> Option<KnownFile<'a>> {
    let mut rest = *list;
    let size = number(&mut rest)?;
    let (mtime, ctime) = (time(number(&mut rest)? as i64), time(number(&mut rest)? as i64));
    let born = number(&mut rest)? as i64;
    let born = (born != i64::MIN).then(|| time(born));
    let (counts, rest) = rest.split_first_chunk::<2>()?;
    let (steps, mut rest) = rest.split_at_checked(usize::from(counts[0]) * 8)?;
    let mut whole = None;
    if counts[1] != 0 {
        let (digest, after) = rest.split_first_chunk()?;
        (whole, rest) = (Some(digest), after);
    }
    *list = rest;
    Some(KnownFile { as_read: AsRead { size, mtime, ctime, born }, steps, whole })
}

/// Nanoseconds since 1970; times too far off for that are all the same, and never believed, since sizes and other
/// times still differ.
fn nanoseconds(time: Time) -> i64 {
    time.sec.saturating_mul(1_000_000_000).saturating_add(i64::from(time.nsec))
}

fn time(nanoseconds: i64) -> Time {
    let (sec, nsec) =
        (nanoseconds.div_euclid(1_000_000_000), nanoseconds.rem_euclid(1_000_000_000));
    Time { sec, nsec: nsec as u32 }
}
