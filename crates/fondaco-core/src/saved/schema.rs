//! The columns of a saved scan, and what its footer says; `docs/formats.md` explains both.

use parquet::basic::{Compression, Encoding, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::properties::{EnabledStatistics, WriterProperties, WriterVersion};
use parquet::schema::types::{ColumnPath, TypePtr};
use serde::{Deserialize, Serialize};

use crate::catalog::{Origin, Reading};
use crate::kernel::Kind;
use crate::shown::DocPath;

/// The key in the file's footer that its document stands under.
pub(super) const DOCUMENT: &str = "fondaco";
/// The key of the checksum over all rows and the document.
pub(super) const CHECKSUM: &str = "fondaco.blake3";
/// The version of the form that is written and the newest that is read. From 3 on the footer is sealed; from 4 on
/// it says of which machine and file systems it tells, and every row has its inode.
pub(super) const VERSION: u32 = 4;
/// How many columns version 1 has: the first of those below.
pub(super) const COLUMNS_1: usize = 14;
/// Rows that are put together and compressed at a time.
pub(super) const GROUP: usize = 1 << 18;

const SCHEMA: &str = "
message entry {
  optional int32 parent (integer(32, false));
  required binary name (string);
  optional binary name_bytes;
  required binary kind (string);
  required int64 allocated (integer(64, false));
  required int64 apparent (integer(64, false));
  optional int64 inode (integer(64, false));
  required int64 device (integer(64, false));
  required int32 links (integer(32, false));
  required int32 modified (integer(32, false));
  optional int32 accessed (date);
  required int32 owner (integer(32, false));
  required int32 group (integer(32, false));
  optional binary reading (string);
  optional int32 mode (integer(32, false));
  optional int32 changed (date);
}";

/// The columns in the order of the schema.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // as named in the schema
pub(super) enum Column {
    Parent,
    Name,
    NameBytes,
    Kind,
    Allocated,
    Apparent,
    Inode,
    Device,
    Links,
    Modified,
    Accessed,
    Owner,
    Group,
    Reading,
    Mode,
    Changed,
}

impl Column {
    pub(super) const ALL: [Self; 16] = [
        Self::Parent,
        Self::Name,
        Self::NameBytes,
        Self::Kind,
        Self::Allocated,
        Self::Apparent,
        Self::Inode,
        Self::Device,
        Self::Links,
        Self::Modified,
        Self::Accessed,
        Self::Owner,
        Self::Group,
        Self::Reading,
        Self::Mode,
        Self::Changed,
    ];
}

pub(super) fn schema() -> Result<TypePtr, ParquetError> {
    Ok(parquet::schema::parser::parse_message_type(SCHEMA)?.into())
}

/// What is alike goes into a dictionary; of numbers the first bytes stand together, then the second, and so
/// on, for neighbours share their upper ones; names have pages of their own
/// ([`super::names`]).
pub(super) fn properties() -> Result<WriterProperties, ParquetError> {
    let mut properties = WriterProperties::builder()
        .set_writer_version(WriterVersion::PARQUET_2_0)
        .set_created_by(format!("fondaco {}", env!("CARGO_PKG_VERSION")))
        .set_compression(Compression::ZSTD(ZstdLevel::try_new(3)?))
        .set_statistics_enabled(EnabledStatistics::None)
        .set_offset_index_disabled(true)
        .set_data_page_row_count_limit(GROUP)
        .set_data_page_size_limit(4 << 20)
        .set_max_row_group_row_count(Some(GROUP));
    for (name, encoding) in [
        ("parent", Encoding::PLAIN),
        ("name_bytes", Encoding::PLAIN),
        ("allocated", Encoding::BYTE_STREAM_SPLIT),
        ("apparent", Encoding::BYTE_STREAM_SPLIT),
        ("inode", Encoding::PLAIN),
        ("modified", Encoding::BYTE_STREAM_SPLIT),
        ("accessed", Encoding::BYTE_STREAM_SPLIT),
    ] {
        let path = ColumnPath::from(name);
        properties = properties
            .set_column_dictionary_enabled(path.clone(), false)
            .set_column_encoding(path, encoding);
    }
    // bytes of numbers are hardly ever alike: what looks longer for it finds less
    for name in ["apparent", "allocated", "modified", "accessed"] {
        let level = Compression::ZSTD(ZstdLevel::try_new(1)?);
        properties = properties.set_column_compression(ColumnPath::from(name), level);
    }
    Ok(properties.build())
}

/// What a saved scan says of itself.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Document {
    pub(super) fondaco: u32,
    pub(super) kind: String,
    /// When the scan was begun, RFC 3339.
    pub(super) scanned: String,
    pub(super) scanned_seconds: i64,
    pub(super) roots: Vec<DocPath>,
    pub(super) complete: bool,
    pub(super) entries: u64,
    pub(super) allocated: u64,
    pub(super) automatic: bool,
    pub(super) unreadable: Vec<UnreadablePlace>,
    pub(super) excluded: ExcludedPlaces,
    #[serde(default)]
    pub(super) origin: Origin,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct UnreadablePlace {
    pub(super) path: DocPath,
    pub(super) operation: String,
    pub(super) error: String,
    pub(super) errno: i32,
}

#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize)]
pub(super) struct ExcludedPlaces {
    pub(super) entries: u64,
    pub(super) allocated: u64,
    pub(super) apparent: u64,
}

pub(super) const DOCUMENT_KIND: &str = "saved scan";

pub(super) fn reading_word(reading: Reading) -> &'static str {
    match reading {
        Reading::NotYet => "not read",
        Reading::Done => "whole",
        Reading::Failed => "failed",
        Reading::OtherVolume => "other volume",
    }
}

pub(super) fn reading_of(word: &[u8]) -> Option<Reading> {
    [Reading::NotYet, Reading::Done, Reading::Failed, Reading::OtherVolume]
        .into_iter()
        .find(|reading| reading_word(*reading).as_bytes() == word)
}

pub(super) fn kind_of(word: &[u8]) -> Option<Kind> {
    [Kind::File, Kind::Directory, Kind::Link, Kind::Special]
        .into_iter()
        .find(|kind| kind.word().as_bytes() == word)
}
