//! The column of names: half of a saved scan.
//!
//! Its pages are put together here and not by the library, which makes an object of every name and compresses by
//! levels only: names are short and much alike, so that short matches cost more than they save, and a search that
//! leaves them out takes half the time and makes less.

use std::borrow::Cow;
use std::ops::Range;
use std::path::Path;
use std::sync::{Arc, Mutex};

use parquet::basic::{Compression, Encoding, EncodingMask, ZstdLevel};
use parquet::column::page::{CompressedPage, Page, PageWriteSpec, PageWriter};
use parquet::column::writer::{ColumnCloseResult, ColumnWriter, get_column_writer};
use parquet::errors::ParquetError;
use parquet::file::metadata::ColumnChunkMetaData;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use parquet::file::writer::{SerializedPageWriter, TrackedWrite};
use parquet::schema::parser::parse_message_type;
use parquet::schema::types::{ColumnDescPtr, SchemaDescriptor};
use zstd::bulk::Compressor;
use zstd::zstd_safe::{CParameter, Strategy};

use super::write::{Encoded, names};
use crate::catalog::Columns;

/// Bytes of names in a page, or one name more.
const PAGE: usize = 4 << 20;

/// The names of some rows as a column chunk of pages in `DELTA_LENGTH_BYTE_ARRAY`, that is their lengths and then
/// their bytes (<https://parquet.apache.org/docs/file-format/data-pages/encodings/>).
pub(super) fn encode(rows: &Columns, column: ColumnDescPtr) -> Result<Encoded, ParquetError> {
    let (lengths, bytes) = shown(rows);
    let mut sink = TrackedWrite::new(Vec::new());
    let mut compressor = compressor()?;
    let (mut packed, mut plain) = (0, 0);
    {
        let mut writer = SerializedPageWriter::new(&mut sink);
        let mut from = 0;
        for rows in pages(&lengths) {
            let count = rows.len() as u32;
            let lengths = &lengths[rows];
            let to = from + lengths.iter().map(|length| *length as usize).sum::<usize>();
            let mut page = encoded_lengths(lengths)?;
            page.extend_from_slice(&bytes[from..to]);
            from = to;
            let made = Page::DataPageV2 {
                buf: compressor.compress(&page)?.into(),
                num_values: count,
                encoding: Encoding::DELTA_LENGTH_BYTE_ARRAY,
                num_nulls: 0,
                num_rows: count,
                def_levels_byte_len: 0,
                rep_levels_byte_len: 0,
                is_compressed: true,
                statistics: None,
            };
            let written = writer.write_page(CompressedPage::new(made, page.len()))?;
            packed += written.compressed_size;
            plain += written.uncompressed_size;
        }
        writer.close()?;
    }
    let encodings = [Encoding::DELTA_LENGTH_BYTE_ARRAY];
    let metadata = ColumnChunkMetaData::builder(column)
        .set_compression(Compression::ZSTD(ZstdLevel::try_new(3)?))
        .set_encodings_mask(EncodingMask::new_from_encodings(encodings.iter()))
        .set_total_compressed_size(packed as i64)
        .set_total_uncompressed_size(plain as i64)
        .set_num_values(lengths.len() as i64)
        .set_data_page_offset(0)
        .build()?;
    let closed = ColumnCloseResult {
        bytes_written: packed as u64,
        rows_written: lengths.len() as u64,
        metadata,
        bloom_filter: None,
        column_index: None,
        offset_index: None,
    };
    Ok((sink.into_inner()?, closed))
}

fn compressor() -> Result<Compressor<'static>, ParquetError> {
    let mut compressor = Compressor::new(3)?;
    for parameter in [
        CParameter::Strategy(Strategy::ZSTD_lazy),
        CParameter::MinMatch(6),
        CParameter::WindowLog(22),
        CParameter::HashLog(17),
        CParameter::ChainLog(17),
        CParameter::SearchLog(3),
    ] {
        compressor.set_parameter(parameter)?;
    }
    Ok(compressor)
}

/// How long each name is and all their bytes; names that are not UTF-8 in their display form.
fn shown(rows: &Columns) -> (Vec<i32>, Cow<'_, [u8]>) {
    let lengths = || rows.name_length.iter().map(|length| i32::from(*length)).collect();
    let is_text = |name: &[u8]| name.is_ascii() || std::str::from_utf8(name).is_ok();
    if rows.names.is_ascii() || names(rows).all(is_text) {
        return (lengths(), Cow::Borrowed(&rows.names));
    }
    let mut lengths = Vec::with_capacity(rows.name_length.len());
    let mut bytes = Vec::with_capacity(rows.names.len() + 1024);
    for name in names(rows) {
        let from = bytes.len();
        match std::str::from_utf8(name) {
            Ok(_) => bytes.extend_from_slice(name),
            Err(_) => bytes.extend(crate::shown::shown(Path::new(super::write::os(name))).bytes()),
        }
        lengths.push((bytes.len() - from) as i32);
    }
    (lengths, Cow::Owned(bytes))
}

/// Parts of the rows that a page each is made of; one if there are none.
fn pages(lengths: &[i32]) -> Vec<Range<usize>> {
    let (mut pages, mut from, mut size) = (Vec::new(), 0, 0);
    for (row, length) in lengths.iter().enumerate() {
        size += *length as usize;
        if size >= PAGE {
            pages.push(from..row + 1);
            (from, size) = (row + 1, 0);
        }
    }
    if from < lengths.len() || pages.is_empty() {
        pages.push(from..lengths.len());
    }
    pages
}

/// The same numbers in `DELTA_BINARY_PACKED`: what the library writes as the page of a column of them.
fn encoded_lengths(lengths: &[i32]) -> Result<Vec<u8>, ParquetError> {
    let schema = parse_message_type("message lengths { required int32 length; }")?;
    let column = SchemaDescriptor::new(Arc::new(schema)).column(0);
    let properties = WriterProperties::builder()
        .set_dictionary_enabled(false)
        .set_encoding(Encoding::DELTA_BINARY_PACKED)
        .set_compression(Compression::UNCOMPRESSED)
        .set_statistics_enabled(EnabledStatistics::None)
        .set_data_page_size_limit(usize::MAX)
        .set_data_page_row_count_limit(usize::MAX)
        .set_write_batch_size(usize::MAX)
        .build();
    let page = Arc::new(Mutex::new(Vec::new()));
    let kept = Box::new(Kept(Arc::clone(&page)));
    let mut writer = get_column_writer(column, Arc::new(properties), kept);
    if let ColumnWriter::Int32ColumnWriter(writer) = &mut writer {
        writer.write_batch(lengths, None, None)?;
    }
    writer.close()?;
    let page = std::mem::take(&mut *page.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
    Ok(page)
}

/// Keeps what would be written.
struct Kept(Arc<Mutex<Vec<u8>>>);

impl PageWriter for Kept {
    fn write_page(&mut self, page: CompressedPage) -> Result<PageWriteSpec, ParquetError> {
        let mut kept = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        kept.extend_from_slice(page.data());
        let mut spec = PageWriteSpec::new();
        spec.page_type = page.page_type();
        spec.uncompressed_size = page.uncompressed_size();
        spec.compressed_size = page.compressed_size();
        spec.num_values = page.num_values();
        Ok(spec)
    }

    fn close(&mut self) -> Result<(), ParquetError> {
        Ok(())
    }
}
