//! Files by the rows of the database that they belong to: which ones are asked for, and what of the rows is kept.

use rustc_hash::FxHashMap;

use super::row::{Row, row_of, write_one};
use super::{KnownFile, Rows, key_of, low_of, place_of};
use crate::duplicates::candidates::Candidate;
use crate::duplicates::search::HEARD;

/// The places of files in a list, by the row that they belong to.
pub(super) struct ByRow {
    /// For each row where its files begin in `places`, and where they end.
    rows: FxHashMap<(u64, u64), (u32, u32)>,
    places: Vec<u32>,
}

impl ByRow {
    /// Nothing if it goes on no longer.
    pub(super) fn of(files: &[Candidate], goes_on: impl Fn() -> bool) -> Option<Self> {
        let key = |file: &Candidate| (file.device(), place_of(file.inode));
        let mut rows: FxHashMap<(u64, u64), (u32, u32)> = FxHashMap::default();
        for files in files.chunks(HEARD) {
            goes_on().then_some(())?;
            files.iter().for_each(|file| rows.entry(key(file)).or_default().1 += 1);
        }
        let mut begin = 0;
        for (from, count) in rows.values_mut() {
            (*from, begin) = (begin, begin + *count);
            *count = *from;
        }
        let mut places = vec![0; files.len()];
        let mut at = 0;
        for files in files.chunks(HEARD) {
            goes_on().then_some(())?;
            for file in files {
                if let Some((_, end)) = rows.get_mut(&key(file)) {
                    places[*end as usize] = at;
                    *end += 1;
                }
                at += 1;
            }
        }
        Some(Self { rows, places })
    }

    pub(super) fn files(&self, row: (u64, u64)) -> &[u32] {
        let (from, to) = self.rows.get(&row).copied().unwrap_or_default();
        &self.places[from as usize..to as usize]
    }
}

/// Parts of rows that are kept in memory. Their files are told row by row.
#[derive(Default)]
pub(super) struct KeptRows {
    rows: Rows,
    /// The row that files are told of.
    key: (u64, u64),
    /// For each of them its place among the neighbours, and where its record ends.
    ends: Vec<(u16, usize)>,
    records: Vec<u8>,
    record: Vec<u8>,
}

impl KeptRows {
    pub(super) fn push(&mut self, file: &Candidate, known: &KnownFile<'_>) {
        self.record.clear();
        write_one(&mut self.record, &known.as_read, &known.read());
        let key = key_of(&(file.device(), file.inode, &self.record));
        if key != self.key {
            self.close();
            self.key = key;
        }
        self.records.extend_from_slice(&self.record);
        self.ends.push((low_of(file.inode), self.records.len()));
    }

    /// Ends the row that files are told of.
    fn close(&mut self) {
        if self.ends.is_empty() {
            return;
        }
        let mut from = 0;
        let record = |(low, end): &(u16, usize)| {
            (*low, &self.records[std::mem::replace(&mut from, *end)..*end])
        };
        let mut records: Vec<(u16, &[u8])> = self.ends.iter().map(record).collect();
        records.sort_unstable_by_key(|(low, _)| *low);
        self.rows.insert(self.key, Row::new(&row_of(&records)));
        self.ends.clear();
        self.records.clear();
    }

    pub(super) fn into_rows(mut self) -> Rows {
        self.close();
        self.rows
    }
}
