//! Writing a saved scan: groups of rows, their columns encoded side by side.

use std::io::{self, Write};
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};

use parquet::column::writer::{ColumnCloseResult, ColumnWriter, get_column_writer};
use parquet::data_type::ByteArray;
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterPropertiesPtr;
use parquet::file::writer::{SerializedFileWriter, SerializedPageWriter, TrackedWrite};
use parquet::schema::types::{ColumnDescPtr, SchemaDescriptor};

use super::schema::{
    CHECKSUM, Column, DOCUMENT, Document, GROUP, properties, reading_word, schema,
};
use crate::catalog::{Catalog, Columns};

type Encoded = (Vec<u8>, ColumnCloseResult);

/// Writes all rows of a catalog, and the document that says what they are.
pub(super) fn write(
    catalog: &Catalog,
    document: &Document,
    out: impl Write + Send,
) -> Result<(), ParquetError> {
    let (schema, properties) = (schema()?, Arc::new(properties()?));
    let columns = SchemaDescriptor::new(schema.clone());
    let hashed = Hashed { out, hasher: blake3::Hasher::new() };
    let mut writer = SerializedFileWriter::new(hashed, schema, Arc::clone(&properties))?;
    let linked = catalog.linked_table();
    let mut from = 0;
    while from < catalog.rows() {
        let to = (from + GROUP).min(catalog.rows());
        let rows = catalog.columns(from..to, &linked);
        let mut group = writer.next_row_group()?;
        for (bytes, closed) in encode(&rows, &columns, &properties)? {
            group.append_column(&bytes::Bytes::from(bytes), closed)?;
        }
        group.close()?;
        from = to;
    }
    writer.flush()?;
    let text = serde_json::to_string(document)
        .map_err(|error| ParquetError::General(error.to_string()))?;
    let mut hasher = writer.inner().hasher.clone();
    let checksum = hasher.update(text.as_bytes()).finalize().to_hex().to_string();
    writer.append_key_value_metadata(KeyValue::new(DOCUMENT.to_owned(), text));
    writer.append_key_value_metadata(KeyValue::new(CHECKSUM.to_owned(), checksum));
    writer.into_inner()?.flush()?;
    Ok(())
}

/// Encodes every column, several at a time.
fn encode(
    rows: &Columns,
    columns: &SchemaDescriptor,
    properties: &WriterPropertiesPtr,
) -> Result<Vec<Encoded>, ParquetError> {
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(usize, Result<Encoded, ParquetError>)>> = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..super::threads() {
            scope.spawn(|| {
                loop {
                    // names are the longest work, so they are not left for the end
                    let number = next.fetch_add(1, Relaxed);
                    let Some(column) = Column::ALL.get(number) else { return };
                    let encoded = encode_one(*column, rows, columns.column(number), properties);
                    done.lock().unwrap_or_else(PoisonError::into_inner).push((number, encoded));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(number, _)| *number);
    done.into_iter().map(|(_, encoded)| encoded).collect()
}

fn encode_one(
    column: Column,
    rows: &Columns,
    description: ColumnDescPtr,
    properties: &WriterPropertiesPtr,
) -> Result<Encoded, ParquetError> {
    let mut sink = TrackedWrite::new(Vec::new());
    let closed = {
        let pages = Box::new(SerializedPageWriter::new(&mut sink));
        let mut writer = get_column_writer(description, Arc::clone(properties), pages);
        put(column, rows, &mut writer)?;
        writer.close()?
    };
    Ok((sink.into_inner()?, closed))
}

fn put(column: Column, rows: &Columns, writer: &mut ColumnWriter<'_>) -> Result<(), ParquetError> {
    match writer {
        ColumnWriter::Int32ColumnWriter(writer) => {
            // unsigned numbers keep their bits
            let plain = |numbers: &[u32]| numbers.iter().map(|n| *n as i32).collect::<Vec<_>>();
            let (values, levels) = match column {
                Column::Parent => {
                    let levels = rows.parent.iter().map(|parent| i16::from(parent.is_some()));
                    (
                        plain(&rows.parent.iter().flatten().copied().collect::<Vec<_>>()),
                        Some(levels),
                    )
                }
                Column::Links => (plain(&rows.links), None),
                Column::Modified => (plain(&rows.modified), None),
                Column::Accessed => (plain(&rows.accessed), None),
                Column::Owner => (plain(&rows.owner), None),
                Column::Group => (plain(&rows.group), None),
                other => return Err(ParquetError::General(format!("{other:?} has 32 bits"))),
            };
            let levels: Option<Vec<i16>> = levels.map(Iterator::collect);
            writer.write_batch(&values, levels.as_deref(), None)?;
        }
        ColumnWriter::Int64ColumnWriter(writer) => {
            let numbers = match column {
                Column::Allocated => &rows.allocated,
                Column::Apparent => &rows.apparent,
                Column::Inode => &rows.inode,
                Column::Device => &rows.device,
                other => return Err(ParquetError::General(format!("{other:?} has 64 bits"))),
            };
            let values: Vec<i64> = numbers.iter().map(|n| *n as i64).collect();
            writer.write_batch(&values, None, None)?;
        }
        ColumnWriter::ByteArrayColumnWriter(writer) => {
            let (values, levels) = texts(column, rows);
            writer.write_batch(&values, levels.as_deref(), None)?;
        }
        _ => return Err(ParquetError::General(format!("{column:?} has a type of its own"))),
    }
    Ok(())
}

fn texts(column: Column, rows: &Columns) -> (Vec<ByteArray>, Option<Vec<i16>>) {
    let word = |word: &'static str| ByteArray::from(bytes::Bytes::from_static(word.as_bytes()));
    match column {
        Column::Name => {
            let all = bytes::Bytes::copy_from_slice(&rows.names);
            let name =
                |(range, name): (std::ops::Range<usize>, &[u8])| match std::str::from_utf8(name) {
                    Ok(_) => ByteArray::from(all.slice(range)),
                    Err(_) => {
                        let shown = crate::shown::shown(std::path::Path::new(os(name)));
                        ByteArray::from(shown.into_bytes())
                    }
                };
            (names(rows).map(name).collect(), None)
        }
        Column::NameBytes => {
            let odd = |name: &[u8]| std::str::from_utf8(name).is_err();
            let levels = names(rows).map(|(_, name)| i16::from(odd(name))).collect();
            let values = names(rows).filter(|(_, name)| odd(name));
            (values.map(|(_, name)| ByteArray::from(name.to_vec())).collect(), Some(levels))
        }
        Column::Kind => (rows.kind.iter().map(|kind| word(kind.word())).collect(), None),
        _ => {
            let levels = rows.reading.iter().map(|reading| i16::from(reading.is_some())).collect();
            let values = rows.reading.iter().flatten().map(|reading| word(reading_word(*reading)));
            (values.collect(), Some(levels))
        }
    }
}

fn os(name: &[u8]) -> &std::ffi::OsStr {
    std::os::unix::ffi::OsStrExt::from_bytes(name)
}

fn names(rows: &Columns) -> impl Iterator<Item = (std::ops::Range<usize>, &[u8])> {
    let mut from = 0;
    rows.name_length.iter().map(move |length| {
        let range = from..from + usize::from(*length);
        from = range.end;
        (range.clone(), &rows.names[range])
    })
}

/// Passes on what is written, and knows its checksum.
struct Hashed<W> {
    out: W,
    hasher: blake3::Hasher,
}

impl<W: Write> Write for Hashed<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.out.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}
