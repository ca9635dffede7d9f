//! Writing a saved scan: groups of rows, encoded side by side.

use std::io::Write;
use std::sync::Arc;

use parquet::column::writer::{ColumnCloseResult, ColumnWriter, get_column_writer};
use parquet::data_type::ByteArray;
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterPropertiesPtr;
use parquet::file::writer::{SerializedFileWriter, SerializedPageWriter, TrackedWrite};
use parquet::schema::types::{ColumnDescPtr, SchemaDescriptor};

use super::in_order;
use super::schema::{
    CHECKSUM, Column, DOCUMENT, Document, GROUP, properties, reading_word, schema,
};
use super::seal::{self, Sealing};
use crate::catalog::{Catalog, Columns};

pub(super) type Encoded = (Vec<u8>, ColumnCloseResult);

/// Writes all rows of a catalog, and the document that says what they are.
pub(super) fn write(
    catalog: &Catalog,
    document: &Document,
    out: impl Write + Send,
) -> Result<(), ParquetError> {
    let (schema, properties) = (schema()?, Arc::new(properties()?));
    let columns = SchemaDescriptor::new(schema.clone());
    let sealing = Sealing::new(out);
    let mut writer = SerializedFileWriter::new(sealing, schema, Arc::clone(&properties))?;
    let (order, linked) = (catalog.row_order(), catalog.linked_table());
    let groups = catalog.rows().div_ceil(GROUP);
    let encode = |group: usize| {
        let rows = group * GROUP..((group + 1) * GROUP).min(catalog.rows());
        encode(&catalog.columns(rows, &order, &linked), &columns, &properties)
    };
    in_order(groups, encode, |encoded| {
        let mut group = writer.next_row_group()?;
        for (bytes, closed) in encoded? {
            group.append_column(&bytes::Bytes::from(bytes), closed)?;
        }
        group.close()?;
        Ok::<_, ParquetError>(())
    })?;
    writer.flush()?;
    let text = serde_json::to_string(document)
        .map_err(|error| ParquetError::General(error.to_string()))?;
    let mut hasher = writer.inner().hasher.clone();
    let checksum = hasher.update(text.as_bytes()).finalize().to_hex().to_string();
    writer.append_key_value_metadata(KeyValue::new(DOCUMENT.to_owned(), text));
    writer.append_key_value_metadata(KeyValue::new(CHECKSUM.to_owned(), checksum));
    // readers of the format pass over what no part of the footer leads to
    writer.inner_mut().rows_are_written();
    writer.write_all(&[0; seal::LENGTH])?;
    Ok(writer.into_inner()?.seal()?)
}

fn encode(
    rows: &Columns,
    columns: &SchemaDescriptor,
    properties: &WriterPropertiesPtr,
) -> Result<Vec<Encoded>, ParquetError> {
    let numbered = Column::ALL.iter().enumerate();
    numbered
        .map(|(number, column)| encode_one(*column, rows, columns.column(number), properties))
        .collect()
}

fn encode_one(
    column: Column,
    rows: &Columns,
    description: ColumnDescPtr,
    properties: &WriterPropertiesPtr,
) -> Result<Encoded, ParquetError> {
    if column == Column::Name {
        return super::names::encode(rows, description);
    }
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
                Column::Parent => some_of(&rows.parent, |n| n as i32),
                Column::Accessed => some_of(&rows.accessed, |n| n as i32),
                Column::Mode => some_of(&rows.mode, |n| n as i32),
                Column::Changed => some_of(&rows.changed, |n| n as i32),
                Column::Links => (plain(&rows.links), None),
                Column::Modified => (plain(&rows.modified), None),
                Column::Owner => (plain(&rows.owner), None),
                Column::Group => (plain(&rows.group), None),
                other => return Err(ParquetError::General(format!("{other:?} has 32 bits"))),
            };
            writer.write_batch(&values, levels.as_deref(), None)?;
        }
        ColumnWriter::Int64ColumnWriter(writer) => {
            let plain = |numbers: &[u64]| numbers.iter().map(|n| *n as i64).collect::<Vec<_>>();
            let (values, levels) = match column {
                Column::Inode => some_of(&rows.inode, |n| n as i64),
                Column::Allocated => (plain(&rows.allocated), None),
                Column::Apparent => (plain(&rows.apparent), None),
                Column::Device => (plain(&rows.device), None),
                other => return Err(ParquetError::General(format!("{other:?} has 64 bits"))),
            };
            writer.write_batch(&values, levels.as_deref(), None)?;
        }
        ColumnWriter::ByteArrayColumnWriter(writer) => {
            let (values, levels) = texts(column, rows);
            writer.write_batch(&values, levels.as_deref(), None)?;
        }
        _ => return Err(ParquetError::General(format!("{column:?} has a type of its own"))),
    }
    Ok(())
}

/// The values that there are, and for each row whether it has one.
fn some_of<T: Copy, V>(values: &[Option<T>], each: impl Fn(T) -> V) -> (Vec<V>, Option<Vec<i16>>) {
    let levels = values.iter().map(|value| i16::from(value.is_some())).collect();
    (values.iter().flatten().map(|value| each(*value)).collect(), Some(levels))
}

fn texts(column: Column, rows: &Columns) -> (Vec<ByteArray>, Option<Vec<i16>>) {
    let word = |word: &'static str| ByteArray::from(bytes::Bytes::from_static(word.as_bytes()));
    match column {
        Column::NameBytes => {
            if rows.names.is_ascii() {
                return (Vec::new(), Some(vec![0; rows.kind.len()]));
            }
            let odd = |name: &[u8]| !name.is_ascii() && std::str::from_utf8(name).is_err();
            let levels = names(rows).map(|name| i16::from(odd(name))).collect();
            let values = names(rows).filter(|name| odd(name));
            (values.map(|name| ByteArray::from(name.to_vec())).collect(), Some(levels))
        }
        Column::Kind => (rows.kind.iter().map(|kind| word(kind.word())).collect(), None),
        _ => {
            let levels = rows.reading.iter().map(|reading| i16::from(reading.is_some())).collect();
            let values = rows.reading.iter().flatten().map(|reading| word(reading_word(*reading)));
            (values.collect(), Some(levels))
        }
    }
}

pub(super) fn os(name: &[u8]) -> &std::ffi::OsStr {
    std::os::unix::ffi::OsStrExt::from_bytes(name)
}

pub(super) fn names(rows: &Columns) -> impl Iterator<Item = &[u8]> {
    let mut from = 0;
    rows.name_length.iter().map(move |length| {
        let name = &rows.names[from..from + usize::from(*length)];
        from += name.len();
        name
    })
}
