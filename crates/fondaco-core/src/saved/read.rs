//! Reading a saved scan: the document first, then groups of rows side by side.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use bytes::Bytes;
use parquet::column::reader::ColumnReader;
use parquet::data_type::ByteArray;
use parquet::errors::ParquetError;
use parquet::file::metadata::ParquetMetaData;
use parquet::file::reader::{FileReader, SerializedFileReader};

use super::SavedError;
use super::schema::{
    CHECKSUM, COLUMNS_1, Column, DOCUMENT, DOCUMENT_KIND, Document, GROUP, VERSION, kind_of,
    reading_of, schema,
};
use super::seal::{self, Proof};
use crate::catalog::{Catalog, Columns, ExcludedSums, FromRows, ScanFacts, Unreadable};
use crate::kernel::{CallError, Op};
use crate::units::{self, Time};

/// An open file, of which the footer has been read.
pub(super) struct Opened {
    path: PathBuf,
    bytes: Bytes,
    reader: SerializedFileReader<Bytes>,
    footer: Footer,
}

/// What the end of a file says.
struct Footer {
    document: Document,
    text: String,
    checksum: String,
}

/// What a file says of itself; its rows are not read.
pub(super) fn document(path: &Path) -> Result<Document, SavedError> {
    let file = File::open(path).map_err(CallError::on(Op::Open, path))?;
    prove_end(path, &file)?;
    let reader = SerializedFileReader::new(file).map_err(|error| foreign(path, words(error)))?;
    Ok(footer(path, reader.metadata())?.document)
}

/// Proves the end of a file of which the rows are not read.
fn prove_end(path: &Path, file: &File) -> Result<Proof, SavedError> {
    let read = || -> io::Result<Vec<u8>> {
        let length = file.metadata()?.len();
        let mut end = vec![0; length.min(8) as usize];
        let from = length - end.len() as u64;
        file.read_exact_at(&mut end, from)?;
        // with nothing that says how long the footer is there is none
        let said = end.get(..4).and_then(|said| said.try_into().ok()).map_or(0, u32::from_le_bytes);
        let wanted = (u64::from(said) + 8 + seal::LENGTH as u64).min(length);
        let mut end = vec![0; wanted as usize];
        file.read_exact_at(&mut end, length - wanted)?;
        Ok(end)
    };
    let end = read().map_err(CallError::on(Op::Read, path))?;
    seal::prove(&end).map_err(|reason| foreign(path, reason.to_owned()))
}

/// Opens a file with all that is in it, to read its rows.
pub(super) fn open(path: &Path) -> Result<Opened, SavedError> {
    let bytes = Bytes::from(std::fs::read(path).map_err(CallError::on(Op::Read, path))?);
    let proof = seal::prove(&bytes).map_err(|reason| foreign(path, reason.to_owned()))?;
    let reader = SerializedFileReader::new(bytes.clone());
    let reader = reader.map_err(|error| foreign(path, words(error)))?;
    let footer = footer(path, reader.metadata())?;
    if footer.document.fondaco > 2 && proof != Proof::Sealed {
        return Err(foreign(path, "its seal is missing".to_owned()));
    }
    Ok(Opened { path: path.to_owned(), bytes, reader, footer })
}

fn foreign(path: &Path, reason: String) -> SavedError {
    SavedError::Foreign { path: path.to_owned(), reason }
}

fn footer(path: &Path, metadata: &ParquetMetaData) -> Result<Footer, SavedError> {
    let refused = |reason: String| foreign(path, reason);
    let about = metadata.file_metadata();
    let value = |key: &str| {
        let pairs = about.key_value_metadata()?;
        pairs.iter().find(|pair| pair.key == key)?.value.clone()
    };
    let text = value(DOCUMENT).ok_or_else(|| refused("its footer does not say so".to_owned()))?;
    let stated: serde_json::Value =
        serde_json::from_str(&text).map_err(|error| refused(error.to_string()))?;
    let version = stated["fondaco"].as_u64().unwrap_or(0);
    if version > u64::from(VERSION) {
        return Err(SavedError::Newer { path: path.to_owned(), version });
    }
    let document: Document =
        serde_json::from_value(stated).map_err(|error| refused(error.to_string()))?;
    if document.kind != DOCUMENT_KIND {
        return Err(refused(format!("it is a {}", crate::shown::shown(&document.kind))));
    }
    let expected = schema().map_err(|error| refused(words(error)))?;
    let columns = if version == 1 { COLUMNS_1 } else { Column::ALL.len() };
    if about.schema().get_fields() != &expected.get_fields()[..columns] {
        return Err(refused("it has other columns".to_owned()));
    }
    Ok(Footer { document, text, checksum: value(CHECKSUM).unwrap_or_default() })
}

/// The library's words without its own name in front.
fn words(error: ParquetError) -> String {
    let text = error.to_string();
    text.trim_start_matches("Parquet error: ").trim_start_matches("EOF: ").to_owned()
}

impl Opened {
    fn damaged(&self, reason: impl ToString) -> SavedError {
        SavedError::Damaged { path: self.path.clone(), reason: reason.to_string() }
    }

    /// Reads all rows.
    pub(super) fn read(self) -> Result<Catalog, SavedError> {
        self.check()?;
        let document = &self.footer.document;
        let sums = document.excluded;
        let scan_facts = ScanFacts {
            now: Time::at(document.scanned_seconds),
            roots: document.roots.iter().map(|path| path.0.clone()).collect(),
            unreadable: document.unreadable.iter().map(unreadable).collect(),
            excluded: ExcludedSums {
                entries: sums.entries,
                allocated: units::Bytes::new(sums.allocated),
                apparent: units::Bytes::new(sums.apparent),
            },
            complete: document.complete,
            origin: document.origin.clone(),
        };
        let groups = self.reader.metadata().row_groups();
        let rows: usize =
            groups.iter().map(|group| group.num_rows().clamp(0, GROUP as i64) as usize).sum();
        let mut catalog =
            FromRows::new(scan_facts, rows, 0).map_err(|error| self.damaged(error))?;
        super::in_order(
            groups.len(),
            |group| self.group(group),
            |columns| {
                let columns = columns.map_err(|error| self.damaged(words(error)))?;
                catalog.take(&columns).map_err(|error| self.damaged(error))
            },
        )?;
        if catalog.rows() as u64 != document.entries {
            return Err(self.damaged("rows are missing"));
        }
        catalog.finish().map_err(|error| self.damaged(error))
    }

    /// Compares all that lies before the footer, and the document, with the checksum.
    fn check(&self) -> Result<(), SavedError> {
        let end = self
            .reader
            .metadata()
            .row_groups()
            .iter()
            .flat_map(parquet::file::metadata::RowGroupMetaData::columns);
        let end = end.map(|column| {
            let (start, length) = column.byte_range();
            start.saturating_add(length)
        });
        let end = end.max().unwrap_or(4);
        let rows = usize::try_from(end).ok().and_then(|end| self.bytes.get(..end));
        let rows = rows.ok_or_else(|| self.damaged("it is cut off"))?;
        let mut hasher = blake3::Hasher::new();
        hasher.update(rows);
        let found = hasher.update(self.footer.text.as_bytes()).finalize().to_hex();
        if found.as_str() != self.footer.checksum {
            return Err(self.damaged("its checksum is another"));
        }
        Ok(())
    }

    fn group(&self, group: usize) -> Result<Columns, ParquetError> {
        let rows = self.reader.metadata().row_group(group).num_rows();
        let rows = usize::try_from(rows).ok().filter(|rows| *rows <= GROUP);
        let rows = rows.ok_or_else(|| ParquetError::General("a group has too many rows".into()))?;
        let reader = self.reader.get_row_group(group)?;
        let columns = self.reader.metadata().row_group(group).num_columns();
        let numbered = Column::ALL.iter().enumerate().take(columns);
        let parts = numbered
            .map(|(number, column)| Ok((*column, take(reader.get_column_reader(number)?, rows)?)))
            .collect::<Result<Vec<_>, ParquetError>>()?;
        together(parts, rows).ok_or_else(|| ParquetError::General("a column is cut off".into()))
    }
}

/// A column of one group as the library gives it: values, and for each row whether it has one.
enum Part {
    Narrow(Vec<i32>, Vec<i16>),
    Wide(Vec<i64>, Vec<i16>),
    Text(Vec<ByteArray>, Vec<i16>),
}

fn take(reader: ColumnReader, rows: usize) -> Result<Part, ParquetError> {
    let mut levels = Vec::new();
    match reader {
        ColumnReader::Int32ColumnReader(mut reader) => {
            let mut values = Vec::with_capacity(rows);
            reader.read_records(rows, Some(&mut levels), None, &mut values)?;
            Ok(Part::Narrow(values, levels))
        }
        ColumnReader::Int64ColumnReader(mut reader) => {
            let mut values = Vec::with_capacity(rows);
            reader.read_records(rows, Some(&mut levels), None, &mut values)?;
            Ok(Part::Wide(values, levels))
        }
        ColumnReader::ByteArrayColumnReader(mut reader) => {
            let mut values = Vec::with_capacity(rows);
            reader.read_records(rows, Some(&mut levels), None, &mut values)?;
            Ok(Part::Text(values, levels))
        }
        _ => Err(ParquetError::General("a column of another type".into())),
    }
}

/// Every value where it belongs; nothing if there are fewer than rows.
fn together(parts: Vec<(Column, Part)>, rows: usize) -> Option<Columns> {
    let mut columns = Columns::default();
    let (mut names, mut odd) = (Vec::new(), Vec::new());
    for (column, part) in parts {
        match (column, part) {
            (Column::Parent, Part::Narrow(values, levels)) => {
                columns.parent = spread(values.into_iter().map(|v| v as u32), &levels);
            }
            (Column::Accessed, Part::Narrow(values, levels)) => {
                columns.accessed = spread(values.into_iter().map(|v| v as u32), &levels);
            }
            (Column::Mode, Part::Narrow(values, levels)) => {
                columns.mode = spread(values.into_iter().map(|v| v as u32), &levels);
            }
            (Column::Changed, Part::Narrow(values, levels)) => {
                columns.changed = spread(values.into_iter().map(|v| v as u32), &levels);
            }
            (column, Part::Narrow(values, _)) => {
                let place = match column {
                    Column::Links => &mut columns.links,
                    Column::Modified => &mut columns.modified,
                    Column::Owner => &mut columns.owner,
                    _ => &mut columns.group,
                };
                *place = values.into_iter().map(|v| v as u32).collect();
            }
            (Column::Inode, Part::Wide(values, levels)) => {
                columns.inode = spread(values.into_iter().map(|v| v as u64), &levels);
            }
            (column, Part::Wide(values, _)) => {
                let place = match column {
                    Column::Allocated => &mut columns.allocated,
                    Column::Apparent => &mut columns.apparent,
                    _ => &mut columns.device,
                };
                *place = values.into_iter().map(|v| v as u64).collect();
            }
            (Column::Name, Part::Text(values, _)) => names = values,
            (Column::NameBytes, Part::Text(values, levels)) => {
                odd = spread(values.into_iter(), &levels);
            }
            (Column::Kind, Part::Text(values, _)) => {
                columns.kind =
                    values.iter().map(|word| kind_of(word.data())).collect::<Option<_>>()?;
            }
            (_, Part::Text(values, levels)) => {
                let words = values.iter().map(|word| reading_of(word.data()));
                let words = words.collect::<Option<Vec<_>>>()?;
                columns.reading = spread(words.into_iter(), &levels);
            }
        }
    }
    for (row, name) in names.iter().enumerate() {
        let name = odd.get(row).and_then(Option::as_ref).unwrap_or(name).data();
        columns.names.extend_from_slice(name);
        columns.name_length.push(u8::try_from(name.len()).ok()?);
    }
    // version 1 has neither
    columns.mode.resize(rows, None);
    columns.changed.resize(rows, None);
    let lengths = [
        columns.parent.len(),
        columns.name_length.len(),
        columns.kind.len(),
        columns.allocated.len(),
        columns.apparent.len(),
        columns.inode.len(),
        columns.device.len(),
        columns.links.len(),
        columns.modified.len(),
        columns.accessed.len(),
        columns.owner.len(),
        columns.group.len(),
        columns.reading.len(),
    ];
    lengths.iter().all(|length| *length == rows).then_some(columns)
}

fn spread<T>(mut values: impl Iterator<Item = T>, levels: &[i16]) -> Vec<Option<T>> {
    levels.iter().map(|level| if *level > 0 { values.next() } else { None }).collect()
}

fn unreadable(place: &super::schema::UnreadablePlace) -> Unreadable {
    Unreadable {
        path: place.path.0.clone(),
        op: Op::of_words(&place.operation),
        error: place.error.clone(),
        errno: place.errno,
    }
}
